"""Small characters and runs that the tests are made of."""

import itertools
from dataclasses import replace

import numpy as np

from quiver.bake.joints import gather
from quiver.contact.contacts import Contacts
from quiver.kernels.contacts import FRAME
from quiver.rig import transforms
from quiver.rig.character import Character
from quiver.rig.clip import Channel, Clip
from quiver.rig.pose import Pose, world_matrices
from quiver.rig.skeleton import Skeleton, parents_first
from quiver.run.execute import Execution
from quiver.run.parts.chain_batch import ChainBatch
from quiver.run.parts.prop import PropGroup
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup
from quiver.sim.obstacles import frame_rows, shape_rows


def skeleton_of(positions, parents, names=None, rotations=None, scales=None):
    """A skeleton with joints at local positions (J, 3)."""
    count = len(positions)
    rest = Pose(
        np.array(positions, float),
        np.tile(transforms.IDENTITY, (count, 1)) if rotations is None else np.array(rotations, float),
        np.ones((count, 3)) if scales is None else np.array(scales, float),
    )
    names = names or ("base", *(f"j{k}" for k in range(count - 1)))
    return Skeleton(tuple(names), np.array(parents, np.int32), parents_first(parents), np.ones(count, bool), rest)


def straight(segments, length=0.1, direction=(1.0, 0.0, 0.0)):
    """A base and ``segments`` joints in a row; the last one's tip goes straight on, so there are as many segments."""
    step = np.array(direction, float) / np.linalg.norm(direction) * length
    positions = [np.zeros(3), np.zeros(3), *([step] * (segments - 1))]
    if segments == 1:
        # A single joint has its tip at a child that is not simulated.
        positions.append(step)
    return skeleton_of(positions, list(range(-1, len(positions) - 1)))


def turning_clip(node, times, angles, axis=(0.0, 0.0, 1.0), interpolation="LINEAR", name="clip"):
    """A clip that turns one node to ``angles`` [rad] at ``times`` [s]."""
    values = transforms.from_axis_angle(np.tile(np.array(axis, float), (len(times), 1)), np.array(angles, float))
    return Clip(name, (Channel(node, "rotation", interpolation, np.array(times, float), values),), times[0], times[-1])


def moving_clip(node, times, positions, interpolation="LINEAR", name="clip"):
    """A clip that moves one node to ``positions`` (K, 3) at ``times`` [s]."""
    return Clip(
        name, (Channel(node, "translation", interpolation, np.array(times, float), np.array(positions, float)),), times[0], times[-1]
    )


def still_clip(skeleton, seconds=1.0):
    return moving_clip(0, [0.0, seconds], [skeleton.rest.translations[0]] * 2)


def chain_setup(root="j0", end="", frame_rate=24.0, preroll=0.0, **dials):
    """A setup with one chain; dials as given, the others at their default."""
    setup = edits.with_new_chain(replace(Setup(), frame_rate=frame_rate, preroll_frames=preroll), ChainPick(root, end))
    layer = setup.layers[0]
    return edits.with_layer(setup, replace(layer, values=layer.values | dials))


class Run:
    """A plan, its walk, and what tests ask of them. Everything else is the plan's."""

    def __init__(self, spec, threads=None, results=None):
        self.plan = compile_plan(spec)
        self.execution = Execution(self.plan, results, threads)

    def __getattr__(self, name):
        return getattr(self.plan, name)

    def chunks(self, *keep_going):
        return self.execution.chunks(*keep_going)

    @property
    def chains(self):
        """The batches of chains, running."""
        return [part for part in self.execution.running.values() if isinstance(part, ChainBatch)]

    @property
    def props(self):
        return [prop for part in self.execution.running.values() if isinstance(part, PropGroup) for prop in part.units]

    @property
    def soft_bodies(self):
        return [part for part in self.execution.running.values() if part.is_soft]

    def keyed(self, frames):
        return self.plan.source.pose(frames)

    def stage_kinds(self):
        """How many chains, props and soft bodies there are in each stage."""
        counts = []
        for stage in self.plan.stages:
            units = [unit for node in stage.driving for unit in node.part.units]
            props = sum(hasattr(unit, "rigid_contacts") for unit in units)
            counts.append((len(units) - props, props, len(stage.soft)))
        return counts


def clips_of(chunks, layer_id):
    """Clip depth (F, 2) of a layer, as simulated and as keyed [m], and where it is deepest (F, 2)."""
    kept = [chunk.measures[layer_id] for chunk in chunks]
    depths = np.stack([np.concatenate([each[name] for each in kept]) for name in ("clip", "keyed_clip")], axis=1)
    return depths, np.concatenate([each["deepest"] for each in kept])


def simulate(skeleton, clip, setup, **spec):
    """Run a setup on a clip: (Run, rotations (F, K, 4), translations, added)."""
    character = Character("test", skeleton, (), (clip,))
    run = Run(TakeSpec(character, setup, clip.name, **spec))
    rotations, translations, _, added = gather(run.chunks())
    return run, rotations, translations, added


def world_of(run, rotations, translations):
    """World matrices (F, J, 3, 4) of a take."""
    frames = np.arange(len(rotations)) + run.spec.first_frame
    pose = run.clip.sample(run.skeleton, frames / run.spec.setup.frame_rate)
    pose.rotations[:, run.rotated] = rotations
    if len(run.translated):
        pose.translations[:, run.translated] = translations
    return world_matrices(run.skeleton, pose)


def swing_of(values):
    """Rate [1/frames] and settle time [frames] of a decaying swing around zero, from its zero crossings and its peaks."""
    values = np.asarray(values, float)
    crossings = np.flatnonzero(np.sign(values[1:]) != np.sign(values[:-1]))
    exact = crossings + values[crossings] / (values[crossings] - values[crossings + 1])
    half = np.diff(exact[:7]).mean()
    peaks = np.array([_peak(np.abs(values[a : b + 2])) for a, b in itertools.pairwise(crossings)][:6])
    decay = -np.polyfit(np.arange(len(peaks)) * half, np.log(peaks), 1)[0]
    return 1.0 / (2.0 * half), np.log(20.0) / decay


def _peak(values):
    """The top of the parabola through the largest sample and its neighbours."""
    top = int(np.argmax(values))
    if not 0 < top < len(values) - 1:
        return values[top]
    a, b, c = values[top - 1 : top + 2]
    return b - (a - c) ** 2 / (8.0 * (a - 2.0 * b + c)) if a - 2.0 * b + c else b


def obstacles(positions, cores, steps, friction=0.0, moves=(0.0, 0.0, 0.0)):
    """Frames and shapes, float32, of colliders (kernels/contacts.py) that start at ``positions`` and move by ``moves`` in each step."""
    shift = np.arange(steps + 1)[:, None, None] * np.asarray(moves, float)
    frames = frame_rows(
        np.concatenate([np.tile(np.eye(3), (steps + 1, len(positions), 1, 1)), (np.asarray(positions) + shift)[..., None]], -1)
    )
    bounds = np.minimum(np.linalg.norm(np.abs(cores)[:, :3], axis=1) + np.abs(cores)[:, 3], 1e9)
    return frames.reshape(-1, FRAME).astype(np.float32), shape_rows(cores, bounds, np.full(len(positions), friction)).astype(np.float32)


def contacts_of(setup):
    """The Contacts of a setup whose colliders stand in the world."""
    return Contacts(Character("test", straight(1), (), ()), setup)
