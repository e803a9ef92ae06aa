"""What a rigid thing is to what it touches: balls that make up its surface, and the smallest box around it."""

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from quiver.mesh.nearest import NearestOn

ROUND, STRICT = 0.08, 0.003
"""A ball may stand out of the surface by this share of its radius: as much as one of few facets does between its corners. One that touches
at a few places only stays inside."""
SHRINK, SIZES = 0.85, 24
"""Radii that are tried: from half the thing's size down, each this share of the one before."""
SAME, FEWEST, ALIKE = 0.12, 4, 0.015
"""Balls whose centres are nearer than this share of their radius may be one: where there are so many, and that one is as far from where all
of them touch, within this share."""
SHARP = 0.02
"""Balls smaller than this share of the thing's size are points."""
MOST_NORMALS = 48
"""Sides that the box is tried along."""


def balls_of(points, normals, are_corners, positions, triangles):
    """Balls (B, 4), centres and radii [m], that touch a closed surface from inside at points (M, 3) with outward normals (M, 3).

    The largest that fit there: all of them one where the surface is a ball, bare points where it has corners. Only what touches at
    vertices of the mesh, are_corners (M,), may be one: between them facets lie deeper.
    """
    size, surface = float(np.linalg.norm(np.ptp(positions, axis=0))), NearestOn(positions, triangles)
    loose, strict = (_radii(surface, points, normals, size, slack) for slack in (ROUND, STRICT))
    merged, left = _merged(points, points - loose[:, None] * normals, np.where(are_corners, loose, 0.0))
    # What little they still stand out by would let a box rock on the middle of its side.
    depths = np.linalg.norm(_nearest(surface, points - strict[:, None] * normals)[0], axis=1)
    strict = np.where(strict > 0.0, np.minimum(strict, depths), 0.0)
    alone = np.column_stack([points - strict[:, None] * normals, strict])[left]
    inside = np.linalg.norm(alone[:, None, :3] - merged[None, :, :3], axis=2) + alone[:, None, 3] <= merged[None, :, 3] * (1.0 + ALIKE)
    return np.concatenate([merged, alone[~inside.any(axis=1)]])


def _radii(surface, points, normals, size, slack):
    """Radii (M,) of the largest balls that fit at points; 0 where that is a corner."""
    radii = np.zeros(len(points))
    for radius in 0.5 * size * SHRINK ** np.arange(SIZES):
        left = np.flatnonzero(radii == 0.0)
        radii[left[_fits(surface, points[left], normals[left], np.full(len(left), radius), slack)]] = radius
    low, high = radii, np.where(radii > 0.0, radii / SHRINK, 0.0)
    for _ in range(6):
        middle = 0.5 * (low + high)
        fits = _fits(surface, points, normals, middle, slack)
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return np.where(low > SHARP * size, low, 0.0)


def _nearest(surface, centres):
    """(ways (M, 3) from the nearest places of a surface to centres (M, 3), normals (M, 3) there, of any length)."""
    found, weights = surface.find(centres, np.full(len(centres), np.inf))
    corners = surface.points[surface.triangles[found]]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return centres - np.einsum("mc,mck->mk", weights, corners), across


def _fits(surface, points, normals, radii, slack):
    """Whether balls that touch at points from inside stand out nowhere by more than a share of their radius, bool (M,)."""
    ways, across = _nearest(surface, points - radii[:, None] * normals)
    is_inside = np.einsum("mk,mk->m", ways, across) <= 0.0
    return (radii > 0.0) & is_inside & (np.linalg.norm(ways, axis=1) >= (1.0 - slack) * radii)


def _merged(points, centres, radii):
    """(balls (B, 4), points that are left bool (M,)): many that are nearly the same as one, in their middle, as large as they reach."""
    left, out = np.ones(len(points), bool), []
    for m in np.argsort(-radii, kind="stable"):
        same = left & (np.linalg.norm(centres - centres[m], axis=1) <= SAME * radii[m]) & (radii >= (1.0 - SAME) * radii[m])
        if not left[m] or same.sum() < FEWEST or radii[m] <= 0.0:
            continue
        centre = centres[same].mean(0)
        reach = np.linalg.norm(points[same] - centre, axis=1)
        if np.ptp(reach) <= ALIKE * reach.mean():
            left &= ~same
            out.append([*centre, reach.mean()])
    return np.array(out).reshape(-1, 4), left


def box_of(positions):
    """The smallest box along some side of a thing: (middle (3,), half lengths (3,), axes (3, 3) as columns)."""
    try:
        hull = ConvexHull(positions)
    except QhullError:
        # Flat, or a line.
        corners, normals, areas = positions, np.zeros((0, 3)), np.zeros(0)
    else:
        corners, sides = positions[hull.vertices], positions[hull.simplices]
        normals = hull.equations[:, :3]
        areas = np.linalg.norm(np.cross(sides[:, 1] - sides[:, 0], sides[:, 2] - sides[:, 0]), axis=1)
    axes = min(_likely_axes(corners, normals[_apart(normals, areas)]), key=lambda axes: _volume(corners @ axes))
    own = corners @ axes
    low, high = own.min(0), own.max(0)
    return axes @ (0.5 * (low + high)), 0.5 * (high - low), axes


def _volume(own):
    return float(np.prod(np.maximum(np.ptp(own, axis=0), 1e-9)))


def _likely_axes(corners, normals):
    """Axes (3, 3) to try: as it stands; along its main directions; and on its sides, turned as its outline there is smallest."""
    yield np.eye(3)
    yield _proper(np.linalg.eigh(np.cov(corners.T))[1])
    for normal in normals:
        side = np.cross(normal, np.eye(3)[np.argmin(np.abs(normal))])
        side /= np.linalg.norm(side)
        frame = np.stack([side, np.cross(normal, side), normal], axis=1)
        # Along its other sides, and every two degrees.
        seen = normals @ frame[:, :2]
        ways = np.arctan2(seen[:, 1], seen[:, 0])[np.linalg.norm(seen, axis=1) > 1e-3]
        angles = np.concatenate([ways, np.radians(np.arange(0.0, 90.0, 2.0))])
        c, s = np.cos(angles), np.sin(angles)
        flat = corners @ frame[:, :2]
        across = np.ptp(flat @ np.stack([c, s]), axis=0) * np.ptp(flat @ np.stack([-s, c]), axis=0)
        best = int(np.argmin(across))
        turn = np.array([[c[best], -s[best], 0.0], [s[best], c[best], 0.0], [0.0, 0.0, 1.0]])
        yield _proper(frame @ turn)


def _apart(normals, areas):
    """Sides, the largest first, whose normals are not alike."""
    chosen = []
    for at in np.argsort(-areas, kind="stable"):
        if len(chosen) >= MOST_NORMALS:
            break
        if not chosen or np.abs(normals[chosen] @ normals[at]).max() < 0.999:
            chosen.append(at)
    return np.array(chosen, int)


def _proper(axes):
    """Axes that are turned, not mirrored."""
    return axes * np.array([1.0, 1.0, np.sign(np.linalg.det(axes))])
