"""Motions of a whole character: try-out motions, which take the place of a clip, and carriers, on which it rides while its clip plays.

All are closed formulas of the time, in heights of the character, so that they suit a mouse and a whale: what is twice as high moves twice
as far, and by the square root of two more slowly, as things that fall do.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from quiver.rig import transforms

TRY_OUT = "try-out: "
"""What the names of try-out motions begin with, where those of clips stand."""
STILL = 1.5
"""What is one metre high stands still so long after a try-out motion, for all to die out [s]."""
LEAD_IN = 1.0
"""A carrier begins to move so long before the clip's first frame [s]."""
LOWEST = 0.02
"""What is lower counts as so high [m]."""


@dataclass(frozen=True)
class Motion:
    """``moves`` (times in goes (T,), size) → shifts (T, 3) [heights] and turns (T, 3), rotation vectors [rad], about a pivot.

    seconds   how long a go lasts of what is one metre high; goes how many there are, 0 for no end
    pivot     how high the pivot is [heights], above the middle of the ground below the character
    """

    name: str
    label: str
    says: str
    seconds: float
    goes: float
    pivot: float
    moves: Callable


def eased(share):
    """From 0 to 1 without a jerk: neither speed nor what changes it leaps."""
    s = np.clip(share, 0.0, 1.0)
    return s * s * s * (10.0 - 15.0 * s + 6.0 * s * s)


def _within(goes, count):
    return eased(goes) * eased(count - goes)


def _bump(share, width):
    """A smooth bump in the first part, so wide, of each whole number."""
    inside = share % 1.0
    return np.where(inside < width, np.sin(np.pi * inside / width) ** 2, 0.0)


def _through(goes, times, values):
    """From value to value, at rest at each of some times."""
    out = np.full(np.shape(goes), float(values[0]))
    for begin, end, a, b in zip(times, times[1:], values, values[1:], strict=False):
        out = out + (b - a) * eased((goes - begin) / (end - begin))
    return out


def _of(count, *, x=0.0, y=0.0, z=0.0):
    return np.stack(np.broadcast_arrays(x, y, z, np.empty(count))[:3], axis=1).astype(float)


def _bob(goes, size):
    return _of(len(goes), y=0.12 * size * np.sin(2.0 * np.pi * goes) * _within(goes, 4.0)), _of(len(goes))


def _hop(goes, size):
    share = np.where((goes > 0.0) & (goes < 2.0), goes % 1.0, 0.0)
    crouch, flight, landing = (np.clip((share - begin) / wide, 0.0, 1.0) for begin, wide in ((0.0, 0.35), (0.35, 0.4), (0.75, 0.25)))
    high = -0.07 * np.sin(np.pi * crouch) ** 2 + 0.3 * 4.0 * flight * (1.0 - flight) - 0.1 * np.sin(np.pi * landing) * (1.0 - landing)
    return _of(len(goes), y=size * high), _of(len(goes))


def _side_shake(goes, size):
    return _of(len(goes), x=0.14 * size * np.sin(4.0 * np.pi * goes) * _within(goes, 3.0)), _of(len(goes))


def _turn(goes, size):
    return _of(len(goes)), _of(len(goes), y=np.radians(70.0 * size) * _through(goes, (0.0, 0.5, 0.8, 1.6, 1.9, 2.4), (0, 1, 1, -1, -1, 0)))


def _tumble(goes, size):
    flight = np.clip(goes, 0.0, 1.0)
    return _of(len(goes), y=0.6 * size * 4.0 * flight * (1.0 - flight)), _of(len(goes), x=2.0 * np.pi * eased(goes))


def _stop_short(goes, size):
    start, s = 0.05, np.clip(goes, 0.0, 1.0)
    stop = np.clip(goes - 2.0, 0.0, start)
    way = s**4 * (2.5 - 3.0 * s + s * s) + np.clip(goes - 1.0, 0.0, 1.0) + stop - stop * stop / (2.0 * start)
    return _of(len(goes), z=1.2 * size * way), _of(len(goes))


def _wave(goes, often, begin):
    return np.sin(2.0 * np.pi * often * goes + begin)


def _deck(goes, size):
    shift = _of(len(goes), y=size * (0.05 * _wave(goes, 1.0, 0.0) + 0.02 * _wave(goes, 1.71, 1.0)))
    return shift, np.radians(size) * _of(len(goes), x=3.0 * _wave(goes, 1.0, 1.2), z=5.0 * _wave(goes, 0.83, 0.4))


def _cable_car(goes, size):
    shift = _of(len(goes), y=0.04 * size * _bump(goes / 3.0 + 0.5, 0.12))
    return shift, np.radians(size) * _of(len(goes), x=2.0 * _wave(goes, 0.61, 0.7), z=5.0 * _wave(goes, 1.0, 0.0))


def _cart(goes, size):
    rough = 0.012 * (_wave(goes, 1.0, 0.0) + 0.6 * _wave(goes, 1.37, 0.5) + 0.4 * _wave(goes, 2.6, 2.0))
    shift = _of(len(goes), y=size * (rough + 0.02 * _bump(goes / 4.0, 0.1)))
    return shift, np.radians(size) * _of(len(goes), x=1.5 * _wave(goes, 0.9, 0.3), z=_wave(goes, 0.47, 1.9))


TRY_OUTS = (
    Motion("bob", "Bob", "up and down, four times", 0.9, 4.0, 0.0, _bob),
    Motion("hop", "Hop and land", "two hops", 1.0, 2.0, 0.0, _hop),
    Motion("shake", "Side shake", "from side to side, six times", 0.9, 3.0, 0.0, _side_shake),
    Motion("turn", "Turn", "to one side, to the other, and back", 1.0, 2.4, 0.0, _turn),
    Motion("tumble", "Tumble", "head over heels in the air", 1.2, 1.0, 0.5, _tumble),
    Motion("stop", "Stop short", "runs forward and stops at once", 0.8, 2.05, 0.0, _stop_short),
)
CARRIERS = (
    Motion("deck", "A boat's deck", "heaves, rolls and pitches", 3.5, 0.0, 0.0, _deck),
    Motion("cable_car", "A cable car", "swings below its cable, and jolts over masts", 4.0, 0.0, 2.0, _cable_car),
    Motion("cart", "A cart on a track", "rattles, with a jolt at each joint of the track", 0.5, 0.0, 0.0, _cart),
)


@dataclass(frozen=True)
class Course:
    """A Motion of one character: its ``height`` [file units], its own ``size`` and ``tempo`` (1 as usual), and ``pivot`` (3,)."""

    motion: Motion
    height: float
    metres_per_unit: float
    size: float
    tempo: float
    pivot: tuple

    @property
    def go(self):
        """How long a go lasts [s]."""
        return self.motion.seconds * self._slower / self.tempo

    @property
    def _slower(self):
        return float(np.sqrt(max(self.height * self.metres_per_unit, LOWEST)))

    @property
    def seconds(self):
        """How long all goes last, and until all has died out."""
        return self.motion.goes * self.go + STILL * self._slower

    def placements(self, seconds):
        """Turns (T, 4) and shifts (T, 3) [file units] at times (T,): a place goes to the turned place and the shift."""
        seconds = np.asarray(seconds, float)
        shifts, turns = self.motion.moves(seconds / self.go, self.size)
        if not self.motion.goes:
            share = eased(1.0 + seconds / LEAD_IN)[:, None]
            shifts, turns = share * shifts, share * turns
        angles = np.linalg.norm(turns, axis=1)
        rotations = transforms.from_axis_angle(turns, angles)
        pivot = np.broadcast_to(np.asarray(self.pivot, float), shifts.shape)
        return rotations, self.height * shifts + pivot - transforms.rotate(rotations, pivot)

    def move(self, skeleton, pose, seconds):
        """Move the roots of a Pose (T, J) at times (T,), in place."""
        rotations, shifts = self.placements(seconds)
        for root in np.flatnonzero(skeleton.parents < 0):
            pose.translations[:, root] = transforms.rotate(rotations, pose.translations[:, root]) + shifts
            pose.rotations[:, root] = transforms.multiply(rotations, pose.rotations[:, root])


def course_of(motion, box, metres_per_unit, size, tempo):
    """The Course of a Motion for what is as large in the rest pose as ``box``, its lowest and highest corner (3,) each [file units]."""
    low, high = np.asarray(box, float)
    height, middle = max(float(high[1] - low[1]), 1e-9), 0.5 * (low + high)
    return Course(motion, height, metres_per_unit, size, tempo, (middle[0], low[1] + motion.pivot * height, middle[2]))
