"""The plan of a run: a setup on a clip, checked and compiled to a graph of parts whose results have names of their own (digests)."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from quiver import layers as registry
from quiver.bodies import fitting
from quiver.bodies.inner import outer_meshes
from quiver.bodies.made import with_made
from quiver.contact.contacts import Contacts
from quiver.contact.roots import inner_roots
from quiver.digests import digest_of
from quiver.errors import BadInput
from quiver.layers.kinds import PART, POSE_FILTER, SKIN_FILTER
from quiver.rig.pose import rest_matrices, world_matrices
from quiver.run.keyed import ClipSource, keyed_clip
from quiver.run.measures.clip_depth import ClipDepth
from quiver.run.parts.riding import FleshRide, FollowerRide
from quiver.run.schedule import stages
from quiver.run.skin import MovedSkin
from quiver.run.skin_filters.final_skin import final_skins
from quiver.run.spec import MOST_FRAMES, TakeSpec
from quiver.setup.edits import complete
from quiver.setup.model import FOLLOWER, WHOLE_SKIN

FIRST_FRAMES, LARGEST_BLOCK = 2, 32
"""Frames: the first block is short so that something shows at once, later ones are long so that little is lost between them."""
STILL_SECONDS = 1.0 / 12.0
"""So long at least everything stands still before the pre-roll leads it in [s]: a whole number of frames at 12, 24 and 48 a second."""
MOST_SAMPLES = 4096
"""Substeps that are in memory at the same time; one frame may have more."""
WORTH_A_NOTE = 0.005
"""A layer that starts deeper inside a collider gets a note [m]."""
FORMAT = 9
"""To be raised with every change of the code that changes results."""


class PlanContext:
    """What the kinds of layers build their units and filters from.

    character, setup  with all layers complete; layers those that are on; notes remarks in words
    contacts, rest_world (J, 3, 4), clip, units (once they are made)
    """

    def __init__(self, character, setup, clip, notes):
        self.character, self.setup, self.clip, self.notes = character, setup, clip, notes
        self.contacts, self.rest_world, self.units = Contacts(character, setup), rest_matrices(character.skeleton), []
        self.source = ClipSource(character.skeleton, clip, setup.frame_rate, setup.preroll_frames)
        # What kinds that come before have made so far.
        self.units_so_far = []

    @property
    def clip_frames(self):
        return self.clip.frame_count(self.setup.frame_rate)

    def whole_clip(self):
        """The keyed Pose (F, J) at all frames of the clip, before the pose filters."""
        return self.clip.sample(self.character.skeleton, np.arange(self.clip_frames) / self.setup.frame_rate)

    def clip_world(self):
        """Node matrices (F, J, 3, 4) of the keyed pose at some frames spread over the clip."""
        frames = np.unique(np.linspace(0, self.clip_frames - 1, min(LARGEST_BLOCK, self.clip_frames)).astype(int))
        return world_matrices(self.character.skeleton, self.source.pose(frames))


@dataclass(frozen=True)
class Node:
    """One part in the graph.

    digest    stands for all that its result depends on; shown stands for that and how much of it is used
    every     1 where its outputs are known at each substep, because later parts follow it, else the substeps of a frame
    followed  the nodes that the parts drive which it follows; after the ids of layers whose results it takes
    """

    part: object
    digest: str
    shown: str
    every: int
    followed: tuple
    after: tuple = ()


@dataclass(frozen=True)
class PlanStage:
    """Nodes that are simulated at the same time: those that drive joints, then soft ones; rides {node number: ride} are moved first."""

    driving: tuple
    soft: tuple
    rides: Mapping

    @property
    def is_followed(self):
        """Whether later stages need to know each substep of what drives joints here."""
        return bool(self.driving) and self.driving[0].every == 1


@dataclass(frozen=True)
class Plan:
    """A setup on a clip, compiled; nothing in it changes afterwards. `compile_plan` makes it, execute.py walks it.

    spec, clip, source (ClipSource), substeps; stages (PlanStages, in order), pose_filters, skin_filters, final_skins
    layers        the layers that are on; layer_ids their ids, and WHOLE_SKIN where that is measured
    rotated, translated  nodes of the take's arrays; skin (MovedSkin) the vertices that it moves
    clip_depths   {layer id: ClipDepth}; depth_digests, filter_digests {layer id: digest}
    notes         remarks in words
    keyed_digest  stands for the keyed pose
    """

    spec: TakeSpec
    clip: object
    source: ClipSource
    contacts: Contacts
    substeps: int
    last_frame: int
    stages: tuple
    pose_filters: tuple
    skin_filters: tuple
    final_skins: tuple
    layers: tuple
    layer_ids: tuple
    rotated: np.ndarray
    translated: np.ndarray
    skin: MovedSkin
    clip_depths: Mapping
    depth_digests: Mapping
    keyed_depth_digests: Mapping
    filter_digests: Mapping
    keyed_digest: str
    notes: tuple

    @property
    def skeleton(self):
        return self.spec.character.skeleton

    @property
    def nodes(self):
        """All nodes, in the order in which they are simulated."""
        return [node for stage in self.stages for node in (*stage.driving, *stage.soft)]

    @property
    def parts(self):
        """The parts of all nodes."""
        return [node.part for node in self.nodes]

    @property
    def soft_bodies(self):
        """The soft bodies, in the order of the setup's layers."""
        order = {layer.id: at for at, layer in enumerate(self.layers)}
        return sorted((part for part in self.parts if part.is_soft), key=lambda part: order[part.layer.id])

    @property
    def moved(self):
        """{mesh index: vertices (R,)} in the order of the take's offsets."""
        return self.skin.vertices

    @cached_property
    def blocks(self):
        """The first frames of the blocks from the pre-roll to the clip's end, and where the last ends: the same for a take of any range."""
        end = max(self.last_frame + 1, self.clip.frame_count(self.spec.setup.frame_rate))
        # It stands still before it is led in, as long at any frame rate.
        still = max(1, round(STILL_SECONDS * self.spec.setup.frame_rate)) - 1
        preroll = int(self.spec.setup.preroll_frames) + still
        at, size, starts = -preroll, preroll + FIRST_FRAMES, []
        while at < end:
            starts.append(at)
            # A few frames that would be left over come along.
            at = end if end - at < size + FIRST_FRAMES else at + size
            size = min(2 * FIRST_FRAMES if len(starts) == 1 else 2 * size, LARGEST_BLOCK)
        return (*starts, end)

    def as_far_as(self, layer_ids):
        """The plan without what comes after all these layers: they move as in the whole one, to the bit, and no skin is measured. As it is
        where one of them is more than its parts.
        """
        own = [{layer.id for node in (*stage.driving, *stage.soft) for layer in node.part.layers} for stage in self.stages]
        # A layer may be in several of them.
        at = [max((number for number, ids in enumerate(own) if layer in ids), default=None) for layer in layer_ids]
        if None in at or any(each.layer.id in layer_ids for each in (*self.pose_filters, *self.skin_filters)):
            return self
        return replace(self, stages=self.stages[: max(at) + 1], skin_filters=(), final_skins=(), clip_depths={})

    def pieces(self):
        """(block's first frame, first frame, end frame) of the pieces that are simulated one after another, up to the take's last frame."""
        longest = max(1, MOST_SAMPLES // self.substeps)
        for start, end in zip(self.blocks, self.blocks[1:], strict=False):
            for at in range(start, end, longest):
                if at > self.last_frame:
                    return
                yield start, at, min(at + longest, end)


def compile_plan(spec):
    """Check everything and compile a TakeSpec to a Plan. Raises BadInput where a layer cannot be built."""
    setup = spec.setup.on(spec.clip_name)
    setup = replace(setup, layers=tuple(complete(layer) for layer in setup.layers))
    spec = replace(spec, setup=setup, character=with_made(spec.character, setup))
    clip = keyed_clip(spec.character, setup, spec.clip_name)
    return _Compiler(spec, clip).plan()


class _Compiler:
    """Makes one Plan, step by step."""

    def __init__(self, spec, clip):
        self.spec, self.setup, self.skeleton = spec, spec.setup, spec.character.skeleton
        self.layers = tuple(layer for layer in self.setup.layers if layer.is_on)
        self.last_frame = _last_frame(spec, clip)
        self.context = PlanContext(spec.character, self.setup, clip, [])
        self.clip = clip

    def plan(self):
        context, setup = self.context, self.setup
        units = context.units = self._units()
        pose_filters = tuple(self._built(POSE_FILTER))
        context.source = ClipSource(self.skeleton, self.clip, setup.frame_rate, setup.preroll_frames, pose_filters)
        driven = {below for unit in units for node in unit.drives for below in self.skeleton.below(node)}
        for unit in units:
            unit.meet(context.contacts, driven)
        self._attach(units)
        found = stages(self.skeleton, units)
        rate = max((unit.substep_rate() for unit in units), default=0.0)
        whole = math.lcm(*(unit.own_steps() for unit in units))
        self.substeps = whole * max(1, int(np.ceil(rate / setup.frame_rate / whole - 1e-6)))
        self.keyed_digest = self._keyed_digest(pose_filters)
        compiled = self._compile(found)
        skin_filters = tuple(self._built(SKIN_FILTER))
        rotated, translated = self._changed_nodes(units, pose_filters, compiled)
        turned = {below for node in (*rotated, *translated) for below in self.skeleton.below(int(node))}
        shown = tuple(final_skins(self.spec.character, setup, turned))
        soft = [node.part for stage in compiled for node in stage.soft]
        parts = [item for part in (*soft, *shown) for item in part.moved.items()]
        skin = MovedSkin(parts + [item for each in skin_filters for item in each.vertices.items()])
        depths = self._clip_depths(units)
        filter_digests, skin_digest = self._filter_digests(compiled, skin_filters, shown)
        plan = Plan(
            spec=self.spec,
            clip=self.clip,
            source=context.source,
            contacts=context.contacts,
            substeps=self.substeps,
            last_frame=self.last_frame,
            stages=compiled,
            pose_filters=pose_filters,
            skin_filters=skin_filters,
            final_skins=shown,
            layers=self.layers,
            layer_ids=tuple(layer.id for layer in self.layers) + ((WHOLE_SKIN,) if setup.watches_skin else ()),
            rotated=rotated,
            translated=translated,
            skin=skin,
            clip_depths=depths,
            depth_digests=self._depth_digests(compiled, depths, skin_digest),
            keyed_depth_digests={name: digest_of("keyed", self.keyed_digest, each.digest_inputs()) for name, each in depths.items()},
            filter_digests=filter_digests,
            keyed_digest=self.keyed_digest,
            notes=(),
        )
        self._note_deep_starts(depths)
        self._note_inner_roots()
        return replace(plan, notes=tuple(context.notes))

    def _built(self, stage):
        """What the kinds of a stage make of the layers that are on."""
        found = []
        for kind in registry.kinds():
            if kind.stage == stage:
                made = kind.build(self.context, [layer for layer in self.layers if layer.kind == kind.name])
                self.context.units_so_far += made
                found += made
        return found

    def _units(self):
        """The units of all layers. Raises BadInput where two drive one joint."""
        units, driven_by, names = self._built(PART), {}, self.skeleton.names
        for unit in units:
            for node in unit.drives:
                other = driven_by.setdefault(node, unit)
                if other is not unit:
                    both = f"“{other.layer.name}” and “{unit.layer.name}”"
                    raise BadInput(f"two chains or props drive “{names[node]}”: {both}. Remove it from one of them")
        return units

    def _attach(self, units):
        """Let units ride on what their layers say."""
        bodies, followers = [unit for unit in units if unit.is_soft], {}
        for unit in units:
            if not unit.layer.rides or unit.node is None:
                continue
            kind, _, name = unit.layer.rides.rpartition(":")
            if kind == FOLLOWER:
                if name not in followers:
                    followers[name] = FollowerRide(self.spec.character, self.setup.follower(name), bodies)
                unit.ride = followers[name]
            else:
                place = self.context.rest_world[unit.node, :, 3]
                unit.ride = next((FleshRide(body, place) for body in bodies if body.layer.id == unit.layer.rides), None)
            if unit.ride and not unit.ride.is_free:
                self.context.notes.append(f"{unit.layer.name}: the points it is attached to do not move, so it stays on its joints")

    def _keyed_digest(self, pose_filters):
        character, setup = self.spec.character, self.setup
        scene = setup.scene_on(self.clip.name)
        filters = [each.digest_inputs() for each in pose_filters]
        end = max(self.last_frame + 1, self.context.clip_frames)
        return digest_of(FORMAT, character.digest, self.clip.name, end, scene, filters)

    def _compile(self, found):
        """The PlanStages, with the digest of each part. Nodes that parts change are followed through ``self.movers``."""
        self.movers, out = [], []
        self._digests = {}
        for stage in found:
            nodes, beside = [], [unit for unit in self.context.units if any(unit in group for group in stage.groups)]
            for group in stage.groups:
                part = type(group[0]).compiled(group, self.context, self.substeps, beside)
                nodes.append(self._node(part, group, stage.is_needed))
            rides = {unit.node: unit.ride for group in stage.groups for unit in group if unit.ride}
            driving = tuple(node for node in nodes if not node.part.is_soft)
            out.append(PlanStage(driving, tuple(node for node in nodes if node.part.is_soft), rides))
            # Only now: what is simulated at the same time is not seen.
            for node in driving:
                is_seen = stage.is_needed or any(unit.ride for unit in node.part.units)
                self.movers.append((node, is_seen, self._below(node.part)))
        return tuple(out)

    def _node(self, part, group, is_needed):
        seen = {int(node) for unit in group for node in (*unit.follows, *unit.met_nodes)}
        rides = [unit.ride for unit in group if unit.ride]
        seen |= {node for ride in rides for node in ride.nodes}
        followed = [node for node, is_seen, moved in self.movers if is_seen and seen & moved]
        inputs = {node.shown for node in followed}
        inputs |= {self._digests[id(body)] for ride in rides for body in ride.carriers}
        inputs |= {self._digests[id(before)] for unit in group for before in unit.after}
        every = 1 if is_needed else self.substeps
        attached = [ride.digest_inputs for ride in rides]
        digest = digest_of(self.keyed_digest, self.substeps, every, part.digest_inputs(), attached, inputs)
        shown = digest_of(digest, [layer.amount for layer in part.layers])
        for unit in part.units:
            self._digests[id(unit)] = shown
        driven = {own for node in followed for unit in node.part.units for own in unit.drives}
        after = tuple(sorted({before.layer.id for unit in group for before in unit.after}))
        return Node(part, digest, shown, every, tuple(sorted(driven)), after)

    def _below(self, part):
        return {below for unit in part.units for node in unit.drives for below in self.skeleton.below(node)}

    def _changed_nodes(self, units, pose_filters, compiled):
        """The nodes whose rotations, and whose translations, a take stores."""
        rotated = {node for each in (*units, *pose_filters) for node in each.drives}
        shifted = {node for stage in compiled for node in stage.rides}
        shifted = shifted.union(*(node.part.shifted_nodes() for stage in compiled for node in (*stage.driving, *stage.soft)))
        return np.array(sorted(rotated), np.int32), np.array(sorted(shifted), np.int32)

    def _clip_depths(self, units):
        """{layer id: ClipDepth} of the layers that meet anything, and of the whole skin where that is measured."""
        character, contacts, found = self.spec.character, self.context.contacts, {}
        for unit in units:
            if unit.layer.id in found or unit.is_soft:
                continue
            own = [each for each in units if each.layer.id == unit.layer.id]
            if len(unit.met) or unit.skins_met:
                skin = fitting.skin_of_nodes(character, [node for each in own for node in each.drives])
                found[unit.layer.id] = ClipDepth(character, contacts, skin, contacts.seen(unit.met), unit.skins_met)
        if self.setup.watches_skin:
            skin = {index: np.arange(len(mesh.positions)) for index, mesh in outer_meshes(character)}
            found[WHOLE_SKIN] = ClipDepth(character, contacts, skin, np.arange(len(contacts)), contacts.skins, apart=True)
        for body in (unit for unit in units if unit.is_soft and unit.touching):
            skin = body.touching_skin
            found[body.layer.id] = ClipDepth(character, contacts, skin, contacts.seen(body.met), body.skins_met)
        return found

    def _filter_digests(self, compiled, skin_filters, final):
        """{layer id: digest} of the skin filters, and what stands for all that moves vertices of each mesh: {mesh index: digests}."""
        moved = {}
        for stage in compiled:
            for node in stage.soft:
                for mesh in node.part.moved:
                    moved.setdefault(mesh, []).append(node.shown)
        found = {}
        for each in skin_filters:
            before = [moved.get(mesh, []) for mesh in each.vertices]
            found[each.layer.id] = digest_of(self._pose_digest(each.nodes), before, each.digest_inputs(), each.layer.amount)
            for mesh in each.vertices:
                moved.setdefault(mesh, []).append(found[each.layer.id])
        for skin in final:
            moved.setdefault(skin.mesh_index, []).append(digest_of(self._pose_digest(skin.mesh.carriers), skin.digest_inputs()))
        return found, moved

    def _pose_digest(self, nodes):
        """What stands for where some nodes are at last."""
        nodes = set(nodes)
        return digest_of(self.keyed_digest, sorted(node.shown for node, _, moved in self.movers if nodes & moved))

    def _depth_digests(self, compiled, depths, moved):
        return {
            name: digest_of(self._pose_digest(each.nodes), [moved.get(mesh, []) for mesh, _, _ in each.parts], each.digest_inputs())
            for name, each in depths.items()
        }

    def _note_deep_starts(self, depths):
        """Note which layers start inside a collider, in the pose that is simulated first."""
        world = world_matrices(self.skeleton, self.context.source.pose(np.array([-self.setup.preroll_frames])))
        for layer in self.layers:
            depth = depths[layer.id].depths(world, {})[0][0] if layer.id in depths else 0.0
            if depth > WORTH_A_NOTE:
                self.context.notes.append(f"{layer.name}: starts {1000.0 * depth:.0f} mm inside a collider; pushed out gradually")

    def _note_inner_roots(self):
        """Note where what is fixed, the root of a chain or the pivot of a prop, is itself inside a collider."""
        for root in inner_roots(self.spec.character, self.setup, self.context.contacts):
            inside = f"its root “{self.skeleton.names[root.node]}” is {1000.0 * root.depth:.0f} mm inside “{root.collider.name}”"
            way = "move that clear in Contacts" if root.is_shallow else "it keeps its place there"
            self.context.notes.append(f"{root.layer.name}: {inside}, where nothing can push it out; {way}")


def _last_frame(spec, clip):
    first, last = spec.first_frame, spec.last_frame
    if last is None:
        last = clip.frame_count(spec.setup.frame_rate) - 1
    if first < 0 or not 0 <= last - first < MOST_FRAMES:
        raise BadInput(f"expected 1 to {MOST_FRAMES} frames from 0 on, got {first} to {last}")
    return last
