"""The chain body: from dials a person can see to masses, compliances and damping that meet them."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import linalg

from quiver.bodies.articulated import Articulated
from quiver.rig.tree import Tree

GRAVITY = 9.81
"""[m/s2], along -Y, the way down in glTF."""
LOWEST_RATE, HIGHEST_RATE = 240.0, 960.0
"""Substeps a second: 10 to 40 a frame at 24 fps."""
SETTLED = np.log(20.0)
"""A swing that shrank to a twentieth has fallen by this many e-foldings."""


LIVELIEST = 4.0
"""A branch alone swings at most so much more quickly than the whole tree: it is as much softer than the trunk as that takes."""


@dataclass(frozen=True)
class ChainBody:
    """The physics of a chain or tree of n segments, each of which ends in a particle; the root is held by the joint above. SI units.

    masses (n,) [kg, relative]; bend_shape (n,) [1/m3] stiffness up to one factor; tip_fractions (n,) 0..1 from root to tip;
    lowest (float) squared rate [1/s2] of the lowest mode for a factor of one; mode (n, 3) how the particles move in that, mode_weights
    (n,) how much of its kinetic energy each holds; swinging (Articulated) how it moves at its lengths.
    """

    lengths: np.ndarray
    masses: np.ndarray
    is_free: np.ndarray
    bend_shape: np.ndarray
    tip_fractions: np.ndarray
    lowest: float
    mode: np.ndarray
    mode_weights: np.ndarray
    swinging: Articulated

    @property
    def reach(self):
        """The longest way from the root to a tip [m]."""
        begins, ends = np.zeros(len(self.lengths)), self.lengths.copy()
        for i, before in enumerate(self.swinging.tree.before):
            if before >= 0:
                aside = float(np.linalg.norm(self.swinging.offsets[i]))
                begins[i] = begins[before] + aside if self.swinging.tree.is_rider[i] else ends[before]
                ends[i] += begins[i]
        return float(ends.max())

    @property
    def stretch_shape(self):
        """The compliances (n,) [m/N] with which it gets by its own length longer as it hangs by its weight."""
        weights = GRAVITY * self.masses
        for i in range(len(weights) - 1, 0, -1):
            weights[self.swinging.tree.before[i]] += weights[i]
        return self.lengths.sum() * self.lengths / np.sum(self.lengths * weights)


def build(points, wobble_taper=1.0, both_ends=False, tree=None, axes=None):
    """The body of a chain with rest points (n + 1, 3) [m]; of a Tree, those of its chains, (n + chains, 3), each with its root.

    axes (n, 2, 3) as kernels/chains.py says, where it may not swing every way. It is kept, and must not be changed.
    """
    points = np.ascontiguousarray(points, float)
    axes = None if axes is None else np.ascontiguousarray(axes, float).tobytes()
    return _built(points.tobytes(), wobble_taper, both_ends, tree or Tree((len(points) - 1,)), axes)


@lru_cache(maxsize=512)
def _built(points, wobble_taper, both_ends, tree, axes):
    """`build` of points and axes as bytes."""
    axes, is_free = None if axes is None else np.frombuffer(axes).reshape(-1, 2, 3), np.ones(tree.segments, bool)
    is_free[np.array(tree.firsts) + tree.counts - 1] = not both_ends
    swinging = _swinging(np.frombuffer(points).reshape(-1, 3), tree, axes, is_free)
    lengths, along = swinging.lengths, tip_fractions(tree)
    bend_shape = tapered(wobble_taper, along) ** 2 / lengths**3
    masses = _masses(swinging)
    for first, count in list(tree)[1:]:
        rows = slice(first, first + count)
        own_axes = None if axes is None else axes[rows]
        alone = Articulated(swinging.segments[rows], np.zeros((count, 3)), Tree((count,)), own_axes, is_free[rows])
        branch, whole = _lowest_mode(alone, masses[rows], bend_shape[rows])[0], _lowest_mode(swinging, masses, bend_shape)[0]
        if branch > LIVELIEST**2 * whole > 0.0:
            bend_shape[rows] *= LIVELIEST**2 * whole / branch
    lowest, mode = _lowest_mode(swinging, masses, bend_shape)
    energy = masses * np.sum(mode * mode, axis=1)
    return ChainBody(lengths, masses, is_free, bend_shape, along, lowest, mode, energy / max(energy.sum(), 1e-300), swinging)


def _swinging(points, tree, axes, is_free):
    """The Articulated of a tree whose chains have the points, each its root and n ends."""
    ends = np.concatenate([np.arange(count) + first + number + 1 for number, (first, count) in enumerate(tree)])
    segments, offsets = points[ends] - points[ends - 1], np.zeros((tree.segments, 3))
    riders = np.flatnonzero(tree.is_rider)
    offsets[riders] = points[ends[riders] - 1] - points[ends[tree.before[riders]] - 1]
    return Articulated(segments, offsets, tree, axes, is_free)


def _masses(swinging):
    """Half of a segment's length at each of its ends; at the foot of a branch shared by the ends of what carries it."""
    halves, tree = 0.5 * swinging.lengths, swinging.tree
    masses = halves.copy()
    for i, before in enumerate(tree.before):
        if before < 0:
            continue
        share = 1.0
        if tree.is_rider[i]:
            carrier = swinging.segments[before]
            share = float(np.clip(swinging.offsets[i] @ carrier / (carrier @ carrier), 0.0, 1.0))
            if before and not tree.is_rider[before]:
                masses[before - 1] += (1.0 - share) * halves[i]
        masses[before] += share * halves[i]
    return masses


def tip_fractions(tree):
    """From 0 at the root to 1 at each tip (n,); a branch goes on from where it grows."""
    found = np.zeros(tree.segments)
    for (first, count), (trunk, segment) in zip(tree, tree.grows_on, strict=True):
        if trunk < 0:
            found[:count] = np.arange(count) / max(count - 1, 1)
        else:
            begin = found[tree.firsts[trunk] + segment]
            found[first : first + count] = begin + (1.0 - begin) * np.arange(1, count + 1) / count
    return found


def tapered(at_tip, tip_fractions):
    """A factor that goes geometrically from 1 at the root to ``at_tip`` at the tip (linearly where that is 0)."""
    return at_tip**tip_fractions if at_tip > 0.0 else 1.0 - tip_fractions


def _lowest_mode(swinging, masses, bend_shape):
    """Squared rate and shape (n, 3) of the slowest mode of what may swing."""
    n = len(masses)
    frames, kept = swinging.across(swinging.segments)
    ends, errors = (each @ kept for each in swinging.moved(swinging.segments, frames))
    if ends.shape[1] == 0:
        return 0.0, np.zeros((n, 3))
    stiffness = errors.T @ (np.repeat(bend_shape, 3)[:, None] * errors)
    inertia = ends.T @ (np.repeat(masses, 3)[:, None] * ends)
    rates, modes = linalg.eigh(stiffness, inertia)
    # What is held at both ends may turn about the line between them, against nothing.
    slowest = int(np.argmax(rates > 1e-9 * rates.max()))
    return float(rates[slowest]), (ends @ modes[:, slowest]).reshape(n, 3)


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
