"""What is said when something is refused, or goes wrong on our side: then a code that stands in the log beside the traceback."""

import errno
import logging
import secrets

from django.db import OperationalError
from django.shortcuts import render

log = logging.getLogger(__name__)
NO_ROOM = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


def fault_message(error):
    """Log an error with a code, and say so in words."""
    code = secrets.randbelow(9000) + 1000
    log.error("Code %s", code, exc_info=error)
    return f"Something went wrong on our side; your work is saved. Code {code}"


def is_disk_full(error):
    """Whether an error, of the database or of a file, says that there is no room."""
    if isinstance(error, OSError):
        return error.errno in NO_ROOM
    return isinstance(error, OperationalError) and ("disk is full" in str(error) or "disk I/O error" in str(error))


def is_locked(error):
    """Whether an error of the database says that another one is writing."""
    return isinstance(error, OperationalError) and ("locked" in str(error) or "busy" in str(error))


def told(request, text, status, findings=()):
    """The response that tells why a request was refused, or failed from 500 on: a whole page, or the part that a page of ours shows."""
    template = "parts/message.html" if request.headers.get("HX-Request") else "error.html"
    return render(request, template, {"message": text, "findings": findings, "is_ours": status >= 500}, status=status)
