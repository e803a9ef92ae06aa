"""The colliders of a setup in a run: where they are, which layers meet them, and how close anything may come."""

import numpy as np
from scipy.spatial import KDTree

from quiver.colliders import SURFACES
from quiver.dials import SOFT_KINDS
from quiver.errors import BadInput
from quiver.kernels import contacts as kernel
from quiver.meeting.skins import NEAR, Skin, SkinContacts
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.sim.obstacles import frame_rows, shape_rows
from quiver.sim.packing import spots_in_lanes
from quiver.sim.solid import NO_HELD, NO_PAIRS, NO_SPOT_LANES, NO_SPOTS

KNOWN = 3
"""Answers that are kept besides the last one."""
OWN_SPACING, OWN_NEIGHBOURS, FARTHEST_OWN = 0.8, 2.2, 1.5
"""Particles of one sheet keep so many edges apart; closer at rest than so many they are neighbours; and no more of those are looked at."""
OWN_GRIP = 0.3
"""Coefficient of friction of a sheet with itself."""
MAIN_SHARE = 0.05
"""Joints that carry so much of some flesh are inside of it: their colliders are not met unless the artist says so."""


class Contacts:
    """The colliders of a setup that are on: K simple shapes, and skins. Lengths in metres.

    nodes int (K,) what each rides on, -1 for the world. Raises BadInput where one rides on a joint that is not there.
    """

    def __init__(self, character, setup):
        self.colliders = [collider for collider in setup.colliders if collider.is_on and collider.shape not in SURFACES]
        skeleton, self.scale = character.skeleton, setup.metres_per_unit
        surfaces = [collider for collider in setup.colliders if collider.is_on and collider.shape in SURFACES]
        self.skins = [Skin(character, collider, self.scale) for collider in surfaces]
        for collider in self.colliders:
            if collider.joint and collider.joint not in skeleton:
                raise BadInput(f"collider “{collider.name}”: expected a joint of this character, got “{collider.joint}”")
        self._known = []
        self.nodes = np.array([skeleton.index(each.joint) if each.joint else -1 for each in self.colliders], int)
        places = np.array([each.place for each in self.colliders], float).reshape(-1, 3)
        turns = np.array([each.turn for each in self.colliders], float).reshape(-1, 4)
        rest = rest_matrices(skeleton)[self.nodes]
        rest[self.nodes < 0] = np.eye(3, 4)
        # Where it is from the joint it rides on, turned as that joint's turn alone: a joint that stretches does not bend it.
        joint_turns = transforms.pure_rotations(rest[:, :, :3])
        self._turns = np.swapaxes(joint_turns, 1, 2) @ transforms.to_matrices(turns)
        self._places = np.einsum("kij,kj->ki", np.linalg.pinv(rest[:, :, :3]), places - rest[:, :, 3])
        self.radii = np.array([each.radius for each in self.colliders]) * self.scale
        self.margins = np.array([each.value("margin") for each in self.colliders]) / 1000.0
        cores = np.array([each.core for each in self.colliders]).reshape(-1, 4)
        cores = np.where(cores < kernel.FOR_EVER, cores * self.scale, kernel.FOR_EVER)
        bounds = np.array([each.bound for each in self.colliders])
        bounds = np.where(bounds < kernel.FOR_EVER, bounds * self.scale, kernel.FOR_EVER)
        self.shapes = shape_rows(cores, bounds, np.array([each.grip for each in self.colliders]))
        self.rest = frame_rows(np.repeat(self.placements(rest_matrices(skeleton)[None]), 2, 0))[0]

    def __len__(self):
        return len(self.colliders)

    def placements(self, world):
        """Where they are, (S, K, 3, 4) [m], in node matrices (S, J, 3, 4), which must not be changed afterwards."""
        # Every part of a stage asks for the same.
        for known, found in self._known:
            if known is world:
                return found
        found = self._placements(world)
        self._known = [(world, found), *self._known[:KNOWN]]
        return found

    def _placements(self, world):
        placed = world[:, self.nodes]
        placed[:, self.nodes < 0] = np.eye(3, 4)
        places = np.einsum("skij,kj->ski", placed[..., :3], self._places) + placed[..., 3]
        turns = transforms.pure_rotations(placed[..., :3]) @ self._turns
        return np.concatenate([turns, self.scale * places[..., None]], axis=-1)

    def met_by(self, layer, driven, carriers=()):
        """Which of them (indices) a layer meets: those it was told to, and all others but what is simulated itself or carries it.

        driven    nodes that chains move; carriers nodes that carry the layer's flesh
        """
        met = []
        for index, collider in enumerate(self.colliders):
            by_itself = self.nodes[index] not in driven and self.nodes[index] not in carriers
            if layer.id in collider.meets or (by_itself and layer.id not in collider.spares):
                met.append(index)
        return np.array(met, int)

    def skins_met_by(self, setup, layer):
        """The Skins that a layer meets."""
        return [skin for skin in self.skins if meets_skin(setup, layer, skin.collider)]

    def distances(self, points):
        """Distances (..., K) [m] of points (..., 3) from the cores in the rest pose."""
        flat = np.ascontiguousarray(np.reshape(points, (-1, 3)), float)
        out = np.empty((len(flat), len(self)))
        kernel.distances(flat, self.rest, self.shapes, out)
        return out.reshape(*np.shape(points)[:-1], len(self))

    def reaches(self, points, thickness=0.0):
        """How far points (..., 3) in the rest pose, ``thickness`` (...) thick, keep from each core, (..., K) [m].

        What is closer in the rest pose may stay as close: the artist made it so.
        """
        wanted = np.asarray(thickness)[..., None] + self.radii + self.margins
        return np.minimum(wanted, self.distances(points))


def meets_skin(setup, layer, collider):
    """Whether a layer meets a collider that is a surface: sheets do by themselves, flesh where told to.

    None where it never could: chains and props, and what is made of the same mesh, whose inside is the skin's inside too.
    """
    if layer.kind not in SOFT_KINDS or setup.region(layer.region).mesh == collider.mesh:
        return None
    return layer.id in collider.meets or (layer.kind == "sheet" and layer.id not in collider.spares)


def flesh_carriers(character, setup, layer):
    """The nodes that carry no small part of a volume's flesh, so are inside of it; none for a chain."""
    if layer.kind != "volume":
        return ()
    region = setup.region(layer.region)
    mesh = character.mesh(region.mesh)
    chosen = regions.is_in(regions.decode(region.values, len(mesh.positions)))
    if mesh.skin < 0:
        return (mesh.node,)
    shares = np.bincount(mesh.joints[chosen].ravel(), mesh.weights[chosen].ravel()) / max(int(chosen.sum()), 1)
    return tuple(int(node) for node in np.flatnonzero(shares > MAIN_SHARE))


class Followed:
    """Some of the Contacts (``met``, L indices) while a run goes on: where they are in each substep."""

    def __init__(self, contacts, met):
        self.contacts, self.met = contacts, met
        self.shapes = np.ascontiguousarray(contacts.shapes[met])

    def start(self, world):
        """Begin in node matrices (J, 3, 4)."""
        self.before = self.contacts.placements(world[None])[:, self.met]

    def appear(self, world, nodes):
        """What rides on some nodes is where it is in node matrices (J, 3, 4) as if it had always been there."""
        here = np.isin(self.contacts.nodes[self.met], nodes)
        self.before[:, here] = self.contacts.placements(world[None])[:, self.met][:, here]

    def rows(self, world, jumped, per_frame):
        """Frames (S, L, FRAME) in node matrices (S, J, 3, 4) of some frames, so many samples each.

        jumped  bool (F,): in such a frame they stand where it ends, as if they had always been there
        """
        placed = self.contacts.placements(world)[:, self.met]
        rows = frame_rows(np.concatenate([self.before, placed]))
        self.before = placed[-1:]
        for frame in np.flatnonzero(jumped):
            span = slice(frame * per_frame, (frame + 1) * per_frame)
            rows[span, :, :12] = rows[span, :, 12:] = rows[span.stop - 1, :, :12]
            if span.stop < len(rows):
                rows[span.stop, :, 12:] = rows[span.stop - 1, :, :12]
        return rows


class ChainContacts(Followed):
    """What a wave of C chains of n segments meets: L of the colliders.

    met      for each chain the colliders it meets; rest (C, n + 1, 3) its points in the rest pose [m]
    thickness (C, n + 1) how thick it is there [m]
    """

    def __init__(self, contacts, met, rest, thickness):
        super().__init__(contacts, np.unique(np.concatenate([np.zeros(0, int), *met])))
        ends = contacts.reaches(rest, thickness)
        middles = contacts.reaches(0.5 * (rest[:, 1:] + rest[:, :-1]), 0.5 * (thickness[:, 1:] + thickness[:, :-1]))
        reaches = np.stack([middles, ends[:, 1:]], axis=2)[..., self.met]
        for chain, own in enumerate(met):
            reaches[chain][..., ~np.isin(self.met, own)] = kernel.NEVER
        self.reaches = np.moveaxis(reaches, -1, 1)
        self.shapes = self.shapes.astype(np.float32)

    def frames(self, world, jumped, per_frame, origin):
        """What `rows` says, float32, seen from ``origin`` (3,)."""
        rows = self.rows(world, jumped, per_frame)
        rows[..., :3] -= origin
        rows[..., 12:15] -= origin
        return rows.astype(np.float32)


class Carried:
    """R points that particles carry: corners int (R, 4) and shares (R, 4)."""

    def __init__(self, corners, shares):
        self.corners, self.shares = np.ascontiguousarray(corners, np.int32), np.ascontiguousarray(shares, float)
        self.is_single = bool((self.shares[:, 0] == 1.0).all())

    def of(self, values):
        """Values of particles (N, 3) at the points (R, 3)."""
        if self.is_single:
            return values[self.corners[:, 0]].astype(float)
        return np.einsum("rc,rck->rk", self.shares, values[self.corners].astype(float))

    def places(self, state):
        """Where the points are (R, 3) [m], from a SolidState."""
        return self.of(state.positions)

    def way(self, state, keyed_moves, seconds):
        """How far each point may move (R,) [m] in so many seconds in which its keyed place moves by those of the particles, (N, 3)."""
        return np.linalg.norm(self.of(keyed_moves), axis=1) + np.linalg.norm(self.of(state.velocities[:, :3]), axis=1) * seconds


class SurfaceContacts(Followed):
    """What a soft body's surface meets of the simple shapes: L of the colliders.

    met      the colliders (indices); carried (Carried) its points, surface (R, 3) they in the rest pose, thickness around them [m]
    """

    def __init__(self, contacts, met, carried, surface, thickness):
        super().__init__(contacts, met)
        self.carried = carried
        self.reaches = contacts.reaches(surface, np.full(len(surface), thickness))[:, met]

    def ready(self, world, jumped, per_frame):
        """Take the node matrices (S, J, 3, 4) of some frames."""
        self._frames, self._per_frame = self.rows(world, jumped, per_frame), per_frame

    def touches(self, frame, state, way):
        """What may touch in a frame, as `push_held` takes it; way (R,) is how far each point may move in it [m]."""
        frames = self._frames[frame * self._per_frame : (frame + 1) * self._per_frame]
        places = self.carried.places(state)
        far = np.empty((len(places), len(self.met))), np.empty((len(places), len(self.met)))
        for out, at in zip(far, (np.roll(frames[0], 12, axis=1), frames[-1]), strict=True):
            kernel.distances(places, np.ascontiguousarray(at), self.shapes, out)
        rows, which = np.nonzero(np.minimum(*far) < self.reaches + (1.5 * way + NEAR)[:, None])
        carried = self.carried
        arrays = (places[rows], carried.corners[rows], carried.shares[rows], which.astype(np.int32), self.reaches[rows, which])
        return (*arrays, np.ascontiguousarray(frames).reshape(-1, kernel.FRAME), self.shapes)


class SoftContacts:
    """All that a soft body meets. ``met`` the simple colliders (indices), ``skins`` (Skins); others as SurfaceContacts."""

    def __init__(self, contacts, met, skins, surface, corners, shares, thickness):
        self.carried = Carried(corners, shares)
        self.shapes = SurfaceContacts(contacts, met, self.carried, surface, thickness) if len(met) else None
        self.skins = [SkinContacts(skin, self.carried, surface, thickness) for skin in skins]
        self.nodes = [int(node) for node in contacts.nodes[met] if node >= 0] + [node for skin in skins for node in skin.nodes]

    @property
    def _parts(self):
        return [*([self.shapes] if self.shapes else []), *self.skins]

    def start(self, world, dt):
        """Begin in node matrices (J, 3, 4), for substeps of ``dt`` [s]."""
        self.dt = dt
        for part in self._parts:
            part.start(world)

    def ready(self, world, jumped, per_frame):
        """Take the node matrices (S, J, 3, 4) of some frames."""
        self.seconds = per_frame * self.dt
        for part in self._parts:
            part.ready(world, jumped, per_frame)

    def touches(self, frame, state, keyed_moves):
        """What may touch in a frame, as `advance` of sim/solid.py takes it; keyed_moves (N, 3) [m] of the particles in it."""
        way = self.carried.way(state, keyed_moves, self.seconds)
        held = self.shapes.touches(frame, state, way) if self.shapes else NO_HELD
        spots = [skin.touches(frame, state, way) for skin in self.skins]
        if not self.carried.is_single:
            return held, joined(spots, NO_SPOTS), NO_SPOT_LANES, NO_PAIRS
        # What is one particle each goes sixteen at a time; each skin begins a block, so that none has a particle twice.
        return held, NO_SPOTS, joined([spots_in_lanes(each, len(state.positions)) for each in spots], NO_SPOT_LANES), NO_PAIRS


class OwnContacts:
    """What a sheet meets of itself: particles (N, 3) at rest [m], ``edge`` apart on average, that are no neighbours.

    They keep as far apart as the sheet is thick, or so far that none slips through between others; what is closer at rest may stay so.
    """

    def __init__(self, rest, edge, thickness):
        self.rest, self.reach, self.neighbours = rest, max(thickness, OWN_SPACING * edge), OWN_NEIGHBOURS * edge

    def touches(self, state, keyed_moves, seconds):
        """As `push_pairs` takes it; keyed_moves (N, 3) [m] of the particles in a frame of so many seconds."""
        places = state.positions
        way = np.linalg.norm(keyed_moves - keyed_moves.mean(0), axis=1)
        way += np.linalg.norm(state.velocities[:, :3] - state.velocities[:, :3].mean(0), axis=1) * seconds
        # What is fast may be looked up too late; it must still not cost a look at everything.
        around = self.reach + NEAR + min(2.0 * float(way.max(initial=0.0)), FARTHEST_OWN * self.neighbours)
        pairs = KDTree(places).query_pairs(around, output_type="ndarray").astype(np.int32)
        first, second = pairs[np.lexsort(pairs.T[::-1])].T
        at_rest = np.linalg.norm(self.rest[first] - self.rest[second], axis=1)
        ways = places[second] - places[first]
        near = np.linalg.norm(ways, axis=1) < self.reach + NEAR + 1.5 * (way[first] + way[second])
        kept = near & (at_rest > self.neighbours)
        pairs = np.ascontiguousarray(np.stack([first, second], 1)[kept])
        return pairs, np.ascontiguousarray(ways[kept]), np.minimum(self.reach, at_rest[kept]), OWN_GRIP


def joined(groups, none):
    """Arrays of several skins as one; ``none`` where there are no skins."""
    return tuple(np.concatenate(parts) for parts in zip(*groups, strict=True)) if groups else none


class PropContacts(Followed):
    """What a rigid thing meets of the simple shapes (``met``, indices).

    body (PropBody): points (M, 3) of its surface along its principal axes [m], reaches (M, L)
    """

    def __init__(self, contacts, met, body):
        super().__init__(contacts, met)
        self.points = body.own_points
        self.reaches = np.ascontiguousarray(contacts.reaches(body.points)[:, met])
