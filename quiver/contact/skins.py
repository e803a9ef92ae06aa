"""The character's own skin as a collider: a mesh that moves with every frame, and what touches it."""

import numpy as np

from quiver.bodies import simplified
from quiver.cache import Cache
from quiver.errors import BadInput
from quiver.kernels import contacts as kernel
from quiver.kernels.nearest import blend, vertex_normals
from quiver.mesh.nearest import NearestOn
from quiver.mesh.topology import edges_of_triangles, welded
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_through
from quiver.sim.varying import Varying

NEAR = 0.01
"""What is so close to touching, besides how far it moves, is looked at in a frame [m]."""
KEPT_SURFACES = 64
RIM = 0.02
"""A spot nearer to the rim of an open skin than this share of a triangle says nothing of in and out: what is beyond is beside it."""
DEEP = 0.08
"""Deeper than that inside nothing is looked for: on the far side of a limb there is another skin [m]."""


class Patch:
    """A surface to be felt: rest (V, 3) [m], triangles (F, 3), F > 0, which vertices lie on its rim, the layout of its tree."""

    def __init__(self, rest, triangles):
        self.rest, self.triangles = rest, triangles
        self.is_rim = _rim(triangles, len(rest))
        self.layout = NearestOn(rest, triangles).layout


class Surface(Patch):
    """What a mesh of a character is, whatever the setup says. Raises BadInput where the mesh has no triangles."""

    def __init__(self, mesh, rest_world, scale):
        self.mesh, self.scale, self._known = mesh, scale, (None, 0, [])
        rest = self.positions(rest_world[None])[0]
        # Seams of colours or textures do not cut it.
        triangles = welded(rest, self.mesh.triangles)
        if not len(triangles):
            raise BadInput(f"expected a mesh with triangles to touch, “{mesh.name}” has none")
        super().__init__(rest, triangles)

    def positions(self, world):
        """Where its vertices are, (F, V, 3), in node matrices (F, J, 3, 4)."""
        return self.scale * skinned_through(self.mesh, world).astype(float)

    def ends(self, world, per_frame):
        """Where they are at the ends of frames, (V, 3) each, in node matrices (S, J, 3, 4), which must not be changed afterwards."""
        # All that meets it in a stage asks for the same.
        known, frames, found = self._known
        if known is not world or frames != per_frame:
            found = list(self.positions(world[per_frame - 1 :: per_frame]))
            self._known = world, per_frame, found
        return found


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
    """What is left of a surface (Surface) without some of its vertices, bool (V,)."""

    def __init__(self, surface, without):
        self.whole, self.mesh = surface, surface.mesh
        super().__init__(surface.rest, surface.triangles[~without[surface.triangles].any(1)])

    def positions(self, world):
        """Where its vertices are, as the whole surface says."""
        return self.whole.positions(world)

    def ends(self, world, per_frame):
        """Likewise."""
        return self.whole.ends(world, per_frame)


class Skin:
    """One collider that is a surface, or the rest of it that a layer meets. Lengths in metres. Raises BadInput where it cannot be made.

    ``nodes`` are those it rides on alone; ``key`` stands for what is left out of it.
    """

    def __init__(self, collider, surface, key=()):
        self.key = key
        self.collider, self.margin, self.friction, self.surface = collider, collider.value("margin") / 1000.0, collider.friction, surface
        self.nodes = [surface.mesh.node] if collider.shape == "hull" else []
        self._felt = None

    @property
    def felt(self):
        """The surface as chains and props feel it, one after another."""
        if self._felt is None:
            self._felt = MovingSurface(self.surface)
        return self._felt

    def without(self, own, key):
        """The same without vertices bool (V,), which ``key`` stands for; None where nothing is left."""
        surface = self.surface
        if own[surface.triangles].any(1).all():
            return None
        return Skin(self.collider, _rests.get(surface, key, lambda: Rest(surface, own)), key)

    def carried_by(self, nodes):
        """Which of its vertices some nodes move, bool (V,)."""
        mesh = self.surface.mesh
        if mesh.skin < 0:
            return np.full(len(mesh.positions), mesh.node in nodes)
        return ((mesh.weights > 0.0) & np.isin(mesh.joints, sorted(nodes))).any(1)


class MovingSurface:
    """A surface (Patch) where it is now. What is felt one after another may share it."""

    def __init__(self, surface):
        self.tree, self.is_rim = NearestOn(surface.rest, surface.triangles, surface.layout), surface.is_rim
        self._stood, self._looks = None, []

    def move(self, positions):
        """Its vertices (V, 3) are here now."""
        if self._stood is not positions:
            self.tree.move(positions)
            self._stood = positions

    def normals(self, positions):
        """Normals of its vertices, the last two kept: where one frame ends the next begins."""
        for known, normals in self._looks:
            if known is positions:
                return normals
        normals = np.empty_like(positions)
        vertex_normals(positions, self.tree.triangles, normals)
        self._looks = [(positions, normals), *self._looks[:1]]
        return normals


class ClosestPointQuery(Varying):
    """Finds how far points are outside of a surface (Patch).

    ``rest`` (R, 3) are the points in the rest pose: ``closest`` (R,) is how close each is there, the least that is asked of it; beyond all
    measure where only a rim is near, or where it is deep inside. ``felt`` is the surface as others feel it too, one after another.
    """

    VARYING = ("guesses",)

    def __init__(self, surface, rest, felt=None):
        self.felt = felt or MovingSurface(surface)
        self.guesses = np.full(len(rest), -1)
        distances, *_ = self.feel(surface.rest, rest, np.full(len(rest), np.inf))
        # What is so deep inside already may be anywhere.
        distances[distances < -DEEP] = -np.inf
        self.closest = np.where(np.isnan(distances), np.inf, distances)

    def forget(self):
        """Forget what was found last: it only makes the next look quicker, but of two places equally near it may choose the other."""
        self.guesses = np.full(len(self.guesses), -1)

    def feel(self, skin_positions, points, limits):
        """(distances (R,), triangles (R,), corner_weights (R, 3), spots (R, 3), normals (R, 3)) of points.

        Distances are NaN where nothing is within limits (R,), or only the rim of an open skin.
        """
        felt = self.felt
        felt.move(skin_positions)
        found, corner_weights = felt.tree.find(points, limits, self.guesses)
        self.guesses = found
        surface_contacts, normals = self.surface_contacts(skin_positions, found, corner_weights)
        inner = np.einsum("rc,rc->r", corner_weights, ~felt.is_rim[felt.tree.triangles[found]])
        is_faced = (found >= 0) & (inner > RIM)
        return (
            np.where(is_faced, np.einsum("rk,rk->r", points - surface_contacts, normals), np.nan),
            found,
            corner_weights,
            surface_contacts,
            normals,
        )

    def surface_contacts(self, skin_positions, found, corner_weights):
        """Positions (n, 3) and normals (n, 3) of spots of the skin, wherever it is now."""
        surface_contacts, normals = np.empty((len(found), 3)), np.empty((len(found), 3))
        blend(skin_positions, self.felt.normals(skin_positions), self.felt.tree.triangles, found, corner_weights, surface_contacts, normals)
        return surface_contacts, normals


def _rim(triangles, count):
    """Which of so many vertices lie on an edge that has one triangle only, bool (V,)."""
    edges, counts = edges_of_triangles(triangles, count)
    out = np.zeros(count, bool)
    out[edges[counts == 1].ravel()] = True
    return out


class SkinContacts(Varying):
    """What R points meet of a skin; ``rest`` (R, 3) [m] is where they are in the rest pose, ``thickness`` around them, one or (R,) [m],
    ``felt`` as in ClosestPointQuery."""

    VARYING = ("before", "reached")
    INSIDE = ("query",)

    def __init__(self, skin, rest, thickness, felt=None):
        self.skin, self.query = skin, ClosestPointQuery(skin.surface, rest, felt)
        self.contact_distances = np.minimum(skin.margin + thickness, self.query.closest)
        self.reach = np.maximum(self.contact_distances, 0.0)

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        self.before, self.reached = self.skin.surface.positions(world[None])[0], 0.0

    def ready(self, world, jumped, per_frame):
        """Take the node matrices (S, J, 3, 4) of some frames."""
        self.ends, self.jumped = self.skin.surface.ends(world, per_frame), jumped

    def surface_contacts(self, frame, points, travel, until=1.0):
        """Which of the points (R, 3) may touch in a frame, int (Q,), then spots, reaches and grips as `push_surface_contacts` takes them.

        travel (R,) is how far each point may move [m]. To be asked once a frame, or for pieces of it one after another, each from
        where the last one ended to a share of the frame.
        """
        end = self.ends[frame]
        begin = end if self.jumped[frame] else self.before
        if until < 1.0:
            end = begin + (until - self.reached) / (1.0 - self.reached) * (end - begin)
        self.before, self.reached = end, until % 1.0
        limits = self.reach + 1.5 * travel + NEAR + DEEP
        distances, found, corner_weights, surface_contacts, normals = self.query.feel(begin, points, limits)
        rows = np.flatnonzero(distances < self.contact_distances + 1.5 * travel + NEAR)
        ends = self.query.surface_contacts(end, found[rows], corner_weights[rows])
        near = np.concatenate([surface_contacts[rows], ends[0], normals[rows], ends[1]], axis=1)
        return rows, near, self.contact_distances[rows], np.full(len(rows), self.skin.friction)


class SkinDepth:
    """How deep points get into a skin beyond the rest pose; ``rest`` (R, 3) are they in it."""

    def __init__(self, skin, rest):
        self.skin, self.query = skin, ClosestPointQuery(skin.surface, rest)
        self.allowed = np.minimum(self.query.closest, 0.0)

    def depths(self, skin_positions, points):
        """How deep each point is (R,) [m]; 0 or less where it is not."""
        distances, *_ = self.query.feel(skin_positions, points, np.full(len(points), DEEP))
        return np.nan_to_num(self.allowed - distances, nan=0.0)

    def deepest(self, skin_positions, points):
        """(depth [m], point) of the deepest; (0, -1) where none is."""
        depths = self.depths(skin_positions, points)
        worst = int(np.argmax(depths)) if len(depths) else -1
        return (float(depths[worst]), worst) if worst >= 0 and depths[worst] > kernel.TINY else (0.0, -1)
