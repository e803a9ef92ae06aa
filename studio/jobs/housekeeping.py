"""What the worker tidies up while it has nothing else to do: what nothing refers to any more, and the room that it took."""

import time

from django.conf import settings
from django.db import connection

_tasks = []
_last = None
IDLE_SECONDS = 20.0
"""So long after the last time it looks again."""
FREE_PAGES_AT_ONCE = 2000
WORTH_WHOLE = 16 * 2**20
"""A database that was made before room could be given back in steps is packed whole, once, where so many bytes are free."""


def register(task):
    """Let ``task()`` be called; it returns whether it removed anything."""
    _tasks.append(task)


def keep_house(now=None):
    """Tidy up, if it was not just done. True where something was done."""
    global _last
    now = time.monotonic() if now is None else now
    if _last is not None and now - _last < IDLE_SECONDS:
        return False
    _last = now
    for task in _tasks:
        task()
    give_back()
    return True


def give_back():
    """Give free pages back to the file system, and the log's."""
    with connection.cursor() as cursor:
        mode, free, size = (cursor.execute(f"PRAGMA {name}").fetchone()[0] for name in ("auto_vacuum", "freelist_count", "page_size"))
        if mode == 0 and free * size > WORTH_WHOLE:
            cursor.execute("PRAGMA auto_vacuum=INCREMENTAL")
            cursor.execute("VACUUM")
            free = 0
        while free > 0:
            cursor.execute(f"PRAGMA incremental_vacuum({FREE_PAGES_AT_ONCE})").fetchall()
            left = cursor.execute("PRAGMA freelist_count").fetchone()[0]
            if left >= free:
                break
            free = left
        log = settings.DATABASES["default"]["NAME"]
        try:
            is_long = log.with_name(log.name + "-wal").stat().st_size > WORTH_WHOLE
        except (OSError, AttributeError):
            is_long = False
        if is_long:
            cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchall()
