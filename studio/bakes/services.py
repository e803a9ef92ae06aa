"""Baking a take into a file."""

import pathlib
import tempfile

import numpy as np
from django.db import transaction

from quiver import export
from quiver.bake import joints, meshes
from quiver.bodies import made
from quiver.errors import BadInput
from quiver.formats import pointcache, usd
from quiver.run.keyed import keyed_clip
from studio.bakes.models import Bake
from studio.characters.services import loaded
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes.models import Take
from studio.takes.posed import scenes
from studio.takes.services import unpack, unpack_offsets


def forms_there():
    """The forms that can be written here, as (value, label)."""
    return [(value, label) for value, label in Bake.Form.choices if value != Bake.Form.USD or usd.is_there()]


def start_bake(take, name, form, first_frame, last_frame, step, skin_limit=0.0, shape_limit=0.0, mesh=0, has_muscles=False):
    """Queue a bake of a finished take. Raises BadInput."""
    if take.job.state != Job.State.FINISHED:
        raise BadInput(f"expected a finished take, this one is {take.job.get_state_display()}")
    if not take.first_frame <= first_frame <= last_frame <= take.last_frame:
        raise BadInput(f"expected frames from {take.first_frame} to {take.last_frame}, got {first_frame} to {last_frame}")
    if form == Bake.Form.USD and not usd.is_there():
        raise BadInput("expected the USD libraries, which are not installed: ./keen python -m pip install usd-core")
    if form not in Bake.Form.values or not 0 <= mesh < len(take.character.facts["meshes"]):
        raise BadInput(f"expected one of {', '.join(Bake.Form.values)} and a mesh of this character, got {form} and {mesh}")
    joints.frames_between(first_frame, last_frame, step)
    name = name.strip()[:200] or with_motion(take.clip_name)
    if form == Bake.Form.GLB:
        # As the clip is called in the file.
        name = export.free_clip_name(loaded(take.character_id)[0], name)
    limits = {"skin_limit": skin_limit, "shape_limit": shape_limit}
    frames = {"first_frame": first_frame, "last_frame": last_frame, "step": step}
    with transaction.atomic():
        job = jobs.start("bake", last_frame - first_frame + 1)
        bake = Bake.objects.create(take=take, job=job, name=name, form=form, mesh=mesh, has_muscles=has_muscles, **frames, **limits)
        jobs.enqueue(job)
    return bake


def with_motion(clip_name):
    """What a baked clip is called."""
    return f"{clip_name or 'rest'} with motion"


def start_bake_of_all(takes, skin_limit=0.0, shape_limit=0.0):
    """Queue one GLB with the clips of some finished takes of a character, each as a whole. Raises BadInput."""
    if not takes:
        raise BadInput("expected clips with a finished take to bake, got none")
    for take in takes:
        if take.job.state != Job.State.FINISHED:
            raise BadInput(f"expected finished takes, {take.label} is {take.job.get_state_display()}")
    first, *others = takes
    name = f"{len(takes)} clips with motion" if others else with_motion(first.clip_name)
    span = {"first_frame": first.first_frame, "last_frame": first.last_frame}
    with transaction.atomic():
        job = jobs.start("bake", sum(take.frame_count for take in takes))
        limits = {"skin_limit": skin_limit, "shape_limit": shape_limit}
        bake = Bake.objects.create(take=first, job=job, name=name, more=[take.pk for take in others], **span, **limits)
        jobs.enqueue(job)
    return bake


def start_bake_of_each(takes):
    """Queue a GLB for each of some finished takes of a character, as a whole. Raises BadInput."""
    if not takes:
        raise BadInput("expected clips with a finished take to bake, got none")
    with transaction.atomic():
        return [start_bake(take, "", Bake.Form.GLB, take.first_frame, take.last_frame, 1) for take in takes]


def write_bake(job_id, context):
    """The job: bake and keep the file."""
    bake = Bake.objects.select_related("take__version", "job").get(job_id=job_id)
    bake.file_chunks.all().delete()
    context.character = bake.take.character_id
    writers = {Bake.Form.GLB: _write_glb, Bake.Form.USD: _write_usd}
    bake.report = writers.get(bake.form, _write_point_cache)(bake, context)
    if not context.keep_going():
        bake.file_chunks.all().delete()
        return
    bake.save(update_fields=["report"])
    context.progress(bake.job.total, bake.job.total)


def _write_glb(bake, context):
    character, document = _character(bake)
    takes = [bake.take, *_more(bake)]
    whole = (bake.first_frame, bake.last_frame)
    spans = [whole if take.pk == bake.take_id else (take.first_frame, take.last_frame) for take in takes]
    names = [bake.name if len(takes) == 1 else with_motion(take.clip_name) for take in takes]
    clips, reports, done = [], [], 0
    for take, span, name in zip(takes, spans, names, strict=True):
        if not context.keep_going():
            return {}
        baked, shapes, report = _baked(bake, take, character, *span)
        clips.append((baked, name, shapes))
        reports.append(report)
        done += report["frames"]
        context.progress(done, sum(last - first + 1 for first, last in spans))
    size = bake.keep(export.glb_parts(document, character, clips))
    worst = {name: max(report[name] for report in reports) for name in ("turn_error", "skin_error_mm", "shape_error_mm")}
    total = {name: sum(report[name] for report in reports) for name in ("frames", "keys", "shapes")}
    return {**total, **worst, "bytes": size, "clip": export.free_clip_name(character, names[0]), "clips": len(clips)}


def _more(bake):
    """The other takes of a bake. Raises BadInput where one is gone."""
    known = {take.pk: take for take in Take.objects.filter(pk__in=bake.more).select_related("version", "character")}
    gone = [number for number in bake.more if number not in known]
    if gone:
        raise BadInput(f"expected take {gone[0]}, which was removed")
    return [known[number] for number in bake.more]


def _baked(bake, take, character, first, last):
    """(Baked, Shapes, what is told of them) of frames of a take, as a bake says."""
    rotations, translations = (np.concatenate(parts) for parts in zip(*(unpack(take, chunk) for chunk in take.chunks.all()), strict=True))
    clip = keyed_clip(character, take.version.setup, take.clip_name)
    arrays = (take.rotated, take.translated, rotations, translations)
    metres = take.version.setup.metres_per_unit
    options = (first, last, bake.step, bake.skin_limit / 1000.0 / metres)
    baked = joints.bake(character, clip.uncarried, take.frame_rate, take.first_frame, *arrays, *options)
    shapes = _shapes(bake, take, character, clip, rotations, translations, joints.frames_between(first, last, bake.step))
    report = {
        "frames": baked.frames,
        "keys": baked.keys,
        "turn_error": baked.turn_error,
        "skin_error_mm": baked.skin_error * metres * 1000.0,
        "shapes": sum(len(shape.deltas) for shape in shapes),
        "shape_error_mm": max((shape.error for shape in shapes), default=0.0) * metres * 1000.0,
    }
    return baked, shapes, report


def _character(bake):
    """(Character, document): what came in, with the muscles that the take's setup makes where they are wanted."""
    character, document = loaded(bake.take.character_id)
    return made.for_export(character, bake.take.version.setup) if bake.has_muscles else character, document


def _shapes(bake, take, character, clip, rotations, translations, frames):
    """The Shapes of all moved meshes at the baked ``frames`` of a take."""
    if not take.moved:
        return []
    rows = frames - take.first_frame
    arrays = (take.rotated, take.translated, rotations[rows], translations[rows])
    world = meshes.take_world(character, clip, frames, take.frame_rate, *arrays)
    wanted = {int(row): at for at, row in enumerate(rows)}
    offsets = np.empty((len(rows), sum(map(len, take.moved.values())), 3), np.float32)
    for chunk in take.chunks.iterator():
        for row, steps in enumerate(unpack_offsets(take, chunk), chunk.first_frame - take.first_frame):
            if row in wanted:
                offsets[wanted[row]] = steps * np.float32(chunk.offset_step)
    limit = bake.shape_limit / 1000.0 / take.version.setup.metres_per_unit
    return meshes.all_shapes(character, take.moved, offsets, world, limit)


def _write_point_cache(bake, context):
    """Write the positions of one mesh's vertices frame by frame, as the take's chunks are read."""
    take = bake.take
    character, _ = loaded(take.character_id)
    mesh = character.meshes[bake.mesh]
    is_pc2 = bake.form == Bake.Form.PC2
    frames = joints.frames_between(bake.first_frame, bake.last_frame, bake.step)
    if is_pc2:
        # Its samples are all as far apart: a last frame that does not fit is left out.
        frames = np.arange(bake.first_frame, bake.last_frame + 1, bake.step)
        head = pointcache.pc2_head(len(mesh.positions), bake.first_frame, len(frames), bake.step)
    else:
        head = pointcache.mdd_head(len(mesh.positions), frames / take.frame_rate)
    written = pointcache.pc2_frame if is_pc2 else pointcache.mdd_frame

    def pieces():
        yield head
        for _, positions in scenes(take, character, frames, [bake.mesh]):
            yield written(positions[0])
            if not context.keep_going():
                return

    size = bake.keep(pieces())
    return {"frames": len(frames), "keys": 0, "bytes": size, "clip": bake.name, "mesh": mesh.name}


def _write_usd(bake, context):
    """Write all meshes' points over time and the skeleton's animation."""
    take = bake.take
    character, _ = _character(bake)
    frames = joints.frames_between(bake.first_frame, bake.last_frame, bake.step)
    posed = scenes(take, character, frames, range(len(character.meshes)))
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder) / "bake.usdc"
        usd.write(path, character, take.character.name, take.frame_rate, frames, take.version.setup.metres_per_unit, posed)
        with path.open("rb") as file:
            size = bake.keep(iter(lambda: file.read(2**20), b""))
    return {"frames": len(frames), "keys": 0, "bytes": size, "clip": bake.name}
