"""Compiles (or loads from the cache) every kernel, so that the first real run does not wait."""

import numpy as np

from quiver.bodies import chain, lattice, volume
from quiver.kernels import chains, contacts, kinematics, nearest, raster, skinning
from quiver.kernels.lanes import LANES
from quiver.kernels.rigid import FREE, SETTINGS
from quiver.kernels.separate import separate
from quiver.mesh.nearest import NearestOn
from quiver.run.measures.volume_change import SolidMeasure
from quiver.sim import rigid, solid
from quiver.sim.obstacles import frame_rows, shape_rows, standing
from quiver.sim.step import NO_COLLIDERS, NO_SURFACE_CONTACTS


def warm():
    """Call every kernel once on the smallest input."""
    rows = np.zeros((chains.PARAMS, LANES), np.float32)
    state, motion, nothing = np.zeros((6, LANES), np.float32), np.zeros((9, LANES), np.float32), np.zeros((0, LANES), np.float32)
    record = np.zeros((3, LANES), np.float32)
    chains.advance_chains(0, 1, 1, 1, np.float32(0.01), state, rows, motion, nothing, NO_COLLIDERS, NO_SURFACE_CONTACTS, False, 1, record)
    order = np.zeros(1, np.int32)
    kinematics.forward_kinematics(order, order - 1, np.zeros((1, 1, 3)), np.ones((1, 1, 4)), np.ones((1, 1, 3)))
    point, slot, weight = np.zeros((1, 3), np.float32), np.zeros((1, 4), np.int32), np.ones((1, 4), np.float32)
    row = np.ones((1, LANES), np.float32)
    skinning.skin_linear(0, 1, point, slot, weight, row, point)
    skinning.skin_dual_quaternion(0, 1, point, slot, weight, row, row, point)
    corners, triangle = np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.int32)
    raster.fill_triangles(corners, triangle, corners, np.zeros((1, 1), np.float32), np.zeros((1, 1, 3), np.float32))
    _warm_solid()
    _warm_contacts()
    chain.build(np.array([[0.0, 0, 0], [1, 0, 0], [2, 0, 0]]))


def _warm_solid():
    """Build and move the smallest solid, by the way that a run takes."""
    corners = np.array([[x, y, z] for x in (0.0, 1.0) for y in (0.0, 1.0) for z in (0.0, 1.0)])
    faces = np.array(
        [[0, 1, 3], [0, 3, 2], [4, 6, 7], [4, 7, 5], [0, 4, 5], [0, 5, 1], [2, 3, 7], [2, 7, 6], [0, 2, 6], [0, 6, 4], [1, 5, 7], [1, 7, 3]]
    )
    made = lattice.build(corners, faces, np.ones(8, bool), 0.5)
    body = volume.build(made, np.zeros(len(made.nodes)), 0.5, 1.0)
    model = solid.solid_model(body, made.tets, 1e4, 0.01, longest=2.0, settles=True)
    solid.settle(model, made.nodes)
    solid.advance(model, solid.SolidState(made.nodes), made.nodes[None], made.nodes)
    SolidMeasure(made.nodes, made.tets)(made.nodes)


def _warm_contacts():
    """Look for the nearest place on a triangle, touch a ball, swing a thing."""
    corners, nothing = np.eye(3), np.zeros((0, 3))
    tree = NearestOn(corners, np.array([[0, 1, 2]]))
    found, shares = tree.find(corners, 1.0)
    normals, surface_contacts = np.zeros((3, 3)), np.zeros((3, 3))
    nearest.vertex_normals(corners, tree.triangles, normals)
    nearest.blend(corners, normals, tree.triangles, found, shares, surface_contacts, normals.copy())
    frames, shapes = frame_rows(np.repeat(standing([[0.0, 0.0, 0.0]])[None], 2, 0)), shape_rows(np.zeros((1, 4)), [0.0], [0.0])
    out = np.empty((3, 1))
    contacts.distances(corners, frames[0], shapes, out)
    contacts.deepest(corners, frames[0], shapes, out)
    still, body = np.tile([0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0], (2, 1)), np.concatenate([np.ones(4), np.zeros(6)])
    state, scene = np.concatenate([still[0], np.zeros(6)]), (np.zeros((0, 1)), frames.reshape(-1, contacts.FRAME), shapes)
    thing = rigid.RigidBody(body, FREE, np.ones(SETTINGS), nothing)
    rigid.advance([thing], [state], [still], 0.01, [scene])
    row, none = np.zeros(1, int), np.zeros(0, int)
    touching = none, np.zeros((0, 3), np.int32), nothing, nothing, np.zeros(0)
    separate(np.zeros((1, 3)), np.ones(1), np.append(row, 0), none, 0.5, 1, 1, 1e-5, *touching)


if __name__ == "__main__":
    warm()
