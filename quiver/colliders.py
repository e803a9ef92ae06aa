"""Colliders: simple shapes that ride on joints or stand in the world, and which layers meet them."""

from dataclasses import dataclass, field

import numpy as np

from quiver.dials import Choice, Dial, margin
from quiver.errors import BadInput
from quiver.kernels.contacts import FOR_EVER

SIZES = {
    "ball": ("radius",),
    "capsule": ("radius", "length"),
    "box": ("width", "height", "depth", "rounding"),
    "ground": (),
    "skin": (),
    "body": ("bridge",),
    "hull": (),
}
"""What each shape is measured by. A capsule runs along its own Y, between the centres of its ends; the ground lies below
its own Y. A skin is a mesh of the character, a body that mesh made simple, with hollows filled that are narrower than twice the bridge,
and a hull goes around what a joint moves."""
SURFACES = ("skin", "body", "hull")
"""Shapes that are surfaces of triangles."""
LABELS = {
    "ball": "Ball",
    "capsule": "Capsule",
    "box": "Rounded box",
    "ground": "Ground",
    "skin": "Skin",
    "body": "Simplified body",
    "hull": "Hull",
}
STUCK = 1e6
"""The friction of a surface that grips."""
DIALS = (
    margin(500.0, 2.0, "Distance from its surface at which things stop.", "Surface"),
    Choice(
        "surface",
        "Surface",
        (("slides", "slides"), ("grips", "grips")),
        "slides",
        "Surface",
        "Whether what touches it slides with friction, or is held where it touches.",
    ),
    Dial(
        "friction",
        "Friction coefficient",
        "",
        0.0,
        2.0,
        0.4,
        0.05,
        "Surface",
        "Steepest slope, rise over run, on which things stay; counts where the surface slides.",
        "0.2 = wet, 0.4 = cloth on skin, 1 = rubber.",
    ),
)
DEFAULTS = {dial.name: dial.default for dial in DIALS}


def dial_of(name):
    """The dial of a collider of that name. Raises BadInput."""
    for dial in DIALS:
        if dial.name == name:
            return dial
    raise BadInput(f"expected a dial of a collider, got “{name}”")


@dataclass(frozen=True)
class Collider:
    """One collider. ``place`` [file units] and ``turn`` (unit quaternion x y z w) are those in the rest pose, in the world.

    joint  the name of the joint it rides on; "" stands still
    size   numbers [file units] as SIZES says; mesh the name of the mesh that a skin is
    values dials; meets and spares ids of layers that meet it, or do not, whatever they would by themselves
    """

    id: str
    name: str
    shape: str = "capsule"
    joint: str = ""
    place: tuple = (0.0, 0.0, 0.0)
    turn: tuple = (0.0, 0.0, 0.0, 1.0)
    size: tuple = (0.1, 0.2)
    is_on: bool = True
    values: dict = field(default_factory=dict)
    meets: tuple = ()
    spares: tuple = ()
    mesh: str = ""

    def value(self, name):
        """The value of a dial, or its default."""
        return self.values.get(name, DEFAULTS[name])

    @property
    def friction(self):
        """Its coefficient of friction; beyond all measure where it grips."""
        return STUCK if self.value("surface") == "grips" else self.value("friction")

    @property
    def radius(self):
        """How far its surface is from its core [file units]."""
        if self.shape == "box":
            return min(self.size[3], *(0.5 * side for side in self.size[:3]))
        return self.size[0] if self.size else 0.0

    @property
    def core(self):
        """Half its core's width and depth, its height above and below the centre [file units]."""
        if self.shape == "ground":
            return FOR_EVER, FOR_EVER, 0.0, FOR_EVER
        if self.shape == "box":
            width, height, depth = (max(0.5 * side - self.radius, 0.0) for side in self.size[:3])
            return width, depth, height, height
        half = 0.5 * self.size[1] if self.shape == "capsule" else 0.0
        return 0.0, 0.0, half, half

    @property
    def bound(self):
        """The radius of a sphere around its core [file units]."""
        wide, deep, above, below = self.core
        return float(min(np.sqrt(wide * wide + deep * deep + max(above, below) ** 2), FOR_EVER))
