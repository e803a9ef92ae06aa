"""Simulating one soft solid: its constant model, its state, and one frame's advance."""

import itertools
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from quiver.cache import Cache
from quiver.kernels import length_limits as length_limit
from quiver.kernels import soft
from quiver.kernels import tets as tet
from quiver.kernels.contacts import FRAME, SHAPE
from quiver.kernels.lanes import LANES, aligned, copied
from quiver.kernels.pressure import look_along, volumes_at
from quiver.mesh.topology import edges_of_tets
from quiver.sim.packing import nobody, pack_fans, pack_length_limits, row_count
from quiver.sim.varying import Varying
from quiver.threads import split, thread_count_for, together

KEPT_MODELS = 8
"""As many as a character has, and a few of before."""
_models = Cache(KEPT_MODELS)
WORTH_CUTTING = 4000
"""Tetrahedra from which on a solid is cut into two domains, for two threads."""


@dataclass(frozen=True)
class LengthLimits:
    """edges int32 (E, 2); slots int32 (E, 2) block and lane of each length limit; limits (E,) [m], ``share`` of the rest lengths."""

    edges: np.ndarray
    slots: np.ndarray
    limits: np.ndarray
    share: float | None


@dataclass(frozen=True)
class Surfaces:
    """The surfaces of Q pieces of a solid, which keep their volumes: faces (F, 3), which count by shares (F,), those of each from
    face_starts (Q + 1,) on; the same as
    ``arrays`` that `keep_volumes` takes; sixfold (Q,) six times the volumes wanted at rest [m3]; compliances (Q,), the substep squared
    included.
    """

    faces: np.ndarray
    shares: np.ndarray
    face_starts: np.ndarray
    arrays: tuple
    sixfold: np.ndarray
    compliances: np.ndarray

    def sixfold_at(self, positions):
        """Six times the volumes (Q,) at positions (N, 3)."""
        out = np.empty(len(self.sixfold))
        volumes_at(np.ascontiguousarray(positions, float), self.faces, self.shares, self.face_starts, out)
        return out


@dataclass(frozen=True)
class Pulls:
    """How strongly Q muscles are pulled, 0..1, when a frame begins and when it ends: (Q,) each."""

    before: np.ndarray
    now: np.ndarray

    def at(self, shares):
        """At shares (K,) of the frame, (K, Q)."""
        return self.before + np.asarray(shares)[:, None] * (self.now - self.before)


FARTHEST, FARTHEST_PULLED = 0.02, 0.1
"""What a volume's change pushes goes no farther in a substep than this share of how large a piece is: what was pressed flat comes back
gradually; fibres press more than anything else does."""
FACES_WORTH_A_THREAD = 20000
"""That a volume is found of, which are."""
SETTLED_RATE = 48.0
"""Times a second that what rests in the keyed pose is found anew: so the motion does not depend on the frame rate."""


def _surfaces(body, young, dt, pressure, faces, starts, shares=None):
    """The Surfaces of a VolumeBody's pieces."""
    shares = np.ones(len(faces)) if shares is None else shares
    kept = np.flatnonzero(np.diff(starts))
    starts = np.append(starts[:-1][kept], starts[-1]).astype(np.int32)
    bare = Surfaces(faces, shares, starts, _faces_in_lanes(faces, shares, starts, len(body.masses)), *np.zeros((2, len(kept))))
    sixfold = bare.sixfold_at(body.nodes)
    return replace(bare, sixfold=(1.0 + pressure) * sixfold, compliances=6.0 * sixfold / (body.keeping * young * dt**2))


def _faces_in_lanes(faces, shares, starts, count):
    """The surfaces of pieces among so many particles as `keep_volumes` of kernels/pressure.py takes them."""
    blocks = np.concatenate([[0], np.cumsum(-(-np.diff(starts) // LANES))]).astype(np.int32)
    own = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    lanes = LANES * blocks[own] + np.arange(len(faces)) - starts[own]
    corners = np.full((LANES * blocks[-1], 3), nobody(count), np.int32)
    corners[lanes] = faces
    weights = aligned((blocks[-1], LANES))
    weights.reshape(-1)[lanes] = shares
    rims, which, rim_starts = [], [], [0]
    for a, b in itertools.pairwise(starts):
        found, number = np.unique(faces[a:b], return_inverse=True)
        which.append(number.reshape(-1) + LANES * rim_starts[-1])
        rim_starts.append(rim_starts[-1] + -(-len(found) // LANES))
        rims.append(np.pad(found, (0, -len(found) % LANES), constant_values=nobody(count)))
    which = np.concatenate([*which, np.zeros(0, int)])
    order = np.argsort(which, kind="stable")
    ptr = np.searchsorted(which[order], np.arange(LANES * rim_starts[-1] + 1)).astype(np.int64)
    around = ptr, np.repeat(lanes, 3)[order].astype(np.uint32), np.ones(len(order), np.float32)
    numbers = np.arange(len(corners), dtype=np.int32).reshape(-1, LANES)
    corners = np.ascontiguousarray(corners.reshape(-1, LANES, 3).transpose(0, 2, 1)).reshape(-1, LANES)
    rims = np.concatenate([*rims, np.zeros(0, int)]).astype(np.int32).reshape(-1, LANES)
    return corners, blocks, weights, rims, np.array(rim_starts, np.int32), around, numbers


_NO_FACES = np.zeros((0, 3), np.int32), np.zeros(0), np.zeros(1, np.int32)
NO_FIRMNESS = aligned((0, LANES)), aligned((0, LANES))
NO_SURFACES = Surfaces(*_NO_FACES, _faces_in_lanes(*_NO_FACES, 0), *np.zeros((2, 0)))


@dataclass(frozen=True)
class SolidModel:
    """N particles, T tetrahedra; SI units. What the kernel takes (kernels/soft.py) and `advance` does not make itself.

    tets (fans, indices, params, kinds, matrices, prestress, starts), whose rows of ways are filled anew each frame; length_limits
    likewise; rows (D + 1,); settled as `settle` of the kernel takes it; firmness as `stiffen` does, empty where no pull makes it firmer;
    pressure a share of volume; settles whether it rests where it is keyed; surfaces (Surfaces) of the pieces that keep their volumes;
    inverse_masses float32 (N,); holds (P / 4, 16); damping_factor, for all or (N,), and drag_factor a substep; gravity (3,)
    [m/s2]; dt [s]; speed_limit [m/s]
    """

    tets: tuple
    length_limits: tuple
    length_bounds: LengthLimits
    settled: tuple
    firmness: tuple
    body: object
    pressure: float
    settles: bool
    surfaces: object
    rows: np.ndarray
    inverse_masses: np.ndarray
    holds: np.ndarray
    damping_factor: object
    drag_factor: float
    gravity: np.ndarray
    dt: float
    speed_limit: float

    @property
    def is_cut(self):
        """Whether it is cut into domains, for several threads."""
        return len(self.rows) > 2

    @cached_property
    def pieces(self):
        """Which piece each particle (N,) is part of, as the kernel takes it."""
        return np.ascontiguousarray(self.body.pieces, np.int32)

    @cached_property
    def damping(self):
        """The damping factor as rows, one for all where that is the same."""
        if np.ndim(self.damping_factor) == 0:
            rows = aligned((1, LANES))
            rows[:] = self.damping_factor
            return rows
        rows = wide(len(self.damping_factor))
        rows.reshape(-1, 4)[: len(self.damping_factor)] = np.asarray(self.damping_factor)[:, None]
        return rows


def solid_model(
    body,
    tets,
    young,
    dt,
    damping_factor=1.0,
    drag_factor=1.0,
    gravity=(0.0, 0.0, 0.0),
    pressure=0.0,
    speed_limit=1e3,
    longest=None,
    settles=False,
    surfaces=None,
):
    """Pack a VolumeBody for substeps of ``dt``.

    young [Pa]; ``pressure`` is the share by which the solid wants to be larger; ``longest`` the length of an edge, against its rest, that
    is not exceeded (None: no such limit); ``settles`` whether it rests where it is keyed; ``surfaces`` (faces, starts, and shares where
    they count in part) of the pieces that keep their volumes, as `pieces_of` of bodies/volume.py says. What is near should have near
    numbers. What takes long is kept.
    """
    key = (young, dt, pressure, longest, settles, surfaces is None)
    kept = _models.get(body, key, lambda: _packed(body, tets, young, dt, pressure, longest, settles, surfaces))
    # What a run fills anew is its own.
    fans, indices, params, kinds, matrices, prestress, starts = kept.tets
    matrices = copied(matrices) if len(kept.firmness[0]) else matrices
    limits, limit_params, limit_starts = kept.length_limits
    return replace(
        kept,
        tets=(fans, indices, copied(params), kinds, matrices, copied(prestress), starts),
        length_limits=(limits, copied(limit_params), limit_starts),
        damping_factor=damping_factor,
        drag_factor=drag_factor,
        gravity=np.asarray(gravity, np.float32),
        speed_limit=speed_limit,
    )


def _packed(body, tets, young, dt, pressure, longest, settles, surfaces):
    """A SolidModel without what `solid_model` gives each."""
    count = len(body.masses)
    rows = _rows_of_domains(tets, count)
    inverse_masses = body.inverse_masses
    shear, bulk, fibres = body.shear * young, body.bulk * young, body.fibres
    compliance = body.sixfold**2 / (bulk * body.volumes * dt**2)
    matrices = np.column_stack([*_steps(body, inverse_masses[tets], shear * dt**2), compliance])
    goals = (1.0 + shear / bulk + pressure) * body.sixfold
    is_firmer = fibres is not None and bool((fibres.firmer != 1.0).any())
    *packed, starts, slots = pack_fans(tets, goals, matrices, rows, count, is_firmer)
    firmness = NO_FIRMNESS
    if is_firmer:
        firm = np.column_stack([*_steps(body, inverse_masses[tets], fibres.firmer * shear * dt**2), compliance / fibres.firmer])
        firmness = copied(packed[4]), _in_slots(firm - matrices, slots, len(packed[3]))
    prestress = aligned((9 * (len(packed[3]) if settles else 0), LANES))
    length_limits, limits = _length_limits(body, tets, longest, rows, count)
    kept = NO_SURFACES if surfaces is None or np.all(body.keeping <= 0.0) else _surfaces(body, young, dt, pressure, *surfaces)
    settled = _settled(body, tets, slots, len(packed[3]) if settles else 0)
    parts = ((*packed, prestress, starts), length_limits, limits, settled, firmness, body, pressure, settles, kept, rows)
    return SolidModel(*parts, *_particles(body, body.springs * young * dt**2), 1.0, 1.0, np.zeros(3, np.float32), dt, np.inf)


def _settled(body, tets, locations, slots):
    """What so many slots of tetrahedra (T, 4) are at rest, as `settle` of the kernel takes it; locations (T, 3) as `pack_fans` says."""
    goals, slot, lane = locations.T if slots else np.zeros((3, 0), int)
    fibres = body.fibres
    corners = np.full((slots, LANES, 4), nobody(len(body.masses)), np.int32)
    rows, bodies = np.zeros(slots, np.int32), np.zeros((slots, LANES), np.int32)
    lanes = aligned((tet.RESTS * slots, LANES))
    if slots:
        corners[slot, lane], rows[slot] = tets, goals
        bodies[slot, lane] = np.unique(body.pieces[tets[:, 0]], return_inverse=True)[1].reshape(-1)
        upper, metric = np.triu_indices(3), body.metric if fibres is None else fibres.metric
        rests = np.column_stack([body.gram[:, *upper], metric[:, *upper], body.sixfold])
        # Nobody's wants no volume.
        lanes.reshape(slots, tet.RESTS, LANES)[:, 12] = 1e-30
        lanes = _in_slots(rests, locations, slots, lanes)
    along = aligned((0, LANES)) if fibres is None or not slots else _in_slots(fibres.rows, locations, slots)
    return np.ascontiguousarray(corners.transpose(0, 2, 1)).reshape(-1, LANES), rows, bodies, lanes, along


def _in_slots(values, locations, slots, lanes=None):
    """Values (T, n) of tetrahedra as n rows for each of so many slots, (n slots, LANES); locations (T, 3) as `pack_fans` says."""
    width = values.shape[1]
    lanes = aligned((width * slots, LANES)) if lanes is None else lanes
    lanes.reshape(slots, width, LANES)[locations[:, 1], :, locations[:, 2]] = values
    return lanes


def _length_limits(body, tets, longest, rows, count):
    """The length limits' (indices, params, starts), and what `_loosen` needs of them; none without a limit."""
    edges, lengths = edges_of_tets(body.nodes, tets) if longest is not None else (np.zeros((0, 2), np.int32), np.zeros(0))
    limits = lengths * (longest or 0.0)
    packed, slots = pack_length_limits(edges, limits, np.zeros(len(edges)), True, rows, count)
    return packed, LengthLimits(edges, slots, limits, longest)


def _particles(body, pull):
    """Inverse masses (N,) and holds (P / 4, LANES) of a body; pull (N,) its holds' springs, the substep squared included."""
    count = len(body.masses)
    holds = wide(count)
    holds.reshape(-1, 4)[:count, :3] = np.where(body.is_free, pull / (1.0 + pull), 1.0)[:, None]
    return body.inverse_masses.astype(np.float32), holds


def _rows_of_domains(tets, count, worth=WORTH_CUTTING):
    """Where the domains begin, and where the last one ends, in rows of four particles."""
    ends = [0, row_count(count)]
    if len(tets) >= worth:
        # Cut where as many lie before as behind, whatever spans the cut.
        ends.insert(1, int(np.median([tets.min(1), tets.max(1)])) // 4)
    return np.array(ends, np.int32)


def wide(particles):
    """Zeros for a row of four numbers for each particle, as the lanes take them."""
    return aligned((row_count(particles), LANES))


def _steps(body, weights, shear):
    """The constant matrices of a substep, as kernels/tets.py says: SHAPE (T, 9), VOLUME (T, 6), CENTRE (T, 3).

    weights (T, 4) inverse masses; ``shear`` [Pa s2] includes the substep squared.
    """
    # Rows for the first particle from those of the edges: nothing happens to what moves as one.
    stiffness = np.empty((len(weights), 4, 4))
    gram = body.gram if body.fibres is None else body.fibres.gram
    stiffness[:, 1:, 1:] = gram
    stiffness[:, 0, 1:] = -gram.sum(1)
    stiffness[:, :, 0] = -stiffness[:, :, 1:].sum(2)
    stiffness *= (shear * body.volumes)[:, None, None]
    step = np.linalg.solve(np.eye(4) + weights[:, :, None] * stiffness, weights[:, :, None] * np.eye(4))
    against_first = step[:, 1:] - step[:, :1]
    volume = against_first[:, :, 1:] - against_first[:, :, :1]
    upper = np.triu_indices(3)
    return (against_first @ stiffness)[:, :, 1:].reshape(-1, 9), volume[:, *upper], _shares_of_mass(weights)[:, 1:]


def _shares_of_mass(weights):
    """The share (T, 4) of each particle in the mass of all four; a pinned one, of no inverse mass, has all of it."""
    is_pinned = weights == 0.0
    masses = np.where(is_pinned.any(1, keepdims=True), is_pinned, 1.0 / np.where(is_pinned, 1.0, weights))
    return masses / masses.sum(1, keepdims=True)


class SolidState(Varying):
    """What varies: positions float64 (N, 3) [m], velocities float32 (N, 4) [m/s]."""

    def __init__(self, positions):
        self.positions = np.array(positions, float)
        count = len(positions)
        self.rows = wide(count)
        self.velocities = self.rows.reshape(-1, 4)[:count]
        # Kept from frame to frame: new memory costs more than filling it.
        points = wide(count).reshape(-1, 4)
        self.scratch = points, wide(count), np.zeros((2, *points.shape), np.float32)
        self._pulls, self._goals = wide(count), None
        # What else a sheet or a volume needs, once it is known which.
        self.room = None

    def snapshot(self):
        """As `Varying.snapshot`."""
        return {"positions": self.positions.copy(), "rows": self.rows.copy()}

    def restore(self, state):
        """As `Varying.restore`; velocities are a view of the rows."""
        self.positions, self.rows[:] = state["positions"].copy(), state["rows"]

    def goals(self, targets):
        """Room for keyed positions when a frame begins and at so many targets, (targets + 1, P / 4, LANES)."""
        if self._goals is None or len(self._goals) != targets + 1:
            self._goals = aligned((targets + 1, row_count(len(self.positions)), LANES))
        return self._goals

    def pulls(self, pull):
        """What a substep adds to the velocities, (3,) for all or (N, 3) for each [m/s], as rows."""
        if pull.ndim == 1:
            rows = aligned((1, LANES))
            rows.reshape(-1, 4)[:, :3] = pull
            return rows
        self._pulls.reshape(-1, 4)[: len(pull), :3] = pull
        return self._pulls

    @property
    def greatest_speed(self):
        """[m/s]; not finite where the state is not."""
        return float(np.abs(self.velocities).max(initial=0.0))


_NOBODY = (np.zeros((0, 3)), np.zeros((0, 4), np.int32), np.zeros((0, 4)))
NO_HELD = (*_NOBODY, np.zeros(0, np.int32), np.zeros(0), np.zeros((0, FRAME)), np.zeros((0, SHAPE)))
NO_SURFACE_CONTACTS = (*_NOBODY, np.zeros((0, 12)), np.zeros(0), np.zeros(0))
NO_SURFACE_CONTACT_LANES = (np.zeros((0, LANES), np.int32), aligned((0, LANES)))
NO_PAIRS = (np.zeros((0, 2), np.int32), np.zeros((0, 3)), np.zeros(0), 0.0)
NO_BETWEEN = (np.zeros((0, LANES), np.int32), aligned((0, LANES)), np.zeros((0, 5), np.float32))
NO_TOUCHES = (NO_HELD, NO_SURFACE_CONTACTS, NO_SURFACE_CONTACT_LANES, NO_PAIRS, NO_BETWEEN)


def advance(
    model,
    state,
    targets,
    before,
    pull=None,
    threads=None,
    touches=NO_TOUCHES,
    keeps="keyed",
    pulls=None,
    rests=None,
    substeps=None,
):
    """Advance ``state`` by one frame of S substeps towards keyed places targets (S, N, 3), from before (N, 3) [m].

    ``pull`` (3,) or (N, 3) [m/s2] takes the place of the model's gravity for this frame; ``touches`` is what may touch, as `push_held`,
    `push_surface_contacts`, `push_surface_contact_lanes`, `push_pairs` and, where there is anything, `push_apart` take it.
    Pieces keep their "keyed" volume, or that at "rest"; ``pulls`` (Pulls) is how strongly their fibres are pulled. Where
    what is held is led elsewhere than it rests, ``rests`` is where it does, as targets and before. Of more ``substeps`` than targets,
    those between go straight.
    """
    substeps = len(targets) if substeps is None else substeps
    pull = np.float32(model.dt) * np.asarray(model.gravity if pull is None else pull, np.float32)
    body = (state.positions, model.inverse_masses, state.pulls(pull), model.damping)
    factors = (np.float32(model.drag_factor), np.float32(model.speed_limit))
    keyed = (np.ascontiguousarray(targets, float), np.ascontiguousarray(before, float))
    if rests is not None:
        rests = tuple(np.ascontiguousarray(each, float) for each in rests)
    if model.settles:
        _loosen(model, keyed[0][-1])
    scene = (
        *body,
        *factors,
        (model.tets, model.length_limits),
        *volume_goals(model, state, keyed if rests is None else rests, keeps, pulls, substeps, threads),
        touches if len(touches) == len(NO_TOUCHES) else (*touches, NO_BETWEEN),
        model.pieces,
        model.rows,
        model.holds,
        *keyed,
        state.rows,
        state.goals(len(targets)),
        state.scratch,
    )
    barrier, thread_count = np.zeros(1, np.int64), thread_count_for(len(model.rows) - 1, threads)
    together(lambda part: soft.advance_soft(part, thread_count, barrier, np.float32(model.dt), *scene), thread_count)


def volume_goals(model, state, keyed, keeps, pulls=None, substeps=None, threads=None):
    """What is found anew of where a solid rests through a frame, and the volumes that its pieces keep, as the kernel takes them."""
    (targets, before), surfaces, body = keyed, model.surfaces, model.body
    substeps, count = substeps or len(targets), len(surfaces.sixfold)
    often = max(1, round(1.0 / (SETTLED_RATE * model.dt)))
    stretches = -(-substeps // often) if model.settles else 0
    middles = np.zeros((stretches, LANES // 4 * row_count(len(before)), 4), np.float32)
    growths, goals = np.ones((stretches, max(count, 1))), np.tile(surfaces.sixfold, (substeps, 1))
    starts = often * np.arange(stretches)
    halfway = 0.5 * (starts + np.minimum(starts + often, substeps) + 1)
    if model.settles:
        moments = np.concatenate([halfway, [0.0, substeps] if count and keeps == "keyed" else []])
        looked = _volumes_along(moments * len(targets) / substeps, before, targets, surfaces, middles, threads)
        if count and keeps == "rest":
            # Where joints squeeze it, all of it gives way by as much, so that nothing bulges at one place alone.
            growths = surfaces.sixfold / np.maximum(looked, 0.1 * surfaces.sixfold)
        elif count:
            order = np.argsort(moments)
            now = [np.interp(np.arange(1, substeps + 1), moments[order], looked[order, piece]) for piece in range(count)]
            goals = (1.0 + model.pressure) * np.stack(now, axis=1)
    if state.room is None:
        state.room = _room_for(surfaces.arrays)
    tight = np.zeros_like(growths) if pulls is None else pulls.at(halfway / substeps)
    shortest = body.fibres.shortest if body.fibres else np.zeros(1)
    settled = growths, tight * shortest, model.settled, body.ratios(growths.shape[1]), float(model.pressure)
    settling = (often if model.settles else 0, middles, *settled, tight, model.firmness)
    farthest = FARTHEST if body.fibres is None else FARTHEST_PULLED
    return settling, (goals, (surfaces.arrays, surfaces.compliances, farthest, state.room))


def _volumes_along(moments, before, targets, surfaces, middles, threads):
    """Six times the volumes (L, Q) at some moments (L,), as `look_along` counts them; it writes the middles."""
    looked = np.empty((len(moments), len(surfaces.sixfold)))
    way = before, targets, surfaces.faces, surfaces.shares, surfaces.face_starts

    def look(first, end):
        look_along(first, end, moments, *way, np.empty_like(before), middles, looked)

    worth = -(-FACES_WORTH_A_THREAD // max(len(surfaces.faces), 1))
    split(look, len(moments), worth, threads)
    return looked


def _room_for(arrays):
    """Scratch for surfaces as `keep_volumes` takes it."""
    corners, starts, _, rims = arrays[:4]
    rows = len(corners) // 3
    looks = np.zeros((LANES * rows, 4), np.float32)
    many = len(starts) - 1
    pushes, seen = aligned((3 * len(rims), LANES)), aligned((3 * len(rims), LANES))
    return aligned((9 * rows, LANES)), looks, pushes, np.zeros(many), seen, np.zeros((many, 3))


def _loosen(model, positions):
    """Let length limits that are longer at positions (N, 3) [m] than at rest grow from there."""
    length_limits = model.length_bounds
    if len(length_limits.edges):
        lengths = np.linalg.norm(positions[length_limits.edges[:, 1]] - positions[length_limits.edges[:, 0]], axis=1)
        rows = model.length_limits[1].reshape(-1, length_limit.PARAMS, LANES)
        rows[length_limits.slots[:, 0], length_limit.LENGTH, length_limits.slots[:, 1]] = np.maximum(
            length_limits.limits, length_limits.share * lengths
        )
