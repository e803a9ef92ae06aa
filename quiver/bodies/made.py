"""Muscles made by hand as meshes of a character: what the file does not have is added to what it has."""

from dataclasses import replace

import numpy as np

from quiver.bodies import muscle_forms
from quiver.bodies.attaching import MADE
from quiver.cache import Cache
from quiver.errors import BadInput
from quiver.rig.character import Mesh
from quiver.rig.pose import rest_matrices

KEPT = 12
_known = Cache(KEPT)


def mesh_name(layer_id, muscle_id):
    """The name of the mesh of a muscle that is made by hand."""
    return f"{MADE}{layer_id}/{muscle_id}"


def made_names(setup):
    """{name of a mesh that `with_made` adds: the name that the artist gave it}, in order."""
    return {mesh_name(layer.id, own.id): own.name for layer in setup.layers for own in layer.muscles if own.form}


def with_made(character, setup):
    """The Character with a mesh more for each muscle of a setup that is made by hand, in the order of layers and muscles, kept.

    Raises BadInput where one cannot be made.
    """
    made = [(layer.id, own) for layer in setup.layers for own in layer.muscles if own.form]
    if not made:
        return character
    key = tuple((layer, own.id, own.form, own.origin.joint) for layer, own in made)
    return _known.get(character, key, lambda: _with(character, made))


def for_export(character, setup):
    """The same with the names that the artist gave them."""
    names, meshes = made_names(setup), with_made(character, setup).meshes
    return replace(character, meshes=tuple(replace(mesh, name=names.get(mesh.name, mesh.name)) for mesh in meshes))


def _with(character, made):
    rest = rest_matrices(character.skeleton)
    meshes = list(character.meshes)
    for layer, own in made:
        form = own.form
        if own.origin.joint not in character.skeleton:
            raise BadInput(f"{own.name}: expected a joint of this character to be attached to, got “{own.origin.joint}”")
        node = character.skeleton.index(own.origin.joint)
        points, triangles = muscle_forms.surface(
            form.points, form.shape, form.width, form.thickness, form.thickest, form.tendon, form.outwards
        )
        local = np.linalg.solve(rest[node, :, :3], (points - rest[node, :, 3]).T).T
        if np.linalg.det(rest[node, :, :3]) < 0.0:
            triangles = triangles[:, ::-1]
        meshes.append(Mesh(mesh_name(layer, own.id), node, np.float32(local), np.ascontiguousarray(triangles), primitive=-1))
    return replace(character, meshes=tuple(meshes))
