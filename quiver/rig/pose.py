"""Poses: where every joint is, in its parent's space and in the world."""

from dataclasses import dataclass

import numpy as np

from quiver.kernels import turns
from quiver.kernels.kinematics import forward_kinematics
from quiver.rig import transforms


@dataclass
class Pose:
    """Local placements of J nodes, with any leading shape (often T times).

    translations (..., J, 3) [file units], rotations (..., J, 4) unit quaternions x y z w, scales (..., J, 3); float64.
    """

    translations: np.ndarray
    rotations: np.ndarray
    scales: np.ndarray

    def copy(self):
        return Pose(self.translations.copy(), self.rotations.copy(), self.scales.copy())

    def __getitem__(self, key):
        return Pose(self.translations[key], self.rotations[key], self.scales[key])

    def repeated(self, count):
        """The same pose ``count`` times, shape (count, J, ...)."""
        return Pose(*(np.repeat(a[None], count, 0) for a in (self.translations, self.rotations, self.scales)))


def blended(a, b, share):
    """From pose a to pose b; ``share`` (..., J) 0..1. Exact at both ends."""
    rotations = transforms.slerp(a.rotations, b.rotations, share)
    share = share[..., None]
    arrived = share >= 1.0

    def mixed(start, end):
        return np.where(arrived, end, start + share * (end - start))

    return Pose(mixed(a.translations, b.translations), np.where(arrived, b.rotations, rotations), mixed(a.scales, b.scales))


def world_matrices(skeleton, pose):
    """World matrices of a pose of shape (T, J): float64 (T, J, 3, 4), by forward kinematics."""
    arrays = (np.ascontiguousarray(a, float) for a in (pose.translations, pose.rotations, pose.scales))
    return forward_kinematics(skeleton.order, skeleton.parents, *arrays)


def rest_matrices(skeleton):
    """World matrices of the rest pose, float64 (J, 3, 4)."""
    return world_matrices(skeleton, skeleton.rest.repeated(1))[0]


def jointed_world(world, points):
    """Points (..., 3), each in the space of one placement (..., 3, 4), in the world."""
    return turns.placed(world[..., :3, :], points)
