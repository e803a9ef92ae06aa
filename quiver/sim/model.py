"""The constant side of a simulation: what is made of what, packed for the kernels."""

from dataclasses import dataclass

import numpy as np

from quiver.kernels import chains as kernel
from quiver.kernels.lanes import LANES


@dataclass(frozen=True)
class ChainModel:
    """C chains of at most n segments in B blocks of LANES; SI units, float32.

    counts  int32 (C,) segments of each chain
    params  (B * PARAMS * n, LANES), rows as kernels/chains.py says
    """

    counts: np.ndarray
    segments: int
    blocks: int
    dt: float
    params: np.ndarray
    has_limits: bool


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


def chain_model(chains, dt, has_limits, segments=0):
    """Pack ChainPhysics into a ChainModel for substeps of ``dt`` seconds, with room for so many segments if that is more than they have."""
    counts = np.array([len(chain.inverse_masses) for chain in chains], np.int32)
    segments, blocks = max(int(counts.max()), segments), -(-len(chains) // LANES)
    params = np.zeros((blocks * LANES, segments, kernel.PARAMS))
    # A lane or a segment that is not there is held and pulls at nothing.
    params[:, :, [kernel.BEND_COMPLIANCE, kernel.STRETCH_COMPLIANCE]] = kernel.DISCONNECTED
    params[:, :, [kernel.DAMPING_FACTOR, kernel.DRAG_FACTOR, kernel.SPEED_LIMIT, kernel.STRETCH_LIMIT]] = 1.0
    params[:, :, kernel.COS_LIMIT] = -2.0
    for lane, chain in enumerate(chains):
        own = params[lane, : counts[lane]]
        own[:, kernel.INVERSE_MASS] = chain.inverse_masses
        compliance = 1.0 / np.maximum(chain.stiffness * dt**2, 1.0 / kernel.DISCONNECTED)
        own[:, kernel.BEND_COMPLIANCE] = compliance
        own[:, kernel.STRETCH_COMPLIANCE] = chain.stretch / dt**2
        own[:, kernel.DAMPING_FACTOR], own[:, kernel.DRAG_FACTOR] = chain.damping_factor, chain.drag_factor
        own[:, kernel.GRAVITY : kernel.GRAVITY + 3] = chain.gravity * dt
        own[:, kernel.COS_LIMIT] = np.where(chain.bend_limits < np.pi - 1e-3, np.cos(chain.bend_limits), -2.0)
        own[:, kernel.SIN_LIMIT] = np.sin(chain.bend_limits)
        own[:, kernel.SPEED_LIMIT], own[:, kernel.STRETCH_LIMIT] = chain.speed_limit, chain.stretch_limit
        own[:, kernel.TAUT] = chain.is_taut
    rows = params.reshape(blocks, LANES, segments, kernel.PARAMS).transpose(0, 2, 3, 1)
    packed = np.ascontiguousarray(rows, np.float32).reshape(-1, LANES)
    return ChainModel(counts, segments, blocks, dt, packed, has_limits)
