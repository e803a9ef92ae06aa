"""Solids that the tests are made of."""

import itertools
from unittest import mock

import numpy as np

from quiver.bodies import lattice, volume
from quiver.kernels import soft, tets
from quiver.sim import solid

FRAME_RATE = 24.0
STEPS = (
    *("begin", "move", "predict_rows", "finish_rows", "solve_fans", "solve_length_limits"),
    *(
        "settle",
        "stiffen",
        "keep_volumes",
        "measure_fans",
        "measure_ways",
        "push_held",
        "push_surface_contacts",
        "push_surface_contact_lanes",
        "push_pairs",
        "push_apart",
    ),
)


def plain_steps():
    """A context in which the kernel of soft bodies calls the plain copies of all that it is made of."""
    return mock.patch.multiple(soft, **{name: getattr(soft, name).py_func for name in STEPS})


def box_surface(size, cells):
    """A closed box from the origin to ``size``, each side cut into squares of two triangles: (positions, triangles)."""
    positions, triangles = [], []
    for axis, side in itertools.product(range(3), (0, 1)):
        u, v = [k for k in range(3) if k != axis]
        grid = np.meshgrid(np.linspace(0, size[u], cells[u] + 1), np.linspace(0, size[v], cells[v] + 1), indexing="ij")
        points = np.zeros((grid[0].size, 3))
        points[:, u], points[:, v], points[:, axis] = grid[0].ravel(), grid[1].ravel(), side * size[axis]
        wide = cells[v] + 1
        a = (np.arange(cells[u])[:, None] * wide + np.arange(cells[v])).ravel() + sum(map(len, positions))
        quads = [(a, a + wide, a + wide + 1), (a, a + wide + 1, a + 1)]
        outwards = bool(side) == (axis != 1)
        triangles += [np.stack(quad if outwards else quad[::-1], 1) for quad in quads]
        positions.append(points)
    return np.concatenate(positions), np.concatenate(triangles)


def ball_surface(radius, times):
    """A closed ball about the origin: an octahedron whose triangles are cut into four so many times and more, (positions, triangles)."""
    positions = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], float)
    triangles = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]])
    for _ in range(times + 1):
        a, b, c = (positions[triangles[:, k]] for k in range(3))
        corners = np.stack([a, b, c, a + b, b + c, c + a], axis=1)
        positions = (corners / np.linalg.norm(corners, axis=2, keepdims=True)).reshape(-1, 3)
        first = 6 * np.arange(len(triangles))[:, None, None]
        triangles = (first + np.array([[0, 3, 5], [3, 1, 4], [5, 4, 2], [3, 4, 5]])).reshape(-1, 3)
        positions, numbers = np.unique(positions.round(9), axis=0, return_inverse=True)
        triangles = numbers.reshape(-1)[triangles]
    return radius * positions, triangles


def bar(edge, length=1.0, thick=0.2, held=lambda nodes: nodes[:, 0] < 0.05, volume_keep=0.6, firmness=1.0):
    """A bar along x as (Lattice, VolumeBody), fixed where ``held`` says."""
    positions, triangles = box_surface((length, thick, thick), (20, 4, 4))
    made = lattice.build(positions, triangles, np.ones(len(positions), bool), edge)
    return made, volume.build(made, held(made.nodes).astype(float), volume_keep, firmness)


def filled_bar(cells, size, held, volume_keep):
    """A box of just that size, cut into ``cells`` (x, y, z) of six tetrahedra each, as (Lattice, VolumeBody)."""
    wide = np.array(cells) + 1
    nodes = np.stack(np.meshgrid(*(np.linspace(0.0, s, n) for s, n in zip(size, wide, strict=True)), indexing="ij"), -1).reshape(-1, 3)
    low = np.stack(np.meshgrid(*map(np.arange, cells), indexing="ij"), -1).reshape(-1, 3)
    tets = []
    for order in itertools.permutations(range(3)):
        # From the low corner to the high one along the three axes, in each order.
        corners = np.cumsum([np.zeros(3, int), *np.eye(3, dtype=int)[list(order)]], axis=0)
        tets.append(np.ravel_multi_index(np.moveaxis(low[:, None] + corners, -1, 0), wide))
    nodes, tets, *_ = lattice.ordered(nodes, np.concatenate(tets).astype(np.int32))
    nobody = np.zeros(len(nodes), bool)
    made = lattice.Lattice(nodes, tets, nobody, *np.zeros((4, 0), int), np.zeros(len(nodes), int), size[1] / cells[1])
    return made, volume.build(made, held(nodes).astype(float), volume_keep, 1.0)


def rest_in(model, positions):
    """Make positions (N, 3) [m] the ones at which each tetrahedron of a SolidModel rests, as `advance` does where it ``settles``."""
    _, _, params, _, _, prestress, _ = model.tets
    near = solid.wide(len(positions)).reshape(-1, 4)
    near[: len(positions), :3] = positions - positions[0]
    tets.settle(
        0,
        len(model.settled[1]),
        near,
        model.settled,
        model.body.ratios(1),
        float(model.pressure),
        np.ones(1),
        np.zeros(1),
        params,
        prestress,
    )


class Run:
    """Advances a body whose keyed positions stand still; remembers displacements (frames, N, 3)."""

    def __init__(self, made, body, young, substeps=10, **options):
        self.made, self.body, self.substeps = made, body, substeps
        self.model = solid.solid_model(body, made.tets, young, 1.0 / (FRAME_RATE * substeps), **options)
        self.state = solid.SolidState(made.nodes)
        self.targets = np.repeat(made.nodes[None], substeps, 0)

    def frames(self, count):
        out = []
        for _ in range(count):
            solid.advance(self.model, self.state, self.targets, self.made.nodes)
            out.append(self.state.positions - self.made.nodes)
        return np.array(out)

    @property
    def momentum(self):
        return self.body.masses @ self.state.velocities[:, :3].astype(float)

    @property
    def kinetic(self):
        return 0.5 * float(self.body.masses @ np.sum(self.state.velocities[:, :3].astype(float) ** 2, 1))

    @property
    def volume(self):
        corners = self.state.positions[self.made.tets]
        return float(np.linalg.det(corners[:, 1:] - corners[:, :1]).sum() / 6.0)
