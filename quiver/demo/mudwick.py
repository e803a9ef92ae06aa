"""Mudwick, the mail beast of the Saltmarsh Post: a stocky four-legger with barbels, a fin frill, a paddle tail and a bell."""
import itertools
from dataclasses import replace

import numpy as np
from scipy.spatial import KDTree

from quiver.demo import mudwick_anatomy as anatomy
from quiver.demo import mudwick_gear as gear
from quiver.demo import shapes
from quiver.demo.building import Builder, Part, line_weights, mirrored, noise, ramp, softest
from quiver.demo.mudwick_clips import clips
from quiver.demo.surface import Cone, Ellipsoid, Line, blend, gradient, mesh_of
from quiver.layers import kind_of
from quiver.mesh import regions
from quiver.mesh.topology import topology
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup

CELL = 0.0298
"""Grid size of the body's mesh [m]: about ten thousand vertices."""
SIDES = gear.SIDES
TRUNK = {
    "root": (None, (0, 0, 0)),
    "hips": ("root", (0, 0.80, -0.44)),
    "spine_1": ("hips", (0, 0.84, -0.16)),
    "spine_2": ("spine_1", (0, 0.86, 0.12)),
    "chest": ("spine_2", (0, 0.86, 0.38)),
    "neck": ("chest", (0, 0.96, 0.60)),
    "head": ("neck", (0, 1.10, 0.80)),
    "jaw": ("head", (0, 1.01, 0.86)),
    "pouch": ("jaw", (0, 0.92, 0.86)),
}
TAIL = [(0, 0.82, -0.66), (0, 0.80, -0.84), (0, 0.76, -1.01), (0, 0.73, -1.17), (0, 0.72, -1.32), (0, 0.735, -1.47)]
TAIL_TIP = (0, 0.76, -1.64)
FRILL = [((0, 1.10, 0.36), (0, 1.24, 0.33), (0, 1.37, 0.27)), ((0, 1.12, 0.13), (0, 1.30, 0.08), (0, 1.46, 0.0)),
         ((0, 1.11, -0.11), (0, 1.28, -0.17), (0, 1.43, -0.26)), ((0, 1.05, -0.36), (0, 1.18, -0.43), (0, 1.30, -0.53))]
BARBELS = {
    "l1": [(0.075, 0.945, 1.17), (0.085, 0.85, 1.215), (0.095, 0.755, 1.235), (0.10, 0.67, 1.225)],
    "l2": [(0.145, 0.955, 1.09), (0.19, 0.865, 1.12), (0.225, 0.78, 1.13), (0.25, 0.70, 1.12)],
}
LEGS = {
    "fore": [(0.235, 0.76, 0.37), (0.275, 0.43, 0.33), (0.275, 0.11, 0.40)],
    "hind": [(0.205, 0.74, -0.43), (0.255, 0.41, -0.33), (0.25, 0.11, -0.45)],
}

CREAM, OCHRE, OLIVE, DEEP = (236, 219, 184), (188, 156, 104), (104, 112, 78), (58, 82, 80)
ROSE, TEAL, STRAW, INK = (196, 120, 104), (52, 122, 122), (232, 204, 134), (28, 34, 38)


def _joints():
    """All joints as name → (parent, place)."""
    joints = dict(TRUNK)

    def add_line(base, parent, positions):
        for number, place in enumerate(positions, 1):
            joints[f"{base}_{number}"] = (parent, place)
            parent = f"{base}_{number}"

    add_line("tail", "hips", TAIL)
    for number, (ray, parent) in enumerate(zip(FRILL, ("chest", "spine_2", "spine_1", "hips"), strict=True), 1):
        add_line(f"frill_{number}", parent, ray[:2])
    for letter, side in SIDES:
        for number in "12":
            add_line(f"barbel_{letter}{number}", "jaw", [mirrored(p, side) for p in BARBELS[f"l{number}"][:3]])
        for name, positions in LEGS.items():
            parent = "chest" if name == "fore" else "hips"
            for part, place in zip(("upper", "lower", "foot"), positions, strict=True):
                joints[f"{name}_{part}_{letter}"] = (parent, mirrored(place, side))
                parent = f"{name}_{part}_{letter}"
    return joints | gear.joints()


def _solids():
    """The body as solids."""
    solids = [
        Ellipsoid((0, 0.73, -0.03), (0.345, 0.335, 0.52)), Ellipsoid((0, 0.83, 0.34), (0.29, 0.30, 0.31)),
        Ellipsoid((0, 0.80, -0.45), (0.275, 0.27, 0.28)), Cone((0, 0.92, 0.52), (0, 1.08, 0.82), 0.21, 0.175),
        Ellipsoid((0, 1.115, 0.92), (0.225, 0.165, 0.26)), Ellipsoid((0, 1.055, 1.11), (0.175, 0.105, 0.15)),
        Ellipsoid((0, 0.985, 1.03), (0.165, 0.075, 0.19)), Ellipsoid((0, 0.865, 0.87), (0.155, 0.155, 0.165)),
    ]
    solids.append(Line(tuple(TAIL), (0.185, 0.14, 0.105, 0.082, 0.07, 0.06)))
    solids.append(Ellipsoid((0, 0.745, -1.47), (0.062, 0.19, 0.245)))
    for _, side in SIDES:
        hip, knee, foot = (mirrored(p, side) for p in LEGS["fore"])
        solids.append(Line((hip, knee, foot), (0.165, 0.118, 0.098)))
        solids.append(Ellipsoid(mirrored((0.28, 0.068, 0.455), side), (0.135, 0.075, 0.165)))
        hip, knee, foot = (mirrored(p, side) for p in LEGS["hind"])
        solids.append(Line((hip, knee, foot), (0.185, 0.105, 0.082)))
        solids.append(Ellipsoid(mirrored((0.252, 0.06, -0.395), side), (0.115, 0.065, 0.145)))
        solids.append(Ellipsoid(mirrored((0.125, 1.255, 0.90), side), (0.088, 0.095, 0.09)))
    return solids


def _influence_solids():
    """Which joint moves what: a rounded cone around each bone."""
    trunk = [
        ("hips", (0, 0.80, -0.58), (0, 0.80, -0.36), 0.24), ("spine_1", (0, 0.78, -0.20), (0, 0.78, 0.0), 0.30),
        ("spine_2", (0, 0.78, 0.08), (0, 0.80, 0.24), 0.29), ("chest", (0, 0.84, 0.34), (0, 0.86, 0.48), 0.25),
        ("neck", (0, 0.97, 0.60), (0, 1.03, 0.72), 0.18), ("head", (0, 1.13, 0.84), (0, 1.13, 1.10), 0.17),
        ("jaw", (0, 0.97, 0.96), (0, 0.96, 1.12), 0.09), ("pouch", (0, 0.85, 0.86), (0, 0.83, 0.88), 0.11),
    ]
    solids = [(name, Cone(a, b, r, r)) for name, a, b, r in trunk]
    line = [*TAIL, TAIL_TIP]
    radii = (0.16, 0.12, 0.09, 0.075, 0.075, 0.075, 0.075)
    for k in range(6):
        solids.append((f"tail_{k + 1}", Cone(line[k], line[k + 1], radii[k], radii[k + 1])))
    for letter, side in SIDES:
        for leg, positions in LEGS.items():
            hip, knee, foot = (mirrored(p, side) for p in positions)
            toe = (foot[0], 0.06, foot[2] + 0.08)
            solids.append((f"{leg}_upper_{letter}", Cone(tuple(np.array(hip) * 0.7 + np.array(knee) * 0.3), knee, 0.12, 0.12)))
            solids.append((f"{leg}_lower_{letter}", Cone(knee, tuple(np.array(knee) * 0.2 + np.array(foot) * 0.8), 0.11, 0.10)))
            solids.append((f"{leg}_foot_{letter}", Cone(foot, toe, 0.09, 0.08)))
    return solids


def _body_part(builder):
    distance = blend(_solids(), 0.075)
    vertices, triangles = mesh_of(distance, (-0.5, -0.04, -1.80), (0.5, 1.44, 1.36), CELL)
    normals = gradient(distance, vertices)
    shade = np.clip(0.55 + 0.45 * np.clip(distance(vertices + 0.11 * normals) / 0.11, 0.0, 1.0), 0.0, 1.0)
    back = np.clip(0.5 + 0.62 * normals[:, 1] + 0.55 * (vertices[:, 1] - 0.80), 0.0, 1.0)
    colour = ramp(back, [(0.0, CREAM), (0.34, CREAM), (0.58, OCHRE), (0.86, OLIVE), (1.0, OLIVE)])
    spots = np.clip((noise(vertices, 21.0, 3) - 0.66) * 9.0, 0.0, 1.0) * np.clip((back - 0.5) * 4.0, 0.0, 1.0)
    colour += spots[:, None] * 0.75 * (np.array(DEEP) - colour)
    colour *= (0.93 + 0.14 * noise(vertices, 9.0, 5))[:, None]
    dark = np.clip(1.0 - vertices[:, 1] / 0.20, 0.0, 1.0) * 0.55
    colour += dark[:, None] * (np.array(DEEP) * 0.9 - colour)
    paddle = np.clip((-1.28 - vertices[:, 2]) / 0.3, 0.0, 1.0) * 0.7
    colour += paddle[:, None] * (np.array(TEAL) - colour)
    lip = np.exp(-(((vertices[:, 1] - 1.008) / 0.010) ** 2)) * np.clip((vertices[:, 2] - 0.98) / 0.06, 0, 1)
    colour += (0.75 * lip)[:, None] * (np.array((70, 48, 44)) - colour)
    weights = softest(builder, vertices, _influence_solids(), 0.035)
    return Part(vertices, triangles, normals, colour * shade[:, None], weights)


def _barbel_parts(builder):
    for letter, side in SIDES:
        for number in "12":
            knots = [mirrored(p, side) for p in BARBELS[f"l{number}"]]
            start = np.array(knots[0]) + np.array((0.0, 0.035, -0.03))
            vertices, triangles, along, _ = shapes.tube([start, *knots], (0.036, 0.030, 0.023, 0.018, 0.013), 21, 9)
            colour = ramp(along / 4.0, [(0.0, OCHRE), (0.35, OCHRE), (1.0, ROSE)])
            names = ["jaw", *(f"barbel_{letter}{number}_{k}" for k in (1, 2, 3))]
            weights = line_weights(builder, np.clip(along + 0.15, 0.0, 3.6), names)
            yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights)


def _frill_part(builder):
    """One web over four rays; its first and last column lie on the back."""
    rays = [np.array(ray, float) for ray in FRILL]
    first = np.array([(0, 1.09, 0.50), (0, 1.10, 0.49), (0, 1.11, 0.48)])
    last = np.array([(0, 0.93, -0.62), (0, 0.94, -0.64), (0, 0.95, -0.66)])
    lines = [first, *rays, last]
    columns, count = [], 9
    for k, (a, b) in enumerate(itertools.pairwise(lines)):
        for step in range(count if k < len(lines) - 2 else count + 1):
            t = step / count
            line = (1 - t) * a + t * b
            # Between two rays the web hangs in.
            dip = 0.22 * np.sin(np.pi * t) ** 1.5
            tip, base = line[2] - dip * (line[2] - line[0]), line[0] - (0, 0.10, 0)
            columns.append(np.stack([base + s * (tip - base) for s in np.linspace(0, 1, 12)]))
    vertices, triangles, _, v = shapes.sheet(np.stack(columns))
    ray_place = np.repeat(np.linspace(-1.0, 4.0, len(columns)), 12)
    weights = _frill_weights(builder, ray_place, v)
    on_ray = np.abs((ray_place + 0.5) % 1.0 - 0.5)
    colour = ramp(v, [(0.0, OLIVE), (0.25, OCHRE), (0.62, TEAL), (0.93, (78, 156, 150)), (1.0, STRAW)])
    colour += (np.clip(1.0 - on_ray / 0.09, 0.0, 1.0) * 0.6)[:, None] * (np.array(STRAW) * 0.9 - colour)
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights)


def _frill_weights(builder, ray_place, height):
    weights = np.zeros((len(ray_place), len(builder.names)))
    bodies = ("chest", "chest", "spine_2", "spine_1", "hips", "hips")
    rise = np.clip((height - 0.22) / 0.30, 0.0, 1.0)
    upper = np.clip((height - 0.50) / 0.35, 0.0, 1.0)
    for k in range(-1, 5):
        hat = np.clip(1.0 - np.abs(ray_place - k), 0.0, 1.0)
        body = builder.index(bodies[k + 1])
        if 0 <= k < 4:
            weights[:, builder.index(f"frill_{k + 1}_1")] += hat * rise * (1.0 - upper)
            weights[:, builder.index(f"frill_{k + 1}_2")] += hat * rise * upper
            weights[:, body] += hat * (1.0 - rise)
        else:
            weights[:, body] += hat
    return weights


def _eye_parts(builder):
    for _, side in SIDES:
        centre = np.array(mirrored((0.158, 1.275, 0.935), side))
        angle = np.linspace(0.02, np.pi - 0.02, 30)
        vertices, triangles, _, _ = shapes.turned(np.stack([0.07 * np.sin(angle), -0.07 * np.cos(angle)], 1), 28, centre)
        normals = (vertices - centre) / np.linalg.norm(vertices - centre, axis=1, keepdims=True)
        look = np.array((0.62 * side, 0.16, 0.77))
        facing = np.degrees(np.arccos(np.clip(normals @ look / np.linalg.norm(look), -1, 1)))
        iris = [(0, INK), (27, INK), (30, (222, 160, 52)), (42, (240, 196, 92)), (45, (92, 84, 60))]
        colour = ramp(facing, [*iris, (50, (228, 222, 200)), (180, (214, 204, 176))])
        glint = np.exp(-((np.degrees(np.arccos(np.clip(normals @ np.array((0.35 * side, 0.62, 0.70)), -1, 1))) / 9.0) ** 4))
        colour += glint[:, None] * (250.0 - colour)
        yield Part(vertices, triangles, normals, colour, builder.whole("head", len(vertices)))


def _nostril_parts(builder):
    for _, side in SIDES:
        centre = np.array(mirrored((0.062, 1.128, 1.213), side))
        angle = np.linspace(0.02, np.pi - 0.02, 9)
        vertices, triangles, _, _ = shapes.turned(np.stack([0.017 * np.sin(angle), -0.012 * np.cos(angle)], 1), 10, centre)
        colour = np.tile(np.array(INK, float), (len(vertices), 1))
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("head", len(vertices)))


def build():
    """Mudwick as (GLB bytes, Setup): meshes of 10-17k vertices, 51 joints, four clips, and chains that already work."""
    builder = Builder("Mudwick", _joints())
    distance = blend(_solids(), 0.075)
    skin = [_body_part(builder), *_barbel_parts(builder), *_nostril_parts(builder)]
    builder.add_mesh("skin", skin, roughness=0.72)
    builder.add_mesh("frill", [_frill_part(builder)], roughness=0.6, two_sided=True)
    builder.add_mesh("eyes", list(_eye_parts(builder)), roughness=0.12)
    def weights_of(vertices):
        return softest(builder, vertices, _influence_solids(), 0.035)

    blanket = gear.blanket_part(distance, weights_of)
    builder.add_mesh("harness", [gear.collar_part(distance, weights_of)], roughness=0.8, two_sided=True)
    builder.add_mesh("bell", list(gear.bell_parts(builder)), roughness=0.3, metallic=0.35, two_sided=True)
    builder.add_mesh("blanket", [blanket], roughness=0.95, two_sided=True)
    builder.add_mesh("mail bags", list(gear.bag_parts(builder)), roughness=0.6, two_sided=True)
    builder.add_mesh("muscles", list(anatomy.muscles(builder)), roughness=0.55)
    for name, parts in anatomy.bones(builder):
        builder.add_mesh(name, parts, roughness=0.7)
    for clip in clips(builder):
        builder.add_clip(*clip)
    flesh = np.concatenate([part.vertices for part in anatomy.muscles(builder)])
    return builder.glb(), setup(skin, gear.laced(blanket), flesh)


SOFT = {"Belly": ((0.0, 0.36, -0.10), 0.66), "Throat pouch": ((0.0, 0.72, 0.90), 0.30)}
"""Soft regions of the skin: where they are softest, and how far they reach along the surface [m]."""


def _soft_regions(skin):
    """The regions of the skin's parts, as (name, levels)."""
    starts = np.cumsum([0, *(len(part.vertices) for part in skin[:-1])])
    triangles = np.concatenate([part.triangles + start for part, start in zip(skin, starts, strict=True)])
    positions = np.concatenate([part.vertices for part in skin]).astype(np.float32)
    top = topology(positions, triangles)
    for name, (centre, reach) in SOFT.items():
        yield name, regions.around(regions.nothing(len(positions)), top, centre, reach)


def _tissue_levels(skin, flesh, taken):
    """Levels of the skin over the muscles of legs, where nothing else is soft: what no muscle is near is out."""
    positions = np.concatenate([part.vertices for part in skin])
    away = KDTree(flesh[: anatomy.OF_LEGS]).query(positions)[0]
    body = np.arange(len(positions)) < len(skin[0].vertices)
    influence = np.clip((0.085 - away) / 0.05, 0.0, 1.0)
    levels = np.round(regions.IN_FULL * influence).astype(np.uint8)
    return np.where((influence > 0.0) & body & ~taken & (positions[:, 1] > 0.32), levels, regions.OUT).astype(np.uint8)


def setup(skin, blanket, flesh):
    """The setup that comes with Mudwick."""
    barbels = tuple(ChainPick(f"barbel_{letter}{number}_1") for letter in "lr" for number in "12")
    frill = tuple(ChainPick(f"frill_{number}_1") for number in (1, 2, 3, 4))

    bags = tuple(ChainPick(f"bag_{letter}", f"bag_{letter}") for letter in "lr")

    def layer(name, label, chains, **dials):
        return edits.new_layer("chain", name, label, dials, chains=chains)

    def prop(name, label, chains, preset):
        return edits.new_layer("prop", name, label, kind_of("prop").preset(preset), chains=chains)

    made = Setup(preroll_frames=12.0)
    for name, levels in _soft_regions(skin):
        made = edits.with_new_region(made, name, "skin", len(levels), regions.encode(levels))
    taken = np.any([regions.is_in(levels) for _, levels in _soft_regions(skin)], axis=0)
    over = _tissue_levels(skin, flesh, taken)
    made = edits.with_new_region(made, "Shoulders and haunches", "skin", len(over), regions.encode(over))
    looseness = np.round(blanket * regions.IN_FULL).astype(np.uint8)
    made = edits.with_new_region(made, "Saddle blanket", "blanket", len(looseness), regions.encode(looseness))
    soft = {
        "belly": {"wobble_rate": 2.8, "settle_time": 20, "hold_gain": 1.8},
        "throat-pouch": {"wobble_rate": 5, "settle_time": 16, "hold_gain": 1.3, "cell_size": 55},
    }
    for region, values in soft.items():
        made = edits.with_new_soft(made, "volume", region)
        volume = made.layers[-1]
        made = edits.with_layer(made, replace(volume, values=volume.values | {key: float(value) for key, value in values.items()}))
    made = edits.with_new_soft(made, "sheet", "saddle-blanket")
    made = edits.with_new_collider(made, "skin", "Skin", mesh="skin", meets=("bags",))
    return replace(made, layers=(
            layer("tail", "Paddle tail", (ChainPick("tail_1"),), wobble_rate=1.3, settle_time=30, drag=4, wobble_taper=70),
            layer("barbels", "Barbels", barbels, wobble_rate=2.2, settle_time=26, gravity=30, bend_limit=70),
            layer("frill", "Fin frill", frill, wobble_rate=3, settle_time=16, drag=3, bend_limit=40),
            prop("bell", "Bell", (ChainPick("bell_1", "bell_1"),), "Brass bell"),
            prop("bags", "Mail bags", bags, "Heavy bag"),
            *made.layers,
            *anatomy.layers(),
            edits.new_layer("tissue", "tissue", "Hide over the legs", {"thickness": 40.0}, region="shoulders-and-haunches"),
    ))
