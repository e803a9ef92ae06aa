"""The prop body: mass, centre and inertia of a thing from its own mesh."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import KDTree

from quiver.bodies.outline import balls_of, box_of
from quiver.mesh.nearest import NearestOn
from quiver.rig import transforms

DENSITY = 400.0
"""[kg/m3], of a thing that is mostly hollow. It cancels out of how it swings."""
MOST_POINTS = 64
"""Points of its surface that may touch."""
THIN = 0.02
"""A mesh that encloses less than this share of its box is a shell: its surface weighs, not its inside."""


@dataclass(frozen=True)
class PropBody:
    """SI units. mass [kg]; centre (3,) [m]; axes (3, 3) principal axes as columns; inertia (3,) [kg m2] about them.

    points (M, 3) of its surface [m]; balls (B, 4) that touch for it: centres and radii [m]; box the smallest around it, as `box_of` says.
    """

    mass: float
    centre: np.ndarray
    axes: np.ndarray
    inertia: np.ndarray
    points: np.ndarray
    balls: np.ndarray
    box: tuple

    @property
    def own_points(self):
        """The points (M, 3) from the centre, along the principal axes [m]."""
        return np.ascontiguousarray((self.points - self.centre) @ self.axes)

    @property
    def own_balls(self):
        """The balls (B, 4) likewise."""
        return np.column_stack([(self.balls[:, :3] - self.centre) @ self.axes, self.balls[:, 3]])

    @property
    def own_box(self):
        """The box likewise: (middle (3,), half lengths (3,), turn x y z w)."""
        middle, half, axes = self.box
        return self.axes.T @ (middle - self.centre), half, transforms.from_matrices(self.axes.T @ axes)


def build(positions, triangles):
    """The body of a mesh: positions (V, 3) [m], triangles (F, 3); closed or open."""
    mass, centre, tensor = _solid(positions, triangles)
    box = float(np.prod(np.maximum(np.ptp(positions, axis=0), 1e-6)))
    is_shell = mass < THIN * box * DENSITY
    if is_shell:
        mass, centre, tensor = _shell(positions, triangles)
    inertia, axes = np.linalg.eigh(tensor)
    if np.linalg.det(axes) < 0.0:
        axes[:, 2] *= -1.0
    # A thing as thin as a needle would spin without end.
    inertia = np.maximum(inertia, 1e-3 * max(inertia.max(), 1e-12))
    chosen = spread_points(_with_middles(positions, triangles))
    points, balls = chosen, np.column_stack([chosen, np.zeros(len(chosen))])
    if not is_shell:
        are_corners = KDTree(positions).query(points)[0] < 1e-7
        balls = balls_of(points, _normals_at(points, positions, triangles), are_corners, positions, triangles)
    return PropBody(mass, centre, axes, inertia, points, balls, box_of(positions))


def _with_middles(positions, triangles):
    """The positions, and where there are few of them the middles of triangles and edges too: a box touches not only by corners."""
    if len(positions) >= MOST_POINTS:
        return positions
    corners = positions[triangles]
    edges = 0.5 * (corners + np.roll(corners, 1, axis=1))
    return np.unique(np.concatenate([positions, corners.mean(1), edges.reshape(-1, 3)]).round(9), axis=0)


def _normals_at(points, positions, triangles):
    """Outward normals (M, 3) of a closed surface at points of it: the mean of the triangles there, by their angles nearly."""
    corners = positions[triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    if np.einsum("fk,fk->", corners.mean(1) - positions.mean(0), across) < 0.0:
        across = -across
    unit = across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-30)
    welded, numbers = np.unique(positions.round(9), axis=0, return_inverse=True)
    vertex_normals = np.zeros((len(welded), 3))
    faces = numbers.reshape(-1)[triangles]
    for k in range(3):
        a, b = corners[:, (k + 1) % 3] - corners[:, k], corners[:, (k + 2) % 3] - corners[:, k]
        lengths = np.maximum(np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-30)
        angles = np.arccos(np.clip(np.einsum("fk,fk->f", a, b) / lengths, -1.0, 1.0))
        np.add.at(vertex_normals, faces[:, k], unit * angles[:, None])
    found, weights = NearestOn(welded, faces).find(points, np.full(len(points), np.inf))
    # In a triangle its own, on an edge or a corner what meets there.
    inner = np.einsum("mc,mck->mk", weights, vertex_normals[faces[found]])
    is_inside = (weights > 1e-4).all(axis=1)
    normals = np.where(is_inside[:, None], unit[found], inner)
    on_edge = ~is_inside & ((weights > 1e-4).sum(axis=1) == 2)
    for m in np.flatnonzero(on_edge):
        ends = faces[found[m]][weights[m] > 1e-4]
        both = np.isin(faces, ends).sum(axis=1) == 2
        normals[m] = unit[both].sum(0)
    return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)


def _solid(positions, triangles):
    """Mass, centre and inertia about it of what a closed surface encloses: signed tetrahedra from the middle (Blow and Binstock 2004)."""
    middle = positions.mean(0)
    a, b, c = (positions[triangles[:, k]] - middle for k in range(3))
    volumes = np.einsum("fk,fk->f", a, np.cross(b, c)) / 6.0
    total = float(volumes.sum())
    if total < 0.0:
        volumes, total = -volumes, -total
    if total <= 0.0:
        return 0.0, middle, np.eye(3)
    sums = a + b + c
    centre = np.einsum("f,fk->k", volumes, sums) / 4.0 / total
    squares = sum(np.einsum("f,fi,fj->ij", volumes, each, each) for each in (a, b, c, sums)) / 20.0
    about = squares - total * np.outer(centre, centre)
    return DENSITY * total, middle + centre, DENSITY * (np.trace(about) * np.eye(3) - about)


def _shell(positions, triangles):
    """The same for the surface alone, a centimetre thick."""
    a, b, c = (positions[triangles[:, k]] for k in range(3))
    areas = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    total = max(float(areas.sum()), 1e-9)
    middles = (a + b + c) / 3.0
    centre = np.einsum("f,fk->k", areas, middles) / total
    away = middles - centre
    about = np.einsum("f,fi,fj->ij", areas, away, away) + 1e-9 * total * np.eye(3)
    weight = DENSITY * 0.01
    return weight * total, centre, weight * (np.trace(about) * np.eye(3) - about)


def spread_points(positions):
    """At most MOST_POINTS of the positions (V, 3), as far from each other as can be."""
    if len(positions) <= MOST_POINTS:
        return positions
    chosen, away = [int(np.argmax(np.linalg.norm(positions - positions.mean(0), axis=1)))], np.full(len(positions), np.inf)
    while len(chosen) < MOST_POINTS:
        away = np.minimum(away, np.linalg.norm(positions - positions[chosen[-1]], axis=1))
        chosen.append(int(np.argmax(away)))
    return positions[np.sort(chosen)]
