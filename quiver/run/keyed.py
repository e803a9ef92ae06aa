"""The keyed pose that a run follows: the clip, led in from the rest pose over the pre-roll, after the pose filters."""

import numpy as np

from quiver.rig.pose import blended


class ClipSource:
    """The keyed pose of a clip. ``filters`` (pose filters) are applied in order; frame 0 is where the pre-roll leads to."""

    knows_ahead = True

    def __init__(self, skeleton, clip, frame_rate, preroll, filters=()):
        self.skeleton, self.clip, self.rate, self.preroll, self.filters = skeleton, clip, frame_rate, preroll, tuple(filters)

    def pose(self, frames):
        """The keyed Pose (T, J) at frames that need not be whole; before frame 0, the pre-roll."""
        frames = np.asarray(frames, float)
        inside = np.maximum(frames, 0.0)
        pose = self.clip.sample(self.skeleton, inside / self.rate)
        for each in self.filters:
            each.apply(pose, inside)
        early = frames < 0.0
        if early.any() and self.preroll > 0:
            self._lead_in(pose, frames, early)
        return pose

    def _lead_in(self, pose, frames, early):
        share = np.clip((frames[early] + self.preroll) / self.preroll, 0.0, 1.0)
        share = (share * share * (3.0 - 2.0 * share))[:, None] * np.ones(len(self.skeleton))
        # Where the clip starts is where the character stands: only what hangs on a root comes from the rest pose.
        share[:, self.skeleton.parents < 0] = 1.0
        mixed = blended(self.skeleton.rest.repeated(int(early.sum())), pose[early], share)
        pose.translations[early], pose.rotations[early], pose.scales[early] = mixed.translations, mixed.rotations, mixed.scales


class HandSource:
    """A pose that comes one frame after another: from ``before`` at a frame to ``after`` at the next."""

    knows_ahead = False

    def __init__(self, skeleton, pose):
        self.skeleton, self.before, self.after, self.at = skeleton, pose, pose, 0

    def go_on(self, pose):
        """The next frame leads to a Pose (J,)."""
        self.before, self.after = self.after, pose

    def pose(self, frames):
        """The Pose (T, J) at frames between the last two."""
        share = np.asarray(frames, float) - (self.at - 1)
        count = len(share)
        return blended(self.before.repeated(count), self.after.repeated(count), np.repeat(share[:, None], len(self.skeleton), axis=1))
