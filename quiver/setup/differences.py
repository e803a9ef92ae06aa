"""What differs between two setups, in words: to compare takes by their settings."""

from quiver import colliders as shapes
from quiver import layers as registry
from quiver.setup.model import SCENE_DIALS


def differences(before, after):
    """[(name of what differs, words)] from one Setup to another, in the order of the second; [] where their settings are alike."""
    found = [("Scene", _changed(dial, getattr(before, dial.name), getattr(after, dial.name))) for dial in SCENE_DIALS]
    found += [(name, "run around") for name in after.cycles if name not in before.cycles]
    found += [(name, "no longer run around") for name in before.cycles if name not in after.cycles]
    names = {layer.id: layer.name for layer in after.layers}
    for each in after.overrides:
        if each not in before.overrides and each.layer in names:
            found.append((names[each.layer], f"{each.dial} {each.value} on “{each.clip}” only"))
    old, kept = {layer.id: layer for layer in before.layers}, {layer.id for layer in after.layers}
    for layer in after.layers:
        if layer.id in old:
            found += [(layer.name, words) for words in _of_layers(old[layer.id], layer)]
        else:
            found.append((layer.name, "new"))
    found += [(layer.name, "removed") for layer in before.layers if layer.id not in kept]
    if [layer.id for layer in before.layers if layer.id in kept] != [layer.id for layer in after.layers if layer.id in old]:
        found.append(("Layers", "in another order"))
    found += _of_regions(before, after) + _of_colliders(before, after)
    return [(name, words) for name, words in found if words]


def _changed(dial, before, after):
    """How a dial differs, "" where it does not."""
    if before == after:
        return ""
    labels = dict(dial.options) if dial.is_choice else {}
    old, new = (labels.get(value, value) if dial.is_choice else f"{value:g}" for value in (before, after))
    return f"{dial.label} {old} → {new}{f' {dial.unit}' if dial.unit else ''}"


def _of_layers(before, after):
    if before.kind != after.kind:
        return [f"{registry.kind_of(before.kind).label} → {registry.kind_of(after.kind).label}"]
    kind = registry.kind_of(after.kind)
    words = [_changed(dial, before.values.get(dial.name, dial.default), after.values.get(dial.name, dial.default)) for dial in kind.dials]
    if before.is_on != after.is_on:
        words.append("on" if after.is_on else "off")
    if before.amount != after.amount:
        words.append("other amount keys")
    if before.chains != after.chains:
        words.append("other joints")
    if (before.region, before.other) != (after.region, after.other):
        words.append("another region")
    if (before.muscles, before.bones) != (after.muscles, after.bones):
        words.append(_of_muscles(before, after))
    if before.rests != after.rests:
        words.append("another rest pose")
    if (before.fat, before.clings) != (after.fat, after.clings):
        words.append("other maps")
    if before.rides != after.rides:
        words.append("attached elsewhere")
    if (before.form, before.built) != (after.form, after.built):
        words.append("built otherwise")
    return words


def _of_muscles(before, after):
    """How the muscles of a layer differ."""
    old, new = ({own.id: own for own in layer.muscles} for layer in (before, after))
    changed = [own.name for identifier, own in new.items() if identifier in old and old[identifier] != own]
    parts = [f"muscles changed: {', '.join(changed)}"] if changed else []
    parts += [f"new: {', '.join(new[each].name for each in new if each not in old)}"] if new.keys() - old.keys() else []
    parts += [f"removed: {', '.join(old[each].name for each in old if each not in new)}"] if old.keys() - new.keys() else []
    return "; ".join(parts) or "other bones"


def _of_regions(before, after):
    old = {region.id: region for region in before.regions}
    return [(region.name, "painted differently") for region in after.regions if region.id in old and region.values != old[region.id].values]


def _of_colliders(before, after):
    old, found, new = {each.id: each for each in before.colliders}, [], []
    for collider in after.colliders:
        known = old.pop(collider.id, None)
        if known is None:
            new.append(collider.name)
            continue
        words = [_changed(dial, known.value(dial.name), collider.value(dial.name)) for dial in shapes.DIALS]
        if known.is_on != collider.is_on:
            words.append("on" if collider.is_on else "off")
        if (known.joint, known.place, known.turn, known.size) != (collider.joint, collider.place, collider.turn, collider.size):
            words.append("moved or sized")
        if (set(known.meets), set(known.spares)) != (set(collider.meets), set(collider.spares)):
            words.append("collides with other layers")
        found += [(collider.name, each) for each in words]
    gone = [each.name for each in old.values()]
    return found + [("Colliders", f"{words}: {', '.join(names)}") for words, names in (("new", new), ("removed", gone)) if names]
