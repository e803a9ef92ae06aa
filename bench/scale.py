"""Rows of takes on several workers."""

import time
from dataclasses import replace

from bench.characters import mudwick_as_shipped
from bench.rows import row
from quiver import batch, cluster
from quiver.run.spec import TakeSpec

TAKES, WORKERS, ROUNDS = 8, 2, 3


def rows():
    if not cluster.is_there():
        return
    character, setup = mudwick_as_shipped()
    light = replace(setup, layers=tuple(layer for layer in setup.layers if layer.kind in ("chain", "volume")))
    for name, own, clip, words in (
        ("cluster_efficiency", setup, "walk", "Mudwick's walk as shipped"),
        ("cluster_efficiency_light", light, "hop and land", "Mudwick's hop with chains and soft volumes alone"),
    ):
        alone, together = _took(character, own, clip)
        said = f"{TAKES} takes of {words} on {WORKERS} workers, {together:.2g} s; one after another on one, {alone:.2g} s; 1 is ideal"
        yield row(name, alone / (WORKERS * together), 1.0, "", said)


def _took(character, setup, clip):
    """Seconds for all takes on one worker and on WORKERS, warm, with nothing known from earlier ones; in turn: machines are not even."""
    with cluster.Cluster(1) as one, cluster.Cluster(WORKERS) as many:
        places, times = ((one, 1), (many, WORKERS)), {}
        for place, workers in places:
            place.client.wait_for_workers(workers)
            # Each has compiled what it needs, and knows the character.
            list(place.run(_orders(character, setup, clip, ROUNDS, 2 * workers)))
        for number in range(ROUNDS):
            for place, workers in places:
                orders = _orders(character, setup, clip, number, TAKES)
                began = time.perf_counter()
                found = list(place.run(orders))
                times.setdefault(workers, []).append(time.perf_counter() - began)
                if any(outcome.error for _, outcome in found):
                    raise RuntimeError(found)
    return [min(times[workers]) for _, workers in places]


def _orders(character, setup, clip, number, count):
    """Takes that share nothing: each begins a little earlier."""
    earlier = [setup.preroll_frames + 0.01 * (number * TAKES + each + 1) for each in range(count)]
    return [batch.Order(str(each), TakeSpec(character, replace(setup, preroll_frames=each), clip)) for each in earlier]
