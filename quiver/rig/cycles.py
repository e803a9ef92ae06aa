"""Clips that are cycles: found by their first and last pose, and run around and around."""

from dataclasses import dataclass, fields

import numpy as np

from quiver.rig import transforms
from quiver.rig.clip import Clip
from quiver.rig.motions import eased

TURNED, MOVED, RAISED = np.radians(1.0), 2e-3, 1e-2
"""The first and the last pose of a cycle differ by less: turns of joints [rad], places below the roots and the height of these, as shares
of the character's height."""
CLOSED_IN = 0.25
"""In the last part of a cycle, what its two poses differ by is taken away."""


def differences(clip, skeleton):
    """From a clip's first to its last pose, in the space of each parent: turns (J, 4), shifts (J, 3) and scales (J, 3)."""
    pose = clip.sample(skeleton, np.array([0.0, clip.seconds]))
    turns = transforms.multiply(pose.rotations[1], transforms.inverse(pose.rotations[0]))
    return turns, pose.translations[1] - pose.translations[0], pose.scales[1] - pose.scales[0]


def is_cycle(clip, skeleton, height):
    """Whether a clip ends as it begins, but for how far its roots went along the ground; ``height`` of the character [file units]."""
    if clip.seconds <= 0.0 or not clip.channels:
        return False
    turns, shifts, scales = differences(clip, skeleton)
    angles = 2.0 * np.arccos(np.minimum(np.abs(turns[:, 3]), 1.0))
    below = skeleton.parents >= 0
    places = np.linalg.norm(shifts[below], axis=1).max(initial=0.0) < MOVED * height
    return bool(angles.max() < TURNED and places and np.abs(shifts[~below, 1]).max() < RAISED * height and np.abs(scales).max() < MOVED)


@dataclass(frozen=True)
class CycledClip(Clip):
    """A clip that runs around so many ``times``; its roots go on along the ground from where they came to."""

    times: int = 1

    @classmethod
    def of(cls, clip, times):
        return cls(**{each.name: getattr(clip, each.name) for each in fields(Clip)}, times=times)

    @property
    def seconds(self):
        return self.times * self._once.seconds

    @property
    def _once(self):
        return Clip(**{each.name: getattr(self, each.name) for each in fields(Clip)})

    def sample(self, skeleton, seconds):
        """As `Clip.sample`, around and around; where the last pose is not the first, it is led there."""
        once, seconds = self._once, np.maximum(np.asarray(seconds, float), 0.0)
        around = np.minimum(np.floor(seconds / once.seconds + 1e-9), self.times - 1)
        within = seconds - around * once.seconds
        pose, (turns, shifts, scales) = once.sample(skeleton, within), differences(once, skeleton)
        roots = skeleton.parents < 0
        went = np.where(roots[:, None] & np.array([True, False, True]), shifts, 0.0)
        share = eased(1.0 - (1.0 - within / once.seconds) / CLOSED_IN)
        back = np.broadcast_to(transforms.inverse(turns), pose.rotations.shape)
        start = np.broadcast_to(transforms.IDENTITY, back.shape)
        closing = transforms.slerp(start, back, np.repeat(share[:, None], len(skeleton), axis=1))
        pose.rotations[:] = transforms.multiply(closing, pose.rotations)
        pose.translations[:] += around[:, None, None] * went - share[:, None, None] * (shifts - went)
        pose.scales[:] -= share[:, None, None] * scales
        return pose
