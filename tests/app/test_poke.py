"""Poking through the app: what the process tells the stage, and that it waits for what is shown."""

import json
import queue
import time

from studio.poke import services
from tests.app.helpers import DeskTest


def messages(data):
    """Plain facts in a stream's bytes, and how many frames it has."""
    facts, count, at = [], 0, 0
    while at < len(data):
        length, kind = int.from_bytes(data[at : at + 4], "little"), int.from_bytes(data[at + 4 : at + 8], "little")
        if kind == 0:
            facts.append(json.loads(data[at + 8 : at + 8 + length]))
        else:
            count += 1
        at += 8 + length
    return facts, count


class PlayTest(DeskTest):
    def play(self, lines, pk=None):
        sent = []
        services.play_from(pk or self.fresh.pk, iter(lines), sent.append)
        return messages(b"".join(sent))

    def test_it_sends_no_more_than_the_stage_has_seen(self):
        sent = []
        wishes_in = iter([{"seen": 1}, {"do": "drop"}, {"do": "sing"}, None])

        class Slow(queue.Queue):
            def get(self, timeout=None):
                time.sleep(0.01)
                return next(wishes_in)

            def get_nowait(self):
                raise queue.Empty

        services.play(self.fresh.pk, {}, Slow(), sent.append)
        facts, count = messages(b"".join(sent))
        self.assertEqual(count, services.AHEAD + 1)
        self.assertIn("things", facts[0])
        self.assertIn("rotated", facts[1])
        self.assertTrue(any("sing" in each.get("refused", "") for each in facts))
        self.assertEqual([each["frame"] for each in facts if "frame" in each], [1, 2, 3])

    def test_bad_beginnings_are_told(self):
        for begin in ({"clip": "no such clip"}, {"clip": 3}, {"frame": -1}, {"frame": True}):
            facts, count = self.play([json.dumps(begin).encode()])
            self.assertEqual(count, 0)
            self.assertIn("expected", facts[-1]["message"])
        facts, _ = self.play([b"{}"], pk=10**6)
        self.assertIn("gone", facts[-1]["message"])

    def test_an_end_of_the_lines_ends_it(self):
        facts, count = self.play([b"not json", b"nor this"])
        self.assertLessEqual(count, services.AHEAD)
        self.assertNotIn("end", facts[-1])

    def test_the_desk_offers_it(self):
        self.assertContains(self.client.get(self.url("takes/")), f"/characters/{self.fresh.pk}/poke")
