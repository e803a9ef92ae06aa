"""Walking a plan: parts are simulated stage by stage, or taken from the results of earlier runs; then the skin, then the measures."""

import time
from collections import deque
from dataclasses import replace
from functools import lru_cache, partial

import numpy as np

from quiver.errors import Unstable
from quiver.rig import transforms
from quiver.rig.pose import Pose, world_matrices
from quiver.run.measures.clip_depth import keyed_depths
from quiver.run.parts.part import Frames
from quiver.run.spec import TakeChunk
from quiver.threads import alongside, at_once

MOST_WAITING = 3
"""Pieces of a take that may wait to be measured while others are simulated."""


class Execution:
    """One walk through a Plan, frame after frame. ``results`` (Results) are looked up and added to; None keeps nothing.

    source  where the keyed pose comes from, the plan's own clip if not said
    """

    def __init__(self, plan, results=None, threads=None, source=None):
        self.plan, self.results, self.threads = plan, results, threads
        self.source, self.skeleton = source or plan.source, plan.skeleton
        self.running = {node: node.part.fresh() for node in plan.nodes}
        # The state after the latest frames of what was taken from the results, and so not simulated.
        self._behind = {}

    def start(self, world):
        """Begin at rest in a pose: node matrices (J, 3, 4)."""
        for part in self.running.values():
            part.start(world)
        self._behind.clear()

    def chunks(self, keep_going=lambda: True):
        """Yield TakeChunks from the take's first frame to its last; ends early where ``keep_going()`` is false. Raises Unstable.

        Where there are threads for it, the keyed motion of the next frames is made and those before are measured meanwhile.
        """
        plan, waiting = self.plan, deque()
        self.start(self._world_at([plan.blocks[0]])[0])
        began, pieces = time.perf_counter(), plan.pieces()
        with alongside(self.threads) as submit:
            ahead, last = submit(self._prepared, next(pieces, None)), None
            while (prepared := ahead.result()) is not None and keep_going():
                ahead = submit(self._prepared, next(pieces, None))
                frames, keyed_world, jumped, end = prepared
                outputs, seconds = self._simulated(frames, jumped, end)
                simulated = time.perf_counter()
                piece = frames, keyed_world, outputs, seconds, simulated - began
                if ahead.result() is None:
                    last = piece
                else:
                    waiting.append(submit(self._told, *piece))
                began = simulated
                while waiting and (waiting[0].done() or len(waiting) > MOST_WAITING):
                    yield from waiting.popleft().result()
            for each in waiting:
                yield from each.result()
            # Nothing is left to be simulated meanwhile, so all threads measure.
            yield from self._told(*last) if last else ()

    def _prepared(self, piece):
        """The Frames of a piece of the plan before anything is simulated, the keyed world at their ends, and which roots jump."""
        if piece is None:
            return None
        block, at, end = piece
        frames, keyed_world = self._frames(block, at, end)
        return frames, keyed_world, partial(self._jumps(at, end), keyed_world=keyed_world), end

    def _told(self, frames, keyed_world, outputs, seconds, spent):
        """A list of the TakeChunk of frames that were simulated in so many seconds; empty where the take shows none of them."""
        at = frames.at
        shown = slice(max(self.plan.spec.first_frame - at, 0), min(self.plan.last_frame + 1 - at, frames.count))
        if shown.start >= shown.stop:
            return []
        began = time.perf_counter()
        return [self.chunk(frames, keyed_world, outputs, seconds, shown, began - spent)]

    def simulate(self, block, at, end, jumped):
        """Simulate frames at..end-1, of the block that begins at another, stage by stage.

        jumped(node, keyed world) says in which frames its root jumps. Returns Frames, the keyed world (F, J, 3, 4) at them, {node: outputs}
        and {node: seconds}. Raises Unstable.
        """
        frames, keyed_world = self._frames(block, at, end)
        return frames, keyed_world, *self._simulated(frames, partial(jumped, keyed_world=keyed_world), end)

    def _frames(self, block, at, end):
        """The Frames at..end-1 as keyed, and their keyed world (F, J, 3, 4)."""
        per_frame = self.plan.substeps
        # Frame numbers of all substeps; the last of each frame is that frame exactly.
        inside = np.arange(1 - per_frame, 1) / per_frame
        pose, world = self._keyed((np.arange(at, end)[:, None] + inside).ravel(), at, end)
        ends = slice(per_frame - 1, None, per_frame)
        origin = world[0] if block == at else self._world_at([block - 1.0 + 1.0 / per_frame])[0]
        return Frames(pose, world, pose[ends].copy(), at, per_frame, origin, world, pose.rotations[ends].copy(), self.source), world[
            ends
        ].copy()

    def _simulated(self, frames, jumped, end):
        """({node: outputs}, {node: seconds}) of Frames, which are changed; jumped(node) as `Part.simulate` takes it. Raises Unstable."""
        keyed = _Keyed(self.skeleton, frames.pose, frames.world)
        outputs, seconds, unfollowed = {}, {}, []

        def run(nodes):
            """Simulate nodes that do not need each other; what is cut for two threads has both for itself."""
            known = {node.part.layers[0].id: found for node, found in outputs.items() if node.part.is_soft}
            nodes = [(node, replace(seen, results={own: known[own] for own in node.after}) if node.after else seen) for node, seen in nodes]
            # Soft bodies take the longest, so they come first.
            nodes = sorted(nodes, key=lambda item: not item[0].part.is_soft)
            alone, small = [[item] for item in nodes if item[0].part.is_cut], [item for item in nodes if not item[0].part.is_cut]
            for together in (*alone, small):
                calls = [partial(self._result, node, keyed.seen_by(node, seen), jumped, end) for node, seen in together]
                for (node, _), result in zip(together, at_once(calls, self.threads), strict=True):
                    outputs[node], seconds[node] = result
            for node, seen in nodes:
                if not node.part.is_soft:
                    node.part.apply(seen, outputs[node], node.every)

        for stage in self.plan.stages:
            if stage.rides:
                run(unfollowed)
                unfollowed = []
                self._ride(stage, frames, outputs)
            if stage.is_followed:
                run([(node, frames) for node in stage.driving])
                frames.world = world_matrices(self.skeleton, frames.pose)
            if any(node.after for node in stage.soft):
                run(unfollowed)
                unfollowed = []
            # What nobody follows can wait for others to be simulated with; it sees the world as it is now.
            unfollowed += [(node, replace(frames)) for node in (*(() if stage.is_followed else stage.driving), *stage.soft)]
        run(unfollowed)
        return outputs, seconds

    def _result(self, node, frames, jumped, end):
        """The outputs of one node, and the seconds that they took when they were simulated."""
        key = node.digest, frames.at, end
        known = self._known(key)
        if known is not None:
            self._behind[node] = known["state"]
            return known["outputs"], known["seconds"]
        part = self.running[node]
        if node in self._behind:
            part.restore(self._behind.pop(node))
        began = time.perf_counter()
        try:
            outputs = part.simulate(frames, jumped(node), node.every, self.threads)
        except Unstable as error:
            raise Unstable(error.layer, frames.at + error.frame, error.reason) from error
        seconds = time.perf_counter() - began
        if self.results is not None:
            self._keep({"outputs": outputs, "seconds": seconds, "state": part.snapshot()}, key)
        return outputs, seconds

    def _known(self, key):
        return self.results.get(*key) if self.results is not None else None

    def _keep(self, value, key):
        if self.results is not None:
            self.results.put(value, *key)

    def _keyed(self, frames, at, end):
        """The keyed Pose (S, J) at frame numbers, and its world; only the pose may be changed."""
        key = "keyed", self.plan.keyed_digest, self.plan.substeps, at, end
        known = self._known(key)
        if known is None:
            pose = self.source.pose(frames)
            known = pose.translations, pose.rotations, pose.scales, world_matrices(self.skeleton, pose)
            self._keep(known, key)
        *own, world = known
        return Pose(*own).copy(), world

    def _world_at(self, frames):
        return world_matrices(self.skeleton, self.source.pose(np.array(frames)))

    def _jumps(self, at, end):
        """Says of a node, and the keyed world of frames at..end-1, in which of them its root jumps; those around them count."""
        before = range(max(at - 2, self.plan.blocks[0]), at)
        around = [*before, *range(end, min(end + 1, self.plan.blocks[-1]))]
        beside = lru_cache(1)(lambda: self._world_at(around) if around else np.zeros((0, len(self.skeleton), 3, 4)))

        def jumped(node, keyed_world):
            world = np.concatenate([beside()[: len(before)], keyed_world, beside()[len(before) :]])
            return node.part.jumps(world)[len(before) :][: end - at]

        return jumped

    def _ride(self, stage, frames, outputs):
        """Let the roots that ride on soft bodies go along with them, in place."""
        if not stage.rides:
            return
        moves = {node.part.layer.id: found["moves"] for node, found in outputs.items() if node.part.is_soft}
        amounts = {
            node.part.layer.id: np.repeat(frames.amounts(node.part.layer), frames.per_frame) for node in outputs if node.part.is_soft
        }
        for node, ride in stage.rides.items():
            parent, positions = self.skeleton.parents[node], frames.world[:, node, :, 3]
            moved, rotations = ride.moved(positions, frames.world, moves, amounts, frames.per_frame)
            shifts, linear = moved - positions, frames.world[:, parent, :, :3] if parent >= 0 else np.eye(3)
            shifts = np.linalg.solve(linear, shifts[..., None])[..., 0]
            frames.pose.translations[:, node] += shifts
            frames.final.translations[:, node] += shifts[frames.ends]
            if rotations is None:
                continue
            frame = transforms.pure_rotations(np.broadcast_to(linear, rotations.shape))
            own = transforms.from_matrices(np.swapaxes(frame, 1, 2) @ rotations @ frame)
            for pose, turn in ((frames.pose, own), (frames.final, own[frames.ends])):
                pose.rotations[:, node] = transforms.multiply(turn, pose.rotations[:, node])
        frames.world = world_matrices(self.skeleton, frames.pose)

    def chunk(self, frames, keyed_world, outputs, seconds, shown, began, measured=True):
        """The TakeChunk of some frames that were simulated; ``shown`` selects those that the take shows, ``began`` is when it started.

        Not ``measured``: only how far each layer moves anything is told.
        """
        plan, first = self.plan, frames.at + shown.start
        numbers = range(first, frames.at + shown.stop)
        final = frames.final[shown]
        final_world, keyed_world = world_matrices(self.skeleton, final), keyed_world[shown]
        added = np.zeros((len(numbers), len(plan.layer_ids)), np.float32)
        offsets = np.zeros((len(numbers), plan.skin.count, 3), np.float32)
        measures, costs = {}, {}
        for body in plan.soft_bodies:
            node = next(node for node in outputs if node.part is body)
            amounts = np.array([body.layer.amount_at(frame) for frame in numbers])
            moves, most = body.offsets({name: _shown(name, values, shown) for name, values in outputs[node].items()}, amounts, final_world)
            outputs[node] = outputs[node] | {"most": most}
            # Where two move one vertex, both count.
            for mesh, vertices in body.moved.items():
                plan.skin.add(offsets, mesh, vertices, moves[mesh])
        per_frame = 1000.0 / frames.count
        for node, found in outputs.items():
            for layer, moved in node.part.added(frames, found, keyed_world, final_world):
                self._add(added, layer.id, moved)
            for layer in node.part.layers:
                costs[layer.id] = costs.get(layer.id, 0.0) + seconds[node] * per_frame
            if measured:
                self._measure(node.part, frames, found, keyed_world, final_world, shown, measures)
        for limb in plan.pose_filters:
            self._add(added, limb.layer.id, limb.added(numbers))
            self._measure_limb(limb, numbers, measures)
        for each in plan.skin_filters:
            costs[each.layer.id] = self._filter(each, numbers, final_world, offsets, added, measures)
        for skin in plan.final_skins:
            mesh = skin.mesh_index
            skin.apply(plan.skin.of_mesh(mesh, offsets), plan.skin.vertices[mesh], keyed_world, final_world)
        self._measure_depths(numbers, keyed_world, final_world, offsets, measures)
        rotations = final.rotations[:, plan.rotated].astype(np.float32)
        translations = final.translations[:, plan.translated].astype(np.float32)
        spent = (time.perf_counter() - began) * per_frame
        return TakeChunk(first, rotations, translations, offsets, added, measures, costs, spent)

    def _measure(self, part, frames, outputs, keyed_world, final_world, shown, measures):
        """Add what a part measured of itself to ``measures``."""
        found = part.measures(outputs)
        if found:
            measures[part.layers[0].id] = {name: values[shown].astype(float) for name, values in found.items()}
        for layer, met in part.against(keyed_world, final_world):
            measures.setdefault(layer.id, {})["against"] = met
        for layer, degrees in _turned(part, frames):
            measures.setdefault(layer.id, {})["turn"] = degrees[shown]

    def _add(self, added, layer_id, moved):
        column = self.plan.layer_ids.index(layer_id)
        added[:, column] = np.maximum(added[:, column], moved)

    def _measure_limb(self, limb, numbers, measures):
        after, before = limb.depths(numbers).T
        known = measures.get(limb.layer.id)
        if known:
            after, before = np.maximum(after, known["clip"]), np.maximum(before, known["keyed_clip"])
        measures[limb.layer.id] = {"clip": after, "keyed_clip": before, "deepest": np.full((len(after), 2), -1)}

    def _filter(self, each, numbers, final_world, offsets, added, measures):
        """Let a skin filter move the skin, adding to offsets, ``added`` and ``measures`` in place: milliseconds that a frame took."""
        plan = self.plan
        began, key = time.perf_counter(), (plan.filter_digests[each.layer.id], numbers.start, numbers.stop)
        known = self._known(key)
        if known is None:
            so_far = {mesh: plan.skin.of(mesh, own, offsets) for mesh, own in each.vertices.items()}
            amounts = np.array([each.layer.amount_at(frame) for frame in numbers])
            moves, depths, deepest = each.advance(final_world, so_far, amounts)
            cost = 1000.0 * (time.perf_counter() - began) / len(numbers)
            known = {
                "moves": {m: moved.astype(np.float32) for m, moved in moves.items()},
                "depths": depths,
                "deepest": deepest,
                "cost": cost,
            }
            known["most"] = [np.linalg.norm(moved, axis=2).max(1, initial=0.0) * each.scale for moved in moves.values()]
            self._keep(known, key)
        for mesh, own in each.vertices.items():
            plan.skin.add(offsets, mesh, own, known["moves"][mesh])
        for most in known["most"]:
            self._add(added, each.layer.id, most)
        depths = known["depths"].astype(np.float32)
        measures[each.layer.id] = {"clip": depths[:, 0], "keyed_clip": depths[:, 1], "deepest": known["deepest"]}
        return known["cost"]

    def _measure_depths(self, numbers, keyed_world, final_world, offsets, measures):
        """Clip depths as simulated and as keyed [m], and where the first is."""
        plan = self.plan

        def measured(layer_id, depth):
            key = plan.depth_digests[layer_id], numbers.start, numbers.stop
            now = self._known(key)
            if now is None:
                now = depth.depths(final_world, moves_for(plan, depth, offsets))
                self._keep(now, key)
            return now, keyed_depths(depth, plan.keyed_depth_digests[layer_id], numbers, keyed_world)

        wanted = plan.clip_depths
        for layer_id, (now, keyed) in zip(
            wanted, at_once([partial(measured, *item) for item in wanted.items()], self.threads), strict=True
        ):
            found = measures.setdefault(layer_id, {})
            if "clip" not in found:
                found |= {"clip": now[0].astype(np.float32), "deepest": now[1], "keyed_clip": keyed[0].astype(np.float32)}


class _Keyed:
    """The keyed pose (S, J) of some frames, before any part changed it: how skins stand for parts that follow nothing."""

    def __init__(self, skeleton, pose, world):
        self.skeleton, self.world = skeleton, world
        self.rotations, self.translations, self._known = pose.rotations.copy(), pose.translations.copy(), {(): world}

    def seen_by(self, node, frames):
        """The Frames with skins where a node sees them: what it does not follow is as keyed."""
        if not any(unit.skins_met for unit in node.part.units):
            return frames
        if node.followed not in self._known:
            pose, followed = frames.pose.copy(), list(node.followed)
            rotations, translations = self.rotations.copy(), self.translations.copy()
            rotations[:, followed], translations[:, followed] = pose.rotations[:, followed], pose.translations[:, followed]
            pose.rotations, pose.translations = rotations, translations
            self._known[node.followed] = world_matrices(self.skeleton, pose)
        return replace(frames, skin_world=self._known[node.followed])


def moves_for(plan, depth, offsets):
    """What a ClipDepth takes of a take's offsets (F, R, 3): {mesh index: (F, n, 3)}."""
    return {mesh: plan.skin.of(mesh, own, offsets) for mesh, own, _ in depth.parts if mesh in plan.skin.vertices}


def _turned(part, frames):
    """Yield (layer, the most that it turned any of its joints off its keys in each frame (F,) [degrees])."""
    for layer in () if part.is_soft else part.layers:
        nodes = [node for unit in part.units if unit.layer is layer for node in unit.drives]
        agreement = np.abs(np.sum(frames.final.rotations[:, nodes] * frames.keyed_rotations[:, nodes], axis=-1))
        yield layer, np.degrees(2.0 * np.arccos(np.minimum(agreement, 1.0))).max(1, initial=0.0)


def _shown(name, values, shown):
    """The part of an output that is of the shown frames; ``moves`` has one frame more, in front."""
    return values[shown.start : shown.stop + 1] if name == "moves" else values[shown]


def execute(plan, results=None, threads=None, keep_going=lambda: True):
    """Walk a Plan: TakeChunks from its first frame to its last. Raises Unstable."""
    return Execution(plan, results, threads).chunks(keep_going)
