"""Bounds that no sane motion comes near: what passes them is a fault, not a feeling."""

RUNAWAY = 2000.0
"""[m/s]: nothing that hangs on a character moves at six times the speed of sound."""
MOST_PER_STEP = 0.25
"""The part of its whole length that a chain's particle may move against its keyed motion in one substep."""
