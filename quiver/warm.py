"""Compiles (or loads from the cache) every kernel, so that the first real run does not wait."""

import numpy as np

from quiver.bodies import chain
from quiver.kernels import chains, kinematics, raster, skinning
from quiver.kernels.lanes import LANES


def warm():
    """Call every kernel once on the smallest input."""
    rows = np.zeros((chains.PARAMS, LANES), np.float32)
    state, motion, nothing = np.zeros((6, LANES), np.float32), np.zeros((9, LANES), np.float32), np.zeros((0, LANES), np.float32)
    spheres, record = np.zeros((0, 4), np.float32), np.zeros((3, LANES), np.float32)
    chains.advance_chains(0, 1, 1, 1, np.float32(0.01), state, rows, motion, nothing, spheres, False, 1, record)
    order = np.zeros(1, np.int32)
    kinematics.forward_kinematics(order, order - 1, np.zeros((1, 1, 3)), np.ones((1, 1, 4)), np.ones((1, 1, 3)))
    point, slot, weight = np.zeros((1, 3), np.float32), np.zeros((1, 4), np.int32), np.ones((1, 4), np.float32)
    row = np.ones((1, LANES), np.float32)
    skinning.skin_linear(0, 1, point, slot, weight, row, point)
    skinning.skin_dual_quaternion(0, 1, point, slot, weight, row, row, point)
    corners, triangle = np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.int32)
    raster.fill_triangles(corners, triangle, corners, np.zeros((1, 1), np.float32), np.zeros((1, 1, 3), np.float32))
    chain.build(np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0]]))


if __name__ == "__main__":
    warm()
