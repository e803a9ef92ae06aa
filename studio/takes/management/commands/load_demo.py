"""``manage.py load_demo [NAME ...]``: brings in the demo characters that are not there yet, with takes. Touches nothing else."""

from django.core.management.base import BaseCommand

from quiver.demo import mudwick, tidewarden
from studio.characters.models import Character
from studio.characters.services import bring_in
from studio.takes.services import IN_ADVANCE, WAITED_FOR, start_take

DEMO = {"Tidewarden": tidewarden.build, "Mudwick": mudwick.build}
"""The demo characters; the last is the newest, so the library shows it first."""


class Command(BaseCommand):
    help = "Bring in the demo characters, once"

    def add_arguments(self, parser):
        parser.add_argument("names", nargs="*", choices=[[], *DEMO], help="which of them; without a name, all")

    def handle(self, *args, names, **options):
        there = set(Character.objects.filter(is_demo=True).values_list("name", flat=True))
        for name in [name for name in names or DEMO if name not in there]:
            glb, setup = DEMO[name]()
            row = bring_in(glb, f"{name}.glb", setup, is_demo=True)
            # The worker runs these as soon as it is up, first the clip that the artist sees first.
            for clip in reversed(row.facts["clips"]):
                row.active_clip = clip["name"]
                start_take(row, priority=WAITED_FOR if clip is row.facts["clips"][0] else IN_ADVANCE)
            self.stdout.write(f"{name} is in the library.")
