"""The stream to the stage keeps its stated error bound."""

from unittest import TestCase

import numpy as np

from quiver.formats import frames
from quiver.rig import transforms


class FramesTest(TestCase):
    def test_what_was_written_is_read_within_the_bound(self):
        rng = np.random.default_rng(0)
        rotations = transforms.normalised(rng.normal(size=(9, 5, 4)))
        moves, scales = rng.normal(size=(9, 2, 3)), rng.normal(size=(9, 1, 3))
        data = frames.header([1, 2, 3, 4, 5], [7, 8], [9], 24.0, 3, 9)
        data += frames.chunk(3, rotations[:4], moves[:4], scales[:4]) + frames.chunk(7, rotations[4:], moves[4:], scales[4:])
        head, chunks, end = frames.read_messages(data + frames.ending({"state": "finished"}))
        self.assertEqual((head["rotated"], head["frames"], end["state"]), ([1, 2, 3, 4, 5], 9, "finished"))
        self.assertEqual([chunk[0] for chunk in chunks], [3, 7])
        read = transforms.normalised(np.concatenate([chunk[1] for chunk in chunks]))
        off = np.degrees(4 * np.arcsin(np.minimum(1.0, np.linalg.norm(read - rotations, axis=-1) / 2)))
        self.assertLess(off.max(), head["boundDegrees"])
        self.assertGreater(off.max(), 0.1 * head["boundDegrees"])
        np.testing.assert_allclose(np.concatenate([chunk[2] for chunk in chunks]), moves, atol=1e-6)
        np.testing.assert_allclose(np.concatenate([chunk[3] for chunk in chunks]), scales, atol=1e-6)

    def test_offsets_are_within_half_a_step_and_large_ones_fit(self):
        rng = np.random.default_rng(1)
        for size in (0.5, 20.0):
            offsets = rng.uniform(-size, size, (3, 7, 3))
            steps, step = frames.quantised(offsets, frames.OFFSET_STEP)
            data = frames.header([], [], [], 24.0, 0, 3, {2: range(7)}, {2: "made"})
            data += frames.chunk(0, np.zeros((3, 0, 4)), np.zeros((3, 0, 3)), None, steps, step)
            head, chunks, _ = frames.read_messages(data)
            self.assertEqual(head["moved"], [{"mesh": 2, "vertices": list(range(7)), "name": "made"}])
            self.assertLess(np.abs(chunks[0][4] - offsets).max(), 0.51 * max(frames.OFFSET_STEP, size / frames.STEPS))
