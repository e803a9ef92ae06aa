"""Fibres: which way they run through tetrahedra, from where a muscle is attached to where it ends.

They follow the gradient of the harmonic field that is 0 at the one end and 1 at the other, and flows along the muscle's surface: the
classical rule for muscle (Choi and Blemker 2013). A tetrahedron counts by how much of it is inside, so that a lattice's steps do not show.
"""

import numpy as np
from scipy import sparse
from scipy.sparse import csgraph, linalg

from quiver.errors import BadInput

MOST_DENSE = 40
"""Nodes up to which a field is found by a dense factoring."""
STILL, FLAT = 1e-9, 1e-4
"""How firmly what hangs on nothing stays; a gradient smaller than the second share of the largest says no way."""


def gradients_of(nodes, tets):
    """What gives the gradient (3,) in each tetrahedron from values at its corners: (T, 3, 4) [1/m]."""
    inverse = np.linalg.inv(nodes[tets[:, 1:]] - nodes[tets[:, :1]])
    return np.concatenate([-inverse.sum(2, keepdims=True), inverse], 2)


def harmonic(nodes, tets, weights, is_begin, is_end):
    """Values (N,) from 0 where ``is_begin`` (N,) to 1 where ``is_end``, as even as can be; tetrahedra count by weights (T,).

    Raises BadInput where there is no begin or no end.
    """
    if not is_begin.any() or not is_end.any():
        raise BadInput("expected a muscle with two ends, got one that is attached at one end only")
    matrix, _ = _laplacian(nodes, tets, weights)
    values, free = is_end.astype(float), np.flatnonzero(~(is_begin | is_end))
    if len(free):
        # What hangs on nothing stays at the middle of both ends.
        inner = matrix[free][:, free] + sparse.diags(np.full(len(free), STILL * matrix.diagonal().max()))
        values[free] = linalg.spsolve(inner.tocsc(), -matrix[free] @ values + STILL * matrix.diagonal().max() * 0.5)
    return np.clip(values, 0.0, 1.0)


def slowest(nodes, tets, weights):
    """The field (N,) that changes most slowly of all that are not the same everywhere, as even as can be; tetrahedra count by weights (T,).

    One that falls into pieces is joined by weak links between their middles.
    """
    matrix, masses = _laplacian(nodes, tets, weights)
    count = len(nodes)
    _, pieces = csgraph.connected_components(matrix, directed=False)
    if pieces.max():
        # Without a link it would only tell the pieces apart.
        first = np.unique(pieces, return_index=True)[1]
        links = matrix.diagonal().mean() * sparse.coo_matrix((np.ones(len(first) - 1), (first[:-1], first[1:])), (count, count))
        links = links + links.T
        matrix = matrix + sparse.diags(np.asarray(links.sum(1)).ravel()) - links
    scale = 1.0 / np.sqrt(masses)
    balanced = sparse.diags(scale) @ matrix @ sparse.diags(scale)
    if count <= MOST_DENSE:
        return scale * np.linalg.eigh(balanced.toarray())[1][:, 1]
    shift = -1e-3 * float(balanced.diagonal().min())
    start = np.random.default_rng(1).normal(size=count)
    return scale * linalg.eigsh(balanced.tocsc(), 2, sigma=shift, v0=start)[1][:, 1]


def _laplacian(nodes, tets, weights):
    """The stiffness (N, N), sparse, of a field whose gradient costs, and what belongs to each node (N,) [m3]."""
    gradients = gradients_of(nodes, tets)
    volumes = np.abs(np.linalg.det(nodes[tets[:, 1:]] - nodes[tets[:, :1]])) / 6.0 * weights
    local = np.einsum("tki,tkj,t->tij", gradients, gradients, volumes)
    rows, columns = np.repeat(tets, 4, axis=1).ravel(), np.tile(tets, (1, 4)).ravel()
    matrix = sparse.csr_matrix((local.ravel(), (rows, columns)), shape=(len(nodes), len(nodes)))
    return matrix, np.bincount(tets.ravel(), np.repeat(0.25 * volumes, 4), len(nodes))


def directions(nodes, tets, values, weights, is_held, along):
    """Unit vectors (T, 3) along the gradient of values (N,), evened out over the tetrahedra around each corner, by their weights (T,).

    What has three corners or more that are held, ``is_held`` (N,), goes as those beside it; ``along`` (3,) where there are none.
    """
    ways = np.einsum("tki,ti->tk", gradients_of(nodes, tets), values[tets])
    volumes = np.abs(np.linalg.det(nodes[tets[:, 1:]] - nodes[tets[:, :1]])) * weights
    says = (is_held[tets].sum(1) < 3) & (np.linalg.norm(ways, axis=1) > FLAT * np.linalg.norm(ways, axis=1).max(initial=0.0))
    at_nodes = np.zeros((len(nodes), 3))
    np.add.at(at_nodes, tets[says].ravel(), np.repeat((ways * volumes[:, None])[says], 4, axis=0))
    is_known = np.zeros(len(nodes), bool)
    is_known[tets[says]] = True
    # Into the held ends, from those beside them.
    while (is_beside := is_known[tets].any(1) & ~is_known[tets].all(1)).any():
        beside = tets[is_beside]
        more = np.zeros_like(at_nodes)
        np.add.at(more, beside.ravel(), np.repeat(_units(at_nodes[beside].sum(1)), 4, axis=0))
        at_nodes, is_known = np.where(is_known[:, None], at_nodes, more), is_known.copy()
        is_known[beside] = True
    found = _units(_units(at_nodes)[tets].sum(1))
    return np.where(np.any(found != 0.0, axis=1, keepdims=True), found, along)


def _units(ways):
    return ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-300)
