"""A character: skeleton, skinned meshes, clips."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from quiver.digests import digest_of
from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.rig.clip import Clip
from quiver.rig.skeleton import Skeleton


@dataclass(frozen=True)
class Mesh:
    """One primitive of a mesh at one node. V vertices, F triangles, I influences (a multiple of 4; 0 for an unskinned mesh).

    positions float32 (V, 3); triangles int32 (F, 3); colours uint8 (V, 3) or None
    joints    int32 (V, I) nodes; weights float32 (V, I), each row sums to 1
    skin      index of the skin, or -1; bind_nodes (B,) and inverse_binds float64 (B, 3, 4) belong to it
    primitive which primitive of its node's mesh it is in the file, -1 where the file does not have it
    """

    name: str
    node: int
    positions: np.ndarray
    triangles: np.ndarray
    colours: np.ndarray | None = None
    joints: np.ndarray | None = None
    weights: np.ndarray | None = None
    skin: int = -1
    bind_nodes: np.ndarray | None = None
    inverse_binds: np.ndarray | None = None
    primitive: int = 0

    @property
    def heaviest(self):
        """The node that moves each vertex most (V,)."""
        if self.skin < 0:
            return np.full(len(self.positions), self.node, np.int32)
        return self.joints[np.arange(len(self.positions)), self.weights.argmax(1)]

    @property
    def carriers(self):
        """The nodes that move it, rising, as plain numbers."""
        return [self.node] if self.skin < 0 else [int(node) for node in np.unique(self.joints[self.weights > 0.0])]


@dataclass(frozen=True)
class Character:
    """What a file brings: ``findings`` are the remarks made while it was read."""

    name: str
    skeleton: Skeleton
    meshes: tuple
    clips: tuple
    findings: tuple = field(default=())

    def clip(self, name):
        """The clip of that name. Raises BadInput, listing the names there are."""
        return self.clips[_place_of(name, self.clips, "clips")]

    @cached_property
    def digest(self):
        """Stands for the skeleton, the meshes and the clips: what motion depends on."""
        return digest_of(self.skeleton, self.meshes, self.clips)

    @property
    def vertex_count(self):
        return sum(len(mesh.positions) for mesh in self.meshes)

    @property
    def joint_count(self):
        return int(self.skeleton.is_joint.sum())

    def mesh(self, name):
        """The first mesh of that name. Raises BadInput, listing the names there are."""
        return self.meshes[self.mesh_index(name)]

    def mesh_index(self, name):
        """Its place among the meshes. Raises BadInput likewise."""
        return _place_of(name, self.meshes, "meshes")

    def painted(self, region):
        """The mesh that a region belongs to and the region's levels. Raises BadInput where they do not fit, or the region is empty."""
        mesh = self.mesh(region.mesh)
        levels = regions.decode(region.values, len(mesh.positions))
        if not regions.is_in(levels).any():
            raise BadInput(f"expected a region with vertices in it, “{region.name}” is empty")
        return mesh, levels

    def clip_or_still(self, name):
        """The named clip; with no name, one frame of the rest pose."""
        return self.clip(name) if name else Clip("", (), 0.0, 0.0)


def _place_of(name, items, what):
    for place, item in enumerate(items):
        if item.name == name:
            return place
    known = ", ".join(f"“{item.name}”" for item in items) or "none"
    raise BadInput(f"expected one of the {what} {known}, got “{name}”")
