"""The job that makes a take, here or elsewhere, and keeps its frames as they come."""

import numpy as np
from django.db import IntegrityError, transaction

from quiver import batch
from quiver.formats import frames
from quiver.run.loops import LoopReport
from quiver.run.spec import TakeChunk as Chunk
from quiver.run.spec import TakeSpec
from studio.characters.services import loaded
from studio.events import hub
from studio.takes import elsewhere, sweeps
from studio.takes.models import Take, TakeChunk
from studio.takes.services import WAITED_FOR, forget_passing, pack, pack_offsets


def simulate(job_id, context):
    """The job: run a take and keep its chunks as they come. A take that is removed meanwhile ends it quietly."""
    take = Take.objects.select_related("version", "character", "job").filter(job_id=job_id).first()
    if take is None:
        return
    context.character = take.character_id
    try:
        _simulate(take, context)
    except (IntegrityError, Take.DoesNotExist):
        if Take.objects.filter(pk=take.pk).exists():
            raise
        context.was_stopped = True


def _simulate(take, context):
    context.gives_way = take.job.priority < WAITED_FOR
    TakeChunk.objects.filter(take=take).delete()
    character, _ = loaded(take.character_id)
    setup = take.version.setup
    spec = TakeSpec(character, setup, take.clip_name, take.first_frame, take.last_frame)
    order = batch.Order("", spec, take.clip_name in setup.cycles)
    keeper = _Keeper(take, context, frames.OFFSET_STEP / setup.metres_per_unit)
    # Of other takes the chunks say how far they are.
    told = context.progress if order.is_loop else batch.nothing
    for item in elsewhere.made(order, context.keep_going, told):
        keeper.keep(item)
    elsewhere.tell_kept()
    if take.sweep_id and context.keep_going():
        sweeps.draw(take)
    forget_passing(take)


class _Keeper:
    """Writes what comes of a take into its rows; offsets in steps of so many file units, or more where they are large."""

    def __init__(self, take, context, step):
        self.take, self.context, self.step = take, context, step
        self.done, self.spent = 0, 0.0

    def keep(self, item):
        """Write one of the things that `batch.made` yields."""
        if isinstance(item, Chunk):
            self._chunk(item)
        elif isinstance(item, batch.Begun):
            moved = {str(mesh): vertices.tolist() for mesh, vertices in item.moved.items()}
            facts = {"substeps": item.substeps, "layer_ids": list(item.layer_ids), "notes": list(item.notes), "moved": moved}
            self._facts(**facts, rotated=item.rotated.tolist(), translated=item.translated.tolist(), frame_rate=item.rate)
        elif isinstance(item, LoopReport):
            led = {layer: [round(value, 4) for value in item.drift[layer]] for layer in item.restless}
            gap = {layer: [round(value, 4) for value in values] for layer, values in item.gap.items()}
            self._facts(loop={"cycles": item.cycles, "led": led, "gap": gap})
        elif item.notes:
            self._facts(notes=[*self.take.notes, *item.notes])

    def _facts(self, **facts):
        for name, value in facts.items():
            setattr(self.take, name, value)
        Take.objects.filter(pk=self.take.pk).update(**facts)

    def _chunk(self, chunk):
        take, count = self.take, len(chunk.rotations)
        self.done, self.spent = self.done + count, self.spent + chunk.cost_ms * count
        offsets, used = frames.quantised(chunk.offsets, self.step)
        data, moves, stats = pack(chunk.rotations, chunk.translations), pack_offsets(offsets), _stats(chunk)
        with transaction.atomic():
            kept = {"frames": count, "data": data, "offsets": moves, "offset_step": used, "stats": stats}
            TakeChunk.objects.create(take=take, first_frame=chunk.first_frame, **kept)
            Take.objects.filter(pk=take.pk).update(cost_ms=self.spent / self.done)
            self.context.progress(self.done, take.frame_count)
        hub.publish(take.character_id, "take", take=take.pk)


def _stats(chunk):
    """What was measured in a chunk, in the units that are shown, as plain values."""
    measures = {}
    for layer_id, measured in chunk.measures.items():
        kept = measures.setdefault(layer_id, {})
        for name, values in measured.items():
            shown = 1000.0 * values.astype(float) if name in ("clip", "keyed_clip") else values
            kept[name] = np.round(shown, 2).tolist()
    for layer_id, cost in chunk.costs.items():
        measures.setdefault(layer_id, {})["cost"] = round(cost, 3)
    return {"added": np.round(chunk.added * 1000.0, 3).tolist(), "measures": measures}
