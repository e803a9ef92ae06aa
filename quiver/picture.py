"""Pictures drawn without a graphics card: a character in its rest pose, and small ones of a take, frame by frame."""

import numpy as np

from quiver.kernels.raster import fill_triangles
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import skinned_positions

FOG_TOP, FOG_BOTTOM = np.array((221, 227, 220.0)), np.array((196, 207, 197.0))
GROUND = np.array((214, 206, 184.0))
PLAIN, PALE, MARK = np.array((196, 178, 148.0)), np.array((214, 208, 194.0)), np.array((142, 42, 77.0))
TURN, LIGHT = 38.0, np.array((0.50, 0.62, 0.60))
"""The view is three-quarter: turned so far from the front [degrees]; and where its light comes from."""
FINER = 2
"""Pixels are averaged over this many each way."""
MOST_TRIANGLES = 400_000


def picture(character, width=480, height=320):
    """An RGB picture uint8 (height, width, 3) of the rest pose, three-quarter view, on the stage's fog."""
    world = rest_matrices(character.skeleton)
    positions = [skinned_positions(mesh, world) for mesh in character.meshes]
    return _drawn(character.meshes, positions, all_places(positions), width, height)


def marked(character, marks, width=340, height=250):
    """The rest pose from its two sides, one picture beside the other, uint8 (height, 2 width, 3): pale, but for the marked vertices,
    marks {mesh index: bool (V,)}.
    """
    world = rest_matrices(character.skeleton)
    positions = [skinned_positions(mesh, world) for mesh in character.meshes]
    colours = [_pale(mesh, marks.get(index)) for index, mesh in enumerate(character.meshes)]
    about = all_places(positions)
    sides = (_drawn(character.meshes, positions, about, width, height, turn, colours) for turn in (TURN, TURN + 180.0))
    return np.concatenate(list(sides), axis=1)


def _pale(mesh, marks):
    colours = np.full((len(mesh.positions), 3), PALE)
    if marks is not None:
        colours[marks] = MARK
    return colours


def strip(character, scenes, about, width, height):
    """Pictures of n scenes (each the positions (V, 3) of all meshes), one below the other: RGB uint8 (n height, width, 3). All are seen by
    the same camera, which has the places ``about`` (N, 3) in view.
    """
    return np.concatenate([_drawn(character.meshes, positions, about, width, height) for positions in scenes])


def all_places(positions):
    """The places (N, 3) of all meshes."""
    return np.concatenate([np.zeros((0, 3), np.float32), *positions])


def _drawn(meshes, positions, about, width, height, turn=TURN, colours=None):
    wide, high = width * FINER, height * FINER
    image = np.linspace(FOG_TOP, FOG_BOTTOM, high)[:, None].repeat(wide, 1).astype(np.float32)
    depth = np.full((high, wide), np.inf, np.float32)
    own = [_colours(mesh) for mesh in meshes] if colours is None else colours
    drawn = [each for each in zip(meshes, positions, own, strict=True) if len(each[0].triangles)]
    if not drawn or not all(np.isfinite(place).all() for place in (about, *positions)):
        return _averaged(image, width, height)
    view, centre, scale = _camera(about, wide, high, turn)
    _draw_ground(image, depth, about, view, centre, scale)
    for mesh, place, base in drawn:
        shades = _shades(mesh, place, view, base)
        step = max(1, len(mesh.triangles) // MOST_TRIANGLES)
        fill_triangles(_projected(place, view, centre, scale, image.shape), mesh.triangles[::step], shades, depth, image)
    return _averaged(image, width, height)


def _view(turn):
    """The axes of the view (3, 3): right, up, and back to the camera."""
    turn, tilt = np.radians(turn), np.radians(13.0)
    right = np.array((np.cos(turn), 0.0, -np.sin(turn)))
    back = np.array((np.sin(turn) * np.cos(tilt), np.sin(tilt), np.cos(turn) * np.cos(tilt)))
    return np.stack([right, np.cross(back, right), back])


def _camera(points, wide, high, turn):
    view = _view(turn)
    seen = points @ view.T
    low, top = seen.min(0), seen.max(0)
    span = np.maximum(top - low, 1e-6)
    return view, (low + top) / 2.0, 0.82 * min(wide / span[0], high / span[1])


def _projected(points, view, centre, scale, shape):
    seen = (points @ view.T - centre) * scale
    return np.stack([seen[:, 0] + shape[1] / 2, shape[0] / 2 - seen[:, 1], -seen[:, 2]], 1).astype(np.float32)


def _draw_ground(image, depth, points, view, centre, scale):
    """A disc of sand under the character, darker where it stands."""
    low, top = points.min(0), points.max(0)
    middle, reach = (low + top) / 2.0, 0.62 * np.hypot(top[0] - low[0], top[2] - low[2])
    angle, radius = np.linspace(0, 2 * np.pi, 49), np.linspace(0.0, 1.0, 17)
    x = middle[0] + reach * radius[:, None] * np.cos(angle)
    z = middle[2] + reach * radius[:, None] * np.sin(angle)
    disc = np.stack([x, np.full_like(x, low[1]), z], -1).reshape(-1, 3)
    fade = np.repeat(np.clip((1.0 - radius) * 2.2, 0.0, 1.0), 49)[:, None]
    shadow = np.repeat(np.exp(-((radius / 0.52) ** 2)), 49)[:, None]
    shades = FOG_BOTTOM * (1 - fade) + fade * (GROUND * (1.0 - 0.42 * shadow))
    row, column = np.meshgrid(np.arange(16), np.arange(48), indexing="ij")
    a = (row * 49 + column).ravel()
    triangles = np.concatenate([np.stack([a, a + 1, a + 50], 1), np.stack([a, a + 50, a + 49], 1)]).astype(np.int32)
    fill_triangles(_projected(disc, view, centre, scale, image.shape), triangles, shades.astype(np.float32), depth, image)


def _colours(mesh):
    return PLAIN if mesh.colours is None else 255.0 * (mesh.colours / 255.0) ** (1 / 2.2)


def _shades(mesh, place, view, base):
    corners = place[mesh.triangles].astype(float)
    face = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.zeros((len(place), 3))
    for k in range(3):
        np.add.at(normals, mesh.triangles[:, k], face)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-20)
    # What is seen from behind is a sheet's other side.
    normals *= np.where(normals @ view[2] < 0.0, -1.0, 1.0)[:, None]
    # The light comes with the camera.
    key = np.clip(normals @ (view.T @ _view(TURN) @ LIGHT), 0.0, 1.0)[:, None]
    sky = (0.5 + 0.5 * normals[:, 1])[:, None]
    light = 0.98 * key * np.array((1.0, 0.95, 0.86)) + 0.24 + 0.32 * sky * np.array((0.86, 0.95, 1.0))
    return np.clip(base * light, 0.0, 255.0).astype(np.float32)


def _averaged(image, width, height):
    return image.reshape(height, FINER, width, FINER, 3).mean((1, 3)).round().astype(np.uint8)
