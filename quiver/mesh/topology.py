"""How the vertices of a mesh hang together. Vertices at one place are one point: seams of colours or textures do not cut."""

import itertools
from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse import csgraph

_FACES = ((0, 1, 2), (0, 1, 3), (0, 2, 3), (1, 2, 3))
_PAIRS = np.array(list(itertools.combinations(range(4), 2)))


@dataclass(frozen=True)
class Topology:
    """V vertices at P positions.

    place_of   int (V,) the place of each vertex; positions float64 (P, 3); triangles int (T, 3) positions, without flat ones
    links      sparse (P, P), the length of the edge between two positions that share one
    piece_of   int (P,) which connected piece a place belongs to
    """

    place_of: np.ndarray
    positions: np.ndarray
    triangles: np.ndarray
    links: sparse.csr_matrix
    piece_of: np.ndarray

    def spread(self, values):
        """Values of positions (P, ...) as values of vertices (V, ...)."""
        return values[self.place_of]

    def gathered(self, values):
        """The largest of the values (V,) of the vertices at each place (P,)."""
        out = np.full(len(self.positions), -np.inf)
        np.maximum.at(out, self.place_of, values)
        return out


def topology(positions, triangles):
    """The Topology of a mesh: positions (V, 3), triangles (T, 3)."""
    positions = np.asarray(positions, float)
    first, place_of = _same_positions(positions)
    positions = positions[first]
    corners = place_of[triangles]
    a, b, c = corners.T
    corners = corners[(a != b) & (b != c) & (a != c)]
    edges, _ = edges_of_triangles(corners, len(positions))
    lengths = np.linalg.norm(positions[edges[:, 0]] - positions[edges[:, 1]], axis=1)
    both = (np.concatenate([lengths, lengths]), (np.concatenate([edges[:, 0], edges[:, 1]]), np.concatenate([edges[:, 1], edges[:, 0]])))
    links = sparse.csr_matrix(both, shape=(len(positions), len(positions)))
    _, piece_of = csgraph.connected_components(links, directed=False)
    return Topology(place_of, positions, corners, links, piece_of)


def welded(positions, triangles):
    """The triangles (T, 3) between the first vertices at each place of positions (V, 3), without flat ones."""
    first, place_of = _same_positions(np.asarray(positions, float))
    corners = first[place_of][triangles]
    a, b, c = corners.T
    return corners[(a != b) & (b != c) & (a != c)]


def _same_positions(positions):
    """(the first vertex at each place (P,), the place of each vertex (V,)) of positions (V, 3); places in the order of the vertices."""
    if not len(positions):
        return np.zeros(0, int), np.zeros(0, int)
    # To float32, but seen from their middle: so far from the origin nothing else is one.
    near = (positions - 0.5 * (positions.min(0) + positions.max(0))).astype(np.float32)
    order = np.lexsort(near.T[::-1])
    is_new = np.ones(len(order), bool)
    is_new[1:] = (near[order[1:]] != near[order[:-1]]).any(1)
    # The sort is stable, so the first of each place is its first vertex.
    first, sorted_place = order[is_new], np.cumsum(is_new) - 1
    by = np.argsort(first)
    number = np.empty(len(first), int)
    number[by] = np.arange(len(first))
    place_of = np.empty(len(order), int)
    place_of[order] = number[sorted_place]
    return first[by], place_of


def edges_of_triangles(triangles, count):
    """The edges (E, 2) of triangles (T, 3) between so many points, each once with its lower end first, and how many triangles each has."""
    return _unique_edges(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), count)


def pieces_of_pairs(pairs, count):
    """Which connected piece each of so many points belongs to, int (count,), where pairs (E, 2) of them hang together."""
    graph = sparse.coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), (count, count))
    return csgraph.connected_components(graph, directed=False)[1]


def neighbours_across(triangles):
    """The triangle across the side opposite to each corner of triangles (F, 3), int32 (F, 3); -1 where there is none, or several."""
    sides = np.sort(triangles[:, [[1, 2], [2, 0], [0, 1]]].reshape(-1, 2), axis=1).astype(np.int64)
    _, which, counts = np.unique(sides @ [int(triangles.max(initial=0)) + 1, 1], return_inverse=True, return_counts=True)
    out = np.full(len(sides), -1, np.int32)
    pairs = np.argsort(which, kind="stable")[np.repeat(counts == 2, counts)].reshape(-1, 2)
    out[pairs] = pairs[:, ::-1] // 3
    return out.reshape(-1, 3)


def _unique_edges(pairs, count):
    # As one number each they are sorted faster than pairs.
    keys, counts = np.unique(np.sort(pairs, axis=1).astype(np.int64) @ [count, 1], return_counts=True)
    return np.column_stack([keys // count, keys % count]), counts


def distance_along(top, sources, limit=np.inf):
    """Distance along the edges from the nearest of the source positions (P,): at most ``limit``, beyond it infinite (Dijkstra)."""
    if not len(sources):
        return np.full(len(top.positions), np.inf)
    return csgraph.dijkstra(top.links, directed=False, indices=sources, limit=limit, min_only=True)


def outer_faces(tets):
    """The faces (F, 3) that belong to one of the tetrahedra (T, 4) only, their corners in rising order."""
    faces = np.sort(np.concatenate([tets[:, face] for face in _FACES]), axis=1)
    faces, counts = np.unique(faces, axis=0, return_counts=True)
    return faces[counts == 1]


def surface_of_tets(nodes, tets):
    """The outer faces int32 (F, 3) of tetrahedra (T, 4) at nodes (N, 3), looking outwards."""
    faces = np.concatenate([tets[:, face] for face in _FACES])
    opposite = np.concatenate([tets[:, sum(range(4)) - sum(face)] for face in _FACES])
    _, first, counts = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_counts=True)
    faces, opposite = faces[first[counts == 1]], opposite[first[counts == 1]]
    a, b, c = (nodes[faces[:, k]] for k in range(3))
    inwards = np.einsum("fk,fk->f", np.cross(b - a, c - a), nodes[opposite] - a) > 0.0
    return np.where(inwards[:, None], faces[:, ::-1], faces).astype(np.int32)


def faces_of_tets(nodes, tets):
    """All faces int32 (4 T, 3) of tetrahedra (T, 4) at nodes (N, 3), looking outwards, those of each one after another."""
    faces = np.stack([tets[:, face] for face in _FACES], axis=1)
    opposite = np.stack([tets[:, sum(range(4)) - sum(face)] for face in _FACES], axis=1)
    a, b, c = (nodes[faces[..., k]] for k in range(3))
    inwards = np.einsum("tfk,tfk->tf", np.cross(b - a, c - a), nodes[opposite] - a) > 0.0
    return np.where(inwards[..., None], faces[..., ::-1], faces).reshape(-1, 3).astype(np.int32)


def edges_of_tets(nodes, tets):
    """The edges int32 (E, 2) of tetrahedra (T, 4), each once, and their lengths (E,) between nodes (N, 3)."""
    edges = _unique_edges(tets[:, _PAIRS].reshape(-1, 2), len(nodes))[0].astype(np.int32)
    return edges, np.linalg.norm(nodes[edges[:, 1]] - nodes[edges[:, 0]], axis=1)
