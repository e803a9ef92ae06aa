from django.apps import AppConfig

from studio.jobs import handlers


class BakesConfig(AppConfig):
    name = "studio.bakes"

    def ready(self):
        from studio.bakes import services  # noqa: PLC0415  (models are there only now)

        handlers.register("bake", services.write_bake)
