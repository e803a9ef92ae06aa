"""The Bake step."""

import re

from django.conf import settings
from django.http import Http404, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from quiver.errors import BadInput
from studio.bakes import results, services
from studio.bakes.models import Bake
from studio.characters.pages import character_or_404, render_step
from studio.characters.rights import person_of
from studio.jobs.models import Job
from studio.numbers import whole_number
from studio.takes.elsewhere import kept_bytes
from studio.takes.models import Take
from studio.takes.services import clip_rows, is_stale, shown_take


@require_safe
def bake(request, pk):
    return _panel(request, character_or_404(pk, request))


def _panel(request, row):
    bakes = list(Bake.objects.filter(take__character=row).select_related("job", "take")[:40])
    take = shown_take(row)
    is_open = any(each.job.is_open for each in bakes) or bool(take and take.job.is_open)
    stale = bool(take) and is_stale(row, take)
    muscles = sum(bool(own.form) for layer in take.version.setup.layers for own in layer.muscles) if take else 0
    finished = [each for each in clip_rows(row) if each["take"] and each["take"].job.state == Job.State.FINISHED]
    context = {
        "finished": finished,
        "bakes": bakes,
        "take": take,
        "is_open": is_open,
        "is_stale": stale,
        "forms": services.forms_there(),
        "muscles": muscles,
    }
    return render_step(request, row, "bake", "bakes/panel.html", context)


@require_POST
def start(request, pk):
    """Bake the newest take of the active clip."""
    row = character_or_404(pk, request)
    number = whole_number(request.POST.get("take", ""))
    if number is None:
        raise BadInput(f"expected the number of a take, got “{request.POST.get('take', '')[:40]}”")
    take = get_object_or_404(Take.objects.select_related("job", "version"), pk=number, character=row)
    numbers = {}
    for name, kind in (("first", int), ("last", int), ("step", int), ("skin_limit", float), ("shape_limit", float), ("mesh", int)):
        try:
            numbers[name] = kind(request.POST.get(name) or 0)
        except ValueError:
            raise BadInput(f"{name.replace('_', ' ')}: expected a number, got “{request.POST.get(name)}”") from None
    if not 0.0 <= numbers["skin_limit"] <= 100.0 or not 0.0 <= numbers["shape_limit"] <= 1000.0:
        sent = f"{numbers['skin_limit']:g} and {numbers['shape_limit']:g}"
        raise BadInput(f"expected thinning within 0 to 100 mm and morph targets within 0 to 1000 mm, got {sent}")
    frames = (numbers["first"], numbers["last"], numbers["step"])
    limits = (numbers["skin_limit"], numbers["shape_limit"])
    options = (*frames, *limits, numbers["mesh"], bool(request.POST.get("has_muscles")))
    services.start_bake(take, request.POST.get("name", ""), request.POST.get("form", "glb"), *options)
    return _panel(request, row)


@require_POST
def start_all(request, pk):
    """Bake some finished takes into one file, or into a file each."""
    row = character_or_404(pk, request)
    numbers = [whole_number(sent) for sent in request.POST.getlist("take")]
    takes = Take.objects.select_related("job", "version").filter(character=row, pk__in=[number for number in numbers if number is not None])
    start_bakes = services.start_bake_of_each if "each" in request.POST else services.start_bake_of_all
    start_bakes(sorted(takes, key=lambda take: take.pk))
    return _panel(request, row)


@require_safe
def download(request, pk):
    made = get_object_or_404(Bake.objects.select_related("take__character", "job"), pk=pk)
    if made.job.state != Job.State.FINISHED:
        raise Http404
    name = re.sub(r"[^A-Za-z0-9_-]+", "-", f"{made.take.character.name}-{made.name}").strip("-")
    kind = "model/gltf-binary" if made.form == Bake.Form.GLB else "application/octet-stream"
    response = StreamingHttpResponse(made.parts(), content_type=kind)
    response.headers["Content-Disposition"] = f'attachment; filename="{name}.{made.form}"'
    return response


@require_http_methods(["GET", "HEAD", "POST"])
def all_results(request):
    """The takes and baked files of all characters; what is ticked is removed, pinned or let go."""
    if request.method == "POST":
        sent = request.POST
        ticked = results.Ticked.of(person_of(request), *(sent.getlist(name) for name in ("take", "bake", "character")))
        results.act(sent.get("action", ""), ticked, [whole_number(sent.get(name, "")) for name in ("first", "last")])
        return redirect("results")
    found, total = results.results(person_of(request))
    return render(request, "bakes/results.html", {"found": found, "total": total, "kept": kept_bytes(), "most": settings.RESULTS_BYTES})


@require_POST
def delete(request, pk):
    made = get_object_or_404(Bake.objects.select_related("take__character"), pk=pk)
    row = character_or_404(made.take.character_id, request)
    made.delete()
    return _panel(request, row)
