"""Tissue: fat and skin over muscles and bones, stuck to them or sliding on them."""

from quiver.dials import Choice, Dial, drag, gravity, settle_time
from quiver.layers.kinds import REGION, LayerKind
from quiver.run.parts import tissue

PRESETS = {
    "Skin over muscle": {"wobble_rate": 6.0, "settle_time": 8, "inner": "slides", "smoothing": 3},
    "Lean": {"wobble_rate": 8.0, "settle_time": 6, "inner": "stuck", "smoothing": 2},
    "Fat": {"wobble_rate": 3.0, "settle_time": 18, "inner": "stuck", "thickness": 45, "gravity": 30, "smoothing": 3},
    "For crowds": {"made_of": "skin", "smoothing": 8},
    "Loose hide": {"wobble_rate": 3.6, "settle_time": 14, "inner": "slides", "thickness": 20, "gravity": 20, "smoothing": 4},
}

TISSUE = LayerKind(
    name="tissue",
    label="Tissue",
    summary="Fat and skin over muscles and bones, stuck to them or sliding: the second pass, after the muscles.",
    made_of=REGION,
    presets=PRESETS,
    fields=frozenset({"fat", "clings"}),
    is_soft=True,
    measures=("volume", "stretch", "clip", "cost"),
    panel="motion/kinds/tissue.html",
    build=tissue.units,
    kept_dials=("thickness", "fat_thickness", "cell_size", "reach"),
    dials=(
        Dial("wobble_rate", "Wobble rate", "Hz", 0.2, 15.0, 5.0, 0.1, "Feel", "Frequency of the lowest mode."),
        settle_time(10.0),
        drag(),
        gravity(0.0),
        Choice(
            "made_of",
            "Made of",
            (("flesh", "flesh"), ("skin", "the skin alone")),
            "flesh",
            "Body",
            "Flesh swings and keeps its volume. The skin alone is pushed and pulled by the muscles below and evened out, for crowds and "
            "games: only thickness, reach, and smoothing count.",
        ),
        Choice(
            "inner",
            "Inner side",
            (("slides", "slides"), ("stuck", "stuck"), ("free", "free")),
            "slides",
            "Body",
            "Slides on muscles and bones at its distance; stuck to them; or free, only kept out of them. A painted map overrides it.",
        ),
        Dial("thickness", "Thickness", "mm", 1.0, 500.0, 25.0, 1.0, "Body", "Depth of the layer below the skin."),
        Dial("fat_thickness", "Fat", "mm", 0.0, 500.0, 20.0, 1.0, "Body", "Thickness that the fat map adds where it is full."),
        Dial(
            "looseness",
            "Fat looseness",
            "%",
            0.0,
            95.0,
            60.0,
            5.0,
            "Body",
            "How much softer than the rest it is where the fat map is full.",
        ),
        Dial(
            "volume_keep", "Volume keep", "%", 0.0, 95.0, 70.0, 1.0, "Body", "How well it keeps its volume: pressed here, it bulges there."
        ),
        Dial(
            "stretch_limit",
            "Stretch limit",
            "%",
            2.0,
            300.0,
            300.0,
            1.0,
            "Body",
            "Growth in length from which on it resists like skin.",
            "300 = free.",
        ),
        Dial(
            "smoothing",
            "Smoothing",
            "passes",
            0.0,
            12.0,
            3.0,
            1.0,
            "Body",
            "Passes that even out the moved skin, so that it does not wrinkle.",
        ),
        Dial("weight", "Weight", "% of water", 5.0, 2000.0, 95.0, 5.0, "Body", "Density against water; affects collisions only."),
        Dial(
            "reach",
            "Reach",
            "mm",
            0.0,
            2000.0,
            0.0,
            5.0,
            "Build",
            "How far below it a muscle or a bone still leads it.",
            "0 = three times its thickness.",
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
            "Edge of the lattice’s cells: smaller is finer and slower.",
            "0 = by its thickness.",
        ),
    ),
)
