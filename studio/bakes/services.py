"""Baking a take into a file."""

from django.db import transaction

from quiver import export
from quiver.bake import joints
from quiver.errors import BadInput
from quiver.stack import TakeChunk as Frames
from studio.bakes.models import Bake
from studio.characters.services import loaded
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes.services import unpack


@transaction.atomic
def start_bake(take, name, first_frame, last_frame, step, turn_limit):
    """Queue a bake of a finished take. Raises BadInput."""
    if take.job.state != Job.State.FINISHED:
        raise BadInput(f"expected a finished take, this one is {take.job.get_state_display()}")
    if not take.first_frame <= first_frame <= last_frame <= take.last_frame:
        raise BadInput(f"expected frames from {take.first_frame} to {take.last_frame}, got {first_frame} to {last_frame}")
    job = jobs.start("bake", last_frame - first_frame + 1)
    name = name.strip()[:200] or f"{take.clip_name or 'rest'} with motion"
    bake = Bake.objects.create(
        take=take, job=job, name=name, first_frame=first_frame, last_frame=last_frame, step=step, turn_limit=turn_limit
    )
    jobs.enqueue(job)
    return bake


def write_bake(job_id, context):
    """The job: bake and keep the file."""
    bake = Bake.objects.select_related("take").get(job_id=job_id)
    take = bake.take
    character, document = loaded(take.character_id)
    chunks = (
        Frames(chunk.first_frame, *unpack(take, chunk), offsets=None, added=[[]] * chunk.frames, cost_ms=0.0)
        for chunk in take.chunks.iterator()
    )
    rotations, translations, _ = joints.gather(chunks)
    clip = character.clip_or_still(take.clip_name)
    arrays = (take.rotated, take.translated, rotations, translations)
    options = (bake.first_frame, bake.last_frame, bake.step, bake.turn_limit)
    baked = joints.bake(character, clip, take.frame_rate, take.first_frame, *arrays, *options)
    if not context.keep_going():
        return
    data = export.glb_with_clip(document, character, baked, bake.name)
    bake.report = {
        "frames": baked.frames,
        "keys": baked.keys,
        "turn_error": baked.turn_error,
        "shift_error": baked.shift_error,
        "bytes": len(data),
        "clip": export.free_clip_name(character, bake.name),
    }
    with transaction.atomic():
        bake.keep(data)
        bake.save(update_fields=["report"])
    context.progress(baked.frames, baked.frames)
