"""Sheets: soft surfaces such as garments, fins and flaps."""

from quiver.dials import LOOSENESS, SELF_COLLISION, Choice, Dial, drag, gravity, hold_rate, settle_time
from quiver.layers.kinds import REGION, LayerKind
from quiver.run.parts import sheet
from quiver.run.parts.sheet import PROXY_DIALS

PRESETS = {
    "Silk scarf": {"give": 0.5, "bending_length": 12, "settle_time": 20, "drag": 3, "thickness": 1},
    "Felt blanket": {"give": 1, "bending_length": 30, "settle_time": 12, "thickness": 8},
    "Wet oilskin": {"give": 0.2, "bending_length": 45, "settle_time": 12, "drag": 2, "thickness": 3},
    "Leather flap": {"give": 0.3, "bending_length": 90, "settle_time": 10, "thickness": 6},
    "Fish fin": {"give": 2, "bending_length": 150, "settle_time": 10, "gravity": 20, "drag": 4},
    "Knitwear": {"give": 8, "bending_length": 18, "settle_time": 14, "thickness": 6},
}

SHEET = LayerKind(
    name="sheet",
    label="Sheet",
    summary="A soft surface: garments, fins, flaps, or a light proxy that carries a dense mesh.",
    made_of=REGION,
    presets=PRESETS,
    fields=frozenset({"form"}),
    is_soft=True,
    measures=("area", "stretch", "clip", "cost"),
    panel="motion/kinds/sheet.html",
    build=sheet.units,
    kept_dials=(*PROXY_DIALS, "loose", "hold_gain", "hold_offset"),
    dials=(
        settle_time(16.0),
        drag(1.0),
        gravity(100.0),
        Dial(
            "give",
            "Give",
            "%",
            0.01,
            100.0,
            1.0,
            0.1,
            "Feel",
            "Growth in length under its own weight, hanging by its longest side.",
            "0.2 = oilskin, 1 = felt, 10 = knitwear.",
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
            "15 = silk, 25 = felt, 60 = leather, 200 = fin.",
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
            "Outward pressure, in % of its weight.",
        ),
        hold_rate(0.1, 3.0),
        *LOOSENESS,
        Dial("thickness", "Thickness", "mm", 0.0, 200.0, 4.0, 0.5, "Contact", "Thickness in contact: half of it on either side."),
        SELF_COLLISION,
        Choice(
            "made_of",
            "Made of",
            (("mesh", "the mesh itself"), ("proxy", "a light proxy"), ("shell", "a closed proxy"), ("form", "a placed shape")),
            "mesh",
            "Build",
            "A proxy, or a shape placed by hand, is simulated in place of a dense mesh, which it carries.",
        ),
        Dial("proxy_triangles", "Proxy triangles", "", 12.0, 50_000.0, 600.0, 20.0, "Build", "Largest number of triangles of a proxy."),
        Dial("proxy_smooth", "Proxy smoothing", "passes", 0.0, 100.0, 2.0, 1.0, "Build", "Smoothing passes before simplification."),
        Dial("proxy_offset", "Proxy offset", "mm", -200.0, 500.0, 0.0, 0.5, "Build", "Distance of the proxy outside the mesh."),
    ),
)
