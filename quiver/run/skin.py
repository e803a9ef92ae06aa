"""The vertices that a run moves."""

import numpy as np


class MovedSkin:
    """The vertices that a run moves, of all meshes in one row: ``vertices`` {mesh index: sorted vertices}, R in all."""

    def __init__(self, parts):
        """``parts`` are pairs of a mesh index and vertices."""
        found = {}
        for mesh, vertices in parts:
            found[mesh] = np.union1d(found.get(mesh, np.zeros(0, int)), vertices)
        self.vertices = dict(sorted(found.items()))
        ends = np.cumsum([0, *map(len, self.vertices.values())])
        self.count = int(ends[-1])
        self._spans = {mesh: slice(*ends[k : k + 2]) for k, mesh in enumerate(self.vertices)}

    def of_mesh(self, mesh, offsets):
        """The part of offsets (F, R, 3) that is a mesh's, in the order of its vertices."""
        return offsets[:, self._spans[mesh]]

    def columns(self, parts):
        """Where in offsets (F, R, 3) vertices {mesh index: vertices} are."""
        found = [self._spans[mesh].start + np.searchsorted(self.vertices[mesh], vertices) for mesh, vertices in parts.items()]
        return np.concatenate([np.zeros(0, int), *found])

    def of(self, mesh, vertices, offsets):
        """The offsets (F, n, 3) of some vertices of a mesh, zero where the run moves them not."""
        moved, out = self.vertices[mesh], np.zeros((len(offsets), len(vertices), 3), np.float32)
        known = np.flatnonzero(np.isin(vertices, moved))
        out[:, known] = self.of_mesh(mesh, offsets)[:, np.searchsorted(moved, vertices[known])]
        return out

    def add(self, offsets, mesh, vertices, moves):
        """Add moves (F, n, 3) of some vertices of a mesh to offsets (F, R, 3), in place."""
        self.of_mesh(mesh, offsets)[:, np.searchsorted(self.vertices[mesh], vertices)] += moves.astype(np.float32)
