"""Small explicit meshes for the demo characters: tubes, sheets and turned shapes. All return (vertices, triangles, u, v)."""

import numpy as np


def _grid_triangles(rows, columns, closed):
    row, column = np.meshgrid(np.arange(rows - 1), np.arange(columns if closed else columns - 1), indexing="ij")
    a = (row * columns + column).ravel()
    b = (row * columns + (column + 1) % columns).ravel()
    quads = np.stack([a, b, b + columns, a + columns], 1)
    return np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)


def smooth_curve(knots, count):
    """``count`` points on a Catmull-Rom curve through knots (K, 3), and the knot parameter 0..K-1 of each."""
    knots = np.asarray(knots, float)
    padded = np.vstack([2 * knots[0] - knots[1], knots, 2 * knots[-1] - knots[-2]])
    along = np.linspace(0.0, len(knots) - 1.0, count)
    cell = np.minimum(along.astype(int), len(knots) - 2)
    t = (along - cell)[:, None]
    p0, p1, p2, p3 = (padded[cell + k] for k in range(4))
    points = 0.5 * (2 * p1 + (p2 - p0) * t + (2 * p0 - 5 * p1 + 4 * p2 - p3) * t**2 + (3 * p1 - p0 - 3 * p2 + p3) * t**3)
    return points, along


def tube(knots, radii, rings, sides):
    """A tube along a smooth curve, closed at its tip; radii are given at the knots. u is the knot parameter, v goes around."""
    centres, along = smooth_curve(knots, rings)
    radius = np.interp(along, np.arange(len(radii)), radii)
    ahead = np.gradient(centres, axis=0)
    ahead /= np.linalg.norm(ahead, axis=1, keepdims=True)
    side = np.cross(ahead, np.where(np.abs(ahead[:, :1]) > 0.9, [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]))
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    up = np.cross(ahead, side)
    angle = np.linspace(0.0, 2 * np.pi, sides, endpoint=False)
    around = side[:, None] * np.cos(angle)[:, None] + up[:, None] * np.sin(angle)[:, None]
    vertices = centres[:, None] + radius[:, None, None] * around
    u = np.repeat(along, sides)
    vertices = np.vstack([vertices.reshape(-1, 3), centres[-1] + ahead[-1] * radius[-1]])
    last = (rings - 1) * sides + np.arange(sides)
    cap = np.stack([last, (rings - 1) * sides + (np.arange(sides) + 1) % sides, np.full(sides, rings * sides)], 1)
    triangles = np.concatenate([_grid_triangles(rings, sides, closed=True), cap.astype(np.int32)])
    return vertices, triangles, np.append(u, along[-1]), np.append(np.tile(angle, rings), 0.0)


def turned(profile, sides, centre, axis=1):
    """A surface of revolution around an axis through ``centre``; profile (P, 2) of radius and height. u is the profile's share."""
    profile = np.asarray(profile, float)
    angle = np.linspace(0.0, 2 * np.pi, sides, endpoint=False)
    first, second = [k for k in range(3) if k != axis]
    vertices = np.zeros((len(profile), sides, 3))
    vertices[..., axis] = profile[:, None, 1]
    vertices[..., second] = profile[:, None, 0] * np.cos(angle)
    vertices[..., first] = profile[:, None, 0] * np.sin(angle)
    u = np.repeat(np.linspace(0.0, 1.0, len(profile)), sides)
    triangles = _grid_triangles(len(profile), sides, closed=True)
    return vertices.reshape(-1, 3) + np.array(centre), triangles, u, np.tile(angle, len(profile))


def sheet(rows_of_points):
    """A sheet through a grid of points (R, C, 3); u is the row's share, v the column's. Seen from both sides by its material."""
    points = np.asarray(rows_of_points, float)
    rows, columns = points.shape[:2]
    u, v = np.meshgrid(np.linspace(0, 1, rows), np.linspace(0, 1, columns), indexing="ij")
    return points.reshape(-1, 3), _grid_triangles(rows, columns, closed=False), u.ravel(), v.ravel()


def vertex_normals(vertices, triangles):
    """Area-weighted unit normals (V, 3)."""
    a, b, c = (vertices[triangles[:, k]] for k in range(3))
    face = np.cross(b - a, c - a)
    normals = np.zeros_like(vertices)
    for k in range(3):
        np.add.at(normals, triangles[:, k], face)
    return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
