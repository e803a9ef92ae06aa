"""From a layer's picks to chains of joints: no gaps, no surprise branches, nothing of zero length."""

import itertools
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np

from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.rig.pose import rest_matrices
from quiver.setup.model import ChainPick

SHORTEST = 1e-5
"""Segments shorter than this share of the character's size count as zero: float32 could not hold their direction."""

MIRROR_SHARE = 0.02
"""So far from its exact mirror place, as a share of the character's size, another joint still counts as its partner."""


@dataclass(frozen=True)
class ChainPath:
    """n segments; segment i is turned by joint drivers[i] and ends in a point riding on a node.

    drivers int32 (n,); point_nodes int32 (n + 1,) and point_offsets float64 (n + 1, 3) [file units, in the node's space];
    stretch_nodes: for each segment the nodes whose translation makes its length.
    """

    drivers: np.ndarray
    point_nodes: np.ndarray
    point_offsets: np.ndarray
    stretch_nodes: tuple


def resolve(character, pick):
    """Lists of joints, main path first, that one ChainPick means. Raises BadInput with the reason."""
    skeleton = character.skeleton
    unknown = [name for name in pick.names if name not in skeleton]
    if unknown:
        raise BadInput(f"expected joints of this character, got {', '.join(unknown)}")
    if pick.picked:
        return [_picked(skeleton, [skeleton.index(name) for name in pick.picked])]
    root = skeleton.index(pick.root)
    if pick.end:
        return [_between(skeleton, root, skeleton.index(pick.end))]
    paths, starts = [], [root]
    for start in starts:
        path = [start]
        while children := _chain_children(skeleton, path[-1]):
            if len(children) > 1 and not pick.branches:
                names = ", ".join(skeleton.names[child] for child in children)
                raise BadInput(f"the chain branches at “{skeleton.names[path[-1]]}” into {names}: choose its end, or allow branches")
            path.append(children[0])
            starts.extend(children[1:])
        paths.append(path)
    return paths


def lines(character, names):
    """ChainPicks of chosen joints: joints that lie below each other make one chain, others a chain each; one alone goes down to its tip.

    Where two chosen joints lie below a third, the deeper line goes on from it and the other begins a chain. Raises BadInput.
    """
    skeleton = character.skeleton
    unknown = [name for name in names if name not in skeleton]
    if unknown:
        raise BadInput(f"this character has no joints called {', '.join(unknown)}")
    chosen = [skeleton.index(name) for name in dict.fromkeys(names)]
    below = {node: [] for node in chosen}
    for node in chosen:
        above = next((each for each in skeleton.ancestors(node) if each in below), None)
        if above is not None:
            below[above].append(node)
    lower, picks = {node for nodes in below.values() for node in nodes}, []
    starts = [node for node in chosen if node not in lower]
    for start in starts:
        last = start
        while below[last]:
            first, *others = sorted(below[last], key=lambda node: -_depth(skeleton, node))
            starts.extend(others)
            last = first
        picks.append(ChainPick(skeleton.names[start], skeleton.names[last] if last != start else ""))
    return picks


def tips(character, name):
    """The names of the joints at which a chain from a joint may end, the main one first. Raises BadInput."""
    return [character.skeleton.names[path[-1]] for path in resolve(character, ChainPick(name, branches=True))]


def to_tips(character, name, ends):
    """ChainPicks from a joint to some of its tips: the first goes all the way, the others begin where they leave it. Raises BadInput."""
    skeleton, taken, picks = character.skeleton, set(), []
    for end in ends:
        path = resolve(character, ChainPick(name, end))[0]
        own = [node for node in path if node not in taken]
        if own:
            picks.append(ChainPick(skeleton.names[own[0]], end))
        taken.update(path)
    return picks


def _chain_children(skeleton, node):
    """Children that lead to joints, longest way first, so that the main path is the longest."""
    joints = skeleton.is_joint if skeleton.is_joint.any() else np.ones(len(skeleton), bool)
    children = [child for child in skeleton.children[node] if joints[skeleton.below(child)].any()]
    return sorted(children, key=lambda child: -_depth(skeleton, child))


def _depth(skeleton, node):
    depth, level = 0, [node]
    while level:
        depth, level = depth + 1, [child for parent in level for child in skeleton.children[parent]]
    return depth


def _between(skeleton, root, end):
    path = [end, *skeleton.ancestors(end)]
    if root not in path:
        raise BadInput(f"expected an end below “{skeleton.names[root]}”, got “{skeleton.names[end]}”")
    return path[: path.index(root) + 1][::-1]


def _picked(skeleton, nodes):
    for upper, lower in itertools.pairwise(nodes):
        if skeleton.parents[lower] == upper:
            continue
        path = skeleton.ancestors(lower)
        if upper not in path:
            raise BadInput(f"expected joints from root to tip, but “{skeleton.names[lower]}” is not below “{skeleton.names[upper]}”")
        missing = ", ".join(skeleton.names[node] for node in reversed(path[: path.index(upper)]))
        raise BadInput(f"the chain has a gap: {missing} lies between “{skeleton.names[upper]}” and “{skeleton.names[lower]}”")
    return nodes


def chain_path(character, nodes, notes, name):
    """Turn a list of nodes into segments between points of the rest pose; remarks go to ``notes``. Raises BadInput."""
    skeleton = character.skeleton
    world = rest_matrices(skeleton)
    shortest = SHORTEST * max(float(np.ptp(world[:, :, 3], axis=0).max()), 1e-3)
    drivers, points, offsets, stretched = [], [nodes[0]], [np.zeros(3)], []
    driver, riders = nodes[0], []
    for node in nodes[1:]:
        riders.append(node)
        if np.linalg.norm(world[node, :, 3] - world[points[-1], :, 3]) <= shortest:
            notes.append(f"{name}: “{skeleton.names[node]}” lies on its parent and rides along")
            continue
        drivers.append(driver)
        points.append(node)
        offsets.append(np.zeros(3))
        stretched.append(tuple(riders))
        driver, riders = node, []
    tip = _tip_offset(character, world, nodes, points[-1], shortest)
    if tip is not None:
        drivers.append(driver)
        points.append(points[-1])
        offsets.append(tip)
        stretched.append(())
    if not drivers:
        raise BadInput(f"{name}: expected a chain with a length, but all its joints lie in one place and nothing hangs on them")
    return ChainPath(np.array(drivers, np.int32), np.array(points, np.int32), np.array(offsets), tuple(stretched))


def lone_axis(character, pick):
    """The axis of its parent, "x", "y" or "z", nearest to a chain of one joint; None for longer chains. Raises BadInput."""
    nodes = resolve(character, pick)
    if len(nodes) > 1 or len(nodes[0]) > 1:
        return None
    path, world = chain_path(character, nodes[0], [], pick.root), rest_matrices(character.skeleton)
    if len(path.drivers) > 1:
        return None
    joint, parent = int(path.drivers[0]), int(character.skeleton.parents[path.drivers[0]])
    along = world[joint, :, :3] @ path.point_offsets[-1]
    frame = world[parent, :, :3] if parent >= 0 else np.eye(3)
    return "xyz"[int(np.argmax(np.abs(np.linalg.pinv(frame) @ along)))]


def _tip_offset(character, world, nodes, last_point, shortest):
    """Where the last joint points to, in that joint's space: a child, the skin it moves, or straight on."""
    last = nodes[-1]
    into = np.linalg.pinv(world[last_point, :, :3])
    origin = world[last_point, :, 3]
    for child in character.skeleton.children[last]:
        if np.linalg.norm(world[child, :, 3] - origin) > shortest:
            return into @ (world[child, :, 3] - origin)
    if len(nodes) == 1:
        centre = _moved_centre(character, world, last)
        if centre is not None and np.linalg.norm(centre - origin) > shortest:
            return into @ (centre - origin)
    before = [
        node for node in (*nodes[::-1], *character.skeleton.ancestors(nodes[0])) if np.linalg.norm(world[node, :, 3] - origin) > shortest
    ]
    return into @ (origin - world[before[0], :, 3]) if before else None


def _moved_centre(character, world, node):
    """The mean rest place of the vertices that a joint moves, by weight; None where it moves none."""
    total, weight = np.zeros(3), 0.0
    for mesh in character.meshes:
        if mesh.skin < 0 or node not in mesh.bind_nodes:
            continue
        slot = int(np.flatnonzero(mesh.bind_nodes == node)[0])
        corner_weights = np.where(mesh.joints == node, mesh.weights, 0.0).sum(1)
        place = world[node, :, :3] @ mesh.inverse_binds[slot, :, :3]
        shift = world[node, :, :3] @ mesh.inverse_binds[slot, :, 3] + world[node, :, 3]
        total += corner_weights @ (mesh.positions @ place.T + shift)
        weight += float(corner_weights.sum())
    return total / weight if weight > 0.0 else None


def partner_of(character, node):
    """The node nearest to the mirror place of another across x = 0; itself in the middle. Raises BadInput where there is none."""
    skeleton = character.skeleton
    positions = rest_matrices(skeleton)[:, :, 3]
    away = np.linalg.norm(positions - positions[node] * [-1.0, 1.0, 1.0], axis=1)
    found = int(np.argmin(away))
    if away[found] > MIRROR_SHARE * float(np.ptp(positions, axis=0).max()):
        raise BadInput(f"expected a joint on the other side of “{skeleton.names[node]}”, but nothing is there")
    return found


def mirrored(character, pick):
    """The ChainPick on the other side: the joints nearest to the mirror positions across x = 0. Raises BadInput where there is none."""
    skeleton = character.skeleton

    def other(name):
        node = skeleton.index(name)
        found = partner_of(character, node)
        if found == node:
            raise BadInput(f"expected a joint on the other side of “{name}”, but it lies in the middle")
        return skeleton.names[found]

    names = {name: other(name) for name in pick.names}
    return replace(pick, root=names.get(pick.root, ""), end=names.get(pick.end, ""), picked=tuple(names[name] for name in pick.picked))


def driven_nodes(character, layers):
    """All nodes that the chains of some layers move. Raises BadInput."""
    chains = [nodes for layer in layers for pick in layer.chains for nodes in resolve(character, pick)]
    return {below for nodes in chains for node in nodes for below in character.skeleton.below(int(node))}


def turned_by(character, layers):
    """All joints that the chains of some layers turn themselves; without those of picks that cannot be resolved."""
    found = set()
    for pick in (pick for layer in layers for pick in layer.chains):
        with suppress(BadInput):
            found.update(int(node) for nodes in resolve(character, pick) for node in nodes)
    return found


def moved_by(character, names):
    """The mesh of which some joints, and those below them, move most, and what of it: (mesh, levels uint8 (V,)). Raises BadInput."""
    if not names:
        raise BadInput("expected the joints that move the skin: click them on the stage, or type their names")
    nodes = {below for name in names for below in character.skeleton.below(character.skeleton.index(name))}
    found = [(mesh, regions.from_joints(mesh, nodes)) for mesh in character.meshes]
    mesh, levels = max(found, key=lambda each: int(regions.is_in(each[1]).sum()))
    if not regions.is_in(levels).any():
        raise BadInput(f"expected joints that move some skin, {', '.join(names)} move none")
    return mesh, levels
