from django.apps import AppConfig

from studio.jobs import handlers


class TakesConfig(AppConfig):
    name = "studio.takes"

    def ready(self):
        from studio.takes import ringing, services  # noqa: PLC0415  (models are there only now)

        handlers.register("take", services.simulate)
        handlers.register("ring", ringing.ring)
