"""What a take depends on, and what comes out of it."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

MOST_FRAMES = 100_000


@dataclass(frozen=True)
class TakeSpec:
    """All that a take depends on. Frames count from the clip's start at the setup's frame rate; both ends are included.

    A take of a range is a window onto the take of the whole clip: it shows the same motion.
    """

    character: object
    setup: object
    clip_name: str
    first_frame: int = 0
    last_frame: int | None = None


@dataclass(frozen=True)
class TakeChunk:
    """F frames of a take. K driven nodes, M shifted nodes, L layers that are on (and the whole skin, where it is measured).

    rotations     float32 (F, K, 4) local x y z w; translations float32 (F, M, 3) [file units]
    offsets       float32 (F, R, 3) world-space moves of the plan's moved vertices [file units]
    added         float32 (F, L) the most a layer moved any of its points [m]
    measures      {layer id: {name: (F, ...)}}: "volume", "area" and "stretch" [%]; "clip" and "keyed_clip" [m], how deep its skin is in
                  what it meets; "deepest" (F, 2) mesh and vertex of the first
    costs         {layer id: milliseconds for one frame}, of layers that were simulated alone
    cost_ms       milliseconds spent on one of these frames, on average
    """

    first_frame: int
    rotations: np.ndarray
    translations: np.ndarray
    offsets: np.ndarray
    added: np.ndarray
    measures: Mapping
    costs: Mapping
    cost_ms: float

    def part(self, first, end):
        """The TakeChunk of some of its frames, first..end-1."""
        own = slice(first - self.first_frame, end - self.first_frame)
        arrays = {name: getattr(self, name)[own] for name in ("rotations", "translations", "offsets", "added")}
        measures = {layer: {name: values[own] for name, values in found.items()} for layer, found in self.measures.items()}
        return replace(self, first_frame=first, **arrays, measures=measures)
