"""The Regions step: painting where the skin is soft."""

from django.http import HttpResponse
from django.template.loader import render_to_string
from django.views.decorators.http import require_POST, require_safe

from quiver.errors import BadInput
from studio.characters.pages import changed, character_or_404, render_step, sent_object
from studio.characters.services import joint_tree
from studio.regions import services

MODES = (
    ("add", "Add", "More influence under the brush"),
    ("subtract", "Take away", "Less influence; stays in"),
    ("set", "Set", "Exactly the brush's strength"),
    ("smooth", "Smooth", "Even out"),
    ("out", "Out", "No part of the region any more"),
)


@require_safe
def regions(request, pk):
    return _panel(request, character_or_404(pk, request), request.GET.get("region"))


def _panel(request, row, region_id=None, take=None):
    all_regions, meshes = row.setup.regions, [mesh["name"] for mesh in row.facts["meshes"]]
    chosen = next((region for region in all_regions if region.id == region_id), all_regions[0] if all_regions else None)
    context = {
        "regions": all_regions,
        "chosen": services.facts_of(row, chosen) if chosen else None,
        "others": [region for region in all_regions if chosen and region.id != chosen.id and region.mesh == chosen.mesh],
        "meshes": meshes,
        "without_final": [name for name in meshes if not row.setup.final_skin(name)],
        "joints": [node["name"] for node in row.facts["nodes"] if node["joint"]],
        "tree": joint_tree(row),
        "modes": MODES,
    }
    response = render_step(request, row, "regions", "regions/panel.html", context)
    return changed(response, take) if request.method == "POST" else response


@require_POST
def add(request, pk):
    row = character_or_404(pk, request)
    fields = request.POST
    take = services.add_region(row, fields.get("name", ""), fields.get("mesh", ""), fields.get("joint", "").strip())
    return _panel(request, row, row.setup.regions[-1].id, take)


@require_POST
def add_final(request, pk):
    row = character_or_404(pk, request)
    take = services.add_final_skin(row, request.POST.get("mesh", ""))
    return _panel(request, row, row.setup.regions[-1].id, take)


@require_POST
def change(request, pk, region):
    row = character_or_404(pk, request)
    fields = request.POST
    take = services.change_region(row, region, fields.get("command", ""), fields.get("name", ""), fields.get("other", ""))
    return _panel(request, row, region, take)


@require_safe
def levels(request, pk, region):
    """The levels of a region: one byte for each vertex."""
    row = character_or_404(pk, request)
    response = HttpResponse(services.levels_of(row.setup.region(region)).tobytes(), content_type="application/octet-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


@require_safe
def facts(request, pk, region):
    """What the panel says of a region, and the history line, after a stroke."""
    row = character_or_404(pk, request)
    context = {"character": row, "chosen": services.facts_of(row, row.setup.region(region)), "out_of_band": True}
    return HttpResponse(render_to_string("regions/facts.html", context) + render_to_string("parts/history.html", context, request))


@require_POST
def paint(request, pk, region):
    """Paint a stroke that the stage sends as JSON; answers with the levels that stay."""
    row = character_or_404(pk, request)
    stroke = sent_object(request, "a stroke")
    if "command" in stroke:
        radius = stroke.get("radius", 0.0)
        if not isinstance(radius, int | float) or not isinstance(stroke.get("points"), list):
            raise BadInput("expected clicked places and a radius")
        painted = services.spot(row, region, str(stroke["command"]), stroke["points"], float(radius))
    else:
        painted = services.paint(row, region, stroke)
    return HttpResponse(painted.tobytes(), content_type="application/octet-stream")
