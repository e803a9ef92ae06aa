"""All results in one place: the takes and baked files of all characters, how much room they take, and what is done with many at once."""

from dataclasses import dataclass

from django.db import transaction
from django.db.models import Count, Sum
from django.db.models.functions import Coalesce, Length

from quiver.errors import BadInput
from studio.bakes.models import Bake, BakeChunk
from studio.bakes.services import start_bake_of_all
from studio.characters.rights import editable, readable
from studio.jobs.models import Job
from studio.jobs.services import forget_parts
from studio.numbers import whole_number
from studio.takes import services as takes
from studio.takes.models import Take, TakeChunk


def results(person):
    """[(Character, [its takes, each with its ``bytes``], [its bakes, likewise], bytes of all)] of those that a person may see; and bytes
    in all.
    """
    sizes = dict(_sizes(TakeChunk, "take", Coalesce(Sum(Length("data")), 0) + Coalesce(Sum(Length("offsets")), 0)))
    files = dict(_sizes(BakeChunk, "bake", Coalesce(Sum(Length("data")), 0)))
    found, own_rows = [], set(editable(person).values_list("pk", flat=True))
    for row in readable(person).defer("picture", "facts").order_by("name"):
        own = list(Take.objects.filter(character=row).select_related("job", "version").annotate(baked=Count("bakes")))
        bakes = list(Bake.objects.filter(take__character=row).select_related("job", "take"))
        row.reads_only = row.pk not in own_rows
        for each in own:
            each.bytes = sizes.get(each.pk, 0)
        for each in bakes:
            each.bytes = files.get(each.pk, 0)
        found.append((row, own, bakes, sum(each.bytes for each in (*own, *bakes))))
    return found, sum(total for *_, total in found)


def _sizes(model, of, total):
    return model.objects.order_by().values_list(of).annotate(total=total).values_list(of, "total")


@dataclass(frozen=True)
class Ticked:
    """What is ticked, of characters that a person may change: takes and baked files (querysets), and characters."""

    takes: object
    bakes: object
    characters: object

    @classmethod
    def of(cls, person, takes, bakes, characters):
        """By numbers as they were sent."""
        rows, numbers = editable(person), [_known(each) for each in (takes, bakes, characters)]
        return cls(
            Take.objects.filter(pk__in=numbers[0], character__in=rows.values("pk")).select_related("version", "character", "job"),
            Bake.objects.filter(pk__in=numbers[1], take__character__in=rows.values("pk")).select_related("job"),
            rows.filter(pk__in=numbers[2]),
        )


def act(action, ticked, span=(None, None)):
    """Do something with what is Ticked, or let go of the parts that are kept in memory. Takes are made again over a span of frames, their
    own where it says None. Raises BadInput.
    """
    rows = ticked.characters
    # For each what must be ticked, any of it, and what is done.
    acts = {
        "remove": ([ticked.takes, ticked.bakes], lambda: _remove(ticked)),
        "pin": ([ticked.takes], lambda: ticked.takes.update(is_kept=True)),
        "let go": ([ticked.takes], lambda: ticked.takes.update(is_kept=False)),
        "again": ([ticked.takes], lambda: [takes.start_again(take, *span) for take in ticked.takes]),
        "run": ([rows], lambda: [takes.start_takes(row, [clip["name"] for clip in row.clips]) for row in rows if row.clips]),
        "bake": ([rows], lambda: [start_bake_of_all(done) for done in map(_finished, rows) if done]),
        "forget": ([True], forget_parts),
    }
    needed, do = acts.get(action, ([], None))
    if not any(needed):
        raise BadInput("expected something ticked, and what is to be done with it")
    with transaction.atomic():
        do()


def _remove(ticked):
    open_ones = [bake for bake in ticked.bakes if bake.job.is_open]
    if open_ones:
        raise BadInput(f"“{open_ones[0].name}” is still being baked; remove it when it is done")
    for bake in ticked.bakes:
        bake.delete()
    for take in ticked.takes:
        takes.remove(take)


def _finished(row):
    """The finished takes of a character's clips with the setup as it is."""
    found = [each["take"] for each in takes.clip_rows(row)]
    return [take for take in found if take and take.job.state == Job.State.FINISHED]


def _known(numbers):
    return [number for number in map(whole_number, numbers) if number is not None]
