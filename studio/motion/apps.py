from django.apps import AppConfig

from studio.jobs import handlers


class MotionConfig(AppConfig):
    name = "studio.motion"

    def ready(self):
        from studio.motion import building  # noqa: PLC0415  (models are there only now)

        handlers.register("build", building.build)
