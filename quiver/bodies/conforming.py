"""A solid whose outside follows the skin: tetrahedra of a whole mesh by an optional package, in a process of its own.

That computation takes seconds to a minute and does not come out the same twice. So it is done once, on request, its result is kept in
the setup as a text, and a region takes its part of it like of a lattice.
"""

import base64
import binascii
import io
import os
import subprocess
import sys
import tempfile
import time
import types
import zlib
from pathlib import Path

import numpy as np
from scipy.spatial import KDTree

from quiver.bodies import lattice as lattices
from quiver.errors import BadInput

MOST_TETS = 400_000
NEAR_TETS = 12
"""Tetrahedra, by nearness of their centres, among which a vertex finds its own."""
ENVELOPE, ENOUGH = 1e-2, 30.0
"""How far the outside may leave the skin, as a share of its size; the badness of tetrahedra at which improving them ends."""
FAR_OUTSIDE = -0.5
"""A vertex with so small a share of a corner lies outside its tetrahedron by half its height: the solid missed its part of the skin."""
POLL_SECONDS = 0.1
FLAT = 1e-12
HOME = Path(__file__).parents[2]


def tetrahedralise(positions, triangles, edge, keep_going=lambda: True):
    """(nodes (N, 3), tets (T, 4)) of a surface that may be open or cross itself; edge as in ``positions``. None where it was stopped.

    Raises BadInput where the package is not installed, or finds no inside.
    """
    home = os.environ | {"PYTHONPATH": str(HOME)}
    with (
        tempfile.TemporaryFile() as request,
        tempfile.TemporaryFile() as answer,
        tempfile.TemporaryFile() as words,
        # The package leaves files where it stands.
        tempfile.TemporaryDirectory() as folder,
    ):
        np.savez(request, positions=np.asarray(positions, float), triangles=np.asarray(triangles, np.int32), edge=edge)
        request.seek(0)
        worker = subprocess.Popen([sys.executable, "-m", __name__], stdin=request, stdout=answer, stderr=words, cwd=folder, env=home)
        try:
            while worker.poll() is None:
                if not keep_going():
                    return None
                time.sleep(POLL_SECONDS)
        finally:
            worker.kill()
            worker.wait()
        words.seek(0)
        said = words.read().decode(errors="replace").strip().splitlines()
        if worker.returncode:
            raise BadInput(f"expected tetrahedra that fill this mesh, but it could not be done: {said[-1] if said else 'no word why'}")
        answer.seek(0)
        found = np.load(answer)
        return found["nodes"], found["tets"]


def _answer():
    """The other process: a surface comes in, tetrahedra go out."""
    answer = os.dup(1)
    # What the package itself prints must not get among the numbers.
    os.dup2(2, 1)
    request = np.load(io.BytesIO(sys.stdin.buffer.read()))
    # The package asks for a viewer that nothing here needs.
    sys.modules.setdefault("pyvista", types.ModuleType("pyvista"))
    try:
        import pytetwild  # noqa: PLC0415  optional, and only in this process
    except ImportError:
        sys.exit("the optional extra “conforming” is not installed (pip install pytetwild)")
    options = {"edge_length_abs": float(request["edge"]), "epsilon": ENVELOPE, "stop_energy": ENOUGH}
    nodes, tets = pytetwild.tetrahedralize(request["positions"], request["triangles"], **options)
    if not len(tets):
        sys.exit("no inside was found")
    with open(answer, "wb") as out:
        np.savez(out, nodes=nodes, tets=tets)


def encode(nodes, tets):
    """Nodes and tetrahedra as a text for the setup document, the nodes rounded to float32."""
    head = np.array([len(nodes), len(tets)], "<u4").tobytes()
    raw = head + np.asarray(nodes, "<f4").tobytes() + np.asarray(tets, "<u4").tobytes()
    return base64.b64encode(zlib.compress(raw, 6)).decode()


def decode(text):
    """Nodes float64 (N, 3) and tets int32 (T, 4) of a text. Raises BadInput."""
    try:
        packed, limit = base64.b64decode(text, validate=True), 8 + (12 + 16) * MOST_TETS
        raw = zlib.decompressobj().decompress(packed, limit + 1)
    except (binascii.Error, ValueError, zlib.error) as error:
        raise BadInput(f"expected a built solid, could not read it: {error}") from error
    count, many = np.frombuffer(raw[:8].ljust(8, b"\0"), "<u4").astype(int)
    if not (0 < count <= MOST_TETS and 0 < many <= MOST_TETS and len(raw) == 8 + 12 * count + 16 * many):
        raise BadInput(
            f"expected a built solid of at most {MOST_TETS} tetrahedra, got {count} nodes and {many} tetrahedra in {len(raw)} bytes"
        )
    nodes = np.frombuffer(raw, "<f4", 3 * count, 8).reshape(-1, 3).astype(float)
    tets = np.frombuffer(raw, "<u4", 4 * many, 8 + 12 * count).reshape(-1, 4)
    if not np.isfinite(nodes).all() or tets.max() >= count:
        raise BadInput("expected a built solid with finite nodes, and tetrahedra between them")
    return nodes, tets.astype(np.int32)


def build(positions, chosen, nodes, tets):
    """The Lattice for the ``chosen`` (bool) vertices (V, 3): the tetrahedra nearest to them of a whole mesh's. Raises BadInput.

    Its ``edge`` is that of a lattice as fine as most of these tetrahedra are.
    """
    vertices, points = np.flatnonzero(chosen), np.asarray(positions, float)
    volumes = np.abs(np.linalg.det(nodes[tets[:, 1:]] - nodes[tets[:, :1]])) / 6.0
    tets = tets[volumes > FLAT]
    near = chosen[KDTree(points).query(nodes[tets].mean(1))[1]]
    if not near.any():
        raise BadInput("expected tetrahedra behind this region, but the built solid has none there; build it again")
    others = np.unique(tets[~near])
    used, kept = np.unique(tets[near], return_inverse=True)
    nodes, kept, order, _ = lattices.ordered(nodes[used], kept.reshape(-1, 4).astype(np.int32))
    corners, corner_weights, is_thin = _embedded(nodes, kept, points[vertices])
    is_inner = np.isin(used, others)[order]
    return lattices.Lattice(
        nodes, kept, is_inner, vertices, corners, corner_weights, is_thin, lattices.pieces(len(nodes), kept), _edge(nodes, kept)
    )


def _embedded(nodes, tets, positions):
    """The tetrahedron (R, 4) that holds each place (R, 3), or is nearest to holding it, its corner_weights
    (R, 4), and whether it is far from holding it (R,)."""
    corners = nodes[tets]
    found = KDTree(corners.mean(1)).query(positions, k=min(NEAR_TETS, len(tets)))[1].reshape(len(positions), -1)
    rows = np.arange(len(positions))
    corner_weights = np.stack([lattices.barycentric(corners[candidate], positions) for candidate in found.T], 1)
    best = np.argmax(corner_weights.min(2), axis=1)
    own = np.clip(corner_weights[rows, best], -1.0, 2.0)
    return tets[found[rows, best]], own / own.sum(1, keepdims=True), own.min(1) < FAR_OUTSIDE


def _edge(nodes, tets):
    """The edge of a lattice whose tetrahedra are as thin as a tenth of these."""
    edges = nodes[tets[:, 1:]] - nodes[tets[:, :1]]
    sixfold = np.abs(np.linalg.det(edges))
    faces = [np.cross(edges[:, i], edges[:, j]) for i, j in ((0, 1), (1, 2), (2, 0))] + [
        np.cross(edges[:, 1] - edges[:, 0], edges[:, 2] - edges[:, 0])
    ]
    heights = sixfold / np.max([np.linalg.norm(face, axis=1) for face in faces], axis=0)
    # A lattice's tetrahedra are 0.71 of its edge high.
    return float(np.quantile(heights, 0.1)) * np.sqrt(2.0)


if __name__ == "__main__":
    _answer()
