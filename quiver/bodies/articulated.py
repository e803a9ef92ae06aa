"""Segments that swing on each other at their lengths, as kernels/bends.py lets them: how all of it moves as each of them swings."""

import numpy as np
from scipy import linalg

from quiver.kernels.chain_rows import ALONG_AXIS


class Articulated:
    """The n segments of a Tree at rest, as vectors (n, 3) [m], and from where each rider's carrier begins to where it does: offsets (n, 3).

    What swings is seen from two axes across each segment, 2 n of them; ``ways`` (n, 3) is where the segments look, as long as they are.
    axes (n, 2, 3) are those that kernels/chains.py knows, None where all may swing every way; is_free (n,) which ends are not held.
    """

    def __init__(self, segments, offsets, tree, axes=None, is_free=None):
        self.segments, self.offsets, self.tree, self.axes = segments, offsets, tree, axes
        self.is_free = np.ones(len(segments), bool) if is_free is None else is_free
        self.lengths = np.linalg.norm(segments, axis=1)

    def aims(self, ways):
        """Where the turns of ways (K, n, 3) carry each segment from the one before, and each rider's offset: two (K, n, 3)."""
        aims, offsets, _ = self._turned(ways)
        return aims, offsets

    def _turned(self, ways):
        """`aims`, and the turn before each segment (K, n, 3, 3)."""
        aims, offsets = np.empty(ways.shape), np.zeros(ways.shape)
        turns, befores = np.empty((*ways.shape, 3)), np.empty((*ways.shape, 3))
        for i, (segment, before) in enumerate(zip(self.segments, self.tree.before, strict=True)):
            turn = befores[:, i] = turns[:, before] if before >= 0 else np.repeat(np.eye(3)[None], len(ways), axis=0)
            aims[:, i], offsets[:, i] = turn @ segment, turn @ self.offsets[i]
            turns[:, i] = _turned_onto(aims[:, i], ways[:, i]) @ turn
        return aims, offsets, befores

    def across(self, ways):
        """The two axes across each of some ways (n, 3), as columns (n, 3, 2), and what of the 2 n may swing, as columns (2 n, m)."""
        frames = across(ways)
        if self.axes is None and self.is_free.all():
            return frames, np.eye(2 * len(ways))
        ends, against = self.moved(ways, frames, ways)
        never = [ends[np.repeat(~self.is_free, 3)]]
        if self.axes is not None:
            aims, _, befores = (each[0] for each in self._turned(ways[None]))
            blocked, is_along = self._blocked(aims / self.lengths[:, None], np.einsum("nij,nkj->nki", befores, self.axes))
            # Against where the one before carries it: nothing along a hinge, nothing the one way across elsewhere.
            against = against.reshape(len(ways), 3, -1)
            never.append(np.einsum("ni,nim->nm", blocked, against))
            never.append(against[is_along].reshape(-1, 2 * len(ways)))
        never = np.concatenate(never)
        return frames, linalg.null_space(never)

    @staticmethod
    def _blocked(aims, axes):
        """(the way in which what has aims (..., 3), units, must not swing, zeros where it may; whether it must not at all)."""
        blocked = np.cross(axes[..., 0, :], aims) + axes[..., 1, :] - aims * np.sum(axes[..., 1, :] * aims, axis=-1, keepdims=True)
        square = np.sum(blocked * blocked, axis=-1, keepdims=True)
        blocked = np.where(square < ALONG_AXIS, 0.0, blocked / np.sqrt(np.maximum(square, ALONG_AXIS)))
        return blocked, (square[..., 0] < ALONG_AXIS) & axes[..., 1, :].any(axis=-1)

    def within_axes(self, ways):
        """Some ways (n, 3) without what must not swing, one after the other from the root."""
        if self.axes is None:
            return ways
        ways, turns = ways.copy(), np.empty((*ways.shape, 3))
        for i, before in enumerate(self.tree.before):
            turn = turns[before] if before >= 0 else np.eye(3)
            aim = turn @ self.segments[i]
            blocked, is_along = self._blocked(aim / self.lengths[i], self.axes[i] @ turn.T)
            way = aim if is_along else ways[i] - blocked * (blocked @ ways[i])
            ways[i] = way * self.lengths[i] / np.linalg.norm(way)
            turns[i] = _turned_onto(aim[None], ways[i][None])[0] @ turn
        return ways

    def places(self, ways):
        """Where the segments' ends are (n, 3) [m], from the root."""
        begins, ends = np.zeros(ways.shape), np.zeros(ways.shape)
        _, offsets = self.aims(ways[None])
        for i, before in enumerate(self.tree.before):
            if before >= 0:
                begins[i] = begins[before] + offsets[0, i] if self.tree.is_rider[i] else ends[before]
            ends[i] = begins[i] + ways[i]
        return ends

    def moved(self, ways, frames, carried=None):
        """(how the segments' ends move, how their vectors do against their aims): (3 n, 2 n) each, as they swing from ways (n, 3).

        carried (n, 3) are other vectors that the turn before each segment carries, if not the aims.
        """
        n = len(ways)
        aims, offsets = (each[0] for each in self.aims(ways[None]))
        ends, begins, turns, errors = (np.zeros((n, 3, 2 * n)) for _ in range(4))
        unit, twists = ways / self.lengths[:, None], _twists(aims, ways)
        for i, before in enumerate(self.tree.before):
            swing = np.zeros((3, 2 * n))
            swing[:, 2 * i : 2 * i + 2] = frames[i]
            turn = turns[before] if before >= 0 else np.zeros((3, 2 * n))
            if self.tree.is_rider[i]:
                begins[i] = begins[before] + np.cross(turn, offsets[i], axisa=0, axisc=0)
            elif i:
                begins[i] = ends[i - 1]
            ends[i] = begins[i] + swing
            errors[i] = swing - np.cross(turn, (aims if carried is None else carried)[i], axisa=0, axisc=0)
            kept = (unit[i] + np.cross(unit[i], twists[i])) @ turn
            turns[i] = (np.cross(unit[i], swing, axisb=0, axisc=0) - np.outer(unit[i], twists[i] @ swing)) / self.lengths[i]
            turns[i] += np.outer(unit[i], kept)
        return ends.reshape(3 * n, -1), errors.reshape(3 * n, -1)

    def pulled(self, ways, frames, stiff, forces):
        """What pulls along the axes (K, 2 n), of bends as ``stiff`` (n,) and forces (n, 3) on ends, at ways (K, n, 3).

        The derivative of the energy, gone through from the tips to the root; frames (K, n, 3, 2) are the axes.
        """
        aims, offsets = self.aims(ways)
        unit, twists = ways / self.lengths[:, None], _twists(aims, ways)
        along, bends = np.empty((*ways.shape[:2], 2)), stiff[:, None] * (aims - ways)
        torques, riding, ends = np.zeros(ways.shape), np.zeros(ways.shape), np.repeat(np.array(forces, float)[None], len(ways), axis=0)
        for i in range(len(stiff) - 1, -1, -1):
            swung = np.cross(torques[:, i], unit[:, i]) - twists[:, i] * np.sum(torques[:, i] * unit[:, i], axis=1)[:, None]
            along[:, i] = np.einsum("kj,kja->ka", bends[:, i] + ends[:, i] + swung / self.lengths[i], frames[:, i])
            before, begin = self.tree.before[i], ends[:, i] + riding[:, i]
            if before >= 0:
                torques[:, before] += torques[:, i] - np.cross(unit[:, i], swung) - np.cross(aims[:, i], bends[:, i])
            if self.tree.is_rider[i]:
                riding[:, before] += begin
                torques[:, before] += np.cross(offsets[:, i], begin)
            elif i:
                ends[:, before] += begin
        return along.reshape(len(ways), -1)


def across(ways):
    """Two axes across each of some ways (n, 3), as columns (n, 3, 2)."""
    unit = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    other = np.eye(3)[np.abs(unit).argmin(axis=1)]
    first = np.cross(unit, other)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    return np.stack([first, np.cross(unit, first)], axis=2)


def _twists(aims, ways):
    """By how much the shortest turn from an aim onto a way, both (..., 3), twists against each as the way swings."""
    square = np.sum(ways * ways, axis=-1, keepdims=True)
    return np.cross(aims, ways) / np.maximum(square + np.sum(aims * ways, axis=-1, keepdims=True), 1e-4 * square)


def _turned_onto(one, other):
    """The shortest turns (K, 3, 3) from directions (K, 3) onto others of the same length."""
    square = np.einsum("ki,ki->k", one, one)[:, None]
    x, y, z = (np.cross(one, other) / square).T
    cosine = np.einsum("ki,ki->k", one, other) / square[:, 0]
    cross = np.zeros((len(one), 3, 3))
    cross[:, 0, 1], cross[:, 0, 2], cross[:, 1, 2], cross[:, 1, 0], cross[:, 2, 0], cross[:, 2, 1] = -z, y, -x, z, -y, x
    return np.eye(3) + cross + cross @ cross / np.maximum(1.0 + cosine, 1e-6)[:, None, None]
