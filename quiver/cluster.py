"""Takes on other machines: orders of batch.py on the workers of a Dask cluster, which need the core only, neither the app nor its database.

A take is a function of its Order alone and the same to the bit wherever it runs. So it goes by a name made of all that it depends on: what
is there already, or is under way, is not computed again; and what was on a worker that died is done again elsewhere. Frames come back as
they are made, by the cluster's events; those that come a second time are the same.
"""

import pickle
import queue
import time
import uuid
from collections import Counter
from dataclasses import replace

from quiver import batch
from quiver.digests import digest_of
from quiver.errors import BadInput, QuiverError
from quiver.run.plan import FORMAT

try:
    import distributed
except ImportError:
    distributed = None

ANSWERS_WITHIN = 20.0
"""So long a scheduler may take to answer at first [s]."""
WAIT, RETRIES = 0.2, 2
"""Between looks at whether it should stop [s]; and how often a take that failed as no take should is tried again."""


def is_there():
    """Whether the libraries that it takes are installed."""
    return distributed is not None


def name_of(order):
    """Stands for all that what comes of an Order depends on."""
    spec = order.spec
    motion = spec.setup.motion_on(spec.clip_name)
    return f"take-{digest_of(FORMAT, spec.character.digest, motion, spec.clip_name, spec.first_frame, spec.last_frame, order.is_loop)}"


class Cluster:
    """A cluster by the address of its scheduler, tcp://…, or by how many worker processes to start here. Raises BadInput.

    To be used as a context; what it started ends with it. What it was asked for is kept while it is there.
    """

    def __init__(self, address):
        if distributed is None:
            raise BadInput("expected Dask's distributed for a cluster, which is not installed: ./keen python -m pip install distributed")
        self.address, self.topic = address, f"quiver-{uuid.uuid4().hex}"
        self._kept, self._stopped, self._characters, self._local = {}, Counter(), {}, None

    def __enter__(self):
        if str(self.address).isdigit():
            options = {"threads_per_worker": 1, "processes": True, "dashboard_address": None, "host": "127.0.0.1"}
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

    def run(self, orders, keep_going=lambda: True, told=batch.nothing, frames=batch.nothing):
        """Yield (number of the order, Outcome) as they are done, whichever first; else as `batch.run`. These Outcomes have no plan."""
        numbers, heard, seen = {}, queue.SimpleQueue(), set()
        self.client.subscribe_topic(self.topic, lambda event: heard.put(event[1]))
        for number, order in enumerate(orders):
            numbers.setdefault(name_of(order), []).append(number)
        # All frames of all workers come through one scheduler: only who looks at them gets them.
        are_wanted = frames is not batch.nothing
        waiting = {name: self._submitted(orders[own[0]], name, are_wanted) for name, own in numbers.items()}
        for name, future in waiting.items():
            future.add_done_callback(lambda _, name=name: heard.put(name))
        try:
            while waiting:
                if not keep_going():
                    self._stop(waiting)
                    return
                try:
                    message = heard.get(timeout=WAIT)
                except queue.Empty:
                    continue
                if isinstance(message, dict):
                    self._take_in(message, numbers, seen, told, frames)
                elif message in waiting:
                    outcome = _outcome(waiting.pop(message))
                    for number in numbers[message]:
                        yield number, replace(outcome, name=orders[number].name)
        finally:
            self.client.unsubscribe_topic(self.topic)

    def _take_in(self, message, numbers, seen, told, frames):
        """Hand on what a worker told; what it told before it died and another tells again is told once."""
        name, first = message["name"], message["first"]
        if (name, first) in seen:
            return
        seen.add((name, first))
        for number in numbers.get(name, ()):
            if "chunk" in message:
                frames(number, pickle.loads(message["chunk"]))
            told(number, first + message["count"], message["total"])

    def _submitted(self, order, name, are_wanted):
        """The future of an order; one that is kept from before."""
        known = self._kept.get(name)
        if known is None or known.status in ("error", "cancelled", "lost"):
            character = order.spec.character
            if character.digest not in self._characters:
                # Sent once, however many takes there are of it.
                self._characters[character.digest] = self.client.scatter([character], hash=False, broadcast=True)[0]
            bare = replace(order, spec=replace(order.spec, character=None))
            # One that was stopped may still be on its way to its end: asked for again, it is another.
            key = f"{name}-{self._stopped[name]}" if self._stopped[name] else name
            arguments = bare, self._characters[character.digest], name, self.topic, f"stop-{key}", are_wanted
            known = self._kept[name] = self.client.submit(_on_worker, *arguments, key=key, retries=RETRIES)
        return known

    def _stop(self, waiting):
        for name, future in waiting.items():
            distributed.Event(f"stop-{future.key}", client=self.client).set()
            future.cancel()
            self._stopped[name] += 1
            self._kept.pop(name, None)


def _outcome(future):
    if future.status == "finished":
        return future.result()
    error = future.exception() if future.status == "error" else "it was stopped"
    return batch.Outcome("", error=str(error))


def _on_worker(order, character, name, topic, stop_name, are_wanted):
    """One take, on a worker: its Outcome. Who listens to the topic hears how far it is, and gets each TakeChunk where they are wanted."""
    order = replace(order, spec=replace(order.spec, character=character))
    worker, stop = distributed.get_worker(), distributed.Event(stop_name, client=distributed.get_client())
    total = order.spec.last_frame - order.spec.first_frame + 1 if order.spec.last_frame is not None else 0
    asked = []

    def frames(chunk):
        message = {"name": name, "first": chunk.first_frame, "count": len(chunk.rotations), "total": total}
        worker.log_event(topic, message | ({"chunk": pickle.dumps(chunk)} if are_wanted else {}))
        asked[:] = [stop.is_set()]

    began = time.perf_counter()
    try:
        outcome = batch.taken(order, None, 1, lambda: not any(asked), frames=frames)
    except QuiverError as error:
        outcome = batch.Outcome(order.name, error=str(error))
    return replace(outcome, plan=None, seconds=time.perf_counter() - began)
