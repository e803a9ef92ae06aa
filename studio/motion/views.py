"""The Motion step: the layer stack and its dials."""

import json
import re

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST, require_safe
from django_htmx.http import trigger_client_event

from quiver import layers as registry
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS, MUSCLES, REGION
from quiver.setup import document as setup_document
from quiver.setup import model as setups
from studio.characters.pages import changed, character_or_404, render_step, sent_object
from studio.characters.services import joint_tree
from studio.edits.services import follow_change, go
from studio.motion import adding, building, muscles, placing, services
from studio.numbers import whole_number

BUILD_COMMANDS = {"build": building.start_build, "stop": building.stop_build}


@require_safe
def motion(request, pk):
    return show_panel(request, character_or_404(pk, request), request.GET.get("layer", "").split(","))


def show_panel(request, row, layer_ids=(), take=None, more=None):
    """The panel with the dials of some layers (ids; those that are there), or of the first one, and ``more`` of its context."""
    response = render_step(request, row, "motion", "motion/panel.html", _context(row, layer_ids) | (more or {}))
    return changed(response, take) if request.method == "POST" else response


def _context(row, layer_ids):
    setup = row.setup
    chosen = [layer for layer in setup.layers if layer.id in layer_ids] or list(setup.layers[:1])
    context = {
        "setup": setup,
        "chosen_layers": chosen,
        "address": ",".join(layer.id for layer in chosen),
        "scene": [(dial, getattr(setup, dial.name)) for dial in setup.scene_dials_on(row.active_clip)],
        "others": services.others_of(row),
        "is_tried_out": len(setup.scene_dials_on(row.active_clip)) > len(setup.scene_dials_on("")),
        "proxies": adding.proxies_of(setup),
        "sheet_presets": list(registry.kind_of("sheet").presets),
    }
    if not chosen:
        return context
    kind = registry.kind_of(chosen[0].kind) if len({layer.kind for layer in chosen}) == 1 else None
    ids = {layer.id for layer in chosen}
    context |= {
        "kind": kind,
        "groups": dial_groups(chosen, dict(services.overrides_of(row, chosen[0])) if len(chosen) == 1 else {}),
        "amount": chosen[0].amount if len({layer.amount for layer in chosen}) == 1 else None,
        "presets": list(kind.presets) if kind else [],
        "own_presets": services.own_presets(row, kind.name) if kind else [],
        "alike": [layer for layer in setup.layers if kind and layer.kind == kind.name and layer.id not in ids],
    }
    return context | (_one(row, chosen[0], kind) if len(chosen) == 1 else {})


def _one(row, layer, kind):
    """What the panel shows besides where one layer is chosen."""
    setup, names = row.setup, {region.id: region.name for region in row.setup.regions}
    return {
        "chosen": layer,
        "region_name": names.get(layer.region, ""),
        "overrides": services.overrides_of(row, layer),
        "dials_to_override": [dial for dial in kind.dials if not dial.is_choice],
        "other_name": names.get(layer.other, ""),
        "linked": [other for other in setup.layers if layer.link and other.link == layer.link and other.id != layer.id],
        "forms": list(placing.READY.items()),
        "form_label": setups.FORMS[layer.form.shape] if layer.form else "",
        "carriers": [other for other in setup.layers if registry.kind_of(other.kind).carries],
        "build": building.latest_build(row, layer.id) if "built" in kind.fields else None,
        "muscles": muscles.facts_of(row, layer) if kind.made_of == MUSCLES else None,
    }


def dial_groups(layers, on_clip=()):
    """The dials that all of some layers have, by the panel's groups: (name, rows, whether any differs from its default).

    A row's ``value`` is None where the layers do not agree; ``on_clip`` {Dial: value} are those that have another on the active clip.
    """
    first, *others = [registry.kind_of(layer.kind) for layer in layers]
    groups = {}
    for dial in first.dials:
        if all(any(dial == theirs for theirs in other.dials) for other in others):
            values = [layer.value(dial.name) for layer in layers]
            value = values[0] if all(each == values[0] for each in values) else None
            middle = value if dial.is_choice or value is not None else sum(values) / len(values)
            row = {"dial": dial, "value": value, "slider": middle, "is_default": value == dial.default}
            row["on_clip"] = dict(on_clip).get(dial)
            groups.setdefault(dial.group, []).append(row)
    return [(name, rows, any(not row["is_default"] for row in rows)) for name, rows in groups.items()]


@require_safe
def new_layer(request, pk):
    """The form for new layers."""
    return _new_layer(request, character_or_404(pk, request), request.GET)


def _new_layer(request, row, sent, choices=None):
    setup, nodes = row.setup, row.facts["nodes"]
    context = {
        "joint_kinds": adding.kinds_of(JOINTS),
        "soft_kinds": adding.kinds_of(REGION),
        "muscle_kinds": adding.kinds_of(MUSCLES),
        "muscle_meshes": muscles.meshes_of(row),
        "wanted": sent.get("kind", "chain"),
        "joints": sent.get("joints", ""),
        "of": sent.get("of", ""),
        "is_apart": "apart" in sent,
        "branches": [(root, [(end, json.dumps([root, end])) for end in ends]) for root, ends in (choices or {}).items()],
        "regions": [region for region in setup.regions if not region.is_final],
        "meshes": [mesh["name"] for mesh in row.facts["meshes"]],
        "into": [(layer, registry.kind_of(layer.kind)) for layer in setup.layers if registry.kind_of(layer.kind).made_of == JOINTS],
        "to_layer": sent.get("to_layer", ""),
        "tree": joint_tree(row),
        "joint_names": [node["name"] for node in nodes if node["joint"]] or [node["name"] for node in nodes],
    }
    return render_step(request, row, "motion", "motion/new_layer.html", context)


@require_POST
def add_layer(request, pk):
    """Add layers as the form says; where a chain branches and no end is chosen yet, the form comes back with the ends to choose from."""
    row, sent = character_or_404(pk, request), request.POST
    kind, joints = sent.get("kind") or ("volume" if "of" in sent else "chain"), sent.get("joints", "")
    if registry.kind_of(kind).made_of == MUSCLES:
        chosen = sent.getlist("muscle_mesh")
        take, ids = muscles.add_muscles(row, chosen) if chosen else (None, muscles.add_empty(row))
        return show_panel(request, row, ids, take)
    if registry.kind_of(kind).made_of != JOINTS:
        source, _, value = sent.get("of", "").partition(":")
        take, ids = adding.add_soft(row, kind, source, joints if source == "joints" else value)
        return show_panel(request, row, ids, take)
    ends = _ends(sent.getlist("end"))
    choices = adding.branches(row, joints) if registry.kind_of(kind).picks_many and not ends else {}
    if choices:
        return _new_layer(request, row, sent, choices)
    take, ids = adding.add_layers(row, kind, joints, ends, sent.get("to_layer", ""), "apart" in sent)
    return show_panel(request, row, ids, take)


def _ends(texts):
    """(root, tip) pairs of a form's fields. Raises BadInput."""
    try:
        return [(str(root), str(tip)) for root, tip in map(json.loads, texts)]
    except (ValueError, TypeError) as error:
        raise BadInput("expected a chain's root and its end") from error


@require_POST
def make_proxies(request, pk):
    """Take the table of regions and their proxies; rows that are not ticked are set aside."""
    row, sent = character_or_404(pk, request), request.POST
    chosen = sent.getlist("on")
    rows = zip(sent.getlist("region"), sent.getlist("triangles"), sent.getlist("like"), strict=False)
    wanted = {region: (triangles, like) for region, triangles, like in rows if region in chosen}
    if not wanted:
        raise BadInput("expected at least one region to make a proxy of: tick its row")
    take, failed = adding.make_proxies(row, wanted)
    context = _context(row, [sent.get("layer")]) | {"proxies_failed": failed.items(), "proxies_done": len(wanted) - len(failed)}
    return changed(render_step(request, row, "motion", "motion/panel.html", context), take)


@require_POST
def remove_chain(request, pk, layer):
    row = character_or_404(pk, request)
    index = whole_number(request.POST.get("index", ""))
    take = services.remove_chain(row, layer, -1 if index is None else index)
    return show_panel(request, row, [layer], take)


@require_POST
def set_dial(request, pk, layers):
    """Set a dial of some layers; answers with what depends on it, so that the dial in the hand stays where it is."""
    row = character_or_404(pk, request)
    name = request.POST.get("dial", "")
    value = None if "reset" in request.POST else request.POST.get("value", "")
    take = services.set_dial(row, layers, name, value)
    if "reset" in request.POST:
        return show_panel(request, row, layers, take)
    return changed(render(request, "parts/history.html", {"character": row, "out_of_band": True}), take)


@require_POST
def set_override(request, pk, layers):
    """Give a dial another value on the active clip alone, or take that back."""
    row, sent = character_or_404(pk, request), request.POST
    take = services.set_override(row, layers, sent.get("dial", ""), None if "drop" in sent else sent.get("value", ""))
    return show_panel(request, row, layers, take)


@require_POST
def take_dials(request, pk, layers):
    """Set all dials of layers as a preset or another layer has them: the choice says which, as kind:name."""
    row = character_or_404(pk, request)
    kind, _, name = request.POST.get("like", "").partition(":")
    sources = {"preset": "preset", "layer": "other", "own": "own"}
    if kind not in sources:
        raise BadInput(f"expected a preset or a layer to take the dials of, got “{kind}”")
    take = services.take_dials(row, layers, **{sources[kind]: name})
    return show_panel(request, row, layers, take)


@require_POST
def save_preset(request, pk, layer):
    """Save the layer's dials as an own preset, or forget one."""
    row = character_or_404(pk, request)
    forgotten = whole_number(request.POST.get("forget", ""))
    if forgotten is not None:
        services.forget_preset(row, layer, forgotten)
    else:
        services.save_preset(row, layer, request.POST.get("name", ""))
    return render_step(request, row, "motion", "motion/panel.html", _context(row, [layer]))


@require_POST
def ride(request, pk, layer):
    row = character_or_404(pk, request)
    return show_panel(request, row, [layer], services.ride(row, layer, request.POST.get("rides", "")))


@require_POST
def leave_out(request, pk, layer):
    """Let skin contact leave out a region, or what a layer carries."""
    row = character_or_404(pk, request)
    return show_panel(request, row, [layer], services.leave_out(row, layer, request.POST.get("what", "")))


@require_POST
def set_maps(request, pk, layer):
    """Choose the painted maps of a layer, such as where tissue is fat."""
    row = character_or_404(pk, request)
    return show_panel(request, row, [layer], services.set_maps(row, layer, request.POST))


@require_POST
def follow_points(request, pk, layer):
    """Let a layer hang on a new follower, or, with "forget", remove one."""
    row = character_or_404(pk, request)
    if "forget" in request.POST:
        return show_panel(request, row, [layer], services.forget_follower(row, request.POST["forget"]))
    return show_panel(request, row, [layer], services.follow(row, layer, request.POST.get("mesh", ""), request.POST.get("vertices", "")))


@require_POST
def place_form(request, pk, layer):
    """Make a sheet of a ready-made shape, or of the mesh in a file."""
    row, file = character_or_404(pk, request), request.FILES.get("file")
    take = placing.bring(row, layer, file) if file else placing.place(row, layer, request.POST.get("shape", ""))
    return show_panel(request, row, [layer], take)


@require_POST
def move_form(request, pk, layer):
    """Take the place, the turn and the size that the stage's handles gave a form, as JSON."""
    sent = sent_object(request, "a place, a turn and a size")
    if not all(isinstance(sent.get(name), list) for name in ("place", "turn", "size")):
        raise BadInput("expected a place, a turn and a size as lists")
    placing.move(character_or_404(pk, request), layer, sent["place"], sent["turn"], sent["size"])
    return HttpResponse(status=204)


@require_safe
def form_box(request, pk, layer):
    response = JsonResponse({"colliders": placing.boxes(character_or_404(pk, request), layer)})
    response.headers["Cache-Control"] = "no-store"
    return response


@require_POST
def mirror(request, pk, layers):
    """Copy layers to the other side; where that side has layers already, ask whether to copy the dials over or to link both."""
    row, how = character_or_404(pk, request), request.POST.get("how", "")
    if how in ("copy", "link"):
        return show_panel(request, row, layers, services.copy_over(row, layers, how == "link"))
    there = services.other_sides(row, layers)
    if there:
        setup = row.setup
        pairs = [(setup.layer(layer_id), other) for layer_id, other in there.items()]
        context = _context(row, layers) | {"pairs": pairs, "pairs_address": ",".join(there)}
        return render_step(request, row, "motion", "motion/panel.html", context)
    take, ids = services.mirror(row, layers)
    return show_panel(request, row, ids, take)


@require_safe
def volume_facts(request, pk, layer):
    """How a volume comes out, with the size of its cells that is just being tried."""
    facts = services.volume_facts(character_or_404(pk, request), layer, request.GET.get("value") or None)
    return render(request, "motion/volume_facts.html", {"facts": facts})


@require_POST
def start_build(request, pk, layer):
    """Begin to build a conforming solid, stop it, or go back to the lattice."""
    row = character_or_404(pk, request)
    command = request.POST.get("command", "")
    if command == "lattice":
        return show_panel(request, row, [layer], services.unbuild(row, layer))
    if command not in BUILD_COMMANDS:
        raise BadInput(f"expected lattice or one of {', '.join(BUILD_COMMANDS)}, got “{command}”")
    BUILD_COMMANDS[command](row, layer)
    return _build_card(request, row, layer)


@require_safe
def show_build(request, pk, layer):
    return _build_card(request, character_or_404(pk, request), layer, was_open=True)


def _build_card(request, row, layer, was_open=False):
    build = building.latest_build(row, layer)
    response = render(request, "motion/build.html", {"character": row, "chosen": row.setup.layer(layer), "build": build})
    if was_open and build and build.job.state == build.job.State.FINISHED:
        trigger_client_event(response, "setup-restored", {})
        changed(response, row.takes.order_by("-pk").first())
    return response


@require_POST
def bring_over(request, pk):
    """Take over the setup of another character; what found nothing is listed, and joints can be matched by hand."""
    row, sent = character_or_404(pk, request), request.POST
    other = whole_number(sent.get("other", ""))
    by_hand = {old: new for old, new in zip(sent.getlist("old"), sent.getlist("new"), strict=False) if new}
    journey, take = services.bring_over(row, other, by_hand)
    row.refresh_from_db(fields=["current"])
    context = {
        "journey": journey,
        "unsure": services.unsure_picture(row, journey),
        "other_pk": other,
        "matched_joints": sorted(
            ((old, new) for old, new in journey.joints.items() if new != old), key=lambda pair: (bool(pair[1]), pair[0])
        ),
        "own_joints": [node["name"] for node in row.facts["nodes"]],
    }
    return show_panel(request, row, (), take, context)


@require_POST
def set_scene_dial(request, pk):
    row = character_or_404(pk, request)
    take = services.set_scene_dial(row, request.POST.get("dial", ""), request.POST.get("value", ""))
    return show_panel(request, row, request.POST.get("layer", "").split(","), take)


@require_POST
def change_layers(request, pk, layers):
    """Switch, order, rename, duplicate, group, link or remove layers; answers with the panel where the Motion step is open."""
    row, sent = character_or_404(pk, request), request.POST
    take, ids = services.change_layers(row, layers, sent.get("action", ""), sent.get("value", ""))
    shown = sent.get("chosen", "").split(",") if sent.get("chosen") else ids
    return _after(request, row, shown, take)


@require_POST
def switch_all(request, pk):
    row = character_or_404(pk, request)
    take = services.switch_all(row, request.POST.get("on") == "true")
    return _after(request, row, request.POST.get("chosen", "").split(","), take)


def _after(request, row, layer_ids, take):
    """What a change in the list of layers answers: on other steps their panel shows itself anew."""
    if request.htmx.target == "panel":
        return show_panel(request, row, layer_ids, take)
    return trigger_client_event(changed(HttpResponse(status=204), take), "setup-restored", {})


@require_POST
def set_amount(request, pk, layers):
    row = character_or_404(pk, request)
    fields = request.POST
    frames, values = fields.getlist("frame"), fields.getlist("value")
    if "add" in fields:
        frames, values = [*frames, fields.get("new_frame", "")], [*values, fields.get("new_value", "")]
    try:
        keys = {float(frame): float(value) for frame, value in zip(frames, values, strict=True) if frame != fields.get("remove")}
    except ValueError:
        raise BadInput(f"amount: expected numbers for frames and values, got {frames} and {values}") from None
    take = services.set_amount(row, layers, keys or {0.0: 1.0})
    return _after(request, row, layers, take)


@require_POST
def undo(request, pk):
    return _go(request, pk, lambda row: row.undo_version)


@require_POST
def redo(request, pk):
    return _go(request, pk, lambda row: row.redo_version)


def _go(request, pk, version_of):
    """Restore a version; whichever panel is open shows itself anew."""
    row = character_or_404(pk, request)
    take = follow_change(row) if go(row, version_of) else None
    return trigger_client_event(changed(HttpResponse(status=204), take), "setup-restored", {})


@require_POST
def follow(request, pk):
    """Switch whether every change is simulated at once."""
    row = character_or_404(pk, request)
    row.follows_changes = not row.follows_changes
    row.save(update_fields=["follows_changes"])
    return show_panel(request, row, request.POST.get("layer", "").split(","), follow_change(row))


@require_safe
def lattice(request, pk, layer):
    """A volume's lattice for the stage."""
    response = HttpResponse(services.lattice_of(character_or_404(pk, request), layer), content_type="application/octet-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


@require_safe
def export_setup(request, pk):
    row = character_or_404(pk, request)
    name = re.sub(r"[^A-Za-z0-9_-]+", "-", row.name).strip("-") or "character"
    response = HttpResponse(setup_document.dumps(row.setup), content_type="application/json")
    response.headers["Content-Disposition"] = f'attachment; filename="{name}-setup.json"'
    return response


@require_POST
def import_setup(request, pk):
    row = character_or_404(pk, request)
    file = request.FILES.get("file")
    if file is None or file.size > setup_document.LARGEST_DOCUMENT:
        raise BadInput(
            f"expected a setup file of at most {setup_document.LARGEST_DOCUMENT >> 20} MB, got {'none' if file is None else 'a larger one'}"
        )
    return show_panel(request, row, (), services.import_setup(row, file.read()))


@require_safe
def schema(request):
    return HttpResponse(json.dumps(setup_document.json_schema(), indent=2), content_type="application/schema+json")
