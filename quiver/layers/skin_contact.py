"""Skin contact: an area of the skin is kept from crossing another, on the finished skin."""

from quiver.dials import Dial, margin
from quiver.layers.kinds import REGION, SKIN_FILTER, LayerKind
from quiver.run.skin_filters import skin_contact

PRESETS = {
    "Soft flesh": {"margin": 1, "spread": 90},
    "Thin skin": {"margin": 1, "spread": 25},
    "Against bone": {"margin": 1, "spread": 60, "share": 0},
}

SKIN_CONTACT = LayerKind(
    name="skin_contact",
    label="Skin contact",
    summary="Keeps an area of the skin from crossing another area.",
    made_of=REGION,
    presets=PRESETS,
    fields=frozenset({"other", "leaves_out"}),
    stage=SKIN_FILTER,
    meets=False,
    measures=("clip", "cost"),
    panel="motion/kinds/skin_contact.html",
    build=skin_contact.filters,
    dials=(
        margin(100.0, 1.0, "Distance between both sides where they touch."),
        Dial("spread", "Spread", "mm", 1.0, 1000.0, 60.0, 5.0, "Feel", "Distance around a contact over which the skin gives way."),
        Dial(
            "share",
            "Share of the region",
            "%",
            0.0,
            100.0,
            50.0,
            5.0,
            "Feel",
            "Share of the correction that the region takes; the other side takes the rest.",
            "0 = only the other side moves.",
        ),
        Dial("reach", "Largest depth", "mm", 5.0, 1000.0, 80.0, 5.0, "Feel", "Deeper crossings are left as they are."),
    ),
)
