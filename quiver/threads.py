"""Splitting one kernel call over threads. Kernels release the interpreter's lock, so Python's own threads do."""

import itertools
import os
from concurrent.futures import ThreadPoolExecutor

_pool = ThreadPoolExecutor(max_workers=os.cpu_count() or 1, thread_name_prefix="quiver")


def split(work, count, worth, threads=None):
    """Call ``work(first, end)`` for parts that cover 0..count-1, at once where each part has at least ``worth`` pieces.

    ``worth`` is how many pieces it takes before handing over to a thread saves more than it costs.
    """
    parts = min(threads or os.cpu_count() or 1, max(1, count // worth))
    if parts == 1:
        work(0, count)
        return
    own, *rest = itertools.pairwise(round(part * count / parts) for part in range(parts + 1))
    others = [_pool.submit(work, *part) for part in rest]
    # The calling thread works too: it already has a core, and only the others must be woken.
    work(*own)
    for other in others:
        other.result()
