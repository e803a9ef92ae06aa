"""What can go wrong, said so that an artist can act on it: what was expected and what came."""

from dataclasses import asdict, dataclass


class QuiverError(Exception):
    """The root of all errors this package raises on purpose."""


class BadInput(QuiverError):
    """A value, name or choice that cannot be used; the message says what was expected and what came."""


class BadFormat(QuiverError):
    """A file that cannot be used. ``findings`` lists everything that was found, not only the first fault."""

    def __init__(self, message, findings=()):
        super().__init__(message)
        self.findings = list(findings)


class Unstable(QuiverError):
    """A run left the numbers that make sense; says the frame and the layer."""

    def __init__(self, layer, frame, reason):
        super().__init__(f"layer “{layer}” stopped at frame {frame}: {reason}")
        self.layer, self.frame, self.reason = layer, frame, reason


@dataclass(frozen=True)
class Finding:
    """One remark about an input. ``level`` is "refused", "warning" or "note"; ``id`` is stable and can be searched for."""

    level: str
    message: str
    hint: str
    where: str
    id: str

    def as_dict(self):
        return asdict(self)
