"""Laying a skinned surface out for kernels/posed.py, and the poses it is asked in."""

import itertools
import threading

import igl
import numpy as np
from cachetools import LRUCache

from quiver.kernels import posed as kernel
from quiver.kernels.lanes import LANES
from quiver.kernels.nearest import build_tree, levels_of
from quiver.kernels.packets import new_packet
from quiver.kernels.spots import deepest_of_frames, near_spots, signed_distances
from quiver.mesh.topology import neighbours_across, pieces_of_pairs
from quiver.rig.skinning import influences_of, relative_rows

LEAVES_OF_A_CLUSTER, MOST_CLUSTERS = 3, 10
"""As powers of two: so many leaves of the tree are one cluster at least, and so many clusters there are at the most."""
KEPT = 64
"""Sets of points whose place in the rest pose is known of a surface."""
IN_A_LEAF = 8
"""Points that are asked together lie in leaves of about so many at least."""
RIM = 0.02
"""A spot nearer to the rim of an open skin than this share of a triangle says nothing of in and out: what is beyond is beside it."""
THICKER = 1.25
"""A part may be so much thicker than at rest, besides what its joints scale it by."""
NO_SIZE = 1e-12
"""A joint whose axes are shorter at rest grows beyond all measure."""


class PosedSurface:
    """A surface (a Patch of contact/skins.py) that a mesh's joints move, to be asked in any pose. Constant."""

    def __init__(self, patch, mesh, scale, rest_world):
        self.mesh, self.scale, self.rest_world = mesh, scale, rest_world
        self.layout, self.is_open = _layout(patch, mesh, scale), bool((patch.kinds == kernel.OPEN).any())
        self._rest, self._triangles = np.ascontiguousarray(patch.rest, float), np.ascontiguousarray(patch.triangles, np.int64)
        self._idle, self._known, self._lock = [], LRUCache(KEPT), threading.Lock()
        self._inmost, self._sizes = _inmost(patch), _sizes(self.matrices(rest_world[None])[0])

    def matrices(self, world):
        """(joint matrices float32 (F, B, LANES), the places they count from (F, 3) [m]) in node matrices (F, J, 3, 4)."""
        rows, origins = relative_rows(self.mesh, world)
        return rows, self.scale * origins

    def as_deep(self, deep, matrices):
        """How deep something can be inside of it, ``deep`` [m] at the most, in some poses by their matrices (F, B, LANES)."""
        if self._inmost >= deep:
            return deep
        larger = (_sizes(matrices) / np.maximum(self._sizes, NO_SIZE)).max()
        return min(deep, THICKER * float(larger) * self._inmost)

    def new_pose(self):
        """Room for a pose."""
        layout = self.layout
        vertices, nodes, clusters = len(layout.positions), 2 * len(layout.starts) - 3, len(layout.skinned_starts) - 1
        positions, boxes = np.zeros((vertices + 1, 4), np.float32), np.zeros((nodes, 6), np.float32)
        positions[-1, :3] = kernel.NOWHERE
        normals, corners = np.zeros((2, vertices, 3), np.float32)
        counts = (np.zeros(count, np.int32) for count in (vertices, vertices, vertices, clusters, 1))
        return kernel.Pose(positions, boxes, normals, corners, *counts)

    def at_rest(self, points):
        """How far points (R, 3) are outside in the rest pose, by the surface's smooth normals and truly: (R,) each.

        Inside is where the surface winds around more than half (Jacobson et al. 2013): skin may cross itself, and have holes.
        """
        key = np.ascontiguousarray(points, float).tobytes()
        with self._lock:
            if key not in self._known:
                self._known[key] = self._at_rest(points)
            return self._known[key]

    def _at_rest(self, points):
        smooth, true = self.distances(self.rest_world, points, np.full(len(points), np.inf))
        asked, rest = np.ascontiguousarray(points, float), (self._rest, self._triangles)
        is_inside = igl.fast_winding_number(*rest, asked) > 0.5 if len(asked) else np.zeros(0, bool)
        beside = np.flatnonzero(np.isnan(true) & is_inside) if not self.is_open else ()
        if len(beside):
            true[beside] = -np.sqrt(igl.point_mesh_squared_distance(asked[beside], *rest)[0])
        true = np.where(is_inside, -np.abs(true), np.abs(true))
        return np.where(smooth * true > 0.0, smooth, true), true

    def distances(self, world, points, limits):
        """The same in node matrices (J, 3, 4), NaN beyond limits (R,) too."""
        matrices, (origin,) = self.matrices(world[None])
        order, pose = nearby(points), self.new_pose()
        kernel.take_pose(self.layout, pose, matrices[0])
        found = np.empty((len(points), 2))
        asked = points[order] - origin, np.asarray(limits, float)[order], RIM
        signed_distances(*asked, self.layout, pose, matrices[0], new_packet(), found)
        out = np.empty_like(found)
        out[order] = found
        return out.T

    def deepest(self, world, points, order, allowed, deep):
        """(depths (F,) [m], which (F,), -1 for none) of the deepest of points (F, R, 3) beyond ``allowed`` (R,), asked in an order."""
        matrices, origins = self.matrices(world)
        deep = self.as_deep(deep, matrices)
        depths, where, guesses = np.empty(len(points)), np.empty(len(points), np.int64), np.full(len(order), -1)
        # Whoever measures borrows a pose: a list hands each to one thread at a time.
        try:
            pose, packet = self._idle.pop()
        except IndexError:
            pose, packet = self.new_pose(), new_packet()
        deepest_of_frames(points, origins, order, allowed, deep, RIM, self.layout, pose, matrices, packet, guesses, depths, where)
        self._idle.append((pose, packet))
        return depths, where


class PosePair:
    """A surface while it goes from pose to pose, for one who asks again and again."""

    def __init__(self, surface):
        self.surface, self._poses, self._at = surface, [surface.new_pose(), surface.new_pose()], [-1, -1]
        self._packet, self._guesses, self._matrices, self.origins = new_packet(), np.zeros(0, np.int64), None, None

    def ready(self, world):
        """Take the node matrices (F, J, 3, 4) that `between` counts."""
        before, self._matrices, self.origins = (self._matrices, self.origins), *self.surface.matrices(world)
        # What goes on from where it was is still known.
        goes_on = before[0] is not None and all(
            np.array_equal(was[-1], now[0]) for was, now in zip(before, (self._matrices, self.origins), strict=True)
        )
        last = len(before[0]) - 1 if goes_on else -1
        self._at = [0 if at == last >= 0 else -1 for at in self._at]

    def between(self, begin, end):
        """What `near_spots` takes for the way from one pose to another, by their numbers."""
        if begin == self._at[1] or end == self._at[0]:
            self._poses.reverse()
            self._at.reverse()
        for slot, number in enumerate((begin, end)):
            if self._at[slot] != number:
                kernel.take_pose(self.surface.layout, self._poses[slot], self._matrices[number])
                self._at[slot] = number
        return self._poses[0], self._matrices[begin], self._poses[1], self._matrices[end]

    def spots(self, ways, points, travel, distances, near, deep):
        """What of points (R, 3) may touch on the way from one pose to another, as `near_spots` says: rows (Q,), spots (Q, 12)."""
        if len(self._guesses) != len(points):
            self._guesses = np.full(len(points), -1)
        rows, found = np.empty(len(points), np.int64), np.empty((len(points), 12))
        deep = self.surface.as_deep(deep, self._matrices[list(ways)])
        asked = points, travel, distances, RIM, near, deep, self.surface.layout, self.origins[list(ways)]
        count = near_spots(*asked, *self.between(*ways), self._packet, self._guesses, rows, found)
        return rows[:count], found[:count]


def nearby(points):
    """An order (R,) of points (R, 3) in which those after each other are near to each other."""
    if not len(points):
        return np.zeros(0, np.int64)
    return build_tree(np.ascontiguousarray(points, float), levels_of(len(points), IN_A_LEAF))[0]


def _sizes(matrices):
    """How long the axes of joints are by their matrices (F, B, LANES): (F, B, 3)."""
    linear = matrices[..., :12].reshape(*matrices.shape[:2], 3, 4)[..., :3]
    return np.sqrt(np.square(linear.astype(float)).sum(-2))


def _inmost(patch):
    """How far a point inside of a Patch can be from it at rest [m]: half of how thick its thickest part is, where that is surely known."""
    if patch.is_rim.any() or patch.kinds.any():
        return np.inf
    sides, used = np.concatenate([patch.triangles[:, :2], patch.triangles[:, 1:]]), np.unique(patch.triangles)
    pieces, thick = pieces_of_pairs(sides, len(patch.rest)), 0.0
    for piece in np.unique(pieces[used]):
        own = patch.rest[used[pieces[used] == piece]]
        axes = np.linalg.svd(own - own.mean(0), full_matrices=False)[2]
        thick = max(thick, float(np.ptp(own @ axes.T, axis=0).min()))
    return 0.5 * thick


def _layout(patch, mesh, scale):
    levels = levels_of(len(patch.triangles), LANES)
    order, starts = build_tree(np.ascontiguousarray(patch.rest[patch.triangles].mean(1), float), levels)
    triangles = patch.triangles[order]
    used, first = np.unique(triangles.ravel(), return_index=True)
    old = used[np.argsort(first, kind="stable")]
    number = np.full(len(patch.rest), -1)
    number[old] = np.arange(len(old))
    triangles = number[triangles]
    clusters = 1 << max(0, min(levels - LEAVES_OF_A_CLUSTER, MOST_CLUSTERS))
    bounds = starts[:: (len(starts) - 1) // clusters]
    # What is around a vertex, in the order of the mesh's own triangles.
    corners, its = triangles.ravel(), np.repeat(np.arange(len(triangles)), 3)
    by = np.lexsort((order[its], corners))
    others = np.stack([np.roll(triangles, -1, axis=1), np.roll(triangles, -2, axis=1)], axis=2).reshape(-1, 2)
    around, ring_starts = its[by], np.searchsorted(corners[by], np.arange(len(old) + 1))
    slots, weights = (each[old] for each in influences_of(mesh))
    positions = mesh.positions[old]
    skinned, skinned_starts, bound_slots, boxes, bound_starts = [], [0], [], [], [0]
    for own in (np.unique(triangles[a:b]) for a, b in itertools.pairwise(bounds)):
        beside = np.concatenate([around[ring_starts[v] : ring_starts[v + 1]] for v in own])
        skinned.append(np.unique(triangles[beside]))
        skinned_starts.append(skinned_starts[-1] + len(skinned[-1]))
        for slot in np.unique(slots[own][weights[own] > 0.0]):
            moved = positions[own[((slots[own] == slot) & (weights[own] > 0.0)).any(1)]].astype(float)
            low, high = moved.min(0), moved.max(0)
            bound_slots.append(slot)
            boxes.append(np.concatenate([0.5 * (low + high), 0.5 * (high - low)]))
        bound_starts.append(len(bound_slots))
    return kernel.Layout(
        # Unsigned, so that nothing asks whether an index counts from the end.
        triangles=triangles.astype(np.uint32),
        starts=np.ascontiguousarray(starts),
        corners=corners_of_leaves(triangles, starts, len(old)),
        skinned_starts=np.array(skinned_starts, np.int32),
        skinned=np.concatenate(skinned).astype(np.int32),
        bound_starts=np.array(bound_starts, np.int32),
        bound_slots=np.array(bound_slots, np.int32),
        bounds=np.array(boxes).reshape(-1, 6),
        ring_starts=ring_starts.astype(np.int32),
        ring=others[by].astype(np.int32),
        beside=neighbours_across(triangles),
        positions=np.ascontiguousarray(positions, np.float32),
        slots=np.ascontiguousarray(slots, np.int32),
        weights=np.ascontiguousarray(weights, np.float32),
        is_rim=patch.is_rim[old],
        kinds=patch.kinds[order],
        parts=_parts(triangles, len(old)),
        cluster_of=np.repeat(np.arange(clusters, dtype=np.int32), np.diff(bounds)),
        scale=np.float32(scale),
    )


def corners_of_leaves(triangles, starts, nobody):
    """The corners of triangles (F, 3), leaf by leaf in sixteen lanes."""
    out = np.full((len(starts) - 1, LANES, 3), nobody, np.int32)
    leaf = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    out[leaf, np.arange(len(triangles)) - starts[leaf]] = triangles
    return np.ascontiguousarray(out.transpose(0, 2, 1)).reshape(-1, LANES)


def _parts(triangles, count):
    """Which part that hangs together each of triangles (F, 3) of so many points belongs to, uint8 (F,), the largest ones by themselves."""
    pieces = pieces_of_pairs(np.concatenate([triangles[:, :2], triangles[:, 1:]]), count)
    _, part, sizes = np.unique(pieces[triangles[:, 0]], return_inverse=True, return_counts=True)
    rank = np.empty(len(sizes), int)
    rank[np.argsort(-sizes, kind="stable")] = np.arange(len(sizes))
    return np.minimum(rank[part], kernel.MOST_PARTS - 1).astype(np.uint8)
