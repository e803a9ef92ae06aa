from django.apps import AppConfig

from studio.jobs import handlers


class BakesConfig(AppConfig):
    name = "studio.bakes"

    def ready(self):
        from studio.bakes import models, services  # noqa: PLC0415  (models are there only now)
        from studio.characters.rights import leads_to_character  # noqa: PLC0415

        handlers.register("bake", services.write_bake)
        leads_to_character("bakes", models.Bake.objects, "take__character")
