"""Dials: settings in units that a person can see. What several kinds of layers share is declared here, once."""

import math
from dataclasses import dataclass

from quiver.errors import BadInput


@dataclass(frozen=True)
class Dial:
    """A number with a range. ``group`` names the part of the panel it is in; ``words`` gives examples of values, or a special value."""

    name: str
    label: str
    unit: str
    low: float
    high: float
    default: float
    step: float
    group: str
    help: str
    words: str = ""

    is_choice = False

    def checked(self, value):
        """The value as a float within the range. Raises BadInput."""
        if isinstance(value, bool) or not isinstance(value, int | float | str):
            raise BadInput(f"{self.label}: expected a number from {self.low:g} to {self.high:g}, got {value!r}")
        try:
            number = float(value)
        except ValueError:
            number = math.nan
        if not self.low <= number <= self.high:
            unit = f" {self.unit}" if self.unit else ""
            raise BadInput(f"{self.label}: expected a number from {self.low:g} to {self.high:g}{unit}, got “{value}”")
        return number

    @property
    def description(self):
        """One line for the schema and the guide."""
        return " ".join(part for part in (f"{self.label}{f' [{self.unit}]' if self.unit else ''}.", self.help, self.words) if part)


@dataclass(frozen=True)
class Choice:
    """One of a few named options; ``options`` are (value, label) pairs."""

    name: str
    label: str
    options: tuple
    default: str
    group: str
    help: str

    is_choice = True
    unit = words = ""

    def checked(self, value):
        """The value, if it is one of the options. Raises BadInput."""
        known = [option for option, _ in self.options]
        if value not in known:
            raise BadInput(f"{self.label}: expected one of {', '.join(known)}, got {value!r}")
        return value

    @property
    def description(self):
        """One line for the schema and the guide."""
        return f"{self.label}. {self.help}"


def settle_time(default, high=480.0):
    """How long a swing lasts."""
    return Dial(
        "settle_time", "Settle time", "frames", 1.0, high, default, 1.0, "Feel", "Frames until a swing falls below 5 % of its start."
    )


def drag(default=0.0):
    """Resistance of the air."""
    return Dial("drag", "Drag", "% a frame", 0.0, 90.0, default, 0.5, "Feel", "Share of the speed that the air takes in each frame.")


def gravity(default, words=""):
    """Share of the weight."""
    return Dial("gravity", "Gravity share", "%", -200.0, 200.0, default, 5.0, "Feel", "Share of its weight that pulls it down.", words)


def hold_rate(low, default, words=""):
    """Pull towards the keyed motion."""
    help_text = "Frequency of the spring that pulls it to its keyed place."
    return Dial("hold_rate", "Hold rate", "Hz", low, 20.0, default, 0.1, "Hold", help_text, words)


def margin(high, default, help_text, group="Feel", step=0.5):
    """Distance kept beside the surface."""
    return Dial("margin", "Margin", "mm", 0.0, high, default, step, group, help_text)


LOOSENESS = (
    Choice(
        "loose",
        "Loose",
        (("painted", "high influence"), ("inverted", "low influence")),
        "painted",
        "Hold",
        "Inverts the painted influence without repainting.",
    ),
    Dial("hold_gain", "Looseness gain", "x", 0.0, 4.0, 1.0, 0.05, "Hold", "Multiplies the painted influence without repainting."),
    Dial("hold_offset", "Looseness offset", "", -1.0, 1.0, 0.0, 0.05, "Hold", "Adds to the painted influence; -1 holds it everywhere."),
)
"""What a soft layer makes of the painted influence."""

SELF_COLLISION = Choice(
    "self_collision",
    "Self-collision",
    (("off", "off"), ("on", "on")),
    "off",
    "Contact",
    "Keeps parts of it that are not neighbours from crossing. Slower; for what folds a lot.",
)

AMOUNT = Dial("amount", "Amount", "", 0.0, 1.0, 1.0, 0.05, "Amount", "How much of the layer's motion is used; 0 shows the keyed clip.")
