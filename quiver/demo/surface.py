"""Implicit surfaces: soft blends of simple solids, and an even mesh of where they end."""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Ellipsoid:
    """A solid around ``centre`` with half axes ``radii`` [m]."""

    centre: tuple
    radii: tuple

    def distance(self, points):
        """About the signed distance (P,) of points (P, 3); exact in sign, good near the surface."""
        away = points - np.array(self.centre)
        radii = np.array(self.radii)
        k0 = np.linalg.norm(away / radii, axis=1)
        k1 = np.linalg.norm(away / radii**2, axis=1)
        return k0 * (k0 - 1.0) / np.maximum(k1, 1e-9)


@dataclass(frozen=True)
class Cone:
    """A rounded cone from a to b with a radius at each end [m]."""

    a: tuple
    b: tuple
    radius_a: float
    radius_b: float

    def distance(self, points):
        """Signed distance (P,) of points (P, 3) to balls strung along the axis."""
        a, along = np.array(self.a), np.array(self.b) - np.array(self.a)
        share = np.clip((points - a) @ along / max(float(along @ along), 1e-12), 0.0, 1.0)
        nearest = np.linalg.norm(points - a - share[:, None] * along, axis=1)
        return nearest - (self.radius_a + share * (self.radius_b - self.radius_a))


@dataclass(frozen=True)
class Line:
    """Rounded cones from point to point, without bulges where they meet."""

    points: tuple
    radii: tuple

    def distance(self, points):
        """Signed distance (P,) of points (P, 3)."""
        parts = zip(self.points, self.points[1:], self.radii, self.radii[1:], strict=False)
        return np.min([Cone(*part).distance(points) for part in parts], axis=0)


def blend(solids, softness):
    """The signed distance to the soft union of solids as a function of points; ``softness`` [m] rounds the seams."""

    def distance(points):
        total = np.full(len(points), 1e3)
        for solid in solids:
            other = solid.distance(points)
            overlap = np.maximum(softness - np.abs(total - other), 0.0) / softness
            total = np.minimum(total, other) - overlap * overlap * softness / 4.0
        return total

    return distance


def gradient(distance, points, reach=1e-3):
    """Unit directions (P, 3) in which the distance grows."""
    steps = np.eye(3) * reach
    slope = np.stack([distance(points + step) - distance(points - step) for step in steps], axis=1)
    return slope / np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-12)


def mesh_of(distance, low, high, cell):
    """An even closed mesh of the surface distance = 0 inside a box, by surface nets: vertices (V, 3), triangles (F, 3) int32.

    One vertex in each grid cell that the surface crosses, relaxed along the surface and put back on it
    (Gibson 1998, with a Newton step in place of the constraint to the cell).
    """
    low = np.array(low, float)
    counts = np.ceil((np.array(high) - low) / cell).astype(int) + 1
    axes = [low[k] + cell * np.arange(counts[k]) for k in range(3)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), -1).reshape(-1, 3)
    inside = (distance(grid) < 0.0).reshape(counts)
    vertices, vertex_of = _cell_vertices(inside, axes, cell)
    quads = np.concatenate([_quads(inside, vertex_of, axis) for axis in range(3)])
    for _ in range(6):
        vertices = _relaxed(vertices, quads)
        vertices -= distance(vertices)[:, None] * gradient(distance, vertices)
    triangles = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    return vertices, triangles.astype(np.int32)


def _cell_vertices(inside, axes, cell):
    corners = [
        inside[x : inside.shape[0] - 1 + x, y : inside.shape[1] - 1 + y, z : inside.shape[2] - 1 + z]
        for x in (0, 1)
        for y in (0, 1)
        for z in (0, 1)
    ]
    filled = sum(corner.astype(int) for corner in corners)
    crossed = (filled > 0) & (filled < 8)
    vertex_of = np.full(crossed.shape, -1, np.int64)
    vertex_of[crossed] = np.arange(int(crossed.sum()))
    positions = np.argwhere(crossed)
    return np.stack([axes[k][positions[:, k]] for k in range(3)], 1) + cell / 2.0, vertex_of


def _quads(inside, vertex_of, axis):
    """One quad around each grid edge along ``axis`` that the surface crosses, facing outwards."""
    flags, cells = np.moveaxis(inside, axis, 0), np.moveaxis(vertex_of, axis, 0)
    leaving = flags[:-1, 1:-1, 1:-1] & ~flags[1:, 1:-1, 1:-1]
    entering = ~flags[:-1, 1:-1, 1:-1] & flags[1:, 1:-1, 1:-1]
    around = np.stack([cells[:, :-1, :-1], cells[:, 1:, :-1], cells[:, 1:, 1:], cells[:, :-1, 1:]], -1)
    if axis == 1:
        leaving, entering = entering, leaving
    return np.concatenate([around[leaving], around[entering][:, ::-1]])


def _relaxed(vertices, quads):
    total, count = np.zeros_like(vertices), np.zeros(len(vertices))
    for k in range(4):
        a, b = quads[:, k], quads[:, (k + 1) % 4]
        np.add.at(total, a, vertices[b])
        np.add.at(total, b, vertices[a])
        np.add.at(count, a, 1.0)
        np.add.at(count, b, 1.0)
    return 0.5 * vertices + 0.5 * total / np.maximum(count, 1.0)[:, None]
