"""Compiles (or loads from the cache) the kernels, so that the first real run does not wait: every kind of layer runs once on a toy."""

from dataclasses import replace

import numpy as np

from quiver import layers as registry
from quiver.errors import QuiverError
from quiver.layers.kinds import JOINTS, MUSCLES
from quiver.mesh import regions
from quiver.picture import picture
from quiver.rig import transforms
from quiver.rig.character import Character, Mesh
from quiver.rig.clip import Channel, Clip
from quiver.rig.pose import Pose
from quiver.rig.skeleton import Skeleton, parents_first
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import Attachment, ChainPick, Muscle, Region, Setup

JOINT, THING, FRAMES = "first", "thing", 3
RING = np.array([[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]])
SIDE, LENGTH, ROWS = 0.06, 0.4, 9
"""Half the toy's thickness, its length [m], and the rings of vertices along it."""


def warm():
    """Run a layer of each kind on a toy, once with nothing around it and once among colliders of each simple shape and its own skin."""
    character = _toy()
    levels = regions.fill(regions.nothing(4 * ROWS), 0.8)
    # The rest of the skin is what a region may touch.
    levels[2 * ROWS :] = regions.OUT
    region = Region("half", "Half", "body", 4 * ROWS, regions.encode(levels))
    for kind in registry.kinds():
        plain = replace(Setup(preroll_frames=0.0, regions=(region,)), layers=(_layer(kind),))
        for setup in (plain, _among_colliders(plain)):
            try:
                list(execute(compile_plan(TakeSpec(character, setup, "fold"))))
            except QuiverError:
                # A kind that a toy does not suit is compiled when it is first used.
                continue
    picture(character)


def _layer(kind):
    pick = ChainPick(JOINT) if kind.picks_many else edits.joint_pick(THING if "rides" in kind.fields else JOINT)
    made_of = {"chains": (pick,)} if kind.made_of == JOINTS else {"region": "half"}
    if kind.made_of == MUSCLES:
        # Two that cross each other, on a bone.
        ends = Attachment("base"), Attachment("third")
        muscles = (Muscle(name, name, name, 0, *ends, keys=((0.0, 1.0),)) for name in ("cover", "beside"))
        made_of = {"muscles": tuple(muscles), "bones": (THING,)}
    values = {"self_collision": "on", "prop_collision": "on", "stretch_limit": 20.0, "cell_size": 100.0, "bend_limit": 30.0}
    own = {dial.name for dial in kind.dials}
    return edits.new_layer(kind.name, kind.name, kind.label, {name: value for name, value in values.items() if name in own}, **made_of)


def _among_colliders(setup):
    own = (setup.layers[0].id,)
    fields = {"capsule": {"joint": "third"}, "skin": {"mesh": "cover", "meets": own}}
    for shape in ("ball", "capsule", "box", "ground", "skin"):
        setup = edits.with_new_collider(setup, shape, shape, **fields.get(shape, {}))
    return setup


def _toy():
    """A bar of four joints, a thing at its base, and a skin beside it; the bar folds onto itself."""
    names, parents = ("base", JOINT, "second", "third", THING), np.array([-1, 0, 1, 2, 0], np.int32)
    step = LENGTH / 4.0
    joint_positions = np.array([[0.0, 1.0, 0.0], [step, 0.0, 0.0], [step, 0.0, 0.0], [step, 0.0, 0.0], [0.0, -0.2, 0.0]])
    rest = Pose(joint_positions, np.tile(transforms.IDENTITY, (5, 1)), np.ones((5, 3)))
    skeleton = Skeleton(names, parents, parents_first(parents), np.array([True] * 4 + [False]), rest)
    positions, triangles = _bar()
    joints = np.zeros((len(positions), 4), np.int32)
    joints[:, 0] = np.clip(positions[:, 0] / step, 0, 3).astype(int)
    weights = np.tile(np.float32([1.0, 0.0, 0.0, 0.0]), (len(positions), 1))
    inverse = np.tile(np.eye(4)[:3], (4, 1, 1))
    inverse[:, :, 3] = -np.cumsum(joint_positions[:4], axis=0)
    skinned = {"joints": joints, "weights": weights, "skin": 0, "bind_nodes": np.arange(4, dtype=np.int32), "inverse_binds": inverse}
    body = Mesh("body", 0, positions + np.float32([0.0, 1.0, 0.0]), triangles, **skinned)
    cover = Mesh("cover", 0, positions - np.float32([0.0, 2.1 * SIDE, 0.0]), triangles)
    beside = Mesh("beside", 0, positions - np.float32([0.0, 2.1 * SIDE, 0.5 * SIDE]), triangles)
    thing = Mesh("thing", 4, np.float32(0.3 * positions - [0.0, 0.1, 0.0]), triangles)
    rotations = transforms.from_axis_angle(np.tile([0.0, 0.0, 1.0], (2, 1)), np.array([0.0, 3.0]))
    seconds = np.array([0.0, (FRAMES - 1) / 24.0])
    clip = Clip("fold", (Channel(2, "rotation", "LINEAR", seconds, rotations),), 0.0, seconds[-1])
    return Character("toy", skeleton, (body, cover, beside, thing), (clip,))


def _bar():
    """A closed bar along X: positions float32 (4 ROWS, 3), triangles int32."""
    along = np.repeat(np.linspace(0.0, LENGTH, ROWS), 4)
    positions = np.column_stack([along, SIDE * np.tile(RING, (ROWS, 1))]).astype(np.float32)
    corner = (4 * np.arange(ROWS - 1)[:, None] + np.arange(4)).ravel()
    beside = (4 * np.arange(ROWS - 1)[:, None] + (np.arange(4) + 1) % 4).ravel()
    sides = np.concatenate([np.column_stack([corner, beside, beside + 4]), np.column_stack([corner, beside + 4, corner + 4])])
    end = 4 * (ROWS - 1)
    caps = np.array([[0, 2, 1], [0, 3, 2], [end, end + 1, end + 2], [end, end + 2, end + 3]])
    return positions, np.concatenate([sides, caps]).astype(np.int32)


if __name__ == "__main__":
    warm()
