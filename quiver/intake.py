"""What is kept of a file that is brought in, and reading one that may be hostile within bounds of memory and time."""

import io
import resource

from PIL import Image

from quiver.errors import BadFormat
from quiver.facts import facts_of, likely_frame_rate, likely_metres_per_unit
from quiver.formats.gltf.reading import read_character
from quiver.picture import picture
from quiver.setup.model import FRAME_RATE

MOST_BYTES, MOST_SECONDS = 4 * 2**30, 120
"""Bounds of a process that reads one file: address space, and seconds of a processor."""


def kept_of(character):
    """What the app keeps of a Character beside its file: "facts", "findings", the likely "metres_per_unit" and "frame_rate" [1/s], and the
    "picture", a PNG in bytes.
    """
    image = io.BytesIO()
    Image.fromarray(picture(character)).save(image, "PNG", optimize=True)
    return {
        "facts": facts_of(character),
        "findings": [finding.as_dict() for finding in character.findings],
        "metres_per_unit": likely_metres_per_unit(character),
        "frame_rate": likely_frame_rate(character, FRAME_RATE.default),
        "picture": image.getvalue(),
    }


def read_within_bounds(path, name):
    """`kept_of` a file (a Path), read by this process alone, which is bound from now on. Raises BadFormat, also where memory is short."""
    resource.setrlimit(resource.RLIMIT_AS, (MOST_BYTES, MOST_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (MOST_SECONDS, MOST_SECONDS))
    try:
        character, _ = read_character(path.read_bytes(), name)
        return kept_of(character)
    except MemoryError:
        raise BadFormat(f"the file needs more than {MOST_BYTES >> 30} GB of memory to be read", []) from None
