"""Clips: keyed motion, and what it is at any time."""

from dataclasses import dataclass

import numpy as np

from quiver.rig import transforms

PATHS = ("translation", "rotation", "scale")


@dataclass(frozen=True)
class Channel:
    """Keys of one property of one node.

    times   float64 (K,) [s], ascending
    values  float64 (K, 3 or 4); for CUBICSPLINE (K, 3, 3 or 4): in-tangent, value, out-tangent
    """

    node: int
    path: str
    interpolation: str
    times: np.ndarray
    values: np.ndarray

    def sample(self, times):
        """Values (T, 3 or 4) at times (T,) [s]; held before the first and after the last key."""
        last = len(self.times) - 1
        before = np.clip(np.searchsorted(self.times, times, side="right") - 1, 0, last)
        after = np.minimum(before + 1, last)
        span = self.times[after] - self.times[before]
        share = np.clip((times - self.times[before]) / np.where(span > 0.0, span, 1.0), 0.0, 1.0)
        if self.interpolation == "CUBICSPLINE":
            values = self._hermite(before, after, span, share)
            return transforms.normalised(values) if self.path == "rotation" else values
        if self.interpolation == "STEP":
            return self.values[before]
        if self.path == "rotation":
            return transforms.slerp(self.values[before], self.values[after], share)
        return self.values[before] + share[:, None] * (self.values[after] - self.values[before])

    def _hermite(self, before, after, span, share):
        # glTF 2.0, appendix C: tangents are scaled by the time between the two keys.
        s, d = share[:, None], span[:, None]
        a, out = self.values[before, 1], self.values[before, 2] * d
        b, into = self.values[after, 1], self.values[after, 0] * d
        s2, s3 = s * s, s * s * s
        return (2 * s3 - 3 * s2 + 1) * a + (s3 - 2 * s2 + s) * out + (3 * s2 - 2 * s3) * b + (s3 - s2) * into


def frames_in(seconds, frame_rate):
    """Frames from the start to the end of so many seconds at a rate [1/s], both counted; at least one."""
    return int(np.floor(seconds * frame_rate + 1e-4)) + 1


@dataclass(frozen=True)
class Clip:
    """A named set of channels; ``start`` and ``end`` in seconds; ``sources`` are the file's animations it was read from.

    ``is_made`` where the file does not have it, as a try-out motion.
    """

    name: str
    channels: tuple
    start: float
    end: float
    sources: tuple = ()
    is_made: bool = False

    @property
    def seconds(self):
        return self.end - self.start

    @property
    def key_count(self):
        return sum(len(channel.times) for channel in self.channels)

    def frame_count(self, frame_rate):
        """Frames from the first to the last key at a rate [1/s], both counted; at least one."""
        return frames_in(self.seconds, frame_rate)

    def keyed_nodes(self, path):
        """The nodes that have keys of a path, rising."""
        return sorted({channel.node for channel in self.channels if channel.path == path})

    @property
    def uncarried(self):
        """The clip without what carries the character."""
        return self

    def uncarry(self, seconds, moves):
        """World-space moves (T, R, 3) at times (T,) [s] as they are without what carries the character."""
        return moves

    def sample(self, skeleton, seconds):
        """The pose of shape (T, J) at times (T,) [s] after the clip's start; before it, as there. Nodes without keys keep the rest pose."""
        times = np.maximum(np.asarray(seconds, float), 0.0) + self.start
        pose = skeleton.rest.repeated(len(times))
        targets = dict(zip(PATHS, (pose.translations, pose.rotations, pose.scales), strict=True))
        for channel in self.channels:
            targets[channel.path][:, channel.node] = channel.sample(times)
        return pose
