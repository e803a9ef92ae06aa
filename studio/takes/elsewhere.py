"""Where takes are made: in this process, or on the cluster that the settings name."""

import contextlib
import threading

from django.conf import settings

from quiver import batch
from quiver.cluster import Cluster
from quiver.run.results import Results

results = Results(settings.RESULTS_BYTES)
"""What parts of earlier runs yielded, in this process."""
KEPT = "kept_parts"
"""The file that says how many bytes of them there are."""
MOST_AT_ONCE = 32
"""So many jobs run beside each other at the most, whatever the cluster has."""
_lock = threading.Lock()
_connected = []


def kept_bytes():
    """How much memory the worker's results take, as it said last."""
    try:
        return int((settings.DATA_DIR / KEPT).read_text())
    except (OSError, ValueError):
        return 0


def tell_kept():
    """In the worker: say how much is kept, for the pages that the server makes."""
    with contextlib.suppress(OSError):
        (settings.DATA_DIR / KEPT).write_text(str(results.bytes))


def forget_parts():
    """Keep nothing of what earlier runs yielded."""
    results.clear()
    tell_kept()


def cluster():
    """The Cluster, connected when it is first needed and again when it was gone; None where takes are made here. Raises BadInput."""
    if not settings.CLUSTER:
        return None
    with _lock:
        if _connected and not _connected[0].answers:
            _connected.pop().__exit__()
        if not _connected:
            _connected.append(Cluster(settings.CLUSTER).__enter__())
        return _connected[0]


def places():
    """How many jobs may run beside each other: one more than there are workers, so that none of them waits; 0 where all run here."""
    if not settings.CLUSTER:
        return 0
    there = 0
    with _lock, contextlib.suppress(OSError):
        # A scheduler that is gone is looked for again by the next job.
        there = _connected[0].workers if _connected and _connected[0].answers else 0
    return min(there + 1, MOST_AT_ONCE)


def end():
    """Let go of the cluster; what was started for it ends."""
    with _lock:
        while _connected:
            _connected.pop().__exit__()


def made(order, keep_going, told):
    """What a take yields as it is made (`batch.made`). Raises QuiverError."""
    many = cluster()
    return many.made(order, keep_going, told) if many else batch.made(order, results, None, keep_going, told)


def taken(orders, keep_going):
    """The Outcomes of orders in turn (`batch.run`), without their plans. Raises QuiverError."""
    many = cluster()
    return many.in_turn(orders, keep_going) if many else batch.run(orders, results, None, keep_going)
