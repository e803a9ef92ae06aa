"""Clips that no file has: try-out motions, and a clip on a carrier."""

from dataclasses import dataclass, fields

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.clip import Channel, Clip
from quiver.rig.motions import TRY_OUT, TRY_OUTS, Course, course_of
from quiver.rig.skinning import rest_box

KEY_RATE, KEYS = 120.0, 240.0
"""Keys of a try-out motion in a second, and in a go of what is quicker."""


def try_outs():
    """{name, as a clip's: Motion} of all try-out motions."""
    return {TRY_OUT + motion.name: motion for motion in TRY_OUTS}


def try_out(character, metres_per_unit, name, size=1.0, tempo=1.0):
    """A try-out motion of a character as a Clip of its roots; size and tempo are 1 as usual. Raises BadInput."""
    motion, skeleton = try_outs().get(name), character.skeleton
    if motion is None:
        raise BadInput(f"expected one of the try-out motions {', '.join(try_outs())}, got “{name}”")
    course = course_of(motion, rest_box(character), metres_per_unit, size, tempo)
    times = np.append(np.arange(0.0, course.seconds, min(1.0 / KEY_RATE, course.go / KEYS)), course.seconds)
    pose, channels = skeleton.rest.repeated(len(times)), []
    course.move(skeleton, pose, times)
    for root in np.flatnonzero(skeleton.parents < 0):
        channels.append(Channel(int(root), "translation", "LINEAR", times, pose.translations[:, root]))
        channels.append(Channel(int(root), "rotation", "LINEAR", times, pose.rotations[:, root]))
    return Clip(name, tuple(channels), 0.0, course.seconds, is_made=True)


@dataclass(frozen=True)
class CarriedClip(Clip):
    """A clip of a character that rides on a carrier: its roots go where that takes them, before the clip begins too."""

    course: Course | None = None
    roots: tuple = ()

    @classmethod
    def of(cls, clip, skeleton, course):
        own = {each.name: getattr(clip, each.name) for each in fields(Clip)}
        return cls(**own, course=course, roots=tuple(np.flatnonzero(skeleton.parents < 0).tolist()))

    @property
    def uncarried(self):
        """As `Clip.uncarried`."""
        return Clip(**{each.name: getattr(self, each.name) for each in fields(Clip)})

    def uncarry(self, seconds, moves):
        """As `Clip.uncarry`: the carrier's turns are taken back."""
        rotations, _ = self.course.placements(seconds)
        return transforms.rotate(transforms.inverse(rotations)[:, None], moves).astype(moves.dtype)

    def keyed_nodes(self, path):
        """As `Clip.keyed_nodes`."""
        return sorted({*super().keyed_nodes(path), *(self.roots if path != "scale" else ())})

    def sample(self, skeleton, seconds):
        """As `Clip.sample`, on the carrier."""
        pose = super().sample(skeleton, seconds)
        self.course.move(skeleton, pose, seconds)
        return pose
