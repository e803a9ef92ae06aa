"""Simulating one soft solid: its constant model, its state, and one frame's advance."""

from dataclasses import dataclass

import numpy as np

from quiver.kernels import cords as cord
from quiver.kernels import soft
from quiver.kernels import tets as tet
from quiver.kernels.lanes import LANES, aligned
from quiver.kernels.packing import pack_blocks
from quiver.mesh.topology import edges_of_tets
from quiver.threads import crew_of, together

NO_TETRAHEDRON = 1e9
"""Softness of a lane that holds no tetrahedron."""
NO_CORD = 1e9
"""Length of a lane that holds no cord [m]."""
SNAPPED_BITS = 26
"""Matrices are rounded to so many bits of their largest number, finer than float32 holds, so that what should be the same is."""
MANY = 1000
"""Tetrahedra with the same matrices from which on they are packed together."""
_HASH = np.random.default_rng(0).integers(1, 2**62, tet.MATRICES, dtype=np.uint64)
WORTH_CUTTING = 4000
"""Tetrahedra from which on a solid is cut into two domains, for two threads."""


@dataclass(frozen=True)
class CordLimits:
    """edges int32 (E, 2); places int32 (E, 2) block and lane of each cord; limits (E,) [m], ``share`` of the rest lengths."""

    edges: np.ndarray
    places: np.ndarray
    limits: np.ndarray
    share: float | None


@dataclass(frozen=True)
class SolidModel:
    """N particles, T tetrahedra; SI units. What the kernel takes (kernels/soft.py) and `advance` does not make itself.

    tets (indices, params, kinds, matrices, drafts, starts), whose rows of edges are filled anew each frame; cords likewise; rows (D + 1,)
    corners int32 (T, 4) the tetrahedra, places int32 (T, 2) block and lane of each; pressure a share of the volume
    inverse_masses float32 (N,); holds (P / 4, 16); keep, air shares a substep; gravity (3,) [m/s2]; dt [s]; speed_limit [m/s]
    """

    tets: tuple
    cords: tuple
    cord_limits: CordLimits
    corners: np.ndarray
    places: np.ndarray
    body: object
    pressure: float
    rows: np.ndarray
    inverse_masses: np.ndarray
    holds: np.ndarray
    keep: float
    air: float
    gravity: np.ndarray
    dt: float
    speed_limit: float


def solid_model(
    body, tets, young, dt, keep=1.0, air=1.0, gravity=(0.0, 0.0, 0.0), pressure=0.0, speed_limit=1e3, longest=None, settles=False
):
    """Pack a VolumeBody for substeps of ``dt``.

    young [Pa]; ``pressure`` is the share by which the solid wants to be larger; ``longest`` the length of an edge, against its rest, that
    is not exceeded (None: no such limit); ``settles`` whether `settle` will be called. What is near should have near numbers.
    """
    count = len(body.masses)
    rows = _rows_of_domains(tets, count)
    inverse_masses = np.where(body.is_free, 1.0 / body.masses, 0.0)
    shear, bulk = body.shear * young, body.bulk * young
    values = np.zeros((len(tets), tet.PARAMS))
    matrices = np.concatenate([_snapped(each) for each in _steps(body, inverse_masses[tets], shear * dt**2)], axis=1)
    values[:, tet.VOLUME_GOAL] = (1.0 + shear / bulk + pressure) * body.sixfold
    values[:, tet.VOLUME_SOFTNESS] = body.sixfold**2 / (bulk * body.volumes * dt**2)
    empty = np.zeros(tet.PARAMS)
    empty[tet.VOLUME_SOFTNESS] = NO_TETRAHEDRON
    pull = body.springs * young * dt**2
    holds = wide(count)
    holds.reshape(-1, 4)[:count, :3] = np.where(body.is_free, pull / (1.0 + pull), 1.0)[:, None]
    indices, params, starts, places = _packed(tets, values, empty, rows, count, _common_first(matrices))
    kinds, matrices = _kinds(matrices, places, starts[-1])
    drafts = aligned((9 * (len(indices) // 4 if settles else 0), LANES))
    return SolidModel(
        (indices, params, kinds, matrices, drafts, starts),
        *_cords(body, tets, longest, rows, count),
        tets,
        places,
        body,
        pressure,
        rows,
        inverse_masses.astype(np.float32),
        holds,
        keep,
        air,
        np.asarray(gravity, np.float32),
        dt,
        speed_limit,
    )


def _cords(body, tets, longest, rows, count):
    """The cords' (indices, params, starts), and what `settle` needs of them; none without a limit."""
    edges, values = np.zeros((0, 2), np.int32), np.zeros((0, cord.PARAMS))
    if longest is not None:
        edges, lengths = edges_of_tets(body.nodes, tets)
        values = np.zeros((len(edges), cord.PARAMS))
        values[:, cord.LONGEST] = lengths * longest
    *packed, places = _packed(edges, values, np.array([0.0, 0.0, 0.0, NO_CORD]), rows, count)
    return tuple(packed), CordLimits(edges, places, values[:, cord.LONGEST], longest)


def _rows_of_domains(tets, count):
    """Where the domains begin, and where the last one ends, in rows of four particles."""
    ends = [0, row_count(count)]
    if len(tets) >= WORTH_CUTTING:
        # Cut where both sides have as many tetrahedra.
        ends.insert(1, int(np.median(tets.min(1))) // 4)
    return np.array(ends, np.int32)


def row_count(particles):
    """Rows of four for so many particles and the one that is nobody's."""
    return particles // 4 + 1


def wide(particles):
    """Zeros for a row of four numbers for each particle, as the lanes take them."""
    return aligned((row_count(particles), LANES))


def _snapped(matrices):
    """Matrices (T, M) as float32, rounded just so that those that are the same but for the order of their sums are the same to the bit."""
    step = np.exp2(np.ceil(np.log2(np.maximum(np.abs(matrices).max(1, keepdims=True), 1e-300))) - SNAPPED_BITS)
    return (np.round(matrices / step) * step).astype(np.float32)


def _common_first(matrices):
    """An order (T,) in which tetrahedra with the same matrices (T, M) come together where many have them, so that blocks are alike."""
    _, kinds, counts = np.unique(matrices.view(np.uint32).astype(np.uint64) @ _HASH, return_inverse=True, return_counts=True)
    return np.argsort(np.where(counts[kinds] >= MANY, kinds, len(counts)), kind="stable")


def _kinds(matrices, places, blocks):
    """The different blocks of matrices (MATRICES K, LANES), and which each block has, int32 (B,)."""
    laid = np.zeros((blocks, tet.MATRICES, LANES), np.float32)
    laid[places[:, 0], :, places[:, 1]] = matrices
    number, kinds = {}, np.empty(blocks, np.int32)
    for block, own in enumerate(laid):
        kinds[block] = number.setdefault(own.tobytes(), len(number))
    table = aligned((len(number), tet.MATRICES, LANES))
    table[kinds] = laid
    return kinds, table.reshape(-1, LANES)


def _packed(items, values, empty, rows, count, order=None):
    """Pack items (T, k) with their values (T, params), one domain after another, then the seam: (indices, params, starts, places).

    empty (params,) are the values of a lane without an item; ``order`` (T,) in which they are taken within a domain.
    """
    domains = len(rows) - 1
    side = np.searchsorted(4 * rows[1:], items, side="right")
    side = np.where(side.min(1) == side.max(1), side.max(1), domains)
    starts, places = [0], np.zeros((len(items), 2), np.int64)
    for domain in range(domains + 1):
        own = np.flatnonzero(side == domain) if order is None else order[side[order] == domain]
        packed = pack_blocks(np.ascontiguousarray(items[own]), count)
        # Blocks that were opened and never used are left out.
        used, number = np.unique(packed[:, 0], return_inverse=True)
        places[own] = np.stack([starts[-1] + number, packed[:, 1]], 1)
        starts.append(starts[-1] + len(used))
    indices = np.full((starts[-1], items.shape[1], LANES), 4 * row_count(count) - 1, np.int32)
    indices[places[:, 0], :, places[:, 1]] = items
    params = aligned((starts[-1], len(empty), LANES))
    params[:] = empty[:, None]
    params[places[:, 0], :, places[:, 1]] = values
    return indices.reshape(-1, LANES), params.reshape(-1, LANES), np.array(starts, np.int32), places.astype(np.int32)


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
        self.rows = wide(len(positions))
        self.velocities = self.rows.reshape(-1, 4)[: len(positions)]
        self._goals = None

    def goals(self, substeps):
        """Room for keyed places (substeps + 1, P / 4, LANES), kept from the last frame: new memory costs more than filling it."""
        if self._goals is None or len(self._goals) != substeps + 1:
            self._goals = aligned((substeps + 1, row_count(len(self.positions)), LANES))
        return self._goals

    @property
    def greatest_speed(self):
        """[m/s]; not finite where the state is not."""
        return float(np.abs(self.velocities).max(initial=0.0))


def advance(model, state, targets, before, pull=None, threads=None):
    """Advance ``state`` by one frame of S substeps towards keyed places targets (S, N, 3), from before (N, 3) [m].

    ``pull`` (3,) or (N, 3) [m/s2] takes the place of the model's gravity for this frame.
    """
    count = len(state.positions)
    points, pulls, old = wide(count).reshape(-1, 4), wide(count), wide(count)
    points[:count, 3] = model.inverse_masses
    places = np.zeros((len(points), 3))
    places[:count] = state.positions
    pulls.reshape(-1, 4)[:count, :3] = (model.gravity if pull is None else pull) * np.float32(model.dt)
    keyed = (np.ascontiguousarray(targets, float), np.ascontiguousarray(before, float), state.goals(len(targets)))
    shares = (np.float32(model.keep), np.float32(model.air), np.float32(model.speed_limit))
    gate, crew = np.zeros(1, np.int64), crew_of(len(model.rows) - 1, threads)
    scene = (points, state.rows, model.tets, model.cords, model.rows, *keyed, model.holds, pulls, *shares, old, places)
    together(lambda part: soft.advance_soft(part, crew, gate, np.float32(model.dt), *scene), crew)
    state.positions = state.positions + points[:count, :3]


def settle(model, positions):
    """Make positions (N, 3) [m] the ones at which each tetrahedron rests, until this is called again. The model is changed.

    Cords that are longer there than at rest may grow from there.
    """
    body, (_, params, _, _, drafts, _) = model.body, model.tets
    scene = (body.gram, body.metric, body.sixfold, body.shear / body.bulk, model.pressure, params, drafts)
    tet.settle(np.ascontiguousarray(positions, float), model.corners, model.places, *scene)
    cords = model.cord_limits
    if len(cords.edges):
        lengths = np.linalg.norm(positions[cords.edges[:, 1]] - positions[cords.edges[:, 0]], axis=1)
        rows = model.cords[1].reshape(-1, cord.PARAMS, LANES)
        rows[cords.places[:, 0], cord.LONGEST, cords.places[:, 1]] = np.maximum(cords.limits, cords.share * lengths)
