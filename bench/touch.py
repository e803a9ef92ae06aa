"""Rows of contact: nearest positions on a mesh, and a sheet that lies on a skin."""

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu
from scipy.spatial import KDTree

from bench.characters import mudwick_without_flesh
from bench.rows import against, row, seconds
from bench.subdivided import subdivided
from quiver.bodies import sheet
from quiver.contact.posed import nearby
from quiver.contact.skins import SkinContacts, Surface
from quiver.contact.softs import Carried
from quiver.mesh.nearest import NearestOn
from quiver.poke import Poke
from quiver.rig.character import Mesh
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.sim import sheet as solver
from quiver.sim import solid
from quiver.sim.packing import surface_contacts_in_lanes

SUBSTEPS, DT = 4, 1.0 / 96.0
FILM_FPS = 24.0
VERTICES = 240_000
SIZES = (2_000, 10_000, 50_000, 100_000)


def rows():
    yield growth_row()
    yield sheet_row(100)
    yield sheet_row(32)
    yield self_contact_row()
    yield mudwick_row()
    yield creature_row()
    yield poke_row()


def globe(triangles):
    """A ball of about so many triangles: points (V, 3), triangles (F, 3)."""
    around = int(np.sqrt(triangles / 2.0))
    turn, rise = np.meshgrid(np.linspace(0, 2 * np.pi, around + 1), np.linspace(0.05, np.pi - 0.05, around + 1), indexing="ij")
    points = np.stack([np.sin(rise) * np.cos(turn), np.cos(rise), np.sin(rise) * np.sin(turn)], -1).reshape(-1, 3)
    a = (np.arange(around)[:, None] * (around + 1) + np.arange(around)).ravel()
    return points, np.concatenate([np.stack([a, a + around + 2, a + 1], 1), np.stack([a, a + around + 1, a + around + 2], 1)])


def growth_row():
    """How the time of building, refitting and asking once for each triangle grows: the exponent of a power of their number."""
    times = []
    for size in SIZES:
        points, triangles = globe(size)
        queries = 1.01 * points[triangles].mean(1)

        def ask(points=points, triangles=triangles, queries=queries):
            tree = NearestOn(points, triangles)
            tree.move(points)
            tree.find(queries, 0.05)

        ask()
        times.append(min(seconds(ask) for _ in range(3)))
    exponent = float(np.polyfit(np.log(SIZES), np.log(times), 1)[0])
    n_log_n = float(np.polyfit(np.log(SIZES), np.log(np.array(SIZES) * np.log(SIZES)), 1)[0])
    note = f"built and asked once for each of {SIZES[0]} to {SIZES[-1]} triangles; baseline: n log n"
    return row("contact_growth_exponent", exponent, n_log_n, "", note)


class SheetScene:
    """A cloth of side x side particles that lies on a ball of 20,000 triangles, which turns."""

    def __init__(self, side):
        self.points, self.triangles = globe(20_000)
        steps = np.linspace(-0.6, 0.6, side)
        x, z = np.meshgrid(steps, steps, indexing="ij")
        nodes = np.stack([x.ravel(), np.sqrt(1.004**2 - x**2 - z**2).ravel(), z.ravel()], 1)
        a = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
        faces = np.concatenate([np.stack([a, a + 1, a + side + 1], 1), np.stack([a, a + side + 1, a + side], 1)])
        self.nodes, self.body = nodes, sheet.build(nodes, faces, np.zeros(len(nodes)), 0.01, 0.025, 3.0)
        self.model = solver.sheet_model(self.body, DT, damping_factor=0.99, gravity=(0.0, -9.81, 0.0))
        self.state, self.targets = solid.SolidState(nodes), np.repeat(nodes[None], SUBSTEPS, 0)
        mesh = Mesh("globe", 0, self.points.astype(np.float32), self.triangles)
        skin = SimpleNamespace(surface=Surface(mesh, np.eye(3, 4)[None], 1.0), margin=0.002, friction=0.4)
        every, whole = np.arange(len(nodes)), np.tile([1.0, 0.0, 0.0, 0.0], (len(nodes), 1))
        order = nearby(nodes)
        self.carried = Carried(np.repeat(every[order, None], 4, 1), whole)
        self.contacts = SkinContacts(skin, nodes[order], 0.002)
        self.contacts.start(np.eye(3, 4)[None])
        self.angle = 0.0
        body, count = self.body, len(nodes)
        (i, j), rows = body.edges.T, np.repeat(np.arange(len(body.hinges)), 4)
        links = np.repeat(np.arange(len(i)), 2), np.stack([i, j], 1).ravel()
        incidence = sparse.csr_matrix((np.tile([1.0, -1.0], len(body.edges)), links))
        spread = sparse.csr_matrix((body.weights.ravel(), (rows, body.hinges.ravel())), (len(body.hinges), count))
        self.bending, self.incidence = (spread.T @ sparse.diags(body.bending) @ spread).tocsr(), incidence
        springs = incidence.T @ sparse.diags(body.stiffness) @ incidence
        self.factor = splu((sparse.diags(body.masses) + DT**2 * (springs + self.bending)).tocsc())

    def turned(self):
        self.angle += 0.01
        c, s = np.cos(self.angle), np.sin(self.angle)
        return np.array([[c, 0.0, -s, 0.0], [0.0, 1.0, 0.0, 0.0], [s, 0.0, c, 0.0]])

    def ours(self):
        self.contacts.ready(self.turned()[None, None], np.array([False]), 1)
        positions, travel = self.carried.look(self.state, np.zeros_like(self.nodes), SUBSTEPS * DT)
        rows, *near = self.contacts.surface_contacts(0, positions, travel, threads=None)
        surface_contacts = surface_contacts_in_lanes(
            (positions[rows], self.carried.corners[rows], self.carried.corner_weights[rows], *near), len(self.nodes)
        )
        touches = (solid.NO_HELD, solid.NO_SURFACE_CONTACTS, surface_contacts, solver.NO_FOLDS)
        solver.advance(self.model, self.state, self.targets, self.nodes, touches=touches)

    def plain(self):
        """The same rules in NumPy and SciPy: its own factor and sparse products, the nearest triangle by a tree of their middles."""
        body, middles = self.body, (self.points @ self.turned()[:, :3].T)[self.triangles].mean(1)
        positions, speeds = self.state.positions.copy(), self.state.velocities[:, :3].astype(float)
        sides = np.cross(*(self.points[self.triangles[:, k]] - self.points[self.triangles[:, 0]] for k in (1, 2)))
        normals = sides / np.maximum(np.linalg.norm(sides, axis=1, keepdims=True), 1e-12)
        _, near = KDTree(middles).query(positions)
        for _ in range(SUBSTEPS):
            ahead = positions + 0.2 * DT * speeds
            ways = self.incidence @ ahead
            lengths = np.linalg.norm(ways, axis=1, keepdims=True)
            tension, along = body.stiffness[:, None] * (1.0 - body.lengths[:, None] / lengths), ways / lengths
            left = DT**2 * (body.masses[:, None] * [0.0, -9.81, 0.0] - self.incidence.T @ (tension * ways) - self.bending @ ahead)
            step, direction, image, before = np.zeros_like(left), 0.0, 0.0, 1.0
            for iteration in range(solver.ITERATIONS):
                answer = self.factor.solve(left)
                moved = self.incidence @ answer
                pull = body.stiffness[:, None] * along * np.sum(along * moved, axis=1, keepdims=True)
                pull += np.maximum(tension, 0.0) * (moved - along * np.sum(along * moved, axis=1, keepdims=True))
                back = body.masses[:, None] * answer + DT**2 * (self.incidence.T @ pull + self.bending @ answer)
                now = float(np.sum(answer * left))
                share = now / before if iteration else 0.0
                direction, image = answer + share * direction, back + share * image
                size = now / float(np.sum(direction * image))
                step, left, before = step + size * direction, left - size * image, now
            moved = positions + DT * speeds + step
            gap = np.einsum("vk,vk->v", moved - middles[near], normals[near]) - 0.004
            push = np.maximum(-gap, 0.0)
            moved = moved + push[:, None] * normals[near]
            slide = moved - positions
            slide -= np.einsum("vk,vk->v", slide, normals[near])[:, None] * normals[near]
            held = np.minimum(0.4 * push / np.maximum(np.linalg.norm(slide, axis=1), 1e-12), 1.0)
            moved -= held[:, None] * slide
            speeds, positions = (moved - positions) / DT, moved


def sheet_row(side):
    """A frame of a cloth on a skin that moves; a large one is shared by two threads."""
    scene = SheetScene(side)
    scene.ours()
    mine, other = against(scene.ours, scene.plain, rounds=3)
    what = f"{len(scene.nodes)} particles, {len(scene.body.edges)} edges, {len(scene.triangles)} triangles of skin, {SUBSTEPS} substeps"
    return row(
        f"sheet_{side * side // 1000}k_frame_ms",
        mine * 1e3,
        other * 1e3,
        "ms a frame",
        f"{what}; baseline: the same rules by SciPy",
    )


def self_contact_row():
    """What it costs to keep Mudwick's belly and the rest of his skin from crossing, against the belly alone."""
    character, setup = mudwick_without_flesh()
    belly = replace(setup, layers=(setup.layer("belly"),), colliders=())
    costs = []
    spec = TakeSpec(character, edits.with_new_skin_contact(belly, "belly"), "walk")
    for _ in range(5):
        for chunk in execute(compile_plan(spec), threads=1):
            costs.append([chunk.costs[layer.id] for layer in spec.setup.layers])
    alone, touching = np.median(costs, axis=0)
    note = "Mudwick's belly kept from the rest of his skin, walk, one thread: a frame of the layer with it; baseline: without it"
    return row("self_contact_x", alone + touching, alone, "ms", note)


def mudwick_row():
    """Mudwick with all that he carries but muscles and tissue: how much faster than it plays.

    No result is kept; what is compiled, and what the keys clip, is known from the first time, as when a dial is turned.
    """
    character, setup = mudwick_without_flesh()
    taken, plays = _take(character, setup)
    note = (
        "Mudwick's hop, all layers but muscles and tissue, contacts and measures, pre-roll included, after a first time; "
        "baseline: as long as it plays"
    )
    made = row("mudwick_all_x_realtime", plays / taken, 1.0, "x realtime", note)
    return replace(made, ratio=made.ours)


def creature_row():
    """The same with each triangle cut into sixteen."""
    character, setup = mudwick_without_flesh()
    character, setup = subdivided(character, setup, VERTICES)
    taken, plays = _take(character, setup, 1)
    frames, count = round(plays * setup.frame_rate), sum(len(mesh.positions) for mesh in character.meshes)
    note = f"the same with {count} vertices, shown frames counted; baseline: as long as a frame plays"
    return row("creature_240k_frame_ms", taken / frames * 1e3, 1e3 / setup.frame_rate, "ms a frame", note)


def _take(character, setup, rounds=5):
    """(seconds of a take of the hop after a first one, the median; seconds that it plays)."""
    spec = TakeSpec(character, setup, "hop and land")
    plan = compile_plan(spec)
    frames = sum(len(chunk.added) for chunk in execute(plan))
    times = [seconds(lambda: list(execute(compile_plan(spec)))) for _ in range(rounds)]
    return float(np.median(times)), frames / setup.frame_rate


def poke_row():
    """Frames a second while a hand pulls at Mudwick's belly and a ball flies, against those of a film."""
    character, setup = mudwick_without_flesh()
    poke, mesh = Poke(character, setup, "walk", 0), character.mesh_index("skin")
    belly = next(body for body in poke.run.soft_bodies if body.layer.id == "belly")
    place = belly.part.surface[belly.vertices[np.argmax(belly.blend)]]
    poke.obey({"do": "grab", "mesh": mesh, "vertex": int(belly.vertices[np.argmax(belly.blend)]), "at": place.tolist()})
    times = []
    for frame in range(120):
        if frame % 40 == 10:
            poke.obey({"do": "throw", "from": [2.5, 0.9, 0.5], "at": place.tolist()})
        poke.obey({"do": "move", "to": (place + 0.1 * np.array([0.0, np.sin(0.3 * frame), 0.0])).tolist()})
        times.append(seconds(poke.step))
    fps = 1.0 / float(np.median(times[10:]))
    # The ratio is that of frames, not of times.
    made = row(
        "poke_fps", fps, FILM_FPS, "frames/s", "Mudwick with all that he carries, belly pulled, a ball thrown; baseline: 24 a second"
    )
    return replace(made, ratio=float(f"{fps / FILM_FPS:.4g}"))
