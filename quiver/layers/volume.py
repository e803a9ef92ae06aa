"""Soft volumes: a painted region filled with tetrahedra."""

from quiver.dials import LOOSENESS, SELF_COLLISION, Choice, Dial, drag, gravity, settle_time
from quiver.layers.kinds import REGION, LayerKind
from quiver.run.parts import soft_volume
from quiver.run.parts.soft_volume import MOST_STRETCH

PRESETS = {
    "Pudding": {"wobble_rate": 2.2, "settle_time": 40, "firmness": 60, "volume_keep": 90},
    "Full belly": {"wobble_rate": 2.8, "settle_time": 20, "firmness": 120, "volume_keep": 85, "hold_gain": 1.6},
    "Loose jowl": {"wobble_rate": 3.6, "settle_time": 16, "firmness": 50, "gravity": 30, "hold_gain": 1.4},
    "Ripe fruit": {"wobble_rate": 6.0, "settle_time": 8, "firmness": 250, "volume_keep": 70},
    "Water skin": {"wobble_rate": 1.6, "settle_time": 50, "firmness": 30, "volume_keep": 100, "pressure": 5, "gravity": 60},
    "Stiff gristle": {"wobble_rate": 9.0, "settle_time": 6, "firmness": 500, "volume_keep": 50},
}

VOLUME = LayerKind(
    name="volume",
    label="Soft volume",
    summary="Soft tissue inside a painted region: bellies, jowls, thighs.",
    made_of=REGION,
    presets=PRESETS,
    fields=frozenset({"built"}),
    is_soft=True,
    rings=True,
    carries=True,
    measures=("volume", "stretch", "clip", "cost"),
    panel="motion/kinds/volume.html",
    build=soft_volume.units,
    kept_dials=("cell_size", "pieces", "loose", "hold_gain", "hold_offset"),
    dials=(
        Dial("wobble_rate", "Wobble rate", "Hz", 0.1, 12.0, 2.5, 0.05, "Feel", "Frequency of the lowest mode."),
        settle_time(24.0),
        drag(),
        gravity(0.0),
        Choice(
            "balance",
            "Rest pose",
            (("rest", "sags already"), ("none", "weightless")),
            "rest",
            "Feel",
            "Whether the rest pose already shows it under its own weight, so that nothing sags on the first frame.",
        ),
        Choice(
            "shape",
            "Rest shape",
            (("pose", "keyed pose"), ("rest", "modelled shape")),
            "pose",
            "Body",
            "Keyed pose: a still pose looks as keyed. Modelled shape: it pushes back where the joints bend it.",
        ),
        Dial(
            "firmness",
            "Firmness",
            "%",
            10.0,
            1000.0,
            100.0,
            5.0,
            "Body",
            "Firm tissue moves as one lump, soft tissue ripples; the rate stays.",
        ),
        Dial(
            "volume_keep", "Volume keep", "%", 0.0, 100.0, 80.0, 1.0, "Body", "How well it keeps its volume: pressed here, it bulges there."
        ),
        Choice(
            "volume_goal",
            "Volume",
            (("keyed", "as keyed"), ("rest", "as at rest")),
            "keyed",
            "Body",
            "What volume it keeps: as keyed, even where joints squeeze the skin; or as at rest, so that it bulges there.",
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
            "Growth in length, against rest, from which on it resists like skin.",
            "300 = free.",
        ),
        Dial("weight", "Weight", "% of water", 5.0, 2000.0, 100.0, 5.0, "Body", "Density against water; affects collisions only."),
        Dial("pressure", "Inner pressure", "%", -40.0, 100.0, 0.0, 1.0, "Body", "Share by which it grows beyond its rest volume."),
        SELF_COLLISION,
        *LOOSENESS,
        Choice(
            "pieces",
            "Pieces of the mesh",
            (("together", "one body"), ("apart", "a body each")),
            "together",
            "Build",
            "Whether pieces that touch hang together, or each is a body of its own, such as scales or pompons.",
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
            "0 = a twelfth of the part.",
        ),
    ),
)
