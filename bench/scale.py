"""Rows of takes on several workers."""

import time

from bench.characters import mudwick_as_shipped
from bench.rows import row
from quiver import batch, cluster

TAKES, WORKERS = 8, 2


def rows():
    if not cluster.is_there():
        return
    character, setup = mudwick_as_shipped()
    layers = tuple(layer for layer in setup.layers if layer.kind in ("chain", "volume"))
    setup = type(setup)(layers=layers, regions=setup.regions, colliders=setup.colliders)
    both = [_took(count, character, setup) for count in (1, WORKERS)]
    alone, together = both
    yield row(
        "cluster_efficiency",
        alone / (WORKERS * together),
        1.0,
        "",
        f"{TAKES} takes of Mudwick's hop on {WORKERS} workers, {together:.2g} s; one after another on one, {alone:.2g} s; 1 is ideal",
    )


def _took(workers, character, setup):
    """Seconds for all takes on so many workers, warm."""
    with cluster.Cluster(workers) as many:
        many.client.wait_for_workers(workers)
        # Each has compiled what it needs, and knows the character.
        list(many.run(_orders(character, setup, 1.6, 1.9, 2 * workers)))
        times = []
        for low in (2.0, 2.5, 3.0):
            orders = _orders(character, setup, low, low + 0.4, TAKES)
            began = time.perf_counter()
            found = list(many.run(orders))
            times.append(time.perf_counter() - began)
            if any(outcome.error for _, outcome in found):
                raise RuntimeError(found)
    return min(times)


def _orders(character, setup, low, high, count):
    return batch.orders_of_sweep(character, setup, "hop and land", [("tail", "wobble_rate", batch.spread(low, high, count))])
