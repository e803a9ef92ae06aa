"""Meshes that lie under the skin, such as muscles and bones: what the outside is asked of leaves them out."""

import igl
import numpy as np

from quiver.cache import Cache
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions

MOSTLY = 0.8
"""A mesh of which so many vertices lie inside of the largest one is under the skin."""
KEPT = 8
_known = Cache(KEPT)


def outer_meshes(character):
    """[(number, Mesh)] of the meshes that are not under the skin, in order, kept."""
    inner = _known.get(character, (), lambda: _inner(character))
    return [(index, mesh) for index, mesh in enumerate(character.meshes) if index not in inner]


def _inner(character):
    meshes, world = character.meshes, rest_matrices(character.skeleton)
    if len(meshes) < 2:
        return frozenset()
    positions = [skinned_positions(mesh, world) for mesh in meshes]
    if not all(np.isfinite(each).all() for each in positions):
        return frozenset()
    largest = max(range(len(meshes)), key=lambda index: float(np.linalg.norm(np.ptp(positions[index], axis=0))))
    skin = np.ascontiguousarray(positions[largest], float), meshes[largest].triangles.astype(np.int64)
    others = [index for index, points in enumerate(positions) if index != largest and len(points)]
    if not others or not len(skin[1]):
        return frozenset()
    wound = igl.fast_winding_number(*skin, np.ascontiguousarray(np.concatenate([positions[index] for index in others]), float))
    inside = np.split(np.abs(wound) > 0.5, np.cumsum([len(positions[index]) for index in others])[:-1])
    return frozenset(index for index, each in zip(others, inside, strict=True) if each.mean() >= MOSTLY)
