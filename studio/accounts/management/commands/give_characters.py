"""``manage.py give_characters NAME``: who owns what was brought in before there were accounts, or by somebody who left."""

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError

from studio.characters.models import Character, Share


class Command(BaseCommand):
    help = "Give somebody the characters that belong to nobody, or all those of another user"

    def add_arguments(self, parser):
        parser.add_argument("name", help="who gets them")
        parser.add_argument("--of", help="whose they are now; without it, those that belong to nobody")

    def handle(self, *args, name, of, **options):
        person, before = _person(name), _person(of) if of else None
        given = Character.everything.filter(owner=before)
        Share.objects.filter(character__in=given, person=person).delete()
        self.stdout.write(f"{name} has {given.update(owner=person)} more characters.")


def _person(name):
    person = get_user_model().objects.filter(username=name).first()
    if person is None:
        raise CommandError(f"There is nobody named “{name}”. Add somebody by: manage.py add_user {name}")
    return person
