"""What an opened page may ask for next, made ready by the worker while it has nothing else to do."""

from quiver.errors import QuiverError

_tasks, _opened = [], {}


def register(task):
    """Let ``task(character)`` make ready what a page of a character, by its number, may ask for."""
    _tasks.append(task)


def opened_here(character):
    """In the worker: a page of a character was opened."""
    _opened.pop(character, None)
    _opened[character] = True


def make_ready():
    """Make ready what the page that was opened last may ask for. False where no page is left."""
    if not _opened:
        return False
    character = _opened.popitem()[0]
    for task in _tasks:
        try:
            task(character)
        except QuiverError:
            # Whoever asks for it is told.
            continue
    return True
