"""Fixed roots of chains and pivots of props that are inside of simple colliders: nothing pushes them out, but the collider can be moved."""

from dataclasses import dataclass, replace

import numpy as np

from quiver.bodies import picking
from quiver.contact.contacts import Contacts
from quiver.errors import BadInput
from quiver.rig.pose import rest_matrices

DEEP_ENOUGH = 0.005
"""A root that is no deeper inside is let be [m]."""
SHALLOW = 0.5
"""A root is shallow up to this share of the collider's thickness."""
CLEAR, ROUNDS = 1e-4, 40
"""A collider is moved so far off a root [m], one root after another, so many times at the most."""


@dataclass(frozen=True)
class InnerRoot:
    """A joint (``node``) that a layer's chain or prop hangs on is ``depth`` [m] inside a collider; ``way`` (3,) leads straight out."""

    layer: object
    node: int
    collider: object
    depth: float
    way: np.ndarray
    thickness: float
    """of the collider, from its middle [m]"""

    @property
    def is_shallow(self):
        """Whether the collider can be moved off it and still be where it was put."""
        return self.depth < SHALLOW * self.thickness


def inner_roots(character, setup, contacts=None):
    """The InnerRoots of a setup in the rest pose, the deepest of each joint, at all of its colliders that are on."""
    contacts = contacts or Contacts(character, setup)
    driven, found = picking.driven_nodes(character, setup.layers), []
    world = rest_matrices(character.skeleton)
    placed = contacts.placements(world[None])[0]
    for layer in setup.layers:
        met = contacts.met_by(layer, driven) if layer.is_on and layer.chains else ()
        if not len(met):
            continue
        for node in _roots_of(character, layer):
            place = setup.metres_per_unit * world[node, :, 3]
            depths = contacts.radii[met] - contacts.distances(place)[met]
            index = met[int(np.argmax(depths))]
            if depths.max() > DEEP_ENOUGH:
                collider, scale = contacts.colliders[index], setup.metres_per_unit
                way, thickness = _way_out(place, placed[index], collider.core, scale), scale * (collider.radius + min(collider.core))
                found.append(InnerRoot(layer, node, collider, float(depths.max()), way, thickness))
    return found


def clear_place(character, setup, collider_id):
    """Where a collider has to be so that no root is inside [file units]. Raises BadInput where none is, or one is too deep for that."""
    name, is_moved = setup.collider(collider_id).name, False
    for _ in range(ROUNDS):
        inside = [root for root in inner_roots(character, setup) if root.collider.id == collider_id]
        if not inside:
            break
        deepest = max(inside, key=lambda root: root.depth)
        if not deepest.is_shallow:
            raise BadInput(f"expected roots near the surface of “{name}”, one is too deep inside: make it smaller instead")
        place = deepest.collider.place - deepest.way * (deepest.depth + CLEAR) / setup.metres_per_unit
        moved, is_moved = replace(deepest.collider, place=tuple(float(value) for value in place)), True
        setup = replace(setup, colliders=tuple(moved if each.id == collider_id else each for each in setup.colliders))
    else:
        raise BadInput(f"expected room beside all roots, “{name}” does not get clear of them: make it smaller")
    if not is_moved:
        raise BadInput(f"expected a root inside “{name}”, there is none")
    return setup.collider(collider_id).place


def _roots_of(character, layer):
    """The joints on which the chains or props of a layer hang; none where its joints are not those of the character."""
    try:
        return sorted({int(picking.resolve(character, pick)[0][0]) for pick in layer.chains})
    except BadInput:
        return []


def _way_out(place, placed, core, scale):
    """The shortest way (3,) out of a collider that is placed (3, 4) [m], from a place inside [m]: one long."""
    wide, deep, above, below = (min(side * scale, 1e9) for side in core)
    own = placed[:, :3].T @ (place - placed[:, 3])
    nearest = np.clip(own, [-wide, -below, -deep], [wide, above, deep])
    way = own - nearest
    if np.linalg.norm(way) < 1e-9:
        # Inside of the core itself: through the side that is the nearest, or, of a core without width, across.
        rooms = np.array([wide - own[0], wide + own[0], above - own[1], below + own[1], deep - own[2], deep + own[2]])
        side = int(np.argmin(rooms))
        way = np.zeros(3)
        way[side // 2] = 1.0 if side % 2 == 0 else -1.0
    return placed[:, :3] @ (way / np.linalg.norm(way))
