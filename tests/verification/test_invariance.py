"""What must not change anything: stillness, mirrors, frame rates, threads, and jumps of the root."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.demo import mudwick
from quiver.formats.gltf.reading import read_character
from quiver.rig import transforms
from quiver.rig.clip import Channel, Clip
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup import edits
from quiver.setup.model import ChainPick, Setup
from tests.makers import Run, chain_setup, moving_clip, simulate, skeleton_of, still_clip, straight, turning_clip, world_of

CURLED = [np.zeros(3), np.zeros(3), *(0.1 * np.array([np.cos(a), np.sin(a), 0.3]) for a in (0.0, 0.4, 0.9, 1.2, 1.3))]


def curled(sign=1.0):
    positions = np.array(CURLED) * np.array([sign, 1.0, 1.0])
    return skeleton_of(positions, list(range(-1, len(positions) - 1)))


class StillTest(TestCase):
    def test_still_clip_stays_still_to_the_bit(self):
        rng = np.random.default_rng(1)
        rotations = transforms.normalised(rng.normal(size=(7, 4)))
        skeleton = skeleton_of(CURLED, list(range(-1, 6)), rotations=rotations, scales=[[-1.3, 1.3, 1.3], *[[1, 1, 1]] * 6])
        run, turned, _, added = simulate(skeleton, still_clip(skeleton), chain_setup(preroll=12.0))
        keyed = skeleton.rest.rotations[run.rotated].astype(np.float32)
        np.testing.assert_array_equal(turned, np.broadcast_to(keyed, turned.shape))
        self.assertEqual(added.max(), 0.0)

    def test_clip_in_another_pose_is_reached_without_a_pop(self):
        skeleton = curled()
        pose = turning_clip(1, [0.0, 2.0], [1.2, 1.2])
        _, turned, _, added = simulate(skeleton, pose, chain_setup(preroll=48.0, settle_time=12.0))
        self.assertLess(added[0, 0], 0.02)
        steps = np.abs(np.diff(turned, axis=0)).max()
        self.assertLess(steps, 0.02)

    def test_without_preroll_the_take_begins_in_the_clip_s_first_pose(self):
        skeleton = curled()
        *_, added = simulate(skeleton, turning_clip(0, [0.0, 1.0], [0.9, 0.2]), chain_setup())
        self.assertEqual(added[0, 0], 0.0)

    def test_amount_zero_is_the_keyed_clip_to_the_bit(self):
        skeleton = curled()
        setup = chain_setup(gravity=100.0)
        layer = setup.layers[0]
        object.__setattr__(layer, "amount", ((0.0, 0.0), (6.0, 0.0), (12.0, 1.0)))
        run, turned, _, added = simulate(skeleton, turning_clip(0, [0.0, 1.0], [0.0, 1.0]), setup)
        keyed = run.clip.sample(skeleton, np.arange(25) / 24.0).rotations[:, run.rotated].astype(np.float32)
        np.testing.assert_array_equal(turned[:7], keyed[:7])
        self.assertEqual(added[:7].max(), 0.0)
        self.assertGreater(added[12:].max(), 0.001)


class RepeatTest(TestCase):
    def test_two_runs_and_any_number_of_threads_give_the_same_bits(self):
        from quiver.rig.character import Character  # noqa: PLC0415
        from quiver.run.spec import TakeSpec  # noqa: PLC0415

        positions, parents, names = [np.zeros(3)], [-1], ["base"]
        for chain in range(300):
            parent = 0
            for k in range(3):
                positions.append(np.array([0.05 * k + 0.02, 0.01 * chain, 0.0]) if k == 0 else np.array([0.05, 0.0, 0.0]))
                parents.append(parent)
                names.append(f"c{chain}_{k}")
                parent = len(positions) - 1
        skeleton = skeleton_of(positions, parents, names)
        setup = Setup(preroll_frames=0.0)
        for chain in range(300):
            setup = edits.with_new_chain(setup, ChainPick(f"c{chain}_0"))
        clip = turning_clip(0, [0.0, 0.2, 0.4], [0.0, 1.0, -0.4])
        character = Character("many", skeleton, (), (clip,))
        results = []
        for threads in (1, 2, 2):
            run = Run(TakeSpec(character, setup, "clip"), threads=threads)
            results.append(np.concatenate([chunk.rotations for chunk in run.chunks()]))
        np.testing.assert_array_equal(results[0], results[1])
        np.testing.assert_array_equal(results[1], results[2])


class MirrorTest(TestCase):
    def test_mirrored_character_moves_as_its_mirror_image(self):
        dials = {"gravity": 60.0, "drag": 5.0, "bend_limit": 50.0, "wobble_taper": 60.0}
        worlds = []
        for sign in (1.0, -1.0):
            skeleton = curled(sign)
            clip = turning_clip(0, [0.0, 0.3, 0.5, 1.5], [0.0, sign * 0.8, -sign * 0.3, 0.0])
            run, *arrays, _ = simulate(skeleton, clip, chain_setup(**dials))
            worlds.append(world_of(run, *arrays)[:, :, :, 3])
        np.testing.assert_allclose(worlds[1] * [-1.0, 1.0, 1.0], worlds[0], atol=2e-6)

    def test_character_mirrored_by_its_scale_moves_as_its_mirror_image(self):
        clip = turning_clip(1, [0.0, 0.3, 0.5, 1.5], [0.0, 0.8, -0.3, 0.0])
        worlds = []
        for scale in ([1.0, 1.0, 1.0], [-1.0, 1.0, 1.0]):
            skeleton = skeleton_of(CURLED, list(range(-1, 6)), scales=[scale, *[[1.0] * 3] * 6])
            run, *arrays, _ = simulate(skeleton, clip, chain_setup(root="j1", gravity=50.0))
            worlds.append(world_of(run, *arrays)[:, :, :, 3])
        np.testing.assert_allclose(worlds[1] * [-1.0, 1.0, 1.0], worlds[0], atol=2e-6)


class FrameRateTest(TestCase):
    def test_24_30_and_60_frames_a_second_give_the_same_motion(self):
        skeleton = straight(6)
        times = np.linspace(0.0, 2.0, 13)
        clip = turning_clip(0, times, 0.5 * np.sin(5.0 * times))
        tips = {}
        for rate in (24, 30, 60):
            # Dials count in frames, so the same time is another number of frames.
            setup = chain_setup(frame_rate=float(rate), wobble_rate=1.7, settle_time=rate * 1.0, gravity=40.0)
            run, *arrays, _ = simulate(skeleton, clip, setup)
            tips[rate] = world_of(run, *arrays)[:: rate // 6, -1, :, 3]
        greatest = np.abs(tips[24] - tips[24][0]).max()
        for rate in (30, 60):
            self.assertLess(np.abs(tips[rate] - tips[24]).max(), 0.02 * greatest)


class JumpTest(TestCase):
    def test_teleport_of_the_root_does_not_whip(self):
        skeleton = straight(5)
        times = np.arange(49) / 24.0
        steady = np.stack([0 * times, 0 * times, 0.4 * np.sin(3 * times)], 1)
        away = steady + np.where(times[:, None] >= 1.0, [7.0, 3.0, -2.0], 0.0)
        setup = chain_setup(wobble_rate=2.0, settle_time=24.0)
        *_, expected = simulate(skeleton, moving_clip(0, times, steady), setup)
        *_, jumped = simulate(skeleton, moving_clip(0, times, away), setup)
        self.assertLess(jumped.max(), 1.2 * expected.max())
        self.assertLess(np.abs(jumped - expected).max(), 0.15 * expected.max())

    def test_flip_of_the_root_carries_the_chain_along(self):
        skeleton = straight(5)
        times = np.arange(49) / 24.0
        angles = np.where(times >= 1.0, np.pi, 0.0)
        *_, added = simulate(skeleton, turning_clip(0, times, angles, axis=(0.0, 1.0, 0.0)), chain_setup())
        self.assertLess(added.max(), 1e-4)

    def test_mirror_flip_in_the_middle_of_a_clip_carries_the_chain_along(self):
        skeleton = straight(5)
        times = np.arange(49) / 24.0
        scales = np.where(times[:, None] >= 1.0, [-1.0, 1.0, 1.0], [1.0, 1.0, 1.0])
        clip = Clip("clip", (Channel(0, "scale", "STEP", times, scales),), 0.0, 2.0)
        *_, added = simulate(skeleton, clip, chain_setup())
        self.assertLess(added.max(), 1e-4)

    def test_fast_but_steady_run_is_no_jump(self):
        skeleton = straight(3, 0.02)
        times = np.arange(25) / 24.0
        run, *_ = simulate(skeleton, moving_clip(0, times, np.stack([8.0 * times, 0 * times, 0 * times], 1)), chain_setup())
        frames = run.keyed(np.arange(25))
        from quiver.rig.pose import world_matrices  # noqa: PLC0415

        self.assertFalse(run.chains[0].jumps(world_matrices(skeleton, frames)).any())


class SturdyTest(TestCase):
    def test_no_setting_explodes(self):
        rng = np.random.default_rng(7)
        skeleton = curled()
        times = np.arange(0, 49) / 24.0
        for _ in range(40):
            dials = {
                "wobble_rate": rng.uniform(0, 12),
                "settle_time": rng.choice([1.0, 5.0, 480.0]),
                "drag": rng.uniform(0, 90),
                "gravity": rng.uniform(-200, 200),
                "stretch": rng.choice([0.0, 5.0, 50.0]),
                "bend_limit": rng.choice([0.0, 20.0, 180.0]),
                "swing_axes": rng.choice(["xyz", "xy", "z", ""]),
                "held": rng.choice(["root", "both"]),
                "wobble_taper": rng.uniform(10, 400),
            }
            clip = moving_clip(0, times, rng.normal(0, 0.5, (49, 3)))
            _, turned, translations, added = simulate(skeleton, clip, chain_setup(**dials))
            self.assertTrue(np.isfinite(turned).all() and np.isfinite(translations).all(), dials)
            # A chain of 0.7 m can at the most be turned over and stretched to two and a half times its length.
            self.assertLess(added.max(), 0.7 * 3.5, dials)


class SoftTest(TestCase):
    """Mudwick's blanket and belly in the hop: at other frame rates, far away and mirrored they do the same."""

    @classmethod
    def setUpClass(cls):
        glb, cls.setup = mudwick.build()
        cls.character, _ = read_character(glb, "Mudwick")

    def offsets(self, name, character=None, rate=24.0):
        """A layer's moves (F, R, 3) alone, at as many frames a second; dials that count in frames mean the same seconds."""
        layer, times = self.setup.layer(name), rate / 24.0
        drag = 100.0 * (1.0 - (1.0 - layer.value("drag") / 100.0) ** (1.0 / times))
        layer = replace(layer, values=layer.values | {"settle_time": layer.value("settle_time") * times, "drag": drag})
        setup = replace(self.setup, layers=(layer,), frame_rate=rate, preroll_frames=self.setup.preroll_frames * times)
        spec = TakeSpec(character or self.character, setup, "hop and land", 0, round(36 * times))
        return np.concatenate([chunk.offsets for chunk in execute(compile_plan(spec))])

    def moved(self, away):
        """Mudwick with his roots moved in all clips and at rest."""
        skeleton, roots = self.character.skeleton, self.character.skeleton.parents < 0
        rest = skeleton.rest.copy()
        rest.translations[roots] += away

        def shifted(channel):
            is_root = channel.path == "translation" and roots[channel.node]
            return replace(channel, values=channel.values + away) if is_root else channel

        clips = tuple(replace(clip, channels=tuple(map(shifted, clip.channels))) for clip in self.character.clips)
        return replace(self.character, skeleton=replace(skeleton, rest=rest), clips=clips)

    def mirrored(self):
        """Mudwick with left and right exchanged."""
        flip, turned = np.array([-1.0, 1.0, 1.0]), np.array([1.0, -1.0, -1.0, 1.0])
        rest = self.character.skeleton.rest.copy()
        rest.translations[:] *= flip
        rest.rotations[:] *= turned
        meshes = []
        for mesh in self.character.meshes:
            own = {"positions": (mesh.positions * flip).astype(np.float32), "triangles": np.ascontiguousarray(mesh.triangles[:, [0, 2, 1]])}
            if mesh.skin >= 0:
                own["inverse_binds"] = mesh.inverse_binds * np.outer(flip, np.append(flip, 1.0))
            meshes.append(replace(mesh, **own))
        signs = {"translation": flip, "rotation": turned, "scale": np.ones(3)}
        clips = tuple(
            replace(clip, channels=tuple(replace(each, values=each.values * signs[each.path]) for each in clip.channels))
            for clip in self.character.clips
        )
        skeleton = replace(self.character.skeleton, rest=rest)
        return replace(self.character, skeleton=skeleton, meshes=tuple(meshes), clips=clips)

    def test_frame_rates_distance_and_mirrors_change_nothing(self):
        for name, rates, far, mirror in (("saddle-blanket", 1e-3, 5e-3, 5e-3), ("belly", 1e-3, 1e-3, 1e-3)):
            plain = self.offsets(name)
            self.assertGreater(np.abs(plain).max(), 0.1, name)
            for rate in (12.0, 48.0):
                other = self.offsets(name, rate=rate)
                same = plain[::2][: len(other)] - other if rate < 24.0 else plain - other[::2][: len(plain)]
                self.assertLess(np.abs(same).max(), rates, (name, rate))
            away = self.offsets(name, self.moved(np.array([1000.0, 20.0, -300.0])))
            self.assertLess(np.abs(away - plain).max(), far, name)
            flipped = self.offsets(name, self.mirrored()) * np.float32([-1.0, 1.0, 1.0])
            self.assertLess(np.abs(flipped - plain).max(), mirror, name)
