"""One view serves a step's full page or, to htmx, the panel with the step bar."""

from django.shortcuts import get_object_or_404, render

from studio.characters.models import Character
from studio.steps import STEPS, step


def character_or_404(pk):
    """The character with its current setup version."""
    return get_object_or_404(Character.objects.select_related("current", "current__parent"), pk=pk)


def render_step(request, row, slug, panel, context=None, status=200):
    """A step's page: everything, or only its panel where htmx asks for it."""
    context = {"character": row, "steps": STEPS, "step": step(slug), "panel": panel, **(context or {})}
    template = "parts/panel_swap.html" if request.htmx and not request.htmx.history_restore_request else "step.html"
    return render(request, template, context, status=status)
