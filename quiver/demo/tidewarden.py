"""The tidewarden, who sees the mail over the flats: a biped in a long oilskin coat, with a storm cape, scarf, tassels and a satchel."""
from dataclasses import replace

import numpy as np

from quiver.demo import shapes
from quiver.demo import tidewarden_clothes as clothes
from quiver.demo.building import Builder, Part, mirrored, noise, softest
from quiver.demo.surface import Cone, Ellipsoid, Line, blend, gradient, mesh_of
from quiver.demo.tidewarden_clips import clips
from quiver.layers import kind_of
from quiver.mesh import regions
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup

CELL = 0.0225
"""Grid size of the body's mesh [m]."""
SIDES = clothes.SIDES
TRUNK = {
    "root": (None, (0, 0, 0)),
    "hips": ("root", (0, 0.95, 0)),
    "spine_1": ("hips", (0, 1.06, 0.0)),
    "spine_2": ("spine_1", (0, 1.19, -0.005)),
    "chest": ("spine_2", (0, 1.32, -0.01)),
    "neck": ("chest", (0, 1.485, -0.01)),
    "head": ("neck", (0, 1.56, 0.01)),
}
LEG = [(0.105, 0.92, 0.0), (0.12, 0.50, 0.035), (0.125, 0.095, -0.02)]
TOE = (0.145, 0.035, 0.15)
ARM = [(0.185, 1.425, -0.015), (0.36, 1.20, -0.03), (0.475, 0.985, 0.035), (0.515, 0.885, 0.065)]
OILSKIN, SHADE, BOOT, SKIN, BEARD = (196, 152, 62), (120, 86, 40), (62, 50, 46), (224, 172, 140), (214, 206, 190)
INK, BRASS = (30, 34, 38), (206, 164, 82)


def _joints():
    """All joints as name → (parent, place)."""
    joints = dict(TRUNK)
    for letter, side in SIDES:
        parent = "hips"
        for part, place in zip(("upper", "lower", "foot"), LEG, strict=True):
            joints[f"leg_{part}_{letter}"] = (parent, mirrored(place, side))
            parent = f"leg_{part}_{letter}"
        joints[f"shoulder_{letter}"] = ("chest", mirrored((0.06, 1.44, -0.01), side))
        parent = f"shoulder_{letter}"
        for part, place in zip(("upper", "lower", "hand"), ARM[:3], strict=True):
            joints[f"arm_{part}_{letter}"] = (parent, mirrored(place, side))
            parent = f"arm_{part}_{letter}"
    return joints | clothes.joints()


def _solids():
    """The body as solids: what it wears closely is part of it."""
    solids = [
        Ellipsoid((0, 1.0, 0.0), (0.185, 0.15, 0.145)), Ellipsoid((0, 1.14, 0.005), (0.185, 0.19, 0.15)),
        Ellipsoid((0, 1.32, -0.005), (0.205, 0.17, 0.145)), Cone((-0.15, 1.415, -0.015), (0.15, 1.415, -0.015), 0.075, 0.075),
        Cone((0, 1.44, -0.01), (0, 1.54, 0.0), 0.085, 0.08), Ellipsoid((0, 1.635, 0.0), (0.125, 0.155, 0.14)),
        Ellipsoid((0, 1.70, -0.06), (0.115, 0.12, 0.12)), Ellipsoid((0, 1.565, 0.085), (0.08, 0.085, 0.07)),
        Ellipsoid((0, 1.622, 0.142), (0.026, 0.03, 0.03)),
    ]
    for _, side in SIDES:
        hip, knee, ankle = (mirrored(p, side) for p in LEG)
        solids.append(Line((hip, knee, ankle), (0.105, 0.082, 0.07)))
        solids.append(Cone(mirrored((0.128, 0.055, -0.02), side), mirrored(TOE, side), 0.062, 0.05))
        shoulder, elbow, wrist, hand = (mirrored(p, side) for p in ARM)
        solids.append(Line((shoulder, elbow, wrist), (0.078, 0.062, 0.062)))
        solids.append(Cone(wrist, hand, 0.036, 0.045))
        solids.append(Cone(mirrored((0.478, 0.94, 0.075), side), mirrored((0.475, 0.895, 0.105), side), 0.02, 0.017))
    return solids


def influence_solids():
    """Which joint moves what: a rounded cone around each bone."""
    solids = [
        ("hips", Cone((0, 0.92, 0), (0, 1.01, 0), 0.14, 0.14)), ("spine_1", Cone((0, 1.08, 0), (0, 1.14, 0), 0.13, 0.13)),
        ("spine_2", Cone((0, 1.20, 0), (0, 1.27, 0), 0.13, 0.13)), ("chest", Cone((0, 1.33, -0.01), (0, 1.42, -0.01), 0.14, 0.12)),
        ("neck", Cone((0, 1.48, -0.01), (0, 1.53, 0.0), 0.07, 0.07)), ("head", Cone((0, 1.60, 0.03), (0, 1.70, -0.03), 0.12, 0.12)),
    ]
    for letter, side in SIDES:
        hip, knee, ankle = (np.array(mirrored(p, side)) for p in LEG)
        solids.append((f"leg_upper_{letter}", Cone(tuple(0.75 * hip + 0.25 * knee), tuple(knee), 0.09, 0.08)))
        solids.append((f"leg_lower_{letter}", Cone(tuple(knee), tuple(0.2 * knee + 0.8 * ankle), 0.08, 0.07)))
        solids.append((f"leg_foot_{letter}", Cone(tuple(ankle), mirrored(TOE, side), 0.06, 0.05)))
        shoulder, elbow, wrist, hand = (np.array(mirrored(p, side)) for p in ARM)
        solids.append((f"shoulder_{letter}", Cone(mirrored((0.09, 1.44, -0.01), side), mirrored((0.14, 1.44, -0.01), side), 0.06, 0.06)))
        solids.append((f"arm_upper_{letter}", Cone(tuple(0.85 * shoulder + 0.15 * elbow), tuple(elbow), 0.065, 0.06)))
        solids.append((f"arm_lower_{letter}", Cone(tuple(elbow), tuple(0.1 * elbow + 0.9 * wrist), 0.06, 0.055)))
        solids.append((f"arm_hand_{letter}", Cone(tuple(wrist), tuple(hand), 0.05, 0.05)))
    return solids


def _body_part(builder):
    distance = blend(_solids(), 0.045)
    vertices, triangles = mesh_of(distance, (-0.62, -0.05, -0.30), (0.62, 1.88, 0.30), CELL)
    normals = gradient(distance, vertices)
    shade = np.clip(0.62 + 0.38 * np.clip(distance(vertices + 0.06 * normals) / 0.06, 0.0, 1.0), 0.0, 1.0)
    x, y, z = vertices.T
    colour = np.tile(np.array(OILSKIN, float), (len(vertices), 1))

    def paint(share, with_colour):
        nonlocal colour
        colour = colour + np.clip(share, 0.0, 1.0)[:, None] * (np.array(with_colour, float) - colour)

    away = np.abs(x)
    paint((0.62 - y) / 0.02 * (away < 0.3), BOOT)
    paint((0.016 - np.abs(y - 0.60)) / 0.006 * (away < 0.3), SHADE)
    wrist = np.linalg.norm(np.stack([away, y, z], 1) - np.array(ARM[2]), axis=1)
    paint((0.93 - y) / 0.012 * (away > 0.3) * (wrist < 0.22), SKIN)
    paint((0.012 - np.abs(y - 0.945)) / 0.006 * (away > 0.3), SHADE)
    face = np.clip((z - 0.055) / 0.012, 0, 1) * np.clip((0.105 - away) / 0.01, 0, 1) * np.clip((y - 1.50) / 0.01, 0, 1)
    paint(face * np.clip((1.735 - y) / 0.01, 0, 1), SKIN)
    paint(face * np.clip((1.603 - y - 0.25 * away) / 0.01, 0, 1), BEARD)
    paint(np.exp(-(((z - 0.052) / 0.011) ** 2)) * (y > 1.5) * (away < 0.125), SHADE)
    # Buttons down the front, and the two rows of stitches that close it.
    front = (z > 0.05) & (y > 1.0) & (y < 1.46)
    paint(front * np.exp(-(((away - 0.035) / 0.004) ** 2)) * (np.abs((y * 40.0) % 1.0 - 0.5) < 0.32), SHADE)
    paint(front * (np.hypot(away, (y - 1.03 + 0.5 * 0.085) % 0.085 - 0.5 * 0.085) < 0.013), BRASS)
    colour *= (0.94 + 0.12 * noise(vertices, 11.0, 8))[:, None]
    return Part(vertices, triangles, normals, colour * shade[:, None], softest(builder, vertices, influence_solids(), 0.022))


def _eye_parts(builder):
    """Two dark eyes behind round brass glasses."""
    for _, side in SIDES:
        centre = np.array(mirrored((0.042, 1.655, 0.122), side))
        angle = np.linspace(0.03, np.pi - 0.03, 12)
        vertices, triangles, _, _ = shapes.turned(np.stack([0.017 * np.sin(angle), -0.017 * np.cos(angle)], 1), 16, centre)
        colour = np.tile(np.array(INK, float), (len(vertices), 1))
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("head", len(vertices)))
        around = np.linspace(0.0, 2 * np.pi, 13)
        ring = np.stack([0.033 + 0.004 * np.cos(around), 0.004 * np.sin(around)], 1)
        vertices, triangles, _, _ = shapes.turned(ring[::-1], 28, centre + np.array((0, 0, 0.018)), axis=2)
        colour = np.tile(np.array(BRASS, float), (len(vertices), 1))
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("head", len(vertices)))


def build():
    """The tidewarden as (GLB bytes, Setup), with four clips and clothes that already work."""
    builder = Builder("Tidewarden", _joints())
    distance = blend(_solids(), 0.045)

    def weights_of(vertices):
        return softest(builder, vertices, influence_solids(), 0.03)

    skirt, cape = clothes.skirt_part(builder, distance), clothes.cape_part(distance, weights_of)
    strap = clothes.strap_part(distance, weights_of)
    builder.add_mesh("body", [_body_part(builder)], roughness=0.6)
    builder.add_mesh("glasses", list(_eye_parts(builder)), roughness=0.25, metallic=0.2)
    builder.add_mesh("coat skirt", [skirt], roughness=0.5, two_sided=True)
    builder.add_mesh("storm cape", [cape], roughness=0.5, two_sided=True)
    builder.add_mesh("scarf", list(clothes.scarf_parts(builder, weights_of)), roughness=0.95, two_sided=True)
    builder.add_mesh("tassels", list(clothes.tassel_parts(builder)), roughness=0.9)
    builder.add_mesh("strap", [strap], roughness=0.7, two_sided=True)
    builder.add_mesh("satchel", list(clothes.satchel_parts(builder)), roughness=0.65)
    for clip in clips(builder):
        builder.add_clip(*clip)
    return builder.glb(), setup(skirt, cape, strap)


def setup(skirt, cape, strap):
    """The setup that comes with the tidewarden."""
    made = Setup(preroll_frames=12.0)
    loose = {"coat skirt": clothes.skirt_loose(skirt), "storm cape": clothes.cape_loose(cape), "strap": clothes.strap_loose(strap)}
    feel = {
        "coat skirt": kind_of("sheet").preset("Wet oilskin") | {"give": 2.0, "settle_time": 14.0, "bending_length": 60.0, "drag": 3.0},
        "storm cape": kind_of("sheet").preset("Wet oilskin") | {"give": 2.0, "bending_length": 80.0, "drag": 3.0},
        "strap": kind_of("sheet").preset("Leather flap") | {"give": 3.0, "bending_length": 120.0},
    }
    for mesh, looseness in loose.items():
        levels = np.round(looseness * regions.IN_FULL).astype(np.uint8)
        made = edits.with_new_region(made, mesh.capitalize(), mesh, len(levels), regions.encode(levels))
        made = edits.with_new_soft(made, "sheet", made.regions[-1].id)
        made = edits.with_layer(made, replace(made.layers[-1], values=made.layers[-1].values | feel[mesh]))
    made = edits.with_new_collider(made, "body", "Simplified body", mesh="body", size=(0.03,))
    body = made.colliders[0]
    made = edits.with_collider(made, replace(body, values=body.values | {"margin": 9.0, "friction": 0.2}))
    made = edits.with_new_follower(made, "End of the strap", "strap", clothes.strap_end(strap))

    def chains(identifier, name, roots, preset, **dials):
        values = kind_of("chain").preset(preset) | dials
        return edits.new_layer("chain", identifier, name, values, chains=tuple(ChainPick(root) for root in roots))

    satchel = edits.new_layer("prop", "satchel", "Satchel", kind_of("prop").preset("Heavy bag"), chains=(ChainPick("satchel", "satchel"),))
    tails, cords = ([f"{base}_{letter}_1" for letter, _ in SIDES] for base in ("scarf", "tassel"))
    scarf = chains("scarf", "Scarf tails", tails, "Wet rope", wobble_rate=0.9, settle_time=18, drag=6)
    tassels = chains("tassels", "Hood tassels", cords, "Hanging bell", wobble_rate=1.8, settle_time=24)
    return replace(made, layers=(scarf, tassels, *made.layers, replace(satchel, rides=f"follower:{made.followers[0].id}")))
