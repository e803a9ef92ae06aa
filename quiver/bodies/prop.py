"""The prop body: mass, centre and inertia of a thing from its own mesh."""

from dataclasses import dataclass

import numpy as np

DENSITY = 400.0
"""[kg/m3], of a thing that is mostly hollow. It cancels out of how it swings."""
MOST_POINTS = 64
"""Points of its surface that may touch."""
THIN = 0.02
"""A mesh that encloses less than this share of its box is a shell: its surface weighs, not its inside."""


@dataclass(frozen=True)
class PropBody:
    """SI units. mass [kg]; centre (3,) [m]; axes (3, 3) principal axes as columns; inertia (3,) [kg m2] about them; points (M, 3) [m]."""

    mass: float
    centre: np.ndarray
    axes: np.ndarray
    inertia: np.ndarray
    points: np.ndarray

    @property
    def own_points(self):
        """The points (M, 3) from the centre, along the principal axes [m]."""
        return np.ascontiguousarray((self.points - self.centre) @ self.axes)


def build(positions, triangles):
    """The body of a mesh: positions (V, 3) [m], triangles (F, 3); closed or open."""
    mass, centre, tensor = _solid(positions, triangles)
    box = float(np.prod(np.maximum(np.ptp(positions, axis=0), 1e-6)))
    if mass < THIN * box * DENSITY:
        mass, centre, tensor = _shell(positions, triangles)
    inertia, axes = np.linalg.eigh(tensor)
    if np.linalg.det(axes) < 0.0:
        axes[:, 2] *= -1.0
    # A thing as thin as a needle would spin without end.
    inertia = np.maximum(inertia, 1e-3 * max(inertia.max(), 1e-12))
    return PropBody(mass, centre, axes, inertia, spread_points(_with_middles(positions, triangles)))


def _with_middles(positions, triangles):
    """The positions, and where there are few of them the middles of triangles and edges too: a box touches not only by corners."""
    if len(positions) >= MOST_POINTS:
        return positions
    corners = positions[triangles]
    edges = 0.5 * (corners + np.roll(corners, 1, axis=1))
    return np.unique(np.concatenate([positions, corners.mean(1), edges.reshape(-1, 3)]).round(9), axis=0)


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
