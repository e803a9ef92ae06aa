"""The guide's tables of dials, made from what the kinds of layers and the colliders declare."""

from quiver import colliders
from quiver import layers as registry
from quiver.setup.model import SCENE_DIALS

HEAD = """# Dials

Made by `./keen python -m quiver dials` from the declarations in `quiver/layers/`.
"""


def dial_tables():
    """All tables, as Markdown."""
    parts = [HEAD]
    for kind in registry.kinds():
        presets = f" Presets: {', '.join(kind.presets)}." if kind.presets else ""
        parts.append(f"## {kind.label}\n{kind.summary}{presets}\n\n{_table(kind.dials)}")
    parts.append(f"## Colliders\nHow the surface of a collider treats what touches it.\n\n{_table(colliders.DIALS)}")
    parts.append(f"## Scene\nWhat holds for the whole setup.\n\n{_table(SCENE_DIALS)}")
    return "\n".join(parts)


def _table(dials):
    lines = ["| dial | values | default | what it means |", "|---|---|---|---|"]
    for dial in dials:
        if dial.is_choice:
            labels = dict(dial.options)
            values, default = ", ".join(labels.values()), labels[dial.default]
        else:
            unit = f" {dial.unit}" if dial.unit else ""
            values, default = f"{dial.low:g} to {dial.high:g}{unit}", f"{dial.default:g}"
        lines.append(f"| {dial.label} | {values} | {default} | {' '.join(part for part in (dial.help, dial.words) if part)} |")
    return "\n".join(lines) + "\n"
