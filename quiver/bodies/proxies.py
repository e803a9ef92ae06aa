"""Proxies: a light surface that stands in for a dense one while it is simulated."""

import fast_simplification
import numpy as np
from scipy import sparse

from quiver.bodies.simplified import shell
from quiver.errors import BadInput
from quiver.kernels.nearest import vertex_normals
from quiver.mesh.topology import edges_of_triangles, welded

PASS, BACK = 0.5, -0.53
"""Steps of a smoothing round, forth and back (Taubin 1995): what is rough goes, what is large stays."""
CELLS = 40
"""Cells along the longest side in which a closed proxy is made."""
FEWEST = 4


def make(surface, triangles, target, smoothing, offset, is_closed):
    """A proxy of a surface (V, 3), (F, 3), in its unit: (vertices (N, 3), triangles int32 (M, 3)).

    target     how many triangles it has, about, at the most; smoothing how many rounds; offset how far outside of the surface it lies
    is_closed  whether it is a shell around the surface instead of following it; such a shell lies outside by a cell at least

    Raises BadInput where there is nothing to make one of.
    """
    points = np.asarray(surface, float)
    faces = welded(points, triangles)
    if len(faces) < FEWEST:
        raise BadInput(f"expected a region with some triangles to make a proxy of, it has {len(faces)}")
    used, faces = np.unique(faces, return_inverse=True)
    points, faces = points[used], faces.reshape(-1, 3)
    if is_closed:
        points, faces = shell(points, faces, offset, max(float(np.ptp(points, axis=0).max()) / CELLS, 1e-9))
    points = _smoothed(points, faces, int(smoothing))
    if len(faces) > target:
        points, faces = fast_simplification.simplify(points, faces.astype(np.int64), target_count=int(target))
        points = np.asarray(points, float)
    if len(faces) < FEWEST:
        raise BadInput(f"expected a proxy of at least {FEWEST} triangles, {target:g} leave {len(faces)}")
    if offset and not is_closed:
        normals = np.empty_like(points)
        vertex_normals(points, np.ascontiguousarray(faces, np.int32), normals)
        points = points + offset * normals
    used, faces = np.unique(faces, return_inverse=True)
    return points[used], faces.reshape(-1, 3).astype(np.int32)


def _smoothed(points, faces, rounds):
    """Points after so many rounds; a rim stays a rim, as its points go by their neighbours along it only."""
    if not rounds:
        return points
    edges, counts = edges_of_triangles(faces, len(points))
    is_rim = np.zeros(len(points), bool)
    is_rim[edges[counts == 1].ravel()] = True
    kept = edges[(counts == 1) | ~is_rim[edges].any(1)]
    inner = edges[is_rim[edges].any(1) & (counts != 1)]
    # From the rim inwards it counts, the other way round it does not.
    rows = np.concatenate([kept[:, 0], kept[:, 1], *(inner[~is_rim[inner[:, k]], k] for k in (0, 1))])
    columns = np.concatenate([kept[:, 1], kept[:, 0], *(inner[~is_rim[inner[:, k]], 1 - k] for k in (0, 1))])
    means = sparse.csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(len(points), len(points)))
    means = sparse.diags(1.0 / np.maximum(np.asarray(means.sum(1)).ravel(), 1.0)) @ means
    alone = np.asarray(means.sum(1)).ravel() == 0.0
    for _ in range(rounds):
        for step in (PASS, BACK):
            moved = points + step * (means @ points - points)
            points = np.where(alone[:, None], points, moved)
    return points
