"""Edits of a setup. Each is checked by the core, kept as a new version and, where the artist follows changes, simulated at once."""

import math
from dataclasses import replace

from quiver.dials import SOFT_KINDS
from quiver.errors import BadInput
from quiver.run.stack import Run, TakeSpec
from quiver.setup.document import FAR
from studio.characters.services import loaded
from studio.takes.services import start_take


def edit(row, change, label, runs=True):
    """Apply ``change`` (Setup → Setup) to the current setup, keep it, and simulate if wanted; returns the Take or None.

    ``runs`` is False for a change that no layer feels. Raises BadInput; then nothing is kept.
    """
    setup = change(row.setup)
    if runs:
        _build(row, setup)
    row.save_setup(setup, label)
    return after_change(row) if runs else None


def checked_place(place, turn, size, sizes):
    """Place (3,), turn (4,) x y z w, and so many sizes that the stage sent, as tuples of numbers. Raises BadInput."""
    place, turn, size = (tuple(checked_number(value, FAR) for value in values) for values in (place, turn, size))
    if len(place) != 3 or len(size) != sizes or min(size, default=0.0) < 0.0:
        raise BadInput(f"expected a place and {sizes} sizes, got {place} and {size}")
    length = math.sqrt(sum(value * value for value in turn))
    if len(turn) != 4 or not 0.5 < length < 2.0:
        raise BadInput(f"expected a turn of four numbers, of length one, got {turn}")
    return place, tuple(value / length for value in turn), size


def checked_number(value, most=1e7):
    """A number from the page, no larger than ``most``. Raises BadInput."""
    try:
        number = float(value)
    except (TypeError, ValueError):
        number = math.nan
    if not abs(number) <= most:
        raise BadInput(f"expected a number up to {most:g}, got “{value}”")
    return number


def after_change(row):
    """Start a take where the artist follows changes."""
    setup = row.setup
    return start_take(row) if row.follows_changes and (setup.watches_skin or any(layer.is_on for layer in setup.layers)) else None


def _build(row, setup):
    """Check a setup before it is kept: chains are compiled; soft layers, which take longer, only where something rides on them."""
    character, _ = loaded(row.pk)
    is_quick = not any(layer.is_on and layer.rides for layer in setup.layers)
    layers = tuple(layer for layer in setup.layers if layer.kind not in SOFT_KINDS) if is_quick else setup.layers
    Run(TakeSpec(character, replace(setup, layers=layers), row.active_clip))
    for layer in setup.layers:
        if layer.is_on and layer.kind in SOFT_KINDS:
            character.painted(setup.region(layer.region))
