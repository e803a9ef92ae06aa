"""What the tidewarden wears over the body: coat skirt, storm cape, scarf, hood tassels, strap and satchel."""

import numpy as np

from quiver.demo import shapes
from quiver.demo.building import Part, line_weights, mirrored, ramp

SIDES = (("l", 1.0), ("r", -1.0))
PANELS, WAIST, HEM = 5, 1.035, 0.40
"""The skirt's panels, and where it begins and ends [m]."""
SCARF = [(0.05, 1.475, -0.115), (0.075, 1.37, -0.185), (0.09, 1.25, -0.205), (0.10, 1.13, -0.215), (0.105, 1.01, -0.22)]
TASSEL = [(0.062, 1.475, 0.115), (0.066, 1.42, 0.158), (0.068, 1.355, 0.170), (0.069, 1.29, 0.172)]
SATCHEL = (-0.245, 1.0, 0.0)
"""Where the satchel hangs on its strap [m]."""
SATCHEL_SIZE = (0.05, 0.10, 0.125)
OILSKIN, SHADE, MADDER, STRAW, LEATHER, BRASS = (196, 152, 62), (120, 86, 40), (172, 66, 50), (236, 208, 142), (108, 70, 50), (206, 164, 82)
TEAL = (52, 106, 108)


def joints():
    """The clothes' joints as name → (parent, place)."""
    found = {}
    for letter, side in SIDES:
        for base, parent, positions in (("scarf", "neck", SCARF[:-1]), ("tassel", "head", TASSEL[:-1])):
            above = parent
            for number, place in enumerate(positions, 1):
                found[f"{base}_{letter}_{number}"] = (above, mirrored(place, side))
                above = f"{base}_{letter}_{number}"
    found["satchel"] = ("hips", SATCHEL)
    return found


def _clear_of(distance, origins, outwards, lift, most=0.5):
    """Points on rays from origins (N, 3) outwards (N, 3), ``lift`` [m] above the body where they leave it for good, (N, 3)."""
    reaches = np.linspace(0.0, most, 251)
    inside = distance((origins + reaches[:, None, None] * outwards).reshape(-1, 3)).reshape(len(reaches), -1) < 0.0
    last = np.where(inside.any(0), len(reaches) - 1 - np.argmax(inside[::-1], axis=0), 0)
    return reaches[last] + lift


def skirt_part(builder, distance):
    """Five panels that overlap a little, laid around the hips and flared down to the hem."""
    pieces, rows, columns = [], 17, 11
    for panel in range(PANELS):
        middle = 2 * np.pi * (panel + 0.5) / PANELS
        half = 1.09 * np.pi / PANELS
        angle = middle + np.linspace(-half, half, columns)
        outwards = np.stack([np.sin(angle), 0.0 * angle, np.cos(angle)], 1)
        grid = []
        for row in range(rows):
            down = row / (rows - 1)
            y = WAIST + down * (HEM - WAIST)
            # Below the hips it hangs from there, flared, instead of following the legs.
            at = max(y, 0.90)
            reach = _clear_of(distance, np.tile([0.0, at, 0.0], (columns, 1)), outwards, 0.014 + 0.006 * (panel % 2), 0.25)
            reach = np.maximum(reach, 0.165) + 0.17 * max(0.0, 0.93 - y)
            grid.append(np.array([0.0, y, 0.0]) + reach[:, None] * outwards)
        vertices, triangles, u, v = shapes.sheet(np.stack(grid))
        pieces.append((vertices, triangles[:, ::-1], u, v))
    starts = np.cumsum([0, *(len(vertices) for vertices, *_ in pieces)])
    vertices = np.concatenate([piece[0] for piece in pieces])
    triangles = np.concatenate([piece[1] + start for piece, start in zip(pieces, starts, strict=False)])
    u, v = (np.concatenate([piece[k] for piece in pieces]) for k in (2, 3))
    colour = np.tile(np.array(OILSKIN, float), (len(vertices), 1))
    edge = np.minimum(np.minimum(v, 1.0 - v) * 0.25, (1.0 - u) * 0.63)
    colour += np.clip(1.0 - np.abs(edge - 0.012) / 0.012, 0.0, 1.0)[:, None] * (np.array(SHADE) - colour)
    colour *= (1.0 - 0.14 * u)[:, None]
    weights = np.zeros((len(vertices), len(builder.names)))
    weights[:, builder.index("hips")] = 1.0
    for letter, side in SIDES:
        share = 0.30 * np.clip((0.95 - vertices[:, 1]) / 0.3, 0, 1) * np.clip(0.5 + side * vertices[:, 0] / 0.2, 0, 1)
        weights[:, builder.index(f"leg_upper_{letter}")] = share
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights)


def skirt_loose(part):
    """How loose each vertex of the skirt is, 0..1: sewn to the waist, free below."""
    return np.clip((WAIST - 0.02 - part.vertices[:, 1]) / 0.16, 0.0, 1.0)


def cape_part(distance, weights_of):
    """A short cape around the shoulders, open in front."""
    angle = np.radians(np.linspace(22.0, 338.0, 47))
    outwards = np.stack([np.sin(angle), 0.0 * angle, np.cos(angle)], 1)
    heights = np.array([1.485, 1.465, 1.445, 1.42, 1.39, 1.355, 1.315, 1.275, 1.235, 1.20])
    grid = []
    for y in heights:
        reach = _clear_of(distance, np.tile([0.0, y, -0.01], (len(angle), 1)), outwards, 0.024, 0.48)
        wide = 0.13 + 0.30 * np.clip((1.49 - y) / 0.29, 0.0, 1.0) ** 0.75
        across = np.abs(np.sin(angle))
        reach = np.maximum(reach, wide * (0.62 + 0.38 * across)) + 0.03 * np.clip((1.40 - y) / 0.2, 0.0, 1.0)
        # It lies over the arms in one sweep, not around each.
        for _ in range(3):
            reach = np.maximum(reach, np.convolve(np.pad(reach, 2, "edge"), np.full(5, 0.2), "valid"))
        grid.append(np.array([0.0, y, -0.01]) + reach[:, None] * outwards)
    vertices, triangles, u, v = shapes.sheet(np.stack(grid))
    triangles = triangles[:, ::-1]
    colour = np.tile(np.array(TEAL, float), (len(vertices), 1))
    hem = np.minimum(1.0 - u, np.minimum(v, 1.0 - v) * 4.0)
    colour += np.clip(1.0 - np.abs(hem - 0.10) / 0.06, 0.0, 1.0)[:, None] * (np.array(STRAW) - colour)
    return Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour * (1.0 - 0.1 * u)[:, None], weights_of(vertices))


def cape_loose(part):
    """How loose each vertex of the cape is, 0..1: fixed around the neck."""
    return np.clip((1.455 - part.vertices[:, 1]) / 0.09, 0.0, 1.0)


def scarf_parts(builder, weights_of):
    """A scarf wound around the neck, and its two tails down the back."""
    around = np.linspace(0.0, 2 * np.pi, 41)
    knots = np.stack([0.115 * np.sin(around), 1.49 + 0.018 * np.cos(around), -0.005 + 0.115 * np.cos(around)], 1)
    vertices, triangles, along, _ = shapes.tube(knots, np.full(41, 0.034), 60, 12)
    colour = _striped(along / 40.0 * 9.0)
    yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, weights_of(vertices))
    for letter, side in SIDES:
        line, along = shapes.smooth_curve([mirrored(place, side) for place in SCARF], 25)
        across = np.array((0.034, 0.0, 0.012 * side))
        rows = np.stack([line + shift * across + np.array((0, 0, 0.004 * (1 - shift * shift))) for shift in np.linspace(-1.0, 1.0, 5)], 1)
        vertices, triangles, u, _ = shapes.sheet(rows)
        names = ["neck", *(f"scarf_{letter}_{number}" for number in (1, 2, 3, 4))]
        weights = line_weights(builder, np.repeat(along, 5) + 0.6, names)
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), _striped(u * 4.0), weights)


def _striped(along):
    return ramp(np.abs(along % 1.0 - 0.5), [(0.0, STRAW), (0.13, STRAW), (0.17, MADDER), (0.5, MADDER)])


def tassel_parts(builder):
    """Two cords on the hood, each with a tassel."""
    for letter, side in SIDES:
        knots = [mirrored(place, side) for place in TASSEL]
        vertices, triangles, along, _ = shapes.tube(knots, (0.006, 0.006, 0.0075, 0.017), 24, 8)
        colour = ramp(along / 3.0, [(0.0, SHADE), (0.6, SHADE), (0.66, STRAW), (1.0, MADDER)])
        names = ["head", *(f"tassel_{letter}_{number}" for number in (1, 2, 3))]
        yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, line_weights(builder, along + 0.6, names))


def strap_part(distance, weights_of):
    """A leather strap from the left shoulder across chest and back down to the satchel on the right hip."""
    turn = np.linspace(0.0, 2 * np.pi, 57)
    # A slanted loop: its own up leads from the satchel to the shoulder.
    up, ahead = np.array((0.44, 0.90, 0.0)), np.array((0.0, 0.0, 1.0))
    aside = np.cross(up, ahead)
    middle = np.array((-0.035, 1.235, -0.005))
    outwards = np.cos(turn)[:, None] * up + np.sin(turn)[:, None] * ahead
    rows = []
    for shift in (-0.02, 0.0, 0.02):
        origins = np.tile(middle + shift * aside, (len(turn), 1))
        reach = _clear_of(distance, origins, outwards, 0.020, 0.42)
        below = np.clip((-np.cos(turn) - 0.75) / 0.25, 0.0, 1.0)
        reach = reach * (1.0 - below) + below * np.maximum(reach, np.linalg.norm(np.array(SATCHEL) - middle))
        reach = np.convolve(np.pad(reach[:-1], 3, "wrap"), np.full(7, 1 / 7), "valid")
        rows.append(origins + np.append(reach, reach[0])[:, None] * outwards)
    vertices, triangles, u, _ = shapes.sheet(np.stack(rows))
    colour = ramp(u, [(0.0, (66, 42, 32)), (0.3, LEATHER), (0.7, LEATHER), (1.0, (66, 42, 32))])
    return Part(vertices, triangles[:, ::-1], shapes.vertex_normals(vertices, triangles[:, ::-1]), colour, weights_of(vertices))


def strap_loose(part):
    """How loose each vertex of the strap is, 0..1: it lies fast on the shoulder and gives at the hip."""
    return np.clip((1.30 - part.vertices[:, 1]) / 0.25, 0.0, 1.0)


def strap_end(part):
    """The vertices of the strap that the satchel hangs on."""
    return np.argsort(np.linalg.norm(part.vertices - np.array(SATCHEL), axis=1))[:6].tolist()


def satchel_parts(builder):
    """A rounded leather bag with a flap and a buckle."""
    angle, turn = np.meshgrid(np.linspace(-np.pi / 2, np.pi / 2, 11), np.linspace(0.0, 2 * np.pi, 29), indexing="ij")

    def power(value, exponent=0.4):
        return np.sign(value) * np.abs(value) ** exponent

    ball = np.stack([power(np.cos(angle)) * power(np.cos(turn)), power(np.sin(angle)), power(np.cos(angle)) * power(np.sin(turn))], -1)
    place = np.array(SATCHEL) + np.array((-0.045, -SATCHEL_SIZE[1] - 0.005, 0.0))
    vertices, triangles, _, _ = shapes.sheet((place + ball * np.array(SATCHEL_SIZE))[::-1])
    local = (vertices - place) / np.array(SATCHEL_SIZE)
    colour = np.where(((local[:, 1] > -0.1) & (local[:, 0] < 0.2))[:, None], np.array((134, 90, 62), float), np.array(LEATHER, float))
    buckle = (np.abs(local[:, 2]) < 0.15) & (np.abs(local[:, 1] + 0.05) < 0.2) & (local[:, 0] < -0.6)
    colour = np.where(buckle[:, None], np.array(BRASS, float), colour)
    yield Part(vertices, triangles, shapes.vertex_normals(vertices, triangles), colour, builder.whole("satchel", len(vertices)))
