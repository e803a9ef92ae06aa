from importlib import import_module

from django.apps import AppConfig
from django.conf import settings

from studio.jobs import housekeeping


class AccountsConfig(AppConfig):
    name = "studio.accounts"

    def ready(self):
        housekeeping.register(import_module(settings.SESSION_ENGINE).SessionStore.clear_expired)
