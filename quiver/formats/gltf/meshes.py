"""Meshes and skins of a glTF document."""

from dataclasses import replace

import numpy as np

from quiver.formats.gltf import container
from quiver.formats.gltf.accessors import read_accessor
from quiver.formats.gltf.mending import are_off
from quiver.rig.character import Mesh

MOST_VERTICES = 3_000_000
"""Vertices of all meshes of a file, counted for each node that shows them."""
FAR = 1e9
"""No place or matrix of a mesh is beyond that [file units]."""


def read_meshes(document, skeleton, remarks):
    """All triangle primitives of all nodes that show a mesh, as a list of Mesh. Raises BadFormat."""
    meshes, found, count = document.parts["meshes"], [], 0
    skins = [_read_skin(document, index, len(skeleton)) for index in range(len(document.parts["skins"]))]
    known = {}
    for node_index, node in enumerate(document.parts["nodes"]):
        if node.mesh is None:
            continue
        if node.mesh >= len(meshes):
            raise container.refused("missing-mesh", f"mesh {node.mesh} does not exist", f"nodes[{node_index}]")
        skin = -1 if node.skin is None else node.skin
        if skin >= len(skins):
            raise container.refused("missing-skin", f"skin {skin} does not exist", f"nodes[{node_index}]")
        primitives = meshes[node.mesh].primitives
        for number, primitive in enumerate(primitives):
            where = f"meshes[{node.mesh}].primitives[{number}]"
            if primitive.mode != 4:
                remarks.note("not-triangles", "a primitive is not made of triangles; it is kept but not used", "", where)
                continue
            name = meshes[node.mesh].name or skeleton.names[node_index]
            name = f"{name} {number + 1}" if len(primitives) > 1 else str(name)
            key = node.mesh, number, skin
            if key not in known:
                arguments = (primitive, name, node_index, skin, skins, where, remarks)
                known[key] = remarks.guard(lambda arguments=arguments: _read_primitive(document, *arguments))
            mesh = known[key]
            if mesh is not None:
                count += len(mesh.positions)
                if count > MOST_VERTICES:
                    raise container.refused(
                        "too-many", f"expected at most {MOST_VERTICES:,} vertices in all", "meshes", "Export less at once."
                    )
                found.append(replace(mesh, name=name, node=node_index, primitive=number))
    return found


def _read_skin(document, index, node_count):
    skin = document.parts["skins"][index]
    joints = np.array(skin.joints, np.int64)
    if joints.max() >= node_count:
        raise container.refused("missing-node", "a skin names joints that do not exist", f"skins[{index}]")
    joints = joints.astype(np.int32)
    if skin.inverse_bind_matrices is None:
        return joints, np.tile(np.eye(4)[:3], (len(joints), 1, 1))
    matrices = read_accessor(document, skin.inverse_bind_matrices, f"skins[{index}] inverse bind matrices", (16,))
    if len(matrices) < len(joints):
        raise container.refused("missing-bytes", f"expected {len(joints)} inverse bind matrices, got {len(matrices)}", f"skins[{index}]")
    _expect_sane(matrices, "an inverse bind matrix", f"skins[{index}]")
    return joints, matrices[: len(joints)].reshape(-1, 4, 4).transpose(0, 2, 1)[:, :3].astype(float)


def _expect_sane(values, what, where):
    """Refuse numbers that are not finite, or absurdly large."""
    if not np.isfinite(values).all():
        raise container.refused("non-finite", f"{what} holds a number that is not finite", where)
    if np.abs(values).max(initial=0.0) > FAR:
        raise container.refused("absurd-size", f"{what} holds a number beyond {FAR:g}", where)


def _read_primitive(document, primitive, name, node, skin, skins, where, remarks):
    attributes = primitive.attributes
    if "POSITION" not in attributes:
        remarks.note("no-positions", "a primitive has no positions; it is kept but not used", "", where)
        return None
    positions = read_accessor(document, attributes["POSITION"], f"{where} positions", (3,)).astype(np.float32)
    _expect_sane(positions, "a position", where)
    triangles = _read_triangles(document, primitive, len(positions), where, remarks)
    colours = _read_colours(document, attributes, positions, where)
    if skin < 0:
        return Mesh(name, node, positions, triangles, colours)
    bind_nodes, inverse_binds = skins[skin]
    slots, weights = _read_influences(document, attributes, len(positions), len(bind_nodes), where, remarks)
    if slots is None:
        return Mesh(name, node, positions, triangles, colours)
    return Mesh(name, node, positions, triangles, colours, bind_nodes[slots], weights, skin, bind_nodes, inverse_binds)


def _read_triangles(document, primitive, vertex_count, where, remarks):
    if primitive.indices is not None:
        found = read_accessor(document, primitive.indices, f"{where} indices", (1,))[:, 0]
        if found.dtype.kind != "u":
            raise container.refused("wrong-type", "expected triangles as unsigned integers", where)
        indices = found.astype(np.int64)
    else:
        indices = np.arange(vertex_count)
    if indices.max(initial=0) >= vertex_count:
        raise container.refused("missing-vertex", f"a triangle names vertex {indices.max()} of {vertex_count}", where)
    triangles = indices[: len(indices) // 3 * 3].reshape(-1, 3).astype(np.int32)
    a, b, c = triangles.T
    flat = int(((a == b) | (b == c) | (a == c)).sum())
    if flat:
        remarks.note("flat-triangles", f"{flat} triangles have two corners in one vertex", "They are left as they are.", where)
    return triangles


def _read_colours(document, attributes, positions, where):
    if "COLOR_0" not in attributes:
        return None
    colours = read_accessor(document, attributes["COLOR_0"], f"{where} colours", (3, 4))
    if len(colours) != len(positions) or not np.isfinite(colours).all():
        raise container.refused("missing-bytes", f"expected {len(positions)} finite colours, got {len(colours)}", where)
    return np.clip(colours[: len(positions), :3].astype(np.float32) * 255.0, 0.0, 255.0).astype(np.uint8)


def _read_influences(document, attributes, vertex_count, joint_count, where, remarks):
    slots, weights = [], []
    number = 0
    while f"JOINTS_{number}" in attributes and f"WEIGHTS_{number}" in attributes:
        joints = read_accessor(document, attributes[f"JOINTS_{number}"], f"{where} joints", (4,))
        if joints.dtype.kind != "u":
            raise container.refused("wrong-type", "expected joints as unsigned integers", where)
        slots.append(joints.astype(np.int64))
        weights.append(read_accessor(document, attributes[f"WEIGHTS_{number}"], f"{where} weights", (4,)).astype(np.float32))
        number += 1
    if not slots:
        remarks.warn("no-weights", "a mesh has a skin but no weights; it follows its node", "Bind the mesh again.", where)
        return None, None
    if len({len(part) for part in (*slots, *weights)}) > 1:
        raise container.refused("missing-bytes", f"expected weights for {vertex_count} vertices in all of its sets", where)
    slots, weights = np.concatenate(slots, 1), np.concatenate(weights, 1)
    if len(slots) != vertex_count or len(weights) != vertex_count:
        raise container.refused("missing-bytes", f"expected weights for {vertex_count} vertices, got {len(weights)}", where)
    if not np.isfinite(weights).all():
        raise container.refused("non-finite", "a skin weight is not a finite number", where)
    if ((slots >= joint_count) & (weights > 0)).any():
        raise container.refused("missing-node", f"a vertex names joint {slots.max()} of {joint_count} in its skin", where)
    slots = np.where(slots < joint_count, slots, 0).astype(np.int32)
    weights = np.maximum(weights, 0.0)
    sums = weights.sum(1)
    bare = int((sums <= 1e-6).sum())
    if bare:
        remarks.warn("no-weights", f"{bare} vertices have no weight; they follow the skin's first joint", "Paint weights for them.", where)
        weights[sums <= 1e-6, 0] = 1.0
        sums = weights.sum(1)
    off = are_off(weights)
    if off.any():
        digits = int(np.clip(1 - np.floor(np.log10(np.abs(sums - 1.0).max())), 2, 7))
        span = f"{sums.min():.{digits}f} to {sums.max():.{digits}f}"
        message = f"the weights of {int(off.sum())} vertices add up to {span} instead of 1; they are scaled to 1"
        remarks.warn("weights", message, "The exported file carries the scaled weights.", where)
    return slots, weights / sums[:, None]
