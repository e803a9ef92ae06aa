"""Benchmarks: each row compares ours with a baseline in one run, turn by turn, so that a busy machine slows both."""
