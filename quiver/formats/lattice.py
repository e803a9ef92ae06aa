"""What the stage needs to draw a solid's lattice: one message of numbers, little-endian.

u32 nodes N, u32 edges E, u32 tetrahedra, u32 fixed nodes; float32 positions (N, 3) in the rest pose [file units]; float32 hold (N,) 0..1;
i32 joints (N, 4) as node numbers, float32 weights (N, 4); u32 edges (E, 2) of the lattice's outside; u32 tetrahedra (T, 4), from one end of
the longest side to the other; u32 carried vertices R; u32 their corners (R, 4), float32 their corner_weights (R, 4)
"""

import struct

import numpy as np

from quiver.mesh.topology import outer_faces


def outside(tets):
    """The edges (E, 2) of faces that belong to one tetrahedron only."""
    skin = outer_faces(tets)
    return np.unique(np.concatenate([skin[:, [0, 1]], skin[:, [1, 2]], skin[:, [0, 2]]]), axis=0)


def message(positions, holds, fixed, joints, weights, tets, corners, corner_weights):
    """The message for nodes (N, 3), holds (N,), how many are fixed, joints and weights (N, up to 4), tets (T, 4), and what they carry."""
    edges = outside(tets)
    slots, parts = np.zeros((len(positions), 4), "<i4"), np.zeros((len(positions), 4), "<f4")
    slots[:, : joints.shape[1]], parts[:, : weights.shape[1]] = joints, weights
    middles = positions[tets][:, :, np.argmax(np.ptp(positions, axis=0))].mean(1)
    tets = tets[np.argsort(middles, kind="stable")]
    head = struct.pack("<IIII", len(positions), len(edges), len(tets), fixed)
    arrays = (np.asarray(positions, "<f4"), np.asarray(holds, "<f4"), slots, parts, np.asarray(edges, "<u4"), np.asarray(tets, "<u4"))
    carried = struct.pack("<I", len(corners)) + np.asarray(corners, "<u4").tobytes() + np.asarray(corner_weights, "<f4").tobytes()
    return head + b"".join(array.tobytes() for array in arrays) + carried
