"""A remark where a layer moves farther than its character is large: legal dials that no animator means."""

from quiver.bodies.fitting import size_of

FAR = 2.0
"""So many times the character's size is more than any real motion."""
SMALLEST, LARGEST = 0.02, 200.0
"""Sizes [m] between which a character is believed."""


def far_notes(plan, farthest):
    """Remarks in words on layers that moved too far; ``farthest`` (L,) [m], in the order of the plan's layer_ids."""
    size = plan.spec.setup.metres_per_unit * size_of(plan.spec.character)
    names = {layer.id: layer.name for layer in plan.layers}
    unit = "" if SMALLEST < size < LARGEST else f"; the character is {_length(size)} large: check Metres per unit"
    return [
        f"{names[layer_id]}: moves {moved / size:.0f} times the character's size; raise the wobble rate or lower the gravity share{unit}"
        for layer_id, moved in zip(plan.layer_ids, farthest, strict=True)
        if layer_id in names and moved > FAR * size
    ]


def _length(metres):
    return f"{1000.0 * metres:.3g} mm" if metres < 1.0 else f"{metres:.3g} m"
