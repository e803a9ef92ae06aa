"""Advancing rigid bodies: laying them out for kernels/rigid_contacts.py."""

from dataclasses import dataclass, field

import numpy as np

from quiver.kernels.contacts import FRAME, SHAPE
from quiver.kernels.rigid_contacts import BOX, advance_bodies, room_for

NOTHING = np.zeros((0, 0)), np.zeros((0, FRAME)), np.zeros((0, SHAPE))
NO_SURFACE_CONTACTS = np.zeros(0, np.int64), np.zeros((0, 12)), np.zeros(0), np.zeros(0)


@dataclass
class RigidBody:
    """What is constant of a body: numbers (BODY,), kind and settings (SETTINGS,) as kernels/rigid.py says, points (M, 4) that make up
    its surface, and what it is to others: outside (SHAPE,) and box (BOX,), all as kernels/rigid_contacts.py says.
    """

    numbers: np.ndarray
    kind: int
    settings: np.ndarray
    points: np.ndarray
    outside: np.ndarray = field(default_factory=lambda: np.zeros(SHAPE))
    box: np.ndarray = field(default_factory=lambda: np.eye(BOX)[-1])


def advance(bodies, states, keyed, dt, touches=None, surface_contacts=None):
    """Advance B bodies, which knock against each other, through S substeps of ``dt`` seconds; their states (13,) are changed.

    keyed    for each (S + 1, 7): its keyed positions and turns before the first substep and after each
    touches  for each contact_distances (M, K), frames (S K, FRAME), shapes (K, SHAPE); surface_contacts as in kernels/rigid_contacts.py

    Returns positions and rotations (B, S, 7) after each substep.
    """
    touches, surface_contacts = touches or [NOTHING] * len(bodies), surface_contacts or [NO_SURFACE_CONTACTS] * len(bodies)
    counts = [
        (len(body.points), len(touch[2]), len(surface_contact[0]))
        for body, touch, surface_contact in zip(bodies, touches, surface_contacts, strict=True)
    ]
    ends = np.concatenate([np.zeros((1, 3), np.int64), np.cumsum(counts, axis=0)])
    together, record = np.array(states), np.empty((len(bodies), len(keyed[0]) - 1, 7))
    numbers, kinds, settings, points, outside, boxes = (
        [getattr(body, name) for body in bodies] for name in ("numbers", "kind", "settings", "points", "outside", "box")
    )
    contact_distances = np.concatenate([touch[0].ravel() for touch in touches])
    frames, shapes = (np.concatenate([touch[k] for touch in touches]) for k in (1, 2))
    near = tuple(np.concatenate(parts) for parts in zip(*surface_contacts, strict=True))
    body_rows = np.array(numbers), np.array(kinds), np.array(keyed), dt, np.array(settings)
    scene = np.concatenate(points), (contact_distances, frames, shapes), near, np.array(outside), np.array(boxes)
    room = room_for(len(bodies), len(scene[0]), len(shapes), len(contact_distances), len(near[0]))
    advance_bodies(together, *body_rows, ends, *scene, room, record)
    for state, moved in zip(states, together, strict=True):
        state[:] = moved
    return record
