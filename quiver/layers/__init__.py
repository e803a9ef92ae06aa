"""The registry of kinds of layers: one module a kind. Forms, the document, the schema, the guide, the score and the run read it."""

from quiver.errors import BadInput
from quiver.layers.chain import CHAIN
from quiver.layers.kinds import LayerKind
from quiver.layers.limb_clearance import LIMB_CLEARANCE
from quiver.layers.muscle import MUSCLE
from quiver.layers.prop import PROP
from quiver.layers.sheet import SHEET
from quiver.layers.skin_contact import SKIN_CONTACT
from quiver.layers.tissue import TISSUE
from quiver.layers.volume import VOLUME

_kinds: dict[str, LayerKind] = {}


def register(kind):
    """Add a kind. Raises BadInput where its name is taken."""
    if kind.name in _kinds:
        raise BadInput(f"expected a new name for a kind of layer, “{kind.name}” is taken")
    _kinds[kind.name] = kind


def unregister(name):
    """Take a kind out again."""
    del _kinds[name]


def kinds():
    """All kinds, in the order in which they are offered."""
    return tuple(_kinds.values())


def kind_of(name):
    """The kind of that name. Raises BadInput."""
    if name not in _kinds:
        raise BadInput(f"expected one of {', '.join(_kinds)}, got “{name}”")
    return _kinds[name]


for _kind in (CHAIN, VOLUME, SHEET, MUSCLE, TISSUE, PROP, SKIN_CONTACT, LIMB_CLEARANCE):
    register(_kind)
