"""The character's size and the rates of its clips."""

from quiver.errors import BadInput
from quiver.setup import edits
from quiver.setup.model import FRAME_RATE, METRES
from studio.edits.services import edit

UNITS = (("metres", 1.0), ("centimetres", 0.01), ("millimetres", 0.001), ("inches", 0.0254))
NEARLY = 1e-4
"""Rates that differ by less than that share are the same."""


def sizes(row):
    """The character's sides [m], and how high it would be in each unit: ((3,), [(unit, metres per unit, height), ...])."""
    sides, now = row.facts.get("size", [0.0, 0.0, 0.0]), row.setup.metres_per_unit
    return [side * now for side in sides], [(name, metres, sides[1] * metres) for name, metres in UNITS]


def clip_rates(row):
    """The clips' facts, each with "differs": whether it is keyed at another rate than the setup's."""
    now = row.setup.frame_rate
    return [clip | {"differs": bool(clip.get("rate")) and not _alike(clip["rate"], now)} for clip in row.clips]


def set_unit(row, metres):
    """Set how long one unit of the file is [m]. Raises BadInput."""
    length = METRES.checked(metres)
    return edit(row, lambda setup: edits.set_scene(setup, METRES.name, length), f"One unit is {length:g} m").take


def set_rate(row, rate, label=""):
    """Set the frame rate [1/s]. Raises BadInput."""
    checked = FRAME_RATE.checked(rate)
    return edit(row, lambda setup: edits.set_scene(setup, FRAME_RATE.name, checked), label or f"{checked:.5g} frames a second").take


def choose_clip(row, name):
    """Make another clip the active one ("" the rest pose). Where the rate was that of the clip before, it becomes that of this one.

    Raises BadInput.
    """
    known = {clip["name"]: clip.get("rate") for clip in (*row.try_outs, *row.facts["clips"])}
    if name and name not in known:
        raise BadInput(f"this character has no clip “{name}”")
    before, wanted = known.get(row.active_clip), known.get(name)
    row.active_clip = name
    row.save(update_fields=["active_clip"])
    if before and wanted and _alike(before, row.setup.frame_rate) and not _alike(wanted, before):
        set_rate(row, wanted, f"{wanted:.5g} frames a second, as “{name}” is keyed"[:200])


def _alike(a, b):
    return abs(a - b) < NEARLY * b
