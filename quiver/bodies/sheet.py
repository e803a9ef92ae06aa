"""The sheet body: from a surface and dials a person can see to masses, springs and hinges that meet them."""

from dataclasses import dataclass

import numpy as np

from quiver.bodies.chain import GRAVITY

DENSITY = 0.5
"""[kg/m2], of a heavy cloth. It cancels out of how a sheet hangs; parts that push each other feel it."""
PINNED = 0.98
"""A particle held at least so much is fixed to its keyed place."""
STRIP = 1.2
"""A strip curls across its length, and so bends more easily than the cylinder that the hinges' law is for: by 1 - 1/9, Poisson's ratio of
such a net being a third (Seung and Nelson 1988); the rest is measured, on strips of 4 to 32 cells."""
NET = 0.84
"""Two diagonals in turns make a net stiffer than one of even triangles (measured on hanging strips)."""
LEAST_GIVE = 1e-4
"""The least that a sheet lengthens under its own weight, as a share: what is stiffer only needs finer steps."""


@dataclass(frozen=True)
class SheetBody:
    """The physics of a sheet of N particles, F triangles, E edges and H hinges. SI units.

    nodes (N, 3) [m] at rest; triangles int32 (F, 3); masses (N,) [kg]; holds (N,) 0..1, from PINNED on fixed; springs (N,) [1/s2] of them
    edges int32 (E, 2), lengths (E,) [m], stiffness (E,) [N/m]
    hinges int32 (H, 4) the edge's ends and the two corners opposite; their weights (H, 4) [1/m]: the sum of weighted places is as long as
    2 sin(half the angle) and looks along the normal between both triangles; curves (H,) that length at rest, with its sign; bending (H,)
    [N] its stiffness
    """

    nodes: np.ndarray
    triangles: np.ndarray
    masses: np.ndarray
    holds: np.ndarray
    springs: np.ndarray
    edges: np.ndarray
    lengths: np.ndarray
    stiffness: np.ndarray
    hinges: np.ndarray
    weights: np.ndarray
    curves: np.ndarray
    bending: np.ndarray

    @property
    def is_free(self):
        return self.holds < PINNED


def build(nodes, triangles, holds, give, bending_length, hold_rate, weight=1.0):
    """The body of a surface in metres: nodes (N, 3), triangles (F, 3), each node in one of them.

    holds (N,) 0..1; ``give`` the share by which it lengthens hanging by its longest side; ``bending_length`` [m] of Peirce's cantilever
    test: a strip that sticks out twice as far bends down by 41.5 degrees; ``hold_rate`` [Hz] at which a hold of one half swings back.
    """
    areas = 0.5 * np.linalg.norm(
        np.cross(nodes[triangles[:, 1]] - nodes[triangles[:, 0]], nodes[triangles[:, 2]] - nodes[triangles[:, 0]]), axis=1
    )
    density = DENSITY * weight
    masses = np.zeros(len(nodes))
    np.add.at(masses, triangles.ravel(), np.repeat(areas * density / 3.0, 3))
    masses = np.maximum(masses, 1e-6 * masses.max())
    edges, hinges, around = _edges_and_hinges(triangles, areas, len(nodes))
    lengths = np.maximum(np.linalg.norm(nodes[edges[:, 1]] - nodes[edges[:, 0]], axis=1), 1e-9)
    size = float(np.ptp(nodes, axis=0).max())
    # Hanging, it bears half of its weight on average; a triangle's edges share its area (Seung and Nelson 1988 for even ones).
    tension = density * GRAVITY * size / (2.0 * max(give, LEAST_GIVE))
    stiffness = NET * tension * np.maximum(around, 1e-12) / lengths**2
    weights, curves, spans, faces = _bends(nodes, hinges, holds >= PINNED)
    bending = STRIP * density * GRAVITY * max(bending_length, 1e-4) ** 3 * spans**2 / np.where(faces > 0.0, faces, 1.0)
    give_way = np.clip(holds, 0.0, PINNED)
    springs = give_way / (1.0 - give_way) * (2.0 * np.pi * hold_rate) ** 2
    return SheetBody(nodes, triangles, masses, holds, springs, edges, lengths, stiffness, hinges, weights, curves, bending)


def _bends(nodes, hinges, is_held):
    """(weights (H, 4), curves (H,), the edges' lengths (H,) [m], the area that bends (H,) [m2]) of hinges, as SheetBody says.

    A triangle that is held by all its corners cannot bend: counted, half a cell of a clamp would, and the bend hang on the mesh.
    """
    a, b, c, d = (nodes[hinges[:, k]] for k in range(4))
    edge, span = b - a, np.maximum(np.linalg.norm(b - a, axis=1), 1e-12)
    high = [np.maximum(np.linalg.norm(np.cross(edge, corner - a), axis=1) / span, 1e-9) for corner in (c, d)]
    foot = [np.einsum("hk,hk->h", edge, corner - a) / span**2 for corner in (c, d)]
    at_b = foot[0] / high[0] + foot[1] / high[1]
    weights = np.column_stack([at_b - 1.0 / high[0] - 1.0 / high[1], -at_b, 1.0 / high[0], 1.0 / high[1]])
    gives = [~is_held[hinges[:, [0, 1, k]]].all(axis=1) for k in (2, 3)]
    rest = np.einsum("hk,hkx->hx", weights, nodes[hinges])
    sign = np.sign(np.einsum("hk,hk->h", rest, np.cross(edge, c - a) + np.cross(d - a, edge)))
    return weights, sign * np.linalg.norm(rest, axis=1), span, 0.5 * span * (high[0] * gives[0] + high[1] * gives[1])


def _edges_and_hinges(triangles, areas, count):
    """Edges (E, 2) each once, hinges (H, 4) where an edge has two triangles or more, and the area of the triangles at each edge (E,)."""
    corners = np.concatenate([triangles[:, [0, 1, 2]], triangles[:, [1, 2, 0]], triangles[:, [2, 0, 1]]]).astype(np.int64)
    low, high = np.sort(corners[:, :2], axis=1).T
    order = np.argsort(low * count + high, kind="stable")
    keys, first, numbers = np.unique((low * count + high)[order], return_index=True, return_counts=True)
    edges = np.column_stack([keys // count, keys % count]).astype(np.int32)
    around = np.add.reduceat(np.tile(areas, 3)[order], first) if len(first) else np.zeros(0)
    opposite, hinges = corners[order, 2], []
    for more in range(1, int(numbers.max(initial=1))):
        # Where three triangles or more share an edge, each bends against the first.
        has = numbers > more
        hinges.append(np.column_stack([edges[has], opposite[first[has]], opposite[first[has] + more]]))
    hinges = np.concatenate(hinges) if hinges else np.zeros((0, 4))
    return edges, hinges.astype(np.int32), around
