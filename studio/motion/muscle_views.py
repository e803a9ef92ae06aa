"""Muscles in the Motion step: their forms, and what the stage draws of them."""

from django.http import JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST, require_safe

from studio.characters.pages import changed, character_or_404
from studio.motion import muscles
from studio.motion.views import show_panel

AS_PANEL = ("rename", "remove", "attach", "swap")
"""After these the list of muscles is another."""


@require_safe
def one(request, pk, layer, muscle):
    """The form of one muscle."""
    return _form(request, character_or_404(pk, request), layer, muscle)


def _form(request, row, layer, muscle):
    return render(request, "motion/muscle.html", {"character": row, **muscles.one(row, layer, muscle)})


@require_POST
def change(request, pk, layer, muscle):
    """Change one muscle; answers with its form, or with the panel where the list of muscles is another."""
    row, command = character_or_404(pk, request), request.POST.get("command", "")
    take = muscles.change(row, layer, muscle, command, request.POST)
    if command in AS_PANEL:
        return show_panel(request, row, [layer], take, {"open_muscle": muscle})
    return changed(_form(request, row, layer, muscle), take)


@require_POST
def change_all(request, pk, layer):
    """Pull all muscles of a layer alike, or say which bones they keep off, or take in more meshes."""
    row, sent = character_or_404(pk, request), request.POST
    if sent.get("command") == "bones":
        take = muscles.set_bones(row, layer, sent.getlist("bone"))
    elif sent.get("command") == "rest":
        take = muscles.set_rest(row, layer, sent.get("clip", ""), sent.get("frame", ""))
    elif sent.get("command") == "make":
        take = muscles.make_muscle(row, layer, sent.get("mesh", ""), sent.get("vertices", ""), sent)
    elif sent.get("command") == "mirror":
        take = muscles.mirror(row, layer, sent.getlist("muscle") or [own.id for own in row.setup.layer(layer).muscles])
    elif sent.get("command") == "more":
        take, _ = muscles.add_muscles(row, [sent.get("mesh", "")], layer)
    else:
        take = muscles.drive_all(row, layer, sent)
    return show_panel(request, row, [layer], take)


@require_safe
def looks(request, pk):
    """What the stage draws under the skin."""
    response = JsonResponse(muscles.looks_of(character_or_404(pk, request)))
    response.headers["Cache-Control"] = "no-store"
    return response
