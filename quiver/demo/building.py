"""Puts a generated character together as a GLB."""

from dataclasses import dataclass

import numpy as np

from quiver.formats.gltf import container, writing
from quiver.formats.gltf.accessors import ARRAY_TARGET, INDEX_TARGET, append_accessor
from quiver.rig import transforms
from quiver.rig.pose import Pose
from quiver.rig.skeleton import Skeleton, parents_first


@dataclass(frozen=True)
class Part:
    """A piece of mesh: vertices (V, 3), triangles (F, 3), normals (V, 3), colours (V, 3) 0..255, weights (V, J) any sum."""

    vertices: np.ndarray
    triangles: np.ndarray
    normals: np.ndarray
    colours: np.ndarray
    weights: np.ndarray


def ramp(values, stops):
    """Colours (V, 3) of values (V,) along stops of (value, colour)."""
    positions = [stop[0] for stop in stops]
    return np.stack([np.interp(values, positions, [stop[1][channel] for stop in stops]) for channel in range(3)], 1)


def mirrored(point, side):
    """A place on the side 1 or -1."""
    return (point[0] * side, *point[1:])


def noise(points, scale, seed):
    """Smooth noise 0..1 from a few crossed waves."""
    rng = np.random.default_rng(seed)
    total = np.zeros(len(points))
    for _ in range(7):
        direction = rng.normal(size=3)
        direction /= np.linalg.norm(direction)
        total += np.sin(points @ direction * scale * rng.uniform(0.7, 1.6) + rng.uniform(0, 6.28))
    return 0.5 + 0.5 * total / 7 * 1.6


def softest(builder, points, solids, softness):
    """Weights (V, J): each joint's share falls off with the distance to its solid."""
    closeness = {}
    for name, solid in solids:
        value = np.exp(-np.clip(solid.distance(points), -0.5, 0.5) / softness)
        closeness[name] = closeness.get(name, 0.0) + value
    weights = np.zeros((len(points), len(builder.names)))
    for name, value in closeness.items():
        weights[:, builder.index(name)] = value
    return weights


def line_weights(builder, along, names):
    """Weights (V, J) of vertices at knot parameters ``along``: knot k belongs to joint k, smooth between."""
    weights = np.zeros((len(along), len(builder.names)))
    at = np.clip(along - 0.35, 0.0, len(names) - 1.0)
    for k, name in enumerate(names):
        hat = np.clip(1.0 - np.abs(at - k), 0.0, 1.0)
        weights[:, builder.index(name)] += hat * hat * (3.0 - 2.0 * hat)
    return weights


class Builder:
    """Collects joints (name → parent, place), meshes and clips. Joints are axis-aligned in the rest pose."""

    def __init__(self, name, joints):
        self.name, self.names = name, list(joints)
        self._document = container.Document({"asset": {"version": "2.0", "generator": "Keen Quiver"}, "scene": 0})
        positions = np.array([place for _, place in joints.values()], float)
        parents = np.array([self.index(parent) if parent else -1 for parent, _ in joints.values()], np.int32)
        local = positions - np.where(parents[:, None] >= 0, positions[parents], 0.0)
        rest = Pose(local, np.tile(transforms.IDENTITY, (len(local), 1)), np.ones_like(local))
        self.positions = positions
        self.skeleton = Skeleton(tuple(self.names), parents, parents_first(parents), np.ones(len(local), bool), rest)
        nodes = [{"name": joint, "translation": local[k].tolist()} for k, joint in enumerate(self.names)]
        for k, children in enumerate(self.skeleton.children):
            if children:
                nodes[k]["children"] = children
        tree = self._document.tree
        tree.update(nodes=nodes, meshes=[], materials=[], skins=[], scenes=[{"name": name, "nodes": [0]}])
        binds = np.tile(np.eye(4), (len(local), 1, 1))
        binds[:, :3, 3] = -positions
        accessor = append_accessor(self._document, binds.transpose(0, 2, 1).reshape(-1, 16).astype(np.float32), "MAT4")
        tree["skins"].append({"name": name, "joints": list(range(len(local))), "skeleton": 0, "inverseBindMatrices": accessor})

    def index(self, joint):
        return self.names.index(joint)

    def whole(self, joint, count):
        """Weights (count, J) of vertices that one joint moves alone."""
        weights = np.zeros((count, len(self.names)))
        weights[:, self.index(joint)] = 1.0
        return weights

    def add_mesh(self, name, parts, roughness, metallic=0.0, two_sided=False):
        """Add one skinned mesh of several parts, with vertex colours and the four strongest weights of each vertex."""
        starts = np.cumsum([0, *(len(part.vertices) for part in parts[:-1])])
        vertices, normals, colours, weights = (
            np.concatenate([getattr(part, field) for part in parts]) for field in ("vertices", "normals", "colours", "weights")
        )
        triangles = np.concatenate([part.triangles + start for part, start in zip(parts, starts, strict=True)])
        strongest = np.argsort(-weights, axis=1)[:, :4]
        main_weights = np.take_along_axis(weights, strongest, 1)
        main_weights = np.where(main_weights < 0.01 * main_weights.sum(1, keepdims=True), 0.0, main_weights)
        main_weights = (main_weights / main_weights.sum(1, keepdims=True)).astype(np.float32)
        normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
        # glTF's vertex colours are linear light.
        linear = (np.clip(colours, 0, 255) / 255.0) ** 2.2
        rgba = np.concatenate([np.round(linear * 65535), np.full((len(linear), 1), 65535)], 1).astype(np.uint16)
        document, tree = self._document, self._document.tree

        def add(values, kind, **options):
            return append_accessor(document, values, kind, target=ARRAY_TARGET, **options)

        attributes = {
            "POSITION": add(vertices.astype(np.float32), "VEC3", bounds=True),
            "NORMAL": add(normals.astype(np.float32), "VEC3"),
            "COLOR_0": add(rgba, "VEC4"),
            "JOINTS_0": add(np.where(main_weights > 0, strongest, 0).astype(np.uint16), "VEC4"),
            "WEIGHTS_0": add(main_weights, "VEC4"),
        }
        tree["accessors"][attributes["COLOR_0"]]["normalized"] = True
        indices = append_accessor(document, triangles.reshape(-1, 1).astype(np.uint32), "SCALAR", target=INDEX_TARGET)
        surface = {"baseColorFactor": [1, 1, 1, 1], "metallicFactor": metallic, "roughnessFactor": roughness}
        tree["materials"].append({"name": name, "pbrMetallicRoughness": surface, "doubleSided": two_sided})
        primitive = {"attributes": attributes, "indices": indices, "material": len(tree["materials"]) - 1}
        tree["meshes"].append({"name": name, "primitives": [primitive]})
        tree["nodes"].append({"name": f"{name} mesh", "mesh": len(tree["meshes"]) - 1, "skin": 0})
        tree["scenes"][0]["nodes"].append(len(tree["nodes"]) - 1)

    def add_clip(self, name, tracks):
        """Add a clip of tracks (quiver.bake.joints.Track)."""
        writing.add_clip(self._document, name, tracks, self.skeleton)

    def glb(self):
        return container.write_glb(self._document)
