"""The chain body: from dials a person can see to masses, compliances and damping that meet them."""

from dataclasses import dataclass
from functools import lru_cache

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
    """The body of a chain with rest points (n + 1, 3) [m]; ``carried`` (n,) are the masses of branches at the segments' ends.

    It is kept, and must not be changed.
    """
    points = np.ascontiguousarray(points, float)
    carried = np.broadcast_to(np.asarray(carried, float), len(points) - 1)
    return _built(points.tobytes(), wobble_taper, both_ends, carried.tobytes())


@lru_cache(maxsize=512)
def _built(points, wobble_taper, both_ends, carried):
    """`build` of points and masses as bytes."""
    segments, carried = np.diff(np.frombuffer(points).reshape(-1, 3), axis=0), np.frombuffer(carried)
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
    turned, pulled = _bend_errors(segments), bend_pulls(segments)
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


def bend_pulls(segments):
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
