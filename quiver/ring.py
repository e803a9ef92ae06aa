"""The ring test: give a soft part a knock at rest and watch it die out, to see that its dials mean what they say."""

import itertools
from dataclasses import dataclass, replace

import numpy as np

from quiver.errors import BadInput
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.sim import solid

LONGEST, SETTLES = 480, 1.6
"""Frames of a test: so many settle times, but not more than the longest."""
RIGID_CONTACT = 0.02
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
    """Ring one volume layer. Raises BadInput where the layer is no volume or nothing of it can move."""
    if layer.kind != "volume":
        raise BadInput(f"expected a soft volume to ring, “{layer.name}” is a {layer.kind}")
    alone = replace(setup, layers=(replace(layer, is_on=True, rides=""),), colliders=(), watches_skin=False)
    plan = compile_plan(TakeSpec(character, alone, ""))
    part = plan.parts[0].fresh()
    if part.body.lowest <= 0.0:
        raise BadInput(f"“{layer.name}” is held everywhere, so nothing can swing; give it more influence or looseness")
    part.rest()
    mode, masses = part.body.mode, part.body.masses
    wanted_rate, wanted_settle = layer.value("wobble_rate"), layer.value("settle_time")
    part.state.velocities[:, :3] = mode * (RIGID_CONTACT * part.size() * 2.0 * np.pi * wanted_rate)
    substeps = plan.substeps
    still, weightless = np.repeat(part.before[None], substeps, 0), np.zeros(3)
    curve = []
    for _ in range(min(LONGEST, max(24, int(SETTLES * wanted_settle)))):
        if not keep_going():
            break
        solid.advance(part.model, part.state, still, part.before, weightless)
        curve.append(np.einsum("n,nk,nk->", masses, mode, part.state.positions - part.before))
    curve = np.array(curve) / max(np.abs(curve).max(initial=0.0), 1e-30)
    rate, settle = swing_of(curve, setup.frame_rate)
    return Ring(curve, rate, settle, wanted_rate, wanted_settle, _reason(rate, wanted_rate, plan.notes))


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
