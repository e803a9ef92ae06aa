"""The constant side of a simulation: what is made of what, packed for the kernels."""

from dataclasses import dataclass

import numpy as np

from quiver.kernels import chain_rows as kernel
from quiver.kernels.lanes import LANES
from quiver.rig.tree import Tree

FOLDS = 0.1
"""How stiff what resists folding is, against all masses of the tree [1/substep squared]."""
HELD = 1e3
"""What is held resists that much more than the masses and bends of its chain."""


@dataclass(frozen=True)
class ChainModel:
    """C chains in B blocks of LANES trees alike, each with all its branches in one lane; SI units, float32.

    counts  int32 (C,) segments of each chain; those of a tree follow each other
    tree    the Tree of all of them
    params  (B * PARAMS * n, LANES), n the segments of the tree, rows as kernels/chain_rows.py says
    """

    counts: np.ndarray
    tree: Tree
    blocks: int
    dt: float
    params: np.ndarray
    has_limits: bool

    @property
    def segments(self):
        """How many a lane has."""
        return self.tree.segments


@dataclass(frozen=True)
class ChainPhysics:
    """What one chain gives to the model: n segments, float64, SI.

    inverse_masses (n,) 0 where held; stiffness, stretch (n,) [N/m] per unit mass and [m/N] compliance; keep, air (n,) shares a
    substep; gravity (n, 3) [m/s2]; bend_limits (n,) [rad]; speed_limit [m/s];
    stretch_limit the most a soft segment lengthens, as a share; is_taut whether both ends are held
    """

    inverse_masses: np.ndarray
    stiffness: np.ndarray
    stretch: np.ndarray
    damping_factor: np.ndarray
    drag_factor: np.ndarray
    gravity: np.ndarray
    bend_limits: np.ndarray
    speed_limit: float = 1e4
    stretch_limit: float = 1.0
    is_taut: bool = False


def chain_model(chains, dt, has_limits, tree=None):
    """Pack ChainPhysics into a ChainModel for substeps of ``dt`` seconds, as chains alone or those of trees with so much room."""
    counts = np.array([len(chain.inverse_masses) for chain in chains], np.int32)
    tree = tree or Tree((int(counts.max()),))
    blocks = -(-len(chains) // (LANES * tree.branches))
    params = np.zeros((blocks * LANES, tree.branches, tree.longest, kernel.PARAMS))
    # A lane or a segment that is not there is held and pulls at nothing.
    params[..., kernel.STRETCH_COMPLIANCE] = kernel.DISCONNECTED
    params[..., [kernel.DAMPING_FACTOR, kernel.DRAG_FACTOR, kernel.SPEED_LIMIT, kernel.STRETCH_LIMIT]] = 1.0
    params[..., kernel.COS_LIMIT] = -2.0
    for at, chain in enumerate(chains):
        own = params[at // tree.branches, at % tree.branches, : counts[at]]
        free, bend = chain.inverse_masses > 0.0, chain.stiffness * dt**2
        masses = np.where(free, 1.0 / np.where(free, chain.inverse_masses, 1.0), 0.0)
        own[:, kernel.INVERSE_MASS], own[:, kernel.BEND] = chain.inverse_masses, bend
        own[:, kernel.MASS] = np.where(free, masses, HELD * max(masses.max(), bend.max(), 1e-6))
        own[:, kernel.STRETCH_COMPLIANCE] = chain.stretch / dt**2
        own[:, kernel.DAMPING_FACTOR], own[:, kernel.DRAG_FACTOR] = chain.damping_factor, chain.drag_factor
        own[:, kernel.GRAVITY : kernel.GRAVITY + 3] = chain.gravity * dt
        own[:, kernel.COS_LIMIT] = np.where(chain.bend_limits < np.pi - 1e-3, np.cos(chain.bend_limits), -2.0)
        own[:, kernel.SIN_LIMIT] = np.sin(chain.bend_limits)
        own[:, kernel.SPEED_LIMIT], own[:, kernel.STRETCH_LIMIT] = chain.speed_limit, chain.stretch_limit
        own[:, kernel.TAUT] = chain.is_taut
    totals = params[..., kernel.MASS] * (params[..., kernel.INVERSE_MASS] > 0.0)
    params[..., kernel.FOLD] = FOLDS * totals.sum(axis=(1, 2), keepdims=True)
    rows = tree.merged(params.reshape(-1, tree.longest, kernel.PARAMS))
    rows = rows.reshape(blocks, LANES, tree.segments, kernel.PARAMS).transpose(0, 2, 3, 1)
    packed = np.ascontiguousarray(rows, np.float32).reshape(-1, LANES)
    return ChainModel(counts, tree, blocks, dt, packed, has_limits)
