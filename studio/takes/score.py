"""The score: per layer, what it added to the keyed motion, frame by frame, as SVG paths."""

from dataclasses import dataclass

import numpy as np

from quiver import layers as registry
from quiver.setup.model import WHOLE_SKIN, Layer

LANE_HEIGHT = 40.0
_WHOLE = Layer(WHOLE_SKIN, "Whole skin", kind="")
CLIP_SHARE = 0.6
"""Clip depth hangs down into so much of a lane."""
LEAST_CLIP_SCALE, WORTH_TELLING = 20.0, 0.5
"""Clip depth that fills its share of the lane at the least, and that is worth a word [mm]."""


@dataclass(frozen=True)
class Lane:
    """One layer's lane in a box of ``frames`` x LANE_HEIGHT: ``area`` and ``amount`` are SVG paths, ``peak`` in mm."""

    layer_id: str
    name: str
    area: str
    amount: str
    peak: float
    peak_frame: int
    peak_x: float
    peak_y: float
    now: list
    marks: list
    lines: list
    clip: str


def lanes(take, setup):
    """The lanes of a take's layers, in the setup's order. All lanes share one scale, so that they can be compared."""
    added = np.array(take.added, float).reshape(-1, len(take.layer_ids)) if take.added else np.zeros((0, len(take.layer_ids)))
    top = max(float(added.max(initial=0.0)), 1e-6)
    layers = [_WHOLE if layer_id == WHOLE_SKIN else setup.layer(layer_id) for layer_id in take.layer_ids]
    return [_lane(take, layer, added[:, column], top) for column, layer in enumerate(layers)]


def _lane(take, layer, values, top):
    count = take.frame_count
    heights = LANE_HEIGHT * (1.0 - 0.92 * values / top)
    points = " ".join(f"L{x + 0.5:g} {y:.2f}" for x, y in enumerate(heights))
    area = f"M0.5 {LANE_HEIGHT:g} {points} L{max(len(values) - 0.5, 0.5):g} {LANE_HEIGHT:g} Z" if values.any() else ""
    amounts = [layer.amount_at(take.first_frame + frame) for frame in range(count)]
    amount = "M" + " L".join(f"{x + 0.5:g} {2.0 + (LANE_HEIGHT - 4.0) * (1.0 - value):.2f}" for x, value in enumerate(amounts))
    worst = int(np.argmax(values)) if len(values) else 0
    peak = float(values[worst]) if len(values) else 0.0
    is_keyed = len(layer.amount) > 1 or layer.amount[0][1] != 1.0
    place = (worst + 0.5, float(heights[worst]) if len(values) else LANE_HEIGHT)
    kept = take.measures.get(layer.id, {})
    marks, lines = _soft_marks(take, kept)
    clip_marks, clip, keyed = _clip_marks(take, kept)
    if "cost" in kept and layer.kind and "cost" in registry.kind_of(layer.kind).measures:
        marks = [*marks, _cost_mark(kept)]
    return Lane(
        layer.id,
        layer.name,
        area,
        amount if is_keyed else "",
        peak,
        take.first_frame + worst,
        *place,
        np.round(values, 1).tolist() if area else [],
        [*clip_marks, *marks],
        [*lines, *keyed],
        clip,
    )


def _clip_marks(take, kept):
    """What the lane of a layer that meets colliders shows of its clip depth: marks, its area from the top, and the keyed skin's line."""
    if not kept.get("clip"):
        return [], "", []
    depths, keyed = np.array(kept["clip"]), np.array(kept["keyed_clip"])
    top = max(float(depths.max()), float(keyed.max()), LEAST_CLIP_SCALE)
    worst = int(np.argmax(depths))
    words = f"{depths[worst]:.0f} mm penetration" if depths[worst] >= WORTH_TELLING else "no penetration"
    mesh, vertex = kept["deepest"][worst]
    mark = {"text": words, "frame": take.first_frame + worst if depths[worst] >= WORTH_TELLING else None, "mesh": mesh}
    mark["vertex"] = vertex if vertex >= 0 else None
    points = " ".join(f"L{x + 0.5:g} {y:.2f}" for x, y in enumerate(CLIP_SHARE * LANE_HEIGHT * depths / top))
    area = f"M0.5 0 {points} L{len(depths) - 0.5:g} 0 Z"
    line = "M" + " L".join(f"{x + 0.5:g} {y:.2f}" for x, y in enumerate(CLIP_SHARE * LANE_HEIGHT * keyed / top))
    return [mark], area, [{"name": "keyed-clip", "path": line}] if keyed.max() >= WORTH_TELLING else []


def _soft_marks(take, kept):
    """What a soft layer's lane shows besides: (label, frame) of the worst volume or area and stretch, and both as SVG paths."""
    marks, lines = [], []
    for name, unit in (("volume", "% volume"), ("area", "% area"), ("stretch", "% stretch")):
        if not kept.get(name):
            continue
        values = np.array(kept[name])
        worst = int(np.argmax(np.abs(values)))
        marks.append({"text": f"{values[worst]:+.0f} {unit}", "frame": take.first_frame + worst})
        heights = LANE_HEIGHT * (0.5 - 0.46 * values / max(float(np.abs(values).max()), 10.0))
        path = "M" + " L".join(f"{x + 0.5:g} {y:.2f}" for x, y in enumerate(heights))
        lines.append({"name": "volume" if name == "area" else name, "path": path})
    return marks, lines


def _cost_mark(kept):
    return {"text": f"{kept['cost']:.1f} ms", "frame": None}


def ticks(first_frame, count):
    """Frames to write on the ruler: at most about twenty, at round numbers."""
    step = next((step for step in (1, 2, 5, 10, 20, 24, 50, 100, 200, 500, 1000, 5000) if count / step <= 20), 10_000)
    return [
        {"frame": frame, "percent": 100.0 * (frame - first_frame + 0.5) / count}
        for frame in range(first_frame, first_frame + count)
        if frame % step == 0
    ]
