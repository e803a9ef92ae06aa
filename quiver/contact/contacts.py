"""The colliders of a setup in a run: where they are, which layers meet them, and how close anything may come."""

from functools import cached_property

import numpy as np

from quiver.bodies.inner import outer_meshes
from quiver.colliders import SURFACES
from quiver.contact.skins import Skin, SkinBehind, surface_of, surface_of_collider
from quiver.errors import BadInput
from quiver.kernels import contacts as kernel
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices
from quiver.sim.obstacles import frame_rows, shape_rows
from quiver.sim.varying import Varying

LEAST_OWN = 0.5
"""What a layer moves by more than this share is its own, and not what it meets."""
KNOWN = 3
"""Answers that are kept besides the last one."""
MAIN_SHARE = 0.05
"""Joints that carry so much of some flesh are inside of it: their colliders are not met unless the artist says so."""


class Contacts:
    """The colliders of a setup that are on: K simple shapes, and skins. Lengths in metres.

    nodes int (K,) what each rides on, -1 for the world; numbers (K,) which of the setup's colliders each is

    Raises BadInput where one rides on a joint that is not there.
    """

    def __init__(self, character, setup):
        simple = [(at, each) for at, each in enumerate(setup.colliders) if each.is_on and each.shape not in SURFACES]
        self.numbers, self.colliders = np.array([at for at, _ in simple], int), [collider for _, collider in simple]
        skeleton, self.scale = character.skeleton, setup.metres_per_unit
        surfaces = [collider for collider in setup.colliders if collider.is_on and collider.shape in SURFACES]
        self.skins = [Skin(collider, surface_of_collider(character, collider, self.scale)) for collider in surfaces]
        for collider in self.colliders:
            if collider.joint and collider.joint not in skeleton:
                raise BadInput(f"collider “{collider.name}”: expected a joint of this character, got “{collider.joint}”")
        self._known, self._skins = [], {}
        self.character = character
        self.nodes = np.array([skeleton.index(each.joint) if each.joint else -1 for each in self.colliders], int)
        positions = np.array([each.place for each in self.colliders], float).reshape(-1, 3)
        rotations = np.array([each.turn for each in self.colliders], float).reshape(-1, 4)
        rest = rest_matrices(skeleton)[self.nodes]
        rest[self.nodes < 0] = np.eye(3, 4)
        # Where it is from the joint it rides on, turned as that joint's turn alone: a joint that stretches does not bend it.
        joint_rotations = transforms.pure_rotations(rest[:, :, :3])
        self._rotations = np.swapaxes(joint_rotations, 1, 2) @ transforms.to_matrices(rotations)
        self._positions = np.einsum("kij,kj->ki", np.linalg.pinv(rest[:, :, :3]), positions - rest[:, :, 3])
        self.radii = np.array([each.radius for each in self.colliders]) * self.scale
        self.margins = np.array([each.value("margin") for each in self.colliders]) / 1000.0
        cores = np.array([each.core for each in self.colliders]).reshape(-1, 4)
        cores = np.where(cores < kernel.FOR_EVER, cores * self.scale, kernel.FOR_EVER)
        bounds = np.array([each.bound for each in self.colliders])
        bounds = np.where(bounds < kernel.FOR_EVER, bounds * self.scale, kernel.FOR_EVER)
        self.shapes = shape_rows(cores, bounds, np.array([each.friction for each in self.colliders]))
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
        positions = np.einsum("skij,kj->ski", placed[..., :3], self._positions) + placed[..., 3]
        rotations = transforms.pure_rotations(placed[..., :3]) @ self._rotations
        return np.concatenate([rotations, self.scale * positions[..., None]], axis=-1)

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

    def skins_met_by(self, setup, layer, driven=()):
        """The Skins that a layer meets, each without what the layer itself moves: a region, or what ``driven`` nodes carry."""
        found = []
        for skin in self.skins:
            if not meets_skin(setup, layer, skin.collider):
                continue
            own, key = self._own(setup, layer, skin, driven)
            # Flesh dents into where it was cut out; what hangs on joints does not.
            found.append(
                self._once((skin.collider.id, key), lambda skin=skin, own=own, key=key: skin.without(own, key, bool(layer.region)))
            )
        return [skin for skin in found if skin is not None]

    def _once(self, key, make):
        """What was made for a key before, so that those who meet the same skin know that they do."""
        if key not in self._skins:
            self._skins[key] = make()
        return self._skins[key]

    @cached_property
    def _skin_of_nodes(self):
        """{node: index of the mesh that it moves the largest part of, more than any other node does of that part}: of those that have an
        inside, which clothes have not."""
        found = {}
        for index, mesh in outer_meshes(self.character):
            if mesh.skin < 0 or not len(mesh.triangles) or not surface_of(self.character, mesh.name, self.scale).has_inside:
                continue
            heaviest = mesh.heaviest
            for node in np.unique(heaviest).tolist():
                size = float(np.linalg.norm(np.ptp(mesh.positions[heaviest == node], axis=0)))
                if size > found.get(node, (-1.0, 0))[0]:
                    found[node] = size, index
        return {node: index for node, (_, index) in found.items()}

    def stands_for_skin(self, indices):
        """Which of simple shapes (indices) ride on a joint that moves skin, and stand for it: bool (n,)."""
        return np.array([int(node) in self._skin_of_nodes for node in self.nodes[indices]], bool)

    def seen(self, met):
        """Those of simple shapes (indices ``met``) that are what they show: of the others, the skin behind them counts."""
        met = np.asarray(met, int)
        return met[~self.stands_for_skin(met)]

    def skins_behind(self, met, driven=(), region=None, carriers=()):
        """The Skins that simple shapes (indices ``met``) stand for: what is seen, and so what counts.

        Of each mesh all is left out that a layer moves itself: what is in its ``region`` (Region), and what its ``driven`` nodes move by
        more than LEAST_OWN. So is what hangs on joints whose shapes are not met, but for the ``carriers`` of its own flesh.
        """
        met = np.asarray(met, int)
        shapes = {}
        for index in met[self.stands_for_skin(met)]:
            shapes.setdefault(self._skin_of_nodes[int(self.nodes[index])], []).append(index)
        spared = set(self.nodes[np.setdiff1d(np.arange(len(self)), met)].tolist()) - set(self.nodes[met].tolist()) - set(carriers)
        found = []
        for mesh_index, own in shapes.items():
            mesh = self.character.meshes[mesh_index]
            values = region.values if region and region.mesh == mesh.name else None
            key = "behind", tuple(sorted(driven)), tuple(sorted(spared)), values, region is not None

            def make(mesh=mesh, collider=self.colliders[own[0]], key=key, values=values):
                share = (mesh.weights * np.isin(mesh.joints, sorted(driven))).sum(1)
                left_out = (share > LEAST_OWN) | np.isin(mesh.heaviest, sorted(spared))
                if values is not None:
                    left_out |= _chosen(region, mesh)
                return SkinBehind(collider, surface_of(self.character, mesh.name, self.scale)).without(left_out, key, region is not None)

            found.append(self._once((mesh_index, self.colliders[own[0]].id, key), make))
        return [skin for skin in found if skin is not None]

    def _own(self, setup, layer, skin, driven):
        """Which vertices of a skin a layer itself moves, bool (V,), and what stands for them."""
        if not layer.region:
            return skin.carried_by(driven), (tuple(sorted(driven)),)
        region, mesh = setup.region(layer.region), skin.surface.mesh
        if skin.collider.shape != "skin" or region.mesh != skin.collider.mesh:
            return np.zeros(len(mesh.positions), bool), ()
        return _chosen(region, mesh), (region.values,)

    def identity(self, met, skins):
        """All that decides what some of them (indices) and some Skins do to what meets them, but for where their nodes are."""
        shapes = [(_identity(self.colliders[index]), int(self.nodes[index])) for index in met]
        return self.scale, shapes, [(_identity(skin.collider), skin.key) for skin in skins]

    def nodes_of(self, met, skins):
        """The nodes that some of them (indices) and some Skins ride on."""
        return [int(node) for node in self.nodes[met] if node >= 0] + [node for skin in skins for node in skin.nodes]

    def distances(self, points):
        """Distances (..., K) [m] of points (..., 3) from the cores in the rest pose."""
        flat = np.ascontiguousarray(np.reshape(points, (-1, 3)), float)
        out = np.empty((len(flat), len(self)))
        kernel.distances(flat, self.rest, self.shapes, out)
        return out.reshape(*np.shape(points)[:-1], len(self))

    def contact_distances(self, points, thickness=0.0):
        """How far points (..., 3) in the rest pose, ``thickness`` (...) thick, keep from each core, (..., K) [m].

        What is closer in the rest pose may stay as close: the artist made it so.
        """
        wanted = np.asarray(thickness)[..., None] + self.radii + self.margins
        return np.minimum(wanted, self.distances(points))


def _chosen(region, mesh):
    """Which vertices of a mesh are in its region, bool (V,)."""
    return regions.is_in(regions.decode(region.values, len(mesh.positions)))


def _identity(collider):
    return collider.shape, collider.joint, collider.mesh, collider.place, collider.turn, collider.size, collider.values


def meets_skin(setup, layer, collider):
    """Whether a layer meets a collider that is a surface: where told to, and sheets by themselves those that another mesh makes.

    None where it never could: what is made of a mesh is inside of that mesh's simplified body.
    """
    is_own = bool(layer.region) and setup.region(layer.region).mesh == collider.mesh
    if is_own and collider.shape == "body":
        return None
    by_itself = layer.kind == "sheet" and not is_own
    return layer.id in collider.meets or (by_itself and layer.id not in collider.spares)


def flesh_carriers(character, setup, layer):
    """The nodes that carry no small part of a volume's flesh, so are inside of it; none for a chain."""
    if layer.kind != "volume":
        return ()
    region = setup.region(layer.region)
    mesh = character.mesh(region.mesh)
    chosen = _chosen(region, mesh)
    if mesh.skin < 0:
        return (mesh.node,)
    corner_weights = np.bincount(mesh.joints[chosen].ravel(), mesh.weights[chosen].ravel()) / max(int(chosen.sum()), 1)
    return tuple(int(node) for node in np.flatnonzero(corner_weights > MAIN_SHARE))


class ColliderTracks(Varying):
    """Some of the Contacts (``met``, L indices) while a run goes on: where they are in each substep."""

    VARYING = ("before",)

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


def joined(groups, none):
    """Arrays of several skins as one; ``none`` where there are no skins."""
    return tuple(np.concatenate(parts) for parts in zip(*groups, strict=True)) if groups else none
