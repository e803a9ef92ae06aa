"""Takes of clips that are cycles: run around until the motion repeats, and what is left closed by blending; exactly one cycle comes out."""

from contextlib import closing
from dataclasses import dataclass, replace

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.cycles import CycledClip
from quiver.rig.motions import eased
from quiver.rig.skinning import rest_box
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeChunk, TakeSpec
from quiver.setup.edits import around

REPEATED_MM, REPEATED_DEGREES = 0.05, 0.05
"""A motion repeats when nothing of what is 1.7 m high differs by more from the cycle before."""
HUMAN = 1.7
"""[m]"""
MOST_CYCLES = 24
"""So often a clip is run around at the most."""
PATIENCE, NEARER = 4, 0.5
"""What has not come so much nearer to repeating in so many cycles never will: a bell that spins, a cloth that folds another way."""


@dataclass(frozen=True)
class LoopReport:
    """How a loop came about: after how many ``cycles``, and {layer id: (mm, degrees)} by which the last two of them differ at most, and
    by which the last frame differed from the first before it was closed, which now is nothing; ``allowed`` of both counts as nothing."""

    cycles: int
    drift: dict
    gap: dict
    allowed: tuple

    @property
    def is_repeated(self):
        """Whether all repeats."""
        return not self.restless

    @property
    def restless(self):
        """The layers that do not repeat, and so were led over from one cycle to the other."""
        return [layer for layer, (mm, degrees) in self.drift.items() if mm > self.allowed[0] or degrees > self.allowed[1]]

    def is_no_nearer(self, earlier):
        """Whether nothing that does not repeat has come nearer to it since an earlier report."""
        return all(
            own > NEARER * then
            for layer in self.restless
            for own, then, allowed in zip(self.drift[layer], earlier.drift[layer], self.allowed, strict=True)
            if own > allowed
        )


def loop_frames(seconds, frame_rate):
    """Frames of a cycle of so many seconds at about a frame rate [1/s], a whole number; and the rate at which it has exactly so many."""
    frames = max(1, round(seconds * frame_rate))
    return frames, frames / seconds


class Loop:
    """A take of a whole clip that is run around, compiled: its ``plan``, how many ``frames`` a cycle has, and at which ``rate`` [1/s].

    Raises BadInput where the TakeSpec has no clip of the character.
    """

    def __init__(self, spec):
        if not spec.clip_name:
            raise BadInput("expected a clip to run around, got the rest pose")
        clip = spec.character.clip(spec.clip_name)
        self.frames, self.rate = loop_frames(clip.seconds, spec.setup.frame_rate)
        clips = tuple(CycledClip.of(clip, MOST_CYCLES) if each is clip else each for each in spec.character.clips)
        setup = replace(around(spec.setup, self.frames, MOST_CYCLES), frame_rate=self.rate)
        last = MOST_CYCLES * self.frames
        self.plan = compile_plan(TakeSpec(replace(spec.character, clips=clips), setup, spec.clip_name, 0, last))

    def run(self, results=None, threads=None, keep_going=lambda: True, told=lambda cycles: None):
        """(TakeChunk of frames 0 to the cycle's last, which is as the first, LoopReport), or None where it was stopped.

        ``told`` hears how many cycles are over. Raises Unstable.
        """
        before, reports = None, []
        with closing(execute(self.plan, results, threads, keep_going)) as chunks:
            for cycles, this in enumerate(_cycles(chunks, self.frames), 1):
                told(cycles)
                if before is not None:
                    report = _compared(self.plan, before, this, cycles)
                    reports.append(report)
                    is_idle = len(reports) > PATIENCE and report.is_no_nearer(reports[-1 - PATIENCE])
                    if report.is_repeated or is_idle or cycles == MOST_CYCLES:
                        return _closed(before, this), report
                before = this
        return None


def _cycles(chunks, count):
    """One TakeChunk for each cycle of so many frames, its last frame being the first of the next."""
    waiting, cycle = [], 0
    for chunk in chunks:
        waiting.append(chunk)
        while _end(waiting[-1]) > (cycle + 1) * count:
            yield _cut(waiting, cycle * count, (cycle + 1) * count + 1)
            cycle += 1
            waiting = [each for each in waiting if _end(each) > cycle * count]


def _end(chunk):
    return chunk.first_frame + len(chunk.rotations)


def _cut(chunks, begin, end):
    """The frames begin..end-1 of some TakeChunks as one that begins at frame 0."""

    def cut(read):
        parts = [read(chunk)[max(begin - chunk.first_frame, 0) : end - chunk.first_frame] for chunk in chunks]
        return np.concatenate(parts)

    arrays = [cut(lambda chunk, name=name: getattr(chunk, name)) for name in ("rotations", "translations", "offsets", "added")]
    measures = {
        layer: {name: cut(lambda chunk, at=(layer, name): np.asarray(chunk.measures[at[0]][at[1]])) for name in found}
        for layer, found in chunks[-1].measures.items()
    }
    return TakeChunk(0, *arrays, measures, chunks[-1].costs, float(np.mean([chunk.cost_ms for chunk in chunks])))


def _compared(plan, before, this, cycles):
    """The LoopReport of two cycles after each other."""
    metres = plan.spec.setup.metres_per_unit
    low, high = rest_box(plan.spec.character)
    allowed = REPEATED_MM * float(high[1] - low[1]) * metres / HUMAN, REPEATED_DEGREES
    drift, gap = {}, {}
    for layer, columns in _columns(plan).items():
        drift[layer] = _apart(before, this, slice(None), slice(None), columns, metres)
        gap[layer] = _apart(this, this, slice(0, 1), slice(-1, None), columns, metres)
    return LoopReport(cycles, drift, gap, allowed)


def _columns(plan):
    """{layer id: which columns of rotations, of translations and of offsets are its own} of what is simulated."""
    found = {}
    for part in plan.parts:
        for unit in part.units:
            turned = np.flatnonzero(np.isin(plan.rotated, list(unit.drives)))
            moved = np.flatnonzero(np.isin(plan.translated, list(unit.drives)))
            skin = plan.skin.columns(part.moved) if part.is_soft else np.zeros(0, int)
            own = found.setdefault(unit.layer.id, [[], [], []])
            for columns, more in zip(own, (turned, moved, skin), strict=True):
                columns.extend(more)
    for each in plan.skin_filters:
        found.setdefault(each.layer.id, [[], [], []])[2].extend(plan.skin.columns(each.vertices))
    return {layer: [np.unique(np.array(columns, int)) for columns in own] for layer, own in found.items()}


def _apart(one, other, frames, others, columns, metres):
    """The most by which some columns differ between frames of two TakeChunks: (mm, degrees)."""
    turned, moved, skin = columns
    here, there = one.rotations[frames][:, turned].astype(float), other.rotations[others][:, turned].astype(float)
    # Of small angles the cosine says no more than rounding.
    chords = np.minimum(np.linalg.norm(here - there, axis=-1), np.linalg.norm(here + there, axis=-1))
    degrees = np.degrees(4.0 * np.arcsin(np.minimum(0.5 * chords, 1.0))).max(initial=0.0)
    ways = [
        getattr(one, name)[frames][:, own].astype(float) - getattr(other, name)[others][:, own]
        for name, own in (("translations", moved), ("offsets", skin))
    ]
    return max(1000.0 * metres * float(np.linalg.norm(way, axis=-1).max(initial=0.0)) for way in ways), float(degrees)


def _closed(before, this):
    """The cycle led over to the one before in its second half: its last frame is then just as its first, and goes on as that does."""
    share = eased(2.0 * np.arange(len(this.rotations)) / (len(this.rotations) - 1) - 1.0)[:, None]
    arrived = share[..., None]

    def led(name):
        return (getattr(this, name) + arrived * (getattr(before, name) - getattr(this, name))).astype(np.float32)

    turns = transforms.slerp(this.rotations.astype(float), before.rotations.astype(float), share * np.ones(this.rotations.shape[1]))
    rotations, translations, offsets = turns.astype(np.float32), led("translations"), led("offsets")
    for values in (rotations, translations, offsets):
        values[-1] = values[0]
    return replace(this, rotations=rotations, translations=translations, offsets=offsets)
