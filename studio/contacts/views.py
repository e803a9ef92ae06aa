"""The Contacts step: colliders, and who meets whom."""

from django.http import HttpResponse, JsonResponse
from django.views.decorators.http import require_POST, require_safe

from quiver.colliders import LABELS
from quiver.errors import BadInput
from studio.characters.pages import changed, character_or_404, render_step, sent_object
from studio.characters.services import joint_tree
from studio.contacts import services


@require_safe
def contacts(request, pk):
    return _panel(request, character_or_404(pk, request), request.GET.get("collider"))


def _panel(request, row, collider_id=None, take=None):
    setup = row.setup
    chosen = next((each for each in setup.colliders if each.id == collider_id), setup.colliders[0] if setup.colliders else None)
    context = {
        "setup": setup,
        "shapes": [item for item in LABELS.items() if item[0] not in ("skin", "body")],
        "meshes": [mesh["name"] for mesh in row.facts["meshes"]],
        "chosen": services.facts_of(row, chosen) if chosen else None,
        "matrix": services.matrix(row, setup) if setup.layers and setup.colliders else [],
        "skin_contacts": services.skin_contacts(row),
        "tree": joint_tree(row),
        "regions": [region for region in setup.regions if not region.is_final],
        "joints": [node["name"] for node in row.facts["nodes"] if node["joint"]] or [node["name"] for node in row.facts["nodes"]],
    }
    response = render_step(request, row, "contacts", "contacts/panel.html", context)
    return changed(response, take) if request.method == "POST" else response


@require_POST
def add(request, pk):
    row = character_or_404(pk, request)
    take = services.add(row, request.POST.get("shape", ""), request.POST.get("joint", "").strip())
    return _panel(request, row, row.setup.colliders[-1].id, take)


@require_POST
def add_skin_contact(request, pk):
    row = character_or_404(pk, request)
    take = services.add_skin_contact(row, *(request.POST.get(name, "") for name in ("of", "joints", "against")))
    return _panel(request, row, request.POST.get("chosen"), take)


@require_POST
def fit_all(request, pk):
    row = character_or_404(pk, request)
    return _panel(request, row, None, services.fit_all(row, request.POST.get("shape", "capsule"), "small" in request.POST))


@require_POST
def watch_skin(request, pk):
    row = character_or_404(pk, request)
    return _panel(request, row, request.POST.get("chosen"), services.watch_skin(row, "watch" in request.POST))


@require_POST
def change(request, pk, collider):
    row = character_or_404(pk, request)
    before = len(row.setup.colliders)
    take = services.change(row, collider, request.POST.get("action", ""), request.POST.get("text", ""))
    added = len(row.setup.colliders) > before
    return _panel(request, row, row.setup.colliders[-1].id if added else request.POST.get("chosen") or collider, take)


@require_POST
def set_field(request, pk, collider):
    row = character_or_404(pk, request)
    take = services.set_field(row, collider, request.POST.get("field", ""), request.POST.get("value", ""))
    return _panel(request, row, collider, take)


@require_POST
def move(request, pk, collider):
    """Take the place, the turn and the size that the stage's handles gave a collider, as JSON."""
    row = character_or_404(pk, request)
    sent = sent_object(request, "a place, a turn and a size")
    if not all(isinstance(sent.get(name), list) for name in ("place", "turn", "size")):
        raise BadInput("expected a place, a turn and a size as lists")
    services.move(row, collider, sent["place"], sent["turn"], sent["size"])
    return HttpResponse(status=204)


@require_POST
def meet(request, pk, collider):
    row = character_or_404(pk, request)
    take = services.meet(row, collider, request.POST.get("layer", ""), request.POST.get("meets") == "yes")
    return _panel(request, row, request.POST.get("chosen") or collider, take)


@require_POST
def meet_many(request, pk):
    """Switch a whole row or column of the collision table: all colliders, or all layers, where one is not said."""
    row, sent = character_or_404(pk, request), request.POST
    rows = services.matrix(row, row.setup)
    colliders = [sent["collider"]] if sent.get("collider") else [collider.id for collider, _ in rows]
    layers = [sent["layer"]] if sent.get("layer") else [layer.id for layer, is_met in rows[0][1]] if rows else []
    take = services.meet_many(row, colliders, layers, sent.get("meets") == "yes")
    return _panel(request, row, sent.get("chosen"), take)


@require_POST
def change_many(request, pk):
    """Switch or remove the colliders that are ticked."""
    row, sent = character_or_404(pk, request), request.POST
    return _panel(request, row, sent.get("chosen"), services.change_many(row, sent.getlist("collider"), sent.get("action", "")))


@require_safe
def shapes(request, pk):
    response = JsonResponse({"colliders": services.shapes(character_or_404(pk, request))})
    response.headers["Cache-Control"] = "no-store"
    return response
