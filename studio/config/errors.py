"""Errors, shown to the artist in plain words."""

import logging

from django.core.exceptions import BadRequest, PermissionDenied, SuspiciousOperation
from django.http import Http404

from quiver.errors import QuiverError
from studio.faults import fault_message, is_disk_full, is_locked, told

log = logging.getLogger(__name__)
LOCKED = "The database is busy, so this was not saved. Try again in a moment."
FULL = "The disk is full, so this was not saved. Free some space, then try again."


class PlainErrorMiddleware:
    """Turns what a view let through into a message: status 422 for what the core refused, 503 for a database that was locked, 507
    for a full disk, 500 with a code for a fault of ours. Nothing was saved.
    """

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        return self.get_response(request)

    def process_exception(self, request, exception):
        if isinstance(exception, QuiverError):
            return told(request, str(exception), 422, getattr(exception, "findings", []))
        if is_locked(exception) or is_disk_full(exception):
            log.error("Not saved: %s", exception)
            return told(request, FULL, 507) if is_disk_full(exception) else told(request, LOCKED, 503)
        if isinstance(exception, Http404 | PermissionDenied | SuspiciousOperation | BadRequest):
            return None
        return told(request, fault_message(exception), 500)
