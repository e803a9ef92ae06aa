"""``manage.py runserver``: Django's own, for the loopback address alone."""

from django.contrib.staticfiles.management.commands.runserver import Command as Plain
from django.core.management.base import CommandError

from studio.config.security import REFUSED, is_loopback


class Command(Plain):
    def inner_run(self, *args, **options):
        if self.addr != "localhost" and not is_loopback(self.addr):
            raise CommandError(f"{REFUSED} Got the address {self.addr}.")
        super().inner_run(*args, **options)
