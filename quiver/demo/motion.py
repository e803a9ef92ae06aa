"""Keyed motion by formula: turns, shifts, and feet that stay where they stand."""

import itertools

import numpy as np

from quiver.bake.joints import Track
from quiver.rig import transforms
from quiver.rig.pose import world_matrices

FRAME_RATE = 24
X, Y, Z = np.eye(3)


class Motion:
    """Turns and shifts of joints over the frames of one clip; angles in degrees, lengths in metres."""

    def __init__(self, builder, frames):
        self.builder, self.frames = builder, frames
        self.seconds = np.arange(frames) / FRAME_RATE
        self.pose = builder.skeleton.rest.repeated(frames)
        self.keyed = set()

    def turn(self, joint, pitch=0.0, yaw=0.0, roll=0.0):
        """Turn a joint: positive pitch lowers the nose, yaw turns to the left, roll tips over to the right."""
        node = self.builder.index(joint)
        turn = self.pose.rotations[:, node]
        for axis, angle in ((Y, yaw), (X, pitch), (Z, roll)):
            turn = transforms.multiply(turn, transforms.from_axis_angle(axis, np.radians(angle) + np.zeros(self.frames)))
        self.pose.rotations[:, node] = turn
        self.keyed.add((node, "rotation"))

    def shift(self, joint, x=0.0, y=0.0, z=0.0):
        node = self.builder.index(joint)
        for axis, value in enumerate((x, y, z)):
            self.pose.translations[:, node, axis] += value
        self.keyed.add((node, "translation"))

    def plant(self, leg, offset, pitch=0.0):
        """Bend a leg, so that its foot is ``offset`` (T, 3) away from where it stands at rest; ``pitch`` tips the foot.

        ``leg`` is a name with {} for upper, lower and foot.
        """
        upper, lower, foot = (self.builder.index(leg.format(part)) for part in ("upper", "lower", "foot"))
        hip, knee, ankle = (self.builder.positions[node] for node in (upper, lower, foot))
        world = world_matrices(self.builder.skeleton, self.pose)
        parent = world[:, self.builder.skeleton.parents[upper]]
        origin = world[:, upper, :, 3]
        target = np.einsum("tji,tj->ti", parent[:, :, :3], ankle + offset - origin)
        thigh, shin = np.linalg.norm(knee - hip), np.linalg.norm(ankle - knee)
        reach = np.clip(np.linalg.norm(target, axis=1), abs(thigh - shin) + 0.01, thigh + shin - 0.002)

        def inner(length):
            return np.arccos(np.clip((thigh**2 + shin**2 - length**2) / (2 * thigh * shin), -1, 1))

        forwards = -1.0 if "fore" in leg else 1.0
        bend = forwards * (inner(reach) - inner(np.linalg.norm(ankle - hip)))
        knee_turn = transforms.from_axis_angle(X, -bend)
        bent = (knee - hip) + transforms.rotate(knee_turn, np.tile(ankle - knee, (self.frames, 1)))
        hip_turn = transforms.shortest_turn(bent, target)
        body = transforms.from_matrices(parent[:, :, :3])
        level = transforms.inverse(transforms.multiply(body, transforms.multiply(hip_turn, knee_turn)))
        tip = transforms.from_axis_angle(X, np.radians(pitch) + np.zeros(self.frames))
        for node, turn in ((upper, hip_turn), (lower, knee_turn), (foot, transforms.multiply(level, tip))):
            self.pose.rotations[:, node] = turn
            self.keyed.add((node, "rotation"))

    def tracks(self):
        arrays = {"rotation": self.pose.rotations, "translation": self.pose.translations}
        return [Track(node, path, self.seconds, arrays[path][:, node]) for node, path in sorted(self.keyed)]


def smooth(values):
    values = np.clip(values, 0.0, 1.0)
    return values * values * (3.0 - 2.0 * values)


def eased(seconds, *keys):
    """A value that eases from key to key (time, value)."""
    value = np.full_like(seconds, keys[0][1])
    for (start, a), (end, b) in itertools.pairwise(keys):
        value = np.where(seconds >= start, a + (b - a) * smooth((seconds - start) / (end - start)), value)
    return value
