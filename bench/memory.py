"""How much memory a big bake takes, in a process of its own: ``python -m bench.memory FORM``."""

import os
import pathlib
import sys
import tempfile

VERTICES, FRAMES, CHUNK = 50_000, 240, 16


def main(form):
    with tempfile.TemporaryDirectory() as folder:
        os.environ.update(KEEN_DATA=folder, DJANGO_SETTINGS_MODULE="studio.config.settings")
        import django  # noqa: PLC0415  its settings are read when it is set up

        django.setup()
        print(megabytes(form))


def megabytes(form):
    """The most memory [MB] that this process took until it had baked a take of VERTICES x FRAMES."""
    import numpy as np  # noqa: PLC0415
    from django.core.management import call_command  # noqa: PLC0415

    from bench.core import big_file  # noqa: PLC0415
    from quiver.setup.model import Setup  # noqa: PLC0415
    from studio.bakes import services as bakes  # noqa: PLC0415
    from studio.characters.services import bring_in  # noqa: PLC0415
    from studio.jobs.models import Job  # noqa: PLC0415
    from studio.jobs.services import JobContext, start  # noqa: PLC0415
    from studio.takes import services  # noqa: PLC0415
    from studio.takes.models import Take, TakeChunk  # noqa: PLC0415

    call_command("migrate", verbosity=0)
    row = bring_in(big_file(VERTICES, clips=1), "big.glb", Setup())
    job = start("take", FRAMES)
    facts = {
        "clip_name": row.active_clip,
        "last_frame": FRAMES - 1,
        "frame_rate": 24.0,
        "substeps": 1,
        "moved": {"0": list(range(VERTICES))},
    }
    take = Take.objects.create(character=row, version=row.current, job=job, **facts)
    rng, nothing = np.random.default_rng(0), services.pack(np.zeros((CHUNK, 0, 4), np.float32), np.zeros((CHUNK, 0, 3), np.float32))
    for first in range(0, FRAMES, CHUNK):
        steps = np.round(20.0 * rng.normal(size=(CHUNK, VERTICES, 3))).astype(np.int16)
        data = services.pack_offsets(steps)
        TakeChunk.objects.create(take=take, first_frame=first, frames=CHUNK, data=nothing, offsets=data, offset_step=1e-4)
    Job.objects.filter(pk=job.pk).update(state=Job.State.FINISHED)
    take.refresh_from_db()
    bake = bakes.start_bake(take, "big", form, 0, FRAMES - 1, 1)
    bakes.write_bake(bake.job_id, JobContext(bake.job_id))
    # Not what getrusage says: that remembers the process that started this one.
    status = pathlib.Path("/proc/self/status").read_text()
    peak = next(line for line in status.splitlines() if line.startswith("VmHWM"))
    return int(peak.split()[1]) / 1024.0


if __name__ == "__main__":
    main(sys.argv[1])
