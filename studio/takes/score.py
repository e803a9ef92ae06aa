"""The score: the list of layers, and per layer what it did to the keyed motion, frame by frame, as SVG paths."""

import json
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
FAR_TURN = 60.0
"""A joint that turns farther off its keys is worth a warning [degrees]."""
MULTIPLIED, WORTH_MULTIPLYING = 1.5, {"°": 20.0, "mm": 20.0}
"""So many times the motion without contact is a collider's doing, where there is at least so much of it."""


@dataclass(frozen=True)
class PullRow:
    """How one muscle is pulled: its Muscle, an SVG path, its keys as JSON, values in percent, the most of them and in which frame."""

    own: object
    area: str
    keys: str
    now: list
    peak: int
    peak_frame: int


@dataclass(frozen=True)
class Lane:
    """One layer's row: its head, and its lane in a box of ``frames`` x LANE_HEIGHT.

    layer, kind      the Layer, and the label of its kind; layer_id "" for the whole skin, which is no layer
    opens_group      the group that begins with this row: (name, ids of its layers, whether all are on), else None
    unit             "°" for joints, "mm" for flesh; peak at peak_frame, at_x and at_y in the box; now the values frame by frame
    share            the peak against that of all lanes of its unit
    area, amount, clip, lines  SVG paths; keys the amount keys as JSON
    pulls            the rows of its muscles (PullRow)
    marks            further figures: {"text", "frame", "mesh", "vertex"}; notes what is wrong, in words
    """

    layer: Layer
    kind: str
    opens_group: tuple | None
    unit: str
    area: str
    amount: str
    keys: str
    peak: float
    peak_frame: int
    at_x: float
    at_y: float
    share: float
    now: list
    marks: list
    lines: list
    clip: str
    notes: list
    pulls: list

    @property
    def layer_id(self):
        """The id of the layer, "" for the whole skin."""
        return self.layer.id if self.layer.kind else ""


def lanes(setup, take=None, beside=None):
    """The rows of all layers of a setup, in their order, with what a take shows of them, and another ``beside`` it as a line; lanes of one
    unit share one scale.
    """
    measured, others = (_measured(each) if each else {} for each in (take, beside))
    tops = {}
    for unit, values in (*measured.values(), *others.values()):
        tops[unit] = max(tops.get(unit, 1e-6), float(values.max(initial=0.0)))
    rows = [_lane(setup, take, layer, measured.get(layer.id), tops, opened) for layer, opened in _with_groups(setup.layers)]
    if take and WHOLE_SKIN in take.layer_ids:
        rows.append(_lane(setup, take, _WHOLE, measured[WHOLE_SKIN], tops, None))
    for row in rows:
        unit, values = others.get(row.layer.id, ("", np.zeros(0)))
        if take and len(values):
            row.lines.append({"name": "beside", "path": _path(_standing(values, tops[unit]), beside.first_frame - take.first_frame)})
    return rows


def _path(heights, shift=0.0):
    """Heights (F,) frame by frame as a line, the first one ``shift`` frames into the box."""
    return "M" + " L".join(f"{x + shift + 0.5:g} {y:.2f}" for x, y in enumerate(heights))


def _standing(values, top):
    """The heights of values that stand on the floor of a lane."""
    return LANE_HEIGHT * (1.0 - 0.92 * values / top)


def _with_groups(layers):
    """(layer, the group that begins with it or None): layers in a row with the same name of a group are one."""
    before = ""
    for at, layer in enumerate(layers):
        opened = None
        if layer.group and layer.group != before:
            count = next((k for k, other in enumerate(layers[at:]) if other.group != layer.group), len(layers) - at)
            members = layers[at : at + count]
            opened = layer.group, ",".join(each.id for each in members), all(each.is_on for each in members)
        before = layer.group
        yield layer, opened


def _measured(take):
    """{layer id: (unit, values (F,))} of what a take's layers did: degrees where joints were turned, else millimetres."""
    added = np.array(take.added, float).reshape(-1, len(take.layer_ids)) if take.added else np.zeros((0, len(take.layer_ids)))
    turns = {layer_id: np.array(known["turn"]) for layer_id, known in take.measures.items() if known.get("turn")}
    return {
        layer_id: ("°", turns[layer_id]) if layer_id in turns else ("mm", added[:, column])
        for column, layer_id in enumerate(take.layer_ids)
    }


def _lane(setup, take, layer, measured, tops, opened):
    unit, values = measured or ("", np.zeros(0))
    known = take.measures.get(layer.id, {}) if take and measured else {}
    heights = _standing(values, tops.get(unit, 1.0))
    points = " ".join(f"L{x + 0.5:g} {y:.2f}" for x, y in enumerate(heights))
    area = f"M0.5 {LANE_HEIGHT:g} {points} L{max(len(values) - 0.5, 0.5):g} {LANE_HEIGHT:g} Z" if values.any() else ""
    worst = int(np.argmax(values)) if len(values) else 0
    peak, first = float(values[worst]) if len(values) else 0.0, take.first_frame if take else 0
    marks, lines = _soft_marks(first, known)
    clip_marks, clip, keyed = _clip_marks(first, known)
    if "cost" in known and layer.kind and "cost" in registry.kind_of(layer.kind).measures:
        marks = [*marks, _cost_mark(known)]
    return Lane(
        layer,
        registry.kind_of(layer.kind).label if layer.kind else "",
        opened,
        unit,
        area,
        _amount_path(layer, first, take.frame_count) if take else "",
        json.dumps([list(key) for key in layer.amount]) if layer.kind else "[]",
        peak,
        first + worst,
        worst + 0.5,
        float(heights[worst]) if len(values) else LANE_HEIGHT,
        max(peak / tops[unit], 1e-3) if unit else 1.0,
        np.round(values, 1).tolist() if area else [],
        [*clip_marks, *marks],
        [*lines, *keyed],
        clip,
        _notes(setup, take, layer, unit, values),
        _pull_rows(take, layer),
    )


def _pull_rows(take, layer):
    """The rows of the muscles of a layer."""
    pulls = _pulls_in(take, layer)
    rows = []
    for own in layer.muscles:
        values = pulls.get(own.id, np.zeros(0))
        points = " ".join(f"L{x + 0.5:g} {y:.2f}" for x, y in enumerate(_standing(values, 1.0)))
        area = f"M0.5 {LANE_HEIGHT:g} {points} L{max(len(values) - 0.5, 0.5):g} {LANE_HEIGHT:g} Z" if values.any() else ""
        most = round(100.0 * float(values.max(initial=0.0)))
        worst = take.first_frame + int(values.argmax()) if len(values) else 0
        rows.append(
            PullRow(own, area, json.dumps([list(key) for key in own.keys]), np.round(100.0 * values).astype(int).tolist(), most, worst)
        )
    return rows


def _pulls_in(take, layer):
    """{muscle id: its pulls (F,) in a take}, of a layer; {} where the take has none of it."""
    known = take.measures.get(layer.id, {}).get("pulls") if take and layer.muscles else None
    then = next((each for each in take.version.setup.layers if each.id == layer.id), None) if known else None
    if not then or len(then.muscles) != len(known[0]):
        return {}
    return {own.id: values for own, values in zip(then.muscles, np.array(known, float).T, strict=True)}


def _amount_path(layer, first, count):
    """The amount of a layer as a path, "" where it is all of it in every frame."""
    if layer.amount == ((0.0, 1.0),) or not layer.kind:
        return ""
    amounts = [layer.amount_at(first + frame) for frame in range(count)]
    return _path([2.0 + (LANE_HEIGHT - 4.0) * (1.0 - value) for value in amounts])


def _notes(setup, take, layer, unit, values):
    """What is wrong with a layer, in words."""
    frame = take.first_frame + int(np.argmax(values)) if len(values) else 0
    peak = float(values.max(initial=0.0))
    found = [note.removeprefix(f"{layer.name}: ") for note in take.notes if note.startswith(f"{layer.name}: ")] if take else []
    if unit == "°" and peak > FAR_TURN:
        found.append(f"turns {peak:.0f}° off its keys at frame {frame}; a bend limit or a shorter settle time holds it nearer")
    found += _multiplied(setup, take, layer, unit, values) if take else []
    keys = [key for key, _ in layer.amount if take and key > take.last_frame]
    if len(layer.amount) > 1 and keys and take.first_frame == 0:
        found.append(f"{len(keys)} amount key{'s' if len(keys) > 1 else ''} beyond the clip’s last frame, {take.last_frame}")
    return found


def _multiplied(setup, take, layer, unit, values):
    """A collider that makes a layer move much more than it does by itself."""
    against = np.array(take.measures.get(layer.id, {}).get("against", []), int)
    least = WORTH_MULTIPLYING.get(unit, np.inf)
    if len(against) != len(values) or not (against >= 0).any() or values.max() < least:
        return []
    worst = int(np.argmax(np.where(against >= 0, values, -1.0)))
    alone = values[against < 0].max(initial=0.0)
    # Its name as it is called by now.
    collider, names = take.version.setup.colliders[against[worst]].id, {each.id: each.name for each in setup.colliders}
    if values[worst] < MULTIPLIED * alone or collider not in names:
        return []
    unit = unit if unit == "°" else f" {unit}"
    without = f"{alone:.0f}{unit} at most where it touches none" if (against < 0).any() else "it touches one in every frame"
    pushed = f"“{names[collider]}” pushes it: {values[worst]:.0f}{unit} off its keys at frame {take.first_frame + worst}, {without}"
    return [f"{pushed}; make the collider smaller, or switch the collision off"]


def _clip_marks(first, known):
    """What the lane of a layer that meets colliders shows of its clip depth: marks, its area from the top, and the keyed skin's line."""
    if not known.get("clip"):
        return [], "", []
    depths, keyed = np.array(known["clip"]), np.array(known["keyed_clip"])
    top = max(float(depths.max()), float(keyed.max()), LEAST_CLIP_SCALE)
    worst = int(np.argmax(depths))
    words = f"{depths[worst]:.0f} mm penetration" if depths[worst] >= WORTH_TELLING else "no penetration"
    mesh, vertex = known["deepest"][worst]
    mark = {"text": words, "frame": first + worst if depths[worst] >= WORTH_TELLING else None, "mesh": mesh}
    mark["vertex"] = vertex if vertex >= 0 else None
    points = " ".join(f"L{x + 0.5:g} {y:.2f}" for x, y in enumerate(CLIP_SHARE * LANE_HEIGHT * depths / top))
    area = f"M0.5 0 {points} L{len(depths) - 0.5:g} 0 Z"
    line = _path(CLIP_SHARE * LANE_HEIGHT * keyed / top)
    return [mark], area, [{"name": "keyed-clip", "path": line}] if keyed.max() >= WORTH_TELLING else []


def _soft_marks(first, known):
    """What a soft layer's lane shows besides: the volume or area and the stretch where the layer changed them most, against the keys, and
    both as SVG paths, simulated and keyed.
    """
    marks, lines = [], []
    for name in ("volume", "area", "stretch"):
        if not known.get(name):
            continue
        values, keyed = np.array(known[name]), np.array(known.get(f"keyed_{name}") or np.zeros(len(known[name])))
        worst = int(np.argmax(np.abs(values - keyed)))
        # Without a zero that is negative.
        now, before = (round(float(each[worst])) for each in (values, keyed))
        words = f"{name} {now:+d} %" + (f" (keyed {before:+d})" if f"keyed_{name}" in known else "")
        marks.append({"text": words, "frame": first + worst})
        top = max(float(np.abs(values).max()), float(np.abs(keyed).max()), 10.0)
        shown = "volume" if name == "area" else name
        lines.append({"name": shown, "path": _line(values, top)})
        if name != "stretch" and np.abs(keyed).max() >= WORTH_TELLING:
            lines.append({"name": "keyed-volume", "path": _line(keyed, top)})
    return marks, lines


def _line(values, top):
    """Values around the middle of a lane as a path."""
    return _path(LANE_HEIGHT * (0.5 - 0.46 * values / top))


def _cost_mark(known):
    return {"text": f"{known['cost']:.1f} ms", "frame": None}


def ticks(first_frame, count):
    """Frames to write on the ruler: at most about twenty, at round numbers."""
    step = next((step for step in (1, 2, 5, 10, 20, 24, 50, 100, 200, 500, 1000, 5000) if count / step <= 20), 10_000)
    return [
        {"frame": frame, "percent": 100.0 * (frame - first_frame + 0.5) / count}
        for frame in range(first_frame, first_frame + count)
        if frame % step == 0
    ]
