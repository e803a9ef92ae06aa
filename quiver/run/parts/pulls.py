"""How strongly muscles are pulled, frame by frame: keyed, by joints, by their own length, by each other; mixed and evened out."""

from graphlib import CycleError, TopologicalSorter

import numpy as np

from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.setup.model import between_keys

WIDEST = 3.0
"""A pull is evened out over so many times its smoothing, to either side."""


class Pulls:
    """The pulls of some muscles (setup/model.py) of a character; ``ends`` (Q, 2, 3) [file units] are the middles of what holds their two
    ends in the rest pose, which the nodes (Q, 2) carry. Raises BadInput where muscles pull each other in a circle.
    """

    def __init__(self, character, muscles, ends, nodes, frame_rate):
        self.skeleton, self.muscles, self.nodes, self.rate = character.skeleton, muscles, np.asarray(nodes, int), frame_rate
        rest = rest_matrices(self.skeleton)
        own = rest[self.nodes]
        self.local = np.linalg.solve(own[..., :3], (ends - own[..., 3])[..., None])[..., 0]
        self.lengths = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
        self.order = self._order()

    def _order(self):
        """The muscles in an order in which those that others go by come first."""
        numbers = {muscle.id: at for at, muscle in enumerate(self.muscles)}
        needs = {}
        for at, muscle in enumerate(self.muscles):
            others = [driver.of for driver in muscle.drivers if driver.by == "muscle"]
            unknown = next((other for other in others if other not in numbers), None)
            if unknown is not None:
                raise BadInput(f"{muscle.name}: expected a muscle of its layer to go by, got “{unknown}”")
            needs[at] = {numbers[other] for other in others}
        try:
            return list(TopologicalSorter(needs).static_order())
        except CycleError as error:
            names = ", ".join(f"“{self.muscles[at].name}”" for at in error.args[1])
            raise BadInput(f"muscles pull each other in a circle: {names}. Remove one of these drivers") from error

    def over(self, source, at, end):
        """The pulls (F, Q), 0..1, at frames at..end-1 of a source of poses (run/keyed.py)."""
        widest = int(np.ceil(WIDEST * max((muscle.smoothing for muscle in self.muscles), default=0.0)))
        before = widest if source.knows_ahead else 0
        numbers = np.arange(at - before - 1, end + before)
        pose = source.pose(numbers.astype(float))
        raw = self._raw(numbers, pose, world_matrices(self.skeleton, pose))[1:]
        out = np.empty((end - at, len(self.muscles)))
        for column, muscle in enumerate(self.muscles):
            around = _bell(muscle.smoothing) if before else np.ones(1)
            half = len(around) // 2
            out[:, column] = np.convolve(raw[before - half : len(raw) - before + half, column], around, "valid")
        return np.clip(out, 0.0, 1.0)

    def _raw(self, numbers, pose, world):
        lengths = self._lengths(world)
        out = np.zeros((len(numbers), len(self.muscles)))
        for column in self.order:
            muscle = self.muscles[column]
            total = np.array([between_keys(muscle.keys, number) for number in numbers])
            for driver in muscle.drivers:
                total = total + driver.share * _share(driver, self._value(driver, column, pose, lengths, out))
            out[:, column] = np.clip(total, 0.0, 1.0)
        return out

    def _lengths(self, world):
        """How long the muscles are from end to end (F, Q), against the rest pose."""
        own = world[:, self.nodes]
        places = np.einsum("fqeij,qej->fqei", own[..., :3], self.local) + own[..., 3]
        return np.linalg.norm(places[:, :, 1] - places[:, :, 0], axis=2) / np.maximum(self.lengths, 1e-12)

    def _value(self, driver, column, pose, lengths, pulls):
        """What a driver goes by, (F,), in its unit."""
        if driver.by == "angle":
            return _angles(self.skeleton, pose, self.skeleton.index(driver.of), driver.axis)
        if driver.by == "muscle":
            return pulls[:, next(at for at, muscle in enumerate(self.muscles) if muscle.id == driver.of)]
        shortening = 100.0 * (1.0 - lengths[:, column])
        return shortening if driver.by == "shortening" else np.diff(shortening, prepend=shortening[:1]) * self.rate


def _angles(skeleton, pose, node, axis):
    """How far a joint is turned from its rest [degrees] (F,): in all, or about one of its axes, with a sign."""
    rest = skeleton.rest.rotations[node]
    x, y, z, w = transforms.multiply(transforms.inverse(rest), pose.rotations[:, node]).T
    if axis == "any":
        return np.degrees(2.0 * np.arctan2(np.sqrt(x * x + y * y + z * z), np.abs(w)))
    about = {"x": x, "y": y, "z": z}[axis]
    angle = np.degrees(2.0 * np.arctan2(about, w))
    return (angle + 180.0) % 360.0 - 180.0


def _share(driver, values):
    """How strongly a driver pulls, 0..1, at values (F,)."""
    at = np.clip((values - driver.low) / (driver.high - driver.low), 0.0, 1.0)
    if driver.curve == "early":
        return 1.0 - (1.0 - at) ** 2
    if driver.curve == "late":
        return at * at
    return at * at * (3.0 - 2.0 * at) if driver.curve == "soft" else at


def _bell(frames):
    """Weights around a frame, by a bell curve so many frames wide to either side."""
    half = int(np.ceil(WIDEST * frames))
    if not half:
        return np.ones(1)
    weights = np.exp(-0.5 * (np.arange(-half, half + 1) / frames) ** 2)
    return weights / weights.sum()
