"""The character's own skin as a collider: a mesh that moves with every frame, and what touches it."""

import itertools
from functools import cached_property, partial

import igl
import numpy as np

from quiver.bodies import simplified
from quiver.cache import Cache
from quiver.contact.posed import RIM, PosedSurface, PosePair, nearby
from quiver.errors import BadInput
from quiver.kernels.lanes import LANES
from quiver.kernels.nearest import blend, vertex_normals
from quiver.kernels.posed import HIDDEN, LID, OPEN
from quiver.mesh.nearest import NearestOn
from quiver.mesh.topology import edges_of_triangles, welded
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through
from quiver.sim.varying import Varying
from quiver.threads import at_once, thread_count_for

NEAR = 0.01
"""What is so close to touching, besides how far it moves, is looked at in a frame [m]."""
WORTH_A_THREAD = 500
"""Points that are worth a thread of their own."""
KEPT_SURFACES = 64
ABOVE, WOUND = 5e-4, 0.7
"""So far above a vertex, as a share of the size, its outside begins; where the skin winds around that by more than this, it is hidden."""
OPEN_SHARE = 0.02
"""What has a larger share of its vertices on rims is open: a body's holes are small, a cloth's rim is long."""
INSIDE_OUT = 0.02
"""A surface that holds more than this, against its area, with a negative sign is turned inside out."""
DEEP = 0.08
"""Deeper than that inside nothing is looked for: on the far side of a limb there is another skin [m]."""


class Patch:
    """A surface to be felt: rest (V, 3) [m], triangles (F, 3), F > 0, which vertices lie on its rim, the layout of its tree.

    kinds  uint8 (F,) which triangles are not felt themselves, as kernels/posed.py says
    """

    def __init__(self, rest, triangles, kinds=None):
        self.rest, self.triangles = rest, triangles
        self.kinds = np.zeros(len(triangles), np.uint8) if kinds is None else kinds
        # Where an open lid begins, nothing says any more who is inside.
        self.is_rim = _rim(triangles[self.kinds != OPEN], len(rest))
        self.layout = NearestOn(rest, triangles).layout


class Surface(Patch):
    """What a mesh of a character is, whatever the setup says. Raises BadInput where the mesh has no triangles."""

    def __init__(self, mesh, rest_world, scale):
        self.mesh, self.scale, self.rest_world = mesh, scale, rest_world
        rest = self.positions(rest_world[None])[0]
        # Seams of colours or textures do not cut it.
        triangles = welded(rest, self.mesh.triangles)
        if not len(triangles):
            raise BadInput(f"expected a mesh with triangles to touch, “{mesh.name}” has none")
        super().__init__(rest, _outwards(rest, triangles))

    def positions(self, world):
        """Where its vertices are, (F, V, 3), in node matrices (F, J, 3, 4)."""
        return self.scale * skinned_through(self.mesh, world)

    @cached_property
    def posed(self):
        """It as a PosedSurface."""
        return PosedSurface(self, self.mesh, self.scale, self.rest_world)

    @cached_property
    def has_inside(self):
        """Whether it goes around something, but for small holes."""
        return self.is_rim.sum() <= OPEN_SHARE * len(np.unique(self.triangles))

    @cached_property
    def is_seen(self):
        """Which triangles are seen in the rest pose, bool (F,), and not inside of others: skin made of parts crosses itself."""
        normals, used = np.empty_like(self.rest), np.unique(self.triangles)
        vertex_normals(self.rest, self.triangles, normals)
        above = self.rest[used] + ABOVE * float(np.linalg.norm(np.ptp(self.rest, axis=0))) * normals[used]
        seen = np.ones(len(self.rest), bool)
        seen[used] = igl.fast_winding_number(self.rest, self.triangles.astype(np.int64), above) < WOUND
        return seen[self.triangles].any(1)


_surfaces, _rests = Cache(KEPT_SURFACES), Cache(KEPT_SURFACES)


def surface_of(character, name, scale):
    """The Surface of a mesh, kept from the last time. Raises BadInput."""
    return _surfaces.get(character, (name, scale), lambda: Surface(character.mesh(name), rest_matrices(character.skeleton), scale))


def surface_of_collider(character, collider, scale):
    """The Surface of a collider that is a mesh, a simplified body or a hull, kept likewise. Raises BadInput."""
    if collider.shape == "skin":
        return surface_of(character, collider.mesh, scale)
    rest = rest_matrices(character.skeleton)

    def make():
        if collider.shape == "hull":
            return Surface(simplified.hull_mesh(character, collider.joint, rest), rest, scale)
        return Surface(simplified.body_mesh(character.mesh(collider.mesh), rest, collider.size[0]), rest, scale)

    key = (collider.shape, collider.mesh, collider.joint if collider.shape == "hull" else "", collider.size, scale)
    return _surfaces.get(character, key, make)


class Rest(Patch):
    """What is left of a surface (Surface) without some of its vertices, bool (V,), the cuts closed by lids: so it still has an inside.

    What is not seen is not felt where ``is_seen``. Lids that are ``is_open`` are not felt: what dents in may go through.
    """

    def __init__(self, surface, without, is_seen=False, is_open=False):
        self.whole, self.mesh = surface, surface.mesh
        is_left = ~without[surface.triangles].any(1)
        left, is_felt = surface.triangles[is_left], surface.is_seen[is_left] if is_seen else np.ones(is_left.sum(), bool)
        lids = [np.column_stack([np.full(len(rim) - 2, rim[0]), rim[1:-1], rim[2:]]) for rim in cuts(surface.triangles, is_left)]
        # What closes hidden skin is as hidden.
        kinds = [OPEN if is_open else LID if np.isin(lid, left[is_felt]).any() else HIDDEN for lid in lids]
        kinds = np.concatenate([np.where(is_felt, 0, HIDDEN), np.repeat(np.array(kinds, int), [len(lid) for lid in lids])])
        super().__init__(surface.rest, np.concatenate([left, *lids]).astype(left.dtype), kinds.astype(np.uint8))

    @cached_property
    def posed(self):
        """It as a PosedSurface."""
        return PosedSurface(self, self.mesh, self.whole.scale, self.whole.rest_world)


def cuts(triangles, is_left):
    """The rims (n,) along which triangles (F, 3) were cut off others that are left, bool (F,): loops, as lids over them go around."""
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
    left, count = np.tile(is_left, 3), int(triangles.max()) + 1
    gone = sides[~left] @ [count, 1]
    # A side of what is left whose neighbour is gone; the lid goes along it as that did.
    rim = sides[left][:, ::-1]
    ahead = {}
    for a, b in rim[np.isin(rim @ [count, 1], gone)].tolist():
        ahead.setdefault(a, []).append(b)
    found = []
    while ahead:
        start = at = next(iter(ahead))
        loop = []
        while at in ahead:
            loop.append(at)
            after = ahead[at].pop()
            if not ahead[at]:
                del ahead[at]
            at = after
            if at == start:
                break
        if at == start and len(loop) > 2:
            found.append(np.array(loop))
    return tuple(found)


class Skin:
    """One collider that is a surface, or the rest of it that a layer meets. Lengths in metres. Raises BadInput where it cannot be made.

    ``nodes`` are those it rides on alone; ``key`` stands for what is left out of it; ``is_seen`` whether only what is seen of it counts.
    """

    is_seen = False

    def __init__(self, collider, surface, key=()):
        self.key = key
        self.collider, self.margin, self.friction, self.surface = collider, collider.value("margin") / 1000.0, collider.friction, surface
        self.nodes = [surface.mesh.node] if collider.shape == "hull" else []

    def without(self, own, key, is_open=False):
        """The same without vertices bool (V,), which ``key`` stands for, as Rest says; None where nothing is left, itself where all is."""
        if not own.any() and not self.is_seen:
            return self
        surface, how = self.surface, (self.is_seen, is_open)
        if own[surface.triangles].any(1).all():
            return None
        return type(self)(self.collider, _rests.get(surface, (*key, *how), lambda: Rest(surface, own, *how)), key)

    def carried_by(self, nodes):
        """Which of its vertices some nodes move, bool (V,)."""
        mesh = self.surface.mesh
        if mesh.skin < 0:
            return np.full(len(mesh.positions), mesh.node in nodes)
        return ((mesh.weights > 0.0) & np.isin(mesh.joints, sorted(nodes))).any(1)


class SkinBehind(Skin):
    """The visible skin that a simple shape stands for, with its margin and friction."""

    is_seen = True


class ClosestPointQuery:
    """Finds how far points are outside of a surface (Patch) whose vertices are moved by anything: PosedSurface is for what joints move.

    ``rest`` (R, 3) are the points in the rest pose: ``closest`` (R,) is how close each is there, the least that is asked of it; beyond all
    measure where only a rim is near, or where it is deep inside.
    """

    def __init__(self, surface, rest):
        self.tree, self.is_rim = NearestOn(surface.rest, surface.triangles, surface.layout), surface.is_rim
        self.guesses = np.full(len(rest), -1)
        distances, *_ = self.feel(surface.rest, rest, np.full(len(rest), np.inf))
        self.closest = _allowed(distances, np.inf)

    def forget(self):
        """Forget what was found last: it only makes the next look quicker, but of two places equally near it may choose the other."""
        self.guesses = np.full(len(self.guesses), -1)

    def feel(self, skin_positions, points, limits):
        """(distances (R,), triangles (R,), corner_weights (R, 3), spots (R, 3), normals (R, 3)) of points.

        Distances are NaN where nothing is within limits (R,), or only the rim of an open skin.
        """
        tree, normals = self.tree, np.empty_like(skin_positions)
        tree.move(skin_positions)
        found, corner_weights = tree.find(points, limits, self.guesses)
        self.guesses = found
        vertex_normals(skin_positions, tree.triangles, normals)
        spots, looks = np.empty((len(found), 3)), np.empty((len(found), 3))
        blend(skin_positions, normals, tree.triangles, found, corner_weights, spots, looks)
        inner = np.einsum("rc,rc->r", corner_weights, ~self.is_rim[tree.triangles[found]])
        is_faced = (found >= 0) & (inner > RIM)
        return np.where(is_faced, np.einsum("rk,rk->r", points - spots, looks), np.nan), found, corner_weights, spots, looks


def _outwards(points, triangles):
    """Triangles (F, 3) of points (V, 3) that look outwards, if they all look inwards: else all that is outside would count as inside."""
    a, b, c = (points[triangles[:, k]] - points[triangles[0, 0]] for k in range(3))
    inside = np.einsum("fk,fk->f", a, np.cross(b, c)).sum()
    around = np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() ** 1.5
    return np.ascontiguousarray(triangles[:, ::-1]) if inside < -INSIDE_OUT * around else triangles


def _rim(triangles, count):
    """Which of so many vertices lie on an edge that has one triangle only, bool (V,)."""
    edges, counts = edges_of_triangles(triangles, count)
    out = np.zeros(count, bool)
    out[edges[counts == 1].ravel()] = True
    return out


class SkinContacts(Varying):
    """What R points meet of a skin; ``rest`` (R, 3) [m] is where they are in the rest pose, ``thickness`` around them, one or (R,) [m].

    Sixteen after each other are asked together: they should be `nearby`.
    """

    VARYING = ("before",)

    def __init__(self, skin, rest, thickness):
        self.skin = skin
        closest, _ = skin.surface.posed.at_rest(rest)
        self.contact_distances = np.minimum(skin.margin + thickness, _allowed(closest, np.inf))
        # Cut where a packet ends.
        middle = [len(rest) // (2 * LANES) * LANES] if len(rest) >= 2 * WORTH_A_THREAD else []
        self._shares = [slice(*share) for share in itertools.pairwise([0, *middle, len(rest)])]

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        self.before, self.pairs = world.copy(), [PosePair(self.skin.surface.posed) for _ in self._shares]

    def ready(self, world, jumped, per_frame, looks=1):
        """Take the node matrices (S, J, 3, 4) of some frames, in each of which it is asked so many times."""
        self.looks, self.jumped = looks, jumped
        seen = np.concatenate([self.before[None], world[look_ends(len(jumped), per_frame, looks)]])
        for pair in self.pairs:
            pair.ready(seen)
        self.before = world[-1].copy()

    def surface_contacts(self, frame, points, travel, look=0, threads=1):
        """Which of the points (R, 3) may touch in a frame, int (Q,), then spots, reaches and grips as `push_surface_contacts` takes them.

        travel (R,) is how far each point may move [m]. To be asked for each look of each frame in turn.
        """
        at = frame * self.looks + look
        ways = (at, at + 1) if not self.jumped[frame] else ((frame + 1) * self.looks,) * 2

        def ask(pair, share):
            rows, near = pair.spots(ways, points[share], travel[share], self.contact_distances[share], NEAR, DEEP)
            return share.start + rows, near

        # Two halves of the points wake some of the same skin, so one thread alone takes them as one.
        alone = thread_count_for(len(self._shares), threads) == 1
        shares = [slice(0, len(points))] if alone else self._shares
        found = at_once([partial(ask, *each) for each in zip(self.pairs, shares, strict=False)], threads)
        rows, near = map(np.concatenate, zip(*found, strict=True)) if len(found) > 1 else found[0]
        return rows, near, self.contact_distances[rows], np.full(len(rows), self.skin.friction)


def look_ends(frames, per_frame, looks):
    """Samples at which looks end, so many in each of so many frames."""
    return np.round(np.arange(1, looks * frames + 1) * per_frame / looks).astype(int) - 1


class SkinDepth:
    """How deep points get into a skin beyond the rest pose; ``rest`` (R, 3) are they in it."""

    def __init__(self, skin, rest):
        self.skin, self.surface, self.order = skin, skin.surface.posed, nearby(rest)
        _, closest = self.surface.at_rest(rest)
        self.allowed = np.minimum(_allowed(closest, 0.0), 0.0)

    def depths(self, world, points):
        """How deep each of points (R, 3) is (R,) [m] in node matrices (J, 3, 4); 0 or less where it is not."""
        _, distances = self.surface.distances(world, points, np.full(len(points), DEEP))
        return np.nan_to_num(self.allowed - distances, nan=0.0)

    def deepest(self, world, points):
        """(depths (F,) [m], points (F,)) of the deepest of points (F, R, 3) in node matrices (F, J, 3, 4); (0, -1) where none is."""
        return self.surface.deepest(world, points, self.order, self.allowed, DEEP)


def _allowed(distances, nowhere):
    """How near points whose distances (R,) in the rest pose are known may be: what is near a rim only, ``nowhere``."""
    # What is so deep inside already may be anywhere.
    return np.where(np.isnan(distances), nowhere, np.where(distances < -DEEP, -np.inf, distances))
