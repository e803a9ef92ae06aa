"""The chain body: from dials a person can see to masses, compliances and damping that meet them."""

from dataclasses import dataclass

import numpy as np
from scipy import linalg

GRAVITY = 9.81
"""[m/s2], along -Y, the way down in glTF."""
LOWEST_RATE, HIGHEST_RATE = 240.0, 960.0
"""Substeps a second: 10 to 40 a frame at 24 fps."""
SETTLED = np.log(20.0)
"""A swing that shrank to a twentieth has fallen by this many e-foldings."""


@dataclass(frozen=True)
class ChainBody:
    """The physics of one chain of n segments (particles 1..n move, particle 0 is held by the joint above). SI units.

    masses (n,) [kg, relative]; bend_shape (n,) [1/m3] stiffness up to one factor; tip_fractions (n,) 0..1 from root to tip;
    lowest (float) squared rate [1/s2] of the lowest mode for a factor of one; mode_weights (n,) how much of the
    lowest mode's kinetic energy each particle holds.
    """

    lengths: np.ndarray
    masses: np.ndarray
    is_free: np.ndarray
    bend_shape: np.ndarray
    tip_fractions: np.ndarray
    lowest: float
    mode_weights: np.ndarray


def build(points, wobble_taper=1.0, both_ends=False, carried=0.0):
    """The body of a chain with rest points (n + 1, 3) [m]; ``carried`` (n,) are the masses of branches at the segments' ends."""
    segments = np.diff(points, axis=0)
    lengths = np.linalg.norm(segments, axis=1)
    n = len(lengths)
    masses = 0.5 * (lengths + np.append(lengths[1:], 0.0)) + carried
    tip_fractions = np.arange(n) / (n - 1) if n > 1 else np.zeros(1)
    bend_shape = tapered(wobble_taper, tip_fractions) ** 2 / lengths**3
    is_free = np.ones(n, bool)
    is_free[-1] = not both_ends
    lowest, mode_weights = _lowest_mode(segments, masses, bend_shape, is_free)
    return ChainBody(lengths, masses, is_free, bend_shape, tip_fractions, lowest, mode_weights)


def tapered(at_tip, tip_fractions):
    """A factor that goes geometrically from 1 at the root to ``at_tip`` at the tip (linearly where that is 0)."""
    return at_tip**tip_fractions if at_tip > 0.0 else 1.0 - tip_fractions


def leverages(segments):
    """How far a turn of the segment before moves each segment's end, per its own length: the kernel's coefficient (n,)."""
    before = np.vstack([np.zeros(3), segments[:-1]])
    squared = np.sum(before * before, axis=1)
    return np.where(squared > 0.0, np.sum(before * segments, axis=1) / np.where(squared > 0.0, squared, 1.0), 0.0)


def _lowest_mode(segments, masses, bend_shape, is_free):
    """Squared rate and energy shares of the slowest mode: the solver's own linear operator on motions that keep all lengths."""
    n = len(segments)
    ends = np.tril(np.ones((n, n)))
    across = [linalg.null_space(segment[None, :] / np.linalg.norm(segment)) for segment in segments]
    motions = np.kron(ends, np.eye(3)) @ linalg.block_diag(*across)
    if not is_free[-1]:
        motions = motions @ linalg.null_space(motions[-3:])
    if motions.shape[1] == 0:
        return 0.0, np.zeros(n)
    turned, pulled = _bend_errors(segments), _bend_pulls(segments)
    stiffness = motions.T @ pulled.T @ (np.repeat(bend_shape, 3)[:, None] * turned) @ motions
    inertia = motions.T @ (np.repeat(masses, 3)[:, None] * motions)
    rates, modes = linalg.eig(stiffness, inertia)
    slowest = int(np.argmin(np.where(np.real(rates) > 1e-9 * np.abs(rates).max(), np.real(rates), np.inf)))
    shape = np.abs(motions @ modes[:, slowest]).reshape(n, 3)
    energy = masses * np.sum(shape * shape, axis=1)
    return float(np.real(rates[slowest])), energy / energy.sum()


def _bend_errors(segments):
    """The bends' errors as linear functions of the particles' displacements, (3 n, 3 n).

    A segment's turn is the shortest one onto where it points, on top of the turn before it, whose twist it keeps:
    turn' = b x d / b2 + (b b . turn) / b2 for a segment b whose ends move apart by d.
    """
    n = len(segments)
    errors, turn = np.zeros((3 * n, 3 * n)), np.zeros((3, 3 * n))
    for i, segment in enumerate(segments):
        apart = np.zeros((3, 3 * n))
        apart[:, 3 * i : 3 * i + 3] = np.eye(3)
        if i:
            apart[:, 3 * i - 3 : 3 * i] = -np.eye(3)
        across = _cross_matrix(segment)
        errors[3 * i : 3 * i + 3] = apart + across @ turn
        turn = (across @ apart + np.outer(segment, segment) @ turn) / np.dot(segment, segment)
    return errors


def _bend_pulls(segments):
    """The directions in which the kernel's bends pull at the particles, (3 n, 3 n)."""
    n = len(segments)
    pulls = np.eye(n)
    for i, leverage in enumerate(leverages(segments)):
        if i >= 1:
            pulls[i, i - 1] = -1.0 - leverage
        if i >= 2:
            pulls[i, i - 2] = leverage
    return np.kron(pulls, np.eye(3))


def _cross_matrix(vector):
    """The matrix M with M x = vector x x."""
    x, y, z = vector
    return np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])


class Hanging:
    """A chain that sags under its share of the weight from its rest points (n + 1, 3) [m]; its root held, its lengths kept.

    The solver's own bends: each segment is drawn to where the turns before it carry it, by a force along the kernel's directions. What
    follows is seen from turns of the segments about two axes across each, 2 n of them.
    """

    STEP, LONGEST, ROUNDS = 1e-5, 0.3, 30

    def __init__(self, points, body, pulls):
        self.segments, self.body = np.diff(points, axis=0), body
        self.lengths, self.pulls = body.lengths, _bend_pulls(self.segments)
        self.weights, self.stiff = pulls * body.masses[:, None], np.repeat(body.bend_shape, 3)

    def _along(self, forces, frames):
        """Forces on the particles (K, n, 3) as forces along the turns (K, 2 n); frames (K, n, 3, 2) are the axes, as ways across."""
        carried = np.cumsum(forces[:, ::-1], axis=1)[:, ::-1] * self.lengths[:, None]
        return np.einsum("kni,knia->kna", carried, frames).reshape(len(forces), -1)

    def _bends(self, ways):
        """The forces (K, n, 3) of bends of a factor of one."""
        return -(_errors_at(self.segments, ways) * self.stiff @ self.pulls).reshape(ways.shape)

    def stiffness(self, ways, frames):
        """(that of bends of a factor of one, that of the weight), each (2 n, 2 n), where the segments look along ``ways`` (n, 3)."""
        n, unit = len(ways), ways / self.lengths[:, None]
        around = np.repeat(unit[None], 4 * n, axis=0)
        columns = np.arange(2 * n)
        asides = self.STEP * frames[columns // 2, :, columns % 2]
        around[0::2][columns, columns // 2] += asides
        around[1::2][columns, columns // 2] -= asides
        around /= np.linalg.norm(around, axis=2, keepdims=True)
        # The axes go along with the segments.
        both = unit + around
        share = np.einsum("kni,nia->kna", both, frames) / (1.0 + np.einsum("ni,kni->kn", unit, around))[..., None]
        moved = frames - both[..., None] * share[:, :, None]
        found = []
        for forces in (self._bends(around * self.lengths[:, None]), np.broadcast_to(self.weights, around.shape)):
            along = self._along(forces, moved)
            found.append((along[1::2] - along[0::2]).T / (2.0 * self.STEP))
        return found

    def inertia(self, frames):
        """The inertia (2 n, 2 n) against turns about the axes ``frames`` (n, 3, 2)."""
        n = len(frames)
        below = np.cumsum(self.body.masses[::-1])[::-1]
        shared = below[np.maximum.outer(np.arange(n), np.arange(n))] * np.outer(self.lengths, self.lengths)
        return np.einsum("ij,ixa,jxb->iajb", shared, frames, frames).reshape(2 * n, 2 * n)

    def settled(self, factor, ways):
        """(ways (n, 3), their frames) at which bends of a ``factor`` and the weight balance, beginning near some ways."""
        for _ in range(self.ROUNDS):
            frames = _across(ways)
            bent, heavy = self.stiffness(ways, frames)
            force = self._along(factor * self._bends(ways[None]) + self.weights, frames[None])[0]
            # Steps along what would not come back are turned around.
            rates, turns = np.linalg.eig(factor * bent + heavy)
            rates = np.maximum(np.abs(rates), 1e-6 * np.abs(rates).max())
            turn = np.real(turns @ (np.linalg.solve(turns, force.astype(complex)) / rates))
            turn *= min(1.0, self.LONGEST / max(np.abs(turn).max(), 1e-12))
            ways = ways + np.einsum("nia,na->ni", frames, turn.reshape(-1, 2)) * self.lengths[:, None]
            ways *= (self.lengths / np.linalg.norm(ways, axis=1))[:, None]
            if np.abs(turn).max() < 1e-5:
                break
        return ways, _across(ways)


def _across(ways):
    """Two axes across each of some ways (n, 3), as columns (n, 3, 2)."""
    unit = ways / np.linalg.norm(ways, axis=1, keepdims=True)
    other = np.eye(3)[np.abs(unit).argmin(axis=1)]
    first = np.cross(unit, other)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    return np.stack([first, np.cross(unit, first)], axis=2)


def _errors_at(segments, ways):
    """The bends' errors (K, 3 n) where segments (n, 3) at rest look along ways (K, n, 3)."""
    out, turn = np.empty(ways.shape), np.repeat(np.eye(3)[None], len(ways), axis=0)
    for i, segment in enumerate(segments):
        aim = turn @ segment
        out[:, i] = ways[:, i] - aim
        turn = _turned_onto(aim, ways[:, i]) @ turn
    return out.reshape(len(ways), -1)


def _turned_onto(one, other):
    """The shortest turns (K, 3, 3) from directions (K, 3) onto others of the same length."""
    square = np.einsum("ki,ki->k", one, one)[:, None]
    x, y, z = (np.cross(one, other) / square).T
    cosine = np.einsum("ki,ki->k", one, other) / square[:, 0]
    cross = np.zeros((len(one), 3, 3))
    cross[:, 0, 1], cross[:, 0, 2], cross[:, 1, 2], cross[:, 1, 0], cross[:, 2, 0], cross[:, 2, 1] = -z, y, -x, z, -y, x
    return np.eye(3) + cross + cross @ cross / np.maximum(1.0 + cosine, 1e-6)[:, None, None]


@dataclass(frozen=True)
class Swing:
    """How a chain swings under its weight: the factor of its bends; given [1/s2], what the weight adds to the squared rate of its slowest
    mode; ways (n, 3) of its segments where it hangs [m]; mode (n, 3), how its particles move in that mode; rate [Hz] that is met.
    """

    factor: float
    given: float
    ways: np.ndarray
    mode: np.ndarray
    rate: float


TRIES, CLOSE, LEAST_FACTOR, MOST_FACTOR = 16, 2e-3, 1e-4, 1e4
"""Factors that are tried for a rate, how near its square is near enough; the least and greatest, against what would do without weight."""


def swing_under_weight(points, body, pulls, wobble_rate):
    """The Swing of a chain with rest points (n + 1, 3) and pulls (n, 3) [m/s2], at ``wobble_rate`` [Hz] where its bends can bring it there.

    Where the weight alone swings it more quickly than that, it hangs by almost no bends.
    """
    hanging, wanted = Hanging(points, body, pulls), (2.0 * np.pi * wobble_rate) ** 2
    plain = wanted / body.lowest

    def at(factor, near):
        ways, frames = hanging.settled(factor, near)
        bent, heavy = hanging.stiffness(ways, frames)
        inertia = hanging.inertia(frames)
        rates, modes = linalg.eig(factor * bent + heavy, inertia)
        # What would fall over is slower than anything.
        k = int(np.argmin(np.real(rates)))
        turns = np.real(modes[:, k])
        given = float(turns @ heavy @ turns / (turns @ inertia @ turns))
        mode = np.cumsum(np.einsum("nia,na->ni", frames, turns.reshape(-1, 2)) * hanging.lengths[:, None], axis=0)
        return Swing(factor, given, ways, mode, float(np.sqrt(max(np.real(rates[k]), 0.0)) / (2.0 * np.pi)))

    found = at(plain, hanging.segments)
    low, high = LEAST_FACTOR * plain, MOST_FACTOR * plain
    for _ in range(TRIES):
        squared = (2.0 * np.pi * found.rate) ** 2
        if abs(squared / wanted - 1.0) < CLOSE or (squared > wanted and found.factor <= low * 1.01):
            break
        low, high = (found.factor, high) if squared < wanted else (low, found.factor)
        # The squared rate is nearly a line over the factor, with what the weight gives as its foot.
        ahead = found.factor * (wanted - found.given) / max(squared - found.given, 1e-9)
        if not low < ahead < high:
            ahead = max(np.sqrt(low * high), low) if squared < wanted or low > LEAST_FACTOR * plain * 1.01 else low
        found = at(ahead, found.ways)
    return found


def substep_rate(wobble_rate, settle_time):
    """Substeps a second at which the solver's own damping stays below the damping asked for: (rate, whether it was cut)."""
    swing, decay = 2.0 * np.pi * wobble_rate, SETTLED / settle_time
    wanted = 1.1 * swing**2 / (2.0 * decay)
    return float(np.clip(wanted, LOWEST_RATE, HIGHEST_RATE)), wanted > HIGHEST_RATE


def matched(wobble_rate, settle_time, dt, given=0.0):
    """Stiffness [1/s2] and kept velocity share such that one substep of an oscillator swings and decays exactly as asked.

    The substep is x' = x + dt v', v' = (keep v - dt k x) / (1 + k dt2): its matrix has determinant keep g and trace
    g (1 + keep) with g = 1 / (1 + k dt2); both are set from the wanted pair of roots exp((-decay +- i swing) dt).
    ``settle_time`` in seconds. A share above 1 would feed energy in; it is cut to 1, where the rate is still met, the time is not: see
    `settle_met`. ``given`` [1/s2] is stiffness that the weight gives, whose force is that of where the substep begins.
    """
    shrink = np.exp(-SETTLED / settle_time * dt)
    if wobble_rate <= 0.0:
        return 0.0, float(shrink * shrink)
    g, is_cut = _shrinking(wobble_rate, settle_time, dt, given)
    return float((1.0 / g - 1.0) / dt**2), 1.0 if is_cut else float(min(shrink * shrink / g, 1.0))


def _shrinking(wobble_rate, settle_time, dt, given=0.0):
    """(by what the spring shrinks the velocity in a substep, whether that is more than what was asked for)."""
    cosine, shrink = np.cos(min(2.0 * np.pi * wobble_rate * dt, 1.5)), np.exp(-SETTLED / settle_time * dt)
    kept = max(1.0 - given * dt * dt, 0.1)
    g = (2.0 * shrink * cosine - shrink * shrink) / kept
    is_cut = shrink * shrink > g
    if is_cut:
        # Nothing is damped besides: of (z^2 - g (1 + kept) z + g) the pair of roots at the rate asked for.
        g = (2.0 * cosine / (1.0 + kept)) ** 2
    return float(np.clip(g, 1e-3, 1.0 - 1e-9)), is_cut


def settle_met(wobble_rate, settle_time, dt):
    """How long a swing lasts that `matched` sets up [s]: as asked, or as short as the substeps themselves make it."""
    if wobble_rate <= 0.0:
        return settle_time
    g, is_cut = _shrinking(wobble_rate, settle_time, dt)
    return 2.0 * SETTLED * dt / -np.log(g) if is_cut else settle_time


def settle_note(name, wobble_rate, settle_time, dt, frame_rate):
    """[a remark], where the settle time of a layer [s] cannot be met by 5 %; else none."""
    met = settle_met(wobble_rate, settle_time, dt)
    if met > 0.95 * settle_time:
        return []
    frames = met * frame_rate
    return [f"{name}: needs more substeps than the limit; settles in {frames:.0f} frames instead of {settle_time * frame_rate:.0f}"]


def matched_from_begin(wobble_rate, settle_time, dt):
    """The same for a substep that takes the spring's force where it begins, x' = x + dt v', v' = keep v - dt k x: a step of Verlet's,
    which damps nothing by itself. The swing may be a radian a substep at the most.
    """
    swing, shrink = min(2.0 * np.pi * wobble_rate, 1.0 / dt), np.exp(-SETTLED / settle_time * dt)
    if wobble_rate <= 0.0:
        return 0.0, float(shrink * shrink)
    return float((1.0 + shrink * shrink - 2.0 * shrink * np.cos(swing * dt)) / dt**2), float(shrink * shrink)
