"""The frame rate that a clip was keyed at, found from the times of its keys."""

import numpy as np

LIKELY = (24.0, 25.0, 30.0, 60.0, 24000 / 1001, 30000 / 1001, 60000 / 1001, 50.0, 48.0, 12.0, 15.0, 120.0)
"""Rates that are tried first, in this order [1/s]; then whole numbers, from low to high."""
SLOWEST, FASTEST = 10, 240
"""Keys that all lie farther apart than those of the slowest rate say nothing of the rate of the clip."""
SLACK, ROUNDING = 2e-3, 3e-7
"""So far off a frame a key may lie [frames]; times are float32, whose rounding grows with them (share of the time)."""


def keyed_rate(clip):
    """The rate [1/s] on whose frames all keys of a Clip lie, counted from its first key; None where there is none, or nothing to tell by.

    Keys that follow each other evenly are those of every frame; of others the likeliest rate that fits is taken.
    """
    times = np.unique(np.concatenate([channel.times for channel in clip.channels])) if clip.channels else np.zeros(0)
    times = times[np.append(True, np.diff(times) > 1e-5)] - times[0] if len(times) else times
    if len(times) < 2:
        return None
    steps = np.diff(times)
    if len(times) > 3 and np.ptp(steps) < 1e-4:
        own = [rate for rate in _candidates() if _fits(times, rate) and abs(steps.mean() * rate - 1.0) < 1e-3]
        if own:
            return min(own, key=lambda rate: abs((len(times) - 1) / times[-1] - rate))
    return next((rate for rate in _candidates() if _fits(times, rate)), None)


def _candidates():
    return [*LIKELY, *(float(rate) for rate in range(SLOWEST, FASTEST + 1))]


def _fits(times, rate):
    frames = times * rate
    return bool((np.abs(frames - np.round(frames)) < SLACK + ROUNDING * np.abs(frames)).all())
