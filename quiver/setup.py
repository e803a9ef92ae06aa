"""The setup of a character: one validated document with all its layers and dials."""

import itertools
import re
from dataclasses import dataclass, field, replace

from quiver import dials
from quiver.colliders import SIZES, Collider
from quiver.errors import BadInput

FRAME_RATE = dials.Dial(
    "frame_rate", "Frame rate", "1/s", 1.0, 240.0, 24.0, 1.0, "Scene", "Frames in a second, for dials that count in frames."
)
METRES = dials.Dial("metres_per_unit", "Metres per unit", "m", 1e-4, 1e3, 1.0, 0.01, "Scene", "How long one unit of the file is.")
PREROLL = dials.Dial(
    "preroll_frames", "Pre-roll", "frames", 0.0, 480.0, 24.0, 1.0, "Scene", "Frames from the rest pose into the clip's first pose."
)
MOST_FOLLOWED = 64
"""Points of a follower, at the most."""
FORMS = {"dome": "Dome", "pad": "Pad", "sleeve": "Sleeve", "panel": "Panel", "tube": "Tube", "own": "Own mesh"}
"""Shapes of forms, and what they are called: a half ball open below; a cushion; an open tube that narrows; a flat piece; an open tube."""
WHOLE_SKIN = "skin:"
"""Stands for all of the skin where else the id of a layer stands."""
SCENE_DIALS = (FRAME_RATE, METRES, PREROLL)


@dataclass(frozen=True)
class ChainPick:
    """Which joints make a chain: from ``root`` down to ``end`` (or to the only tip), or exactly the ``picked`` ones."""

    root: str = ""
    end: str = ""
    picked: tuple = ()
    branches: bool = False

    @property
    def names(self):
        return [name for name in (self.root, self.end, *self.picked) if name]

    def __str__(self):
        if self.picked:
            return ", ".join(self.picked)
        return f"{self.root} → {self.end}" if self.end and self.end != self.root else self.root


@dataclass(frozen=True)
class Region:
    """A named area of one mesh: ``values`` are the levels of its ``vertices`` vertices as mesh/regions.py writes them.

    A mesh may have one that ``is_final``: no layer is made of it, it says how much of all that was simulated the final skin shows.
    """

    id: str
    name: str
    mesh: str
    vertices: int
    values: str
    is_final: bool = False


FOLLOWER = "follower"
"""What a layer rides on is the id of a volume, or this, a colon, and the id of a follower."""


@dataclass(frozen=True)
class Follower:
    """A frame that rides on a few picked ``vertices`` of a mesh, wherever simulation takes them."""

    id: str
    name: str
    mesh: str
    vertices: tuple


@dataclass(frozen=True)
class Form:
    """A surface placed by hand, that a sheet is made of: where its box is in the rest pose and how it is turned (x y z w) and large.

    shape one of FORMS, size (3,) along its own X Y Z [file units]; mesh what bodies/forms.py made of an own one
    """

    shape: str
    place: tuple
    turn: tuple
    size: tuple
    mesh: str = ""

    def mirrored(self):
        """The same on the other side; an own mesh is not turned into its mirror image."""
        (x, y, z), (a, b, c, w) = self.place, self.turn
        return replace(self, place=(-x, y, z), turn=(a, -b, -c, w))


@dataclass(frozen=True)
class Layer:
    """One piece of secondary motion. ``amount`` holds (frame, value) keys; one key is a constant.

    A chain layer has ``chains``, a prop layer the joints of its props and a limb layer those of its limbs as chains of one; chains and
    props may hang on a volume or a follower that they ``ride``. A volume, a sheet or a touch has a ``region`` (its id), and a volume in
    ``built`` what bodies/conforming.py made of its mesh, where it is not to be a lattice. A touch has in ``other`` the region that its own
    must not cross; "" is the rest of that mesh. A sheet may have a ``form`` placed by hand, which counts where its dials say so.
    """

    id: str
    name: str
    kind: str = "chain"
    is_on: bool = True
    chains: tuple = ()
    values: dict = field(default_factory=dict)
    amount: tuple = ((0.0, 1.0),)
    region: str = ""
    rides: str = ""
    built: str = ""
    other: str = ""
    form: Form | None = None

    def value(self, name):
        """The value of a dial, or its default."""
        return self.values.get(name, dials.dial_of(self.kind, name).default)

    def amount_at(self, frame):
        """The amount 0..1 at a frame, linear between keys."""
        keys = self.amount
        if frame <= keys[0][0]:
            return keys[0][1]
        for (a, from_value), (b, to_value) in itertools.pairwise(keys):
            if frame < b:
                return from_value + (frame - a) / (b - a) * (to_value - from_value)
        return keys[-1][1]


@dataclass(frozen=True)
class Setup:
    """All layers in order, and the scene's own values.

    watches_skin: whether a take tells how deep all of the skin gets into the colliders, whatever is simulated, as `WHOLE_SKIN`
    """

    layers: tuple = ()
    frame_rate: float = FRAME_RATE.default
    metres_per_unit: float = METRES.default
    preroll_frames: float = PREROLL.default
    regions: tuple = ()
    colliders: tuple = ()
    followers: tuple = ()
    watches_skin: bool = False

    def region(self, identifier):
        """The region of that id. Raises BadInput."""
        return _found(self.regions, identifier, "a region")

    def with_region(self, changed):
        """This setup with one region replaced (by its id). Raises BadInput where there is none."""
        return replace(self, regions=_replaced(self.regions, changed, "a region"))

    def with_new_region(self, name, mesh, vertices, values, is_final=False):
        """This setup with one more region, the last one. Raises BadInput for a second final skin of one mesh."""
        if is_final and self.final_skin(mesh):
            raise BadInput(f"expected one final skin for “{mesh}”, it has “{self.final_skin(mesh).name}”")
        identifier = _free_id(name, "region", self.regions)
        return replace(self, regions=(*self.regions, Region(identifier, name, mesh, vertices, values, is_final)))

    def final_skin(self, mesh):
        """The final skin of a mesh, or None."""
        return next((region for region in self.regions if region.is_final and region.mesh == mesh), None)

    def without_region(self, identifier):
        """This setup less one region. Raises BadInput where there is none, or where a layer is made of it."""
        region = self.region(identifier)
        users = [layer.name for layer in self.layers if identifier in (layer.region, layer.other)]
        if users:
            raise BadInput(f"“{region.name}” is what {', '.join(f'“{name}”' for name in users)} is made of; remove the layer first")
        return replace(self, regions=tuple(each for each in self.regions if each.id != identifier))

    def with_new_soft(self, kind, region_id, name="", **values):
        """This setup with one more layer on top that is made of a region, with some dials. Raises BadInput for no such region."""
        region = self.region(region_id)
        if region.is_final:
            raise BadInput(f"expected a region that says where flesh is soft, “{region.name}” says what the final skin shows")
        name, values = name or region.name, dials.defaults(kind) | values
        layer = Layer(_free_id(name, "layer", self.layers), name, kind, True, (), values, region=region_id)
        return replace(self, layers=(*self.layers, layer))

    def with_new_touch(self, region_id, other=""):
        """This setup with one more touch on top: a region is kept from another, or from the rest of its mesh. Raises BadInput."""
        made = self.with_new_soft("touch", region_id)
        if other:
            made.region(other)
        return made.with_layer(replace(made.layers[-1], other=other))

    def with_copy(self, layer, name, **changes):
        """This setup with a layer like ``layer`` on top, with a name of its own and some fields changed."""
        return replace(self, layers=(*self.layers, replace(layer, id=_free_id(name, "layer", self.layers), name=name, **changes)))

    def layer(self, identifier):
        """The layer of that id. Raises BadInput."""
        return _found(self.layers, identifier, "a layer")

    def volume(self, identifier):
        """The volume layer of that id. Raises BadInput where there is none, or it is of another kind."""
        layer = self.layer(identifier)
        if layer.kind != "volume":
            raise BadInput(f"expected a volume, “{layer.name}” is a {layer.kind}")
        return layer

    def with_layer(self, changed):
        """This setup with one layer replaced (by its id). Raises BadInput where there is none."""
        return replace(self, layers=_replaced(self.layers, changed, "a layer"))

    def without_layer(self, identifier):
        """This setup less one layer. Raises BadInput where there is none."""
        self.layer(identifier)
        left = (layer for layer in self.layers if layer.id != identifier)
        layers = tuple(replace(layer, rides="") if layer.rides == identifier else layer for layer in left)
        return replace(self, layers=layers, colliders=tuple(_forgetting(collider, identifier) for collider in self.colliders))

    def moved(self, identifier, by):
        """This setup with one layer moved by some places in the order. Raises BadInput where there is none."""
        layers = list(self.layers)
        at = layers.index(self.layer(identifier))
        layers.insert(max(0, min(len(layers) - 1, at + by)), layers.pop(at))
        return replace(self, layers=tuple(layers))

    def with_new_chain(self, pick, name="", kind="chain"):
        """This setup with one more chain layer, or prop layer, on top. Raises BadInput where the name is no name."""
        name = name or (pick.root or pick.picked[0])
        layer = Layer(_free_id(name, "layer", self.layers), name, kind, True, (pick,), dials.defaults(kind))
        return replace(self, layers=(*self.layers, layer))

    def with_chain(self, identifier, pick):
        """This setup with one more chain in a layer. Raises BadInput where there is no such layer."""
        layer = self.layer(identifier)
        return self.with_layer(replace(layer, chains=(*layer.chains, pick)))

    def without_chain(self, identifier, index):
        """This setup less one chain of a layer. Raises BadInput where it is not there or is the layer's last."""
        layer = self.layer(identifier)
        if not 0 <= index < len(layer.chains) or len(layer.chains) == 1:
            raise BadInput(
                f"{layer.name}: expected a chain to take away that is not its last, got number {index + 1} of {len(layer.chains)}"
            )
        return self.with_layer(replace(layer, chains=layer.chains[:index] + layer.chains[index + 1 :]))

    def collider(self, identifier):
        """The collider of that id. Raises BadInput."""
        return _found(self.colliders, identifier, "a collider")

    def with_collider(self, changed):
        """This setup with one collider replaced (by its id). Raises BadInput where there is none."""
        return replace(self, colliders=_replaced(self.colliders, changed, "a collider"))

    def with_new_collider(self, shape, name, **fields):
        """This setup with one more collider. Raises BadInput for a shape that there is not."""
        if shape not in SIZES:
            raise BadInput(f"expected a collider of the shape {', '.join(SIZES)}, got “{shape}”")
        fields = {"size": (0.1,) * len(SIZES[shape])} | fields
        made = Collider(_free_id(name, "collider", self.colliders), name, shape, values=dials.defaults("collider"), **fields)
        return replace(self, colliders=(*self.colliders, made))

    def without_collider(self, identifier):
        """This setup less one collider. Raises BadInput where there is none."""
        self.collider(identifier)
        return replace(self, colliders=tuple(each for each in self.colliders if each.id != identifier))

    def follower(self, identifier):
        """The follower of that id. Raises BadInput."""
        return _found(self.followers, identifier, "a follower")

    def with_new_follower(self, name, mesh, vertices):
        """This setup with one more follower. Raises BadInput for no vertices, or too many."""
        if not 0 < len(vertices) <= MOST_FOLLOWED:
            raise BadInput(f"expected 1 to {MOST_FOLLOWED} points to follow, got {len(vertices)}")
        made = Follower(_free_id(name, "follower", self.followers), name, mesh, tuple(int(vertex) for vertex in vertices))
        return replace(self, followers=(*self.followers, made))

    def without_follower(self, identifier):
        """This setup less one follower; what rides on it hangs on its joints again. Raises BadInput where there is none."""
        self.follower(identifier)
        layers = tuple(replace(layer, rides="") if layer.rides == f"{FOLLOWER}:{identifier}" else layer for layer in self.layers)
        return replace(self, layers=layers, followers=tuple(each for each in self.followers if each.id != identifier))

    def moves_like(self, other):
        """Whether both setups give the same motion: names and regions that no layer is made of do not matter."""
        return self._motion() == other._motion()

    def _motion(self):
        layers = [replace(layer, name="") for layer in self.layers if layer.is_on]
        used = {identifier for layer in layers for identifier in (layer.region, layer.other)}
        return (
            layers,
            [replace(region, name="") for region in self.regions if region.id in used or region.is_final],
            [replace(collider, name="") for collider in self.colliders if collider.is_on],
            [replace(follower, name="") for follower in self.followers if f"{FOLLOWER}:{follower.id}" in {each.rides for each in layers}],
            *(getattr(self, d.name) for d in SCENE_DIALS),
            self.watches_skin,
        )

    def unknown_names(self, skeleton):
        """The joint names used here that the skeleton does not have, sorted."""
        used = {name for layer in self.layers for chain in layer.chains for name in chain.names}
        used |= {collider.joint for collider in self.colliders if collider.joint}
        return sorted(name for name in used if name not in skeleton)


def _found(items, identifier, what):
    for item in items:
        if item.id == identifier:
            return item
    raise BadInput(f"expected the id of {what} of this setup, got “{identifier}”")


def _replaced(items, changed, what):
    _found(items, changed.id, what)
    return tuple(changed if item.id == changed.id else item for item in items)


def _forgetting(collider, layer_id):
    """A collider without what it says of a layer that is no more."""
    kept = (tuple(each for each in ids if each != layer_id) for ids in (collider.meets, collider.spares))
    return replace(collider, **dict(zip(("meets", "spares"), kept, strict=True)))


def _free_id(name, fallback, others):
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:80] or fallback
    taken = {other.id for other in others}
    identifier, number = base, 2
    while identifier in taken:
        identifier, number = f"{base}-{number}", number + 1
    return identifier
