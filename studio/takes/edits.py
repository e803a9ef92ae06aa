"""Edits of a setup. Each is checked by the core, kept as a new version and, where the artist follows changes, simulated at once."""

from dataclasses import replace

from quiver.dials import SOFT_KINDS
from quiver.run.stack import Run, TakeSpec
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
