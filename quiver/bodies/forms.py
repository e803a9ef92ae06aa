"""Ready-made surfaces to be placed by hand, and own ones from a file: what a sheet is made of instead of the skin itself."""

import base64
import binascii
import zlib

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions
from quiver.setup.model import Form

MOST_TRIANGLES = 30_000
NARROW = 0.7
"""A sleeve is so narrow at its end, against its beginning."""
FEWEST_AROUND, FEWEST_ALONG = 6, 2


def made(form, target):
    """The surface of a Form of setup.py: vertices (N, 3) in the rest pose [file units], and about ``target`` triangles int32 (M, 3).

    Its outside looks away from what it goes around; a panel's along its own +Z.
    """
    size = np.asarray(form.size, float)
    if form.shape == "own":
        points, triangles = decode(form.mesh)
    else:
        points, triangles = _MAKERS[form.shape](size, max(int(target), 4 * FEWEST_AROUND))
    return np.asarray(form.place) + transforms.rotate(np.broadcast_to(form.turn, (len(points), 4)), points * size), triangles


def own(character):
    """A Form of all meshes of a character, as they stand in its rest pose. Raises BadInput where it has none, or too many triangles."""
    world, positions, faces, count = rest_matrices(character.skeleton), [np.zeros((0, 3))], [np.zeros((0, 3), int)], 0
    for mesh in character.meshes:
        positions.append(skinned_positions(mesh, world))
        faces.append(mesh.triangles + count)
        count += len(mesh.positions)
    return encoded(np.concatenate(positions), np.concatenate(faces))


def encoded(points, triangles):
    """A Form of an own surface: points (N, 3) [file units], triangles int (M, 3). Raises BadInput."""
    if not 1 <= len(triangles) <= MOST_TRIANGLES:
        raise BadInput(f"expected a mesh of 1 to {MOST_TRIANGLES} triangles, got {len(triangles)}")
    used, triangles = np.unique(triangles, return_inverse=True)
    points = np.asarray(points, float)[used]
    low, size = points.min(0), np.maximum(np.ptp(points, axis=0), 1e-9)
    unit = ((points - low) / size - 0.5).astype("<f4")
    raw = np.uint32(len(unit)).tobytes() + unit.tobytes() + triangles.reshape(-1, 3).astype("<u4").tobytes()
    text = base64.b64encode(zlib.compress(raw, 9)).decode("ascii")
    return Form("own", _numbers(low + 0.5 * size), (0.0, 0.0, 0.0, 1.0), _numbers(size), text)


def _numbers(values):
    return tuple(float(value) for value in values)


def decode(text):
    """The mesh of an own Form: points (N, 3) in a box of sides one around the origin, triangles int32 (M, 3). Raises BadInput."""
    most = 4 + 3 * MOST_TRIANGLES * 12 + MOST_TRIANGLES * 12
    try:
        opener = zlib.decompressobj()
        raw = opener.decompress(base64.b64decode(text, validate=True), most + 1)
    except (binascii.Error, zlib.error, ValueError) as error:
        raise BadInput("expected a mesh as base64 of compressed numbers") from error
    count = int(np.frombuffer(raw[:4], "<u4")[0]) if len(raw) >= 4 else 0
    body = len(raw) - 4 - 12 * count
    if not 3 <= count <= 3 * MOST_TRIANGLES or body <= 0 or body % 12 or len(raw) > most:
        raise BadInput(f"expected a mesh of 1 to {MOST_TRIANGLES} triangles, got {len(raw)} bytes that are none")
    points = np.frombuffer(raw, "<f4", 3 * count, 4).reshape(-1, 3).astype(float)
    triangles = np.frombuffer(raw, "<u4", offset=4 + 12 * count).reshape(-1, 3)
    if not np.isfinite(points).all() or np.abs(points).max() > 1.0 or triangles.max() >= count:
        raise BadInput("expected a mesh whose triangles name its own points, in a box of sides one")
    return points, triangles.astype(np.int32)


def _grid(rows, columns, closes):
    """Triangles between rows x columns points, of which each row closes to a ring, or not."""
    row, column = np.meshgrid(np.arange(rows - 1), np.arange(columns if closes else columns - 1), indexing="ij")
    a, b = row * columns + column, row * columns + (column + 1) % columns
    quads = np.stack([a, b, a + columns, b + columns], -1).reshape(-1, 4)
    return np.concatenate([quads[:, [0, 2, 1]], quads[:, [1, 2, 3]]]).astype(np.int32)


def _counts(along, around, target):
    """How many steps each way, so that the cells are about square and there are ``target`` triangles."""
    ratio = max(along, 1e-9) / max(around, 1e-9)
    columns = max(FEWEST_AROUND, round(np.sqrt(0.5 * target / ratio)))
    return max(FEWEST_ALONG, round(0.5 * target / columns)), columns


def _rings(heights, radii, columns):
    """Points of rings about Y, from the top down."""
    angles = 2.0 * np.pi * np.arange(columns) / columns
    circle = np.stack([np.cos(angles), np.zeros(columns), -np.sin(angles)], -1)
    return (circle[None] * np.asarray(radii)[:, None, None] + np.asarray(heights)[:, None, None] * np.array([0.0, 1.0, 0.0])).reshape(-1, 3)


def _capped(points, triangles, columns, top=None, bottom=None):
    """Rings with a point on top, and one at the bottom, where there is to be one."""
    rows = len(points) // columns
    for height, first, is_top in ((top, 0, True), (bottom, (rows - 1) * columns, False)):
        if height is None:
            continue
        own, after = first + np.arange(columns), first + (np.arange(columns) + 1) % columns
        cap = np.full(columns, len(points))
        triangles = np.concatenate([triangles, np.stack([cap, own, after] if is_top else [cap, after, own], 1)])
        points = np.concatenate([points, [[0.0, height, 0.0]]])
    return points, triangles.astype(np.int32)


def _skin_radius(size):
    return np.pi * 0.5 * (size[0] + size[2])


def _dome(size, target):
    rows, columns = _counts(size[1] + 0.5 * max(size[0], size[2]), _skin_radius(size), target)
    angles = 0.5 * np.pi * (np.arange(rows) + 1.0) / rows
    points = _rings(np.cos(angles) - 0.5, 0.5 * np.sin(angles), columns)
    return _capped(points, _grid(rows, columns, True), columns, top=0.5)


def _pad(size, target):
    rows, columns = _counts(size[1] + max(size[0], size[2]), _skin_radius(size), target)
    angles = np.pi * (np.arange(rows) + 1.0) / (rows + 1.0)
    points = _rings(0.5 * np.cos(angles), 0.5 * np.sin(angles), columns)
    return _capped(points, _grid(rows, columns, True), columns, top=0.5, bottom=-0.5)


def _around(size, target, narrow):
    rows, columns = _counts(size[1], _skin_radius(size), target)
    corner_weights = np.linspace(0.0, 1.0, rows + 1)
    return _rings(0.5 - corner_weights, 0.5 * (1.0 + (narrow - 1.0) * corner_weights), columns), _grid(rows + 1, columns, True)


def _panel(size, target):
    rows, columns = _counts(size[1], size[0], target)
    y, x = np.meshgrid(np.linspace(0.5, -0.5, rows + 1), np.linspace(-0.5, 0.5, columns + 1), indexing="ij")
    return np.stack([x, y, np.zeros_like(x)], -1).reshape(-1, 3), _grid(rows + 1, columns + 1, False)


_MAKERS = {
    "dome": _dome,
    "pad": _pad,
    "sleeve": lambda size, target: _around(size, target, NARROW),
    "panel": _panel,
    "tube": lambda size, target: _around(size, target, 1.0),
}


def fitted(shape, surface, triangles):
    """A Form of a ready-made shape around triangles int (M, 3) of a surface (V, 3) in the rest pose [file units], M > 0.

    A dome's top lies where they look mostly, a panel across that way, and a sleeve or tube goes along what is longest.
    """
    points = np.asarray(surface, float)[triangles]
    low, high = points.min((0, 1)), points.max((0, 1))
    size = np.maximum(high - low, 1e-6)
    if shape in ("sleeve", "tube"):
        turn = _UP_TO[int(np.argmax(size)), 1]
    else:
        outwards = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]).sum(0)
        axis = int(np.argmax(np.abs(outwards)))
        turn = (_FRONT_TO if shape == "panel" else _UP_TO)[axis, 1 if outwards[axis] >= 0.0 else -1]
    # A box turned by right angles only swaps its sides.
    size = np.abs(transforms.to_matrices(np.array(turn)).T @ size)
    return Form(shape, _numbers(0.5 * (low + high)), turn, _numbers(size))


_HALF = float(np.sqrt(0.5))
_UP_TO = {
    (0, 1): (0.0, 0.0, -_HALF, _HALF),
    (0, -1): (0.0, 0.0, _HALF, _HALF),
    (1, 1): (0.0, 0.0, 0.0, 1.0),
    (1, -1): (1.0, 0.0, 0.0, 0.0),
    (2, 1): (_HALF, 0.0, 0.0, _HALF),
    (2, -1): (-_HALF, 0.0, 0.0, _HALF),
}
"""Turns that bring +Y to an axis, forth or back; and those that bring +Z there."""
_FRONT_TO = {
    (0, 1): (0.0, _HALF, 0.0, _HALF),
    (0, -1): (0.0, -_HALF, 0.0, _HALF),
    (1, 1): (-_HALF, 0.0, 0.0, _HALF),
    (1, -1): (_HALF, 0.0, 0.0, _HALF),
    (2, 1): (0.0, 0.0, 0.0, 1.0),
    (2, -1): (0.0, 1.0, 0.0, 0.0),
}
