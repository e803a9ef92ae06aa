"""Running takes and reading them back."""

from functools import lru_cache

import numpy as np
from django.db import transaction
from numcodecs import Blosc

from quiver.setup import document as setup_document
from quiver.errors import BadInput
from quiver.formats import frames
from quiver.rig.pose import world_matrices
from quiver.run.stack import Run, TakeSpec
from studio.characters.services import loaded
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.takes.models import Take, TakeChunk

PASSING_TAKES = 12
"""Takes that were made while dials were turned are thrown away beyond so many; kept takes and baked ones stay."""
_codec_of_steps = Blosc(cname="zstd", clevel=3, shuffle=Blosc.BITSHUFFLE, typesize=2)
_codec = Blosc(cname="zstd", clevel=3, shuffle=Blosc.BITSHUFFLE)


@transaction.atomic
def start_take(row, first_frame=0, last_frame=None):
    """Queue a take of the current setup on the active clip; an older one of that clip that still runs is asked to stop. Raises BadInput."""
    clip = row.clip_facts()
    end = (clip["frames"] if clip else int(row.setup.frame_rate * 2)) - 1
    last = end if last_frame is None else last_frame
    if not 0 <= first_frame <= last <= max(end, last if not clip else end):
        raise BadInput(f"expected frames from 0 to {end}, got {first_frame} to {last}")
    jobs.ask_to_stop(Job.objects.filter(take__character=row, take__clip_name=row.active_clip))
    job = jobs.start("take", last - first_frame + 1)
    take = Take.objects.create(
        character=row,
        version=row.current,
        job=job,
        clip_name=row.active_clip,
        first_frame=first_frame,
        last_frame=last,
        frame_rate=row.setup.frame_rate,
    )
    jobs.enqueue(job, priority=10)
    return take


def simulate(job_id, context):
    """The job: run a take and keep its chunks as they come."""
    take = Take.objects.select_related("version", "character").get(job_id=job_id)
    TakeChunk.objects.filter(take=take).delete()
    character, _ = loaded(take.character_id)
    setup = setup_document.from_document(take.version.document)
    run = Run(TakeSpec(character, setup, take.clip_name, take.first_frame, take.last_frame))
    take.substeps, take.layer_ids, take.notes = run.substeps, run.layer_ids, run.notes
    take.rotated, take.translated = run.rotated.tolist(), run.translated.tolist()
    take.moved = {str(mesh): vertices.tolist() for mesh, vertices in run.moved.items()}
    take.save(update_fields=["substeps", "layer_ids", "notes", "rotated", "translated", "moved"])
    step = frames.OFFSET_STEP / setup.metres_per_unit
    done, spent = 0, 0.0
    for chunk in run.chunks(context.keep_going):
        count = len(chunk.rotations)
        done, spent = done + count, spent + chunk.cost_ms * count
        with transaction.atomic():
            offsets, used = frames.quantised(chunk.offsets, step)
            data, moves = pack(chunk.rotations, chunk.translations), pack_offsets(offsets)
            TakeChunk.objects.create(take=take, first_frame=chunk.first_frame, frames=count, data=data, offsets=moves, offset_step=used)
            _keep_measures(take, run, chunk)
            take.added = [*take.added, *np.round(chunk.added * 1000.0, 3).tolist()]
            take.cost_ms = spent / done
            take.save(update_fields=["added", "measures", "cost_ms"])
            context.progress(done, take.frame_count)
    _forget_passing(take)


def _keep_measures(take, run, chunk):
    for index, solid in enumerate(run.solids):
        kept = take.measures.setdefault(solid.layer.id, {})
        kept.setdefault("volume", []).extend(np.round(chunk.measures[:, index, 0].astype(float), 2).tolist())
        kept.setdefault("stretch", []).extend(np.round(chunk.measures[:, index, 1].astype(float), 2).tolist())
        kept["cost"] = round(chunk.costs[1 + index], 3)
    for index, touch in enumerate(run.outcome.touches):
        take.measures.setdefault(touch.layer.id, {})["cost"] = round(chunk.costs[1 + len(run.solids) + index], 3)
    measured = dict.fromkeys([*run.outcome.clip_depths, *(part.layer.id for part in (*run.outcome.touches, *run.limbs))])
    for layer_id in measured:
        kept, column = take.measures.setdefault(layer_id, {}), run.layer_ids.index(layer_id)
        millimetres = np.round(1000.0 * chunk.clips[:, column].astype(float), 2)
        kept.setdefault("clip", []).extend(millimetres[:, 0].tolist())
        kept.setdefault("keyed_clip", []).extend(millimetres[:, 1].tolist())
        kept.setdefault("deepest", []).extend(chunk.deepest[:, column].tolist())


def _forget_passing(take):
    passing = take.character.takes.filter(is_kept=False, bakes=None).exclude(job__state__in=[Job.State.QUEUED, Job.State.RUNNING])
    old = list(passing.order_by("-pk").values_list("pk", "job_id")[PASSING_TAKES:])
    Take.objects.filter(pk__in=[pk for pk, _ in old]).delete()
    Job.objects.filter(pk__in=[job for _, job in old]).delete()


def pack(rotations, translations):
    """Compress float32 rotations and translations of some frames; nothing where no joint is driven."""
    flat = np.concatenate([rotations.ravel(), translations.ravel()])
    return _codec.encode(flat) if flat.size else b""


def unpack(take, chunk):
    """(rotations (F, K, 4), translations (F, M, 3)) float32 of a TakeChunk."""
    flat = np.frombuffer(_codec.decode(bytes(chunk.data)) if chunk.data else b"", np.float32)
    split = chunk.frames * len(take.rotated) * 4
    return flat[:split].reshape(chunk.frames, -1, 4), flat[split:].reshape(chunk.frames, len(take.translated), 3)


def pack_offsets(steps):
    """Compress int16 offsets (F, R, 3); nothing where no vertex is moved."""
    return _codec_of_steps.encode(steps) if steps.size else b""


def unpack_offsets(take, chunk):
    """int16 (F, R, 3) in steps of ``chunk.offset_step`` of a TakeChunk."""
    raw = _codec_of_steps.decode(bytes(chunk.offsets)) if chunk.offsets else b""
    return np.frombuffer(raw, "<i2").reshape(chunk.frames, -1, 3)


def take_header(take):
    """The stream's first message."""
    return frames.header(take.rotated, take.translated, [], take.frame_rate, take.first_frame, take.frame_count, take.moved)


def chunk_message(take, chunk):
    """One chunk's message for the stage."""
    return frames.chunk(chunk.first_frame, *unpack(take, chunk), None, unpack_offsets(take, chunk), chunk.offset_step)


def ending_message(take):
    """The stream's last message."""
    return frames.ending({"state": take.job.state, "message": take.job.message, "costMs": round(take.cost_ms, 3)})


def is_stale(row, take):
    """Whether the setup has changed since a take in a way that its motion would feel."""
    if take.version_id == row.current_id:
        return False
    return not row.setup.moves_like(setup_document.from_document(take.version.document))


def shown_take(row):
    """The take that stage and score show: the newest on the active clip, or the last good one where that failed with nothing to show."""
    newest = latest_take(row)
    if newest and newest.job.state in (Job.State.FAILED, Job.State.INTERRUPTED) and not newest.chunks.exists():
        good = row.takes.filter(clip_name=row.active_clip, job__state=Job.State.FINISHED).select_related("job", "version").first()
        return good or newest
    return newest


def latest_take(row):
    """The newest take on the active clip, or None."""
    return row.takes.filter(clip_name=row.active_clip).select_related("job", "version").first()


@lru_cache(maxsize=2)
def _measuring(take_id):
    """The Run of a take, which knows what its layers must keep out of."""
    take = Take.objects.select_related("version").get(pk=take_id)
    character, _ = loaded(take.character_id)
    setup = setup_document.from_document(take.version.document)
    return Run(TakeSpec(character, setup, take.clip_name, take.first_frame, take.last_frame))


def clip_depths(take, frame, is_keyed=False):
    """How deep the skin of the layers is in what they meet, at a frame: {mesh number: depths (V,) [mm]}, NaN where nothing is asked.

    ``is_keyed`` asks it of the clip as it was keyed.

    Raises BadInput where the take does not have that frame.
    """
    chunk = take.chunks.filter(first_frame__lte=frame).order_by("-first_frame").first()
    if chunk is None or frame >= chunk.first_frame + chunk.frames:
        raise BadInput(f"expected a frame that this take has, got {frame}")
    run, row = _measuring(take.pk), frame - chunk.first_frame
    pose = run.clip.sample(run.skeleton, np.array([frame / run.spec.setup.frame_rate]))
    offsets = unpack_offsets(take, chunk)[row : row + 1].astype(np.float32) * chunk.offset_step
    if is_keyed:
        offsets[:] = 0.0
    else:
        rotations, translations = unpack(take, chunk)
        pose.rotations[0, take.rotated], pose.translations[0, take.translated] = rotations[row], translations[row]
    world = world_matrices(run.skeleton, pose)[0]
    out = {}
    for depth in run.outcome.clip_depths.values():
        moves = {mesh: moved[0] for mesh, moved in run.outcome.moves_for(depth, offsets).items()}
        for mesh, depths in depth.everywhere(world, moves).items():
            whole = out.setdefault(mesh, np.full(len(run.spec.character.meshes[mesh].positions), np.nan))
            own = next(vertices for index, vertices, _ in depth.parts if index == mesh)
            whole[own] = np.fmax(whole[own], 1000.0 * depths)
    return out
