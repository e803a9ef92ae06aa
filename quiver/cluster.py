"""Takes on other machines: orders of batch.py on the workers of a Dask cluster, which need the core only, neither the app nor its database.

A take is a function of its Order alone and the same to the bit wherever it runs. So it goes by a name made of all that it depends on: what
is there already, or is under way, is not computed again; and what was on a worker that died is done again elsewhere. Frames come back as
they are made, by the cluster's events; those that come a second time are the same.
"""

import contextlib
import functools
import itertools
import logging
import os
import pickle
import queue
import threading
import time
import uuid
from collections import Counter
from dataclasses import replace

from cachetools import LRUCache

from quiver import batch
from quiver.digests import digest_of
from quiver.errors import BadInput, QuiverError
from quiver.run.plan import FORMAT
from quiver.run.results import Results

try:
    import distributed
except ImportError:
    distributed = None

# What it has to say of connections that come and go is for nobody here.
logging.getLogger("distributed").setLevel(logging.ERROR)
ANSWERS_WITHIN = 10.0
"""So long a scheduler may take to answer at first [s]."""
WAIT, RETRIES = 0.2, 2
"""Between looks at whether it should stop [s]; and how often a take that failed as no take should is tried again."""
AHEAD = 1
"""So many takes are handed out besides those that are being made."""
KEPT_TAKES, KEPT_CHARACTERS = 256, 8
"""So many stay on the workers, to be had again."""
RESULTS_BYTES = int(os.environ.get("KEEN_RESULTS_MB", "1024")) * 2**20
"""What a machine's workers, one a core, keep of the parts of their takes, to use it again."""


def is_there():
    """Whether the libraries that it takes are installed."""
    return distributed is not None


def name_of(order):
    """Stands for all that what comes of an Order depends on."""
    spec, motion = order.spec, order.spec.setup.motion_on(order.spec.clip_name)
    inputs = spec.character.digest, motion, spec.clip_name, spec.first_frame, spec.last_frame, order.is_loop, order.goals
    return f"take-{digest_of(FORMAT, *inputs)}"


class Cluster:
    """A cluster by the address of its scheduler, tcp://…, or by how many worker processes to start here. Raises BadInput.

    To be used as a context; what it started ends with it. What it was asked for is kept while it is there.
    """

    def __init__(self, address):
        if distributed is None:
            raise BadInput("expected Dask's distributed for a cluster, which is not installed: ./keen python -m pip install distributed")
        self.address, self._local, self._lock = address, None, threading.RLock()
        self._kept, self._characters = LRUCache(KEPT_TAKES), LRUCache(KEPT_CHARACTERS)
        # How often a take was stopped, and how many wait for it now.
        self._stopped, self._awaited = Counter(), Counter()

    def __enter__(self):
        if str(self.address).isdigit():
            options = {
                "threads_per_worker": 1,
                "processes": True,
                "dashboard_address": "127.0.0.1:0",
                "host": "127.0.0.1",
                "silence_logs": logging.ERROR,
            }
            self._local = distributed.LocalCluster(n_workers=int(self.address), **options)
        try:
            self.client = distributed.Client(self._local or self.address, set_as_default=False, timeout=ANSWERS_WITHIN)
        except (OSError, ValueError) as error:
            raise BadInput(f"expected a cluster at {self.address}, nothing answers there: {error}") from error
        return self

    def __exit__(self, *what):
        self._kept.clear()
        self._characters.clear()
        self.client.close()
        if self._local:
            self._local.close()

    @property
    def workers(self):
        """How many workers there are."""
        return len(self.client.scheduler_info(n_workers=-1)["workers"])

    @property
    def answers(self):
        """Whether the scheduler still does."""
        return self.client.status == "running"

    def run(self, orders, keep_going=lambda: True, told=batch.nothing):
        """Yield (number of the order, Outcome) as they are done, whichever first; else as `batch.run`. These Outcomes have no plan, and of
        orders with goals no arrays.
        """
        numbers = {}
        for number, order in enumerate(orders):
            numbers.setdefault(name_of(order), []).append(number)
        with self._hearing() as (topic, heard):
            left, waiting = iter(numbers), {}

            def hand_out():
                """As many as can be at work, and few more: whoever is done first gets the next."""
                for name in itertools.islice(left, max(0, self.workers + AHEAD - len(waiting))):
                    waiting[name] = self._submitted(orders[numbers[name][0]], name, topic)
                    waiting[name].add_done_callback(lambda _, name=name: heard.put(name))

            try:
                hand_out()
                while waiting and keep_going():
                    try:
                        message = heard.get(timeout=WAIT)
                    except queue.Empty:
                        continue
                    if isinstance(message, dict):
                        for number in numbers.get(message["name"], ()):
                            told(number, message["done"], message["total"])
                    elif message in waiting:
                        done = self._let_go(message, waiting.pop(message))
                        hand_out()
                        outcome = _outcome(done)
                        for number in numbers[message]:
                            yield number, replace(outcome, name=orders[number].name)
            finally:
                for name, future in waiting.items():
                    self._let_go(name, future, is_stopped=True)

    def in_turn(self, orders, keep_going=lambda: True):
        """The same, as `batch.run` has them: the Outcomes in the order of the orders, as far as they were made."""
        found = dict(self.run(orders, keep_going))
        for number in range(len(orders)):
            if number not in found:
                return
            yield found[number]

    def made(self, order, keep_going=lambda: True, told=batch.nothing):
        """Yield what `batch.made` yields, as a worker makes it, without the plan. Raises QuiverError."""
        key = f"frames-{uuid.uuid4().hex}"
        with self._hearing() as (topic, heard):
            future = self._submit(_items_on_worker, order, key, topic)
            future.add_done_callback(lambda _: heard.put(None))
            items, at, count, error = {}, 0, None, ""
            try:
                while (count is None or at < count) and keep_going():
                    try:
                        message = heard.get(timeout=WAIT)
                    except queue.Empty:
                        continue
                    if message is None:
                        # Whatever of it is still on its way came this way too.
                        made, error = _result(future)
                        items.update({number: item for number, item in enumerate(made) if number >= at})
                        count = len(made)
                    elif "item" in message:
                        # One that is told again, by a worker that took over from another, is the same.
                        items.setdefault(message["number"], message["item"])
                    else:
                        told(message["done"], message["total"])
                    while at in items:
                        yield pickle.loads(items.pop(at))
                        at += 1
            finally:
                if not future.done():
                    self._cancel(future)
            if error:
                raise QuiverError(error)

    @contextlib.contextmanager
    def _hearing(self):
        """(topic, queue of what workers say of it)."""
        topic, heard = f"quiver-{uuid.uuid4().hex}", queue.SimpleQueue()
        self.client.subscribe_topic(topic, lambda event: heard.put(event[1]))
        try:
            yield topic, heard
        finally:
            self.client.unsubscribe_topic(topic)

    def _submitted(self, order, name, topic):
        """The future of an order; one that is kept from before."""
        with self._lock:
            known = self._kept.get(name)
            if known is None or known.status in ("error", "cancelled", "lost"):
                # One that was stopped may still be on its way to its end: asked for again, it is another.
                key = f"{name}-{self._stopped[name]}" if self._stopped[name] else name
                known = self._kept[name] = self._submit(_on_worker, order, key, topic, name)
            self._awaited[name] += 1
            return known

    def _let_go(self, name, future, is_stopped=False):
        """Wait for a take no more, and stop it where nobody else waits for it. Returns its future."""
        with self._lock:
            self._awaited[name] -= 1
            if self._awaited[name] > 0:
                return future
            del self._awaited[name]
            if is_stopped and not future.done():
                self._cancel(future)
                self._stopped[name] += 1
                self._kept.pop(name, None)
        return future

    def _cancel(self, future):
        distributed.Event(f"stop-{future.key}", client=self.client).set()
        future.cancel()

    def _submit(self, work, order, key, topic, *more):
        """The future of work on an order without its character, which is sent once, however many takes there are of it."""
        digest = order.spec.character.digest
        with self._lock:
            known = self._characters.get(digest)
            if known is None or known.status in ("error", "cancelled", "lost"):
                # The scheduler keeps what it is made of, so that it is there again where all workers that had it are gone.
                known = self.client.submit(_as_it_is, order.spec.character, key=f"character-{uuid.uuid4().hex}", pure=False)
                self._characters[digest] = known
            bare = replace(order, spec=replace(order.spec, character=None))
            arguments = bare, known, topic, f"stop-{key}", *more
            return self.client.submit(work, *arguments, key=key, retries=RETRIES)


def _result(future):
    """What a future gave. Raises QuiverError where no worker could, such as one that the take was too large for."""
    if future.status == "finished":
        return future.result()
    raise QuiverError(f"the cluster could not make it: {future.exception() if future.status == 'error' else 'the scheduler is gone'}")


def _outcome(future):
    try:
        return _result(future)
    except QuiverError as error:
        return batch.Outcome("", error=str(error))


# On a worker.


@functools.cache
def _results():
    """What parts of earlier takes yielded, in this process."""
    return Results(RESULTS_BYTES // max(1, len(os.sched_getaffinity(0))))


class _Ear:
    """Whether to go on, asked of the scheduler no more than a few times a second."""

    def __init__(self, stop_name):
        self._stop, self._asked, self._is_over = distributed.Event(stop_name, client=distributed.get_client()), time.monotonic(), False

    def keep_going(self):
        now = time.monotonic()
        if now - self._asked > WAIT:
            self._asked, self._is_over = now, self._stop.is_set()
        return not self._is_over


def _as_it_is(character):
    return character


_characters = LRUCache(KEPT_CHARACTERS)


def _whole(order, character):
    """The Order with its character: of equal ones always the same, as what is built for one is found again by what it is made of."""
    character = _characters.setdefault(character.digest, character)
    return replace(order, spec=replace(order.spec, character=character))


def _on_worker(order, character, topic, stop_name, name):
    """The Outcome of one take. Who listens to the topic hears how far it is."""
    worker, said = distributed.get_worker(), [float("-inf")]

    def told(done, total):
        # What is quick need not say how far it is.
        if time.monotonic() - said[-1] > WAIT:
            said.append(time.monotonic())
            worker.log_event(topic, {"name": name, "done": done, "total": total})

    ear, whole = _Ear(stop_name), _whole(order, character)
    (outcome,) = batch.run([whole], _results(), 1, ear.keep_going, lambda _, *far: told(*far))
    return replace(outcome, plan=None, arrays=() if order.goals else outcome.arrays)


def _items_on_worker(order, character, topic, stop_name):
    """What a take yields, pickled one by one, and why it failed, "" where it did not. Who listens to the topic gets each at once."""
    worker, sent = distributed.get_worker(), []

    def told(done, total):
        worker.log_event(topic, {"done": done, "total": total})

    try:
        for item in batch.made(_whole(order, character), _results(), 1, _Ear(stop_name).keep_going, told):
            sent.append(pickle.dumps(replace(item, plan=None) if isinstance(item, batch.Begun) else item))
            worker.log_event(topic, {"number": len(sent) - 1, "item": sent[-1]})
    except QuiverError as error:
        return sent, str(error)
    return sent, ""
