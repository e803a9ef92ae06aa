"""The volume body: from a lattice and dials a person can see to masses, stiffness and holds that meet them."""

import warnings
from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse import csgraph, linalg
from scipy.spatial import KDTree

from quiver.bodies import lattice as lattices
from quiver.cache import Cache
from quiver.mesh.topology import surface_of_tets

DENSITY = 1000.0
"""[kg/m3], of water and flesh. It cancels out of how a part swings; parts that push each other feel it."""
PINNED = 0.98
"""A node held at least so much is fixed to its keyed place."""
STIFF_HOLD = 40.0
"""How much stiffer than the flesh as a whole a hold of one half is."""
LEAST_HOLD = 0.02
"""What holds a piece that nothing else holds."""
STIFF_ACROSS, RIGID = 100.0, 1e-6
"""How much stiffer than anything what cannot move along a direction is held; rates so small against others are none."""
LEAST_WEIGHT = 0.4
"""A tetrahedron of which less is inside weighs as if so much were."""
POISSON_RANGE = (0.05, 0.49)
STIFFEST = 1e4
"""The most that a body as a whole resists a change of its volume, against Young's modulus."""
STEADY = 0.54
"""Shear waves may cross so much of an element's shortest edge in one substep; from 0.7 on the solid buckles at rest (measured)."""
SOFTENING = 0.26
"""One pass of the solver leaves slow modes slower by this share, times the square of that crossing; where a body's own is not known
(measured: 0.01 to 0.44 for bars)."""
KEPT_PIECES = 12
_pieces = Cache(KEPT_PIECES)
MODES, MOVES_SKIN, MOVES_MASS = 6, 0.1, 0.01
"""The slowest modes that are looked at; the first that moves the skin by so much, against what it moves the most, and so much of the mass,
is the one that is seen."""
DANGLING, CRUMBS = 0.1, 0.4
"""Cells that hang by an edge or a corner of the others, and are no more than this share of them, swing freely: nobody means them. Where all
such are more than the second share of a piece, it is made of them."""
MOST_DIRECT = 60_000
"""Unknowns up to which the modes are found by factoring."""
EIGEN_ROUNDS = 40


@dataclass(frozen=True, eq=False)
class Fibres:
    """How fibres run in the T tetrahedra of Q muscles, at rest.

    gram, metric (T, 3, 3) as those of a VolumeBody, but stiffer along the fibres than across; rows (T, FIBRES) as kernels/tets.py says
    firmer (T,) by how much stiffer a full pull makes it, shortest (Q,) by which share it shortens them
    stiffest    by how much more a substep has to be fine for it than its shear says
    """

    gram: np.ndarray
    metric: np.ndarray
    rows: np.ndarray
    firmer: np.ndarray
    shortest: np.ndarray
    stiffest: float


@dataclass(frozen=True, eq=False)
class Grain:
    """Fibres before it is known what they run through: unit directions (T, 3), which share of each tetrahedron pulls (T,).

    along is how stiff it is along them against across; firmer and shortest as Fibres says, of one muscle
    """

    directions: np.ndarray
    pulling: np.ndarray
    along: float
    firmer: float
    shortest: float

    @property
    def stiffness(self):
        """How stiff each tetrahedron is against the softest of its directions, (T, 3, 3)."""
        line = self.directions[:, :, None] * self.directions[:, None, :]
        if self.along >= 1.0:
            return np.eye(3) + (self.along - 1.0) * line
        return np.eye(3) / self.along + (1.0 - 1.0 / self.along) * line

    @property
    def extra(self):
        """The part of `stiffness` beyond a body that is alike all around."""
        return self.stiffness - np.eye(3)

    def fibres(self, edges, inverse):
        """The Fibres in tetrahedra of edges (T, 3, 3), row by row, and inverse (T, 3, 3) of their columns."""
        law = self.stiffness
        gram, metric = inverse @ law @ np.swapaxes(inverse, 1, 2), edges @ np.linalg.inv(law) @ np.swapaxes(edges, 1, 2)
        rows = np.column_stack([np.einsum("tij,tj->ti", each, self.directions) for each in (inverse, edges)] + [self.pulling])
        firmer = 1.0 + (self.firmer - 1.0) * self.pulling
        # Measured: what is stiff along fibres alone is steady in longer substeps than what is so all around.
        stiffest = np.sqrt(max(self.along, 1.0 / self.along))
        return Fibres(gram, metric, rows, firmer, np.array([self.shortest]), stiffest)


@dataclass(frozen=True)
class VolumeBody:
    """The physics of a solid of N nodes and T tetrahedra for a Young's modulus of one. SI units.

    nodes (N, 3) [m] at rest; density [kg/m3]; masses (N,) [kg]; holds (N,) 0..1, from PINNED on fixed; springs (N,) [1/s2] of the holds
    volumes (T,) [m3], as firm as they are against the firmest; sixfold (T,) six times the rest volume [m3]; gram (T, 3, 3) of the inverse
    rest edges [1/m2], metric (T, 3, 3) of the rest edges [m2]; shear, bulk the constants of the solid
    pieces (N,) which piece each node is part of; keeping how strongly a piece keeps its volume as a whole, against Young's
    modulus: infinitely for 100 %
    lowest [1/s2] squared rate of the slowest mode, mode (N, 3) its shape, at most one long
    """

    nodes: np.ndarray
    density: float
    masses: np.ndarray
    holds: np.ndarray
    springs: np.ndarray
    volumes: np.ndarray
    gram: np.ndarray
    metric: np.ndarray
    sixfold: np.ndarray
    shear: float
    bulk: float
    pieces: np.ndarray
    keeping: float
    lowest: float
    mode: np.ndarray
    fibres: Fibres | None = None

    @property
    def is_free(self):
        return self.holds < PINNED

    @property
    def inverse_masses(self):
        """(N,) [1/kg], 0 of what is fixed."""
        return np.where(self.is_free, 1.0 / self.masses, 0.0)

    def ratios(self, count):
        """Shear against bulk of each of so many pieces (Q,)."""
        return np.full(count, self.shear / self.bulk)


def poisson_of(volume_keep):
    """Poisson's ratio for how well the volume is kept, 0..1."""
    low, high = POISSON_RANGE
    return low + (high - low) * volume_keep


def build(lattice, node_holds, volume_keep, firmness, weight=1.0):
    """The body of a lattice in metres.

    node_holds (N,) 0..1; ``firmness`` 0.1..10 makes the holds' springs softer against the flesh; ``weight`` against water.
    """
    density = DENSITY * weight
    holds = _with_least_hold(lattice, np.where(lattice.is_inner, 1.0, node_holds))
    size = np.linalg.norm(np.ptp(lattice.nodes, axis=0)) / 2.0
    give = np.clip(holds, 0.0, PINNED)
    springs = give / (1.0 - give) / firmness / (density * size**2) * STIFF_HOLD
    return body_of(lattice, density, holds, springs, volume_keep)


def body_of(lattice, density, holds, springs, volume_keep, filled=None, grain=None, surface=None, across=None, firm=None):
    """The body of a lattice in metres, of a density [kg/m3]; holds and springs (N,) as VolumeBody says.

    filled (T,) is which share of each tetrahedron there is, all of it if not said; ``grain`` (Grain) makes it stiffer along fibres than
    across, or the other way round; ``surface``, faces (F, 3) and shares (F,) by which they count, goes around what is there.
    ``across`` is nodes (m,) and unit vectors (m, 3) along which they cannot move; ``firm`` (T,) how firm each tetrahedron is, 0..1.
    """
    nodes = lattices.seen_from(lattice.nodes.min(0), lattice.nodes)
    edges = nodes[lattice.tets[:, 1:]] - nodes[lattice.tets[:, :1]]
    sixfold = np.linalg.det(edges)
    volumes = sixfold / 6.0 if filled is None else filled * sixfold / 6.0
    inverse = np.linalg.inv(np.swapaxes(edges, 1, 2))
    gram, metric = inverse @ np.swapaxes(inverse, 1, 2), edges @ np.swapaxes(edges, 1, 2)
    masses = np.zeros(len(lattice.nodes))
    # What is light at the rim of others would be thrown about by what they meet.
    weighing = volumes if filled is None else np.maximum(filled, LEAST_WEIGHT) * sixfold / 6.0
    np.add.at(masses, lattice.tets.ravel(), np.repeat(weighing * (volumes.sum() / weighing.sum()) * density / 4.0, 4))
    volumes = volumes if firm is None else firm * volumes
    poisson = poisson_of(volume_keep)
    shear = 1.0 / (2.0 * (1.0 + poisson))
    linear_bulk = poisson / ((1.0 + poisson) * (1.0 - 2.0 * poisson))
    # It keeps its volume against what is stiffest in it.
    linear_bulk *= max(grain.along, 1.0 / grain.along) if grain is not None else 1.0
    hangs = _hanging(lattice, volumes)
    counted = np.where(hangs, 0.0, volumes)
    # Around rest, this stable neo-Hookean solid is linear elasticity with a second constant smaller by the first one.
    stiffness = _stiffness(lattice, inverse, counted, shear, linear_bulk)
    fibres = None
    if grain is not None:
        stiffness = stiffness + _stiffness_along(lattice, inverse, counted * shear, grain.extra)
        fibres = grain.fibres(edges, inverse)
    keeping = volume_keep / (1.0 - volume_keep) if volume_keep < 1.0 else np.inf
    grown = _growths(lattice, min(keeping, STIFFEST), surface)
    is_free = holds < PINNED
    is_free[np.setdiff1d(lattice.tets[hangs], lattice.tets[~hangs])] = False
    if across is not None and len(across[0]):
        stiffness = stiffness + _stiff_across(*across, STIFF_ACROSS * stiffness.diagonal().max(), len(nodes))
    lowest, mode = _lowest_mode(stiffness, grown, masses, springs, is_free, lattice)
    rest = (shear, linear_bulk + shear, lattice.pieces, keeping, lowest, mode, fibres)
    return VolumeBody(lattice.nodes, density, masses, holds, springs, volumes, gram, metric, sixfold, *rest)


def _hanging(lattice, volumes):
    """Which tetrahedra (T,) no side holds to the rest of their piece."""
    faces = np.sort(np.concatenate([np.delete(lattice.tets, k, axis=1) for k in range(4)]), axis=1)
    _, numbers = np.unique(faces, axis=0, return_inverse=True)
    cells, count = np.tile(np.arange(len(lattice.tets)), 4), len(lattice.tets)
    incidence = sparse.csr_matrix((np.ones(len(cells)), (cells, numbers.reshape(-1))), shape=(count, numbers.max(initial=0) + 1))
    _, groups = csgraph.connected_components(incidence @ incidence.T, directed=False)
    sizes, pieces = np.bincount(groups, volumes), lattice.pieces[lattice.tets[:, 0]]
    whole = np.bincount(pieces, volumes)
    hangs = sizes[groups] < DANGLING * whole[pieces]
    # A thin piece may be made of nothing else.
    crumbs = np.bincount(pieces, volumes * hangs)
    return hangs & (crumbs < CRUMBS * whole)[pieces]


def pieces_of(lattice):
    """(faces (F, 3) int32 looking outwards, piece by piece; where those of each piece begin, and all end (Q + 1,)); kept."""
    return _pieces.get(lattice, (), lambda: _pieces_of(lattice))


def _pieces_of(lattice):
    faces = surface_of_tets(lattice.nodes, lattice.tets)
    own = lattice.pieces[faces[:, 0]] if len(faces) else np.zeros(0, int)
    order = np.argsort(own, kind="stable")
    return faces[order], np.searchsorted(own[order], np.arange(int(lattice.pieces.max(initial=-1)) + 2)).astype(np.int64)


def _growths(lattice, keeping, surface):
    """What resists a change of volume of each piece as a whole, sparse (3 N, Q): its stiffness is this times its transpose.

    With a ``surface``, as `body_of` says, all is one piece.
    """
    faces, starts = pieces_of(lattice) if surface is None else (surface[0], np.array([0, len(surface[0])]))
    shares = np.ones(len(faces)) if surface is None else surface[1]
    a, b, c = (lattice.nodes[faces[:, k]] for k in range(3))
    across = shares[:, None] * np.cross(b - a, c - a)
    volumes = np.add.reduceat(np.append(shares * np.einsum("fk,fk->f", a, np.cross(b, c)) / 6.0, 0.0), starts[:-1]) * (np.diff(starts) > 0)
    own = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    factor = np.sqrt(keeping / np.maximum(volumes, 1e-30))[own][:, None] * across / 6.0
    rows = (3 * faces[:, :, None] + np.arange(3)).ravel()
    values, columns = np.repeat(factor[:, None], 3, axis=1).ravel(), np.repeat(own, 9)
    return sparse.csc_matrix((values, (rows, columns)), shape=(3 * len(lattice.nodes), len(starts) - 1))


def crossing(young, body, edge, dt):
    """How much of the shortest edge of cells of size ``edge`` [m] a shear wave crosses in ``dt`` seconds."""
    stiffest = body.fibres.stiffest if body.fibres else 1.0
    return float(np.sqrt(young * body.shear * stiffest / body.density)) * dt / (edge * np.sqrt(3.0) / 2.0)


def rate_needed(body, edge, wobble_rate, softening=SOFTENING):
    """Substeps a second at which a body swings steadily at ``wobble_rate`` [Hz]; ``softening`` as `SOFTENING`, its own."""
    young = (2.0 * np.pi * wobble_rate) ** 2 / body.lowest if body.lowest > 0.0 else 1.0
    return crossing(young, body, edge, 1.0) * (1.0 + softening * STEADY**2) / STEADY


def reached(name, wanted, rate, needed):
    """(the rate [Hz] at which a body swings in ``rate`` substeps a second, where ``needed`` are for the one that is wanted; [a remark]
    where that is less).
    """
    swings = wanted * min(1.0, rate / needed)
    if needed <= rate * 1.001:
        return swings, []
    few = f"{name}: needs more substeps than the limit for cells so small"
    return swings, [f"{few}; swings at {swings:.2g} Hz instead of {wanted:.3g}; larger cells swing as quickly as asked"]


def young_for(body, edge, stiffness, dt, softening=SOFTENING):
    """Young's modulus [Pa] at which the slowest mode has the ``stiffness`` [1/s2] in substeps of ``dt`` seconds; ``softening`` likewise."""
    if body.lowest <= 0.0:
        return 1.0
    young = stiffness / body.lowest
    # What is crossed in fact, c, is as much more than this as it makes the mode slower: c = wanted (1 + softening c^2).
    wanted = crossing(young, body, edge, dt)
    square = max(1.0 - 4.0 * softening * wanted**2, 0.0)
    return young * (2.0 / (1.0 + np.sqrt(square))) ** 2


def node_influences(lattice, positions, influence):
    """Influence at the nodes (N,), from the vertices (V, 3) nearest to them and theirs (V,)."""
    near, corner_weights = lattices.near_vertices(positions, lattice.nodes)
    return np.sum(influence[near] * corner_weights, axis=1)


def _with_least_hold(lattice, holds):
    """Pieces that nothing holds would fall away: they are held a little everywhere."""
    most = np.zeros(lattice.pieces.max() + 1)
    np.maximum.at(most, lattice.pieces, holds)
    return np.maximum(holds, np.where(most < LEAST_HOLD, LEAST_HOLD, 0.0)[lattice.pieces])


def loose_pieces(lattice, node_holds):
    """How many pieces nothing holds."""
    most = np.zeros(lattice.pieces.max() + 1)
    np.maximum.at(most, lattice.pieces, np.where(lattice.is_inner, 1.0, node_holds))
    return int((most < LEAST_HOLD).sum())


def _stiffness(lattice, inverse, volumes, shear, bulk):
    """Linear elasticity's stiffness matrix, sparse (3 N, 3 N)."""
    gradients = np.concatenate([-inverse.sum(1, keepdims=True), inverse], 1)
    strain = np.zeros((len(volumes), 6, 12))
    for node in range(4):
        x, y, z = (gradients[:, node, k] for k in range(3))
        for row, column, value in (
            *((0, 0, x), (1, 1, y), (2, 2, z)),
            *((3, 0, y), (3, 1, x), (4, 1, z), (4, 2, y), (5, 0, z), (5, 2, x)),
        ):
            strain[:, row, 3 * node + column] = value
    law = np.diag([2.0 * shear] * 3 + [shear] * 3)
    law[:3, :3] += bulk
    local = np.einsum("tki,kl,tlj,t->tij", strain, law, strain, volumes, optimize=True)
    positions = (3 * lattice.tets[:, :, None] + np.arange(3)).reshape(-1, 12)
    rows, columns = np.repeat(positions, 12, axis=1).ravel(), np.tile(positions, (1, 12)).ravel()
    size = 3 * len(lattice.nodes)
    return sparse.coo_matrix((local.ravel(), (rows, columns)), shape=(size, size)).tocsr()


def _stiffness_along(lattice, inverse, weights, extra):
    """What resists a change of edges besides, in directions and by matrices ``extra`` (T, 3, 3), sparse (3 N, 3 N)."""
    gradients = np.concatenate([-inverse.sum(1, keepdims=True), inverse], 1)
    local = np.einsum("tik,tkl,tjl,t->tij", gradients, extra, gradients, weights, optimize=True)
    rows, columns = np.repeat(lattice.tets, 4, axis=1).ravel(), np.tile(lattice.tets, (1, 4)).ravel()
    count = len(lattice.nodes)
    return sparse.kron(sparse.coo_matrix((local.ravel(), (rows, columns)), shape=(count, count)), np.eye(3), format="csr")


def _stiff_across(rows, ways, stiffness, count):
    """What holds nodes (m,) along unit vectors (m, 3), sparse (3 N, 3 N)."""
    local = stiffness * ways[:, :, None] * ways[:, None, :]
    places = 3 * rows[:, None] + np.arange(3)
    where = np.repeat(places, 3, axis=1).ravel(), np.tile(places, (1, 3)).ravel()
    return sparse.coo_matrix((local.ravel(), where), shape=(3 * count, 3 * count)).tocsr()


def _lowest_mode(stiffness, grown, masses, springs, is_free, lattice):
    """Squared rate [1/s2] and shape (N, 3) of the slowest mode of what is free that moves the skin, for a Young's modulus of one; 0 where
    nothing is free. ``grown`` (3 N, Q) adds its product with its transpose to the stiffness.
    """
    free, shape = np.flatnonzero(np.repeat(is_free, 3)), np.zeros(3 * len(masses))
    if not len(free):
        return 0.0, shape.reshape(-1, 3)
    inertia = np.repeat(masses, 3)[free]
    scale = sparse.diags(1.0 / np.sqrt(inertia))
    matrix = (scale @ (stiffness[free][:, free] + sparse.diags(np.repeat(masses * springs, 3)[free])) @ scale).tocsc()
    along = (scale @ grown[free]).toarray()
    if len(free) < 60:
        rates, modes = np.linalg.eigh(matrix.toarray() + along @ along.T)
    else:
        found = _slowest(matrix, along) if len(free) <= MOST_DIRECT else None
        rates, modes = found or _few_lowest(matrix, along, _likely_shapes(lattice.nodes, is_free)[free] * np.sqrt(inertia)[:, None])
    order = np.argsort(rates)[:MODES]
    shapes = np.zeros((3 * len(masses), len(order)))
    shapes[free] = scale @ modes[:, order]
    # What slides about as a whole swings at no rate.
    swings = rates[order] > RIGID * rates[order].max()
    slowest = next((k for k in range(len(order)) if swings[k] and _is_seen(lattice, shapes[:, k].reshape(-1, 3), masses)), 0)
    shape = shapes[:, slowest]
    return float(rates[order[slowest]]), (shape / max(np.abs(shape).max(), 1e-30)).reshape(-1, 3)


def _is_seen(lattice, shape, masses):
    """Whether a mode (N, 3) moves the skin that the lattice carries, and not only a crumb."""
    squares = np.sum(shape * shape, axis=1)
    if masses @ squares < MOVES_MASS * masses.sum() * squares.max():
        return False
    if not len(lattice.corners):
        return True
    moved = np.einsum("rc,rck->rk", lattice.corner_weights, shape[lattice.corners])
    return np.abs(moved).max() > MOVES_SKIN * np.abs(shape).max()


def _slowest(matrix, along):
    """The MODES lowest eigenvalues and their vectors of a sparse matrix plus ``along`` (M, Q) times its transpose, by shift and invert.

    None where the matrix cannot be factored.
    """
    try:
        factor = linalg.splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    except RuntimeError:
        return None
    solved = factor.solve(along)
    small = np.linalg.inv(np.eye(along.shape[1]) + along.T @ solved)

    def inverse(right):
        return factor.solve(right) - solved @ (small @ (solved.T @ right))

    whole = linalg.LinearOperator(matrix.shape, lambda right: matrix @ right + along @ (along.T @ right), dtype=float)
    start = np.random.default_rng(1).normal(size=matrix.shape[0])
    options = {"sigma": 0.0, "OPinv": linalg.LinearOperator(matrix.shape, inverse, dtype=float), "v0": start, "tol": 1e-6}
    try:
        return linalg.eigsh(whole, min(MODES, matrix.shape[0] - 2), **options)
    except linalg.ArpackError:
        return None


def _few_lowest(matrix, along, start):
    """The same where that is too large to be factored, beginning with shapes (M, k) that are like them."""
    precondition = sparse.diags(1.0 / matrix.diagonal())

    def times(right):
        return matrix @ right + along @ (along.T @ right)

    whole = linalg.LinearOperator(matrix.shape, matvec=times, matmat=times, dtype=float)
    with warnings.catch_warnings():
        # Only the lowest value is wanted, and it converges long before the others of the block, for which it warns.
        warnings.simplefilter("ignore", UserWarning)
        return linalg.lobpcg(whole, start, M=precondition, largest=False, tol=0.0, maxiter=EIGEN_ROUNDS)


def _likely_shapes(nodes, is_free):
    """Shapes (3 N, k) like those of a slow mode: everything moves along an axis, the more the further it is from what is fixed."""
    if is_free.all():
        reach = [np.ones(len(nodes)), *(nodes - nodes.mean(0)).T]
    else:
        distance = KDTree(nodes[~is_free]).query(nodes)[0]
        distance = np.where(is_free, distance / distance.max(), 0.0)
        reach = [distance, distance**2]
    shapes = [np.kron(basis[:, None], np.eye(3)) for basis in reach]
    return np.concatenate(shapes, 1)
