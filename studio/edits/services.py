"""Edits are commands against a version: functions from a Setup to a changed one.

An edit is applied to the setup as it is now. Where another edit came first, it is applied to what that one left, so both stand; where it no
longer makes sense, it is refused in words that say what came first. Nothing is computed while the database is locked.
"""

import math
from dataclasses import dataclass, replace

from django.db import transaction

from quiver import layers as registry
from quiver.errors import BadInput
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup.document import FAR
from studio.characters.models import Character, SetupVersion
from studio.characters.services import loaded
from studio.events import hub

ATTEMPTS = 100
"""So often an edit is applied anew where others come in between; each time one of them was kept."""
_followers = []


@dataclass(frozen=True)
class Edit:
    """What came of an edit: the SetupVersion it made, None where nothing changed; the setup as it is now; the take that it started."""

    version: object
    setup: object
    take: object


def on_change(follow):
    """Let ``follow(row)`` start what follows a change of a character's setup; it returns the Take, or None."""
    _followers.append(follow)


def edit(row, command, label, runs=True):
    """Apply a command (Setup → Setup) to the character's current setup and keep what comes of it; returns an Edit.

    label  a text, or a function of the setup before that gives one
    runs   False for a change that no simulation feels, so that nothing is checked or started

    Raises BadInput; then nothing is kept.
    """
    for _ in range(ATTEMPTS):
        base = SetupVersion.objects.filter(pk__in=Character.objects.filter(pk=row.pk).values("current")).first()
        if base is None:
            raise BadInput("this character was removed")
        before = base.setup
        try:
            after = command(before)
            if runs and after != before:
                check(row, after)
            said = label(before) if callable(label) else label
        except BadInput as error:
            raise BadInput(f"{error}{_what_came_first(row, base)}") from error
        if after == before:
            return Edit(None, before, None)
        version = _keep(row, base, after, said)
        if version:
            return Edit(version, after, _changed(row, version, runs))
    raise BadInput("too many changes at the same time; try again")


def _keep(row, base, setup, label):
    """Store a setup after ``base`` and make it current, if ``base`` still is; else None."""
    with transaction.atomic():
        if not Character.objects.filter(pk=row.pk, current_id=base.pk).exists():
            return None
        version = SetupVersion.write(row, base, setup, label)
        Character.objects.filter(pk=row.pk).update(current=version)
    return version


def _changed(row, version, runs):
    row.current = version
    tell(row, version)
    take = None
    for follow in _followers if runs else ():
        take = follow(row) or take
    return take


def tell(row, version):
    """Tell every page of a character that its setup is another version now."""
    hub.publish(row.pk, "setup", version=version.pk, tab=getattr(row, "tab", ""))


def go(row, version_of):
    """Make the version that ``version_of(row)`` names the current one, for undo and redo; returns it, or None where there is none."""
    for _ in range(ATTEMPTS):
        row.refresh_from_db(fields=["current"])
        base, version = row.current_id, version_of(row)
        if version is None:
            return None
        if Character.objects.filter(pk=row.pk, current_id=base).update(current=version):
            row.current = version
            tell(row, version)
            return version
    raise BadInput("too many changes at the same time; try again")


def follow_change(row):
    """Start what follows a change, as after an edit; returns the Take, or None."""
    take = None
    for follow in _followers:
        take = follow(row) or take
    return take


def _what_came_first(row, base):
    """What another page changed since this one was shown, if that may be why."""
    seen = getattr(row, "seen_version", None)
    return f". “{base.label}” came first, in another tab" if seen is not None and seen != base.pk else ""


def check(row, setup):
    """Check a setup before it is kept: chains and props are compiled; soft bodies, which take longer, only where something rides on one."""
    character, _ = loaded(row.pk)
    is_quick = not any(layer.is_on and layer.rides for layer in setup.layers)
    layers = tuple(layer for layer in setup.layers if not registry.kind_of(layer.kind).is_soft) if is_quick else setup.layers
    compile_plan(TakeSpec(character, replace(setup, layers=layers), row.active_clip))
    for layer in setup.layers:
        if layer.is_on and layer.region:
            character.painted(setup.region(layer.region))


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
