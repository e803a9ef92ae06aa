"""All results in one place: the takes and baked files of all characters, and how much room they take."""

from django.db.models import Count, Sum
from django.db.models.functions import Coalesce, Length

from quiver.errors import BadInput
from studio.bakes.models import Bake, BakeChunk
from studio.characters.rights import editable, readable
from studio.numbers import whole_number
from studio.takes import services as takes
from studio.takes.models import Take, TakeChunk


def results(person):
    """[(Character, [its takes, each with its ``bytes``], [its bakes, likewise], bytes of all)] of those that a person may see and that have
    any; and bytes in all.
    """
    sizes = dict(_sizes(TakeChunk, "take", Coalesce(Sum(Length("data")), 0) + Coalesce(Sum(Length("offsets")), 0)))
    files = dict(_sizes(BakeChunk, "bake", Coalesce(Sum(Length("data")), 0)))
    found = []
    for row in readable(person).defer("picture", "facts").order_by("name"):
        own = list(Take.objects.filter(character=row).select_related("job", "version").annotate(baked=Count("bakes")))
        bakes = list(Bake.objects.filter(take__character=row).select_related("job", "take"))
        for each in own:
            each.bytes = sizes.get(each.pk, 0)
        for each in bakes:
            each.bytes = files.get(each.pk, 0)
        if own or bakes:
            found.append((row, own, bakes, sum(each.bytes for each in (*own, *bakes))))
    return found, sum(total for *_, total in found)


def _sizes(model, of, total):
    return model.objects.order_by().values_list(of).annotate(total=total).values_list(of, "total")


def act(person, action, take_numbers, bake_numbers):
    """Do something with ticked takes and baked files of characters that a person may change: "remove", "pin" or "let go". Raises BadInput.
    Returns how many it was done to.
    """
    numbers = [[whole_number(sent) for sent in each] for each in (take_numbers, bake_numbers)]
    rows = editable(person).values("pk")
    own = Take.objects.filter(pk__in=_known(numbers[0]), character__in=rows)
    files = Bake.objects.filter(pk__in=_known(numbers[1]), take__character__in=rows).select_related("job")
    if action not in ("remove", "pin", "let go") or not (own or files):
        raise BadInput("expected something ticked, and to remove, pin or let go of it")
    if action != "remove":
        return own.update(is_kept=action == "pin")
    open_ones = [bake for bake in files if bake.job.is_open]
    if open_ones:
        raise BadInput(f"“{open_ones[0].name}” is still being baked; remove it when it is done")
    count = len(own) + len(files)
    for bake in files:
        bake.delete()
    for take in own:
        takes.remove(take)
    return count


def _known(numbers):
    return [number for number in numbers if number is not None]
