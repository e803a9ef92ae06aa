"""The library, and the files of a character."""

import json

from asgiref.sync import sync_to_async
from django.http import HttpResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from quiver.errors import BadFormat, BadInput
from studio.characters import intake, services
from studio.characters.pages import character_or_404
from studio.characters.rights import Right, needs, owned, person_of, readable

GLB_TYPE, LINES = "model/gltf-binary", "application/x-ndjson"


@require_safe
def library(request):
    return render(request, "characters/library.html", _library(request) | {"removed": owned(person_of(request), services.removed())})


def _library(request):
    return {"characters": readable(person_of(request)).defer("picture")}


@require_POST
def upload(request):
    """Bring in a file; what is wrong with it is listed on the library page, and nothing is kept.

    A page that asks for lines of JSON hears how far it is: {"step"}, then {"url"} of the new character or {"refused"}, HTML. When it
    goes away, the reading ends.
    """
    file = request.FILES.get("file")
    name, owner = file.name if file else "no file", person_of(request)
    try:
        if LINES in request.headers.get("Accept", ""):
            return StreamingHttpResponse(_lines(intake.Intake(file, owner), name), content_type=LINES)
        row = intake.bring_in(file, owner)
    except (BadFormat, BadInput) as error:
        context = {"refused": error, "refused_name": name}
        return render(request, "characters/library.html", _library(request) | context, status=422)
    return redirect("rig", row.pk)


async def _lines(reading, name):
    """The steps of an intake as lines of JSON."""
    steps, last = reading.steps(), None
    try:
        while (step := await sync_to_async(next)(steps, None)) is not None:
            if step != last:
                last = step
                yield json.dumps({"step": step}) + "\n"
            else:
                # A client that is gone is noticed when something is sent to it.
                yield "\n"
        yield json.dumps({"url": reverse("rig", args=[reading.row.pk])}) + "\n"
    except (BadFormat, BadInput) as error:
        html = await sync_to_async(render_to_string)("characters/refused.html", {"refused": error, "refused_name": name})
        yield json.dumps({"refused": html}) + "\n"
    finally:
        reading.end()
        await sync_to_async(steps.close)()


@require_safe
def open_character(request, pk):
    return redirect("motion", pk)


@needs(Right.OWN)
@require_POST
def delete(request, pk):
    services.remove(character_or_404(pk, request))
    return redirect("library")


@needs(Right.OWN)
@require_POST
def restore(request, pk):
    """Bring a removed character back."""
    services.restore(pk)
    return redirect("library")


def _kept(response):
    """These bytes never change under their address."""
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@require_safe
def picture(request, pk):
    return _kept(HttpResponse(bytes(character_or_404(pk, request).picture), content_type="image/png"))


@require_safe
def source(request, pk):
    row = character_or_404(pk, request)
    response = HttpResponse(row.source(), content_type=GLB_TYPE)
    response.headers["Content-Disposition"] = "attachment"
    return _kept(response)


@require_safe
def clip_frames(request, pk):
    """The keyed motion of a clip for the stage."""
    row = character_or_404(pk, request)
    return HttpResponse(services.clip_stream(row, request.GET.get("clip", "")), content_type="application/octet-stream")
