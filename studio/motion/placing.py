"""Shapes placed by hand, of which a sheet is made instead of the skin."""

from dataclasses import replace

from quiver.bodies import forms
from quiver.errors import BadInput
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.run.parts.sources import surface_of
from quiver.setup import edits
from quiver.setup.model import FORMS
from studio.characters.services import loaded
from studio.edits.services import checked_place, edit

LARGEST_FILE = 32 * 2**20
READY = {shape: label for shape, label in FORMS.items() if shape != "own"}
"""Shapes that need no file, and what they are called."""


def place(row, layer_id, shape):
    """Make a sheet of a ready-made shape, fitted around its region. Raises BadInput."""
    layer = _sheet(row, layer_id)
    if shape not in READY:
        raise BadInput(f"expected one of {', '.join(READY)}, got “{shape}”")
    character, _ = loaded(row.pk)
    mesh, levels = character.painted(row.setup.region(layer.region))
    faces = mesh.triangles[regions.is_in(levels)[mesh.triangles].all(1)]
    if not len(faces):
        raise BadInput("expected a region with whole triangles in it, to fit a shape around")
    return _keep(row, layer, forms.fitted(shape, surface_of(character, mesh, 1.0), faces), READY[shape].lower())


def bring(row, layer_id, file):
    """Make a sheet of the meshes of a GLB, where they are in it. Raises BadInput or BadFormat."""
    layer = _sheet(row, layer_id)
    if file.size > LARGEST_FILE:
        raise BadInput(f"expected a file of at most {LARGEST_FILE >> 20} MB, got {file.size / 2**20:.0f} MB")
    brought, _ = read_character(file.read(), "mesh")
    return _keep(row, layer, forms.own(brought), "own mesh")


def move(row, layer_id, place, turn, size):
    """Put a form where the stage dragged it [file units]. Raises BadInput."""
    layer = _sheet(row, layer_id)
    if layer.form is None:
        raise BadInput(f"“{layer.name}” has no placed shape")
    # The stage shows it as a box, whose fourth size is how round that is.
    place, turn, size = checked_place(place, turn, size[:3], 3)
    placed = {"place": place, "turn": turn, "size": tuple(max(each, 1e-6) for each in size)}

    def command(setup):
        now = setup.layer(layer_id)
        if now.form is None:
            raise BadInput(f"“{now.name}” has no placed shape any more")
        return edits.set_fields(setup, layer_id, form=replace(now.form, **placed))

    return edit(row, command, f"{layer.name}: shape moved").take


def boxes(row, layer_id):
    """The form's box as the stage draws colliders; none where it has no form, or is not made of it."""
    layer = _sheet(row, layer_id)
    if layer.form is None or layer.value("made_of") != "form":
        return []
    form, (width, height, depth) = layer.form, layer.form.size
    placed = {"place": form.place, "turn": form.turn, "size": [width, height, depth, 0.0]}
    core = [0.5 * width, 0.5 * depth, 0.5 * height, 0.5 * height]
    return [{"id": layer.id, "name": layer.name, "shape": "box", "node": -1, "isOn": True, **placed, "core": core, "radius": 0.0}]


def _sheet(row, layer_id):
    layer = row.setup.layer(layer_id)
    if layer.kind != "sheet":
        raise BadInput(f"only a sheet can be made of a placed shape, “{layer.name}” is none")
    return layer


def _keep(row, layer, form, words):
    def command(setup):
        return edits.set_dial(edits.set_fields(setup, layer.id, form=form), [layer.id], "made_of", "form")

    return edit(row, command, f"{layer.name}: {words}").take
