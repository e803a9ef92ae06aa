"""Baking a take into a file."""

import numpy as np
from django.db import transaction

from quiver import export
from quiver.bake import joints, meshes
from quiver.errors import BadInput
from quiver.formats import pointcache
from quiver.rig.skinning import skinned_positions
from studio.bakes.models import Bake
from studio.characters.services import loaded
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes.services import unpack, unpack_offsets


@transaction.atomic
def start_bake(take, name, form, first_frame, last_frame, step, turn_limit=0.0, shape_limit=0.0, mesh=0):
    """Queue a bake of a finished take. Raises BadInput."""
    if take.job.state != Job.State.FINISHED:
        raise BadInput(f"expected a finished take, this one is {take.job.get_state_display()}")
    if not take.first_frame <= first_frame <= last_frame <= take.last_frame:
        raise BadInput(f"expected frames from {take.first_frame} to {take.last_frame}, got {first_frame} to {last_frame}")
    if form not in Bake.Form.values or not 0 <= mesh < len(take.character.facts["meshes"]):
        raise BadInput(f"expected one of {', '.join(Bake.Form.values)} and a mesh of this character, got {form} and {mesh}")
    joints.frames_between(first_frame, last_frame, step)
    job = jobs.start("bake", last_frame - first_frame + 1)
    name = name.strip()[:200] or f"{take.clip_name or 'rest'} with motion"
    limits = {"turn_limit": turn_limit, "shape_limit": shape_limit}
    frames = {"first_frame": first_frame, "last_frame": last_frame, "step": step}
    bake = Bake.objects.create(take=take, job=job, name=name, form=form, mesh=mesh, **frames, **limits)
    jobs.enqueue(job)
    return bake


def write_bake(job_id, context):
    """The job: bake and keep the file."""
    bake = Bake.objects.select_related("take__version").get(job_id=job_id)
    bake.report = _write_glb(bake) if bake.form == Bake.Form.GLB else _write_point_cache(bake, context)
    if not context.keep_going():
        bake.file_chunks.all().delete()
        return
    bake.save(update_fields=["report"])
    count = bake.last_frame - bake.first_frame + 1
    context.progress(count, count)


def _write_glb(bake):
    take = bake.take
    character, document = loaded(take.character_id)
    rotations, translations = (np.concatenate(parts) for parts in zip(*(unpack(take, chunk) for chunk in take.chunks.all()), strict=True))
    clip = character.clip_or_still(take.clip_name)
    arrays = (take.rotated, take.translated, rotations, translations)
    options = (bake.first_frame, bake.last_frame, bake.step, bake.turn_limit)
    baked = joints.bake(character, clip, take.frame_rate, take.first_frame, *arrays, *options)
    shapes = _shapes(bake, character, clip, rotations, translations)
    data = export.glb_with_clip(document, character, baked, bake.name, shapes)
    metres = take.version.document["metres_per_unit"]
    with transaction.atomic():
        bake.keep([data])
    return {
        "frames": baked.frames,
        "keys": baked.keys,
        "turn_error": baked.turn_error,
        "shift_error": baked.shift_error,
        "shapes": sum(len(shape.deltas) for shape in shapes),
        "shape_error_mm": max((shape.error for shape in shapes), default=0.0) * metres * 1000.0,
        "bytes": len(data),
        "clip": export.free_clip_name(character, bake.name),
    }


def _shapes(bake, character, clip, rotations, translations):
    """The Shapes of all moved meshes at the baked frames."""
    take = bake.take
    if not take.moved:
        return []
    frames = joints.frames_between(bake.first_frame, bake.last_frame, bake.step)
    rows = frames - take.first_frame
    arrays = (take.rotated, take.translated, rotations[rows], translations[rows])
    world = meshes.take_world(character, clip, frames, take.frame_rate, *arrays)
    offsets = np.concatenate([unpack_offsets(take, chunk) * chunk.offset_step for chunk in take.chunks.all()])[rows]
    limit = bake.shape_limit / 1000.0 / take.version.document["metres_per_unit"]
    return meshes.all_shapes(character, take.moved, offsets, world, limit)


def _write_point_cache(bake, context):
    """Write the places of one mesh's vertices frame by frame, as the take's chunks are read."""
    take = bake.take
    character, _ = loaded(take.character_id)
    mesh = character.meshes[bake.mesh]
    frames = joints.frames_between(bake.first_frame, bake.last_frame, bake.step)
    is_pc2 = bake.form == Bake.Form.PC2
    head = pointcache.pc2_head(len(mesh.positions), bake.first_frame, len(frames))
    if not is_pc2:
        head = pointcache.mdd_head(len(mesh.positions), frames / take.frame_rate)
    written = pointcache.pc2_frame if is_pc2 else pointcache.mdd_frame

    def pieces():
        yield head
        for places in _places(take, character, bake.mesh, set(frames.tolist())):
            yield written(places)
            if not context.keep_going():
                return

    with transaction.atomic():
        size = bake.keep(pieces())
    return {"frames": len(frames), "keys": 0, "bytes": size, "clip": bake.name, "mesh": mesh.name}


def _places(take, character, mesh_index, wanted):
    """The places float32 (V, 3) of a mesh's vertices in the wanted frames [file units], one after another."""
    mesh, clip = character.meshes[mesh_index], character.clip_or_still(take.clip_name)
    starts = np.cumsum([0, *(len(vertices) for vertices in take.moved.values())])
    own = dict(zip(take.moved, starts, strict=False))
    vertices = np.array(take.moved.get(str(mesh_index), []), int)
    first = own.get(str(mesh_index), 0)
    for chunk in take.chunks.iterator():
        rows = [row for row in range(chunk.frames) if chunk.first_frame + row in wanted]
        if not rows:
            continue
        rotations, translations = (values[rows] for values in unpack(take, chunk))
        frames = chunk.first_frame + np.array(rows)
        world = meshes.take_world(character, clip, frames, take.frame_rate, take.rotated, take.translated, rotations, translations)
        offsets = unpack_offsets(take, chunk)[rows, first : first + len(vertices)] * np.float32(chunk.offset_step)
        for placed, moves in zip(world, offsets, strict=True):
            places = skinned_positions(mesh, placed)
            places[vertices] += moves
            yield places
