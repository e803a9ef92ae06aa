from django.apps import AppConfig


class RigConfig(AppConfig):
    name = "studio.rig"
