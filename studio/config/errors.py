"""Errors of the core, shown to the artist in plain words."""

from django.shortcuts import render

from quiver.errors import QuiverError


class PlainErrorMiddleware:
    """Turns a QuiverError that a view let through into a message: status 422, nothing saved."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        return self.get_response(request)

    def process_exception(self, request, exception):
        if not isinstance(exception, QuiverError):
            return None
        template = "parts/message.html" if request.headers.get("HX-Request") else "error.html"
        context = {"message": str(exception), "findings": getattr(exception, "findings", [])}
        return render(request, template, context, status=422)
