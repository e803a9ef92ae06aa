"""The Takes step, ring tests, and what the stage asks; what is told while takes run goes by the socket (consumers.py)."""

import base64

import numpy as np
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import urlencode
from django.views.decorators.http import require_POST, require_safe

from quiver.digests import digest_of
from quiver.errors import BadInput
from quiver.setup.differences import differences
from quiver.setup.muscles import with_muscles_of
from studio.characters.pages import changed, character_or_404, render_step
from studio.edits.services import edit
from studio.jobs import services as jobs
from studio.jobs.models import Job
from studio.numbers import whole_number
from studio.takes import ringing, services, solving, sweeps
from studio.takes.models import MovingPicture, RingTest, Solve, Sweep, Take

DEEPEST_SHOWN = 40.0
"""What clips as deep as that is shown in the last colour [mm]."""


@require_safe
def takes(request, pk):
    return _panel(request, character_or_404(pk, request))


def _panel(request, row):
    all_takes = row.takes.select_related("job", "version").prefetch_related("bakes")[:40]
    latest = services.shown_take(row)
    beside = services.take_of(row, request.GET.get("beside", "")) if request.GET.get("beside") else None
    against = services.take_of(row, request.GET.get("take", "")) if beside else None
    changes = differences(beside.version.setup, against.version.setup) if beside and against else []
    context = {
        "takes": all_takes,
        "removed": services.removed_takes(row),
        "take": latest,
        "clip": row.clip_facts(),
        "beside": beside,
        "against": against,
        "changes": changes,
        "clip_rows": services.clip_rows(row),
        "sweeps": Sweep.objects.filter(version__character=row).exclude(takes=None).order_by("-pk")[:6],
        "dials_to_sweep": services.dials_to_sweep(row),
        "wishes": solving.WANTED,
    }
    return render_step(request, row, "takes", "takes/panel.html", context)


@require_POST
def run(request, pk):
    """Run the current setup on a range of the active clip."""
    row = character_or_404(pk, request)
    try:
        first = int(request.POST.get("first", 0))
        last = int(request.POST["last"]) if request.POST.get("last") else None
    except ValueError:
        raise BadInput(f"expected whole frame numbers, got {request.POST.get('first')} and {request.POST.get('last')}") from None
    return changed(_panel_after(request, row, lambda: services.start_take(row, first, last)))


@require_POST
def stop(request, pk):
    take = _take_or_404(pk)
    return changed(_panel_after(request, take.character, lambda: jobs.ask_to_stop(Job.objects.filter(pk=take.job_id))))


@require_POST
def keep(request, pk):
    """Keep a take, or let it pass again."""
    take = _take_or_404(pk)
    take.is_kept = not take.is_kept
    take.save(update_fields=["is_kept"])
    return _panel(request, take.character)


@require_POST
def describe(request, pk):
    """Name a take, and note what it is about."""
    take = _take_or_404(pk)
    services.describe(take, request.POST.get("name", ""), request.POST.get("note", ""))
    return _panel(request, character_or_404(take.character_id, request))


@require_POST
def remove(request, pk):
    take = _take_or_404(pk)
    return changed(_panel_after(request, take.character, lambda: services.remove(take)))


@require_POST
def restore(request, pk):
    """Bring a removed take back."""
    take = get_object_or_404(Take.everything.select_related("character", "character__current"), pk=pk)
    return changed(_panel_after(request, take.character, lambda: services.restore(pk)))


@require_POST
def again(request, pk):
    """Run a take once more with the settings it had: they become the current ones by an edit like any other, so undo leads back."""
    take = _take_or_404(pk)
    row = character_or_404(take.character_id, request)
    row.active_clip = take.clip_name
    row.save(update_fields=["active_clip"])
    edit(row, lambda _: take.version.setup, f"Settings of take {take.pk}", runs=False)
    row.refresh_from_db(fields=["current"])
    return changed(_panel_after(request, row, lambda: services.start_take(row, take.first_frame, take.last_frame)))


@require_POST
def bring_muscles_back(request, pk):
    """Take over the muscles of a take, with all their dials, and leave all other layers."""
    take = _take_or_404(pk)
    row = character_or_404(take.character_id, request)
    made = edit(row, lambda setup: with_muscles_of(setup, take.version.setup), f"Muscles of take {take.pk}")
    return changed(_panel(request, row), made.take)


@require_POST
def run_around(request, pk):
    """Whether takes of the active clip run around until the motion repeats."""
    row = character_or_404(pk, request)
    return changed(_panel(request, row), services.set_cycle(row, "around" in request.POST))


@require_POST
def run_clips(request, pk):
    """Run the current setup on some clips, one after another."""
    row = character_or_404(pk, request)
    services.start_takes(row, request.POST.getlist("clip"))
    return changed(_panel(request, row))


@require_POST
def sweep(request, pk):
    """Run the active clip with one or two dials at some values of a range each; leads to the sheet of what comes of it."""
    row, ranges = character_or_404(pk, request), []
    for sent in zip(*(request.POST.getlist(name) for name in ("dial", "low", "high", "count")), strict=False):
        layer, _, dial = sent[0].partition(":")
        if not layer:
            continue
        try:
            ranges.append((layer, dial, float(sent[1]), float(sent[2]), int(sent[3])))
        except ValueError:
            raise BadInput("expected a dial, two numbers and how many values between them") from None
    made = services.start_sweep(row, ranges)
    response = HttpResponse(status=204)
    response.headers["HX-Redirect"] = reverse("show-sweep", args=[made.pk])
    return response


def _sweep_of(pk):
    return get_object_or_404(Sweep.objects.select_related("version", "version__character"), pk=pk)


@require_safe
def show_sweep(request, pk):
    """The takes of a sweep side by side."""
    return render(request, "takes/sweep.html", sweeps.sheet(_sweep_of(pk)))


@require_POST
def ring_sweep(request, pk):
    sweeps.ring_all(_sweep_of(pk))
    return redirect("show-sweep", pk)


@require_POST
def use_sweep(request, pk):
    """Make the swept dials of a take those of the setup."""
    take = get_object_or_404(Take.objects.select_related("sweep", "version"), pk=pk)
    row = character_or_404(take.character_id, request)
    sweeps.use(row, take)
    return redirect("takes", row.pk)


@require_safe
def moving_picture(request, pk):
    moving = get_object_or_404(MovingPicture, take=pk)
    response = HttpResponse(bytes(moving.data), content_type="image/webp")
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


def _panel_after(request, row, action):
    """Act, and show the Takes panel where it was asked from; the transport under the stage only hears that something changed."""
    action()
    return _panel(request, row) if request.htmx.target == "panel" else HttpResponse(status=204)


def _take_or_404(pk):
    return get_object_or_404(Take.objects.select_related("job", "character", "character__current", "version"), pk=pk)


@require_safe
def stage_state(request, pk):
    """What the stage should show: the clip's frames and the newest take on it, or the take that ``?take=`` names."""
    row = character_or_404(pk, request)
    clip = row.clip_facts()
    take = services.take_of(row, request.GET.get("take", ""))
    # Under another address where it is keyed another way.
    query = urlencode({"clip": row.active_clip, "keyed": digest_of(row.setup.scene_on(row.active_clip))[:16]})
    return JsonResponse(
        {
            "clip": {
                "name": row.active_clip,
                "frames": clip["frames"] if clip else 1,
                "url": f"{reverse('clip-frames', args=[pk])}?{query}",
            },
            "frameRate": row.setup.frame_rate,
            "metresPerUnit": row.setup.metres_per_unit,
            "parts": [mesh["name"] for mesh in row.facts["meshes"]],
            "take": {"id": take.pk, "first": take.first_frame, "last": take.last_frame} if take else None,
        }
    )


@require_POST
def start_ring(request, pk, layer):
    """Knock a layer at rest; answers with a card that shows itself anew until the test is done."""
    return _ring_card(request, ringing.start_ring(character_or_404(pk, request), layer))


@require_safe
def show_ring(request, pk):
    return _ring_card(request, get_object_or_404(RingTest.objects.select_related("job"), pk=pk))


def _ring_card(request, test):
    return render(request, "takes/ring.html", {"test": test, "width": ringing.CURVE_WIDTH, "height": ringing.CURVE_HEIGHT})


@require_POST
def start_solve(request, pk):
    """Look for dials that give what is wanted; answers with a card that shows itself anew until it is done."""
    row, sent = character_or_404(pk, request), request.POST
    dials = [each.partition(":") for each in sent.getlist("turn")]
    layers = {layer for layer, _, _ in dials}
    if len(layers) != 1:
        raise BadInput("expected one to four dials of one layer to turn")
    wanted = {}
    for what, words, _ in solving.WANTED:
        if sent.get(what, "").strip():
            try:
                wanted[what] = float(sent[what])
            except ValueError:
                raise BadInput(f"{words}: expected a number, got “{sent[what][:40]}”") from None
    return _solve_card(request, solving.start_solve(row, layers.pop(), [name for _, _, name in dials], wanted))


def _solve_of(pk):
    return get_object_or_404(Solve.objects.select_related("job", "version__character"), pk=pk)


@require_safe
def show_solve(request, pk):
    return _solve_card(request, _solve_of(pk))


@require_POST
def stop_solve(request, pk):
    jobs.ask_to_stop(Job.objects.filter(solve=pk))
    return _solve_card(request, _solve_of(pk))


@require_POST
def use_solve(request, pk):
    """Make the dials that were found those of the setup."""
    found = _solve_of(pk)
    row = character_or_404(found.version.character_id, request)
    return changed(_panel(request, row), solving.use(row, found))


def _solve_card(request, found):
    return render(request, "takes/solve.html", solving.facts_of(found))


@require_safe
def depth(request, pk):
    """How deep the skin clips at a frame, for the stage: one byte a vertex, 0..254 of `DEEPEST_SHOWN`, 255 where nothing is asked."""
    take = get_object_or_404(Take.objects.select_related("version"), pk=pk)
    frame = whole_number(request.GET.get("frame", ""))
    if frame is None:
        raise BadInput(f"expected the number of a frame, got “{request.GET.get('frame', '')[:40]}”")
    found = services.clip_depths(take, frame, request.GET.get("shown") == "keyed")
    meshes = {mesh: np.where(np.isnan(mm), 255, np.clip(mm / DEEPEST_SHOWN, 0, 1) * 254).astype(np.uint8) for mesh, mm in found.items()}
    worst = max((float(np.nanmax(mm)) for mm in found.values() if not np.isnan(mm).all()), default=0.0)
    sent = {str(mesh): base64.b64encode(levels.tobytes()).decode() for mesh, levels in meshes.items()}
    return JsonResponse({"meshes": sent, "worst": worst, "full": DEEPEST_SHOWN})
