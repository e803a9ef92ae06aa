"""Ring tests: knocking a layer at rest, as a job."""

from django.db import transaction

from quiver.ring import ring_test
from studio.characters.services import loaded
from studio.jobs import services as jobs
from studio.takes.models import RingTest

CURVE_WIDTH, CURVE_HEIGHT = 340.0, 70.0


def start_ring(row, layer_id):
    """Queue a ring test of a layer of the current setup. Raises BadInput for no such layer."""
    return start_ring_of(row.current, layer_id)


def start_ring_of(version, layer_id):
    """The same of any version of a setup."""
    version.setup.layer(layer_id)
    with transaction.atomic():
        test = RingTest.objects.create(version=version, job=jobs.start("ring"), layer_id=layer_id)
        jobs.enqueue(test.job, priority=20)
    return test


def ring(job_id, context):
    """The job: ring, and keep what came of it."""
    test = RingTest.objects.select_related("version").get(job_id=job_id)
    context.character = test.version.character_id
    character, _ = loaded(context.character)
    setup = test.version.setup
    found = ring_test(character, setup, setup.layer(test.layer_id), context.keep_going)
    test.report = {
        "rate": found.rate,
        "settle": found.settle,
        "wanted_rate": found.wanted_rate,
        "wanted_settle": found.wanted_settle,
        "is_met": found.is_met,
        "reason": found.reason,
        "frames": found.frames,
        "path": _path(found.curve),
    }
    test.save(update_fields=["report"])


def _path(curve):
    """The curve as an SVG path in a box of CURVE_WIDTH x CURVE_HEIGHT."""
    step = CURVE_WIDTH / max(len(curve) - 1, 1)
    points = (f"{k * step:.1f} {CURVE_HEIGHT / 2.0 * (1.0 - 0.94 * value):.1f}" for k, value in enumerate(curve))
    return "M" + " L".join(points)
