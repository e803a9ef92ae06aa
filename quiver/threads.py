"""Splitting one kernel call over threads. Kernels release the interpreter's lock, so Python's own threads do."""

import itertools
import os
import threading
from collections import deque
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import contextmanager

CORES = os.cpu_count() or 1
_inside = threading.local()


def _enter():
    _inside.is_worker = True


_pool = ThreadPoolExecutor(CORES, "quiver", _enter)


def thread_count_for(parts, threads=None):
    """How many threads may work at once on so many parts; one for a thread of the pool, which must never wait for its fellows."""
    if getattr(_inside, "is_worker", False):
        return 1
    return max(1, min(threads or CORES, parts))


def together(work, thread_count):
    """Call ``work(0)`` to ``work(thread_count - 1)`` at the same time; they may wait for each other."""
    others = [_pool.submit(work, part) for part in range(1, thread_count)]
    # The calling thread works too: it already has a core, and only the others must be woken.
    work(0)
    for other in others:
        other.result()


def at_once(calls, threads=None):
    """What some calls return, made at the same time where there are threads for them, the first ones first; this thread works too.

    Inside each, nothing is split any further.
    """
    if thread_count_for(len(calls), threads) == 1:
        return [call() for call in calls]
    results, errors, left = [None] * len(calls), {}, deque(enumerate(calls))

    def work():
        while left:
            try:
                number, call = left.popleft()
            except IndexError:
                return
            try:
                results[number] = call()
            except BaseException as error:
                # Whatever went wrong, nothing more is begun.
                errors[number] = error
                left.clear()

    others = [_pool.submit(work) for _ in range(thread_count_for(len(calls), threads) - 1)]
    _inside.is_worker = True
    try:
        work()
    finally:
        _inside.is_worker = False
        wait(others)
    if errors:
        raise errors[min(errors)]
    return results


@contextmanager
def alongside(threads=None):
    """A function that has calls made one after another on a thread of their own, and returns their futures; on this one, where ``threads``
    is 1. Whatever goes wrong, nothing is left running."""
    if thread_count_for(2, threads) == 1:
        yield _Done
        return
    with ThreadPoolExecutor(1, "quiver-alongside", _enter) as own:
        try:
            yield own.submit
        except BaseException:
            own.shutdown(cancel_futures=True)
            raise


class _Done:
    """A future of a call that was made at once."""

    def __init__(self, call, *args):
        self._result = call(*args)

    def done(self):
        return True

    def result(self):
        return self._result


def split(work, count, worth, threads=None):
    """Call ``work(first, end)`` for parts that cover 0..count-1, at once where each part has at least ``worth`` pieces.

    ``worth`` is how many pieces it takes before handing over to a thread saves more than it costs.
    """
    parts = thread_count_for(max(1, count // worth), threads)
    bounds = list(itertools.pairwise(round(part * count / parts) for part in range(parts + 1)))
    together(lambda part: work(*bounds[part]), parts)
