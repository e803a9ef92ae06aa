"""A chain that hangs by its weight: where it comes to rest, and how its bends must be for it to swing at the rate asked for."""

from dataclasses import dataclass

import numpy as np
from scipy import linalg

from quiver.bodies.chain import SETTLED, matched

TRIES, CLOSE, LEAST_FACTOR, MOST_FACTOR = 16, 2e-3, 1e-4, 1e4
"""Factors that are tried for a rate, how near is near enough; the least and greatest, against what would do without weight."""


class Hanging:
    """A chain or tree that sags under its share of the weight, pulls (n, 3) [m/s2]; its root held, its lengths kept."""

    STEP, LONGEST, ROUNDS = 1e-5, 0.3, 30

    def __init__(self, body, pulls):
        self.swinging, self.body, self.weights = body.swinging, body, pulls * body.masses[:, None]
        self.lengths = body.lengths

    def pulled(self, factor, ways, frames):
        """What bends of a ``factor`` and the weight pull along frames (K, n, 3, 2) at ways (K, n, 3): (K, 2 n)."""
        return self.swinging.pulled(ways, frames, factor * self.body.bend_shape, self.weights)

    def stiffness(self, factor, ways, frames):
        """That of bends of a ``factor`` and of the weight (2 n, 2 n), where the segments look along ``ways`` (n, 3)."""
        n, unit = len(ways), ways / self.lengths[:, None]
        around = np.repeat(unit[None], 4 * n, axis=0)
        columns = np.arange(2 * n)
        asides = self.STEP * frames[columns // 2, :, columns % 2]
        around[0::2][columns, columns // 2] += asides
        around[1::2][columns, columns // 2] -= asides
        around /= np.linalg.norm(around, axis=2, keepdims=True)
        # The axes go along with the segments.
        both = unit + around
        share = np.einsum("kni,nia->kna", both, frames) / (1.0 + np.einsum("ni,kni->kn", unit, around))[..., None]
        along = self.pulled(factor, around * self.lengths[:, None], frames - both[..., None] * share[:, :, None])
        # By how much the end moves that one radian swings.
        found = (along[1::2] - along[0::2]).T / (2.0 * self.STEP * np.repeat(self.lengths, 2))
        return 0.5 * (found + found.T)

    def inertia(self, ends):
        """The inertia (m, m) of ends that move so (3 n, m)."""
        return ends.T @ (np.repeat(self.body.masses, 3)[:, None] * ends)

    def seen(self, factor, ways):
        """How it swings from ways (n, 3) with bends of a ``factor``: (frames, what may swing (2 n, m), stiffness and inertia (m, m))."""
        frames, kept = self.swinging.across(ways)
        stiffness = kept.T @ self.stiffness(factor, ways, frames) @ kept
        return frames, kept, stiffness, self.inertia(self.swinging.moved(ways, frames)[0] @ kept)

    def curved(self, factor, ways):
        """The stiffness (m, m) of what may swing from ways (n, 3) as axes say, a curved room in which what it sags pulls too."""
        frames, kept = self.swinging.across(ways)
        swings, step = np.einsum("nia,nam->mni", frames, kept.reshape(len(ways), 2, -1)), self.STEP * self.lengths.max()
        found = np.empty((len(swings), len(swings)))
        for column, swing in enumerate(swings):
            pulls = []
            for side in (step, -step):
                around = ways + side * swing
                around = self.swinging.within_axes(around * (self.lengths / np.linalg.norm(around, axis=1))[:, None])
                frames, kept = self.swinging.across(around)
                force = self.pulled(factor, around[None], frames[None])[0]
                pulls.append(np.einsum("mni,nia,na->m", swings, frames, (kept @ (kept.T @ force)).reshape(-1, 2)))
            found[:, column] = (pulls[1] - pulls[0]) / (2.0 * step)
        return 0.5 * (found + found.T)

    def settled(self, factor, ways):
        """The ways (n, 3) at which bends of a ``factor`` and the weight balance, beginning near some."""
        for _ in range(self.ROUNDS):
            frames, kept, stiffness, inertia = self.seen(factor, ways)
            force = self.pulled(factor, ways[None], frames[None])[0] @ kept
            # Steps along what would not come back are turned around.
            squares, swings = linalg.eigh(stiffness, inertia)
            squares = np.maximum(np.abs(squares), 1e-6 * np.abs(squares).max())
            swing = kept @ (swings @ ((swings.T @ force) / squares)) / np.repeat(self.lengths, 2)
            swing *= min(1.0, self.LONGEST / max(np.abs(swing).max(), 1e-12))
            ways = ways + np.einsum("nia,na->ni", frames, swing.reshape(-1, 2)) * self.lengths[:, None]
            ways = self.swinging.within_axes(ways * (self.lengths / np.linalg.norm(ways, axis=1))[:, None])
            if np.abs(swing).max() < 1e-5:
                break
        return ways


@dataclass(frozen=True)
class Swing:
    """How a chain swings under its weight: the factor of its bends; given [1/s2], what the squared rate of its slowest mode has besides
    what the solver's own step knows of its bends, above all by the weight; sags (n, 3), how far its particles hang from rest [m]; mode
    (n, 3), how they move in that mode; rate [Hz] that is met.
    """

    factor: float
    given: float
    sags: np.ndarray
    mode: np.ndarray
    rate: float


def swing_under_weight(body, pulls, wobble_rate, settle_time, dt):
    """The Swing of a ChainBody with pulls (n, 3) [m/s2], at ``wobble_rate`` [Hz] where its bends can bring it there, in substeps of ``dt``.

    Where the weight alone swings it more quickly than that, it hangs by almost no bends.
    """
    hanging = Hanging(body, pulls)
    plain, _ = matched(wobble_rate, settle_time, dt)
    factor = plain / body.lowest
    low, high, ways = LEAST_FACTOR * factor, MOST_FACTOR * factor, hanging.swinging.segments
    for _ in range(TRIES):
        ways = hanging.settled(factor, ways)
        frames, kept, stiffness, inertia = hanging.seen(factor, ways)
        if body.swinging.axes is not None:
            stiffness = hanging.curved(factor, ways)
        # What would fall over is slower than anything.
        squares, modes = linalg.eigh(stiffness, inertia, subset_by_index=[0, 0])
        mode, own = (each @ kept @ modes[:, 0] for each in hanging.swinging.moved(ways, frames))
        known = max(factor * float(np.repeat(body.bend_shape, 3) @ (own * own)), 1e-30)
        given = float(squares[0]) - known
        wanted, _ = matched(wobble_rate, settle_time, dt, given)
        is_least = known > wanted and factor <= 1.01 * LEAST_FACTOR * plain / body.lowest
        if abs(known / wanted - 1.0) < CLOSE or is_least:
            break
        low, high = (factor, high) if known < wanted else (low, factor)
        ahead = factor * wanted / known
        if not low < ahead < high:
            ahead = np.sqrt(low * high)
        factor = float(ahead)
    sags = hanging.swinging.places(ways) - hanging.swinging.places(hanging.swinging.segments)
    decay = SETTLED / settle_time
    rate = float(np.sqrt(max(squares[0] - decay * decay, 0.0)) / (2.0 * np.pi)) if is_least else wobble_rate
    return Swing(factor, given, sags, mode.reshape(-1, 3), rate)
