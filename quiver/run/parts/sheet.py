"""Sheets in a run: soft surfaces such as garments, fins and flaps."""

import numpy as np
from scipy import sparse

from quiver.bodies import chain as swing
from quiver.contact.own import FoldContacts
from quiver.errors import BadInput
from quiver.rig import transforms
from quiver.rig.skinning import skinned_through, subset
from quiver.run.measures.area_change import SheetMeasure
from quiver.run.parts.soft_body import SoftBody
from quiver.run.parts.sources import form_part_of, proxy_part_of, sheet_part_of
from quiver.sim import sheet as solver
from quiver.sim.bounds import MOST_PER_STEP

PROXY_DIALS = ("made_of", "proxy_triangles", "proxy_smooth", "proxy_offset")
"""Dials that say what is simulated in place of the mesh."""
BODY_DIALS = ("loose", "hold_gain", "hold_offset", "give", "bending_length", "hold_rate")
CLOTH_RATE, LOOK_RATE = 96.0, 48.0
"""Substeps a second that a sheet takes itself, at least: 4 a frame at 24, each of which answers all forces; and how often what it meets is
looked up. So the same moments are met at 12, 24 and 48 frames a second."""


def units(context, layers):
    """A Sheet for each of some layers. Raises BadInput where one cannot be built."""
    return [Sheet(context.character, layer, context.setup, context.notes) for layer in layers]


class Sheet(SoftBody):
    """One layer of the kind sheet in a run."""

    solver, nothing_of_itself = solver, solver.NO_FOLDS

    def __init__(self, character, layer, setup, notes):
        super().__init__(character, layer, setup)
        self.part = _part_of(character, layer, self.region, self.scale)
        self.body, loose = self.part.body(*(layer.value(name) for name in BODY_DIALS))
        self.blend = self.part.fade
        if loose:
            notes.append(f"{layer.name}: nothing holds {'one piece' if loose == 1 else f'{loose} pieces'} of it, so it falls")

    def substep_rate(self):
        """As `Unit.substep_rate`."""
        return CLOTH_RATE

    def own_steps(self):
        """As `Unit.own_steps`: whole ones between two looks."""
        frame_rate = self.setup.frame_rate
        self.looks = max(1, round(LOOK_RATE / frame_rate))
        return self.looks * max(1, int(np.ceil(CLOTH_RATE / frame_rate / self.looks - 1e-6)))

    def _own_contacts(self, thickness):
        """The FoldContacts that keep its folds apart, where the dial says so; else None."""
        if self.layer.value("self_collision") != "on":
            return None
        return FoldContacts(self.part.lattice.nodes, self.part.triangles, self.body.edges, thickness)

    def compile(self, substeps, notes):
        """Make the model for so many substeps a frame, of which it takes every few as one."""
        value, own = self.layer.value, self.own_steps()
        self.stride = substeps // own
        dt = 1.0 / (own * self.setup.frame_rate)
        _, damping_factor = swing.matched(0.0, self.settle_seconds, dt)
        drag_factor = (1.0 - min(value("drag") / 100.0, 0.99)) ** (dt * self.setup.frame_rate)
        self.self_contact = self._own_contacts(value("thickness") / 1000.0)
        self.measure = SheetMeasure(self.part.lattice.nodes, self.part.triangles, self.body.edges)
        limits = {"damping_factor": damping_factor, "drag_factor": drag_factor, "speed_limit": MOST_PER_STEP * self.size() / dt}
        self.model = solver.sheet_model(self.body, dt, value("give") / 100.0, **limits)

    def _pull(self, turned):
        down = np.array([0.0, -self.layer.value("gravity") / 100.0 * swing.GRAVITY, 0.0])
        pressure = self.layer.value("pressure") / 100.0 * swing.GRAVITY
        return down + pressure * self._normals() if pressure else down

    def _normals(self):
        """Where its outside looks, at each particle (N, 3), as it stands."""
        positions, faces = self.state.positions, self.part.triangles
        across = np.cross(positions[faces[:, 1]] - positions[faces[:, 0]], positions[faces[:, 2]] - positions[faces[:, 0]])
        out = np.zeros_like(positions)
        for corner in range(3):
            np.add.at(out, faces[:, corner], across)
        return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-30)

    def _besides(self):
        """A proxy's frames (F, R, 3) [file units]: what turning does to the vertices that lie off it."""
        if not self.part.is_proxy:
            return {}
        part, (world, keyed) = self.part, self.ends
        made = part.lattice
        skin = self.scale * skinned_through(subset(part.mesh, made.vertices), world)
        arms = skin - np.einsum("rc,frck->frk", made.corner_weights, keyed[:, made.corners])
        rotations = rotations_of(part.triangles, keyed, keyed + self.moves[1:])
        blended = transforms.normalised(np.einsum("rc,frck->frk", made.corner_weights, _alike(rotations[:, made.corners])))
        return {"turned": (transforms.rotate(blended, arms) - arms) / self.scale}

    def _own_offsets(self, outputs, amounts):
        # What lies off a proxy turns along with it.
        moved = super()._own_offsets(outputs, amounts)
        return moved + outputs["turned"] * self.blend[:, None] * amounts[:, None, None] if "turned" in outputs else moved

    def measures(self, outputs):
        """As `Part.measures`: change of area and greatest stretch [%], and both as keyed."""
        return self._measured(outputs, "area")

    def _surface(self):
        nodes = self.part.lattice.nodes
        free = np.flatnonzero(self.body.is_free)
        corners, corner_weights = np.repeat(free[:, None], 4, 1), np.tile([1.0, 0.0, 0.0, 0.0], (len(free), 1))
        return nodes[free], corners, corner_weights, 0.5 * self.layer.value("thickness") / 1000.0


def _part_of(character, layer, region, scale):
    """What the region gives to the sheet, by its mesh or by a proxy. Raises BadInput."""
    made_of, triangles, smooth, offset = (layer.value(name) for name in PROXY_DIALS)
    if made_of == "mesh":
        return sheet_part_of(character, region, scale)
    if made_of == "form":
        if layer.form is None:
            raise BadInput(f"{layer.name}: is made of a placed shape, but none is placed; place one, or make it of the mesh")
        return form_part_of(character, region, scale, layer.form, triangles)
    return proxy_part_of(character, region, scale, triangles, smooth, offset / 1000.0, made_of == "shell")


def rotations_of(triangles, before, after):
    """How a surface of triangles (M, 3) is turned at each of its points, (F, N, 4), between positions (F, N, 3) before and after."""
    frames = [_frames(triangles, positions) for positions in (before, after)]
    return transforms.from_matrices(frames[1] @ np.swapaxes(frames[0], -1, -2))


def _frames(triangles, positions):
    """Frames (F, N, 3, 3) that stand on a surface: columns along an edge, across it, and outwards."""
    count = positions.shape[1]
    a, b, c = (positions[:, triangles[:, k]] for k in range(3))
    where = triangles.ravel(), np.repeat(np.arange(len(triangles)), 3)
    corner = sparse.csr_matrix((np.ones(triangles.size), where), (count, len(triangles)))
    across = transforms.crossed(b - a, c - a)
    outwards = np.stack([corner @ each for each in across])
    # Any edge will do, as long as it is the same one in every frame.
    other = np.zeros(count, int)
    other[triangles[:, 0]], other[triangles[:, 1]], other[triangles[:, 2]] = triangles[:, 1], triangles[:, 2], triangles[:, 0]
    along = positions[:, other] - positions
    outwards = outwards / np.maximum(np.linalg.norm(outwards, axis=-1, keepdims=True), 1e-30)
    along = along - np.sum(along * outwards, axis=-1, keepdims=True) * outwards
    along = along / np.maximum(np.linalg.norm(along, axis=-1, keepdims=True), 1e-30)
    return np.stack([along, transforms.crossed(outwards, along), outwards], axis=-1)


def _alike(rotations):
    """Quaternions (..., 4, 4) on the side of the first of each four, so that they can be mixed."""
    return np.where(np.sum(rotations * rotations[..., :1, :], axis=-1, keepdims=True) < 0.0, -rotations, rotations)
