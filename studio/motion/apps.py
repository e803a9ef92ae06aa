from django.apps import AppConfig


class MotionConfig(AppConfig):
    name = "studio.motion"
