"""How the vertices of a mesh hang together. Vertices at one place are one point: seams of colours or textures do not cut."""

import itertools
from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse import csgraph

_PAIRS = np.array(list(itertools.combinations(range(4), 2)))


@dataclass(frozen=True)
class Topology:
    """V vertices at P places.

    place_of   int (V,) the place of each vertex; places float64 (P, 3); triangles int (T, 3) places, without flat ones
    links      sparse (P, P), the length of the edge between two places that share one
    piece_of   int (P,) which connected piece a place belongs to
    """

    place_of: np.ndarray
    places: np.ndarray
    triangles: np.ndarray
    links: sparse.csr_matrix
    piece_of: np.ndarray

    def spread(self, values):
        """Values of places (P, ...) as values of vertices (V, ...)."""
        return values[self.place_of]

    def gathered(self, values):
        """The largest of the values (V,) of the vertices at each place (P,)."""
        out = np.full(len(self.places), -np.inf)
        np.maximum.at(out, self.place_of, values)
        return out


def topology(positions, triangles):
    """The Topology of a mesh: positions (V, 3), triangles (T, 3)."""
    places, place_of = np.unique(np.asarray(positions, np.float32), axis=0, return_inverse=True)
    place_of = place_of.ravel()
    corners = place_of[triangles]
    a, b, c = corners.T
    corners = corners[(a != b) & (b != c) & (a != c)]
    edges = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
    edges = np.unique(np.sort(edges, axis=1), axis=0)
    lengths = np.linalg.norm(places[edges[:, 0]].astype(float) - places[edges[:, 1]], axis=1)
    both = (np.concatenate([lengths, lengths]), (np.concatenate([edges[:, 0], edges[:, 1]]), np.concatenate([edges[:, 1], edges[:, 0]])))
    links = sparse.csr_matrix(both, shape=(len(places), len(places)))
    _, piece_of = csgraph.connected_components(links, directed=False)
    return Topology(place_of, places.astype(float), corners, links, piece_of)


def welded(positions, triangles):
    """The triangles (T, 3) between the first vertices at each place of positions (V, 3), without flat ones."""
    _, first, place_of = np.unique(np.asarray(positions, np.float32), axis=0, return_index=True, return_inverse=True)
    corners = first[place_of.ravel()][triangles]
    a, b, c = corners.T
    return corners[(a != b) & (b != c) & (a != c)]


def distance_along(top, sources, limit=np.inf):
    """Distance along the edges from the nearest of the source places (P,): at most ``limit``, beyond it infinite (Dijkstra)."""
    if not len(sources):
        return np.full(len(top.places), np.inf)
    return csgraph.dijkstra(top.links, directed=False, indices=sources, limit=limit, min_only=True)


def edges_of_tets(nodes, tets):
    """The edges int32 (E, 2) of tetrahedra (T, 4), each once, and their lengths (E,) between nodes (N, 3)."""
    # As one number each they are sorted faster than pairs.
    keys = np.unique(np.sort(tets[:, _PAIRS].reshape(-1, 2), axis=1).astype(np.int64) @ [len(nodes), 1])
    edges = np.column_stack([keys // len(nodes), keys % len(nodes)]).astype(np.int32)
    return edges, np.linalg.norm(nodes[edges[:, 1]] - nodes[edges[:, 0]], axis=1)
