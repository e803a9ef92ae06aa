"""Adding to a glTF document without touching what is there."""

import numpy as np

from quiver.formats.gltf.accessors import ARRAY_TARGET, append_accessor, read_accessor
from quiver.formats.gltf.meshes import WEIGHT_SLACK


def add_clip(document, name, tracks, skeleton, kept_from=()):
    """Add a clip as a new animation. ``tracks`` are baked Tracks (node, path, times [s], values); one LINEAR sampler each.

    ``kept_from`` names animations of the document whose other channels go along untouched (they share the old data).
    Nodes placed by a matrix are re-written as translation, rotation and scale, as the standard asks of animated nodes.
    """
    samplers, channels, inputs = [], [], {}
    baked = {(track.node, track.path) for track in tracks}
    for index in kept_from:
        animation = document.tree["animations"][index]
        for channel in animation["channels"]:
            if (channel["target"].get("node"), channel["target"]["path"]) not in baked:
                samplers.append(dict(animation["samplers"][channel["sampler"]]))
                channels.append({**channel, "sampler": len(samplers) - 1})
    for track in tracks:
        times = np.asarray(track.times, np.float32)
        key = times.tobytes()
        if key not in inputs:
            inputs[key] = append_accessor(document, times[:, None], "SCALAR", bounds=True)
        kind = "VEC4" if track.path == "rotation" else "VEC3"
        values = append_accessor(document, np.asarray(track.values, np.float32), kind)
        samplers.append({"input": inputs[key], "output": values, "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": {"node": int(track.node), "path": track.path}})
        _place_by_parts(document.tree["nodes"][track.node], track.node, skeleton)
    document.tree.setdefault("animations", []).append({"name": name, "samplers": samplers, "channels": channels})


def _place_by_parts(node, index, skeleton):
    if node.pop("matrix", None) is None:
        return
    node["translation"] = skeleton.rest.translations[index].tolist()
    node["rotation"] = skeleton.rest.rotations[index].tolist()
    node["scale"] = skeleton.rest.scales[index].tolist()


def repair_weights(document):
    """Replace skin weights that do not add up to one by scaled ones; returns how many primitives were changed."""
    changed = 0
    for mesh in document.items("meshes"):
        for primitive in mesh.get("primitives", []):
            attributes = primitive.get("attributes", {})
            keys = [key for key in attributes if key.startswith("WEIGHTS_")]
            if not keys:
                continue
            sets = [read_accessor(document, attributes[key], key, (4,)).astype(np.float64) for key in keys]
            sums = sum(weights.sum(1) for weights in sets)
            if (np.abs(sums - 1.0) <= WEIGHT_SLACK).all():
                continue
            sets[0][sums <= 1e-6, 0] = 1.0
            sums = np.where(sums <= 1e-6, 1.0, sums)
            for key, weights in zip(keys, sets, strict=True):
                scaled = (weights / sums[:, None]).astype(np.float32)
                attributes[key] = append_accessor(document, scaled, "VEC4", target=ARRAY_TARGET)
            changed += 1
    return changed
