"""Limb clearance: keyed limbs are turned out of what their colliders cross, before anything is simulated."""

from quiver.dials import Dial, margin
from quiver.layers.kinds import JOINTS, POSE_FILTER, LayerKind
from quiver.run.pose_filters import limb_clearance

PRESETS = {"Quick step aside": {"smooth": 1}, "Slow sway aside": {"smooth": 10}}

LIMB_CLEARANCE = LayerKind(
    name="limb_clearance",
    label="Limb clearance",
    summary="Turns a keyed limb at its root until its colliders are clear of the others.",
    made_of=JOINTS,
    presets=PRESETS,
    stage=POSE_FILTER,
    meets=False,
    measures=("clip",),
    panel="motion/kinds/limb_clearance.html",
    build=limb_clearance.filters,
    dials=(
        margin(200.0, 0.0, "Distance between the limb's colliders and the others.", step=1.0),
        Dial("turn_limit", "Turn limit", "°", 1.0, 90.0, 30.0, 1.0, "Feel", "Largest turn of the limb away from its keys."),
        Dial("smooth", "Smoothing", "frames", 0.0, 24.0, 4.0, 1.0, "Feel", "Frames before and after over which the limb gives way."),
    ),
)
