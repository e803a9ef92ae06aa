"""A muscle of a setup, ready to be simulated: its shape, what its ends hold, and what it is made of."""

from dataclasses import replace

import numpy as np

from quiver.bodies import attaching, muscle, pieces, volume
from quiver.bodies.made import mesh_name
from quiver.cache import Cache
from quiver.errors import BadInput
from quiver.mesh import regions
from quiver.rig.reposed import reposed

KEPT_SHAPES, KEPT_MUSCLES = 4096, 2048
_shapes, _muscles = Cache(KEPT_SHAPES), Cache(KEPT_MUSCLES)
AWAY = 0.08
"""An end that is farther from its bone, against the muscle's length, is worth a note."""


def resting(character, layer, setup):
    """The Character as it is where the muscles of a layer rest. Raises BadInput where there is no such place."""
    if not layer.rests:
        return character
    clip, frame = layer.rests
    drawn = next((own for own in layer.muscles if own.form), None)
    if drawn:
        raise BadInput(f"“{drawn.name}” was made in the rig's rest pose; muscles that rest in a frame of a clip need a layer of their own")
    return reposed(character, clip, frame / setup.frame_rate)


class BuiltMuscle:
    """A muscle of a setup on a character: its Piece, the Muscle, which nodes hold (N,) and the nodes of the character that carry its ends.

    Raises BadInput where it cannot be one. ``notes`` are remarks on its attachments, in words; the first is on ``noted`` (0 or 1).
    """

    def __init__(self, character, setup, layer, own):
        self.character = character = resting(character, layer, setup)
        self.piece = piece = piece_of(character, setup, layer, own)
        self.own, self.setup = replace(own, mesh=piece.mesh), setup
        self.values, self.noted = layer.values | own.values, None
        if piece.hinders:
            raise BadInput(f"{own.name}: expected a closed piece of “{own.mesh}”, this one is {piece.problems[0]}")
        edge = self.values["cell_size"] / 1000.0
        self.shape = _shapes.get(piece, (edge,), lambda: muscle.shape_of(piece.points, piece.triangles, edge))
        self.notes = []
        ends = (own.origin, own.insertion)
        self.nodes = [attaching.node_of(character, end, own.name) for end in ends]
        # Which of its tips is nearer to what the origin sits on is its origin.
        self.is_turned = self._is_turned()
        self.held = [self._held(end, is_insertion) for is_insertion, end in enumerate(ends)]
        self.held[1] = self.held[1] & ~self.held[0]
        if not self.held[0].any() or not self.held[1].any():
            raise BadInput(f"{own.name}: expected a muscle with two ends, its origin and insertion hold the same place")
        self.places = np.array([self.shape.lattice.nodes[held].mean(0) for held in self.held])

    @property
    def spot(self):
        """The vertex of its mesh at which there is something to see: what is wrong with it, else its middle."""
        if self.piece.problems or self.noted is None:
            return self.piece.spot
        return int(self.piece.vertices[np.linalg.norm(self.piece.points - self.places[self.noted], axis=1).argmin()])

    def _distances(self, end):
        return (
            attaching.distances_to(self.character, end, self.shape.lattice.nodes / self.setup.metres_per_unit) * self.setup.metres_per_unit
        )

    def _is_turned(self):
        origin, insertion = (self._distances(end) for end in (self.own.origin, self.own.insertion))
        first, second = self.shape.along < muscle.CAP, self.shape.along > 1.0 - muscle.CAP
        straight = origin[first].mean() + insertion[second].mean()
        return bool(origin[second].mean() + insertion[first].mean() < straight)

    def _held(self, end, is_insertion):
        if end.region:
            region = self.setup.region(end.region)
            mesh, levels = self.character.painted(region)
            if region.mesh != self.own.mesh:
                raise BadInput(
                    f"{self.own.name}: expected a region of “{self.own.mesh}” for an attachment, “{region.name}” is of “{mesh.name}”"
                )
            chosen = regions.is_in(levels)[self.piece.vertices]
            if not chosen.any():
                raise BadInput(f"{self.own.name}: expected “{region.name}” to hold some of its vertices, it holds none")
            held = np.zeros(len(self.shape.along), bool)
            held[np.unique(self.shape.lattice.corners[chosen[self.shape.lattice.vertices]])] = True
            return held
        distances = self._distances(end)
        held, was_near = muscle.attached(self.shape, bool(is_insertion) != self.is_turned, distances, end.reach / 1000.0)
        away = float(distances[held].min())
        if end.bone and was_near and away > AWAY * self.piece.length:
            which = "insertion" if is_insertion else "origin"
            self._note(is_insertion, f"its {which} is {1000.0 * away:.0f} mm from “{end.bone}” in the rest pose")
        if not was_near:
            near = f"nothing of it is within {end.reach:g} mm of “{end.bone or end.joint}”"
            self._note(is_insertion, f"{near}, the nearest is {1000.0 * float(distances.min()):.0f} mm away; its tip is held")
        return held

    def _note(self, end, words):
        self.noted = int(end) if self.noted is None else self.noted
        self.notes.append(f"{self.own.name}: {words}")

    @property
    def line(self):
        """Points of its middle line (FRAMES, 3) [m] at which the field from its origin to its insertion is even."""
        return muscle.line_of(self.shape, self.built().between, attaching.FRAMES)

    def built(self):
        """The Muscle, kept."""
        value = self.values
        springs = np.full(len(self.shape.along), _square(value["hold_rate"]))
        for held, end in zip(self.held, (self.own.origin, self.own.insertion), strict=True):
            springs[held] = _square(end.firmness)
        square = _square(value["wobble_rate"]) if springs.any() else 0.0
        dials = muscle.MuscleDials(
            density=volume.DENSITY * value["weight"] / 100.0,
            volume_keep=value["volume_keep"] / 100.0,
            along=100.0 / value["across"],
            shortest=value["shortening"] / 100.0,
            firmer=value["firmer"] / 100.0,
            tendon=value["tendon"] / 100.0,
        )
        known_by = (dials, self.held[0].tobytes(), self.held[1].tobytes(), springs.tobytes(), square)
        return _muscles.get(self.shape, known_by, lambda: muscle.build(self.shape, *self.held, springs, dials, square))


def _square(rate):
    """The square of a rate [Hz] as [1/s2]."""
    return (2.0 * np.pi * rate) ** 2


def piece_of(character, setup, layer, own):
    """The Piece that a muscle of a setup is made of. Raises BadInput."""
    # What is made by hand is a mesh of its own, which the plan has added.
    mesh, at = (mesh_name(layer.id, own.id), 0) if own.form else (own.mesh, own.at)
    for piece in pieces.pieces_of(character, mesh, setup.metres_per_unit):
        if at in piece.vertices:
            return piece
    raise BadInput(f"{own.name}: expected a vertex of “{mesh}”, got number {at}")
