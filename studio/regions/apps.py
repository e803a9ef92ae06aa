from django.apps import AppConfig


class RegionsConfig(AppConfig):
    name = "studio.regions"
