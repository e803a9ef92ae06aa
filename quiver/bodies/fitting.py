"""Capsules fitted to what joints move."""

import numpy as np

from quiver.bodies.inner import outer_meshes
from quiver.cache import Cache
from quiver.rig.pose import rest_matrices
from quiver.rig.skinning import rest_box, skinned_positions

FEWEST = 12
"""Vertices that a joint must move most, to be given a capsule."""
SMALLEST = 0.015
"""A capsule thinner than this share of the character's height is left out."""
MOST = 0.85
"""Share of the vertices around a chain that count for how thick it is."""
MOSTLY = 0.5
"""A vertex belongs to joints that move so much of it."""
THICK = 0.6
"""Share of its vertices that lie inside a capsule's side: a little under the skin, so that it is not felt above it."""
KEPT_CHARACTERS, KEPT_PATHS = 8, 256
_by_node, _around = Cache(KEPT_CHARACTERS), Cache(KEPT_PATHS)


def fit_capsule(character, node):
    """(place, turn x y z w, radius, length) [file units] of a capsule in the rest pose around what a node moves most, or None."""
    return _fitted(vertices_by_node(character).get(node))


def fit_all(character, left_out=(), least=0.0):
    """{node: (place, turn, radius, length)} for every joint that moves enough, but those ``left_out``, and what is shorter from end to end
    than a share ``least`` of the character.
    """
    by_node = vertices_by_node(character)
    everything = np.concatenate(list(by_node.values())) if by_node else np.zeros((1, 3))
    height = float(np.ptp(everything, axis=0).max())
    found = {}
    for node, points in sorted(by_node.items()):
        fitted = _fitted(points) if node not in left_out and character.skeleton.is_joint[node] else None
        if fitted and fitted[2] > SMALLEST * height and 2.0 * fitted[2] + fitted[3] >= least * height:
            found[node] = fitted
    return found


def skin_around(character, path, rest):
    """How thick the skin is around each of a ChainPath's n segments with ends rest (n + 1, 3), (n,) [file units], kept.

    Most of its vertices are closer. Where a segment's joint moves none, as its neighbour; 0 where none does.
    """
    return _around.get(character, (path.drivers.tobytes(), rest.tobytes()), lambda: _skin_around(vertices_by_node(character), path, rest))


def _skin_around(by_node, path, rest):
    found = np.full(len(path.drivers), np.nan)
    for i, driver in enumerate(path.drivers):
        points, a, along = by_node.get(int(driver)), rest[i], rest[i + 1] - rest[i]
        if points is not None:
            share = np.clip((points - a) @ along / max(along @ along, 1e-30), 0.0, 1.0)
            found[i] = np.quantile(np.linalg.norm(points - a - share[:, None] * along, axis=1), MOST)
    known = np.flatnonzero(~np.isnan(found))
    return np.interp(np.arange(len(found)), known, found[known]) if len(known) else np.zeros(len(found))


def skin_of_nodes(character, nodes):
    """{mesh index: vertices} of which most is moved by some nodes and those below them."""
    nodes = {below for node in nodes for below in character.skeleton.below(int(node))}
    found = {}
    for index, mesh in outer_meshes(character):
        if mesh.skin < 0:
            found[index] = np.arange(len(mesh.positions)) if mesh.node in nodes else np.zeros(0, int)
        else:
            share = (mesh.weights * np.isin(mesh.joints, list(nodes))).sum(1)
            found[index] = np.flatnonzero(share > MOSTLY)
    return {index: own for index, own in found.items() if len(own)}


def vertices_by_node(character):
    """{node: positions (n, 3) in the rest pose of the vertices that it moves most}, kept."""
    return _by_node.get(character, (), lambda: _vertices_by_node(character))


def _vertices_by_node(character):
    world, found = rest_matrices(character.skeleton), {}
    for _, mesh in outer_meshes(character):
        positions, most = skinned_positions(mesh, world), mesh.heaviest
        for node in np.unique(most):
            found.setdefault(int(node), []).append(positions[most == node])
    return {node: np.concatenate(parts) for node, parts in found.items()}


def _fitted(points):
    if points is None or len(points) < FEWEST:
        return None
    middle = 0.5 * (points.min(0) + points.max(0))
    spread, axes = np.linalg.eigh(np.cov((points - points.mean(0)).T))
    if spread[2] <= 0.0:
        return None
    along = axes[:, 2]
    heights = (points - middle) @ along
    aside = points - middle - heights[:, None] * along
    # The middle line may run beside the middle of the box.
    shift = aside.mean(0)
    radius = float(np.quantile(np.linalg.norm(aside - shift, axis=1), THICK))
    low, high = np.quantile(heights, [0.02, 0.98])
    length = max(float(high - low) - 2.0 * radius, 0.0)
    place = middle + shift + 0.5 * (low + high) * along
    return tuple(place), _turn_of(along), radius, length


def _turn_of(along):
    """The shortest turn (x y z w) from +Y to a direction, pointing up where either end would do."""
    along = along if along[1] >= 0.0 else -along
    turn = np.array([along[2], 0.0, -along[0], 1.0 + along[1]])
    return tuple(turn / np.linalg.norm(turn))


def sides_of(character):
    """Sides (3,) of the box around the skin in the rest pose, or around the joints where there is no skin [file units]."""
    low, high = rest_box(character)
    return high - low


def size_of(character):
    """The character's size, corner to corner in the rest pose [file units]."""
    return max(float(np.linalg.norm(sides_of(character))), 1e-6)
