"""What may be wanted of the motion of a take, and what a take is like in that way."""

from dataclasses import dataclass

import numpy as np

from quiver.errors import BadInput
from quiver.rig.pose import world_matrices

MOVES, LAGS, SETTLES, CLIPS = "moves", "lags", "settles", "clips"
"""What can be wanted of a layer: how far it goes at the most [mm], by how many frames its tip comes after its keys, by which frame
all but SETTLED of its swing has died out, and how deep it is in what it meets at the most [mm]."""
UNITS = {MOVES: "mm", LAGS: "frames", SETTLES: "frames", CLIPS: "mm"}
FINEST = {MOVES: 1.0, LAGS: 0.25, SETTLES: 1.0, CLIPS: 0.5}
"""What is wanted counts by its own size, but by no less than this."""
SETTLED, MET = 0.05, 0.02
"""A goal that is missed by a smaller share than the second is met."""


@dataclass(frozen=True)
class Goal:
    """What is wanted of a layer: one of the names above, ``value`` in its unit, at most or ``is_exact``."""

    what: str
    layer: str
    value: float
    is_exact: bool = False


def off(goal, value):
    """By which share of what is wanted a take misses it; nothing where it is below what is wanted at most."""
    share = (value - goal.value) / max(abs(goal.value), FINEST[goal.what])
    return share if goal.is_exact else max(share, 0.0)


def measured(plan, chunks, goal):
    """What the TakeChunks of a plan are like in the way that a Goal speaks of. Raises BadInput."""
    if goal.layer not in plan.layer_ids:
        raise BadInput("expected a layer that is on")
    if goal.what == CLIPS:
        depths = [chunk.measures.get(goal.layer, {}).get("clip", np.zeros(1)) for chunk in chunks]
        return 1000.0 * float(np.max(np.concatenate(depths)))
    if goal.what == LAGS:
        return _lag(plan, chunks, goal.layer)
    added = np.concatenate([chunk.added for chunk in chunks])
    added = 1000.0 * added[:, plan.layer_ids.index(goal.layer)].astype(float)
    return float(added.max()) if goal.what == MOVES else _settled(added)


def _settled(added):
    """The frame from which on what is left of the swing of what is added (F,), about where it ends, is SETTLED of all of it, between frames
    too. Of a swing that dies out evenly that is when it is so much smaller; it goes evenly with the dials, as the last time that it is
    larger does not.
    """
    left = np.sqrt(np.cumsum(np.square(added - added[-1])[::-1])[::-1])
    below = np.flatnonzero(left <= SETTLED * max(float(left[0]), 1e-12))
    last = int(below[0]) if len(below) else len(left) - 1
    if last == 0:
        return 0.0
    goal = np.log(SETTLED * left[0])
    before, after = np.log(np.maximum(left[last - 1 : last + 1], 1e-9 * left[0]))
    return last - 1 + float(np.clip((before - goal) / max(before - after, 1e-12), 0.0, 1.0))


def _lag(plan, chunks, layer):
    """By how many frames the tips of a layer's joints come after their keys: where their ways agree the most."""
    rotations, translations = (np.concatenate([getattr(chunk, name) for chunk in chunks]) for name in ("rotations", "translations"))
    frames = np.arange(len(rotations)) + plan.spec.first_frame
    keyed = plan.clip.sample(plan.skeleton, frames / plan.spec.setup.frame_rate)
    simulated = keyed.copy()
    simulated.rotations[:, plan.rotated], simulated.translations[:, plan.translated] = rotations, translations
    tips = [max(unit.drives) for part in plan.parts for unit in part.units if unit.layer.id == layer]
    ways = []
    for pose in (keyed, simulated):
        world = world_matrices(plan.skeleton, pose)[:, tips]
        # A tip's own turns count as the way of its end.
        way = np.concatenate([world[..., 3], world[..., :3].reshape(*world.shape[:2], 9)], axis=2).reshape(len(world), -1)
        ways.append(np.diff(way, axis=0))
    before, after = ways
    most = len(before) // 2
    shifts = np.arange(-most // 4, most + 1)
    agreement = np.array([_agreement(before, after, shift) for shift in shifts])
    at = int(agreement.argmax())
    if not 0 < at < len(shifts) - 1:
        return float(shifts[at])
    left, here, right = agreement[at - 1 : at + 2]
    return float(shifts[at] + 0.5 * (left - right) / min(left - 2.0 * here + right, -1e-12))


def _agreement(before, after, shift):
    """How well ways (F, n) agree where the second is so many frames later."""
    a = before[: len(before) - shift] if shift >= 0 else before[-shift:]
    b = after[shift:] if shift >= 0 else after[:shift]
    return float((a * b).sum() / max(np.sqrt((a * a).sum() * (b * b).sum()), 1e-30))
