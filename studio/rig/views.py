"""The Rig step: what came in, how large it is, and which clip is shown."""

from django.shortcuts import redirect
from django.views.decorators.http import require_POST, require_safe

from studio.characters.pages import changed, character_or_404, chosen_clip, render_step
from studio.characters.rights import Right, needs
from studio.characters.services import joint_tree
from studio.rig import services
from studio.steps import STEPS


@require_safe
def rig(request, pk):
    return _panel(request, character_or_404(pk, request))


def _panel(request, row):
    sides, units = services.sizes(row)
    context = {"tree": joint_tree(row), "sides": sides, "units": units, "clips": services.clip_rates(row), "setup": row.setup}
    return render_step(request, row, "rig", "rig/panel.html", context)


@require_POST
def set_unit(request, pk):
    """Set how long one unit of the file is."""
    row = character_or_404(pk, request)
    take = services.set_unit(row, request.POST.get("metres", ""))
    return changed(_panel(request, row), take)


@require_POST
def use_rate(request, pk):
    """Use the rate that a clip is keyed at."""
    row = character_or_404(pk, request)
    take = services.set_rate(row, request.POST.get("rate", ""))
    return changed(_panel(request, row), take)


@needs(Right.READ)
@require_POST
def choose_clip(request, pk):
    """Make another clip the active one; the page is loaded anew because every part of it speaks of the clip."""
    row, name = character_or_404(pk, request), request.POST.get("clip", "")
    if request.right > Right.READ:
        services.choose_clip(row, name)
    elif not name or row.clip_facts(name):
        request.session[chosen_clip(pk)] = name
    back = request.POST.get("back", "motion")
    return redirect(back if back in [step.slug for step in STEPS] else "motion", pk)
