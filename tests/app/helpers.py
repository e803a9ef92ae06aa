"""Characters in the library, and jobs run without a worker."""

from asgiref.sync import async_to_sync
from django.test import TestCase, TransactionTestCase

from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup
from studio.characters.models import Character
from studio.characters.services import bring_in, forget_loaded
from studio.jobs.services import claim_next, run_job
from studio.takes.sending import FrameSender, Watch
from tests.formats.makers import arm, glb_bytes

JOINTS = ("root", "upper", "lower", "hand", "finger")


def arm_in_library(with_chain=True, **options):
    """A row for the test arm, with a chain on its two upper joints."""
    setup = edits.with_new_chain(Setup(), ChainPick("upper", "lower"), "Arm") if with_chain else Setup()
    return bring_in(glb_bytes(arm(JOINTS, **options)), "arm.glb", setup)


def run_waiting_jobs():
    """Do what the worker would do."""
    while (pk := claim_next()) is not None:
        run_job(pk)


@async_to_sync
async def body_of(response):
    """All bytes of a streamed response."""
    return b"".join([part async for part in response])


class _Desk:
    """A test with one character, ``self.row``; ``self.fresh`` is the row as the database has it now."""

    options = {}

    def setUp(self):
        forget_loaded()
        self.row = arm_in_library(**self.options)

    @property
    def fresh(self):
        return Character.objects.get(pk=self.row.pk)

    def url(self, tail):
        return f"/characters/{self.row.pk}/{tail}"

    def post(self, tail, **fields):
        """Post as htmx does from the side panel."""
        return self.client.post(self.url(tail), fields, HTTP_HX_REQUEST="true", HTTP_HX_TARGET="panel")

    def heard(self, take=""):
        """What the socket tells a page that looks at a take, or at the one that fits the setup."""
        watch = Watch(self.row.pk)
        watch.look(str(take))
        watch.frames()
        return watch.facts()

    def frames(self, take):
        """A take's stream, as far as it is there: its messages one after another."""
        return b"".join(FrameSender(take.pk).messages())

    def dial(self, name, value, layer="arm"):
        return self.post(f"motion/{layer}/dial/", dial=name, value=value)


class DeskTest(_Desk, TestCase):
    pass


class RunningDeskTest(_Desk, TransactionTestCase):
    """The same for tests in which jobs run: their threads need transactions that end."""
