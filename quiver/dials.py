"""Dials: the settings of a layer in units a person can see. The one source for forms, presets, docs and the setup's schema."""

import math
from dataclasses import dataclass

from quiver.errors import BadInput


@dataclass(frozen=True)
class Dial:
    """A number with a range. ``group`` says where it is shown; ``words`` names the meaning of an end of the range, if any."""

    name: str
    label: str
    unit: str
    low: float
    high: float
    default: float
    step: float
    group: str
    help: str
    words: str = ""

    def checked(self, value):
        """The value as a float within the range. Raises BadInput."""
        if isinstance(value, bool) or not isinstance(value, int | float | str):
            raise BadInput(f"{self.label}: expected a number from {self.low:g} to {self.high:g}, got {value!r}")
        try:
            number = float(value)
        except ValueError:
            number = math.nan
        if not self.low <= number <= self.high:
            unit = f" {self.unit}" if self.unit else ""
            raise BadInput(f"{self.label}: expected a number from {self.low:g} to {self.high:g}{unit}, got “{value}”")
        return number

    def schema(self):
        return {"type": "number", "minimum": self.low, "maximum": self.high, "default": self.default, "description": self._describe()}

    def _describe(self):
        return f"{self.label}{f' [{self.unit}]' if self.unit else ''}. {self.help}"


@dataclass(frozen=True)
class Choice:
    """One of a few named ways; ``options`` are (value, label) pairs."""

    name: str
    label: str
    options: tuple
    default: str
    group: str
    help: str

    def checked(self, value):
        """The value, if it is one of the options. Raises BadInput."""
        known = [option for option, _ in self.options]
        if value not in known:
            raise BadInput(f"{self.label}: expected one of {', '.join(known)}, got {value!r}")
        return value

    def schema(self):
        return {"enum": [option for option, _ in self.options], "default": self.default, "description": f"{self.label}. {self.help}"}


_SWINGS = tuple((axes, " ".join(axes.upper()) if axes else "none") for axes in ("xyz", "xy", "xz", "yz", "x", "y", "z", ""))

CHAIN_DIALS = (
    Dial(
        "wobble_rate",
        "Wobble rate",
        "Hz",
        0.0,
        12.0,
        2.0,
        0.05,
        "Feel",
        "How often it swings to and fro in a second after a knock.",
        "0 = limp",
    ),
    Dial("settle_time", "Settle time", "frames", 1.0, 480.0, 24.0, 1.0, "Feel", "Frames until a swing has shrunk to a twentieth."),
    Dial("drag", "Drag", "% a frame", 0.0, 90.0, 0.0, 0.5, "Feel", "How much of its speed the air takes in each frame."),
    Dial(
        "gravity", "Gravity share", "%", -200.0, 200.0, 0.0, 5.0, "Feel", "How much of its weight it feels; 100 sags as it would in life."
    ),
    Dial("stretch", "Stretch", "%", 0.0, 50.0, 0.0, 0.5, "Limits", "How far its own weight would lengthen it.", "0 = exact length"),
    Dial(
        "bend_limit",
        "Bend limit",
        "°",
        0.0,
        180.0,
        180.0,
        1.0,
        "Limits",
        "The most a joint may turn away from its keyed place.",
        "180 = free",
    ),
    Choice("swing_axes", "May turn about", _SWINGS, "xyz", "Limits", "The axes of the parent joint about which a joint may turn."),
    Choice(
        "held",
        "Held",
        (("root", "at the root"), ("both", "at both ends")),
        "root",
        "Limits",
        "Where the chain is fixed to its keyed place.",
    ),
    Dial(
        "wobble_taper",
        "Wobble rate at the tip",
        "%",
        10.0,
        400.0,
        100.0,
        5.0,
        "Taper",
        "Stiffness of the tip against the root; the rate stays.",
    ),
    Dial(
        "settle_taper", "Settle time at the tip", "%", 10.0, 400.0, 100.0, 5.0, "Taper", "How long the tip keeps swinging against the root."
    ),
    Dial("drag_taper", "Drag at the tip", "%", 0.0, 400.0, 100.0, 5.0, "Taper", "How much the air holds the tip against the root."),
    Dial("gravity_taper", "Gravity share at the tip", "%", 0.0, 400.0, 100.0, 5.0, "Taper", "How much the tip sags against the root."),
    Dial("bend_taper", "Bend limit at the tip", "%", 10.0, 400.0, 100.0, 5.0, "Taper", "How far the tip may bend against the root."),
    Dial(
        "thickness",
        "Radius",
        "mm",
        0.0,
        1000.0,
        0.0,
        1.0,
        "Contact",
        "How far its middle line keeps from what it touches.",
        "0 = as thick as the skin around it",
    ),
    Dial("thickness_taper", "Radius taper", "%", 0.0, 200.0, 100.0, 5.0, "Contact", "Radius at the tip, as a share of that at the root."),
)

LOOSENESS_DIALS = (
    Choice(
        "loose",
        "Loose",
        (("painted", "high influence"), ("inverted", "low influence")),
        "painted",
        "Hold",
        "Turns the painted influence over, without repainting.",
    ),
    Dial("hold_gain", "Looseness gain", "x", 0.0, 4.0, 1.0, 0.05, "Hold", "Multiplies the painted influence, without repainting."),
    Dial(
        "hold_offset", "Looseness offset", "", -1.0, 1.0, 0.0, 0.05, "Hold", "Adds to the painted influence; below 0 it is held everywhere."
    ),
)
"""What a layer made of a region makes of the painted influence."""

MOST_STRETCH = 300.0
"""A stretch limit of so much is none."""

FOLDS = Choice(
    "folds",
    "Folds",
    (("through", "go through each other"), ("apart", "keep apart")),
    "through",
    "Contact",
    "Whether parts of it that are not neighbours keep each other off: slower, for what folds a lot.",
)

VOLUME_DIALS = (
    Dial(
        "wobble_rate", "Wobble rate", "Hz", 0.1, 12.0, 2.5, 0.05, "Feel", "How often it swings to and fro in a second, in its slowest way."
    ),
    Dial("settle_time", "Settle time", "frames", 1.0, 480.0, 24.0, 1.0, "Feel", "Frames until a swing has shrunk to a twentieth."),
    Dial("drag", "Drag", "% a frame", 0.0, 90.0, 0.0, 0.5, "Feel", "How much of its speed the air takes in each frame."),
    Dial("gravity", "Gravity share", "%", -200.0, 200.0, 0.0, 5.0, "Feel", "How much of its weight it feels."),
    Choice(
        "balance",
        "In the rest pose",
        (("rest", "it sags already"), ("none", "it is weightless")),
        "rest",
        "Feel",
        "Whether the rest pose shows it under its own weight, so that nothing sags on the first frame.",
    ),
    Choice(
        "shape",
        "Where it settles",
        (("pose", "in the keyed pose"), ("rest", "in its own shape")),
        "pose",
        "Body",
        "A still pose looks as keyed; or, as real flesh does, it pushes back where the joints bend it.",
    ),
    Dial(
        "firmness", "Firmness", "%", 10.0, 1000.0, 100.0, 5.0, "Body", "Firm flesh moves as one lump, soft flesh ripples; the rate stays."
    ),
    Dial(
        "volume_keep", "Volume keep", "%", 0.0, 100.0, 80.0, 1.0, "Body", "How well it keeps its volume: pressed in here, it bulges there."
    ),
    Dial(
        "stretch_limit",
        "Stretch limit",
        "%",
        2.0,
        MOST_STRETCH,
        MOST_STRETCH,
        1.0,
        "Body",
        "How much longer than at rest its flesh may grow anywhere before it resists like skin.",
        "300 = free",
    ),
    Dial(
        "weight",
        "Weight",
        "% of water",
        5.0,
        2000.0,
        100.0,
        5.0,
        "Body",
        "What it weighs is said above. It swings the same; it is what counts where parts push each other.",
    ),
    Dial("pressure", "Inner pressure", "%", -40.0, 100.0, 0.0, 1.0, "Body", "How much larger than at rest it wants to be."),
    FOLDS,
    *LOOSENESS_DIALS,
    Choice(
        "pieces",
        "Pieces of the mesh",
        (("together", "one body"), ("apart", "a body each")),
        "together",
        "Build",
        "Whether pieces that touch hang together, or each is a solid of its own, such as scales or pompons.",
    ),
    Dial(
        "cell_size",
        "Cell size",
        "mm",
        0.0,
        2000.0,
        0.0,
        5.0,
        "Build",
        "Edge of the lattice's cells: smaller is finer and slower.",
        "0 = a twelfth of the part",
    ),
)

SHEET_DIALS = (
    Dial("settle_time", "Settle time", "frames", 1.0, 480.0, 16.0, 1.0, "Feel", "Frames until a swing has shrunk to a twentieth."),
    Dial("drag", "Drag", "% a frame", 0.0, 90.0, 1.0, 0.5, "Feel", "How much of its speed the air takes in each frame."),
    Dial("gravity", "Gravity share", "%", -200.0, 200.0, 100.0, 5.0, "Feel", "How much of its weight it feels."),
    Dial(
        "give",
        "Give",
        "%",
        0.01,
        100.0,
        1.0,
        0.1,
        "Feel",
        "How much it lengthens under its own weight, hanging by its longest side.",
        "0.2 = oilskin, 1 = felt, 10 = knitwear",
    ),
    Dial(
        "bending_length",
        "Bending length",
        "mm",
        1.0,
        1000.0,
        25.0,
        1.0,
        "Feel",
        "A strip that sticks out twice as far bends down by 41.5°.",
        "15 = silk, 25 = felt, 60 = leather, 200 = fin",
    ),
    Dial(
        "pressure",
        "Pressure",
        "% of its weight",
        -500.0,
        500.0,
        0.0,
        10.0,
        "Body",
        "How strongly it is blown towards its outside.",
    ),
    Dial("hold_rate", "Hold rate", "Hz", 0.1, 20.0, 3.0, 0.1, "Hold", "How quickly a hold of one half swings it back to its keyed place."),
    *LOOSENESS_DIALS,
    Dial("thickness", "Thickness", "mm", 0.0, 200.0, 4.0, 0.5, "Contact", "How thick it is where it touches: half of it on either side."),
    FOLDS,
    Choice(
        "made_of",
        "Made of",
        (("mesh", "the mesh itself"), ("proxy", "a light proxy"), ("shell", "a closed proxy"), ("form", "a placed shape")),
        "mesh",
        "Build",
        "A proxy, or a shape placed by hand, is simulated in place of a dense mesh, which it carries; a closed proxy is a shell around it.",
    ),
    Dial("proxy_triangles", "Proxy's triangles", "", 12.0, 50_000.0, 600.0, 20.0, "Build", "How many a proxy has, at the most."),
    Dial("proxy_smooth", "Proxy's smoothing", "rounds", 0.0, 100.0, 2.0, 1.0, "Build", "Evens out what is rough before that."),
    Dial("proxy_offset", "Proxy's offset", "mm", -200.0, 500.0, 0.0, 0.5, "Build", "How far outside of the mesh the proxy lies."),
)
PROXY_DIALS = ("made_of", "proxy_triangles", "proxy_smooth", "proxy_offset")
"""What a sheet's proxy is made by."""

PROP_DIALS = (
    Choice(
        "joint",
        "Hangs",
        (("ball", "by a ring, any way"), ("hinge", "on a hinge"), ("free", "not at all: it falls")),
        "ball",
        "Feel",
        "How it is hung on its joint.",
    ),
    Choice(
        "axis",
        "Hinge axis",
        (("x", "the joint's X"), ("y", "the joint's Y"), ("z", "the joint's Z")),
        "x",
        "Feel",
        "What it turns about where it hangs on a hinge.",
    ),
    Dial("gravity", "Gravity share", "%", -200.0, 200.0, 100.0, 5.0, "Feel", "How much of its weight it feels."),
    Dial("settle_time", "Settle time", "frames", 1.0, 960.0, 60.0, 1.0, "Feel", "Frames until a swing has shrunk to a twentieth."),
    Dial("drag", "Drag", "% a frame", 0.0, 90.0, 0.0, 0.5, "Feel", "How much of its speed the air takes in each frame."),
    Dial("hold_rate", "Hold rate", "Hz", 0.0, 20.0, 0.0, 0.1, "Hold", "How quickly it is drawn to its keyed turn.", "0 = not at all"),
    Choice(
        "aim",
        "Without physics",
        (("keyed", "as keyed"), ("down", "hanging down")),
        "keyed",
        "Hold",
        "What is shown where the amount is 0, and mixed in where it is less than 1.",
    ),
    Choice(
        "knocks",
        "Other props",
        (("no", "go through it"), ("yes", "knock against it")),
        "no",
        "Contact",
        "Whether it and others that knock, too, keep each other out; to the other, each is a rounded box.",
    ),
    Dial(
        "swing_limit", "Swing limit", "°", 0.0, 180.0, 180.0, 5.0, "Limits", "How far it swings from where it is keyed.", "180 = no limit"
    ),
)

COLLIDER_DIALS = (
    Dial("margin", "Margin", "mm", 0.0, 500.0, 2.0, 0.5, "Surface", "How far from its surface things already stop."),
    Choice(
        "surface",
        "Surface",
        (("slides", "slides"), ("grips", "grips")),
        "slides",
        "Surface",
        "Whether what touches it slides by its friction, or is held where it touches.",
    ),
    Dial(
        "friction",
        "Friction",
        "",
        0.0,
        2.0,
        0.4,
        0.05,
        "Surface",
        "Slope on which things just do not slide, as rise over run; counts where the surface slides.",
        "0.2 = wet, 0.4 = cloth on skin, 1 = rubber",
    ),
)

TOUCH_DIALS = (
    Dial("margin", "Margin", "mm", 0.0, 100.0, 1.0, 0.5, "Feel", "How far both stay apart where they touch."),
    Dial("spread", "Spread", "mm", 1.0, 1000.0, 60.0, 5.0, "Feel", "How far around what touches the skin gives way with it."),
    Dial(
        "share",
        "Share of the region",
        "%",
        0.0,
        100.0,
        50.0,
        5.0,
        "Feel",
        "How much of the way apart the region goes; the other side goes the rest.",
        "0 = only the other side gives way",
    ),
    Dial("reach", "Depth looked for", "mm", 5.0, 1000.0, 80.0, 5.0, "Feel", "What has crossed more deeply than that is left as it is."),
)

LIMB_DIALS = (
    Dial("margin", "Margin", "mm", 0.0, 200.0, 0.0, 1.0, "Feel", "How far its colliders stay from the others."),
    Dial("turn_limit", "Turn limit", "°", 1.0, 90.0, 30.0, 1.0, "Feel", "The most that the limb is turned away from its keys."),
    Dial("smooth", "Smoothing", "frames", 0.0, 24.0, 4.0, 1.0, "Feel", "Over so many frames before and after the limb makes way."),
)

SOFT_KINDS = ("volume", "sheet")
"""Kinds of layers that simulate a region."""
REGION_KINDS = (*SOFT_KINDS, "touch")
"""Kinds of layers that are made of a region."""
MEETING_KINDS = ("chain", *SOFT_KINDS, "prop")
"""Kinds of layers that are simulated, so can meet colliders."""
LAYER_KINDS = (*MEETING_KINDS, "touch", "limb")
DIALS_OF_KIND = {
    "chain": CHAIN_DIALS,
    "volume": VOLUME_DIALS,
    "sheet": SHEET_DIALS,
    "prop": PROP_DIALS,
    "touch": TOUCH_DIALS,
    "limb": LIMB_DIALS,
    "collider": COLLIDER_DIALS,
}
AMOUNT = Dial("amount", "Amount", "", 0.0, 1.0, 1.0, 0.05, "Amount", "How much of the layer's motion is used: 0 is the keyed clip.")


def dial_of(kind, name):
    """The dial of that name. Raises BadInput."""
    for dial in DIALS_OF_KIND[kind]:
        if dial.name == name:
            return dial
    raise BadInput(f"expected a dial of a {kind}, got “{name}”")


def defaults(kind):
    """All dials of a kind at their default, as a dict."""
    return {dial.name: dial.default for dial in DIALS_OF_KIND[kind]}
