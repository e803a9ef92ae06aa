"""Dials from what the motion should be: each try is a take of the plan, and the dials that come nearest are kept.

A spread of tries over the whole range (Sobol); then downhill from the best of them, one after another, by least squares; the same again
nearer about the best; and where that does not lead there, from the best of all without slopes (Nelder, Mead): what is measured of a take
has kinks, where a contact begins or another joint is the worst. The tries of a spread, and those of a slope, can be made at once, such as
on a cluster.
"""

from dataclasses import dataclass

import numpy as np
from scipy import optimize
from scipy.stats import qmc

from quiver import batch
from quiver.errors import BadInput
from quiver.layers import kind_of
from quiver.layers.kinds import JOINTS
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.wanted import LAGS, MET, UNITS, off

MOST_TRIES, MOST_DIALS = 240, 4
MOST_STEPS, SLOPE, NEARLY = 12, 2e-3, 1e-6
"""Downhill it goes so many steps from each place, by slopes over such a share of a dial's range, unless one leads to what is wanted but for
so little.
"""
ROUNDS, MOST_SPREAD = ((1.0, 2, 4), (0.3, 2, 2), (0.1, 2, 1)), 6
"""Each spreads tries over such a share of the ranges, 2 to a power of so many more than there are dials, at most MOST_SPREAD; and goes
downhill from so many of them. Valleys lie close together where a swing beats with the clip.
"""
FAILED = 1e6
"""How far off a take is that failed."""
KEPT = 1e-3
"""How much dials are drawn to what they were: of two that do as well, the nearer one is taken."""


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


def solve(character, setup, clip_name, goals, frees, tries=MOST_TRIES, take=batch.run, keep_going=lambda: True, told=batch.nothing):
    """The Solution of some Goals by the dials that are Free; ``told`` hears (tries so far, of how many, how far off the best is), and
    ``take(orders)`` yields their Outcomes in turn.

    Where it is stopped, what came nearest so far is given. Raises BadInput.
    """
    check(setup, goals, frees)
    search = _Search(character, setup, clip_name, goals, frees, tries, take, keep_going, told)
    try:
        for width, power, starts in ROUNDS:
            places = search.around(width, min(power + len(frees), MOST_SPREAD))
            misses = np.square(search.all_residuals(places)).sum(1)
            for first in places[np.argsort(misses, kind="stable")[:starts]]:
                within = np.clip(first, SLOPE, 1.0 - SLOPE)
                optimize.least_squares(search.residuals, within, search.slopes, bounds=(0.0, 1.0), max_nfev=MOST_STEPS)
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

    def __init__(self, character, setup, clip_name, goals, frees, tries, take, keep_going, told):
        self.character, self.setup, self.clip_name, self.goals, self.frees = character, setup, clip_name, tuple(goals), frees
        self.tries, self.take, self.keep_going, self.told = tries, take, keep_going, told
        self.best, self.count, self.error, self.known = None, 0, "", {}
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
        return self.all_residuals([share])[0]

    def slopes(self, share):
        """How the residuals change with each dial (R, n), by a small step to the inside. Raises _Enough."""
        steps = np.where(np.asarray(share) < 0.5, SLOPE, -SLOPE)
        here, *moved = self.all_residuals([share, *(share + np.diag(steps))])
        return (np.array(moved) - here).T / steps

    def all_residuals(self, shares):
        """The residuals (n, R) of several dials, whose takes can be made at once. Raises _Enough."""
        shares = [np.array(share, float) for share in shares]
        new = [share for share in shares if share.tobytes() not in self.known][: self.tries - self.count]
        orders = [self.order(share) for share in new]
        for share, order, outcome in zip(new, orders, self.take(orders, keep_going=self.keep_going), strict=False):
            self.known[share.tobytes()] = self._residuals(share, order, outcome)
        if any(share.tobytes() not in self.known for share in shares):
            raise _Enough
        return np.array([self.known[share.tobytes()] for share in shares])

    def around(self, width, power):
        """2 to a power of places (n, d) over the box of such a width around the best place so far, that place or the setup's own first."""
        best = np.array(self.best[3] if self.best else self.start)
        low = np.clip(best - 0.5 * width, 0.0, 1.0 - width)
        return np.array([best, *(low + width * qmc.Sobol(len(best), scramble=False).random_base2(power)[1:])])

    def order(self, share):
        """The take with some dials."""
        setup = self.with_dials(share)
        return batch.Order("", TakeSpec(self.character, setup, self.clip_name), self.clip_name in setup.cycles, self.goals)

    def _residuals(self, share, order, outcome):
        self.count += 1
        if outcome.error:
            self.error = outcome.error
            return np.full(len(self.goals) + len(self.frees), FAILED)
        offs = [off(goal, value) for goal, value in zip(self.goals, outcome.found, strict=True)]
        out = np.concatenate([offs, KEPT * (share - self.start)])
        miss = float(np.square(out).sum())
        if self.best is None or miss < self.best[0]:
            self.best = miss, outcome.found, order.spec.setup, share
        self.told(self.count, self.tries, float(np.sqrt(self.best[0])))
        return out

    def solution(self):
        _, found, setup, _ = self.best
        unmet = [goal for goal, value in zip(self.goals, found, strict=True) if abs(off(goal, value)) > MET]
        return Solution(setup, self.values_in(setup), found, unmet, self.count)
