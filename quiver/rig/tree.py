"""Chains of joints that grow on each other: which segment follows which."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from quiver.kernels.chain_rows import CARRIER, CARRIES, DENSE, RIDE


@dataclass(frozen=True)
class Tree:
    """A trunk and the branches on it, and on those; a chain alone is a trunk without any.

    counts    how many segments each has, the trunk first, each branch after what it grows on
    grows_on  for each, the number of the one that it grows on and the segment that carries it there; (-1, -1) for the trunk

    Its segments are counted through all of them, one after another.
    """

    counts: tuple
    grows_on: tuple = ((-1, -1),)

    @cached_property
    def firsts(self):
        """The first segment of each."""
        return tuple(int(first) for first in np.cumsum([0, *self.counts[:-1]]))

    @property
    def segments(self):
        """How many there are in all."""
        return sum(self.counts)

    @property
    def longest(self):
        """How many segments the longest of them has."""
        return max(self.counts)

    @property
    def branches(self):
        """How many chains there are, the trunk among them."""
        return len(self.counts)

    def __iter__(self):
        """(first segment, how many) of each."""
        return zip(self.firsts, self.counts, strict=True)

    @cached_property
    def forks(self):
        """As kernels/chain_rows.py says, int32 (segments, 4)."""
        found = np.zeros((self.segments, 4), np.int32)
        found[:, [CARRIER, RIDE]] = -1
        for ride, (branch, (trunk, segment)) in enumerate(zip(self.firsts[1:], self.grows_on[1:], strict=True)):
            carrier = self.firsts[trunk] + segment
            found[branch, CARRIER], found[branch, RIDE], found[carrier, CARRIES] = carrier, ride, 1
        for first, count in self:
            own = found[first : first + count]
            own[:, DENSE] = np.maximum.accumulate(own[::-1, CARRIES])[::-1]
        return found

    @cached_property
    def before(self):
        """For each segment the one whose turn it follows, -1 for the first."""
        return np.where(self.forks[:, CARRIER] >= 0, self.forks[:, CARRIER], np.arange(-1, self.segments - 1))

    @property
    def is_rider(self):
        """Which segments are the first of a branch: bool (segments,)."""
        return self.forks[:, CARRIER] >= 0

    def merged(self, values):
        """Values (..., trees x branches, longest, k) of chains as those of the trees' segments, (..., trees, segments, k)."""
        if self.branches == 1:
            return values
        lead, own, trees = values.shape[:-3], values.shape[-1], values.shape[-3] // self.branches
        values = values.reshape(*lead, trees, self.branches, *values.shape[-2:])
        found = np.empty((*lead, trees, self.segments, own), values.dtype)
        for branch, (first, count) in enumerate(self):
            found[..., first : first + count, :] = values[..., branch, :count, :]
        return found

    def apart(self, values):
        """The same the other way round; what a branch does not have is zero."""
        if self.branches == 1:
            return values
        lead, own = values.shape[:-2], values.shape[-1]
        found = np.zeros((*lead, self.branches, self.longest, own), values.dtype)
        for branch, (first, count) in enumerate(self):
            found[..., branch, :count, :] = values[..., first : first + count, :]
        return found.reshape(*lead[:-1], lead[-1] * self.branches, self.longest, own)

    def riders_from(self, points):
        """From where carriers begin to where riders do: (..., trees, riders, 3) of points (..., trees x branches, longest + 1, 3)."""
        points = points.reshape(*points.shape[:-3], points.shape[-3] // self.branches, self.branches, *points.shape[-2:])
        numbers = np.arange(1, self.branches)
        trunks, segments = np.array(self.grows_on[1:], int).reshape(-1, 2).T
        return points[..., numbers, 0, :] - points[..., trunks, segments, :]
