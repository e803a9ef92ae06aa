"""``manage.py add_user NAME``: somebody who may log in."""

import sys
from getpass import getpass

from django.contrib.auth import get_user_model
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError


class Command(BaseCommand):
    help = "Add somebody who may log in. The password is asked for, or read from the standard input; change it by changepassword."

    def add_arguments(self, parser):
        parser.add_argument("name")

    def handle(self, *args, name, **options):
        people = get_user_model()
        if people.objects.filter(username__iexact=name).exists():
            raise CommandError(f"There is somebody named “{name}” already. To set another password: manage.py changepassword {name}")
        person = people(username=name)
        try:
            person.full_clean(exclude=["password"])
            password = self._password(name)
            validate_password(password, person)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from error
        person.set_password(password)
        person.save()
        self.stdout.write(f"{name} may log in.")

    @staticmethod
    def _password(name):
        if not sys.stdin.isatty():
            return sys.stdin.readline().rstrip("\n")
        password = getpass(f"Password for {name}: ")
        if password != getpass("Once more: "):
            raise CommandError("The two passwords differ; nothing was added.")
        return password
