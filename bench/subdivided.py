"""Mudwick with more vertices than anybody paints: each triangle cut into four, again and again."""

from dataclasses import replace

import numpy as np

from quiver.mesh import regions
from quiver.mesh.topology import edges_of_triangles


def subdivided(character, setup, vertices):
    """A character and its setup with at least so many vertices: (Character, Setup)."""
    while sum(len(mesh.positions) for mesh in character.meshes) < vertices:
        ends = {mesh.name: edges_of_triangles(mesh.triangles, len(mesh.positions))[0] for mesh in character.meshes}
        character = replace(character, meshes=tuple(_finer(mesh, ends[mesh.name]) for mesh in character.meshes))
        setup = replace(setup, regions=tuple(_finer_region(region, ends[region.mesh]) for region in setup.regions))
    return character, setup


def _finer(mesh, edges):
    count = len(mesh.positions)
    keys = edges.astype(np.int64) @ [count, 1]
    order = np.argsort(keys)

    def between(a, b):
        return count + order[np.searchsorted(keys[order], np.minimum(a, b).astype(np.int64) * count + np.maximum(a, b))]

    a, b, c = mesh.triangles.T
    d, e, f = between(a, b), between(b, c), between(c, a)
    triangles = np.concatenate([np.column_stack(each) for each in ((a, d, f), (d, b, e), (f, e, c), (d, e, f))]).astype(np.int32)
    positions = np.concatenate([mesh.positions, mesh.positions[edges].mean(1)]).astype(np.float32)
    made = replace(mesh, positions=positions, triangles=triangles, colours=None)
    if mesh.skin < 0:
        return made
    # Both ends' weights as one row, of which the heaviest are kept.
    nodes, shares = mesh.joints[edges].reshape(len(edges), -1), 0.5 * mesh.weights[edges].reshape(len(edges), -1)
    same = nodes[:, :, None] == nodes[:, None, :]
    summed = np.where(np.triu(same, 1).any(1), 0.0, (same * shares[:, None, :]).sum(2))
    kept = np.argsort(-summed, axis=1, kind="stable")[:, : mesh.joints.shape[1]]
    joints, weights = np.take_along_axis(nodes, kept, 1), np.take_along_axis(summed, kept, 1)
    weights = (weights / weights.sum(1, keepdims=True)).astype(np.float32)
    return replace(made, joints=np.concatenate([mesh.joints, joints]), weights=np.concatenate([mesh.weights, weights]))


def _finer_region(region, edges):
    levels = regions.decode(region.values, region.vertices).astype(int)
    finer = np.concatenate([levels, np.where((levels[edges] == regions.OUT).any(1), regions.OUT, levels[edges].mean(1).round())])
    return replace(region, vertices=len(finer), values=regions.encode(finer.astype(np.uint8)))
