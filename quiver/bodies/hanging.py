"""A chain that hangs by its weight: where it comes to rest, and how its bends must be for it to swing at the rate asked for."""

from dataclasses import dataclass

import numpy as np
from scipy import linalg

from quiver.bodies.chain import bend_pulls

TRIES, CLOSE, LEAST_FACTOR, MOST_FACTOR = 16, 2e-3, 1e-4, 1e4
"""Factors that are tried for a rate, how near its square is near enough; the least and greatest, against what would do without weight."""


class Hanging:
    """A chain that sags under its share of the weight from its rest points (n + 1, 3) [m]; its root held, its lengths kept.

    The solver's own bends: each segment is drawn to where the turns before it carry it, by a force along the kernel's directions. What
    follows is seen from turns of the segments about two axes across each, 2 n of them.
    """

    STEP, LONGEST, ROUNDS = 1e-5, 0.3, 30

    def __init__(self, points, body, pulls):
        self.segments, self.body = np.diff(points, axis=0), body
        self.lengths, self.pulls = body.lengths, bend_pulls(self.segments)
        self.weights, self.stiff = pulls * body.masses[:, None], np.repeat(body.bend_shape, 3)

    def _along(self, forces, frames):
        """Forces on the particles (K, n, 3) as forces along the turns (K, 2 n); frames (K, n, 3, 2) are the axes, as ways across."""
        carried = np.cumsum(forces[:, ::-1], axis=1)[:, ::-1] * self.lengths[:, None]
        return np.einsum("kni,knia->kna", carried, frames).reshape(len(forces), -1)

    def _bends(self, ways):
        """The forces (K, n, 3) of bends of a factor of one."""
        return -(_errors_at(self.segments, ways) * self.stiff @ self.pulls).reshape(ways.shape)

    def stiffness(self, ways, frames):
        """(that of bends of a factor of one, that of the weight), each (2 n, 2 n), where the segments look along ``ways`` (n, 3)."""
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
        moved = frames - both[..., None] * share[:, :, None]
        found = []
        for forces in (self._bends(around * self.lengths[:, None]), np.broadcast_to(self.weights, around.shape)):
            along = self._along(forces, moved)
            found.append((along[1::2] - along[0::2]).T / (2.0 * self.STEP))
        return found

    def inertia(self, frames):
        """The inertia (2 n, 2 n) against turns about the axes ``frames`` (n, 3, 2)."""
        n = len(frames)
        below = np.cumsum(self.body.masses[::-1])[::-1]
        shared = below[np.maximum.outer(np.arange(n), np.arange(n))] * np.outer(self.lengths, self.lengths)
        return np.einsum("ij,ixa,jxb->iajb", shared, frames, frames).reshape(2 * n, 2 * n)

    def settled(self, factor, ways):
        """(ways (n, 3), their frames) at which bends of a ``factor`` and the weight balance, beginning near some ways."""
        for _ in range(self.ROUNDS):
            frames = _across(ways)
            bent, heavy = self.stiffness(ways, frames)
            force = self._along(factor * self._bends(ways[None]) + self.weights, frames[None])[0]
            # Steps along what would not come back are turned around.
            rates, turns = np.linalg.eig(factor * bent + heavy)
            rates = np.maximum(np.abs(rates), 1e-6 * np.abs(rates).max())
            turn = np.real(turns @ (np.linalg.solve(turns, force.astype(complex)) / rates))
            turn *= min(1.0, self.LONGEST / max(np.abs(turn).max(), 1e-12))
            ways = ways + np.einsum("nia,na->ni", frames, turn.reshape(-1, 2)) * self.lengths[:, None]
            ways *= (self.lengths / np.linalg.norm(ways, axis=1))[:, None]
            if np.abs(turn).max() < 1e-5:
                break
        return ways, _across(ways)


def _across(ways):
    """Two axes across each of some ways (n, 3), as columns (n, 3, 2)."""
    unit = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    other = np.eye(3)[np.abs(unit).argmin(axis=1)]
    first = np.cross(unit, other)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    return np.stack([first, np.cross(unit, first)], axis=2)


def _errors_at(segments, ways):
    """The bends' errors (K, 3 n) where segments (n, 3) at rest look along ways (K, n, 3)."""
    out, turn = np.empty(ways.shape), np.repeat(np.eye(3)[None], len(ways), axis=0)
    for i, segment in enumerate(segments):
        aim = turn @ segment
        out[:, i] = ways[:, i] - aim
        turn = _turned_onto(aim, ways[:, i]) @ turn
    return out.reshape(len(ways), -1)


def _turned_onto(one, other):
    """The shortest turns (K, 3, 3) from directions (K, 3) onto others of the same length."""
    square = np.einsum("ki,ki->k", one, one)[:, None]
    x, y, z = (np.cross(one, other) / square).T
    cosine = np.einsum("ki,ki->k", one, other) / square[:, 0]
    cross = np.zeros((len(one), 3, 3))
    cross[:, 0, 1], cross[:, 0, 2], cross[:, 1, 2], cross[:, 1, 0], cross[:, 2, 0], cross[:, 2, 1] = -z, y, -x, z, -y, x
    return np.eye(3) + cross + cross @ cross / np.maximum(1.0 + cosine, 1e-6)[:, None, None]


@dataclass(frozen=True)
class Swing:
    """How a chain swings under its weight: the factor of its bends; given [1/s2], what the weight adds to the squared rate of its slowest
    mode; ways (n, 3) of its segments where it hangs [m]; mode (n, 3), how its particles move in that mode; rate [Hz] that is met.
    """

    factor: float
    given: float
    ways: np.ndarray
    mode: np.ndarray
    rate: float


def swing_under_weight(points, body, pulls, wobble_rate):
    """The Swing of a chain with rest points (n + 1, 3) and pulls (n, 3) [m/s2], at ``wobble_rate`` [Hz] where its bends can bring it there.

    Where the weight alone swings it more quickly than that, it hangs by almost no bends.
    """
    hanging, wanted = Hanging(points, body, pulls), (2.0 * np.pi * wobble_rate) ** 2
    plain = wanted / body.lowest

    def at(factor, near):
        ways, frames = hanging.settled(factor, near)
        bent, heavy = hanging.stiffness(ways, frames)
        inertia = hanging.inertia(frames)
        rates, modes = linalg.eig(factor * bent + heavy, inertia)
        # What would fall over is slower than anything.
        k = int(np.argmin(np.real(rates)))
        turns = np.real(modes[:, k])
        given = float(turns @ heavy @ turns / (turns @ inertia @ turns))
        mode = np.cumsum(np.einsum("nia,na->ni", frames, turns.reshape(-1, 2)) * hanging.lengths[:, None], axis=0)
        return Swing(factor, given, ways, mode, float(np.sqrt(max(np.real(rates[k]), 0.0)) / (2.0 * np.pi)))

    found = at(plain, hanging.segments)
    low, high = LEAST_FACTOR * plain, MOST_FACTOR * plain
    for _ in range(TRIES):
        squared = (2.0 * np.pi * found.rate) ** 2
        if abs(squared / wanted - 1.0) < CLOSE or (squared > wanted and found.factor <= low * 1.01):
            break
        low, high = (found.factor, high) if squared < wanted else (low, found.factor)
        # The squared rate is nearly a line over the factor, with what the weight gives as its foot.
        ahead = found.factor * (wanted - found.given) / max(squared - found.given, 1e-9)
        if not low < ahead < high:
            ahead = max(np.sqrt(low * high), low) if squared < wanted or low > LEAST_FACTOR * plain * 1.01 else low
        found = at(ahead, found.ways)
    return found
