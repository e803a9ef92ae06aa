"""A solid for a region: a lattice of tetrahedra around its vertices and the flesh behind them.

The lattice is body-centred cubic (every tetrahedron is alike and nearly regular): its nodes are the corners and the centres of
cubic cells, and each face between two cells carries four tetrahedra, made of both centres and one edge of the face.
"""

from dataclasses import dataclass, replace

import igl
import numpy as np
from scipy.spatial import KDTree

from quiver.errors import BadInput
from quiver.mesh.topology import pieces_of_pairs

MOST_CELLS = 250_000
"""Cells of the box around a region, twelve tetrahedra each: what is looked at, not what is kept. About half a gigabyte."""
NEAR_VERTICES = 4
"""Vertices from which a node takes its influence and its skin weights."""
EXACT = 9
"""Decimals of a metre that float64 still has a thousand kilometres from the origin."""
INWARDS = 1.0 - 1e-7
SAMPLES = np.concatenate([np.full((1, 4), 0.25)] + [0.25 + share * (np.eye(4) - 0.25) for share in (0.3, 0.6, 0.9)])
"""Where a tetrahedron is looked at: its middle, and on the ways to its corners."""
_OTHER_AXES = np.array([[1, 2], [2, 0], [0, 1]])


@dataclass(frozen=True)
class Lattice:
    """N nodes, T tetrahedra, R vertices of the region.

    nodes float64 (N, 3) in the rest pose; tets int32 (T, 4), each of positive volume; is_inner bool (N,): next to flesh of the
    same body that is not the region's
    vertices int (R,); corners int32 (R, 4), corner_weights float64 (R, 4): each vertex's tetrahedron and its place in it
    is_thin bool (R,) which vertices lie away from all tetrahedra that fit into the flesh: one was made for them all the same
    pieces int (N,) which connected piece a node belongs to; edge the length of a cell
    is_under bool (N,), of a layer: on its inner side, with flesh behind it that is too deep to be part of it
    filled float64 (T,), of one that is cut: which share of each tetrahedron is inside
    """

    nodes: np.ndarray
    tets: np.ndarray
    is_inner: np.ndarray
    vertices: np.ndarray
    corners: np.ndarray
    corner_weights: np.ndarray
    is_thin: np.ndarray
    pieces: np.ndarray
    edge: float
    is_under: np.ndarray | None = None
    filled: np.ndarray | None = None


def build(positions, triangles, chosen, edge, is_cut=False, thickness=None):
    """The Lattice for the ``chosen`` (bool) vertices of a surface, which may be open or cross itself.

    positions (V, 3), triangles (F, 3), edge the length of a cell; all in metres. It has the tetrahedra whose middles are inside, or, where
    it ``is_cut``, all of which some part is. ``thickness`` (V,) [m] leaves only what is no deeper below the skin. Raises BadInput.
    """
    vertices = np.flatnonzero(chosen)
    if not len(vertices):
        raise BadInput("expected a region with at least one vertex in it, got an empty one")
    # Seen from the region's middle, so that it is the same wherever that is, and mirrored.
    own_positions = np.asarray(positions, float)[vertices]
    origin = 0.5 * (own_positions.min(0) + own_positions.max(0))
    points = seen_from(origin, positions)
    size = np.ceil(np.ptp(points[vertices], axis=0) / edge + 3.0 - 1e-9).astype(int)
    low = -0.5 * edge * size
    cells = float(np.prod(size.astype(float)))
    if cells > MOST_CELLS:
        least = 1000.0 * edge * (cells / MOST_CELLS) ** (1 / 3)
        raise BadInput(f"expected cells of at least about {least:.0f} mm for a part of this size, got {1000.0 * edge:g} mm")
    faces = _all_faces(size)
    middles = _middles(faces)
    # What lies on a face between two cells goes to the inner one.
    own = _key_of(INWARDS * points[vertices] - low, edge, size)
    centres = low + edge * middles
    nearest = KDTree(points).query(centres, workers=-1)[1]
    around_region = chosen[nearest]
    flesh, shares = np.zeros(len(centres), bool), np.zeros(len(centres))
    # Only what is near the region or touches it is worth asking whether it is inside.
    asked = np.flatnonzero(_near_region(around_region, size))
    if is_cut:
        corners = low + edge * _node_positions(_node_codes(faces[asked], size).ravel(), size)
        shares[asked] = _filled(corners.reshape(-1, 4, 3), points, triangles)
        flesh = shares > 0.0
    else:
        flesh[asked] = _is_inside(centres[asked], points, triangles)
    kept = flesh & around_region
    if thickness is not None:
        inner = np.flatnonzero(kept)
        squares = igl.point_mesh_squared_distance(np.ascontiguousarray(centres[inner]), points, np.asarray(triangles, np.int64))[0]
        kept[inner] = np.sqrt(squares) <= thickness[nearest[inner]]
    full = np.unique(_node_codes(faces[np.flatnonzero(kept)], size))
    is_thin = ~np.isin(_node_codes(faces[own], size), full).any(1)
    kept[own] = True
    rows = np.flatnonzero(kept)
    codes = _node_codes(faces[rows], size)
    used, tets = np.unique(codes, return_inverse=True)
    tets = tets.reshape(codes.shape).astype(np.int32)
    beside = flesh & ~kept if thickness is None else flesh & ~around_region
    others = np.unique(_node_codes(faces[np.flatnonzero(beside)], size))
    under = np.isin(used, np.unique(_node_codes(faces[np.flatnonzero(flesh & around_region & ~kept)], size)))
    nodes, tets, order, place_of = ordered(low + edge * _node_positions(used, size), tets)
    row_of = np.full(len(faces), -1)
    row_of[rows] = place_of
    corners = tets[row_of[own]]
    corner_weights = barycentric(nodes[corners], points[vertices])
    is_inner, whose = np.isin(used, others)[order], pieces(len(nodes), tets)
    is_under = None if thickness is None else under[order] & ~is_inner
    parts = (origin + nodes, tets, is_inner, vertices, corners, corner_weights, is_thin, whose, edge, is_under)
    return Lattice(*parts, shares[rows][np.argsort(place_of)] if is_cut else None)


def _filled(corners, points, triangles):
    """Which share of tetrahedra with corners (T, 4, 3) lies inside of a surface, points (V, 3) and triangles (F, 3), by a few samples each:
    (T,)."""
    asked = np.einsum("sc,tck->tsk", SAMPLES, corners).reshape(-1, 3)
    return _is_inside(asked, points, triangles).reshape(len(corners), -1).mean(1)


def _is_inside(asked, points, triangles):
    wound = igl.fast_winding_number(np.ascontiguousarray(points, float), np.asarray(triangles, np.int64), np.ascontiguousarray(asked))
    return np.abs(wound) > 0.5


def seen_from(origin, points):
    """Points (N, 3) from an origin [m], rounded so that what is equally near is so however far away all of it is."""
    return np.round(np.asarray(points, float) - origin, EXACT)


def build_apart(positions, triangles, chosen, edge, piece_of):
    """Like `build`, but each piece of the surface, as ``piece_of`` int (V,) numbers them, is a solid of its own. Raises BadInput."""
    parts, kept = [], np.flatnonzero(np.bincount(piece_of[chosen], minlength=piece_of.max() + 1))
    for piece in kept:
        own = np.flatnonzero(piece_of == piece)
        number = np.full(len(positions), -1)
        number[own] = np.arange(len(own))
        faces = number[triangles[(number[triangles] >= 0).all(1)]]
        part = build(positions[own], faces, chosen[own], edge)
        parts.append(replace(part, vertices=own[part.vertices]))
    return _joined(parts)


def _joined(parts):
    """Several lattices as one that hang together nowhere; its region's vertices in order."""
    starts = np.cumsum([0, *(len(part.nodes) for part in parts[:-1])])
    nodes, tets, order, _ = ordered(
        np.concatenate([part.nodes for part in parts]),
        np.concatenate([part.tets + start for part, start in zip(parts, starts, strict=True)]),
    )
    number = np.empty(len(order), np.int32)
    number[order] = np.arange(len(order))
    vertices = np.concatenate([part.vertices for part in parts])
    sequence = np.argsort(vertices)
    corners = number[np.concatenate([part.corners + start for part, start in zip(parts, starts, strict=True)])]
    corner_weights = np.concatenate([part.corner_weights for part in parts])
    is_thin = np.concatenate([part.is_thin for part in parts])
    is_inner = np.concatenate([part.is_inner for part in parts])[order]
    embedded = (vertices[sequence], corners[sequence], corner_weights[sequence], is_thin[sequence])
    return Lattice(nodes, tets, is_inner, *embedded, pieces(len(nodes), tets), parts[0].edge)


def ordered(nodes, tets):
    """Number nodes (N, 3) and tetrahedra (T, 4) one after another along the longest side, so that what is near has near numbers.

    Returns both, which node was which (N,), and where each tetrahedron went (T,). Each has a positive volume, and its first two corners
    in order: those of an edge that its neighbours share.
    """
    order = along(nodes)
    number = np.empty(len(order), np.int32)
    number[order] = np.arange(len(order))
    tets = number[tets]
    tets[:, :2].sort(1)
    sequence = np.argsort(tets.min(1), kind="stable")
    place_of = np.empty(len(sequence), int)
    place_of[sequence] = np.arange(len(sequence))
    return nodes[order], _positive(nodes[order], tets[sequence]), order, place_of


def along(nodes):
    """An order (N,) of nodes (N, 3) along their longest side, those abreast as they came, wherever all of them are."""
    size = np.ptp(nodes, axis=0)
    axis = np.argmax(size)
    return np.argsort(np.round((nodes[:, axis] - nodes[:, axis].min()) / max(size[axis], 1e-12), 6), kind="stable")


def _all_faces(size):
    """All tetrahedra of a grid as rows (i, j, k, axis, side); the row's number is what `_key_of` gives."""
    grids = np.meshgrid(*(np.arange(n) for n in (*size, 3, 4)), indexing="ij")
    return np.stack([grid.ravel() for grid in grids], 1)


def _sides(faces):
    """Which two of the four corners of the face, as (first, second) steps along the two other axes: (T, 2, 2)."""
    table = np.array([[[0, 0], [0, 1]], [[1, 0], [1, 1]], [[0, 0], [1, 0]], [[0, 1], [1, 1]]])
    return table[faces[:, 4]]


def _corner_positions(faces):
    """Grid positions of the face's two corners, (T, 2, 3)."""
    cells, axes = faces[:, :3], faces[:, 3]
    rows = np.arange(len(faces))
    positions = np.repeat(cells[:, None], 2, 1)
    positions[rows, :, axes] += 1
    steps = _sides(faces)
    for slot in range(2):
        positions[rows, :, _OTHER_AXES[axes, slot]] += steps[:, :, slot]
    return positions


def _middles(faces):
    """Centroids in grid units, (T, 3)."""
    step = np.eye(3)[faces[:, 3]]
    centres = 2.0 * (faces[:, :3] + 0.5) + step
    return (centres + _corner_positions(faces).sum(1)) / 4.0


def _node_codes(faces, size):
    """Numbers of the four nodes: both centres, both corners; corners even, centres odd. (T, 4)."""
    wide = size + 2
    step = np.eye(3, dtype=int)[faces[:, 3]]

    def number(positions):
        return (positions[..., 0] * wide[1] + positions[..., 1]) * wide[2] + positions[..., 2]

    corners = _corner_positions(faces)
    centres = np.stack([faces[:, :3], faces[:, :3] + step], 1)
    return np.concatenate([2 * number(centres) + 1, 2 * number(corners)], 1)


def _node_positions(codes, size):
    wide = size + 2
    number, is_centre = codes // 2, codes % 2
    positions = np.stack([number // (wide[1] * wide[2]), number // wide[2] % wide[1], number % wide[2]], 1)
    return positions + 0.5 * is_centre[:, None]


def _key_of(points, edge, size):
    """The tetrahedron (row of `_all_faces`) that holds each point, given from the grid's low corner."""
    cells = np.floor(points / edge).astype(int)
    inside = points / edge - cells - 0.5
    rows = np.arange(len(points))
    axis = np.argmax(np.abs(inside), axis=1)
    cells[rows, axis] -= inside[rows, axis] < 0.0
    first, second = (inside[rows, _OTHER_AXES[axis, slot]] for slot in range(2))
    side = np.where(np.abs(first) >= np.abs(second), np.where(first < 0.0, 0, 1), np.where(second < 0.0, 2, 3))
    return np.ravel_multi_index((*cells.T, axis, side), (*size, 3, 4))


def _near_region(around_region, size):
    """Rows in or beside a cell with a tetrahedron of the region."""
    cells = around_region.reshape(*size, 12).any(-1)
    wide = cells.copy()
    for axis in range(3):
        for shift in (-1, 1):
            wide |= np.roll(cells, shift, axis)
    return np.repeat(wide.ravel(), 12)


def _positive(nodes, tets):
    a, b, c, d = (nodes[tets[:, k]] for k in range(4))
    swapped = np.einsum("ij,ij->i", b - a, np.cross(c - a, d - a)) < 0.0
    tets = tets.copy()
    tets[swapped, 2], tets[swapped, 3] = tets[swapped, 3], tets[swapped, 2].copy()
    return tets


def barycentric(corners, points):
    """Barycentric weights (R, 4) of four corners (R, 4, 3) that give points (R, 3)."""
    edges = np.swapaxes(corners[:, 1:] - corners[:, :1], 1, 2)
    rest = np.linalg.solve(edges, (points - corners[:, 0])[..., None])[..., 0]
    return np.concatenate([1.0 - rest.sum(1, keepdims=True), rest], 1)


def pieces(count, tets):
    """Which connected piece each of so many nodes belongs to, int (count,), of tetrahedra (T, 4)."""
    return pieces_of_pairs(np.concatenate([tets[:, [0, 1]], tets[:, [0, 2]], tets[:, [0, 3]]]), count)


def corner_weights_at(lattice, place):
    """The tetrahedron (4,) that holds a place (3,), or is nearest to it, and the place's corner_weights (4,) of its corners."""
    corners = lattice.nodes[lattice.tets]
    corner_weights = barycentric(corners, np.broadcast_to(place, (len(corners), 3)))
    found = int(np.argmax(corner_weights.min(1)))
    if corner_weights[found].min() < 0.0:
        # Outside, it goes with the nearest spot of the solid.
        found = int(np.argmin(np.linalg.norm(corners.mean(1) - place, axis=1)))
    inside = np.maximum(corner_weights[found], 0.0)
    return lattice.tets[found], inside / inside.sum()


def near_vertices(positions, nodes):
    """The NEAR_VERTICES vertices nearest to each node, and their shares by inverse squared distance: (N, k) and (N, k)."""
    count = min(NEAR_VERTICES, len(positions))
    origin = np.min(nodes, axis=0)
    distances, near = KDTree(seen_from(origin, positions)).query(seen_from(origin, nodes), k=count)
    distances, near = distances.reshape(len(nodes), count), near.reshape(len(nodes), count)
    weights = 1.0 / np.maximum(distances, 1e-9) ** 2
    return near, weights / weights.sum(1, keepdims=True)
