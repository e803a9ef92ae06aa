"""The keyed pose that a run follows: the clip, led in from the rest pose over the pre-roll, after the pose filters."""

import numpy as np

from quiver.rig.made_clips import CarriedClip, try_out
from quiver.rig.motions import CARRIERS, TRY_OUT, course_of
from quiver.rig.pose import blended
from quiver.rig.skinning import rest_box


def keyed_clip(character, setup, name):
    """The clip of a character by its name, or a try-out motion, or the rest pose where there is none, on what carries it by the setup.

    Raises BadInput.
    """
    metres = setup.metres_per_unit
    if name.startswith(TRY_OUT) and all(clip.name != name for clip in character.clips):
        clip = try_out(character, metres, name, setup.tryout_size / 100.0, setup.tryout_tempo / 100.0)
    else:
        clip = character.clip_or_still(name)
    motion = next((each for each in CARRIERS if each.name == setup.carrier), None)
    if motion is None:
        return clip
    course = course_of(motion, rest_box(character), metres, setup.carrier_size / 100.0, setup.carrier_tempo / 100.0)
    return CarriedClip.of(clip, character.skeleton, course)


def try_out_seconds(motion, height, setup):
    """How long a try-out motion lasts with a setup for what is so high [file units]."""
    box = np.array([[0.0, 0.0, 0.0], [0.0, height, 0.0]])
    return course_of(motion, box, setup.metres_per_unit, 1.0, setup.tryout_tempo / 100.0).seconds


class ClipSource:
    """The keyed pose of a clip. ``filters`` (pose filters) are applied in order; frame 0 is where the pre-roll leads to."""

    knows_ahead = True

    def __init__(self, skeleton, clip, frame_rate, preroll, filters=()):
        self.skeleton, self.clip, self.rate, self.preroll, self.filters = skeleton, clip, frame_rate, preroll, tuple(filters)

    def pose(self, frames):
        """The keyed Pose (T, J) at frames that need not be whole; before frame 0, the pre-roll."""
        frames = np.asarray(frames, float)
        inside = np.maximum(frames, 0.0)
        pose = self.clip.sample(self.skeleton, frames / self.rate)
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
