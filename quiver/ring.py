"""The ring test: give a part a knock at rest and watch it die out, to see that its dials mean what they say."""

import itertools
from dataclasses import dataclass, replace

import numpy as np

from quiver import layers as registry
from quiver.bodies import chain as chain_body
from quiver.errors import BadInput
from quiver.rig.pose import rest_matrices
from quiver.rig.transforms import pure_rotations
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.sim import solid

LONGEST, SETTLES = 480, 1.6
"""Frames of a test: so many settle times, but not more than the longest."""
FIRST_SWING = 0.02
"""The first swing, as a share of the part's size: small, so that it swings as a linear system does."""
CROSSINGS, CLOSE = 3, 0.05


@dataclass(frozen=True)
class Ring:
    """What a ring test gave: the curve (F,) of the slowest mode, one at its first peak, and the dials against what was measured.

    rate [Hz], settle [frames] are None where the curve swings too little to tell; ``reason`` says why the dials were not met.
    """

    curve: np.ndarray
    rate: float | None
    settle: float | None
    wanted_rate: float
    wanted_settle: float
    reason: str

    @property
    def is_met(self):
        return self.rate is not None and bool(abs(self.rate / self.wanted_rate - 1.0) <= CLOSE)


def ring_test(character, setup, layer, keep_going=lambda: True):
    """Ring a soft volume, or the first chain of a layer. Raises BadInput where it is neither, or nothing of it can swing."""
    kind = registry.kind_of(layer.kind)
    if not kind.rings:
        labels = " or ".join(f"“{each.label}”" for each in registry.kinds() if each.rings)
        raise BadInput(f"expected a layer of the kind {labels} to ring, “{layer.name}” is of the kind {kind.label}")
    wanted_rate, wanted_settle = layer.value("wobble_rate"), layer.value("settle_time")
    values = layer.values | ({"gravity": 0.0} if layer.kind == "chain" else {})
    alone = replace(setup, layers=(replace(layer, is_on=True, rides="", values=values),), colliders=(), watches_skin=False)
    plan = compile_plan(TakeSpec(character, alone, ""))
    step = (_volume_steps if layer.kind == "volume" else _chain_steps)(plan, layer)
    curve = []
    for _ in range(min(LONGEST, max(24, int(SETTLES * wanted_settle)))):
        if not keep_going():
            break
        curve.append(next(step))
    curve = np.array(curve) / max(np.abs(curve).max(initial=0.0), 1e-30)
    rate, settle = swing_of(curve, setup.frame_rate)
    return Ring(curve, rate, settle, wanted_rate, wanted_settle, _reason(rate, wanted_rate, plan.notes))


def _volume_steps(plan, layer):
    """Knock a soft volume into its lowest mode; yield how far it is in that mode after each frame."""
    part = plan.parts[0].fresh()
    if part.body.lowest <= 0.0:
        raise BadInput(f"“{layer.name}” is held everywhere, so nothing can swing; give it more influence or looseness")
    part.rest()
    mode, masses = part.body.mode, part.body.masses
    part.state.velocities[:, :3] = mode * (FIRST_SWING * part.size() * 2.0 * np.pi * layer.value("wobble_rate"))
    still, weightless = np.repeat(part.before[None], plan.substeps, 0), np.zeros(3)
    while True:
        solid.advance(part.model, part.state, still, part.before, weightless)
        yield np.einsum("n,nk,nk->", masses, mode, part.state.positions - part.before)


def _chain_steps(plan, layer):
    """Knock the first chain of a layer sideways, in the shape of its lowest mode; yield how far it is in that after each frame."""
    part, world = plan.parts[0].fresh(), rest_matrices(plan.skeleton)
    part.start(world)
    count, points = int(part.counts[0]), part.points(world[None])[0, 0]
    points = points[: count + 1]
    body = chain_body.build(points, layer.value("wobble_taper") / 100.0, layer.value("held") == "both")
    if layer.value("wobble_rate") <= 0.0 or body.lowest <= 0.0 or not layer.value("swing_axes"):
        raise BadInput(f"“{layer.name}” is limp or cannot turn, so it has no rate of its own to measure")
    mode = np.sqrt(body.mode_weights / body.masses)
    mode = mode / mode.max()
    aside = _aside(points[-1] - points[0], layer.value("swing_axes"), world, plan.skeleton.parents[part.drivers[0, 0]])
    speed = FIRST_SWING * float(body.lengths.sum()) * 2.0 * np.pi * layer.value("wobble_rate")
    part.state.chain(0)[:count, 1] = speed * mode[:, None] * aside
    still, never = np.repeat(world[None], plan.substeps, 0), np.zeros((1, len(part.paths)), bool)
    while True:
        part.advance(still, never, 1, plan.substeps)
        yield float(np.sum(body.masses * mode * (part.state.chain(0)[:count, 0] @ aside)))


def _aside(along, axes, world, parent):
    """The direction (3,) in which a chain swings the most easily about one of its axes, which are the parent's."""
    frame = pure_rotations(world[parent, :, :3]) if parent >= 0 else np.eye(3)
    ways = [np.cross(frame[:, "xyz".index(axis)], along) for axis in axes]
    best = max(ways, key=np.linalg.norm)
    return best / max(np.linalg.norm(best), 1e-12)


def swing_of(curve, frame_rate):
    """Rate [Hz] and settle time [frames] of a decaying swing, from its zero crossings and peaks; None where there are too few."""
    crossings = np.flatnonzero(np.sign(curve[1:]) * np.sign(curve[:-1]) < 0)
    if len(crossings) < CROSSINGS:
        return None, None
    exact = crossings + curve[crossings] / (curve[crossings] - curve[crossings + 1])
    # What swings below a hundredth is rounding.
    loud = [k for k, (a, b) in enumerate(itertools.pairwise(crossings)) if np.abs(curve[a : b + 2]).max() > 0.01]
    last = loud[-1] + 1 if loud else 0
    if last < CROSSINGS - 1:
        return None, None
    half = (exact[last] - exact[0]) / last
    peaks = np.array([np.abs(curve[a : b + 2]).max() for a, b in itertools.pairwise(crossings[: last + 1])])
    decay = -np.polyfit(np.arange(len(peaks)) * half, np.log(np.maximum(peaks, 1e-12)), 1)[0] if len(peaks) > 1 else 0.0
    return float(frame_rate / (2.0 * half)), float(np.log(20.0) / decay) if decay > 1e-9 else None


def _reason(rate, wanted, notes):
    if rate is None:
        return "It settles before it has swung back and forth, so its rate cannot be measured. Lengthen the settle time."
    if abs(rate / wanted - 1.0) <= CLOSE:
        return ""
    return notes[0] if notes else "It swings faster than these frames can show. Raise the frame rate."
