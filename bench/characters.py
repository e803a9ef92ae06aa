"""Whom the benchmark simulates."""

from dataclasses import replace

from quiver.demo import mudwick
from quiver.formats.gltf.reading import read_character

FLESH = ("muscle", "tissue")


def mudwick_as_shipped():
    """(Character, Setup) of Mudwick with all that he carries."""
    glb, setup = mudwick.build()
    return read_character(glb, "Mudwick")[0], setup


def mudwick_without_flesh():
    """The same without muscles and the tissue over them, which have rows of their own."""
    character, setup = mudwick_as_shipped()
    return character, replace(setup, layers=tuple(layer for layer in setup.layers if layer.kind not in FLESH))
