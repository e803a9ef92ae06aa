"""Which function does which kind of job. Apps register theirs when Django starts."""

_handlers = {}


def register(kind, function):
    """Let ``function(job_id, context)`` do the jobs of a kind."""
    _handlers[kind] = function


def handler_of(kind):
    """The function for a kind of job; KeyError for none, which is a fault of the code."""
    return _handlers[kind]
