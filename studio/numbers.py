"""Numbers that come in as texts, from addresses, headers and forms."""

MOST_DIGITS = 15
"""What is longer is no number of ours, and too large for the database."""


def whole_number(text):
    """The whole number, 0 or more, that a text of plain digits writes; None where it is anything else."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= MOST_DIGITS else None
