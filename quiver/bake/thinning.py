"""Thinning baked keys: fewer of them, within a bound on how far the skin goes off the take."""

from dataclasses import dataclass

import numpy as np

from quiver.rig import transforms
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.rig.skinning import skinned_positions, skinned_through

FINEST, COARSEST = 2.0**-6, 2.0**8
"""Limits that are tried, against those that would be safe if the errors of all joints added up."""
AT_ONCE = 16
"""Frames whose skins are in memory at the same time."""
LIGHT = 1e-3
"""Vertices with a smaller weight than this are not carried by a joint."""


@dataclass(frozen=True)
class Track:
    """Keys of one property of one node: times float64 (K,) [s], values float64 (K, 3 or 4); linear between keys."""

    node: int
    path: str
    times: np.ndarray
    values: np.ndarray

    def at(self, times):
        """Values (T, 3 or 4) at some times [s], as a reader mixes the keys."""
        if len(self.times) == 1:
            return np.repeat(self.values, len(times), axis=0)
        after = np.clip(np.searchsorted(self.times, times), 1, len(self.times) - 1)
        first, last = self.times[after - 1], self.times[after]
        share = np.clip((times - first) / (last - first), 0.0, 1.0)
        a, b = self.values[after - 1], self.values[after]
        return transforms.slerp(a, b, share) if self.path == "rotation" else a + share[:, None] * (b - a)


@dataclass(frozen=True)
class Thinned:
    """Tracks with fewer keys, and the most that any frame is off: turns [degrees], shifts and the skin [file units]."""

    tracks: tuple
    turn_error: float = 0.0
    shift_error: float = 0.0
    skin_error: float = 0.0


def thinned(character, pose, tracks, times, limit):
    """Drop keys of ``tracks`` as long as no vertex is farther than ``limit`` [file units] from where all of them put it.

    pose  the Pose (F, J) of what the tracks do not drive, at ``times`` (F,) [s]
    """
    limits, world = _safe_limits(character, tracks, limit), _posed(character, pose, tracks, times)
    scale, best = 1.0, None
    # Errors of joints seldom add up: coarser limits are tried as long as they hold, finer ones until they do.
    while FINEST <= scale <= COARSEST:
        found = [_thin(track, scale * own) for track, own in zip(tracks, limits, strict=True)]
        few = tuple(track for track, _ in found)
        error = _apart(character, world, _posed(character, pose, few, times))
        if error <= limit:
            turns = max((np.degrees(off) for track, off in found if track.path == "rotation"), default=0.0)
            shifts = max((off for track, off in found if track.path != "rotation"), default=0.0)
            best = Thinned(few, float(turns), float(shifts), error)
            if scale < 1.0:
                break
        elif best:
            break
        scale *= 2.0 if best else 0.5
    return best or Thinned(tuple(tracks))


def _safe_limits(character, tracks, limit):
    """How far each track may be off [radians, or file units] so that together they move no vertex farther than ``limit``."""
    skeleton, world = character.skeleton, rest_matrices(character.skeleton)
    low, high = np.full((len(skeleton), 3), np.inf), np.full((len(skeleton), 3), -np.inf)
    for mesh in character.meshes:
        positions = skinned_positions(mesh, world)
        joints, weights = mesh.joints, mesh.weights
        if mesh.skin < 0:
            joints, weights = np.full((len(positions), 1), mesh.node), np.ones((len(positions), 1))
        for slot in range(joints.shape[1]):
            used = weights[:, slot] > LIGHT
            np.minimum.at(low, joints[used, slot], positions[used])
            np.maximum.at(high, joints[used, slot], positions[used])
    many = np.bincount([track.node for track in tracks], minlength=len(skeleton))
    for node in skeleton.order:
        if skeleton.parents[node] >= 0:
            many[node] += many[skeleton.parents[node]]
    for node in skeleton.order[::-1]:
        parent = skeleton.parents[node]
        if parent >= 0:
            low[parent], high[parent] = np.minimum(low[parent], low[node]), np.maximum(high[parent], high[node])
    corners = np.maximum(np.abs(low - world[:, :, 3]), np.abs(high - world[:, :, 3]))
    reach = np.linalg.norm(np.where(np.isfinite(corners), corners, 0.0), axis=1)
    share = limit / max(int(many.max(initial=1)), 1)
    return [share / max(float(reach[track.node]), share / np.pi) if track.path == "rotation" else share for track in tracks]


def _posed(character, pose, tracks, times):
    """Node matrices (F, J, 3, 4) where tracks drive the pose."""
    own = pose.copy()
    arrays = {"rotation": own.rotations, "translation": own.translations, "scale": own.scales}
    for track in tracks:
        arrays[track.path][:, track.node] = track.at(times)
    return world_matrices(character.skeleton, own)


def _apart(character, one, other):
    """The most that a vertex is apart in two lists of node matrices (F, J, 3, 4)."""
    greatest = 0.0
    for at in range(0, len(one), AT_ONCE):
        part = slice(at, at + AT_ONCE)
        for mesh in character.meshes:
            apart = skinned_through(mesh, one[part]) - skinned_through(mesh, other[part])
            greatest = max(greatest, float(np.linalg.norm(apart, axis=2).max(initial=0.0)))
    return greatest


def _thin(track, limit):
    """Drop keys that linear interpolation gives back: (Track, greatest error [radians, or file units]).

    Keeps both ends and, in between, splits where the error is greatest until all are within the limit (Douglas, Peucker 1973).
    """
    kept, greatest = {0, len(track.times) - 1}, 0.0
    parts = [(0, len(track.times) - 1)]
    while parts:
        first, last = parts.pop()
        if last - first < 2:
            continue
        errors = _errors(track, first, last)
        worst = int(np.argmax(errors))
        if errors[worst] > limit:
            split = first + 1 + worst
            kept.add(split)
            parts += [(first, split), (split, last)]
        else:
            greatest = max(greatest, float(errors[worst]))
    rows = sorted(kept)
    if len(rows) == 2 and np.array_equal(track.values[0], track.values[-1]) and greatest == 0.0:
        rows = rows[:1]
    return Track(track.node, track.path, track.times[rows], track.values[rows]), greatest


def _errors(track, first, last):
    inside = slice(first + 1, last)
    guess = Track(track.node, track.path, track.times[[first, last]], track.values[[first, last]]).at(track.times[inside])
    actual = track.values[inside]
    if track.path != "rotation":
        return np.linalg.norm(guess - actual, axis=1)
    apart = np.minimum(np.linalg.norm(guess - actual, axis=1), np.linalg.norm(guess + actual, axis=1))
    return 4.0 * np.arcsin(np.clip(apart / 2.0, 0.0, 1.0))
