"""What a kind of layer is: everything that the rest of the program knows of it."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from quiver.errors import BadInput

JOINTS, REGION, MUSCLES = "joints", "region", "muscles"
"""What a layer is made of: chains of joints, a region of a mesh, or closed pieces of meshes."""
POSE_FILTER, PART, SKIN_FILTER = "pose_filter", "part", "skin_filter"
"""When a run comes to a layer: before the simulation, in it, or on the finished skin."""
OPTIONAL_FIELDS = ("rides", "built", "other", "form", "leaves_out", "bones", "rests", "fat", "clings")
"""Fields of the document that only some kinds have."""


@dataclass(frozen=True, eq=False)
class LayerKind:
    """A kind of layer.

    name      what the document calls it; label and summary are shown
    made_of   JOINTS, REGION or MUSCLES; picks_many whether one pick is a whole chain (else one joint)
    dials     Dials and Choices in the panel's order; presets {name: {dial: value}}
    fields    which of OPTIONAL_FIELDS its document has
    stage     POSE_FILTER, PART or SKIN_FILTER
    meets     whether it collides; is_soft whether it moves vertices by simulation; rings whether a ring test can measure its dials
    build     (PlanContext, layers of this kind) → units for the schedule (PART) or filters; Raises BadInput
    measures  names of what a take tells of it besides the added motion: "volume", "area", "stretch", "clip", "cost"
    panel     template of the part of the panel above the dials
    begins    (Character, ChainPick) → {dial: value} that a new layer of that pick begins with, where not at the defaults. Raises BadInput
    follows   the kinds whose results it follows
    own_dials dials that one muscle of several may have for itself
    kept_dials dials that belong to one region: copying the feel of another layer leaves them
    """

    name: str
    label: str
    summary: str
    made_of: str
    dials: tuple
    build: Callable
    presets: Mapping = field(default_factory=dict)
    fields: frozenset = frozenset()
    stage: str = PART
    meets: bool = True
    is_soft: bool = False
    picks_many: bool = False
    carries: bool = False
    follows: tuple = ()
    rings: bool = False
    measures: tuple = ()
    panel: str = "motion/kinds/plain.html"
    kept_dials: tuple = ()
    own_dials: tuple = ()
    begins: Callable = lambda character, pick: {}

    @cached_property
    def _by_name(self):
        return {dial.name: dial for dial in self.dials}

    def dial(self, name):
        """The dial of that name. Raises BadInput."""
        if name not in self._by_name:
            raise BadInput(f"expected a dial of the kind “{self.label}”, got “{name}”")
        return self._by_name[name]

    @property
    def defaults(self):
        """All dials at their default, as a dict."""
        return {dial.name: dial.default for dial in self.dials}

    def preset(self, name):
        """All dials as a preset sets them; those that it does not name are at their default. Raises BadInput."""
        if name not in self.presets:
            raise BadInput(f"expected one of {', '.join(self.presets)}, got “{name}”")
        return self.defaults | {dial: self.dial(dial).checked(value) for dial, value in self.presets[name].items()}
