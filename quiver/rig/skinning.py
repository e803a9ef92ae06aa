"""Skinning: where the vertices go when the joints move."""

from dataclasses import replace

import numpy as np

from quiver.kernels import skinning as kernels
from quiver.kernels.lanes import LANES
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.threads import split

VERTICES_WORTH_A_THREAD = 8192


def skin_matrices(mesh, world):
    """Matrices from the mesh's own space to the world, one per bind joint: float64 (..., B, 3, 4) from ``world`` (..., J, 3, 4)."""
    bound = world[..., mesh.bind_nodes, :, :]
    linear = bound[..., :3] @ mesh.inverse_binds[:, :, :3]
    shift = bound[..., :3] @ mesh.inverse_binds[:, :, 3:] + bound[..., 3:]
    return np.concatenate([linear, shift], axis=-1)


def skinned_positions(mesh, world, method="linear"):
    """World positions (V, 3) of a mesh under node matrices ``world`` (J, 3, 4).

    ``method`` is "linear" or "dual quaternion" (Kavan et al. 2008; scale is applied first and linearly).
    """
    if mesh.skin < 0 or method == "linear":
        return skinned_through(mesh, world[None])[0]
    rows = map(rows_of, dual_quaternions(skin_matrices(mesh, world)))
    return skin(kernels.skin_dual_quaternion, mesh.positions, slots_of(mesh), mesh.weights, *rows)


def rest_box(character):
    """The lowest and the highest corner (2, 3) of the skin in the rest pose, or of the joints where there is no skin [file units].

    Meshes that the file does not have do not count.
    """
    world = rest_matrices(character.skeleton)
    positions = np.concatenate([skinned_positions(each, world) for each in character.meshes if each.primitive >= 0] or [world[:, :, 3]])
    return np.stack([positions.min(0), positions.max(0)]).astype(float)


def subset(mesh, vertices):
    """A mesh of some of the vertices (n,) of another alone, without triangles."""
    own = {"positions": mesh.positions[vertices], "triangles": np.zeros((0, 3), np.int32), "colours": None}
    if mesh.skin >= 0:
        own |= {"joints": mesh.joints[vertices], "weights": mesh.weights[vertices]}
    return replace(mesh, **own)


def skinned_through(mesh, world):
    """World positions float64 (S, V, 3) of a mesh under many node matrices ``world`` (S, J, 3, 4), linear."""
    out = np.empty((len(world), *mesh.positions.shape))
    rows, origins = relative_rows(mesh, world)
    moved, worth = (mesh.positions, *influences_of(mesh)), -(-VERTICES_WORTH_A_THREAD // max(len(mesh.positions), 1))
    split(lambda a, b: kernels.skin_frames(*moved, rows[a:b], origins[a:b], out[a:b]), len(world), worth)
    return out


def influences_of(mesh):
    """(slots int32 (V, I), weights float32 (V, I)) as `relative_rows` counts joints: a mesh without a skin has one, its node."""
    if mesh.skin < 0:
        return np.zeros((len(mesh.positions), 1), np.int32), np.ones((len(mesh.positions), 1), np.float32)
    return slots_of(mesh), mesh.weights


def relative_rows(mesh, world):
    """Joint matrices float32 (S, B, LANES) in node matrices (S, J, 3, 4); they count from places (S, 3): far off, float32 is coarse."""
    if mesh.skin < 0:
        nodes, binds = np.array([mesh.node]), np.eye(3, 4)[None]
    else:
        nodes, binds = mesh.bind_nodes, mesh.inverse_binds
    rows, origins = np.zeros((len(world), len(nodes), LANES), np.float32), np.ascontiguousarray(world[:, nodes[0], :, 3])
    kernels.joint_rows(np.ascontiguousarray(world, float), nodes, np.ascontiguousarray(binds, float), origins, rows)
    return rows, origins


def skin(kernel, positions, slots, weights, *rows, threads=None):
    """Run a skinning kernel over all vertices, split over threads where there are many: positions float32 (V, 3)."""
    out = np.empty_like(positions)
    split(lambda first, end: kernel(first, end, positions, slots, weights, *rows, out), len(positions), VERTICES_WORTH_A_THREAD, threads)
    return out


def rows_of(values):
    """Each joint's numbers as one row of LANES float32, filled up with zeros: (B, LANES)."""
    rows = np.zeros((len(values), LANES), np.float32)
    flat = values.reshape(len(values), -1)
    rows[:, : flat.shape[1]] = flat
    return rows


def dual_quaternions(matrices):
    """Unit dual quaternions (B, 8: real x y z w, dual x y z w) and what is left, scale and mirror, (B, 3, 3)."""
    rotation = transforms.pure_rotations(matrices[:, :, :3])
    rotation = np.where(np.linalg.det(rotation)[:, None, None] < 0.0, -rotation, rotation)
    real = transforms.from_matrices(rotation)
    stretch = np.swapaxes(rotation, 1, 2) @ matrices[:, :, :3]
    shift = np.concatenate([matrices[:, :, 3], np.zeros((len(matrices), 1))], axis=-1)
    dual = 0.5 * transforms.multiply(shift, real)
    return np.concatenate([real, dual], axis=-1), stretch


def slots_of(mesh):
    """Node indices turned into positions in the skin's own joint list, as int32 (V, I)."""
    slot_of = np.zeros(int(mesh.bind_nodes.max()) + 1, np.int32)
    slot_of[mesh.bind_nodes] = np.arange(len(mesh.bind_nodes), dtype=np.int32)
    return slot_of[mesh.joints]
