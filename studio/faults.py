"""What is said when something goes wrong on our side: a code that stands in the log beside the traceback."""

import logging
import secrets

log = logging.getLogger(__name__)


def fault_message(error):
    """Log an error with a code, and say so in words."""
    code = secrets.randbelow(9000) + 1000
    log.error("Code %s", code, exc_info=error)
    return f"Something went wrong on our side; your work is saved. Code {code}"


def is_disk_full(error):
    """Whether a database error says that there is no room."""
    return "disk is full" in str(error) or "disk I/O error" in str(error)


def is_locked(error):
    """Whether a database error says that another one is writing."""
    return "locked" in str(error) or "busy" in str(error)
