"""What Mudwick carries: a bell, a collar, a saddle blanket and two mail bags."""

import numpy as np

from quiver.demo import shapes
from quiver.demo.building import Part, ramp

SIDES = (("l", 1.0), ("r", -1.0))
BELL = [(0, 0.70, 0.665), (0, 0.60, 0.675)]
BAG = (0.345, 0.86, -0.12)
"""Where the left bag hangs [m]."""
BAG_SIZE = (0.062, 0.125, 0.135)
BRASS, LEATHER = (214, 168, 74), (112, 72, 50)
STRAW, MADDER, TEAL, WOOL = (232, 204, 134), (168, 74, 52), (52, 106, 108), (226, 214, 186)


def _first_clear(distance, origin, outwards, reaches):
    """The first of the reaches (R,) at which each ray from ``origin`` outwards (N, 3) is out of the body, (N,)."""
    clear = distance((origin + reaches[:, None, None] * outwards).reshape(-1, 3)) > 0.0
    return reaches[np.argmax(clear.reshape(len(reaches), -1), axis=0)]


def joints():
    """The gear's joints as name → (parent, place)."""
    found = {"bell_1": ("neck", BELL[0]), "bell_2": ("bell_1", BELL[1])}
    for letter, side in SIDES:
        found[f"bag_{letter}"] = ("spine_1", (side * BAG[0], *BAG[1:]))
    return found


def bell_parts(builder):
    outside = [(0.004, 0.015), (0.022, 0.012), (0.036, -0.006), (0.046, -0.04), (0.054, -0.078), (0.070, -0.104), (0.074, -0.112)]
    profile = np.array([*outside, (0.064, -0.112), (0.045, -0.085), (0.002, -0.05)])
    vertices, triangles, u, _ = shapes.turned(profile[::-1], 24, BELL[0])
    colour = ramp(1.0 - u, [(0.0, BRASS), (0.55, BRASS), (0.66, (240, 206, 120)), (0.75, BRASS), (0.8, (92, 66, 34)), (1.0, (60, 44, 26))])
    yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("bell_1", len(vertices)))
    angle = np.linspace(0.05, np.pi - 0.05, 10)
    centre = np.array(BELL[1]) + np.array((0.0, 0.005, 0.0))
    vertices, triangles, _, _ = shapes.turned(np.stack([0.024 * np.sin(angle), -0.024 * np.cos(angle)], 1), 14, centre)
    colour = np.tile(np.array((120, 88, 44), float), (len(vertices), 1))
    yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("bell_2", len(vertices)))


def collar_part(distance, weights_of):
    """A strap around the neck, laid on the skin."""
    angle = np.linspace(0.0, 2 * np.pi, 61)
    middle, ahead = np.array((0.0, 0.93, 0.57)), np.array((0.0, 0.50, 0.866))
    up = np.cross(ahead, (1.0, 0.0, 0.0))
    outwards = np.cos(angle)[:, None] * np.array((1.0, 0.0, 0.0)) + np.sin(angle)[:, None] * up
    reaches = np.linspace(0.08, 0.5, 211)
    rows = []
    for shift, lift in ((-0.034, -0.01), (-0.030, 0.014), (0.0, 0.019), (0.030, 0.014), (0.034, -0.01)):
        origin = middle + shift * ahead
        reach = _first_clear(distance, origin, outwards, reaches) + lift
        reach = np.convolve(np.pad(reach[:-1], 3, "wrap"), np.full(7, 1 / 7), "valid")
        rows.append(origin + np.append(reach, reach[0])[:, None] * outwards)
    vertices, triangles, u, _ = shapes.sheet(np.stack(rows))
    colour = ramp(u, [(0.0, (70, 44, 32)), (0.25, LEATHER), (0.5, (136, 90, 62)), (0.75, LEATHER), (1.0, (70, 44, 32))])
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights_of(vertices))


def blanket_part(distance, weights_of):
    """A saddle blanket, laid over the back on both sides of the frill, which goes through a slit in it."""
    along, across = np.linspace(-0.36, 0.20, 20), np.linspace(-1.0, 1.0, 43)
    angle = np.radians(98.0) * across
    outwards = np.stack([np.sin(angle), np.cos(angle), 0.0 * angle], 1)
    reaches = np.linspace(0.12, 0.6, 321)
    rows = []
    for z in along:
        rows.append(_first_clear(distance, np.array((0.0, 0.76, z)), outwards, reaches) + 0.016)
    reach = np.stack(rows)
    for _ in range(3):
        reach = 0.25 * (np.pad(reach, ((1, 1), (0, 0)), "edge")[2:] + np.pad(reach, ((1, 1), (0, 0)), "edge")[:-2]) + 0.5 * reach
    grid = np.array((0.0, 0.76, 0.0)) + reach[..., None] * outwards + along[:, None, None] * np.array((0.0, 0.0, 1.0))
    vertices, triangles, u, v = shapes.sheet(grid)
    edge = np.minimum(np.minimum(u, 1.0 - u) * 0.56, np.minimum(v, 1.0 - v) * 1.2)
    stripes = np.abs((np.abs(2.0 * v - 1.0) * 5.5) % 1.0 - 0.5)
    colour = ramp(stripes, [(0.0, WOOL), (0.2, WOOL), (0.26, MADDER), (0.5, MADDER)])
    zigzag = np.abs(stripes - 0.36 - 0.05 * np.sin(40.0 * u)) < 0.03
    colour = np.where(zigzag[:, None], np.array(STRAW, float), colour)
    colour += np.clip(1.0 - edge / 0.03, 0.0, 1.0)[:, None] * (np.array(TEAL) - colour)
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights_of(vertices))


def laced(part):
    """How loose each vertex of the blanket is, 0..1: along the frill it is laced to the back."""
    return np.clip((np.abs(part.vertices[:, 0]) - 0.05) / 0.06, 0.0, 1.0)


def bag_parts(builder):
    """A leather mail bag on each side: a rounded box with a flap and a buckle, hung by its top."""
    for letter, side in SIDES:
        angle, turn = np.meshgrid(np.linspace(-np.pi / 2, np.pi / 2, 11), np.linspace(0.0, 2 * np.pi, 29), indexing="ij")

        def power(value, exponent=0.38):
            return np.sign(value) * np.abs(value) ** exponent

        ball = np.stack([power(np.cos(angle)) * power(np.cos(turn)), power(np.sin(angle)), power(np.cos(angle)) * power(np.sin(turn))], -1)
        place = np.array((side * BAG[0], *BAG[1:])) + np.array((side * 0.035, -0.02 - BAG_SIZE[1], 0.0))
        grid = place + ball * np.array(BAG_SIZE) * (1.0 - 0.10 * (ball[..., 1:2] > 0.5))
        vertices, triangles, _, _ = shapes.sheet(grid[::1] if side > 0 else grid[::-1])
        local = (vertices - place) / np.array(BAG_SIZE)
        flap = (local[:, 1] > -0.05) & (side * local[:, 0] > -0.2)
        colour = np.where(flap[:, None], np.array((136, 90, 62), float), np.array(LEATHER, float))
        hem = np.exp(-(((local[:, 1] + 0.05) / 0.07) ** 2)) * (side * local[:, 0] > 0.0)
        colour += hem[:, None] * (np.array((70, 44, 32)) - colour)
        buckle = (np.abs(local[:, 2]) < 0.16) & (np.abs(local[:, 1] + 0.02) < 0.2) & (side * local[:, 0] > 0.6)
        colour = np.where(buckle[:, None], np.array(BRASS, float), colour)
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole(f"bag_{letter}", len(vertices)))
