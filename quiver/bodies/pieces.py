"""The pieces that a mesh falls into, and whether each can be a muscle: closed, with an inside, not too small."""

from dataclasses import dataclass

import igl
import numpy as np

from quiver.cache import Cache
from quiver.kernels.nearest import vertex_normals
from quiver.mesh.topology import edges_of_triangles, topology
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions

FEWEST = 8
"""Vertices below which a piece is set aside."""
TINY = 0.003
"""A piece shorter than this share of its character is set aside."""
FLAT = 0.02
"""A piece whose volume, against that of a ball with its surface, is less than this is flat."""
OPEN = 0.2
"""A piece of which a larger share of the edges are open has no inside; what is less is closed as if by a lid."""
CROSSING, ABOVE, WOUND = 0.005, 1e-3, 0.7
"""A piece crosses itself where more than this share of its vertices, looked at from so far above, lies inside of it."""
KEPT = 512
_known = Cache(KEPT)


@dataclass(frozen=True, eq=False)
class Piece:
    """One piece of a mesh that hangs together, in the rest pose.

    mesh        its name; at its first vertex, which names it; vertices int (V,) of the mesh, rising; points (V, 3) [m]
    triangles   int (F, 3) of its own vertices, seams welded
    volume [m3], length [m] from corner to corner; problems in words, hinders whether one of them means that it cannot be a muscle
    spot        the vertex of the mesh at which the first problem is, else one near the middle
    """

    mesh: str
    at: int
    vertices: np.ndarray
    points: np.ndarray
    triangles: np.ndarray
    volume: float
    length: float
    problems: tuple
    hinders: bool
    spot: int


def pieces_of(character, mesh_name, scale):
    """The Pieces of a mesh at ``scale`` [m] of one unit of the file, in the order of their first vertices, kept. Raises BadInput."""
    return _known.get(character, (mesh_name, scale), lambda: tuple(_pieces(character, mesh_name, scale)))


def _pieces(character, mesh_name, scale):
    mesh, rest = character.mesh(mesh_name), rest_matrices(character.skeleton)
    positions = skinned_positions(mesh, rest) * scale
    everything = [skinned_positions(each, rest) for each in character.meshes]
    size = scale * float(np.linalg.norm(np.ptp(np.concatenate(everything), axis=0)))
    top = topology(positions, mesh.triangles)
    of_vertex, of_face = top.piece_of[top.place_of], top.piece_of[top.triangles[:, 0]] if len(top.triangles) else np.zeros(0, int)
    # The first vertex at each place stands for all of them.
    _, first = np.unique(top.place_of, return_index=True)
    numbers, begins = np.unique(of_vertex, return_index=True)
    for number in numbers[np.argsort(begins)]:
        vertices = np.flatnonzero(of_vertex == number)
        faces = first[top.triangles[of_face == number]]
        # A vertex of no triangle is no piece.
        if len(faces):
            yield _piece(mesh_name, vertices, positions[vertices], np.searchsorted(vertices, faces), size)


def _piece(mesh_name, vertices, points, triangles, size):
    middle = 0.5 * (points.min(0) + points.max(0))
    a, b, c = (points[triangles[:, k]] - middle for k in range(3))
    volume = float(np.einsum("fk,fk->f", a, np.cross(b, c)).sum() / 6.0)
    if volume < 0.0:
        triangles, volume = triangles[:, ::-1], -volume
    area = 0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())
    length = float(np.linalg.norm(np.ptp(points, axis=0)))
    problems, hinders, spot = [], False, int(np.linalg.norm(points - points.mean(0), axis=1).argmin())
    edges, counts = edges_of_triangles(triangles, len(points))
    open_edges = edges[counts == 1]
    if len(points) < FEWEST or length < TINY * size:
        problems.append(f"too small: {len(points)} vertices, {1000.0 * length:.3g} mm long")
        hinders = True
    elif len(open_edges) > OPEN * len(edges):
        problems.append(f"open: {len(open_edges)} of its {len(edges)} edges have one triangle only, so it has no inside")
        hinders, spot = True, open_edges[0, 0]
    elif volume < FLAT * (area / np.pi) ** 1.5 * np.pi / 6.0:
        problems.append(f"flat: {1e6 * volume:.3g} cm³ inside of {1e4 * area:.3g} cm²")
        hinders = True
    else:
        if len(open_edges):
            where = ", ".join(f"{number:.3g}" for number in 1000.0 * points[open_edges[0, 0]])
            problems.append(f"open along {len(open_edges)} edges, near {where} mm; closed as if by a lid")
        if (counts > 2).any():
            problems.append(f"{int((counts > 2).sum())} edges have more than two triangles")
        used, crosses = _crossing(points, triangles, length)
        if crosses.mean() > CROSSING:
            problems.append(f"crosses itself at {100.0 * crosses.mean():.0f} % of its vertices")
        if problems:
            spot = np.concatenate([open_edges[:, 0], edges[counts > 2][:, 0], used[crosses]])[0]
    return Piece(mesh_name, int(vertices[0]), vertices, points, triangles, volume, length, tuple(problems), hinders, int(vertices[spot]))


def _crossing(points, triangles, length):
    """(its vertices, which of them have an outside that is inside of it)."""
    normals, used = np.empty_like(points), np.unique(triangles)
    vertex_normals(points, triangles, normals)
    above = points[used] + ABOVE * length * normals[used]
    return used, igl.fast_winding_number(points, triangles.astype(np.int64), above) > WOUND + 0.5
