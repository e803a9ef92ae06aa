"""Colliders made of a character's skin: a body without narrow hollows, and the hull of what a joint moves."""

from dataclasses import replace

import igl
import numpy as np
from scipy import ndimage
from scipy.spatial import ConvexHull, QhullError

from quiver.bodies import fitting
from quiver.bodies.carried import carried
from quiver.errors import BadInput
from quiver.mesh.nearest import NearestOn
from quiver.mesh.topology import welded
from quiver.rig.character import Mesh
from quiver.rig.skinning import skinned_positions

MOST_CELLS = 300_000
"""Cells of the grid in which hollows are filled."""
FINEST, CELLS_A_BRIDGE = 56, 6.0
"""Cells along the longest side, at the most about so many, and across a bridge where that is coarser."""
USUAL_BRIDGE = 0.06
"""The bridge we take, as a share of a mesh's size."""


def usual_bridge(mesh, rest_world):
    """The bridge for a mesh where the artist leaves it to us [file units]."""
    return USUAL_BRIDGE * float(np.linalg.norm(np.ptp(skinned_positions(mesh, rest_world), axis=0)))


def body_mesh(mesh, rest_world, bridge):
    """A mesh of its own that follows another, hollows filled into which no ball of radius ``bridge`` [file units] fits. Raises BadInput."""
    surface = skinned_positions(mesh, rest_world)
    triangles = welded(surface, mesh.triangles)
    if not len(triangles):
        raise BadInput(f"expected a mesh with triangles to make a body of, “{mesh.name}” has none")
    vertices, faces = closed(surface, triangles, bridge)
    return replace(carried(mesh, surface, vertices, rest_world), name=f"{mesh.name}, simplified", triangles=faces)


def closed(surface, triangles, bridge):
    """A surface (V, 3), (F, 3) after growing it by ``bridge`` and shrinking it again: (vertices (N, 3), triangles int32 (M, 3)).

    The surface may be open or cross itself. The grown and shrunk one is worked out on a grid (morphological closing), and is as exact as a
    cell; where nothing is filled it is as exact as the surface.
    """
    size = np.ptp(surface, axis=0)
    cell = max(float(size.max()) / FINEST, bridge / CELLS_A_BRIDGE, 1e-9)
    cell = max(cell, (float(np.prod(size + 2.0 * bridge)) / MOST_CELLS) ** (1 / 3))
    grid, counts = _grid(surface, cell, bridge)
    outside = _signed_distances(surface, triangles, grid, bridge + 2.0 * cell).reshape(counts)
    away = ndimage.distance_transform_edt(outside <= bridge) * cell
    # From the middle of a cell to the grown surface it is half a cell less.
    filled = np.minimum(outside, bridge - away + 0.5 * cell)
    return _level(grid, counts, filled)


def shell(surface, triangles, away, cell):
    """A closed surface that keeps ``away`` from another (V, 3), (F, 3), worked out on a grid: (vertices (N, 3), triangles int32 (M, 3)).

    A cell is no smaller than ``cell``, and no larger than that where the grid allows.
    """
    cell = max(cell, (float(np.prod(np.ptp(surface, axis=0) + 2.0 * away)) / MOST_CELLS) ** (1 / 3))
    away = max(away, 1.01 * cell)
    grid, counts = _grid(surface, cell, away)
    return _level(grid, counts, (_distances(surface, triangles, grid, away + 2.0 * cell) - away).reshape(counts))


def _grid(surface, cell, reach):
    """Positions (P, 3) of a grid around a surface, ``reach`` and a little wider, and how many there are along each axis."""
    low = surface.min(0) - reach - 2.0 * cell
    counts = np.ceil((surface.max(0) + reach + 2.0 * cell - low) / cell).astype(int) + 1
    return low + cell * np.stack(np.meshgrid(*map(np.arange, counts), indexing="ij"), -1).reshape(-1, 3), counts


def _level(grid, counts, values):
    """Where values on a grid are zero, as a surface that looks to where they are positive."""
    # The order of the grid that igl takes: x runs fastest.
    values = np.ascontiguousarray(values.transpose(2, 1, 0).ravel())
    positions = np.ascontiguousarray(grid.reshape(*counts, 3).transpose(2, 1, 0, 3).reshape(-1, 3))
    vertices, faces = igl.marching_cubes(values, positions, *map(int, counts), 0.0)[:2]
    if np.einsum("fk,fk->f", vertices[faces[:, 0]], np.cross(vertices[faces[:, 1]], vertices[faces[:, 2]])).sum() < 0.0:
        faces = faces[:, ::-1]
    return vertices, np.ascontiguousarray(faces, np.int32)


def _distances(surface, triangles, points, most):
    """Distances (P,) of points from a surface, no more than ``most``."""
    found, corner_weights = NearestOn(surface, triangles).find(points, most)
    spots = np.einsum("pc,pck->pk", corner_weights, surface[triangles[found]])
    return np.where(found >= 0, np.linalg.norm(points - spots, axis=1), most)


def _signed_distances(surface, triangles, points, most):
    """Distances (P,) of points, negative inside, and no more than ``most`` either way."""
    away = _distances(surface, triangles, points, most)
    inside = np.abs(igl.fast_winding_number(surface, np.asarray(triangles, np.int64), points)) > 0.5
    return np.where(inside, -away, away)


def hull_mesh(character, joint, rest_world):
    """The convex hull of what a joint moves most, riding on it. Raises BadInput where that is nothing, or flat."""
    node = character.skeleton.index(joint)
    points = fitting.vertices_by_node(character).get(node)
    try:
        hull = ConvexHull(points if points is not None else np.zeros((0, 3)))
    except (QhullError, ValueError) as error:
        raise BadInput(f"expected a joint that moves something with a volume, “{joint}” does not") from error
    number = np.full(len(points), -1)
    number[hull.vertices] = np.arange(len(hull.vertices))
    positions, faces = points[hull.vertices], number[hull.simplices]
    # Qhull leaves the order of a face's corners to chance.
    across = np.cross(positions[faces[:, 1]] - positions[faces[:, 0]], positions[faces[:, 2]] - positions[faces[:, 0]])
    turned = np.einsum("fk,fk->f", across, hull.equations[:, :3]) < 0.0
    faces[turned] = faces[turned][:, ::-1]
    linear, shift = rest_world[node, :, :3], rest_world[node, :, 3]
    own = np.linalg.lstsq(linear, (positions - shift).T, rcond=None)[0].T
    return Mesh(f"hull of {joint}", node, own.astype(np.float32), faces.astype(np.int32))
