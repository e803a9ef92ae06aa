"""Which function does which kind of job. Apps register theirs when Django starts."""

_handlers = {}
_beside, _places, _ends, _forgets = set(), [], [], []


def register(kind, function):
    """Let ``function(job_id, context)`` do the jobs of a kind."""
    _handlers[kind] = function


def handler_of(kind):
    """The function for a kind of job; KeyError for none, which is a fault of the code."""
    return _handlers[kind]


def compute_elsewhere(kinds, places, end):
    """Let jobs of some kinds compute on other machines; ``places()`` says how many may run beside each other, 0 where they run here, and
    ``end()`` is called when the worker ends.
    """
    _beside.update(kinds)
    _places.append(places)
    _ends.append(end)


def keep_parts(forget):
    """``forget()`` lets go of what this process keeps for later jobs."""
    _forgets.append(forget)


def forget_parts():
    """Let go of all that is kept for later jobs."""
    for forget in _forgets:
        forget()


def kinds_beside():
    """The kinds of jobs that may run beside each other."""
    return _beside


def places():
    """How many of those may; 0 where all jobs run here, one after another."""
    return sum(places() for places in _places)


def end():
    """The worker ends."""
    for each in _ends:
        each()


def all_kinds():
    """All kinds of jobs that there are."""
    return set(_handlers)
