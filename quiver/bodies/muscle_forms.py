"""Muscles made by hand: a closed surface along a line of points, by a few numbers that say how it is built."""

import numpy as np

RINGS, AROUND = 19, 14
"""Rings of vertices along a muscle, and vertices around it."""
LEAST = 0.22
"""How thin a tendon is, against the belly."""


def surface(points, shape, width, thickness, thickest=0.5, tendon=0.15, outwards=(0.0, 0.0, 1.0)):
    """A closed surface through points (K, 3): (positions (V, 3), triangles int32 (F, 3), which look outwards).

    A spindle is thick in the belly and thin at both ends, a strap as wide all along, a fan wide at its origin and narrow at its insertion.

    width and thickness of its belly in the unit of the points, ``thickest`` where along it that is, 0..1, ``tendon`` which share of its
    length at each end is tendon; the thickness is measured along ``outwards``.
    """
    along = np.linspace(0.0, 1.0, RINGS)
    middle = line(points, RINGS)
    ahead = np.gradient(middle, axis=0)
    ahead = ahead / np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-12)
    up = np.asarray(outwards, float) - (ahead @ np.asarray(outwards, float))[:, None] * ahead
    flat = np.linalg.norm(up, axis=1) < 1e-6
    up[flat] = np.cross(ahead[flat], [0.577, 0.577, -0.577])
    up = up / np.linalg.norm(up, axis=1, keepdims=True)
    side = np.cross(up, ahead)
    wide, deep = (each[:, None, None] for each in _profile(shape, along, thickest, tendon))
    turns = 2.0 * np.pi * np.arange(AROUND) / AROUND
    rings = middle[:, None] + 0.5 * (
        width * wide * np.cos(turns)[:, None] * side[:, None] + thickness * deep * np.sin(turns)[:, None] * up[:, None]
    )
    positions = np.concatenate([rings.reshape(-1, 3), middle[[0, -1]]])
    corner = (np.arange(RINGS - 1)[:, None] * AROUND + np.arange(AROUND)).ravel()
    beside = (np.arange(RINGS - 1)[:, None] * AROUND + (np.arange(AROUND) + 1) % AROUND).ravel()
    sides = [np.column_stack([corner, beside, beside + AROUND]), np.column_stack([corner, beside + AROUND, corner + AROUND])]
    turn, last, count = np.arange(AROUND), AROUND * (RINGS - 1), AROUND * RINGS
    caps = [np.column_stack([np.full(AROUND, count), (turn + 1) % AROUND, turn])]
    caps.append(np.column_stack([np.full(AROUND, count + 1), last + turn, last + (turn + 1) % AROUND]))
    return positions, np.concatenate([*sides, *caps]).astype(np.int32)


def line(points, count):
    """So many points (count, 3), evenly far apart, on a smooth curve (Catmull-Rom) through points (K, 3)."""
    points = np.asarray(points, float)
    padded = np.vstack([2 * points[0] - points[1], points, 2 * points[-1] - points[-2]])
    fine = np.linspace(0.0, len(points) - 1.0, 16 * len(points))
    cell = np.minimum(fine.astype(int), len(points) - 2)
    t = (fine - cell)[:, None]
    p0, p1, p2, p3 = (padded[cell + k] for k in range(4))
    curve = 0.5 * (2 * p1 + (p2 - p0) * t + (2 * p0 - 5 * p1 + 4 * p2 - p3) * t**2 + (3 * p1 - p0 - 3 * p2 + p3) * t**3)
    passed = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(curve, axis=0), axis=1))])
    wanted = np.linspace(0.0, passed[-1], count)
    return np.stack([np.interp(wanted, passed, curve[:, k]) for k in range(3)], axis=1)


def _profile(shape, along, thickest, tendon):
    """How wide and how deep it is against its belly, (RINGS,) each."""
    # The belly lies between the tendons, its thickest place in the middle of that wherever it is along the muscle.
    at = np.interp(along, [0.0, min(max(thickest, 0.05), 0.95), 1.0], [0.0, 0.5, 1.0])
    inside = np.clip((at - tendon) / max(1.0 - 2.0 * tendon, 0.05), 0.0, 1.0)
    bulge = LEAST + (1.0 - LEAST) * np.sin(np.pi * inside) ** 0.8
    # Both ends are rounded.
    ends = np.sqrt(np.clip(np.minimum(along, 1.0 - along) / 0.06 + 0.25, 0.0, 1.0))
    if shape == "strap":
        even = np.clip(0.75 + 0.25 * np.sin(np.pi * inside), 0.0, 1.0)
        return even * ends, even * ends
    if shape == "fan":
        return (LEAST + (1.0 - LEAST) * (1.0 - along) ** 0.7) * ends, np.maximum(bulge, LEAST) * ends
    return bulge * ends, bulge * ends
