from django.apps import AppConfig


class EventsConfig(AppConfig):
    name = "studio.events"
