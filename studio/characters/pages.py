"""One view serves a step's full page or, to htmx, the panel with the step bar."""

import json

from django.shortcuts import get_object_or_404, render
from django_htmx.http import trigger_client_event

from quiver.errors import BadInput
from studio.characters.models import Character
from studio.characters.rights import Right, person_of
from studio.numbers import whole_number
from studio.steps import STEPS, step


def character_or_404(pk, request=None):
    """The character with its current setup version; of a request, also which page it comes from, which version that page shows, and for
    whom: who may only look has a clip of their own choice.
    """
    row = get_object_or_404(Character.objects.select_related("current", "current__parent").defer("picture"), pk=pk)
    if request is not None:
        row.tab, row.seen_version = request.headers.get("X-Tab", "")[:40], whole_number(request.headers.get("X-Setup-Version", ""))
        row.person = person_of(request)
        if request.right == Right.READ:
            row.active_clip = request.session.get(chosen_clip(pk), row.active_clip)
    return row


def chosen_clip(pk):
    """Under what the session keeps which clip of a character somebody looks at who may only look."""
    return f"clip-{pk}"


def render_step(request, row, slug, panel, context=None, status=200):
    """A step's page: everything, or only its panel where htmx asks for it."""
    context = {"character": row, "steps": STEPS, "step": step(slug), "panel": panel, **(context or {})}
    template = "parts/panel_swap.html" if request.htmx and not request.htmx.history_restore_request else "step.html"
    return render(request, template, context, status=status)


def changed(response, take=None):
    """Tell the page that asked that the setup, or what the stage shows, is another now; and which take runs or shows it, if one does."""
    return trigger_client_event(response, "setup-changed", {"take": take.pk if take else None})


def sent_object(request, what):
    """The JSON object that the stage sent as ``what``. Raises BadInput."""
    try:
        sent = json.loads(request.body)
    except ValueError as error:
        raise BadInput(f"expected {what} as JSON, could not read it: {error}") from error
    if not isinstance(sent, dict):
        raise BadInput(f"expected {what} as an object")
    return sent
