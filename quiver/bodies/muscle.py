"""Muscles as solids: tetrahedra in a closed piece, its two ends, its fibres, and several of them as one body."""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from quiver.bodies import fibres as fibre
from quiver.bodies import lattice as lattices
from quiver.bodies import volume
from quiver.mesh.topology import faces_of_tets

USUAL_CELLS = 20.0
"""Cells that a muscle's volume makes where the artist leaves their size to us: with those that its surface cuts, about 600 tetrahedra."""
CAP = 0.08
"""Where nobody says how far an attachment reaches, it takes so much of the muscle's length."""
ROUNDS, CLOSE, SOFTEST, STIFFEST = 8, 0.005, 0.02, 4.0
"""Rounds in which the modulus of a muscle on springs is found, how near its squared rate comes to what was asked for, and the least and
most that the modulus is against that of one that is held fast."""
HALF, LEAST_FILLED = 0.5, 0.02
"""An end holds nothing beyond the muscle's middle; what lies outside of it counts so much, that nothing is cut off."""
RAMP, STEPS = 0.08, 25
"""Over so much of its length a muscle goes over into its tendon; points of its middle line."""


@dataclass(frozen=True, eq=False)
class MuscleShape:
    """What a closed piece gives, whatever the dials say: its Lattice, how much of each tetrahedron is inside (T,), and how far along the
    muscle each node is (N,), 0 at the one tip and 1 at the other; its middle line (STEPS, 3) [m].
    """

    lattice: lattices.Lattice
    filled: np.ndarray
    along: np.ndarray
    line: np.ndarray

    @cached_property
    def surface(self):
        """Faces int32 (F, 3) and by which share each counts (F,), so that the volume between them is what is inside of the muscle."""
        made = self.lattice
        faces, filled = faces_of_tets(made.nodes, made.tets), np.repeat(self.filled, 4)
        keys, first, inverse = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_inverse=True)
        # Of two that share a face, one looks at it from the other side.
        sides = np.where(np.arange(len(faces)) == first[inverse.reshape(-1)], 1.0, -1.0)
        shares = np.bincount(inverse.reshape(-1), sides * filled, len(keys))
        kept = np.abs(shares) > 1e-9
        return faces[first][kept], shares[kept]


def shape_of(points, triangles, edge=0.0):
    """The MuscleShape of a closed surface: points (V, 3) [m], triangles (F, 3); ``edge`` of its cells [m], 0 for ours. Raises BadInput."""
    middle = points.mean(0)
    a, b, c = (points[triangles[:, k]] - middle for k in range(3))
    inside = abs(float(np.einsum("fk,fk->f", a, np.cross(b, c)).sum() / 6.0))
    everything = np.ones(len(points), bool)
    made = lattices.build(points, triangles, everything, edge or (inside / USUAL_CELLS) ** (1 / 3), is_cut=True)
    filled = np.maximum(made.filled, LEAST_FILLED)
    # In all just what is inside.
    volumes = np.abs(np.linalg.det(made.nodes[made.tets[:, 1:]] - made.nodes[made.tets[:, :1]])) / 6.0
    filled = filled * (inside / float(filled @ volumes))
    along, line = _along(made, filled)
    return MuscleShape(made, filled, along, line)


def _along(made, filled):
    """How far along the muscle nodes are, 0 at the one tip and 1 at the other, and its middle line (STEPS, 3).

    Its slowest even field, which is a cosine along a bar, says what lies abreast, however it is bent (Fiedler 1973); the way through the
    middles of that says how far it is.
    """
    field = fibre.slowest(made.nodes, made.tets, filled)
    at_skin = np.einsum("rc,rc->r", made.corner_weights, field[made.corners])
    low, high = at_skin.min(), at_skin.max()
    abreast = np.arccos(np.clip(1.0 - 2.0 * (field - low) / max(high - low, 1e-12), -1.0, 1.0)) / np.pi
    middles = made.nodes[made.tets].mean(1)
    volumes = filled * np.abs(np.linalg.det(made.nodes[made.tets[:, 1:]] - made.nodes[made.tets[:, :1]]))
    # Each step of the line is the middle of what lies around it, weighted by how near that is.
    steps, at = np.linspace(0.0, 1.0, STEPS), abreast[made.tets].mean(1)
    shares = volumes * np.exp(-0.5 * ((at - steps[:, None]) * STEPS) ** 2)
    line = shares @ middles / np.maximum(shares.sum(1), 1e-300)[:, None]
    ways = np.linalg.norm(np.diff(line, axis=0), axis=1)
    passed = np.concatenate([[0.0], np.cumsum(ways)]) / max(float(ways.sum()), 1e-12)
    return np.interp(abreast, steps, passed), line


def attached(shape, is_second, distances=None, reach=0.0):
    """Which nodes (N,) one end holds: of its half of the muscle those at most ``reach`` [m] from what it is attached to, ``distances`` (N,)
    away; without a reach, or where nothing is as near, those of its tip. Returns them, and whether something was near.
    """
    along = 1.0 - shape.along if is_second else shape.along
    if reach > 0.0:
        near = (distances <= reach) & (along < HALF)
        if near.any():
            return near, True
    cap = along <= max(CAP, np.sort(along)[min(3, len(along) - 1)])
    return cap, reach <= 0.0


@dataclass(frozen=True)
class MuscleDials:
    """What an artist sets of one muscle, as plain numbers: shares, but for the density [kg/m3].

    along how stiff it is along its fibres against across; shortest by how much a full pull shortens them, firmer by how much it stiffens
    tendon the share of its length at each end that does not pull
    """

    density: float
    volume_keep: float
    along: float
    shortest: float
    firmer: float
    tendon: float


@dataclass(frozen=True, eq=False)
class Muscle:
    """One muscle, ready to be simulated: its shape, the VolumeBody for a Young's modulus of one, its fibres (T, 3) in the rest pose, and
    how far its nodes are from what its origin holds, 0, to what its insertion does, 1 (N,). ``square`` [1/s2] is the squared rate at which
    it swings: what was asked for, unless the springs that hold it are too soft or too hard for that.
    """

    shape: MuscleShape
    body: volume.VolumeBody
    directions: np.ndarray
    between: np.ndarray
    square: float


def build(shape, is_origin, is_insertion, springs, dials, square=0.0):
    """The Muscle of a shape that is held where ``is_origin`` or ``is_insertion`` (N,), fast or by springs (N,) [1/s2], 0 for fast; springs
    elsewhere draw it to its keyed place. ``square`` [1/s2] is the squared rate at which its slowest mode is to swing with them.

    Springs of an end are given as what the whole would swing by on them, were it rigid. Raises BadInput.
    """
    made = shape.lattice
    field = fibre.harmonic(made.nodes, made.tets, shape.filled, is_origin, is_insertion)
    ends = np.array([made.nodes[is_origin].mean(0), made.nodes[is_insertion].mean(0)])
    line = ends[1] - ends[0]
    line = line / max(float(np.linalg.norm(line)), 1e-12)
    directions = fibre.directions(made.nodes, made.tets, field, shape.filled, is_origin | is_insertion, line)
    along = shape.along[made.tets].mean(1)
    to_tip = np.minimum(along, 1.0 - along)
    pulling = np.clip((to_tip - dials.tendon) / RAMP + HALF, 0.0, 1.0) if dials.tendon > 0.0 else np.ones(len(along))
    held = is_origin | is_insertion
    holds = np.where(held & (springs <= 0.0), 1.0, 0.0)
    grain = volume.Grain(directions, pulling, dials.along, dials.firmer, dials.shortest)

    def with_springs(values, holds):
        return volume.body_of(made, dials.density, holds, values, dials.volume_keep, shape.filled, grain, shape.surface)

    body = with_springs(np.zeros(len(springs)), held.astype(float))
    if (springs > 0.0).any() and body.lowest > 0.0:
        springs = np.where(held, springs * body.masses.sum() / body.masses[held].sum(), springs)
        # Springs are what they are, whatever the flesh is: its modulus is found that gives the rate with both.
        asked, fast = square, square / body.lowest
        young = fast
        for _ in range(ROUNDS):
            body = with_springs(springs / young, holds)
            square = body.lowest * young
            if abs(square - asked) < CLOSE * asked or body.lowest <= 0.0:
                break
            young = np.clip(asked / body.lowest, SOFTEST * fast, STIFFEST * fast)
    return Muscle(shape, body, directions, _between(shape.along, is_origin, is_insertion), square)


def _between(along, is_origin, is_insertion):
    """How far nodes are from the origin, 0, to the insertion, 1, by how far along the muscle (N,) they are."""
    if np.median(along[is_origin]) > np.median(along[is_insertion]):
        along = 1.0 - along
    begin, end = np.quantile(along[is_origin], 0.9), np.quantile(along[is_insertion], 0.1)
    share = np.clip((along - begin) / max(end - begin, 1e-6), 0.0, 1.0)
    return np.where(is_origin, 0.0, np.where(is_insertion, 1.0, share))


def line_of(shape, between, count):
    """So many points (count, 3) [m] in the middle of what lies abreast, evenly spaced in ``between`` (N,), as a Muscle has it."""
    made = shape.lattice
    middles, at = made.nodes[made.tets].mean(1), between[made.tets].mean(1)
    volumes = shape.filled * np.abs(np.linalg.det(made.nodes[made.tets[:, 1:]] - made.nodes[made.tets[:, :1]]))
    steps = np.linspace(0.0, 1.0, count)
    shares = volumes * np.exp(-0.5 * ((at - steps[:, None]) * 2.0 * count) ** 2)
    return shares @ middles / np.maximum(shares.sum(1), 1e-300)[:, None]


@dataclass(frozen=True)
class MusclesBody(volume.VolumeBody):
    """Several muscles as one body of which each is a piece, with their stiffness in it: for a Young's modulus of one."""

    def ratios(self, count):
        """As `VolumeBody.ratios`."""
        firsts = np.unique(self.muscle_of_tet, return_index=True)[1]
        return (self.shear / self.bulk)[firsts]

    muscle_of_tet: np.ndarray | None = None


def surfaces_of(muscles):
    """The surfaces of Muscles that follow each other in one solid, as `solid_model` takes them: faces (F, 3), where those of each begin
    (Q + 1,), and by which share each counts (F,): as much as more of what lies behind it is inside than of what lies before it.
    """
    faces, shares, counts, begin = [], [], [], 0
    for each in muscles:
        own, weights = each.shape.surface
        faces.append(own + begin)
        shares.append(weights)
        counts.append(len(own))
        begin += len(each.between)
    return np.concatenate(faces).astype(np.int32), np.cumsum([0, *counts]).astype(np.int64), np.concatenate(shares)


def joined(muscles, youngs):
    """(Lattice, MusclesBody, nodes' numbers [(N,)]) of Muscles whose Young's moduli are (Q,) [Pa], one after another.

    The Lattice has no vertices; the numbers say where each muscle's own nodes went.
    """
    counts = np.array([len(each.body.masses) for each in muscles])
    begins = np.cumsum([0, *counts])
    numbers = [begin + np.arange(count) for begin, count in zip(begins, counts, strict=False)]
    bodies = [each.body for each in muscles]
    tets = np.concatenate([each.shape.lattice.tets + begin for each, begin in zip(muscles, begins, strict=False)]).astype(np.int32)
    sizes = [len(each.shape.lattice.tets) for each in muscles]
    of_tet = np.repeat(np.arange(len(muscles)), sizes)

    def of_tets(values):
        return np.concatenate([np.broadcast_to(value, size) for value, size in zip(values, sizes, strict=True)])

    def all_of(name):
        return np.concatenate([getattr(body, name) for body in bodies])

    parts = [body.fibres for body in bodies]
    fibres = volume.Fibres(
        *(np.concatenate([getattr(part, name) for part in parts]) for name in ("gram", "metric", "rows", "firmer", "shortest")),
        max(part.stiffest for part in parts),
    )
    pieces = np.repeat(np.arange(len(muscles)), counts)
    body = MusclesBody(
        nodes=all_of("nodes"),
        density=bodies[0].density,
        masses=all_of("masses"),
        holds=all_of("holds"),
        springs=np.concatenate([body.springs * young for body, young in zip(bodies, youngs, strict=True)]),
        volumes=all_of("volumes"),
        gram=all_of("gram"),
        metric=all_of("metric"),
        sixfold=all_of("sixfold"),
        shear=of_tets([body.shear * young for body, young in zip(bodies, youngs, strict=True)]),
        bulk=of_tets([body.bulk * young for body, young in zip(bodies, youngs, strict=True)]),
        pieces=pieces,
        keeping=np.array([body.keeping * young for body, young in zip(bodies, youngs, strict=True)]),
        lowest=0.0,
        mode=np.zeros((int(begins[-1]), 3)),
        fibres=fibres,
        muscle_of_tet=of_tet,
    )
    first = muscles[0].shape.lattice
    none = np.zeros((0, 4))
    made = replace(
        first,
        nodes=body.nodes,
        tets=tets,
        is_inner=np.zeros(len(body.nodes), bool),
        vertices=np.zeros(0, int),
        corners=none.astype(np.int32),
        corner_weights=none,
        is_thin=np.zeros(0, bool),
        pieces=pieces,
        edge=min(each.shape.lattice.edge for each in muscles),
    )
    return made, body, numbers
