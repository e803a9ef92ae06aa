"""Simulating one soft solid: its constant model, its state, and one frame's advance."""

from dataclasses import dataclass

import numpy as np

from quiver.kernels import tets as kernel
from quiver.kernels.lanes import LANES
from quiver.kernels.packing import pack_blocks

NO_TETRAHEDRON = 1e9
"""Softness of a lane that holds no tetrahedron."""


@dataclass(frozen=True)
class SolidModel:
    """N particles, T tetrahedra in B blocks; SI units.

    tets int32 (T, 4); places int32 (T, 2) block and lane of each; indices int32 (4 B, LANES)
    params float32 (B, PARAMS, LANES) whose rows of edges `advance` fills anew each frame; inverse_masses float32 (N,)
    hold_shares float32 (N,) of a substep; keep, air shares a substep; gravity (3,) [m/s2]; dt [s]; speed_limit [m/s]
    """

    tets: np.ndarray
    places: np.ndarray
    indices: np.ndarray
    params: np.ndarray
    inverse_masses: np.ndarray
    hold_shares: np.ndarray
    keep: float
    air: float
    gravity: np.ndarray
    dt: float
    speed_limit: float


def solid_model(body, tets, young, dt, keep=1.0, air=1.0, gravity=(0.0, 0.0, 0.0), pressure=0.0, speed_limit=1e3):
    """Pack a VolumeBody for substeps of ``dt``.

    young [Pa]; ``pressure`` is the share by which the solid wants to be larger.
    """
    places = pack_blocks(tets, len(body.masses))
    blocks = int(places[:, 0].max()) + 1
    used = np.unique(places[:, 0])
    # Blocks that were opened and never used are left out.
    number = np.full(blocks, -1)
    number[used] = np.arange(len(used))
    places = np.stack([number[places[:, 0]], places[:, 1]], 1).astype(np.int32)
    indices = np.full((len(used), 4, LANES), len(body.masses), np.int32)
    indices[places[:, 0], :, places[:, 1]] = tets
    inverse_masses = np.where(body.is_free, 1.0 / body.masses, 0.0)
    shear, bulk = body.shear * young, body.bulk * young
    rows = np.zeros((len(tets), kernel.PARAMS))
    rows[:, kernel.SHAPE : kernel.VOLUME], rows[:, kernel.VOLUME : kernel.VOLUME_GOAL] = _steps(body, inverse_masses[tets], shear * dt**2)
    rows[:, kernel.VOLUME_GOAL] = (1.0 + shear / bulk + pressure) * body.sixfold
    rows[:, kernel.VOLUME_SOFTNESS] = body.sixfold**2 / (bulk * body.volumes * dt**2)
    params = np.zeros((len(used), kernel.PARAMS, LANES), np.float32)
    params[:, kernel.VOLUME_SOFTNESS] = NO_TETRAHEDRON
    params[places[:, 0], :, places[:, 1]] = rows
    pull = body.springs * young * dt**2
    shares = (pull / (1.0 + pull)).astype(np.float32)
    gravity = np.asarray(gravity, np.float32)
    inverse_masses = inverse_masses.astype(np.float32)
    return SolidModel(tets, places, indices.reshape(-1, LANES), params, inverse_masses, shares, keep, air, gravity, dt, speed_limit)


def _steps(body, weights, shear):
    """The constant matrices of a substep, (T, 12) each: from edges to the shape's moves, from volume gradients to the volume's.

    weights (T, 4) inverse masses; ``shear`` [Pa s2] includes the substep squared.
    """
    # Rows for the first particle from those of the edges: nothing happens to what moves as one.
    stiffness = np.empty((len(weights), 4, 4))
    stiffness[:, 1:, 1:] = body.gram
    stiffness[:, 0, 1:] = -body.gram.sum(1)
    stiffness[:, :, 0] = -stiffness[:, :, 1:].sum(2)
    stiffness *= (shear * body.volumes)[:, None, None]
    step = np.linalg.solve(np.eye(4) + weights[:, :, None] * stiffness, weights[:, :, None] * np.eye(4))
    return (step @ stiffness)[:, :, 1:].reshape(-1, 12), (step[:, :, 1:] - step[:, :, :1]).reshape(-1, 12)


class SolidState:
    """What varies: positions float64 (N, 3) [m], velocities float32 (N, 4) [m/s]."""

    def __init__(self, positions):
        self.positions = np.array(positions, float)
        self.velocities = np.zeros((len(positions), 4), np.float32)

    @property
    def greatest_speed(self):
        """[m/s]; not finite where the state is not."""
        return float(np.abs(self.velocities).max(initial=0.0))


def advance(model, state, targets, before, gravity=None):
    """Advance ``state`` by one frame of S substeps towards keyed places targets (S, N, 3), from before (N, 3) [m].

    ``gravity`` (3,) [m/s2] takes the place of the model's for this frame.
    """
    count = len(state.positions)
    base = state.positions
    points = np.zeros((count + 1, 4), np.float32)
    points[:count, 3] = model.inverse_masses
    params = model.params.reshape(-1, LANES)
    kernel.measure_edges(base, model.tets, model.places, params)
    dt = np.float32(model.dt)
    pull = np.asarray(model.gravity if gravity is None else gravity, np.float32) * dt
    shares = (np.float32(model.keep), np.float32(model.air), np.float32(model.speed_limit))
    kernel.advance_tets(
        len(targets),
        dt,
        points,
        state.velocities,
        model.indices,
        params,
        _since(targets, base),
        _since(before, base),
        model.hold_shares,
        pull,
        *shares,
        np.empty((count, 4), np.float32),
    )
    state.positions = base + points[:count, :3]


def _since(places, base):
    rows = np.zeros((*places.shape[:-1], 4), np.float32)
    rows[..., :3] = places - base
    return rows
