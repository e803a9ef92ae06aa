"""Regions: which vertices of a mesh are in, and with how much influence.

The values of a region are levels, uint8 (V,): 0..IN_FULL for a vertex that is in with influence level / IN_FULL, OUT for one
that is out. In with zero and out are different things: the first can be painted up by smoothing, the second is no part of it.
"""

import base64
import binascii
import zlib

import numpy as np
from scipy.spatial import KDTree

from quiver.errors import BadInput
from quiver.mesh.topology import distance_along

IN_FULL, OUT = 254, 255
FALLOFFS = ("soft", "even", "sharp")
MODES = ("add", "subtract", "set", "smooth", "out")


def nothing(count):
    """The levels of a region that has no vertex yet."""
    return np.full(count, OUT, np.uint8)


def influences(levels):
    """Influence 0..1 of each vertex, 0 where it is out."""
    return np.where(levels == OUT, 0.0, levels / IN_FULL)


def is_in(levels):
    return levels != OUT


def encode(levels):
    """Levels as a short text for the setup document."""
    return base64.b64encode(zlib.compress(levels.tobytes(), 6)).decode()


def decode(text, count):
    """The levels (count,) of a text. Raises BadInput where it does not hold that many."""
    try:
        unpacker = zlib.decompressobj()
        raw = unpacker.decompress(base64.b64decode(text, validate=True), count + 1)
    except (binascii.Error, ValueError, zlib.error) as error:
        raise BadInput(f"expected the values of a region, could not read them: {error}") from error
    if len(raw) != count:
        raise BadInput(f"expected a region of {count} vertices, got {'more' if len(raw) > count else len(raw)}")
    return np.frombuffer(raw, np.uint8).copy()


def falloff(share, kind):
    """How much of a brush works at ``share`` 0..1 of its radius. The stage shows the same formula while painting."""
    left = np.clip(1.0 - share, 0.0, 1.0)
    if kind == "even":
        return np.where(share <= 1.0, 1.0, 0.0)
    return left * left if kind == "sharp" else left * left * (3.0 - 2.0 * left)


def brush(levels, top, dabs, radius, strength, kind, mode, allowed=None):
    """Paint a stroke: a new array of levels.

    dabs (D, 3) positions of the brush, radius [same units], strength 0..1; ``allowed`` bool (V,) which vertices take paint.
    Only what hangs together with the brush's own place inside its ball is touched, so a stroke does not go through a thin part.
    Raises BadInput.
    """
    if kind not in FALLOFFS or mode not in MODES:
        raise BadInput(f"expected a falloff of {', '.join(FALLOFFS)} and a mode of {', '.join(MODES)}, got {kind} and {mode}")
    if not (np.isfinite(dabs).all() and 0.0 < radius < np.inf and 0.0 <= strength <= 1.0):
        raise BadInput(f"expected finite places, a radius above 0 and a strength of 0 to 1, got {radius:g} and {strength:g}")
    worked = np.zeros(len(top.positions))
    for dab in np.asarray(dabs, float).reshape(-1, 3):
        distance = np.linalg.norm(top.positions - dab, axis=1)
        inside = np.flatnonzero(distance < radius)
        if len(inside):
            linked = _linked(top, inside, inside[np.argmin(distance[inside])])
            worked[linked] = np.maximum(worked[linked], falloff(distance[linked] / radius, kind))
    power = top.spread(worked) * strength
    if allowed is not None:
        power = np.where(allowed, power, 0.0)
    return apply(levels, top, power, mode)


def _linked(top, inside, seed):
    """The positions of ``inside`` that hang together with ``seed`` by edges within it."""
    slot = np.full(len(top.positions), -1)
    slot[inside] = np.arange(len(inside))
    part = top.links[inside][:, inside]
    reached = np.zeros(len(inside), bool)
    front = np.array([slot[seed]])
    while len(front):
        reached[front] = True
        around = np.unique(part[front].indices)
        front = around[~reached[around]]
    return inside[reached]


def apply(levels, top, power, mode):
    """Use a brush's ``power`` (V,) 0..1 on levels."""
    touched = power > 0.0
    now = influences(levels)
    if mode == "out":
        return np.where(power >= 0.5, OUT, levels).astype(np.uint8)
    if mode == "smooth":
        touched &= is_in(levels)
        goal = smoothed(levels, top)
    else:
        goal = {"add": now + power, "subtract": now - power, "set": power}[mode]
        if mode == "subtract":
            touched &= is_in(levels)
    value = now + power * (goal - now) if mode == "smooth" else goal
    if mode == "set":
        value = np.maximum(value, 0.0)
    return np.where(touched, np.round(np.clip(value, 0.0, 1.0) * IN_FULL), levels).astype(np.uint8)


def smoothed(levels, top):
    """Influence (V,): the mean of each vertex and its neighbours, those that are out counting as zero."""
    at = np.maximum(top.gathered(influences(levels)), 0.0)
    links = (top.links > 0).astype(float)
    mean = (links @ at + at) / (np.asarray(links.sum(1)).ravel() + 1.0)
    return top.spread(mean)


def smooth(levels, top, rounds=1):
    """Smooth the influence of everything that is in."""
    for _ in range(rounds):
        levels = np.where(is_in(levels), np.round(smoothed(levels, top) * IN_FULL), levels).astype(np.uint8)
    return levels


def grow(levels, top):
    """Take in the vertices around, with the influence of their neighbours' mean."""
    near = top.spread(((top.links > 0).astype(float) @ (top.gathered(is_in(levels).astype(float)) > 0)) > 0)
    return np.where(is_in(levels) | ~near, levels, np.round(smoothed(levels, top) * IN_FULL)).astype(np.uint8)


def shrink(levels, top):
    """Let go of the vertices at the border."""
    is_out = top.gathered((~is_in(levels)).astype(float)) > 0
    border = top.spread(((top.links > 0).astype(float) @ is_out.astype(float)) > 0)
    return np.where(border, OUT, levels).astype(np.uint8)


def fill(levels, influence=1.0):
    """Everything in, with one influence."""
    return np.full(len(levels), round(influence * IN_FULL), np.uint8)


def gradient(levels, top, start, end):
    """Influence from 0 at the place nearest to ``start`` to 1 at the one nearest to ``end``, by distances along the surface."""
    from_start, from_end = (distance_along(top, [_nearest(top, point)]) for point in (start, end))
    total = from_start + from_end
    with np.errstate(invalid="ignore"):
        value = np.where(np.isfinite(total), from_start / np.maximum(total, 1e-12), np.nan)
    spread = top.spread(value)
    return np.where(np.isfinite(spread), np.round(np.nan_to_num(spread) * IN_FULL), levels).astype(np.uint8)


def around(levels, top, centre, radius, kind="soft"):
    """Add a soft spot around the place nearest to ``centre``, fading along the surface over ``radius``."""
    distance = distance_along(top, [_nearest(top, centre)], limit=radius)
    power = top.spread(np.where(np.isfinite(distance), falloff(np.minimum(distance / radius, 1.0), kind), 0.0))
    return apply(levels, top, power, "add")


def flood(levels, top, point):
    """Take in the whole connected piece around a point."""
    piece = top.piece_of[_nearest(top, point)]
    return np.where(top.spread(top.piece_of == piece), IN_FULL, levels).astype(np.uint8)


def closed_pieces(top):
    """All pieces of a mesh that are closed: each of their edges lies between just two triangles."""
    edges = np.sort(top.triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    edges, counts = np.unique(edges, axis=0, return_counts=True)
    has_faces = np.zeros(top.piece_of.max() + 1, bool)
    has_faces[top.piece_of[edges[:, 0]]] = True
    has_faces[top.piece_of[edges[counts != 2, 0]]] = False
    return np.where(top.spread(has_faces[top.piece_of]), IN_FULL, OUT).astype(np.uint8)


def from_joints(mesh, nodes):
    """A region of what some joints move: influence is the sum of their skin weights."""
    if mesh.skin < 0:
        return nothing(len(mesh.positions))
    total = np.where(np.isin(mesh.joints, list(nodes)), mesh.weights, 0.0).sum(1)
    return np.where(total > 0.002, np.round(np.clip(total, 0.0, 1.0) * IN_FULL), OUT).astype(np.uint8)


def union(a, b):
    """In where either is, with the larger influence."""
    return np.where(is_in(a) & is_in(b), np.maximum(a, b), np.where(is_in(a), a, b)).astype(np.uint8)


def difference(a, b):
    """What is in ``a``, less the influence it has in ``b``; out where nothing is left."""
    left = influences(a) - influences(b)
    return np.where(is_in(a) & (~is_in(b) | (left > 0.0)), np.round(np.clip(left, 0, 1) * IN_FULL), OUT).astype(np.uint8)


def mirrored(levels, top):
    """The mirror image across the plane x = 0: each vertex takes the level of the one nearest to its mirror place."""
    return levels[mirror_partners(top)]


def mirror_partners(top):
    """For each vertex a vertex nearest to its mirror place across x = 0."""
    other = _tree(top).query(top.positions * [-1.0, 1.0, 1.0])[1]
    first = np.zeros(len(top.positions), int)
    first[top.place_of[::-1]] = np.arange(len(top.place_of))[::-1]
    return first[other][top.place_of]


def adjusted(levels, gain=1.0, offset=0.0, is_inverted=False):
    """Influence (V,) 0..1 after gain and offset, inverted first if asked; out stays 0. Nothing is repainted."""
    value = influences(levels)
    value = 1.0 - value if is_inverted else value
    return np.where(is_in(levels), np.clip(value * gain + offset, 0.0, 1.0), 0.0)


def _nearest(top, point):
    return int(_tree(top).query(np.asarray(point, float))[1])


def _tree(top):
    return KDTree(top.positions)


def unpacked_bits(text, count):
    """bool (count,) from bits packed low first, in base64. Raises BadInput."""
    try:
        raw = np.frombuffer(base64.b64decode(text, validate=True), np.uint8)
    except (binascii.Error, ValueError) as error:
        raise BadInput(f"expected bits in base64, could not read them: {error}") from error
    if len(raw) * 8 < count:
        raise BadInput(f"expected {count} bits, got {len(raw) * 8}")
    return np.unpackbits(raw, bitorder="little")[:count].astype(bool)
