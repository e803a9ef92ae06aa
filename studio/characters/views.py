"""The library and the Rig step."""

from django.conf import settings
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from quiver.errors import BadFormat, BadInput
from studio.characters import services
from studio.characters.models import Character
from studio.characters.pages import character_or_404, render_step

GLB_TYPE = "model/gltf-binary"


@require_safe
def library(request):
    return render(request, "characters/library.html", {"characters": Character.objects.defer("picture")})


@require_POST
def upload(request):
    """Bring in a file; what is wrong with it is listed on the library page, and nothing is kept."""
    file = request.FILES.get("file")
    try:
        if file is None:
            raise BadInput("expected a GLB or glTF file, got none")
        if file.size > settings.LARGEST_UPLOAD:
            raise BadInput(f"expected a file of at most {settings.LARGEST_UPLOAD >> 20} MB, got {file.size / 2**20:.0f} MB")
        row = services.bring_in(file.read(), file.name)
    except (BadFormat, BadInput) as error:
        name = file.name if file else "no file"
        context = {"characters": Character.objects.defer("picture"), "refused": error, "refused_name": name}
        return render(request, "characters/library.html", context, status=422)
    return redirect("rig", row.pk)


@require_safe
def open_character(request, pk):
    return redirect("motion", pk)


@require_safe
def rig(request, pk):
    row = character_or_404(pk, request)
    return render_step(request, row, "rig", "characters/rig_panel.html", {"tree": services.joint_tree(row)})


@require_POST
def delete(request, pk):
    services.remove(character_or_404(pk, request))
    return redirect("library")


@require_POST
def choose_clip(request, pk):
    """Make another clip the active one; the page is loaded anew because every part of it speaks of the clip."""
    row = character_or_404(pk, request)
    name = request.POST.get("clip", "")
    if name and name not in [clip["name"] for clip in row.facts["clips"]]:
        raise BadInput(f"expected a clip of this character, got “{name}”")
    row.active_clip = name
    row.save(update_fields=["active_clip"])
    back = request.POST.get("back", "motion")
    return redirect(back if back in ("rig", "motion", "takes", "bake") else "motion", pk)


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
