"""Rows of muscles and of the tissue over them."""

import time
from dataclasses import replace
from types import SimpleNamespace

import numpy as np

from bench.characters import mudwick_as_shipped, mudwick_without_flesh
from bench.core import PlainSolid
from bench.rows import row, seconds
from quiver import layers as registry
from quiver.bodies import muscle_forms
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.character import Character, Mesh
from quiver.rig.clip import Channel, Clip
from quiver.rig.pose import Pose
from quiver.rig.skeleton import Skeleton, parents_first
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.results import Results
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import Attachment, Layer, Muscle, PullDriver, Region, Setup

LIMBS, AROUND, SIDE = 10, 4, 101
"""Limbs with so many muscles around each bone, and vertices along a side of the skin over them."""
LENGTH, SECONDS, RATE = 0.3, 2.0, 24.0


def rows():
    character, setup = herd()
    only = replace(setup, layers=setup.layers[:1])
    spec = TakeSpec(character, only, "bend")
    frames = int(SECONDS * RATE) + 1
    took = min(_took(spec) for _ in range(3))
    part = compile_plan(spec).parts[0]
    made, plan = part.part.lattice, compile_plan(spec)
    run = SimpleNamespace(made=made, model=part.model, modelled=lambda **_: part.model)
    plain = PlainSolid(run)
    plain.by_colour()
    other = min(seconds(plain.by_colour) for _ in range(3)) * plan.substeps
    what = f"{LIMBS * AROUND} muscles, {len(made.tets)} tetrahedra, {plan.substeps} substeps, with attachments, bones, each other and pulls"
    yield row(
        "muscles_40_frame_ms",
        1e3 * took / frames,
        1e3 * other,
        "ms a frame",
        f"{what}; baseline: their tetrahedra in NumPy, colour by colour",
    )
    whole = TakeSpec(character, setup, "bend")
    known = Results()
    began = time.perf_counter()
    list(execute(compile_plan(whole), known))
    both = time.perf_counter() - began
    shares, costs = [], []
    for rate in (4.4, 4.7, 5.3):
        changed = replace(whole, setup=edits.set_dial(setup, ["tissue"], "wobble_rate", rate))
        cold = seconds(lambda changed=changed: list(execute(compile_plan(changed))))
        began = time.perf_counter()
        chunks = list(execute(compile_plan(changed), known))
        shares.append((time.perf_counter() - began) / cold)
        costs.append(np.mean([chunk.costs["tissue"] for chunk in chunks]))
    tissue = next(part for part in compile_plan(whole).parts if part.layer.kind == "tissue")
    what = f"{SIDE * SIDE} vertices of skin, {len(tissue.part.lattice.tets)} tetrahedra, {tissue.own} substeps, cached muscles"
    yield row(
        "tissue_frame_ms",
        float(np.median(costs)),
        1e3 * both / frames,
        "ms a frame",
        f"{what}; baseline: all of the take, for each of its frames",
    )
    yield row(
        "tissue_after_dial_share", float(np.median(shares)), 1.0, "", "a new dial of the tissue against muscles and tissue from nothing"
    )
    yield _mudwick_row()


def _mudwick_row():
    """Mudwick as shipped, with muscles and tissue, against how long he plays; and without them."""
    times = []
    for character, setup in (mudwick_as_shipped(), mudwick_without_flesh()):
        spec = TakeSpec(character, setup, "hop and land")
        plan = compile_plan(spec)
        plays = sum(len(chunk.added) for chunk in execute(plan)) / setup.frame_rate
        times.append(float(np.median([_took(spec) for _ in range(3)])))
    note = f"Mudwick's hop as shipped, {plays:.3g} s with pre-roll, after a first time; baseline: without muscles and tissue"
    return row("mudwick_flesh_s", *times, "s", note)


def _took(spec):
    plan = compile_plan(spec)
    return seconds(lambda: list(execute(plan)))


def herd():
    """(Character, Setup): limbs side by side that bend and stretch, a bone and four muscles each, and a skin over all of them."""
    names, parents, places = ["root"], [-1], [(0.0, 1.0, 0.0)]
    muscles, bones, layer = [], [], []
    for number in range(LIMBS):
        names += [f"upper {number}", f"lower {number}"]
        parents += [0, 2 * number + 1]
        places += [(0.0, 0.0, 0.12 * number), (LENGTH, 0.0, 0.0)]
        at = np.array([0.0, 1.0, 0.12 * number])
        bones.append(_mesh(f"bone {number}", 2 * number + 1, [at + np.array([x, 0, 0]) for x in (0.02, LENGTH - 0.02)], "strap", 0.04, at))
        for k in range(AROUND):
            turn = 2.0 * np.pi * (k + 0.5) / AROUND
            out = 0.04 * np.array([0.0, np.cos(turn), np.sin(turn)])
            line = [at + np.array([x, 0, 0]) + share * out for x, share in ((0.0, 0.5), (0.17, 1.0), (LENGTH + 0.05, 0.6))]
            name = f"muscle {number} {k}"
            muscles.append(_mesh(name, 2 * number + 1, line, "spindle", 0.06, at))
            ends = Attachment(f"upper {number}"), Attachment(f"lower {number}")
            pull = (PullDriver("shortening", low=0.0, high=15.0),)
            layer.append(Muscle(name.replace(" ", "-"), name, name, 0, *ends, drivers=pull))
    parents = np.array(parents, np.int32)
    rest = Pose(np.array(places), np.tile(transforms.IDENTITY, (len(names), 1)), np.ones((len(names), 3)))
    skeleton = Skeleton(tuple(names), parents, parents_first(parents), np.ones(len(names), bool), rest)
    seconds_at = np.array([0.0, 0.5, 1.0, 1.5, 2.0]) * SECONDS / 2.0
    turns = transforms.from_axis_angle(np.tile([0.0, 0.0, 1.0], (5, 1)), np.radians([0.0, 50.0, 10.0, 60.0, 0.0]))
    channels = tuple(Channel(2 * number + 2, "rotation", "LINEAR", seconds_at, turns) for number in range(LIMBS))
    skin, levels = _skin()
    character = Character("herd", skeleton, (skin, *muscles, *bones), (Clip("bend", channels, 0.0, SECONDS),))
    kinds = {name: registry.kind_of(name).defaults for name in ("muscle", "tissue")}
    layers = (
        Layer("muscles", "Muscles", "muscle", values=kinds["muscle"], muscles=tuple(layer), bones=tuple(bone.name for bone in bones)),
        Layer("tissue", "Tissue", "tissue", values=kinds["tissue"] | {"thickness": 30.0, "wobble_rate": 5.0}, region="skin"),
    )
    region = Region("skin", "Skin", "skin", len(levels), regions.encode(levels))
    return character, Setup(layers=layers, regions=(region,), preroll_frames=0.0, frame_rate=RATE)


def _mesh(name, node, line, shape, wide, at):
    positions, triangles = muscle_forms.surface(line, shape, wide, wide)
    # Its node is where the limb begins.
    return Mesh(name, node, np.float32(positions - at), triangles)


def _skin():
    """A slab over all limbs, dense above and with a bottom far below: its Mesh, and levels of the part above."""
    x, z = np.meshgrid(np.linspace(-0.05, LENGTH + 0.08, SIDE), np.linspace(-0.08, 0.12 * LIMBS, SIDE), indexing="ij")
    top = np.stack([x, np.full_like(x, 0.115), z], -1).reshape(-1, 3)
    bottom = top * [1.0, 0.0, 1.0] - [0.0, 0.35, 0.0]
    a = (np.arange(SIDE - 1)[:, None] * SIDE + np.arange(SIDE - 1)).ravel()
    faces = np.concatenate([np.stack([a, a + 1, a + SIDE + 1], 1), np.stack([a, a + SIDE + 1, a + SIDE], 1)])
    rim = np.concatenate(
        [np.arange(SIDE), SIDE * np.arange(1, SIDE) + SIDE - 1, SIDE * SIDE - 2 - np.arange(SIDE - 1), SIDE * np.arange(SIDE - 2, 0, -1)]
    )
    b, c, under = rim, np.roll(rim, -1), len(top)
    sides = np.concatenate([np.stack([b, b + under, c + under], 1), np.stack([b, c + under, c], 1)])
    triangles = np.concatenate([faces, faces[:, ::-1] + under, sides[:, ::-1]])
    positions = np.float32(np.concatenate([top, bottom]))
    levels = np.full(len(positions), regions.OUT, np.uint8)
    levels[:under] = regions.IN_FULL
    return Mesh("skin", 0, positions, triangles.astype(np.int32)), levels
