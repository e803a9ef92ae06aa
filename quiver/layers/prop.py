"""Props: rigid things that swing on a joint, or fall."""

from quiver.dials import Choice, Dial, drag, gravity, hold_rate, settle_time
from quiver.layers.kinds import JOINTS, LayerKind
from quiver.run.parts import prop

PRESETS = {
    "Brass bell": {"settle_time": 120, "swing_limit": 80},
    "Heavy bag": {"settle_time": 30, "drag": 1},
    "Lantern": {"settle_time": 80, "aim": "down"},
    "Holster": {"joint": "hinge", "settle_time": 20, "hold_rate": 1.5, "swing_limit": 50},
    "Thrown away": {"joint": "free", "settle_time": 240},
}

PROP = LayerKind(
    name="prop",
    label="Prop",
    summary="A rigid thing on a joint: bells, bags, lanterns.",
    made_of=JOINTS,
    presets=PRESETS,
    fields=frozenset({"rides"}),
    measures=("turn", "clip"),
    panel="motion/kinds/joints.html",
    build=prop.units,
    dials=(
        Choice(
            "joint",
            "Pivot",
            (("ball", "Ball joint"), ("hinge", "Hinge"), ("free", "Free")),
            "ball",
            "Feel",
            "How it is attached to its joint. A free prop falls.",
        ),
        Choice("axis", "Hinge axis", tuple((axis, f"the joint's {axis.upper()}") for axis in "xyz"), "x", "Feel", "Axis of a hinge."),
        gravity(100.0),
        settle_time(60.0, 960.0),
        drag(),
        hold_rate(0.0, 0.0, "0 = off."),
        Choice(
            "aim",
            "Without physics",
            (("keyed", "as keyed"), ("down", "hanging down")),
            "keyed",
            "Hold",
            "Pose that is shown where the amount is 0, and mixed in where it is below 1.",
        ),
        Choice(
            "prop_collision",
            "Collide with props",
            (("off", "off"), ("on", "on")),
            "off",
            "Contact",
            "Props that have this on collide with each other, as rounded boxes.",
        ),
        Dial("swing_limit", "Swing limit", "°", 0.0, 180.0, 180.0, 5.0, "Limits", "Largest swing away from its keys.", "180 = free."),
    ),
)
