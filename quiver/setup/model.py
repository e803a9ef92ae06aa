"""The setup of a character: its layers, regions, colliders and scene values. All frozen; quiver/setup/edits.py makes changed ones."""

import itertools
from dataclasses import dataclass, field, replace

from quiver.dials import Choice, Dial
from quiver.errors import BadInput
from quiver.rig.motions import CARRIERS, TRY_OUT

FRAME_RATE = Dial("frame_rate", "Frame rate", "1/s", 1.0, 240.0, 24.0, 1.0, "Scene", "Frames in a second.")
METRES = Dial("metres_per_unit", "Metres per unit", "m", 1e-4, 1e3, 1.0, 0.01, "Scene", "Length of one unit of the file.")
PREROLL = Dial(
    "preroll_frames", "Pre-roll", "frames", 0.0, 480.0, 24.0, 1.0, "Scene", "Frames from the rest pose into the clip's first pose."
)
TRY_OUT_DIALS = (
    Dial("tryout_size", "Try-out size", "%", 5.0, 400.0, 100.0, 5.0, "Scene", "How far a try-out motion goes, of what suits the height."),
    Dial("tryout_tempo", "Try-out tempo", "%", 20.0, 400.0, 100.0, 5.0, "Scene", "How quick a try-out motion is, likewise."),
)
CARRIER = Choice(
    "carrier",
    "Carrier",
    (("none", "none"), *((motion.name, motion.label) for motion in CARRIERS)),
    "none",
    "Scene",
    "What the whole character rides on while its clip plays. Bakes leave its motion out.",
)
CARRIER_DIALS = (
    Dial("carrier_size", "Carrier size", "%", 5.0, 400.0, 100.0, 5.0, "Scene", "How far the carrier moves, of what suits the height."),
    Dial("carrier_tempo", "Carrier tempo", "%", 20.0, 400.0, 100.0, 5.0, "Scene", "How quick the carrier is, likewise."),
)
MOST_FOLLOWED = 64
"""Points of a follower, at the most."""
FORMS = {"dome": "Dome", "pad": "Pad", "sleeve": "Sleeve", "panel": "Panel", "tube": "Tube", "own": "Own mesh"}
"""Shapes of forms and their labels: a half ball open below; a cushion; an open tube that narrows; a flat piece; an open tube."""
WHOLE_SKIN = "skin:"
"""Stands in for the id of a layer where the whole skin is measured."""
SCENE_DIALS = (FRAME_RATE, METRES, PREROLL, *TRY_OUT_DIALS, CARRIER, *CARRIER_DIALS)


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

    A mesh may have one that ``is_final``: no layer is made of it; it gives the share of all simulated motion that the final skin shows.
    """

    id: str
    name: str
    mesh: str
    vertices: int
    values: str
    is_final: bool = False


LAYER = "layer"
FOLLOWER = "follower"
"""A layer rides on the id of a soft volume, or on this, a colon, and the id of a follower."""


@dataclass(frozen=True)
class Follower:
    """A frame that rides on a few picked ``vertices`` of a mesh, wherever simulation takes them."""

    id: str
    name: str
    mesh: str
    vertices: tuple


@dataclass(frozen=True)
class Form:
    """A surface placed by hand that a sheet is made of: place, turn (x y z w) and size of its box in the rest pose.

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


PULLED_BY = {"angle": "angle of a joint", "shortening": "its shortening", "speed": "how quickly it shortens", "muscle": "another muscle"}
CURVES = {"even": "even", "early": "early", "late": "late", "soft": "soft at both ends"}
AXES = {"any": "any", "x": "X", "y": "Y", "z": "Z"}
"""What pulls a muscle, the shapes of that, and the axes of a joint about which an angle counts, with their labels."""


@dataclass(frozen=True)
class Attachment:
    """Where an end of a muscle sits: on a ``joint``, or on a ``bone``, a mesh that moves with one joint.

    reach [mm] how far from that it holds, 0 for its tip; region the id of a painted one that says what it holds instead
    firmness [Hz] of the spring that holds it, 0 for fast
    """

    joint: str
    bone: str = ""
    reach: float = 0.0
    firmness: float = 0.0
    region: str = ""


@dataclass(frozen=True)
class PullDriver:
    """What pulls a muscle while it is from ``low`` to ``high``: degrees, percent or percent a second, or shares of another's pull.

    by one of PULLED_BY; of the joint or the id of the muscle; axis one of AXES, curve one of CURVES; share of it that is added
    """

    by: str
    of: str = ""
    low: float = 0.0
    high: float = 90.0
    axis: str = "any"
    curve: str = "soft"
    share: float = 1.0


MUSCLE_SHAPES = {"spindle": "Spindle", "strap": "Strap", "fan": "Fan"}
"""Shapes of muscles that are made by hand, and their labels."""
MOST_POINTS = 16
"""Points along such a muscle, at the most."""


@dataclass(frozen=True)
class MuscleForm:
    """A muscle made by hand: points ((x, y, z), ...) of its middle line in the rest pose, one of MUSCLE_SHAPES, width and thickness of its
    belly, all [file units]; thickest where that is along it, 0..1; tendon the share of its length at each end that is; outwards (3,) the
    direction in which its thickness counts.
    """

    points: tuple
    shape: str
    width: float
    thickness: float
    thickest: float = 0.5
    tendon: float = 0.15
    outwards: tuple = (0.0, 0.0, 1.0)

    def mirrored(self):
        """The same on the other side of x = 0."""
        x, y, z = self.outwards
        return replace(self, points=tuple((-a, b, c) for a, b, c in self.points), outwards=(-x, y, z))


@dataclass(frozen=True)
class Muscle:
    """One muscle of a layer: the closed piece of a ``mesh`` that has the vertex ``at``, or a ``form`` made by hand, from its origin to its
    insertion.

    values  dials that it has for itself; keys ((frame, pull), ...) with frames rising, drivers what pulls besides
    smoothing [frames] over which its pull is evened out
    """

    id: str
    name: str
    mesh: str
    at: int
    origin: Attachment
    insertion: Attachment
    values: dict = field(default_factory=dict)
    keys: tuple = ((0.0, 0.0),)
    drivers: tuple = ()
    smoothing: float = 0.0
    form: MuscleForm | None = None


def between_keys(keys, frame):
    """The value at a frame of keys ((frame, value), ...), linear between them."""
    if frame <= keys[0][0]:
        return keys[0][1]
    for (a, from_value), (b, to_value) in itertools.pairwise(keys):
        if frame < b:
            return from_value + (frame - a) / (b - a) * (to_value - from_value)
    return keys[-1][1]


@dataclass(frozen=True)
class Layer:
    """One piece of secondary motion. ``amount`` holds (frame, value) keys; one key is a constant.

    A layer made of joints has ``chains`` (one joint each where a pick is no chain); one that ``rides`` follows a soft volume, or a
    follower, by its id. One made of ``muscles`` has those, and in ``bones`` the meshes that they keep off; in ``rests``, if
    it is not the rig's rest pose, the clip and the frame in which they rest. One made of a region has its id
    in ``region``. ``built`` is what bodies/conforming.py made of its mesh, where it is not a lattice; ``other`` the region that skin
    contact keeps it from ("" for the rest of the mesh), which ``leaves_out`` a region, or what a layer carries, by its id after LAYER and a
    colon; ``form`` a shape placed by hand.
    ``values`` are its dials. Layers in a row with the same ``group`` stand together in the list; those with the same ``link`` are two
    sides: edits.py changes the dials, amount and switch of all of them.
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
    muscles: tuple = ()
    bones: tuple = ()
    rests: tuple | None = None
    fat: str = ""
    clings: str = ""
    leaves_out: str = ""
    group: str = ""
    link: str = ""

    @property
    def regions(self):
        """The ids of the regions that it names."""
        left_out = "" if self.leaves_out.startswith(f"{LAYER}:") else self.leaves_out
        painted = [end.region for muscle in self.muscles for end in (muscle.origin, muscle.insertion)]
        return [each for each in (self.region, self.other, left_out, self.fat, self.clings, *painted) if each]

    def muscle(self, identifier):
        """The muscle of that id. Raises BadInput."""
        return found(self.muscles, identifier, "muscle")

    def value(self, name):
        """The value of a dial. Raises BadInput where the layer has no such dial."""
        if name not in self.values:
            raise BadInput(f"expected a dial of “{self.name}”, got “{name}”")
        return self.values[name]

    def amount_at(self, frame):
        """The amount 0..1 at a frame, linear between keys."""
        return between_keys(self.amount, frame)


@dataclass(frozen=True)
class Override:
    """A dial of a layer that has another value on one clip."""

    clip: str
    layer: str
    dial: str
    value: float | str


@dataclass(frozen=True)
class Setup:
    """All layers in order, and the scene's own values.

    cycles: names of clips that are run around until the motion repeats; overrides what dials have instead on single clips
    watches_skin: whether a take measures the penetration of the whole skin, as `WHOLE_SKIN`
    """

    layers: tuple = ()
    frame_rate: float = FRAME_RATE.default
    metres_per_unit: float = METRES.default
    preroll_frames: float = PREROLL.default
    tryout_size: float = 100.0
    tryout_tempo: float = 100.0
    carrier: str = CARRIER.default
    carrier_size: float = 100.0
    carrier_tempo: float = 100.0
    regions: tuple = ()
    colliders: tuple = ()
    followers: tuple = ()
    watches_skin: bool = False
    cycles: tuple = ()
    overrides: tuple = ()

    def on(self, clip_name):
        """The setup as it is on a clip, its Overrides in place."""
        own = {}
        for each in self.overrides:
            if each.clip == clip_name:
                own.setdefault(each.layer, {})[each.dial] = each.value
        if not own:
            return replace(self, overrides=()) if self.overrides else self
        layers = tuple(replace(layer, values=layer.values | own.get(layer.id, {})) for layer in self.layers)
        return replace(self, layers=layers, overrides=())

    def region(self, identifier):
        """The region of that id. Raises BadInput."""
        return found(self.regions, identifier, "region")

    def final_skin(self, mesh):
        """The final skin of a mesh, or None."""
        return next((region for region in self.regions if region.is_final and region.mesh == mesh), None)

    def layer(self, identifier):
        """The layer of that id. Raises BadInput."""
        return found(self.layers, identifier, "layer")

    def collider(self, identifier):
        """The collider of that id. Raises BadInput."""
        return found(self.colliders, identifier, "collider")

    def follower(self, identifier):
        """The follower of that id. Raises BadInput."""
        return found(self.followers, identifier, "follower")

    def moves_like(self, other, clip_name=""):
        """Whether both setups give the same motion on a clip, see `motion_on`."""
        return self.motion_on(clip_name) == other.motion_on(clip_name)

    def motion_on(self, clip_name):
        """All that the motion on a clip depends on, to be compared: without names, layers that are off, regions that no layer is made of,
        and what is said of a carrier that there is not, or of try-out motions where a clip is none.
        """
        layers = tuple(
            replace(layer, name="", group="", link="", muscles=tuple(replace(own, name="") for own in layer.muscles))
            for layer in self.on(clip_name).layers
            if layer.is_on
        )
        used = {identifier for layer in layers for identifier in layer.regions}
        ridden = {layer.rides for layer in layers}
        return (
            layers,
            tuple(replace(region, name="") for region in self.regions if region.id in used or region.is_final),
            tuple(replace(collider, name="") for collider in self.colliders if collider.is_on),
            tuple(replace(follower, name="") for follower in self.followers if f"{FOLLOWER}:{follower.id}" in ridden),
            self.scene_on(clip_name),
            self.watches_skin,
            clip_name in self.cycles,
        )

    def scene_dials_on(self, clip_name):
        """The scene's dials that matter on a clip."""
        unused = () if clip_name.startswith(TRY_OUT) else TRY_OUT_DIALS
        unused += CARRIER_DIALS if self.carrier == CARRIER.default else ()
        return tuple(dial for dial in SCENE_DIALS if dial not in unused)

    def scene_on(self, clip_name):
        """Their values."""
        return tuple(getattr(self, dial.name) for dial in self.scene_dials_on(clip_name))

    def unknown_names(self, skeleton):
        """The joint names used here that the skeleton does not have, sorted."""
        used = {name for layer in self.layers for chain in layer.chains for name in chain.names}
        used |= {end.joint for layer in self.layers for muscle in layer.muscles for end in (muscle.origin, muscle.insertion)}
        used |= {driver.of for layer in self.layers for muscle in layer.muscles for driver in muscle.drivers if driver.by == "angle"}
        used |= {collider.joint for collider in self.colliders if collider.joint}
        return sorted(name for name in used if name not in skeleton)


def found(items, identifier, what):
    """The item of that id. Raises BadInput, naming it."""
    for item in items:
        if item.id == identifier:
            return item
    raise BadInput(f"there is no {what} “{identifier}” in this setup")
