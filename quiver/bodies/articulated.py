"""Segments that swing on each other at their lengths, as kernels/bends.py lets them: how all of it moves as each of them swings."""

import numpy as np


class Articulated:
    """The n segments of a Tree at rest, as vectors (n, 3) [m], and from where each rider's carrier begins to where it does: offsets (n, 3).

    What swings is seen from two axes across each segment, 2 n of them; ``ways`` (n, 3) is where the segments look, as long as they are.
    """

    def __init__(self, segments, offsets, tree):
        self.segments, self.offsets, self.tree = segments, offsets, tree
        self.lengths = np.linalg.norm(segments, axis=1)

    def aims(self, ways):
        """Where the turns of ways (K, n, 3) carry each segment from the one before, and each rider's offset: two (K, n, 3)."""
        aims, offsets = np.empty(ways.shape), np.zeros(ways.shape)
        turns = np.empty((*ways.shape, 3))
        for i, (segment, before) in enumerate(zip(self.segments, self.tree.before, strict=True)):
            turn = turns[:, before] if before >= 0 else np.repeat(np.eye(3)[None], len(ways), axis=0)
            aims[:, i], offsets[:, i] = turn @ segment, turn @ self.offsets[i]
            turns[:, i] = _turned_onto(aims[:, i], ways[:, i]) @ turn
        return aims, offsets

    def places(self, ways):
        """Where the segments' ends are (n, 3) [m], from the root."""
        begins, ends = np.zeros(ways.shape), np.zeros(ways.shape)
        _, offsets = self.aims(ways[None])
        for i, before in enumerate(self.tree.before):
            if before >= 0:
                begins[i] = begins[before] + offsets[0, i] if self.tree.is_rider[i] else ends[before]
            ends[i] = begins[i] + ways[i]
        return ends

    def moved(self, ways, frames):
        """(how the segments' ends move, how their vectors do against their aims): (3 n, 2 n) each, as they swing from ways (n, 3)."""
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
            errors[i] = swing - np.cross(turn, aims[i], axisa=0, axisc=0)
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
