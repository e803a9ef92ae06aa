"""The stages of a run: what is simulated at the same time, and what it does to the pose that later stages hang on."""

from dataclasses import dataclass

import numpy as np

from quiver.errors import Unstable
from quiver.rig import transforms
from quiver.rig.pose import world_matrices
from quiver.run.props import advance_together
from quiver.run.waves import Wave


@dataclass
class Moving:
    """Some frames while they are simulated: all their substeps, S of them, and the frames themselves, F of them.

    pose, world (S, J) what carries later stages; final the pose (F, J) as all chains leave it; at the first frame; span the frames counted
    from the run's start
    """

    pose: object
    world: np.ndarray
    final: object
    at: int
    span: slice


class Stage:
    """What a run simulates at the same time: chains, as one wave, props, and solids (by index).

    rides  {node: FleshRide or FollowerRide}
    """

    def __init__(self, run, paths, layers, group, rest_world):
        self.skeleton, self.solids, self.is_needed, self.substeps = run.skeleton, group.solids, group.is_needed, run.substeps
        self.props = [run.props[k] for k in group.props]
        meeting = (run.contacts, *([each[k] for k in group.paths] for each in (run.met, run.met_skins, run.girths)))
        self.wave = Wave(run.skeleton, paths, layers, run.spec.setup, run.substeps, rest_world, run.notes, *meeting) if paths else None
        self.amounts_of = {solid.layer.id: solid.layer.amount_at for solid in run.solids}
        self.rides = {}
        roots = [int(path.point_nodes[0]) for path in paths] + [prop.node for prop in self.props]
        for root, layer in zip(roots, [*layers, *(prop.layer for prop in self.props)], strict=True):
            ride = run.ride_of(layer, rest_world[root, :, 3])
            if ride:
                self.rides[root] = ride
                if not ride.is_free:
                    run.notes.append(f"{layer.name}: where it hangs nothing is free to move, so it is not taken along")

    def hang(self, moving):
        """Let the roots that ride on flesh or cloth go along with it, in place."""
        if not self.rides:
            return
        ends = slice(self.substeps - 1, None, self.substeps)
        frames = range(moving.at, moving.at + len(moving.final.rotations))
        amounts = {layer: np.repeat([at(frame) for frame in frames], self.substeps) for layer, at in self.amounts_of.items()}
        for node, ride in self.rides.items():
            parent, places = self.skeleton.parents[node], moving.world[:, node, :, 3]
            moved, turns = ride.moved(places, moving.world, amounts, self.substeps)
            shifts, linear = moved - places, moving.world[:, parent, :, :3] if parent >= 0 else np.eye(3)
            shifts = np.linalg.solve(linear, shifts[..., None])[..., 0]
            moving.pose.translations[:, node] += shifts
            moving.final.translations[:, node] += shifts[ends]
            if turns is None:
                continue
            frame = transforms.pure_rotations(np.broadcast_to(linear, turns.shape))
            own = transforms.from_matrices(np.swapaxes(frame, 1, 2) @ turns @ frame)
            for pose, turn in ((moving.pose, own), (moving.final, own[ends])):
                pose.rotations[:, node] = transforms.multiply(turn, pose.rotations[:, node])
        moving.world = world_matrices(self.skeleton, moving.pose)

    def swing(self, moving, threads):
        """Simulate the chains and the props, and turn their joints in place. Raises Unstable."""
        frames = len(moving.final.rotations)
        try:
            turns = [self._swing_wave(moving, frames, threads)] if self.wave else []
            advance_together(self.props, moving.world, [prop.jumped[moving.span] for prop in self.props], frames)
            turns += [self._swing_prop(prop, moving, frames) for prop in self.props]
        except Unstable as error:
            raise Unstable(error.layer, moving.at + error.frame, error.reason) from error
        for turn in turns:
            turn()
        if self.is_needed and turns:
            moving.world = world_matrices(self.skeleton, moving.pose)

    def _swing_wave(self, moving, frames, threads):
        # Only what later stages hang on must be known between the frames too.
        every = 1 if self.is_needed else self.substeps
        driven = self.wave.advance(moving.world, self.wave.jumped[moving.span], frames, every, threads)
        amounts = np.array([[layer.amount_at(frame) for layer in self.wave.layers] for frame in range(moving.at, moving.at + frames)])

        def turn():
            self.wave.apply(moving.final, driven.every(self.substeps // every), amounts)
            if self.is_needed:
                self.wave.apply(moving.pose, driven, np.repeat(amounts, self.substeps, axis=0))

        return turn

    def _swing_prop(self, prop, moving, frames):
        record, keyed = prop.record, prop.way
        amounts = np.array([prop.layer.amount_at(frame) for frame in range(moving.at, moving.at + frames)])
        world, ends = moving.world, slice(self.substeps - 1, None, self.substeps)

        def turn():
            prop.apply(moving.final, world[ends], record[ends], keyed[ends], amounts)
            if self.is_needed:
                prop.apply(moving.pose, world, record, keyed, np.repeat(amounts, self.substeps))

        return turn
