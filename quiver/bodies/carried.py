"""Points that the joints carry as they carry the skin nearby."""

import numpy as np

from quiver.bodies import lattice
from quiver.errors import BadInput
from quiver.rig.character import Mesh
from quiver.rig.skinning import slots_of

FLAT = 1e-18
"""A placement that squeezes volumes to such a share has no way back."""
LEAST_CARRIED = 0.02
"""What carries a node by less than this share is left out: a whisker must not be simulated finely for the sake of the chin."""


def carried(mesh, surface, nodes, rest_world):
    """Nodes (N, 3) as a mesh of their own, without triangles: each takes the weights of the vertices of ``mesh`` nearest to it.

    ``surface`` (V, 3) is where those are at rest, rest_world (J, 3, 4). Raises BadInput where a joint of the mesh has no size.
    """
    if mesh.skin < 0:
        bind_nodes = np.array([mesh.node], np.int32)
        slots, weights = np.zeros((len(nodes), 1), np.int32), np.ones((len(nodes), 1), np.float32)
    else:
        bind_nodes = mesh.bind_nodes
        near, corner_weights = lattice.near_vertices(surface, nodes)
        total = np.zeros((len(nodes), len(bind_nodes)))
        rows = np.repeat(np.arange(len(nodes)), near.shape[1] * mesh.joints.shape[1])
        np.add.at(total, (rows, slots_of(mesh)[near].reshape(-1)), (corner_weights[..., None] * mesh.weights[near]).reshape(-1))
        slots = np.argsort(-total, axis=1)[:, :4].astype(np.int32)
        weights = np.take_along_axis(total, slots, 1)
        weights[weights < LEAST_CARRIED * weights.sum(1, keepdims=True)] = 0.0
        weights = (weights / weights.sum(1, keepdims=True)).astype(np.float32)
        used, slots = np.unique(np.where(weights > 0.0, slots, slots[:, :1]), return_inverse=True)
        bind_nodes, slots = bind_nodes[used], slots.reshape(weights.shape).astype(np.int32)
    full = np.tile(np.eye(4), (len(bind_nodes), 1, 1))
    full[:, :3] = rest_world[bind_nodes]
    if (np.abs(np.linalg.det(full)) < FLAT).any():
        raise BadInput(f"“{mesh.name}” hangs on a joint that is scaled to nothing in the rest pose, so it cannot carry flesh")
    inverse, middle = np.linalg.inv(full)[:, :3], nodes.mean(0)
    # Their own space begins in their middle: far from it float32 is coarse.
    inverse[:, :, 3] += inverse[:, :, :3] @ middle
    positions, no_triangles = (nodes - middle).astype(np.float32), np.zeros((0, 3), np.int32)
    return Mesh("nodes", mesh.node, positions, no_triangles, None, bind_nodes[slots], weights, 0, bind_nodes, inverse)
