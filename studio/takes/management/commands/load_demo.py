"""``manage.py load_demo``: brings in the demo characters that are not there yet, with a take on every clip. Touches nothing else."""

from django.core.management.base import BaseCommand

from quiver.demo import mudwick
from studio.characters.models import Character
from studio.characters.services import bring_in
from studio.takes.services import start_take


class Command(BaseCommand):
    help = "Bring in the demo characters, once"

    def handle(self, *args, **options):
        if Character.objects.filter(is_demo=True).exists():
            return
        glb, setup = mudwick.build()
        row = bring_in(glb, "Mudwick.glb", setup, is_demo=True)
        # The worker runs these as soon as it is up; the last one is the clip that the artist sees first.
        for clip in reversed(row.facts["clips"]):
            row.active_clip = clip["name"]
            start_take(row)
        self.stdout.write("Mudwick is in the library.")
