"""A run that is fed one pose after another, without knowing what comes: what an artist's hand does to a character."""

import time
from dataclasses import replace

import numpy as np

from quiver.rig.pose import blended, world_matrices
from quiver.run.stack import Run, TakeChunk, TakeSpec


class LiveRun(Run):
    """The stack on poses that come one by one. Other arguments as TakeSpec; ``frame`` says which amounts are used. Raises BadInput."""

    def __init__(self, character, setup, clip_name, frame, threads=None):
        layers = tuple(replace(layer, amount=((0.0, layer.amount_at(frame)),)) for layer in setup.layers)
        self.before = self.after = None
        super().__init__(TakeSpec(character, replace(setup, layers=layers), clip_name), threads)
        # How deep anything clips is not asked of a frame that is gone at once.
        self.outcome.clip_depths = {}
        self.rotated = np.arange(len(self.skeleton), dtype=np.int32)
        self.translated = np.union1d(self.translated, np.flatnonzero(self.skeleton.parents < 0)).astype(np.int32)
        self.at = 0

    def pose_at(self, frame):
        """The clip's Pose (J,) at a frame, its limbs kept clear; to be asked before `begin`."""
        return super()._keyed(np.array([frame]))[0]

    def begin(self, pose):
        """Stand at rest in a Pose (J,)."""
        # What is told of limbs counts in frames of the clip.
        self.limbs = []
        world = world_matrices(self.skeleton, pose.repeated(1))
        for part in (*self.waves, *self.solids, *self.props):
            part.start(world[0])
            part.jumped = np.zeros_like(part.jumps(world))
        self.before = self.after = pose

    def advance(self, pose):
        """Go on to a Pose (J,) in one frame: a TakeChunk of that frame. Raises Unstable."""
        self.before, self.after = self.after, pose
        began = time.perf_counter()
        final, keyed_world, soft, measures, spent = self._simulate(self.at, self.at + 1, self.at)
        chunk, touching = self.outcome.chunk(self.at, final, keyed_world, soft)
        self.at += 1
        costs = tuple(1000.0 * seconds for seconds in (*spent, *touching))
        return TakeChunk(*chunk, measures, costs, 1000.0 * (time.perf_counter() - began))

    def appear(self, nodes, pose):
        """Roots that come from nowhere with the next Pose (J,): what rides on them sweeps over nothing on its way."""
        self.after.translations[nodes] = pose.translations[nodes]
        world = world_matrices(self.skeleton, pose.repeated(1))[0]
        touching = [*(wave.contacts for wave in self.waves), *(prop.touching for prop in self.props)]
        touching += [solid.touching.shapes for solid in self.solids if solid.touching]
        for each in touching:
            if each:
                each.appear(world, nodes)

    def _keyed(self, frames):
        if self.after is None:
            return super()._keyed(frames)
        share = np.asarray(frames, float) - (self.at - 1)
        count = len(share)
        return blended(self.before.repeated(count), self.after.repeated(count), np.repeat(share[:, None], len(self.skeleton), axis=1))
