"""Dials from what the motion should be: each try is a take of the plan, and the dials that come nearest are kept.

A spread of tries over the whole range (Sobol); then downhill from the best of them, one after another, by least squares; and where that
does not lead there, from the best of all without slopes (Nelder, Mead): what is measured of a take has kinks, where a contact begins or
another joint is the worst.
"""

from dataclasses import dataclass

import numpy as np
from scipy import optimize
from scipy.stats import qmc

from quiver import batch
from quiver.errors import BadInput
from quiver.layers import kind_of
from quiver.layers.kinds import JOINTS
from quiver.rig.pose import world_matrices
from quiver.run.spec import TakeSpec
from quiver.setup import edits

MOVES, LAGS, SETTLES, CLIPS = "moves", "lags", "settles", "clips"
"""What can be wanted of a layer: how far it goes at the most [mm], by how many frames its tip comes after its keys, by which frame
all but SETTLED of its swing has died out, and how deep it is in what it meets at the most [mm]."""
UNITS = {MOVES: "mm", LAGS: "frames", SETTLES: "frames", CLIPS: "mm"}
FINEST = {MOVES: 1.0, LAGS: 0.25, SETTLES: 1.0, CLIPS: 0.5}
"""What is wanted counts by its own size, but by no less than this."""
SETTLED, MET = 0.05, 0.02
"""A goal that is missed by a smaller share than the second is met."""
MOST_TRIES, MOST_DIALS, STARTS, NEARLY = 240, 4, 4, 1e-5
"""The search goes downhill from so many places, unless one leads to what is wanted but for so little."""
SLOPE, MOST_STEPS = 2e-3, 12
"""Slopes are found over such a share of a dial's range; so many steps are gone from each place."""
FAILED = 1e6
"""How far off a take is that failed."""
KEPT = 1e-3
"""How much dials are drawn to what they were: of two that do as well, the nearer one is taken."""


@dataclass(frozen=True)
class Goal:
    """What is wanted of a layer: one of the names above, ``value`` in its unit, at most or ``is_exact``."""

    what: str
    layer: str
    value: float
    is_exact: bool = False


@dataclass(frozen=True)
class Free:
    """A dial of a layer that may be turned, from low to high."""

    layer: str
    dial: str
    low: float
    high: float

    def value(self, share):
        """The value at a share 0..1 of the range."""
        return batch.between(self.low, self.high, share)

    def share(self, value):
        """Where a value is in the range, within 0..1."""
        value = min(max(value, self.low), self.high)
        if batch.is_wide(self.low, self.high):
            return float(np.log(value / self.low) / np.log(self.high / self.low))
        return float((value - self.low) / (self.high - self.low))


@dataclass
class Solution:
    """The ``setup`` whose dials come nearest: ``values`` of these, what was ``found`` of each goal, and those that are ``unmet``."""

    setup: object
    values: list
    found: list
    unmet: list
    tries: int


class _Enough(Exception):
    """The search may end."""


def solve(character, setup, clip_name, goals, frees, tries=MOST_TRIES, results=None, threads=None, keep_going=lambda: True, told=None):
    """The Solution of some Goals by the dials that are Free; ``told`` hears (tries so far, of how many, how far off the best is).

    Where it is stopped, what came nearest so far is given. Raises BadInput.
    """
    check(setup, goals, frees)
    search = _Search(character, setup, clip_name, goals, frees, tries, results, threads, keep_going, told or (lambda *where: None))
    start = np.array(search.start)
    spread = qmc.Sobol(len(frees), scramble=False).random_base2(2 + len(frees))
    try:
        for share in (start, *spread[1:]):
            search.miss(share)
        for _, first in sorted(zip(search.misses, (start, *spread[1:]), strict=True), key=lambda item: item[0])[:STARTS]:
            within = np.clip(first, SLOPE, 1.0 - SLOPE)
            optimize.least_squares(search.residuals, within, bounds=(0.0, 1.0), diff_step=SLOPE, max_nfev=MOST_STEPS)
            if search.best and search.best[0] < NEARLY:
                raise _Enough
        first = search.best[3]
        corners = [first + (0.05 if first[k] < 0.5 else -0.05) * np.eye(len(frees))[k] for k in range(len(frees))]
        options = {"xatol": 1e-4, "fatol": 1e-9, "maxfev": tries, "initial_simplex": np.array([first, *corners])}
        optimize.minimize(search.miss, first, method="Nelder-Mead", bounds=[(0.0, 1.0)] * len(frees), options=options)
    except _Enough:
        pass
    if search.best is None:
        raise BadInput(search.error or "it was stopped before the first try was over")
    return search.solution()


def check(setup, goals, frees):
    """Raises BadInput where something is wanted, or to be turned, that cannot be."""
    if not goals or not 1 <= len(frees) <= MOST_DIALS:
        raise BadInput(f"expected something that is wanted, and 1 to {MOST_DIALS} dials to turn, got {len(goals)} and {len(frees)}")
    for each in frees:
        layer = setup.layer(each.layer)
        dial = kind_of(layer.kind).dial(each.dial)
        if dial.is_choice or not each.low < each.high:
            raise BadInput(f"{dial.label}: expected a number and a range that rises, got {each.low} to {each.high}")
        dial.checked(each.low)
        dial.checked(each.high)
    for goal in goals:
        kind = kind_of(setup.layer(goal.layer).kind)
        if goal.what not in UNITS or not np.isfinite(goal.value):
            raise BadInput(f"expected one of {', '.join(UNITS)} with a number, got {goal.what} {goal.value}")
        if goal.what == LAGS and kind.made_of != JOINTS:
            raise BadInput(f"{setup.layer(goal.layer).name}: expected a layer made of joints to say how it lags")


class _Search:
    """What was tried, and what was best so far."""

    def __init__(self, character, setup, clip_name, goals, frees, tries, results, threads, keep_going, told):
        self.character, self.setup, self.clip_name, self.goals, self.frees = character, setup, clip_name, goals, frees
        self.tries, self.results, self.threads, self.keep_going, self.told = tries, results, threads, keep_going, told
        self.best, self.count, self.error, self.misses = None, 0, "", []
        self.start = [each.share(value) for each, value in zip(frees, self.values_in(setup), strict=True)]

    def values_in(self, setup):
        """What the dials are in a setup, on the clip."""
        own = setup.on(self.clip_name)
        return [float(own.layer(each.layer).value(each.dial)) for each in self.frees]

    def with_dials(self, share):
        """The setup with its dials at shares (n,) of their ranges."""
        changed = self.setup
        for each, own in zip(self.frees, np.clip(share, 0.0, 1.0), strict=True):
            changed = edits.set_dial_on(changed, self.clip_name, [each.layer], each.dial, each.value(own))
        return changed

    def miss(self, share):
        """How far a take with these dials is off what is wanted: the sum of squares. Raises _Enough."""
        return float(np.square(self.residuals(share)).sum())

    def residuals(self, share):
        """By which share it misses each goal, and how far each dial is from where it was, which hardly counts. Raises _Enough."""
        if self.count >= self.tries or not self.keep_going():
            raise _Enough
        setup = self.with_dials(share)
        order = batch.Order("", TakeSpec(self.character, setup, self.clip_name), self.clip_name in setup.cycles)
        (outcome,) = batch.run([order], self.results, self.threads)
        self.count += 1
        if outcome.error:
            self.error = outcome.error
            self.misses.append(FAILED)
            return np.full(len(self.goals) + len(self.frees), FAILED)
        found = [measured(outcome, goal) for goal in self.goals]
        offs = [off(goal, value) for goal, value in zip(self.goals, found, strict=True)]
        out = np.concatenate([offs, KEPT * (np.asarray(share) - self.start)])
        miss = float(np.square(out).sum())
        self.misses.append(miss)
        if self.best is None or miss < self.best[0]:
            self.best = miss, found, setup, np.array(share, float)
        self.told(self.count, self.tries, float(np.sqrt(self.best[0])))
        return out

    def solution(self):
        _, found, setup, _ = self.best
        unmet = [goal for goal, value in zip(self.goals, found, strict=True) if abs(off(goal, value)) > MET]
        return Solution(setup, self.values_in(setup), found, unmet, self.count)


def off(goal, value):
    """By which share of what is wanted a take misses it; nothing where it is below what is wanted at most."""
    share = (value - goal.value) / max(abs(goal.value), FINEST[goal.what])
    return share if goal.is_exact else max(share, 0.0)


def measured(outcome, goal):
    """What an Outcome is like in the way that a Goal speaks of."""
    plan = outcome.plan
    column = plan.layer_ids.index(goal.layer) if goal.layer in plan.layer_ids else None
    if column is None:
        raise BadInput("expected a layer that is on")
    added = 1000.0 * outcome.added[:, column].astype(float)
    if goal.what == MOVES:
        return float(added.max())
    if goal.what == SETTLES:
        return _settled(added)
    if goal.what == CLIPS:
        return 1000.0 * float(np.max(outcome.clip_of.get(goal.layer, [0.0])))
    return _lag(outcome, goal.layer)


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


def _lag(outcome, layer):
    """By how many frames the tips of a layer's joints come after their keys: where their ways agree the most."""
    plan, (rotations, translations, _) = outcome.plan, outcome.arrays
    frames = np.arange(outcome.frames) + plan.spec.first_frame
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
