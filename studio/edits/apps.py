from django.apps import AppConfig


class EditsConfig(AppConfig):
    name = "studio.edits"
