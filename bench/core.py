"""Rows of the core: chains, skinning, opening a file, soft solids."""

import types
from dataclasses import replace
from itertools import count

import numpy as np
import pygltflib
from numba import njit
from numba.extending import register_jitable

from bench.characters import mudwick_without_flesh
from bench.rows import against, colours_of, row, seconds
from quiver.bake.joints import Track
from quiver.bodies import lattice, volume
from quiver.demo.building import Builder, Part
from quiver.formats.gltf.reading import read_character
from quiver.kernels import chains as kernel
from quiver.kernels import skinning, tets
from quiver.kernels.chain_rows import PARAMS, SCRATCH
from quiver.kernels.contacts import FRAME
from quiver.kernels.lanes import LANES
from quiver.rig.skinning import rows_of, skin
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.results import Results
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.sim import solid
from quiver.sim.model import ChainPhysics, chain_model
from quiver.sim.obstacles import frame_rows, shape_rows, standing
from quiver.sim.state import ChainState
from quiver.sim.step import NO_SURFACE_CONTACTS, advance, contact_distance_rows, motion_rows
from quiver.threads import CORES
from tests.solids import box_surface

CHAINS, SEGMENTS, SUBSTEPS, FRAME_RATE = 1000, 8, 10, 24.0
FEW = 4
"""Chains that the loop over single joints is timed with; it does one after another, so its time grows with their number."""


def rows():
    yield from chain_rows()
    yield from skin_rows()
    yield open_row()
    yield from solid_rows()


class ChainScene:
    """Chains that swing sideways through four spheres, every rule switched on; one frame of keyed motion."""

    def __init__(self, count):
        dt = 1.0 / (FRAME_RATE * SUBSTEPS)
        n, one = SEGMENTS, np.ones(SEGMENTS)
        gravity = np.tile([0.0, -9.81, 0.0], (n, 1))
        chain = ChainPhysics(one, 400.0 * one, 1e-6 * one, 0.995 * one, 0.999 * one, gravity, 0.9 * one, 60.0, 0.05)
        self.model = chain_model([chain] * count, dt, True)
        self.state = ChainState(self.model)
        rest = np.zeros((count, n + 1, 3))
        rest[:, :, 1] = -0.05 * np.arange(n + 1)
        rest[:, :, 0] = 0.2 * np.arange(count)[:, None]
        shift = 0.02 * np.sin(np.linspace(0.0, 1.5, SUBSTEPS + 1))[:, None, None, None] * np.array([1.0, 0.0, 0.5])
        points = rest + shift
        axes = np.zeros((SUBSTEPS, count, n, 2, 3))
        axes[..., 0, 1] = 1.0
        self.motion, self.axes = motion_rows(self.model, points[1:], points[0], axes)
        balls = np.array([[0.03, -0.2, 0.0, 0.04], [0.2, -0.3, 0.02, 0.05], [0.6, 0, 0, 0.03], [4, -0.1, 0, 0.1]])
        frames = frame_rows(np.repeat(standing(balls[:, :3])[None], SUBSTEPS + 1, 0))
        shapes = shape_rows(np.zeros((len(balls), 4)), np.zeros(len(balls)), np.zeros(len(balls)))
        self.reaches = np.broadcast_to(balls[:, 3][None, :, None, None] + 0.01, (count, len(balls), n, 2))
        self.obstacles = frames.reshape(-1, FRAME).astype(np.float32), shapes.astype(np.float32)

    def ours(self):
        advance(self.model, self.state, self.motion, self.axes, self.colliders, SUBSTEPS)

    @property
    def colliders(self):
        return (*self.obstacles, contact_distance_rows(self.model, self.reaches))

    def plain(self, width):
        """The same rules in NumPy, ``width`` chains at a time, on one thread."""
        chains, n = len(self.model.counts), SEGMENTS
        blocks = chains // width

        def wide(rows, per_block, steps):
            lanes = rows.reshape(steps, self.model.blocks, per_block, LANES).transpose(0, 2, 1, 3).reshape(steps, per_block, -1)
            cut = lanes[:, :, : blocks * width].reshape(steps, per_block, blocks, width).transpose(0, 2, 1, 3)
            return np.ascontiguousarray(cut).reshape(-1, width)

        arrays = [wide(self.state.rows, 6 * n, 1), wide(self.model.params, PARAMS * n, 1)]
        arrays += [wide(self.motion, 6 * n + 6, SUBSTEPS), wide(self.axes, 6 * n, SUBSTEPS)]
        arrays.append(self.model.tree.forks)
        arrays.append((*self.obstacles, wide(self.colliders[2], 2 * n * len(self.obstacles[1]), 1)))
        room = np.zeros((SCRATCH * n, width), np.float32), np.zeros((blocks * 3 * n, width), np.float32)
        return lambda: kernel.advance(
            0, blocks, SUBSTEPS, n, np.float32(self.model.dt), *arrays, NO_SURFACE_CONTACTS, True, SUBSTEPS, *room
        )


def chain_rows():
    scene = ChainScene(CHAINS)
    ours, across = against(scene.ours, scene.plain(CHAINS), rounds=5, ours_per_round=9)
    what = f"{CHAINS} chains of {SEGMENTS} joints, 4 balls, bend limits, blocked axes, {SUBSTEPS} substeps"
    yield row("chains_1000x8", ours * 1e3, across * 1e3, "ms a frame", f"{what}; baseline: the same rules in NumPy across the chains")
    single = seconds(ChainScene(FEW).plain(1)) * CHAINS / FEW
    note = f"baseline: a NumPy loop over single joints, timed on {FEW} chains"
    yield row("chains_1000x8_per_joint", ours * 1e3, single * 1e3, "ms a frame", note)


def skin_rows(vertices=100_000, joints=60):
    rng = np.random.default_rng(1)
    positions = rng.normal(size=(vertices, 3)).astype(np.float32)
    slots = rng.integers(0, joints, (vertices, 4)).astype(np.int32)
    weights = rng.random((vertices, 4)).astype(np.float32)
    weights /= weights.sum(1, keepdims=True)
    matrices = rng.normal(size=(joints, 3, 4)).astype(np.float32)
    duals = rng.normal(size=(joints, 8)).astype(np.float32)
    duals /= np.linalg.norm(duals[:, :4], axis=1, keepdims=True)
    stretches = np.tile(np.eye(3, dtype=np.float32), (joints, 1, 1))

    def gather():
        blended = np.einsum("vi,vijk->vjk", weights, matrices[slots])
        return np.einsum("vjk,vk->vj", blended[:, :, :3], positions) + blended[:, :, 3]

    def gather_duals():
        near = duals[slots]
        side = np.einsum("vk,vik->vi", near[:, 0, :4], near[:, :, :4])
        blended = np.einsum("vi,vik->vk", np.where(side < 0.0, -weights, weights), near)
        blended /= np.linalg.norm(blended[:, :4], axis=1, keepdims=True)
        v, w, dv, dw = blended[:, :3], blended[:, 3:4], blended[:, 4:7], blended[:, 7:]
        placed = np.einsum("vi,vijk,vk->vj", weights, stretches[slots], positions)
        turned = placed + 2.0 * np.cross(v, np.cross(v, placed) + w * placed)
        return turned + 2.0 * (w * dv - dw * v + np.cross(v, dv))

    def linear():
        return skin(skinning.skin_linear, positions, slots, weights, rows_of(matrices))

    def dual():
        return skin(skinning.skin_dual_quaternion, positions, slots, weights, rows_of(duals), rows_of(stretches))

    np.testing.assert_allclose(linear(), gather(), atol=1e-4)
    np.testing.assert_allclose(dual(), gather_duals(), atol=1e-2)
    note = f"{vertices} vertices, 4 influences, {joints} joints; baseline: a NumPy gather"
    mine, other = against(linear, gather)
    yield row("skin_linear_100k", mine * 1e3, other * 1e3, "ms", note)
    mine, other = against(dual, gather_duals, rounds=5)
    yield row("skin_dual_quaternion_100k", mine * 1e3, other * 1e3, "ms", note)


def open_row():
    data = big_file()

    def library():
        """Another reader, up to the numbers: it parses the file and unpacks its accessors one by one."""
        document = pygltflib.GLTF2.load_from_bytes(data)
        blob = document.binary_blob()
        for accessor in document.accessors:
            view = document.bufferViews[accessor.bufferView]
            np.frombuffer(blob, np.uint8, view.byteLength, view.byteOffset)

    ours, other = against(lambda: read_character(data, "big"), library, rounds=3, ours_per_round=3)
    what = f"50k vertices, 60 joints, 10 clips, {len(data) / 2**20:.1f} MB"
    return row("glb_open_50k", ours, other, "s", f"{what}, read and checked; baseline: pygltflib, its bytes only cut into accessors")


def big_file(vertices=50_000, joints=60, clips=10):
    """A made-up GLB of that size: a tube along a row of joints that sways in every clip."""
    step, around = 0.05, 50
    builder = Builder("big", {f"joint_{k}": (f"joint_{k - 1}" if k else None, (0.0, 0.0, step * k)) for k in range(joints)})
    rings = vertices // around
    angle, along = np.meshgrid(np.linspace(0, 2 * np.pi, around, endpoint=False), np.linspace(0, step * (joints - 1), rings))
    outwards = np.stack([np.cos(angle), np.sin(angle), 0 * angle], -1).reshape(-1, 3)
    positions = 0.1 * outwards + np.stack([0 * along, 0 * along, along], -1).reshape(-1, 3)
    ring, side = (grid.ravel() for grid in np.meshgrid(np.arange(rings - 1), np.arange(around), indexing="ij"))
    a, b, c, d = ((ring + up) * around + (side + on) % around for up, on in ((0, 0), (0, 1), (1, 1), (1, 0)))
    triangles = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    weights = np.exp(-(((along.reshape(-1, 1) - step * np.arange(joints)) / step) ** 2))
    builder.add_mesh("tube", [Part(positions, triangles, outwards, np.full_like(positions, 200.0), weights)], 0.8)
    times = np.arange(121) / FRAME_RATE
    half = 0.1 * np.sin(times)
    turn = np.stack([0 * times, np.sin(half), 0 * times, np.cos(half)], 1)
    for clip in range(clips):
        builder.add_clip(f"clip {clip}", [Track(joint, "rotation", times, turn) for joint in range(joints)])
    return builder.glb()


def solid_rows():
    """Soft solids: the kernel, a frame, building, and the demo as a whole."""
    for wanted in (50_000, 10_000):
        made, body = bar(wanted)
        run = SolidRun(made, body)
        plain = PlainSolid(run)
        each = SUBSTEPS * len(made.tets)
        mine, other = against(run.frame, plain.scalar, rounds=5)
        what = f"{len(made.tets)} tetrahedra, {SUBSTEPS} substeps, {CORES} threads"
        if wanted == 50_000:
            note = f"{what}; baseline: the tetrahedra of one substep by the same formula in plain Numba, one after another"
            yield row("tets_50k_ns", mine / each * 1e9, other / len(made.tets) * 1e9, "ns a solve", note)
            mine, other = against(run.frame, plain.by_colour, rounds=3)
            note = f"{what}; baseline: the same in NumPy, colour by colour ({len(plain.colours)} colours)"
            yield row("tets_50k_numpy", mine / each * 1e9, other / len(made.tets) * 1e9, "ns a solve", note)
        else:
            note = f"{what}; baseline: the tetrahedra alone by the same formula in plain Numba, one after another"
            yield row("tets_10k_frame_ms", mine * 1e3, other * SUBSTEPS * 1e3, "ms a frame", note)
    yield _lattice_row()
    yield _mudwick_row()
    yield _one_dial_row()


def bar(tets):
    edge = (12 * 0.55 / tets) ** (1 / 3)
    positions, triangles = box_surface((1.0, 0.75, 0.75), (40, 30, 30))
    made = lattice.build(positions, triangles, np.ones(len(positions), bool), edge)
    return made, volume.build(made, (made.nodes[:, 0] < edge).astype(float), 0.6, 1.0)


class SolidRun:
    """A hanging block of flesh, and one frame of it."""

    def __init__(self, made, body):
        self.made, self.body = made, body
        self.model = self.modelled()
        self.state = solid.SolidState(made.nodes)
        self.targets = np.repeat(made.nodes[None], SUBSTEPS, 0)

    def modelled(self, **options):
        """Its model, or one like it."""
        dt = 1.0 / (SUBSTEPS * FRAME_RATE)
        young = volume.young_for(self.body, self.made.edge, (2.0 * np.pi * 2.0) ** 2, dt)
        return solid.solid_model(self.body, self.made.tets, young, dt, damping_factor=0.99, gravity=(0.0, -9.81, 0.0), **options)

    def frame(self):
        solid.advance(self.model, self.state, self.targets, self.made.nodes)


class PlainSolid:
    """The tetrahedra of a SolidRun, one substep of them, by the kernel's own formula in two plain ways."""

    def __init__(self, run):
        count = len(run.made.nodes)
        # Where each tetrahedron is packed is told by a model that rests where it is keyed.
        corners, rows, *_ = run.modelled(settles=True).settled
        corners = corners.reshape(len(rows), 4, LANES)
        slots, lanes = np.nonzero(corners[:, 0] < count)
        tets_of, goals = corners[slots, :, lanes], rows[slots]
        self.points = np.zeros((4 * solid.row_count(count), 4), np.float32)
        self.points[:count, 3] = run.model.inverse_masses
        _, _, packed, kinds, table, *_ = run.model.tets
        edges = (run.made.nodes[tets_of[:, 1:]] - run.made.nodes[tets_of[:, :1]]).reshape(-1, 9)
        params = np.column_stack([edges, packed[goals, lanes]]).astype(np.float32)
        matrices = table.reshape(-1, tets.MATRICES, LANES)[kinds[slots], :, lanes]
        # Each tetrahedron is a fan of its own.
        numbers = np.arange(len(tets_of), dtype=np.int32)
        alone = np.stack([np.ones_like(numbers), 4 * numbers, params.shape[1] * numbers, numbers], 1)
        self.lone = alone, tets_of.reshape(-1, 1), params.reshape(-1, 1), numbers, matrices.reshape(-1, 1)
        self.colours = [
            (alone[:1], *(np.ascontiguousarray(values[own].T) for values in (tets_of, params)), [0], np.ascontiguousarray(matrices[own].T))
            for own in colours_of(tets_of, count)
        ]
        self.none = np.zeros((0, LANES), np.float32)

    def scalar(self):
        scalar_solve(0, len(self.lone[0]), False, self.points, *self.lone, np.zeros((0, 1), np.float32))

    def by_colour(self):
        for scene in self.colours:
            tets.solve_fans.py_func(0, 1, False, self.points, *scene, self.none)


def _scalar_solve():
    """The kernel's formula compiled for single numbers: its source, with plain forms of what it is written with."""
    words = {
        "load": lambda array, row: array[row, 0],
        "fused": lambda left, right, more: left * right + more,
        "larger": lambda left, right: max(left, np.float32(right)),
        "gather": lambda points, indices, row: points[indices[row, 0]],
        "scatter": _scatter_one,
    }
    scope = vars(tets) | {name: register_jitable(word) for name, word in words.items()}
    for name in ("combined", "crossed", "dotted"):
        scope[name] = register_jitable(types.FunctionType(getattr(tets, name).__code__, scope))
    return njit(error_model="numpy")(types.FunctionType(tets.solve_fans.py_func.__code__, scope))


def _scatter_one(points, indices, row, x, y, z, w):
    point = points[indices[row, 0]]
    point[0], point[1], point[2], point[3] = x, y, z, w


scalar_solve = _scalar_solve()


def _lattice_row():
    positions, triangles = box_surface((1.0, 0.75, 0.75), (40, 30, 30))
    everything, edge = np.ones(len(positions), bool), (12 * 0.55 / 20_000) ** (1 / 3)
    count = len(lattice.build(positions, triangles, everything, edge).tets)
    finer = edge / 2 ** (1 / 3)
    mine, other = against(
        lambda: lattice.build(positions, triangles, everything, edge),
        lambda: lattice.build(positions, triangles, everything, finer),
        rounds=3,
    )
    return row("lattice_20k_s", mine, other, "s", f"{count} tetrahedra built; baseline: twice as many")


def _mudwick_row():
    character, setup = mudwick_without_flesh()
    setup = replace(setup, layers=tuple(layer for layer in setup.layers if layer.kind != "sheet"), colliders=())
    spec = TakeSpec(character, setup, "hop and land")
    frames = compile_plan(spec).last_frame + 1
    mine, _ = against(lambda: list(execute(compile_plan(spec))), lambda: None, rounds=3, ours_per_round=1)
    note = f"Mudwick, hop and land, {frames} frames with pre-roll, belly, pouch and chains; baseline: as long as it plays"
    return row("mudwick_take_x_realtime", mine, frames / FRAME_RATE, "s", note)


def _one_dial_row():
    """Only what a change reaches is simulated again: all that Mudwick carries, after a dial of his tail."""
    character, setup = mudwick_without_flesh()
    results, value = Results(), setup.layer("tail").value("settle_time")

    def take(kept, change):
        return list(
            execute(compile_plan(TakeSpec(character, edits.set_dial(setup, ["tail"], "settle_time", change), "hop and land")), kept)
        )

    take(results, value)
    changes = count(1)
    mine, whole = against(lambda: take(results, value + next(changes)), lambda: take(None, value), rounds=5, ours_per_round=1)
    note = "Mudwick, hop and land, all that he carries: a take after a new dial of the tail; baseline: the take from nothing"
    made = row("one_dial_share", mine, whole, "of a take", note)
    return replace(made, ours=float(f"{mine / whole:.4g}"), baseline=1.0)
