"""From a glTF document to a Character. Everything worth saying about the file is collected and returned at once."""

import numpy as np

from quiver.errors import BadInput
from quiver.formats.gltf import container, mending
from quiver.formats.gltf.clips import read_clips
from quiver.formats.gltf.meshes import read_meshes
from quiver.formats.gltf.remarks import Remarks, unique_names
from quiver.rig import transforms
from quiver.rig.character import Character
from quiver.rig.pose import Pose, rest_matrices
from quiver.rig.skeleton import Skeleton, parents_first

READ_EXTENSIONS = {"KHR_mesh_quantization", "KHR_texture_transform"}
"""Required extensions that do not change what is read here, or (quantised meshes) are read by the accessors anyway.
Required material extensions pass too: looks are left as they are."""
FAR, MOST_NODES = 1e9, 20_000
"""No joint stands or is scaled beyond the first [file units]; no file has more nodes than the second."""
TALL, SMALL = 25.0, 0.02
"""Heights [m] outside of which a character is probably not in metres."""


def read_character(data, name="character"):
    """Read a GLB or glTF file given as bytes.

    Returns (Character, Document). Raises BadFormat with *all* findings where the file cannot be used.
    """
    document = container.parse(data)
    return character_of(document, name), document


def character_of(document, name):
    """The Character in a parsed document. Raises BadFormat."""
    remarks = Remarks()
    _check_extensions(document, remarks)
    skeleton = remarks.guard(lambda: _read_skeleton(document, remarks))
    if skeleton is None:
        raise remarks.refusal()
    meshes = remarks.guard(lambda: read_meshes(document, skeleton, remarks)) or ()
    clips = remarks.guard(lambda: read_clips(document, skeleton, remarks)) or ()
    if not skeleton.is_joint.any():
        remarks.warn("no-skin", "no mesh is bound to joints", "Bind the mesh to its joints before export; chains need joints.", "skins")
    if not clips:
        remarks.note("no-clip", "there is no clip in the file", "Chains can be tried at rest; bring in a clip to see motion.", "animations")
    _check_size(skeleton, meshes, remarks)
    if remarks.refused:
        raise remarks.refusal()
    for fault in mending.faults(document):
        if fault.id:
            remarks.warn(fault.id, fault.message, mending.HINT, fault.where)
    return Character(name, skeleton, tuple(meshes), tuple(clips), tuple(remarks.findings))


def _check_extensions(document, remarks):
    required = document.tree.get("extensionsRequired", [])
    for extension in required if isinstance(required, list) else []:
        if extension not in READ_EXTENSIONS and not str(extension).startswith("KHR_materials"):
            remarks.refuse(
                "extension",
                f"the file needs “{str(extension)[:60]}”, which is not read here",
                "Export without compression or extras.",
                "extensionsRequired",
            )


def _read_skeleton(document, remarks):
    nodes = document.parts["nodes"]
    if not nodes:
        raise container.refused("no-nodes", "expected at least one node, found none", "nodes")
    if len(nodes) > MOST_NODES:
        raise container.refused(
            "too-many", f"expected at most {MOST_NODES} nodes, got {len(nodes)}", "nodes", "Export the character alone."
        )
    parents = np.full(len(nodes), -1, np.int32)
    for index, node in enumerate(nodes):
        for child in node.children:
            if child >= len(nodes):
                raise container.refused("missing-node", f"child {child} does not exist", f"nodes[{index}]")
            if parents[child] >= 0:
                raise container.refused("two-parents", f"node {child} has two parents", f"nodes[{index}]")
            parents[child] = index
    try:
        order = parents_first(parents)
    except BadInput as error:
        raise container.refused("cycle", str(error), "nodes") from error
    local = Pose(np.zeros((len(nodes), 3)), np.tile(transforms.IDENTITY, (len(nodes), 1)), np.ones((len(nodes), 3)))
    for index, node in enumerate(nodes):
        _read_placement(node, index, local, remarks)
    return Skeleton(_node_names(nodes, remarks), parents, order, _joints(document, len(nodes)), local)


def _read_placement(node, index, local, remarks):
    where = f"nodes[{index}] {node.name or ''}".strip()[:200]
    if node.matrix is not None:
        matrix = np.array(node.matrix).reshape(4, 4).T
        local.translations[index], local.rotations[index], local.scales[index] = transforms.decompose(matrix)
    if node.translation is not None:
        local.translations[index] = node.translation
    if node.scale is not None:
        local.scales[index] = node.scale
    if node.rotation is not None:
        rotation = np.array(node.rotation)
        if abs(np.linalg.norm(rotation) - 1.0) > 1e-3:
            remarks.warn("non-unit", "a rotation was not of unit length; it is read as if it were", "", where)
        local.rotations[index] = transforms.normalised(rotation)
    if (np.abs(local.scales[index]) < 1e-9).any():
        remarks.warn("zero-scale", "a node is scaled to nothing", "Parts below it cannot be simulated.", where)


def _node_names(nodes, remarks):
    plain = [str(node.name or f"node {index}") for index, node in enumerate(nodes)]
    names = unique_names(plain)
    for index, (name, base) in enumerate(zip(names, plain, strict=True)):
        if name != base:
            remarks.note("same-name", f"two nodes are called “{base}”; this one is shown as “{name}”", "", f"nodes[{index}]")
    return tuple(names)


def _joints(document, count):
    is_joint = np.zeros(count, bool)
    for index, skin in enumerate(document.parts["skins"]):
        if max(skin.joints) >= count:
            raise container.refused("missing-node", "a skin names joints that do not exist", f"skins[{index}]")
        is_joint[list(skin.joints)] = True
    return is_joint


def _check_size(skeleton, meshes, remarks):
    world = rest_matrices(skeleton)
    positions = world[skeleton.is_joint, :, 3] if skeleton.is_joint.any() else world[:, :, 3]
    if not np.isfinite(world).all() or np.abs(world).max() > FAR:
        remarks.refuse(
            "non-finite", f"the rest pose leaves the range of numbers that can be simulated, {FAR:g}", "Look for absurd scales.", "nodes"
        )
        return
    span = float(np.ptp(positions, axis=0).max()) if len(positions) else 0.0
    if span > TALL or 0.0 < span < SMALL:
        hint = "Set “metres per unit” on the Motion page, so that gravity fits."
        remarks.warn("unit", f"the joints span {span:.3g} units; glTF counts in metres", hint, "nodes")
    is_mirrored = np.linalg.det(world[skeleton.is_joint, :, :3]) < 0.0 if skeleton.is_joint.any() else np.zeros(0, bool)
    if is_mirrored.any():
        remarks.note(
            "mirrored", f"{int(is_mirrored.sum())} joints are mirrored (negative scale)", "They are simulated as they look.", "nodes"
        )
