"""Presets: dials to start from, named for what they feel like."""

from quiver import dials
from quiver.errors import BadInput

PRESETS = {
    "volume": {
        "Pudding": {"wobble_rate": 2.2, "settle_time": 40, "firmness": 60, "volume_keep": 90},
        "Full belly": {"wobble_rate": 2.8, "settle_time": 20, "firmness": 120, "volume_keep": 85, "hold_gain": 1.6},
        "Loose jowl": {"wobble_rate": 3.6, "settle_time": 16, "firmness": 50, "gravity": 30, "hold_gain": 1.4},
        "Ripe fruit": {"wobble_rate": 6.0, "settle_time": 8, "firmness": 250, "volume_keep": 70},
        "Water skin": {"wobble_rate": 1.6, "settle_time": 50, "firmness": 30, "volume_keep": 100, "pressure": 5, "gravity": 60},
        "Stiff gristle": {"wobble_rate": 9.0, "settle_time": 6, "firmness": 500, "volume_keep": 50},
    },
    "sheet": {
        "Silk scarf": {"give": 0.5, "bending_length": 12, "settle_time": 20, "drag": 3, "thickness": 1},
        "Felt blanket": {"give": 1, "bending_length": 30, "settle_time": 12, "thickness": 8},
        "Wet oilskin": {"give": 0.2, "bending_length": 45, "settle_time": 12, "drag": 2, "thickness": 3},
        "Leather flap": {"give": 0.3, "bending_length": 90, "settle_time": 10, "thickness": 6},
        "Fish fin": {"give": 2, "bending_length": 150, "settle_time": 10, "gravity": 20, "drag": 4},
        "Knitwear": {"give": 8, "bending_length": 18, "settle_time": 14, "thickness": 6},
    },
    "prop": {
        "Brass bell": {"settle_time": 120, "swing_limit": 80},
        "Heavy bag": {"settle_time": 30, "drag": 1},
        "Lantern": {"settle_time": 80, "aim": "down"},
        "Holster": {"joint": "hinge", "settle_time": 20, "hold_rate": 1.5, "swing_limit": 50},
        "Thrown away": {"joint": "free", "settle_time": 240},
    },
    "limb": {
        "Quick step aside": {"smooth": 1},
        "Slow sway aside": {"smooth": 10},
    },
    "touch": {
        "Soft flesh": {"margin": 1, "spread": 90},
        "Thin skin": {"margin": 1, "spread": 25},
        "Against bone": {"margin": 1, "spread": 60, "share": 0},
    },
    "chain": {
        "Wet rope": {"wobble_rate": 0.6, "settle_time": 30, "drag": 8, "gravity": 100},
        "Reed in the wind": {"wobble_rate": 2.4, "settle_time": 40, "drag": 3, "wobble_taper": 60},
        "Fish fin": {"wobble_rate": 3.5, "settle_time": 12, "drag": 6, "bend_limit": 40},
        "Lazy tail": {"wobble_rate": 1.1, "settle_time": 36, "drag": 4, "wobble_taper": 70},
        "Hanging bell": {"wobble_rate": 1.6, "settle_time": 60, "gravity": 100, "bend_limit": 75},
        "Steel whisker": {"wobble_rate": 8.0, "settle_time": 20, "bend_limit": 25},
    },
}


def names(kind):
    """The presets there are for a kind of layer."""
    return list(PRESETS[kind])


def values_of(kind, name):
    """All dials of a kind as a preset sets them; those it does not speak of are at their default. Raises BadInput."""
    if name not in PRESETS[kind]:
        raise BadInput(f"expected one of {', '.join(PRESETS[kind])}, got “{name}”")
    return dials.defaults(kind) | {dial: dials.dial_of(kind, dial).checked(value) for dial, value in PRESETS[kind][name].items()}
