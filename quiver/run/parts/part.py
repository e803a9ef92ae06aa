"""What parts of a run have in common: units that the schedule orders, and parts that simulate some units together."""

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from quiver.sim.varying import Varying


@dataclass
class Frames:
    """Some frames while they are simulated: F of them, with all their substeps, S.

    pose, world   (S, J) what later stages follow; final the Pose (F, J) as all parts leave it
    keyed_rotations  (F, J, 4) of the keyed pose at the frames
    source        where the keyed pose comes from (run/keyed.py)
    results       {layer id: outputs} of the parts whose results it takes
    at            the first frame; per_frame substeps a frame
    origin_world  (J, 3, 4) the keyed world at the first substep of the block that these frames are part of
    skin_world    (S, J, 3, 4) where skins are that a part meets: as keyed, but for what the part follows
    """

    pose: object
    world: np.ndarray
    final: object
    at: int
    per_frame: int
    origin_world: np.ndarray
    skin_world: np.ndarray
    keyed_rotations: np.ndarray
    source: object
    results: Mapping = field(default_factory=dict)

    @property
    def count(self):
        return len(self.final.rotations)

    @property
    def ends(self):
        """Selects the last substep of each frame."""
        return slice(self.per_frame - 1, None, self.per_frame)

    def amounts(self, layer):
        """How much of a layer is used in each frame (F,)."""
        return np.array([layer.amount_at(frame) for frame in range(self.at, self.at + self.count)])


class Unit:
    """What one layer adds to a run: one chain of joints, one prop, one soft body. The schedule orders units.

    layer       the Layer
    drives      nodes whose local placement it changes
    node        where it hangs, for what can ride; None for what cannot; ride what it rides on (riding.py)
    is_soft     whether it moves vertices, and is simulated beside others of its stage
    follows     nodes whose placement in the world it takes as given
    met         the colliders (indices) and skins_met the Skins that it collides with, once it was told to `meet`
    met_nodes   nodes that the colliders it meets ride on: what moves them comes first
    after       units whose results it takes
    """

    drives, follows, met, skins_met, met_nodes, after = (), (), (), (), (), ()
    node = ride = None
    is_soft = False

    def meet(self, contacts, driven):
        """Find what it collides with, of Contacts; ``driven`` are the nodes that layers of joints move."""

    def substep_rate(self):
        """Substeps a second that it needs at least."""
        return 0.0

    def own_steps(self):
        """Steps of a frame that it takes itself, each of them some whole number of substeps."""
        return 1

    def joins(self):
        """Units of one stage with the same key are simulated together; what is None is a part by itself."""
        return None

    @classmethod
    def compiled(cls, units, context, substeps, beside):
        """The Part of some units of this class that join; ``beside`` are all units of their stage, these among them."""
        raise NotImplementedError


class Part(Varying):
    """Units that are simulated together: constant once compiled, but for the state that `fresh` copies and `start` begins.

    layers   of its units, without repeats
    units    what it is made of
    is_cut   whether it takes several threads for itself
    paths    of its chains of joints
    """

    is_soft, is_cut, paths = False, False, ()

    def digest_inputs(self):
        """Values that, with the keyed motion, the substeps and what it follows, decide its result."""
        raise NotImplementedError

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        raise NotImplementedError

    def jumps(self, frame_world):
        """In which frames its root jumps, from node matrices (F, J, 3, 4) at frames; the first axis counts frames."""
        raise NotImplementedError

    def simulate(self, frames, jumped, every, threads=None):
        """Go on through Frames: named outputs {name: array}, of each ``every``-th substep where they have substeps.

        Raises Unstable (its frame counted from the first of these).
        """
        raise NotImplementedError

    def steps_of(self, substeps):
        """How many steps it takes in a frame of so many substeps."""
        return substeps

    def apply(self, frames, outputs, every):
        """Change what the outputs drive in ``frames.final`` and, where there is an output for each substep, in ``frames.pose``."""

    def added(self, frames, outputs, keyed_world, final_world):
        """[(layer, the most that it moved any of its points in each frame (F,) [m])]."""
        raise NotImplementedError

    def against(self, keyed_world, final_world):
        """[(layer, which of the setup's colliders what it moved farthest touches in each frame (F,), -1 for none)]."""
        return []

    def trackers(self):
        """What of it follows colliders, as `ColliderTracks.appear`."""
        return []

    def shifted_nodes(self):
        """Nodes whose translation it changes."""
        return set()

    def measures(self, outputs):
        """{name: (F,)} of what it measured while it was simulated."""
        return {}
