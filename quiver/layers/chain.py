"""Chains: rows of joints that swing."""

from quiver.bodies import picking
from quiver.dials import Choice, Dial, drag, gravity, settle_time
from quiver.layers.kinds import JOINTS, LayerKind
from quiver.run.parts import chain_batch

_SWINGS = tuple((axes, " ".join(axes.upper()) if axes else "none") for axes in ("xyz", "xy", "xz", "yz", "x", "y", "z", ""))
PRESETS = {
    "Wet rope": {"wobble_rate": 0.6, "settle_time": 30, "drag": 8, "gravity": 100},
    "Reed in the wind": {"wobble_rate": 2.4, "settle_time": 40, "drag": 3, "wobble_taper": 60},
    "Fish fin": {"wobble_rate": 3.5, "settle_time": 12, "drag": 6, "bend_limit": 40},
    "Lazy tail": {"wobble_rate": 1.1, "settle_time": 36, "drag": 4, "wobble_taper": 70},
    "Hanging bell": {"wobble_rate": 1.6, "settle_time": 60, "gravity": 100, "bend_limit": 75},
    "Steel whisker": {"wobble_rate": 8.0, "settle_time": 20, "bend_limit": 25},
}


def _taper(name, label, low, help_text):
    return Dial(f"{name}_taper", f"{label} at the tip", "%", low, 400.0, 100.0, 5.0, "Taper", help_text)


LONE_LIMIT = 40.0
"""Bend limit that a chain of one joint begins with [degrees]."""


def _begins(character, pick):
    """A chain of one joint alone would swing about wildly: it begins with a bend limit, and without a turn about its own axis."""
    axis = picking.lone_axis(character, pick)
    return {} if axis is None else {"bend_limit": LONE_LIMIT, "swing_axes": "xyz".replace(axis, "")}


CHAIN = LayerKind(
    name="chain",
    label="Chain",
    summary="Joints in a row that swing after their root: tails, ears, tassels.",
    made_of=JOINTS,
    picks_many=True,
    rings=True,
    presets=PRESETS,
    fields=frozenset({"rides"}),
    measures=("turn", "clip"),
    panel="motion/kinds/joints.html",
    build=chain_batch.units,
    begins=_begins,
    dials=(
        Dial("wobble_rate", "Wobble rate", "Hz", 0.0, 12.0, 2.0, 0.05, "Feel", "Swings in a second after a knock.", "0 = limp."),
        settle_time(24.0),
        drag(),
        gravity(0.0, "100 % sags as in life."),
        Dial("stretch", "Stretch", "%", 0.0, 50.0, 0.0, 0.5, "Limits", "How far its own weight lengthens it.", "0 = exact length."),
        Dial(
            "bend_limit", "Bend limit", "°", 0.0, 180.0, 180.0, 1.0, "Limits", "Largest turn of a joint away from its keys.", "180 = free."
        ),
        Choice("swing_axes", "Swing axes", _SWINGS, "xyz", "Limits", "Axes of the parent joint about which a joint may turn."),
        Choice(
            "held",
            "Held",
            (("root", "at the root"), ("both", "at both ends")),
            "root",
            "Limits",
            "Ends of the chain that are fixed to their keyed place.",
        ),
        _taper("wobble", "Wobble rate", 10.0, "Stiffness of the tip against the root; the rate of the whole chain stays."),
        _taper("settle", "Settle time", 10.0, "Settle time of the tip against the root."),
        _taper("drag", "Drag", 0.0, "Drag of the tip against the root."),
        _taper("gravity", "Gravity share", 0.0, "Gravity share of the tip against the root."),
        _taper("bend", "Bend limit", 10.0, "Bend limit of the tip against the root."),
        Dial(
            "thickness",
            "Radius",
            "mm",
            0.0,
            1000.0,
            0.0,
            1.0,
            "Contact",
            "Distance that its middle line keeps from colliders.",
            "0 = as thick as the skin around it.",
        ),
        Dial("thickness_taper", "Radius at the tip", "%", 0.0, 200.0, 100.0, 5.0, "Contact", "Radius of the tip against the root."),
    ),
)
