"""Edits of a layer's muscles: pure functions from a setup to a setup, as quiver/setup/edits.py has them for all else."""

from dataclasses import replace

from quiver import layers as registry
from quiver.errors import BadInput
from quiver.layers.kinds import MUSCLES
from quiver.setup.edits import LONGEST_NAME, free_id, new_layer, with_layer, with_new_layer
from quiver.setup.model import AXES, CURVES, PULLED_BY

ENDS = ("origin", "insertion")
WIDEST_SMOOTHING, FARTHEST_REACH, FIRMEST = 240.0, 1e4, 100.0


def with_new_muscles(setup, name, muscles, bones, **values):
    """One more layer on top, of Muscles whose ids are made free here, that keeps off some bones (names of meshes)."""
    if not muscles:
        raise BadInput("expected at least one closed piece to make a muscle of")
    made = []
    for muscle in muscles:
        made.append(replace(muscle, id=free_id(muscle.name, "muscle", made)))
    return with_new_layer(setup, new_layer("muscle", "", name, values, muscles=tuple(made), bones=tuple(bones)))


def with_more_muscles(setup, identifier, muscles):
    """Some more muscles in a layer; their ids are made free."""
    layer = _layer(setup, identifier)
    made = list(layer.muscles)
    for muscle in muscles:
        made.append(replace(muscle, id=free_id(muscle.name, "muscle", made)))
    return with_layer(setup, replace(layer, muscles=tuple(made)))


def without_muscles(setup, identifier, names):
    """Some muscles (ids) less in a layer; others no longer go by them."""
    layer = _layer(setup, identifier)
    gone = {layer.muscle(name).id for name in names}
    left = tuple(muscle for muscle in layer.muscles if muscle.id not in gone)
    if not left:
        raise BadInput(f"{layer.name}: expected to keep at least one muscle; remove the layer instead")
    left = tuple(replace(muscle, drivers=tuple(each for each in muscle.drivers if each.of not in gone)) for muscle in left)
    return with_layer(setup, replace(layer, muscles=left))


def with_muscles_of(setup, other):
    """All layers of muscles as another setup has them, with the regions that they name; what it does not have goes, all else stays."""
    theirs = {layer.id: layer for layer in other.layers if layer.muscles}
    if not theirs:
        raise BadInput("expected a setup with muscles, that one has none")
    kept = [theirs.pop(layer.id, None) if layer.muscles else layer for layer in setup.layers]
    taken = {layer.id for layer in kept if layer}
    if clash := next((layer for layer in theirs.values() if layer.id in taken), None):
        raise BadInput(f"expected room for the layer of muscles “{clash.name}”, another layer has its id, “{clash.id}”")
    layers = (*(layer for layer in kept if layer), *theirs.values())
    named = {name for layer in other.layers if layer.muscles for name in layer.regions} - {region.id for region in setup.regions}
    regions = (*setup.regions, *(region for region in other.regions if region.id in named))
    return replace(setup, layers=layers, regions=regions)


def set_muscle(setup, identifier, muscle_id, **fields):
    """Some fields of one muscle (its id)."""
    layer = _layer(setup, identifier)
    changed = replace(layer.muscle(muscle_id), **fields)
    return with_layer(setup, replace(layer, muscles=tuple(changed if each.id == muscle_id else each for each in layer.muscles)))


def rename_muscle(setup, identifier, name, new_name):
    """Another name, trimmed; an empty one changes nothing."""
    own = _layer(setup, identifier).muscle(name)
    return set_muscle(setup, identifier, name, name=new_name.strip()[:LONGEST_NAME] or own.name)


def attach(setup, identifier, name, end, attachment):
    """Where one end of a muscle sits: an Attachment. Raises BadInput."""
    if end not in ENDS:
        raise BadInput(f"expected one of {', '.join(ENDS)}, got “{end}”")
    if not 0.0 <= attachment.reach <= FARTHEST_REACH or not 0.0 <= attachment.firmness <= FIRMEST:
        raise BadInput(f"expected a reach up to {FARTHEST_REACH:g} mm and a firmness up to {FIRMEST:g} Hz")
    if attachment.region:
        setup.region(attachment.region)
    return set_muscle(setup, identifier, name, **{end: attachment})


def swap_ends(setup, identifier, name):
    """The origin becomes the insertion, and the other way round."""
    own = _layer(setup, identifier).muscle(name)
    return set_muscle(setup, identifier, name, origin=own.insertion, insertion=own.origin)


def set_own_dial(setup, identifier, name, dial, value):
    """A dial of one muscle alone; None lets it go by the layer's again."""
    layer = _layer(setup, identifier)
    kind, own = registry.kind_of(layer.kind), layer.muscle(name)
    if dial not in kind.own_dials:
        raise BadInput(f"expected one of {', '.join(kind.dial(each).label for each in kind.own_dials)}, got “{dial}”")
    values = {known: each for known, each in own.values.items() if known != dial}
    if value is not None:
        values[dial] = kind.dial(dial).checked(value)
    return set_muscle(setup, identifier, name, values=values)


def set_pull(setup, identifier, name, keys):
    """The pull keys of a muscle {frame: pull}. Raises BadInput."""
    for frame, pull in keys.items():
        if not 0.0 <= pull <= 1.0:
            raise BadInput(f"expected a pull from 0 to 1 at frame {frame:g}, got {pull:g}")
    return set_muscle(setup, identifier, name, keys=tuple(sorted(keys.items())) or ((0.0, 0.0),))


def set_smoothing(setup, identifier, name, frames):
    """Over how many frames a muscle's pull is evened out. Raises BadInput."""
    if not 0.0 <= frames <= WIDEST_SMOOTHING:
        raise BadInput(f"expected a smoothing from 0 to {WIDEST_SMOOTHING:g} frames, got {frames:g}")
    return set_muscle(setup, identifier, name, smoothing=frames)


def set_drivers(setup, identifier, names, drivers):
    """What pulls some muscles besides their keys. Raises BadInput."""
    for name in names:
        own = _layer(setup, identifier).muscle(name)
        checked = tuple(_checked(own, driver) for driver in drivers)
        setup = set_muscle(setup, identifier, name, drivers=checked)
    return setup


def _checked(muscle, driver):
    if driver.by not in PULLED_BY or driver.curve not in CURVES or driver.axis not in AXES:
        raise BadInput(f"{muscle.name}: expected to be pulled by one of {', '.join(PULLED_BY.values())}, got “{driver.by}”")
    if driver.low == driver.high:
        raise BadInput(f"{muscle.name}: expected a pull from one value to another, got from {driver.low:g} to {driver.high:g}")
    if driver.by == "muscle" and driver.of == muscle.id:
        raise BadInput(f"{muscle.name}: expected another muscle to go by, got itself")
    if not -1.0 <= driver.share <= 1.0:
        raise BadInput(f"{muscle.name}: expected a share from -1 to 1, got {driver.share:g}")
    return driver


def _layer(setup, identifier):
    layer = setup.layer(identifier)
    if registry.kind_of(layer.kind).made_of != MUSCLES:
        raise BadInput(f"expected a layer of muscles, “{layer.name}” is of the kind {registry.kind_of(layer.kind).label}")
    return layer
