"""Finding dials from what the motion should be, as a job."""

from django.db import transaction

from quiver import layers as registry
from quiver import solve
from quiver.errors import BadInput
from quiver.setup import edits
from quiver.wanted import CLIPS, LAGS, MOVES, SETTLES, Goal
from studio.characters.services import loaded
from studio.edits.services import edit
from studio.jobs import services as jobs
from studio.takes import elsewhere
from studio.takes.models import Solve

WANTED = (
    (MOVES, "moves at most", "mm"),
    (LAGS, "comes after its keys by", "frames"),
    (SETTLES, "has settled by frame", ""),
    (CLIPS, "is at most so deep in anything", "mm"),
)
"""What can be wanted, in the words of the form; all but the second are at most."""


def start_solve(row, layer_id, dial_names, wanted):
    """Queue a search on the active clip for the dials of a layer, over their whole ranges, that give what is ``wanted`` {what: value}.

    Raises BadInput.
    """
    frees, goals = _made(row.setup, layer_id, dial_names, wanted)
    solve.check(row.setup, goals, frees)
    asked = {"layer": layer_id, "dials": list(dial_names), "wanted": wanted}
    with transaction.atomic():
        found = Solve.objects.create(version=row.current, job=jobs.start("solve", solve.MOST_TRIES), clip_name=row.active_clip, asked=asked)
        jobs.enqueue(found.job, priority=8)
    return found


def _made(setup, layer_id, dial_names, wanted):
    kind = registry.kind_of(setup.layer(layer_id).kind)
    dials = [kind.dial(name) for name in dial_names]
    choices = [dial.label for dial in dials if dial.is_choice]
    if choices:
        raise BadInput(f"{choices[0]}: expected dials with numbers")
    frees = [solve.Free(layer_id, dial.name, dial.low, dial.high) for dial in dials]
    return frees, [Goal(what, layer_id, value, what == LAGS) for what, value in wanted.items()]


def run_solve(job_id, context):
    """The job: search, and keep what was found."""
    row = Solve.objects.select_related("version").get(job_id=job_id)
    context.character = row.version.character_id
    character, _ = loaded(context.character)
    setup, asked = row.version.setup, row.asked
    frees, goals = _made(setup, asked["layer"], asked["dials"], asked["wanted"])

    def told(tries, most, miss):
        context.progress(tries, most)

    found = solve.solve(character, setup, row.clip_name, goals, frees, take=elsewhere.taken, keep_going=context.keep_going, told=told)
    row.report = {"values": found.values, "found": found.found, "unmet": [goal.what for goal in found.unmet], "tries": found.tries}
    row.save(update_fields=["report"])


def facts_of(row):
    """What the card of a Solve shows: its dials with the values found, and its wishes with what comes of them."""
    setup, asked, report = row.version.setup, row.asked, row.report
    kind = registry.kind_of(setup.layer(asked["layer"]).kind)
    words = {what: (label, unit) for what, label, unit in WANTED}
    dials = list(zip(map(kind.dial, asked["dials"]), report.get("values", []), strict=False))
    wishes = [
        {"words": words[what][0], "unit": words[what][1], "wanted": value, "found": found, "is_met": what not in report["unmet"]}
        for (what, value), found in zip(asked["wanted"].items(), report.get("found", []), strict=False)
    ]
    return {"solve": row, "layer": setup.layer(asked["layer"]), "dials": dials, "wishes": wishes}


def use(row, found):
    """Make the dials that a Solve found those of the setup. Raises BadInput. Returns the Take that follows."""
    if not found.report:
        raise BadInput("expected a search that found something")

    def command(setup):
        for name, value in zip(found.asked["dials"], found.report["values"], strict=True):
            setup = edits.set_dial_on(setup, found.clip_name, [found.asked["layer"]], name, round(value, 4))
        return setup

    return edit(row, command, "Dials that were found").take
