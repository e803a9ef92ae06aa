"""Many takes in one go: of several clips, or of a dial over a range. Each is a take like any other, and one that fails stops no other."""

import itertools
import time
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from quiver.bake import joints
from quiver.errors import BadInput, QuiverError
from quiver.run.execute import execute
from quiver.run.loops import MOST_CYCLES, Loop, LoopReport
from quiver.run.measures.farthest import far_notes
from quiver.run.plan import LARGEST_BLOCK, compile_plan
from quiver.run.spec import TakeChunk, TakeSpec
from quiver.setup import edits
from quiver.wanted import CLIPS, measured

MOST_STEPS = 64
"""Values of a dial in a sweep, at the most."""


@dataclass(frozen=True)
class Order:
    """One take of many: what it is called, its TakeSpec, whether its clip is run around, and the Goals that it is to be measured by; where
    there are any, its frames show no more than these need.
    """

    name: str
    spec: TakeSpec
    is_loop: bool = False
    goals: tuple = ()


@dataclass(frozen=True)
class Begun:
    """What is known of a take before its frames: its ``plan``, None where that stays elsewhere, and how many frames a second it has,
    ``rate``; the rest is as the plan has it.
    """

    plan: object
    rate: float
    substeps: int
    layer_ids: tuple
    notes: tuple
    rotated: np.ndarray
    translated: np.ndarray
    moved: dict

    @classmethod
    def of(cls, plan, rate):
        names = ("substeps", "layer_ids", "notes", "rotated", "translated")
        return cls(plan, rate, *(getattr(plan, name) for name in names), dict(plan.moved))


@dataclass(frozen=True)
class Ended:
    """That a take was made to its end, and what is to be said of it, texts."""

    notes: tuple


@dataclass
class Outcome:
    """What became of an Order: ``error`` says why it failed, else all else is known.

    worst  {"clip" [mm], "turn" [degrees], "stretch" [%], "volume" [%]: the most of any layer in any frame}; moved_mm what any layer added
    gap    {layer id: (mm, degrees)} of a loop, before it was closed; cycles how often it went around
    arrays rotations (F, K, 4), translations (F, M, 3), offsets (F, R, 3) of the plan's nodes and vertices: rotated (K,), translated (M,)
           and moved {mesh index: vertices}; rate frames a second
    found  what the Order's goals ask for, in their units
    """

    name: str
    error: str = ""
    frames: int = 0
    seconds: float = 0.0
    cost_ms: float = 0.0
    moved_mm: float = 0.0
    worst: dict = field(default_factory=dict)
    gap: dict = field(default_factory=dict)
    cycles: int = 0
    notes: tuple = ()
    plan: object = None
    rotated: np.ndarray | None = None
    translated: np.ndarray | None = None
    moved: dict = field(default_factory=dict)
    rate: float = 0.0
    arrays: tuple = ()
    found: tuple = ()

    def as_dict(self):
        """As plain values, without the frames."""
        names = ("name", "error", "frames", "seconds", "cost_ms", "moved_mm", "worst", "gap", "cycles")
        return {name: getattr(self, name) for name in names} | {"notes": list(self.notes)}


def orders_of_clips(character, setup, names):
    """An Order for each of some clips, or try-out motions, of a character; that there is none is told when it is run."""
    return [Order(name, TakeSpec(character, setup, name), name in setup.cycles) for name in names]


def orders_of_sweep(character, setup, clip_name, ranges):
    """An Order for each value of one dial, or each pair of values of two: ranges are (layer id, dial, values) of each. Raises BadInput."""
    if not 1 <= len(ranges) <= 2 or any(not 1 <= len(values) <= MOST_STEPS for _, _, values in ranges):
        raise BadInput(f"expected one or two dials with 1 to {MOST_STEPS} values each, got {[len(values) for _, _, values in ranges]}")
    orders = []
    for values in itertools.product(*(values for _, _, values in ranges)):
        changed, words = setup, []
        for (layer, dial, _), value in zip(ranges, values, strict=True):
            changed = edits.set_dial_on(changed, clip_name, [layer], dial, value)
            words.append(f"{setup.layer(layer).name} {dial} {value:g}")
        orders.append(Order(", ".join(words), TakeSpec(character, changed, clip_name), clip_name in setup.cycles))
    return orders


def is_wide(low, high):
    """Whether values from low to high are even by their ratio: where one is many times the other."""
    return low > 0.0 and high > 4.0 * low


def between(low, high, share):
    """The value at a share 0..1 of the way from low to high, even as `is_wide` says."""
    return float(low * (high / low) ** share if is_wide(low, high) else low + share * (high - low))


def spread(low, high, count):
    """So many values from low to high, as `between` has them. Raises BadInput."""
    if not 1 <= count <= MOST_STEPS:
        raise BadInput(f"expected 1 to {MOST_STEPS} values, got {count}")
    return [between(low, high, number / max(count - 1, 1)) for number in range(count)]


def nothing(*heard):
    """For who need not be told."""


def run(orders, results=None, threads=None, keep_going=lambda: True, told=nothing):
    """Yield the Outcome of each Order in turn; ``told`` hears the number of the order, and how many of how many frames are done."""
    for number, order in enumerate(orders):
        if not keep_going():
            return
        began = time.perf_counter()
        try:
            outcome = taken(order, results, threads, keep_going, partial(told, number))
        except QuiverError as error:
            outcome = Outcome(order.name, error=str(error))
        yield replace(outcome, seconds=time.perf_counter() - began)


def made(order, results=None, threads=None, keep_going=lambda: True, told=nothing):
    """Yield what comes of an Order as it is made: what is known when it is Begun; of a cycle that was run around its LoopReport; its
    TakeChunks; and that it has Ended, unless ``keep_going()`` became false. ``told`` hears how many of how many frames are done.

    Raises BadInput, Unstable.
    """
    loop = Loop(order.spec) if order.is_loop else None
    plan = loop.plan if loop else compile_plan(order.spec)
    if order.goals and not loop and all(goal.what != CLIPS for goal in order.goals):
        # Nobody looks at the rest.
        plan = plan.as_far_as({goal.layer for goal in order.goals})
    yield Begun.of(plan, loop.rate if loop else order.spec.setup.frame_rate)
    if loop:
        found = loop.run(results, threads, keep_going, lambda cycles: told(cycles * loop.frames, MOST_CYCLES * loop.frames))
        if found is None:
            return
        whole, report = found
        yield report
        last = order.spec.last_frame
        first, end = order.spec.first_frame, len(whole.rotations) if last is None else min(last + 1, len(whole.rotations))
        chunks = (whole.part(at, min(at + LARGEST_BLOCK, end)) for at in range(first, end, LARGEST_BLOCK))
    else:
        chunks = execute(plan, results, threads, keep_going)
        first, end = order.spec.first_frame, plan.last_frame + 1
    farthest = np.zeros(len(plan.layer_ids))
    for chunk in chunks:
        farthest = np.maximum(farthest, chunk.added.max(0))
        yield chunk
        told(chunk.first_frame + len(chunk.rotations) - first, end - first)
    if keep_going():
        yield Ended(tuple(far_notes(plan, farthest)))


def taken(order, results=None, threads=None, keep_going=lambda: True, told=nothing):
    """The Outcome of one Order. Raises BadInput, Unstable."""
    items = list(made(order, results, threads, keep_going, told))
    if not isinstance(items[-1], Ended):
        raise BadInput("it was stopped")
    begun, chunks = items[0], [item for item in items if isinstance(item, TakeChunk)]
    report = next((item for item in items if isinstance(item, LoopReport)), None)
    *arrays, added = joints.gather(chunks)
    outcome = Outcome(order.name, frames=len(added), rate=begun.rate, plan=begun.plan, notes=(*begun.notes, *items[-1].notes))
    outcome.arrays, outcome.rotated, outcome.translated, outcome.moved = tuple(arrays), begun.rotated, begun.translated, begun.moved
    outcome.cost_ms = float(np.average([chunk.cost_ms for chunk in chunks], weights=[len(chunk.rotations) for chunk in chunks]))
    outcome.moved_mm = 1000.0 * float(added.max(initial=0.0))
    outcome.worst = worst_of(chunks)
    outcome.found = tuple(measured(begun.plan, chunks, goal) for goal in order.goals)
    if report:
        outcome.gap, outcome.cycles = report.gap, report.cycles
    return outcome


def worst_of(chunks):
    """The most of what was measured in any frame of any layer: "clip" [mm], "turn" [degrees], "stretch" and "volume" [%]."""
    worst = {}
    for chunk in chunks:
        for found in chunk.measures.values():
            for name, scale in (("clip", 1000.0), ("turn", 1.0), ("stretch", 1.0), ("volume", 1.0)):
                if name in found:
                    most = scale * float(np.abs(np.asarray(found[name], float)).max(initial=0.0))
                    worst[name] = max(worst.get(name, 0.0), most)
    return worst
