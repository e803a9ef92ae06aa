"""A plan that is fed one pose after another, without knowing what comes: what an artist's hand does to a character."""

import time
from dataclasses import replace

import numpy as np

from quiver.rig.pose import world_matrices
from quiver.run.execute import Execution
from quiver.run.keyed import HandSource
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup.model import between_keys


class LiveRun:
    """The layers on poses that come one by one. Other arguments as TakeSpec; ``frame`` says which amounts are used. Raises BadInput."""

    def __init__(self, character, setup, clip_name, frame, threads=None):
        layers = tuple(_as_at(layer, frame) for layer in setup.layers)
        plan = compile_plan(TakeSpec(character, replace(setup, layers=layers, watches_skin=False), clip_name))
        self.clip_source, self.skeleton, self.threads = plan.source, plan.skeleton, threads
        roots = np.flatnonzero(self.skeleton.parents < 0)
        # How deep anything clips is not asked of a frame that is gone at once; what is held may turn any joint.
        self.plan = replace(
            plan,
            clip_depths={},
            pose_filters=(),
            rotated=np.arange(len(self.skeleton), dtype=np.int32),
            translated=np.union1d(plan.translated, roots).astype(np.int32),
        )

    @property
    def soft_bodies(self):
        """The soft bodies that are running, to be taken hold of."""
        return [part for part in self.execution.running.values() if part.is_soft]

    @property
    def chains(self):
        """The running parts that are made of chains of joints."""
        return [part for part in self.execution.running.values() if part.paths]

    def pose_at(self, frame):
        """The clip's Pose (J,) at a frame, its limbs kept clear."""
        return self.clip_source.pose(np.array([frame]))[0]

    def begin(self, pose):
        """Stand at rest in a Pose (J,)."""
        self.source = HandSource(self.skeleton, pose)
        self.execution = Execution(self.plan, None, self.threads, self.source)
        world = world_matrices(self.skeleton, pose.repeated(1))
        self.execution.start(world[0])
        self._still = {node: np.zeros_like(node.part.jumps(world)) for node in self.plan.nodes}

    def advance(self, pose, jumps=False):
        """Go on to a Pose (J,) in one frame: a TakeChunk of that frame; ``jumps`` whether all is carried there at once. Raises Unstable."""
        self.source.go_on(pose)
        began, at = time.perf_counter(), self.source.at
        found = self.execution.simulate(at, at, at + 1, lambda node, keyed_world: self._still[node] | jumps)
        self.source.at += 1
        return self.execution.chunk(*found, slice(0, 1), began, measured=False)

    def appear(self, nodes, pose):
        """Roots that come from nowhere with the next Pose (J,): what rides on them sweeps over nothing on its way."""
        self.source.after.translations[nodes] = pose.translations[nodes]
        world = world_matrices(self.skeleton, pose.repeated(1))[0]
        for part in self.execution.running.values():
            for tracker in part.trackers():
                tracker.appear(world, nodes)


def _as_at(layer, frame):
    """A layer whose keys are those of a frame, for ever."""
    muscles = tuple(replace(muscle, keys=((0.0, between_keys(muscle.keys, frame)),)) for muscle in layer.muscles)
    return replace(layer, amount=((0.0, layer.amount_at(frame)),), muscles=muscles)
