"""Limbs with muscles that the tests are made of."""

import numpy as np

from quiver import layers as registry
from quiver.rig import transforms
from quiver.rig.character import Character, Mesh
from quiver.rig.clip import Channel, Clip
from quiver.rig.pose import Pose
from quiver.rig.skeleton import Skeleton, parents_first
from quiver.setup.model import Attachment, Layer, Muscle, Setup

UPPER, LOWER = "upper", "lower"


def spindle(begin, end, radius, around=16, rings=13, shape=lambda along: np.ones_like(along)):
    """A closed surface from one point to another: (positions, triangles), ``shape`` being its radius against ``radius`` along it."""
    begin, end = np.asarray(begin, float), np.asarray(end, float)
    line = (end - begin) / np.linalg.norm(end - begin)
    side = np.cross(line, [0.0, 0.0, 1.0] if abs(line[2]) < 0.9 else [1.0, 0.0, 0.0])
    side = side / np.linalg.norm(side)
    other = np.cross(line, side)
    angles, along = 2.0 * np.pi * np.arange(around) / around, np.linspace(0.0, 1.0, rings)
    circle = np.cos(angles)[:, None] * side + np.sin(angles)[:, None] * other
    points = begin + along[:, None, None] * (end - begin) + (radius * shape(along))[:, None, None] * circle
    positions = np.concatenate([points.reshape(-1, 3), [begin, end]])
    corner = (np.arange(rings - 1)[:, None] * around + np.arange(around)).ravel()
    beside = (np.arange(rings - 1)[:, None] * around + (np.arange(around) + 1) % around).ravel()
    sides = np.concatenate(
        [np.column_stack([corner, beside, beside + around]), np.column_stack([corner, beside + around, corner + around])]
    )
    turn, last, count = np.arange(around), around * (rings - 1), around * rings
    caps = [np.column_stack([np.full(around, count), (turn + 1) % around, turn])]
    caps.append(np.column_stack([np.full(around, count + 1), last + turn, last + (turn + 1) % around]))
    return positions, np.concatenate([sides, *caps]).astype(np.int32)


def limb(pieces, bend=0.0, seconds=1.0, length=0.3, scale=1.0):
    """A Character of two joints along X, the second ``length`` [m] from the first, which holds muscles of pieces [(positions, triangles)]
    in one rigid mesh "muscles"; its clip "bend" bends the second by so many degrees about Z.
    """
    parents = np.array([-1, 0, 1], np.int32)
    offsets = np.array([[0.0, 1.0, 0.0], [length, 0.0, 0.0], [length, 0.0, 0.0]]) / scale
    rest = Pose(offsets, np.tile(transforms.IDENTITY, (3, 1)), np.ones((3, 3)))
    skeleton = Skeleton((UPPER, LOWER, "tip"), parents, parents_first(parents), np.ones(3, bool), rest)
    begins = np.cumsum([0, *(len(positions) for positions, _ in pieces)])
    # The mesh hangs on the first joint, which is a metre up.
    positions = np.concatenate([positions for positions, _ in pieces]) / scale
    triangles = np.concatenate([triangles + begin for (_, triangles), begin in zip(pieces, begins, strict=False)])
    mesh = Mesh("muscles", 0, np.float32(positions), triangles.astype(np.int32))
    turns = transforms.from_axis_angle(np.tile([0.0, 0.0, 1.0], (2, 1)), np.radians([0.0, bend]))
    clip = Clip("bend", (Channel(1, "rotation", "LINEAR", np.array([0.0, seconds]), turns),), 0.0, seconds)
    return Character("limb", skeleton, (mesh,), (clip,))


def muscle_layer(at=(0,), drivers=(), keys=((0.0, 0.0),), values=None, ends=(UPPER, LOWER), bones=(), **dials):
    """A layer of muscles from one joint to the other, one for each vertex that names a piece."""
    origin, insertion = (Attachment(name) for name in ends)
    muscles = tuple(
        Muscle(f"m{number}", f"M {number}", "muscles", vertex, origin, insertion, values or {}, keys, drivers)
        for number, vertex in enumerate(at)
    )
    kind = registry.kind_of("muscle")
    return Layer("muscles", "Muscles", "muscle", values=kind.defaults | dials, muscles=muscles, bones=bones)


def setup_of(*layers, frame_rate=24.0, preroll=0.0, scale=1.0):
    """A Setup of layers."""
    return Setup(layers=layers, frame_rate=frame_rate, preroll_frames=preroll, metres_per_unit=scale)
