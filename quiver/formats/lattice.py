"""What the stage needs to draw a solid's lattice: one message of numbers, little-endian.

u32 nodes N, u32 edges E, u32 tetrahedra, u32 fixed nodes; float32 places (N, 3) in the rest pose [file units]; float32 hold (N,) 0..1;
i32 joints (N, 4) as node numbers, float32 weights (N, 4); u32 edges (E, 2) of the lattice's outside
"""

import struct

import numpy as np

FACES = ((0, 1, 2), (0, 1, 3), (0, 2, 3), (1, 2, 3))


def outside(tets):
    """The edges (E, 2) of faces that belong to one tetrahedron only."""
    faces = np.sort(np.concatenate([tets[:, face] for face in FACES]), axis=1)
    faces, counts = np.unique(faces, axis=0, return_counts=True)
    skin = faces[counts == 1]
    return np.unique(np.concatenate([skin[:, [0, 1]], skin[:, [1, 2]], skin[:, [0, 2]]]), axis=0)


def message(places, holds, fixed, joints, weights, tets):
    """The message for nodes (N, 3), holds (N,), how many are fixed, joints and weights (N, up to 4) and tets (T, 4)."""
    edges = outside(tets)
    slots, shares = np.zeros((len(places), 4), "<i4"), np.zeros((len(places), 4), "<f4")
    slots[:, : joints.shape[1]], shares[:, : weights.shape[1]] = joints, weights
    head = struct.pack("<IIII", len(places), len(edges), len(tets), fixed)
    arrays = (np.asarray(places, "<f4"), np.asarray(holds, "<f4"), slots, shares, np.asarray(edges, "<u4"))
    return head + b"".join(array.tobytes() for array in arrays)
