"""The ring test: give a part a knock at rest and watch it die out, to see that its dials mean what they say."""

import itertools
from dataclasses import dataclass, replace

import numpy as np

from quiver import layers as registry
from quiver.errors import BadInput
from quiver.rig.pose import rest_matrices
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.sim import solid

LONGEST, SETTLES, LOOKS = 480, 1.6, 16
"""Frames of a test: so many settle times, but not more than the longest; and how often each swing is looked at."""
FIRST_SWING = 0.02
"""The first swing, as a share of the part's size: small, so that it swings as a linear system does."""
CROSSINGS, CLOSE = 3, 0.05


@dataclass(frozen=True)
class Ring:
    """What a ring test gave: the curve of the slowest mode, one at its first peak, over so many frames; the dials against the measured.

    rate [Hz], settle [frames] are None where the curve swings too little to tell; ``reason`` says why the dials were not met.
    """

    curve: np.ndarray
    frames: int
    rate: float | None
    settle: float | None
    wanted_rate: float
    wanted_settle: float
    reason: str

    @property
    def is_met(self):
        return not _off((self.rate, self.settle), (self.wanted_rate, self.wanted_settle))


def ring_test(character, setup, layer, keep_going=lambda: True):
    """Ring a soft volume, or the first chain of a layer. Raises BadInput where it is neither, or nothing of it can swing."""
    kind = registry.kind_of(layer.kind)
    if not kind.rings:
        labels = " or ".join(f"“{each.label}”" for each in registry.kinds() if each.rings)
        raise BadInput(f"expected a layer of the kind {labels} to ring, “{layer.name}” is of the kind {kind.label}")
    wanted_rate, wanted_settle = layer.value("wobble_rate"), layer.value("settle_time")
    # What it lies on stays, and stands still.
    below = tuple(each for each in setup.layers if each.kind in kind.follows)
    alone = replace(setup, layers=(*below, replace(layer, is_on=True, rides="")), colliders=(), watches_skin=False)
    plan = compile_plan(TakeSpec(character, alone, ""))
    substeps = next(part for part in plan.parts if part.layers[0].id == layer.id).steps_of(plan.substeps)
    frames = min(LONGEST, max(24, int(SETTLES * wanted_settle)))
    # What is quick is looked at several times a frame, as often as makes a curve of each swing.
    pieces = min(max(1, int(np.ceil(LOOKS * wanted_rate / setup.frame_rate))), substeps)
    lengths = np.diff(np.round(np.linspace(0, substeps, pieces + 1)).astype(int))
    step = (_chain_steps if layer.kind == "chain" else _soft_steps)(plan, layer, lengths)
    curve = []
    for _ in range(frames * pieces):
        if not keep_going():
            break
        curve.append(next(step))
    times = np.cumsum(np.tile(lengths, frames)[: len(curve)]) / substeps
    curve = np.array(curve) / max(np.abs(curve).max(initial=0.0), 1e-30)
    rate, settle = swing_of(curve, setup.frame_rate, times)
    return Ring(
        curve,
        len(curve) // pieces,
        rate,
        settle,
        wanted_rate,
        wanted_settle,
        _reason((rate, settle), (wanted_rate, wanted_settle), plan.notes),
    )


def _soft_steps(plan, layer, lengths):
    """Knock a soft body into its lowest mode; yield how far it is in that mode after each of so many substeps, over and over."""
    part = next(part for part in plan.parts if part.layers[0].id == layer.id).fresh()
    mode, size = part.slowest()
    if not mode.any():
        raise BadInput(f"“{layer.name}” is held everywhere, so nothing can swing; give it more influence or looseness")
    part.rest()
    masses = part.body.masses
    part.state.velocities[:, :3] = mode * (FIRST_SWING * size * 2.0 * np.pi * layer.value("wobble_rate"))
    weightless = np.zeros(3)
    for length in itertools.cycle(lengths):
        still = np.repeat(part.before[None], length, 0)
        solid.advance(part.model, part.state, still, part.before, weightless, touches=part.lies_on())
        yield np.einsum("n,nk,nk->", masses, mode, part.state.positions - part.before)


def _chain_steps(plan, layer, lengths):
    """Knock the first chain of a layer, with all that grows on it, as it hangs, into its slowest mode.

    Yields how far it is in that after each of so many substeps, over and over.
    """
    part, world = plan.parts[0].fresh(), rest_matrices(plan.skeleton)
    part.start(world)
    body, swing, tree = part.bodies[0], part.swings[0], part.units[0].tree
    if layer.value("wobble_rate") <= 0.0 or body.lowest <= 0.0 or not layer.value("swing_axes"):
        raise BadInput(f"“{layer.name}” is limp or cannot turn, so it has no rate of its own to measure")
    mode, hangs = body.mode, np.zeros(body.mode.shape)
    if swing:
        mode, hangs = swing.mode, swing.sags
    mode = mode / np.linalg.norm(mode, axis=1).max()
    speed = FIRST_SWING * body.reach * 2.0 * np.pi * layer.value("wobble_rate")
    chains = [part.state.chain(number)[:count] for number, count in enumerate(tree.counts)]
    never, weights = np.zeros((1, len(part.paths)), bool), body.masses[:, None] * mode
    for state, (first, count) in zip(chains, tree, strict=True):
        state[:, 0] = hangs[first : first + count]
    if swing:
        # Where it hangs is known but for what a substep rounds off.
        for _ in range(min(LONGEST, int(np.ceil(SETTLES * layer.value("settle_time"))))):
            part.advance(np.repeat(world[None], plan.substeps, 0), never, 1, plan.substeps)
        hangs = np.concatenate([state[:, 0] for state in chains])
    for state, (first, count) in zip(chains, tree, strict=True):
        state[:, 1] = speed * mode[first : first + count]
    for length in itertools.cycle(lengths):
        part.advance(np.repeat(world[None], length, 0), never, 1, length)
        yield float(np.sum(weights * (np.concatenate([state[:, 0] for state in chains]) - hangs)))


def swing_of(curve, frame_rate, times=None):
    """Rate [Hz] and settle time [frames] of a decaying swing, from its zero crossings and peaks; None where there are too few.

    times (F,) [frames] of the curve's values (F,), one frame apart if not said
    """
    times = np.arange(len(curve), dtype=float) if times is None else times
    crossings = np.flatnonzero(np.sign(curve[1:]) * np.sign(curve[:-1]) < 0)
    if len(crossings) < CROSSINGS:
        return None, None
    within = curve[crossings] / (curve[crossings] - curve[crossings + 1])
    exact = times[crossings] + within * (times[crossings + 1] - times[crossings])
    # What swings below a hundredth is rounding.
    loud = [k for k, (a, b) in enumerate(itertools.pairwise(crossings)) if np.abs(curve[a : b + 2]).max() > 0.01]
    last = loud[-1] + 1 if loud else 0
    if last < CROSSINGS - 1:
        return None, None
    half = (exact[last] - exact[0]) / last
    peaks = np.array([np.abs(curve[a : b + 2]).max() for a, b in itertools.pairwise(crossings[: last + 1])])
    decay = -np.polyfit(np.arange(len(peaks)) * half, np.log(np.maximum(peaks, 1e-12)), 1)[0] if len(peaks) > 1 else 0.0
    return float(frame_rate / (2.0 * half)), float(np.log(20.0) / decay) if decay > 1e-9 else None


def _off(measured, wanted):
    """Whether a rate and a settle time are off what was wanted: a pair of measured ones, None where there is none, and the pair wanted."""
    return any(one is None or abs(one / other - 1.0) > CLOSE for one, other in zip(measured, wanted, strict=True))


def _reason(measured, wanted, notes):
    """Why the dials were not met, "" where they were."""
    if measured[0] is None:
        return "It settles before it has swung back and forth, so its rate cannot be measured. Lengthen the settle time."
    if not _off(measured, wanted):
        return ""
    return notes[0] if notes else "Its swing changes with its size: this knock is larger than what the dials are exact for."
