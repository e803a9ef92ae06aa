"""Running takes and reading them back."""

import itertools
from datetime import timedelta
from functools import lru_cache

import numpy as np
from django.db import transaction
from django.utils import timezone
from numcodecs import Blosc

from quiver import batch
from quiver import layers as registry
from quiver.bodies.made import made_names
from quiver.digests import digest_of
from quiver.errors import BadInput
from quiver.formats import frames
from quiver.rig.pose import world_matrices
from quiver.run.execute import moves_for
from quiver.run.loops import loop_frames
from quiver.run.plan import FORMAT, compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from studio.characters.models import Character, SetupVersion
from studio.characters.services import REMOVED_SECONDS, loaded
from studio.edits.services import edit
from studio.events import hub
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.numbers import whole_number
from studio.takes.models import Sweep, Take

MOST_NAME, MOST_NOTE = 100, 1000
WAITED_FOR, IN_ADVANCE = 10, 5
"""How early a take is run: what an artist waits for comes before what may be asked for later."""
PASSING_TAKES = 12
"""Pinned and baked takes are kept; of the others, the latest so many."""
_codec_of_steps = Blosc(cname="zstd", clevel=3, shuffle=Blosc.BITSHUFFLE, typesize=2)
_codec = Blosc(cname="zstd", clevel=3, shuffle=Blosc.BITSHUFFLE)
SHOWS = (Job.State.PREPARED, Job.State.QUEUED, Job.State.RUNNING, Job.State.FINISHED)
"""States of takes that show, or will show, what they were asked for."""
ENDED = (Job.State.FINISHED, Job.State.FAILED, Job.State.INTERRUPTED, Job.State.STOPPED)


def motion_digest(setup, clip_name, first_frame, last_frame):
    """Stands for all that a take of a character depends on."""
    return digest_of(FORMAT, setup.motion_on(clip_name), clip_name, first_frame, last_frame)


def follow(row):
    """After a change: start a take where the artist follows changes, unless one shows the same already. Returns the Take, or None."""
    setup = row.setup
    if not row.follows_changes or not (setup.watches_skin or any(layer.is_on for layer in setup.layers)):
        return None
    return same_take(row) or start_take(row)


def set_cycle(row, is_one):
    """Let takes of the active clip run around until the motion repeats, or once only. Raises BadInput. Returns the Take that follows."""
    words = f"“{row.active_clip}” {'runs around' if is_one else 'runs once'}"
    return edit(row, lambda setup: edits.set_cycle(setup, row.active_clip, is_one), words).take


def same_take(row):
    """A take of the active clip that shows, or will show, the motion of the current setup; None where there is none."""
    return take_like(row, row.active_clip)


def take_like(row, clip_name, states=SHOWS):
    """The same on any clip, in one of some states."""
    digest = motion_digest(row.setup, clip_name, 0, _last_frame(row, clip_name))
    return row.takes.filter(digest=digest, job__state__in=states, job__stop_asked=False).select_related("job", "version").first()


def _last_frame(row, clip_name):
    clip = row.clip_facts(clip_name)
    if clip and clip_name in row.setup.cycles:
        return loop_frames(clip["seconds"], row.setup.frame_rate)[0]
    return (clip["frames"] if clip else int(row.setup.frame_rate * 2)) - 1


def start_take(row, first_frame=0, last_frame=None, priority=WAITED_FOR, clip_name=None):
    """Queue a take of the current setup on a clip, the active one if not said; an older one of that clip that still runs is asked to stop.

    Raises BadInput.
    """
    clip_name = row.active_clip if clip_name is None else clip_name
    end = _last_frame(row, clip_name)
    last = end if last_frame is None else last_frame
    if not 0 <= first_frame <= last <= max(end, last if not row.clip_facts(clip_name) else end):
        raise BadInput(f"expected frames from 0 to {end}, got {first_frame} to {last}")
    with transaction.atomic():
        jobs.ask_to_stop(Job.objects.filter(take__character=row, take__clip_name=clip_name, state__in=SHOWS[:3]))
        return _queued(row, row.current, clip_name, first_frame, last, priority)


def start_again(take, first_frame=None, last_frame=None):
    """Queue another take with the very settings of one, over its range or another. Raises BadInput. Returns the Take."""
    row, first = take.character, take.first_frame if first_frame is None else first_frame
    # As the character was set up then.
    row.current = take.version
    end = _last_frame(row, take.clip_name)
    last = min(take.last_frame if last_frame is None else last_frame, end)
    if not 0 <= first <= last:
        raise BadInput(f"{take.label}: expected frames from 0 to {end}, got {first} to {last_frame}")
    with transaction.atomic():
        return _queued(row, take.version, take.clip_name, first, last, WAITED_FOR, name=take.name)


def _queued(row, version, clip_name, first_frame, last_frame, priority, **more):
    """A Take of a version of the setup whose job waits."""
    job, setup = jobs.start("take", last_frame - first_frame + 1), version.setup
    span = {"first_frame": first_frame, "last_frame": last_frame, "frame_rate": setup.frame_rate}
    digest = motion_digest(setup, clip_name, first_frame, last_frame)
    take = Take.objects.create(character=row, version=version, job=job, digest=digest, clip_name=clip_name, **span, **more)
    jobs.enqueue(job, priority)
    return take


def dials_to_sweep(row):
    """[(Layer, [its dials with numbers])] of the layers that are on."""
    on = [layer for layer in row.setup.layers if layer.is_on]
    return [(layer, [dial for dial in registry.kind_of(layer.kind).dials if not dial.is_choice]) for layer in on]


def start_sweep(row, ranges):
    """Queue takes of the active clip with one or two dials, ranges (layer id, dial, low, high, count) of each. Each take has a setup of its
    own, which no undo leads to.

    Raises BadInput. Returns the Sweep.
    """
    counts = [count for *_, count in ranges]
    if not 1 <= len(ranges) <= 2 or min(counts) < 2 or not 2 <= np.prod(counts) <= PASSING_TAKES:
        raise BadInput(f"expected one or two dials with at least 2 values each and {PASSING_TAKES} takes in all, got {counts}")
    if len({(layer, dial) for layer, dial, *_ in ranges}) < len(ranges):
        raise BadInput("expected two dials that differ")
    clip, last, dials = row.active_clip, _last_frame(row, row.active_clip), []
    for layer_id, dial_name, *_ in ranges:
        layer = row.setup.layer(layer_id)
        dial = registry.kind_of(layer.kind).dial(dial_name)
        if dial.is_choice:
            raise BadInput(f"{dial.label}: expected a dial with numbers to sweep")
        dials.append((layer, dial))
    values = [[round(value, 4) for value in batch.spread(low, high, count)] for *_, low, high, count in ranges]
    spans = [(layer.id, dial.name, own) for (layer, dial), own in zip(dials, values, strict=True)]
    orders = batch.orders_of_sweep(None, row.setup, clip, spans)
    with transaction.atomic():
        found = Sweep.objects.create(version=row.current, clip_name=clip, dials=[span[:2] for span in spans], values=values)
        for order, own in zip(orders, itertools.product(*values), strict=True):
            each = [f"{layer.name}: {dial.label} {value:g} {dial.unit}".strip() for (layer, dial), value in zip(dials, own, strict=True)]
            words = ", ".join(each)
            version = SetupVersion.write(row, None, order.spec.setup, words)
            _queued(row, version, clip, 0, last, WAITED_FOR, name=words[:MOST_NAME], sweep=found)
    return found


def clip_rows(row):
    """For each clip of a character: [{"clip": its facts, "take": one of the current setup or None, "worst": as `worst_of` says}]."""
    found = []
    for clip in row.clips:
        take = take_like(row, clip["name"]) or take_like(row, clip["name"], ENDED)
        found.append({"clip": clip, "take": take, "worst": worst_of(take) if take else {}})
    return found


def worst_of(take):
    """The deepest clip [mm], the largest turn [degrees] and what did not repeat [mm, degrees] of a take, as far as it is known."""
    worst = {}
    for found in take.measures.values():
        for name in ("clip", "turn"):
            if name in found:
                worst[name] = max(worst.get(name, 0.0), max(found[name], default=0.0))
    if take.loop:
        gaps = list(take.loop["gap"].values())
        worst["gap"] = max((mm for mm, _ in gaps), default=0.0), max((degrees for _, degrees in gaps), default=0.0)
    return worst


def start_takes(row, clip_names):
    """Queue takes of the current setup on some clips, but for those that have one already. Raises BadInput for a clip that there is not."""
    known = [clip["name"] for clip in row.clips]
    wrong = [name for name in clip_names if name not in known]
    if wrong or not clip_names:
        raise BadInput(f"expected some of the clips {', '.join(known) or 'none'}, got {', '.join(wrong) or 'none'}")
    return [take_like(row, name) or start_take(row, clip_name=name) for name in known if name in clip_names]


def get_ready(character_id):
    """Compile what a character's setup says, so that its next take begins at once. Raises BadInput where it cannot be run."""
    row = Character.objects.filter(pk=character_id).first()
    if row and any(layer.is_on for layer in row.setup.layers):
        compile_plan(TakeSpec(loaded(row.pk)[0], row.setup, row.active_clip))


def forget_passing(take):
    """Delete the oldest takes of its character that nobody pinned or baked, where there are too many."""
    passing = take.character.takes.filter(is_kept=False, bakes=None).exclude(job__state__in=SHOWS[:3])
    _delete(passing.order_by("-pk")[PASSING_TAKES:])
    Sweep.objects.filter(version__character=take.character_id, takes=None).delete()


def _delete(takes):
    old = list(takes.values_list("pk", "job_id"))
    with transaction.atomic():
        Take.everything.filter(pk__in=[pk for pk, _ in old]).delete()
        Job.objects.filter(pk__in=[job for _, job in old]).delete()


def remove(take):
    """Take a take out of the list, stopping it where it runs. `restore` brings it back until `forget_removed`."""
    jobs.ask_to_stop(Job.objects.filter(pk=take.job_id, state__in=SHOWS[:3]))
    Take.objects.filter(pk=take.pk).update(removed=timezone.now())
    hub.publish(take.character_id, "take", take=take.pk)


def restore(pk):
    """Bring a removed take back. Raises BadInput where it is gone for good."""
    if not Take.everything.filter(pk=pk).update(removed=None):
        raise BadInput("this take is gone for good; Run again on another take brings settings back")


def removed_takes(row):
    """The takes of a character that can still be brought back, the latest first."""
    return Take.everything.filter(character=row, removed__gt=_lapsed()).order_by("-removed")


def _lapsed():
    return timezone.now() - timedelta(seconds=REMOVED_SECONDS)


def forget_removed():
    """Delete the takes that were removed a while ago; what was baked of one keeps it."""
    _delete(Take.everything.filter(removed__lt=_lapsed(), bakes=None).exclude(job__state__in=SHOWS[:3]))


def stop_all(row):
    """When a character is taken out of the library: its jobs are asked to stop."""
    for own in (
        {"take__character": row},
        {"bake__take__character": row},
        {"ring_test__version__character": row},
        {"solve__version__character": row},
    ):
        jobs.ask_to_stop(Job.objects.filter(**own, state__in=SHOWS[:3]))


def forget_all(row):
    """Before a character is deleted: its takes, with all that was made of them, are."""
    stop_all(row)
    for take in Take.everything.filter(character=row):
        with transaction.atomic():
            made = Job.objects.filter(bake__take=take)
            own = [*made.values_list("pk", flat=True), take.job_id]
            jobs.ask_to_stop(made)
            take.bakes.all().delete()
            take.delete()
            Job.objects.filter(pk__in=own).delete()


def describe(take, name, note):
    """Give a take a name and a note; an empty name is its number."""
    take.name, take.note = name.strip()[:MOST_NAME], note.strip()[:MOST_NOTE]
    take.save(update_fields=["name", "note"])
    hub.publish(take.character_id, "take", take=take.pk)


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
    """The stream's first message. Meshes of muscles made by hand have names, for their numbers change with every other one."""
    made = made_names(take.version.setup)
    names = dict(enumerate(made, len(loaded(take.character_id)[0].meshes))) if made else {}
    return frames.header(take.rotated, take.translated, [], take.frame_rate, take.first_frame, take.frame_count, take.moved, names)


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
    return not row.setup.moves_like(take.version.setup, take.clip_name)


def take_of(row, number):
    """The take of a character with that number (a text), or the shown one where the text is none."""
    wanted = whole_number(number)
    return shown_take(row) if wanted is None else row.takes.select_related("job", "version").filter(pk=wanted).first()


def shown_take(row):
    """The take that stage and score show: one with the motion of the setup as it is, else the newest on the active clip, or the last good
    one where that failed with nothing to show.
    """
    newest = latest_take(row)
    if newest and newest.version_id != row.current_id:
        newest = same_take(row) or newest
    if newest and newest.job.state in (Job.State.FAILED, Job.State.INTERRUPTED) and not newest.chunks.exists():
        good = row.takes.filter(clip_name=row.active_clip, job__state=Job.State.FINISHED).select_related("job", "version").first()
        return good or newest
    return newest


def status_take(row):
    """The take that the status line is about: the newest on the active clip, but one that shows the setup as it is where there is one."""
    newest = latest_take(row)
    return newest if newest is None or newest.version_id == row.current_id else same_take(row) or newest


def latest_take(row):
    """The newest take on the active clip, or None."""
    return row.takes.filter(clip_name=row.active_clip).select_related("job", "version").first()


@lru_cache(maxsize=2)
def _measuring(take_id):
    """The Plan of a take, which knows what its layers must keep out of."""
    take = Take.objects.select_related("version").get(pk=take_id)
    character, _ = loaded(take.character_id)
    return compile_plan(TakeSpec(character, take.version.setup, take.clip_name, take.first_frame, take.last_frame))


def clip_depths(take, frame, is_keyed=False):
    """How deep the skin of the layers is in what they meet, at a frame: {mesh number: depths (V,) [mm]}, NaN where nothing is asked.

    ``is_keyed`` asks it of the clip as it was keyed.

    Raises BadInput where the take does not have that frame.
    """
    chunk = take.chunks.filter(first_frame__lte=frame).order_by("-first_frame").first()
    if chunk is None or frame >= chunk.first_frame + chunk.frames:
        raise BadInput(f"expected a frame that this take has, got {frame}")
    plan, row = _measuring(take.pk), frame - chunk.first_frame
    pose = plan.clip.sample(plan.skeleton, np.array([frame / plan.spec.setup.frame_rate]))
    offsets = unpack_offsets(take, chunk)[row : row + 1].astype(np.float32) * chunk.offset_step
    if is_keyed:
        offsets[:] = 0.0
    else:
        rotations, translations = unpack(take, chunk)
        pose.rotations[0, take.rotated], pose.translations[0, take.translated] = rotations[row], translations[row]
    world = world_matrices(plan.skeleton, pose)[0]
    out = {}
    for depth in plan.clip_depths.values():
        moves = {mesh: moved[0] for mesh, moved in moves_for(plan, depth, offsets).items()}
        for mesh, depths in depth.everywhere(world, moves).items():
            whole = out.setdefault(mesh, np.full(len(plan.spec.character.meshes[mesh].positions), np.nan))
            own = next(vertices for index, vertices, _ in depth.parts if index == mesh)
            whole[own] = np.fmax(whole[own], 1000.0 * depths)
    return out
