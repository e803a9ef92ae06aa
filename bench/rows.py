"""What a benchmark row is, and how two things are timed against each other."""

import statistics
import time
from dataclasses import asdict, dataclass

import numpy as np


@dataclass(frozen=True)
class Row:
    """One line of the report. ``ratio`` is baseline over ours: above one, ours is faster."""

    name: str
    ours: float
    baseline: float
    unit: str
    ratio: float
    note: str

    def as_dict(self):
        return asdict(self)


def row(name, ours, baseline, unit, note):
    """A row with its ratio, figures rounded to four digits."""
    return Row(name, _short(ours), _short(baseline), unit, _short(baseline / ours), note)


def _short(value):
    return float(f"{value:.4g}")


def against(ours, baseline, rounds=9, ours_per_round=3):
    """(median seconds of ours, of baseline): in each round ours a few times, then the baseline once. Both are called once before."""
    ours()
    baseline()
    mine, other = [], []
    for _ in range(rounds):
        mine += [seconds(ours) for _ in range(ours_per_round)]
        other.append(seconds(baseline))
    return statistics.median(mine), statistics.median(other)


def seconds(call):
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def colours_of(items, count):
    """Groups of items (T, k) in which no particle is named twice, as indices: each takes the first group that has none of its own."""
    taken, colour_of = np.zeros(count, np.int64), np.empty(len(items), int)
    for index, own in enumerate(items):
        used = int(np.bitwise_or.reduce(taken[own]))
        colour = (~used & (used + 1)).bit_length() - 1
        colour_of[index] = colour
        taken[own] |= 1 << colour
    return [np.flatnonzero(colour_of == colour) for colour in range(colour_of.max() + 1)]
