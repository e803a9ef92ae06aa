"""The layer stack: from a setup to a run that yields a take, frame by frame."""

import time
from dataclasses import dataclass
from functools import partial

import numpy as np

from quiver.bodies import chain as chain_body
from quiver.bodies import fitting, picking
from quiver.errors import BadInput, Unstable
from quiver.meeting.clearing import limbs_of
from quiver.meeting.contacts import Contacts
from quiver.meeting.touching import Touch
from quiver.rig.pose import blended, jointed_world, rest_matrices, world_matrices
from quiver.run import order
from quiver.run.final import final_skins
from quiver.run.following import FleshRide, FollowerRide
from quiver.run.outcome import Outcome, clip_depths_of
from quiver.run.props import Prop
from quiver.run.sheets import Sheet
from quiver.run.solids import Solid
from quiver.run.stages import Moving, Stage
from quiver.setup import FOLLOWER, WHOLE_SKIN
from quiver.threads import at_once

FIRST_CHUNK, LARGEST_CHUNK = 2, 32
"""Frames: the first chunk is short so that something shows at once, later ones are long so that little is lost between them."""
MOST_FRAMES = 100_000
WORTH_TELLING = 0.005
"""A layer that begins deeper inside of what it meets is told of [m]."""
SOFT = {"volume": Solid, "sheet": Sheet}


@dataclass(frozen=True)
class TakeSpec:
    """All that a take depends on. Frames count from the clip's start at the setup's frame rate; both ends are included."""

    character: object
    setup: object
    clip_name: str
    first_frame: int = 0
    last_frame: int | None = None


@dataclass(frozen=True)
class TakeChunk:
    """F frames of a take. K driven nodes, M stretched nodes, L layers that are on.

    rotations    float32 (F, K, 4) local x y z w; translations float32 (F, M, 3) [file units]
    offsets      float32 (F, R, 3) world-space moves of the run's moved vertices [file units]
    added        float32 (F, L) the most a layer moved any of its points [m]
    measures     float32 (F, V, 2) of the run's solids: change of volume and greatest stretch [%]
    clips        float32 (F, L, 2) clip depth of a layer [m]: as simulated, and as keyed; deepest int (F, L, 2) mesh and vertex of the first
    costs        milliseconds spent on one frame, on average: all chains together, then each solid, then each touch
    cost_ms      milliseconds spent on one of these frames, on average
    """

    first_frame: int
    rotations: np.ndarray
    translations: np.ndarray
    offsets: np.ndarray
    added: np.ndarray
    clips: np.ndarray
    deepest: np.ndarray
    measures: np.ndarray
    costs: tuple
    cost_ms: float


class Run:
    """A compiled stack on one clip. Making it checks everything; `chunks` simulates.

    rotated, translated  nodes of the chunks' arrays; moved {mesh index: vertices (R,)} in the order of the chunks' offsets;
    layer_ids their layers, and WHOLE_SKIN where that is watched; notes remarks in words.
    Raises BadInput where a layer cannot be built.
    """

    def __init__(self, spec, threads=None):
        self.spec, self.threads = spec, threads
        self.skeleton = spec.character.skeleton
        self.clip = spec.character.clip_or_still(spec.clip_name)
        self.notes = []
        layers = [layer for layer in spec.setup.layers if layer.is_on]
        self.layer_ids = [layer.id for layer in layers] + ([WHOLE_SKIN] if spec.setup.watches_skin else [])
        self.last_frame = self._last_frame()
        chain_layers = [layer for layer in layers if layer.kind == "chain"]
        self.paths = paths = _paths(spec.character, chain_layers, self.notes)
        self.solids = [SOFT[layer.kind](spec.character, layer, spec.setup, self.notes) for layer in layers if layer.kind in SOFT]
        self.props = _props(spec, layers, paths, self.notes)
        self.contacts = Contacts(spec.character, spec.setup)
        self.limbs, self._follower_rides = self._limbs(layers), {}
        drivers = {int(node) for path in paths for node in path.drivers} | {prop.node for prop in self.props}
        driven = {below for node in drivers for below in self.skeleton.below(node)}
        for part in (*self.solids, *self.props):
            part.meet(self.contacts, driven)
        self.substeps = substeps_of(chain_layers, self.solids, spec.setup.frame_rate, self.props)
        for prop in self.props:
            prop.compile(self.substeps)
        for solid in self.solids:
            solid.compile(self.substeps, self.notes)
        rest_world = rest_matrices(self.skeleton)
        layer_of = [chain_layers[path.layer] for path in paths]
        self.met = [self.contacts.met_by(layer, driven) for layer in layer_of]
        self.met_skins = self._met_skins(paths, layer_of)
        self.girths = self._girths(paths, rest_world)
        ridden = {layer.id: self._ridden(layer) for layer in layers if layer.rides}
        met_nodes = [self.contacts.nodes_of(*own) for own in zip(self.met, self.met_skins, strict=True)]
        self.stages = [
            Stage(self, [paths[k] for k in group.paths], [layer_of[k] for k in group.paths], group, rest_world)
            for group in order.groups(self.skeleton, paths, layer_of, self.solids, met_nodes, self.props, ridden)
        ]
        self.waves = [stage.wave for stage in self.stages if stage.wave]
        self.rotated = np.array(sorted(drivers | {limb.node for limb in self.limbs}), np.int32)
        stretched = [path for path in paths if chain_layers[path.layer].value("stretch") > 0.0]
        shifted = {node for path in stretched for nodes in path.stretch_nodes for node in nodes}
        shifted |= {prop.node for prop in self.props if prop.layer.value("joint") == "free"}
        self.translated = np.array(sorted(shifted.union(*(stage.rides for stage in self.stages))), np.int32)
        turned = {below for node in (*self.rotated, *self.translated) for below in self.skeleton.below(int(node))}
        layer_paths = [(layer.id, [k for k, path in enumerate(paths) if path.layer == index]) for index, layer in enumerate(chain_layers)]
        skins = final_skins(spec.character, spec.setup, turned)
        self.outcome = Outcome(self, self._touches(layers), skins, clip_depths_of(self, layer_paths))
        self.moved = self.outcome.skin.vertices
        self._tell_deep_starts(layers)

    def _tell_deep_starts(self, layers):
        """Note which layers begin inside of what they meet, in the pose that is simulated first."""
        world = world_matrices(self.skeleton, self._keyed(np.array([self.spec.first_frame - self.spec.setup.preroll_frames])))
        for layer in layers:
            depth = self.outcome.clip_depths[layer.id].depths(world, {})[0][0] if layer.id in self.outcome.clip_depths else 0.0
            if depth > WORTH_TELLING:
                how = f"begins {1000.0 * depth:.0f} mm inside of what it meets"
                self.notes.append(f"{layer.name}: {how}; it is let out little by little")

    def _ridden(self, layer):
        """The solids (indices) that a layer rides on."""
        kind, _, name = layer.rides.rpartition(":")
        if kind != FOLLOWER:
            return [index for index, solid in enumerate(self.solids) if solid.layer.id == layer.rides]
        carriers = [solid for solid, *_ in self._follower_ride(name).carriers]
        return [index for index, solid in enumerate(self.solids) if solid in carriers]

    def _follower_ride(self, name):
        if name not in self._follower_rides:
            self._follower_rides[name] = FollowerRide(self.spec.character, self.spec.setup.follower(name), self.solids)
        return self._follower_rides[name]

    def ride_of(self, layer, place):
        """What a layer rides on that begins at a place in the rest pose [file units], or None."""
        kind, _, name = layer.rides.rpartition(":")
        if kind == FOLLOWER:
            return self._follower_ride(name)
        return next((FleshRide(solid, place) for solid in self.solids if solid.layer.id == layer.rides), None)

    def _limbs(self, layers):
        """The limbs that are kept clear, found over the whole clip, so that a take of a part of it moves alike. Raises BadInput."""
        self.limbs = []
        if not any(layer.kind == "limb" for layer in layers):
            return []
        frames = np.arange(max(self.last_frame + 1, self.clip.frame_count(self.spec.setup.frame_rate)))
        pose = self.clip.sample(self.skeleton, frames / self.spec.setup.frame_rate)
        return limbs_of(self.spec.character, layers, self.contacts, self.spec.setup, pose)

    def _touches(self, layers):
        """The touch layers, told where the keyed skin goes. Raises BadInput."""
        touching = [layer for layer in layers if layer.kind == "touch"]
        if not touching:
            return []
        world = world_matrices(self.skeleton, self._keyed(np.arange(self.spec.first_frame, self.last_frame + 1)))
        return [Touch(self.spec.character, layer, self.spec.setup, world) for layer in touching]

    def _met_skins(self, paths, layer_of):
        """The Skins that each path meets, without what its layer moves."""
        moved = {layer.id: set() for layer in layer_of}
        for path, layer in zip(paths, layer_of, strict=True):
            moved[layer.id].update(below for node in path.drivers for below in self.skeleton.below(int(node)))
        found = {layer.id: self.contacts.skins_met_by(self.spec.setup, layer, moved[layer.id]) for layer in layer_of}
        return [found[layer.id] for layer in layer_of]

    def _girths(self, paths, rest_world):
        """How thick the skin around each path is, [m]; zeros where nothing is met."""
        scale = self.spec.setup.metres_per_unit
        if not len(self.contacts) and not self.contacts.skins:
            return [np.zeros(len(path.drivers)) for path in paths]
        by_node = fitting.vertices_by_node(self.spec.character)
        rests = [jointed_world(rest_world[path.point_nodes], path.point_offsets) for path in paths]
        return [scale * fitting.skin_around(by_node, path, rest) for path, rest in zip(paths, rests, strict=True)]

    def _last_frame(self):
        first, last = self.spec.first_frame, self.spec.last_frame
        if last is None:
            last = self.clip.frame_count(self.spec.setup.frame_rate) - 1
        if not 0 <= last - first < MOST_FRAMES:
            raise BadInput(f"expected 1 to {MOST_FRAMES} frames, got {first} to {last}")
        return last

    def chunks(self, keep_going=lambda: True):
        """Yield TakeChunks from the first frame to the last; ends early where ``keep_going()`` is false. Raises Unstable."""
        first, preroll = self.spec.first_frame, int(self.spec.setup.preroll_frames)
        start = first - preroll
        frames = np.arange(start, self.last_frame + 1)
        frame_world = world_matrices(self.skeleton, self._keyed(frames))
        for part in (*self.waves, *self.solids, *self.props):
            part.start(frame_world[0])
            part.jumped = part.jumps(frame_world)
        at, size = start, preroll + FIRST_CHUNK
        while at <= self.last_frame and keep_going():
            # A few frames that would be left over come along.
            end = self.last_frame + 1 if self.last_frame + 1 - at < size + FIRST_CHUNK else at + size
            began = time.perf_counter()
            final, keyed_world, soft, measures, spent = self._simulate(at, end, start)
            shown = slice(max(first - at, 0), end - at)
            if shown.start < shown.stop:
                chunk, touching = self.outcome.chunk(at + shown.start, final[shown], keyed_world[shown], [moves[shown] for moves in soft])
                per_frame, per_shown = 1000.0 / (end - at), 1000.0 / (shown.stop - shown.start)
                costs = (*(seconds * per_frame for seconds in spent), *(seconds * per_shown for seconds in touching))
                yield TakeChunk(*chunk, measures[shown], costs, (time.perf_counter() - began) * per_frame)
            at, size = end, min(2 * FIRST_CHUNK if size == preroll + FIRST_CHUNK else 2 * size, LARGEST_CHUNK)

    def _keyed(self, frames):
        """The keyed pose (T, J) at frames that need not be whole; before the first frame, the pre-roll."""
        first, preroll = self.spec.first_frame, self.spec.setup.preroll_frames
        frames = np.asarray(frames, float)
        pose = self.clip.sample(self.skeleton, np.maximum(frames, first) / self.spec.setup.frame_rate)
        for limb in self.limbs:
            limb.apply(pose, np.maximum(frames, first))
        early = frames < first
        if early.any() and preroll > 0:
            share = np.clip((frames[early] - (first - preroll)) / preroll, 0.0, 1.0)
            share = (share * share * (3.0 - 2.0 * share))[:, None] * np.ones(len(self.skeleton))
            # Where the clip starts is where the character stands: only what hangs on a root comes from the rest pose.
            share[:, self.skeleton.parents < 0] = 1.0
            mixed = blended(self.skeleton.rest.repeated(int(early.sum())), pose[early], share)
            pose.translations[early], pose.rotations[early], pose.scales[early] = mixed.translations, mixed.rotations, mixed.scales
        return pose

    def _simulate(self, at, end, start):
        """Simulate frames at..end-1, stage by stage.

        Returns the final pose and the keyed world at those frames, for each solid its vertices' offsets (F, R, 3), measures (F, V, 2), and
        the seconds spent on all chains, then on each solid.
        """
        # Frame numbers of all substeps; the last of each frame is that frame exactly.
        inside = np.arange(1 - self.substeps, 1) / self.substeps
        pose = self._keyed((np.arange(at, end)[:, None] + inside).ravel())
        ends = slice(self.substeps - 1, None, self.substeps)
        moving = Moving(pose, world_matrices(self.skeleton, pose), pose[ends].copy(), at, slice(at - start, end - start))
        keyed_world = moving.world[ends].copy()
        soft, measures = [None] * len(self.solids), np.zeros((end - at, len(self.solids), 2), np.float32)
        spent = [0.0] * (1 + len(self.solids))
        for stage in self.stages:
            began = time.perf_counter()
            stage.hang(moving)
            stage.swing(moving, self.threads)
            spent[0] += time.perf_counter() - began
            # Those of one stage do not need each other. What is cut for two threads has both for itself.
            small = [index for index in stage.solids if not self.solids[index].is_cut]
            alone = [[index] for index in stage.solids if index not in small]
            for indices in (*alone, *([small] if small else [])):
                calls = [partial(self._soften, self.solids[index], moving) for index in indices]
                for index, result in zip(indices, at_once(calls, self.threads), strict=True):
                    soft[index], measures[:, index], spent[1 + index] = result
        return moving.final, keyed_world, soft, measures, spent

    def _soften(self, solid, moving):
        """Simulate one solid: its vertices' offsets (F, R, 3), its measures (F, 2) and the seconds that it took."""
        began = time.perf_counter()
        frames = range(moving.at, moving.at + len(moving.final.rotations))
        try:
            moved, measures = solid.advance(moving.world, solid.jumped[moving.span], len(frames), self.threads)
        except Unstable as error:
            raise Unstable(error.layer, moving.at + error.frame, error.reason) from error
        offsets = solid.offsets(moved, np.array([solid.layer.amount_at(frame) for frame in frames]))
        return offsets, measures, time.perf_counter() - began


def substeps_of(layers, solids, frame_rate, props=()):
    """Substeps of one frame: as many as the most demanding layer needs, within the budget."""
    rates = [min(solid.rate, chain_body.HIGHEST_RATE) for solid in solids]
    if solids or props:
        rates.append(chain_body.LOWEST_RATE)
    rates += [chain_body.substep_rate(layer.value("wobble_rate"), layer.value("settle_time") / frame_rate)[0] for layer in layers]
    return max(1, int(np.ceil(max(rates, default=0.0) / frame_rate - 1e-6)))


def _props(spec, layers, paths, notes):
    """All props of all layers. Raises BadInput, naming the layer, where one cannot be built or its joint is driven twice."""
    props, names = [], spec.character.skeleton.names
    driven = {int(node) for path in paths for node in path.drivers}
    for layer in layers:
        for pick in layer.chains if layer.kind == "prop" else ():
            try:
                node = int(picking.resolve(spec.character, pick)[0][0])
            except BadInput as error:
                raise BadInput(f"layer “{layer.name}”: {error}") from error
            if node in driven:
                raise BadInput(f"expected one layer for each joint, but “{layer.name}” drives “{names[node]}” too")
            driven.add(node)
            props.append(Prop(spec.character, layer, node, spec.setup, notes))
    return props


def _paths(character, layers, notes):
    """All chains of all layers. Raises BadInput, naming the layer, where one cannot be built or two drive one joint."""
    paths, driven_by = [], {}
    for index, layer in enumerate(layers):
        for pick in layer.chains:
            try:
                for nodes in picking.resolve(character, pick):
                    paths.append(picking.chain_path(character, index, nodes, notes, layer.name))
            except BadInput as error:
                raise BadInput(f"layer “{layer.name}”: {error}") from error
    for path in paths:
        for node in path.drivers:
            other = driven_by.setdefault(int(node), path.layer)
            if other != path.layer or sum(int(node) in p.drivers for p in paths if p.layer == other) > 1:
                names = f"“{layers[other].name}” and “{layers[path.layer].name}”"
                raise BadInput(f"expected one chain for each joint, but {names} both drive “{character.skeleton.names[node]}”")
    return paths
