"""``manage.py load_demo``: brings in the demo characters that are not there yet. Never touches anything else."""

from django.core.management.base import BaseCommand

from quiver.demo import mudwick
from studio.characters.models import Character
from studio.characters.services import bring_in


class Command(BaseCommand):
    help = "Bring in the demo characters, once"

    def handle(self, *args, **options):
        if not Character.objects.filter(is_demo=True).exists():
            glb, setup = mudwick.build()
            bring_in(glb, "Mudwick.glb", setup, is_demo=True)
            self.stdout.write("Mudwick is in the library.")
