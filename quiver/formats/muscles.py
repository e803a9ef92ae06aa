"""What the stage draws of a muscle: its mesh and vertices, strokes along its fibres, and what holds its ends, as plain values."""

import numpy as np

MOST_STROKES, LONG = 260, 0.9
"""Strokes of one muscle at the most; how long each is, against the triangle that it lies on."""


def look(character, built):
    """{"mesh", "vertices", "strokes", "origin", "insertion"} of a BuiltMuscle.

    strokes are rows of three vertices of the mesh, by which shares the stroke's begin is of them, and its end; the last two are vertices
    that each end holds
    """
    piece, made, muscle = built.piece, built.shape.lattice, built.built()
    vertices = piece.vertices
    held = [np.flatnonzero(each[made.corners].all(1)) for each in built.held]
    return {
        "mesh": character.mesh_index(piece.mesh),
        "vertices": vertices.tolist(),
        "strokes": _strokes(piece, made, muscle),
        "origin": vertices[made.vertices[held[0]]].tolist(),
        "insertion": vertices[made.vertices[held[1]]].tolist(),
    }


def _strokes(piece, made, muscle):
    """Short strokes on the surface along the fibres below, rows of 3 + 3 + 3 numbers."""
    triangles = piece.triangles[:: max(1, -(-len(piece.triangles) // MOST_STROKES))]
    a, b, c = (piece.points[triangles[:, k]] for k in range(3))
    # A vertex goes as the tetrahedra around its corners.
    at_nodes = np.zeros((len(made.nodes), 3))
    np.add.at(at_nodes, made.tets.ravel(), np.repeat(muscle.directions, 4, axis=0))
    at_vertices = np.einsum("rc,rck->rk", made.corner_weights, at_nodes[made.corners])
    order = np.argsort(made.vertices)
    ways = at_vertices[order][triangles].sum(1)
    e1, e2 = b - a, c - a
    normals = np.cross(e1, e2)
    squares = np.maximum(np.einsum("tk,tk->t", normals, normals), 1e-30)
    ways = ways - (np.einsum("tk,tk->t", ways, normals) / squares)[:, None] * normals
    ways = ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-30) * (LONG * 0.5 * squares**0.25)[:, None]
    # In shares of the two edges.
    first = np.einsum("tk,tk->t", np.cross(ways, e2), normals) / squares
    second = np.einsum("tk,tk->t", np.cross(e1, ways), normals) / squares
    shares = np.stack([-first - second, first, second], axis=1)
    rows = np.column_stack([piece.vertices[triangles], np.round(1 / 3 - shares, 4), np.round(1 / 3 + shares, 4)])
    return [[*map(int, row[:3]), *map(float, row[3:])] for row in rows]
