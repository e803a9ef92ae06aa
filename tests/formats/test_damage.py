"""Damaged files: each is read or refused, none takes long or fills the memory. All of them by ``python -m tests.formats.damage``."""

import resource
import time
from unittest import TestCase

from tests.formats import damage
from tests.formats.makers import arm, glb_bytes

IN_CI, LONGEST, MOST_GB = 400, 10.0, 2.0


class DamageTest(TestCase):
    def test_none_ends_in_a_traceback_takes_long_or_fills_the_memory(self):
        outcomes = {"read": 0, "refused": 0}
        for seed in range(IN_CI):
            began = time.perf_counter()
            with self.subTest(number=seed):
                outcomes[damage.read(damage.damaged(seed))] += 1
                self.assertLess(time.perf_counter() - began, LONGEST)
        self.assertGreater(min(outcomes.values()), 20)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20, MOST_GB)

    def test_a_small_file_of_huge_counts_is_refused(self):
        tree, binary = damage._split(glb_bytes(arm()))
        for accessor in tree["accessors"]:
            accessor["count"] = 10**9
            accessor.pop("bufferView", None)
        self.assertEqual(damage.read(damage._joined(tree, binary)), "refused")

    def test_what_is_wrong_is_listed_whole(self):
        tree, binary = damage._split(glb_bytes(arm()))
        tree["nodes"][0]["translation"], tree["meshes"][0]["primitives"], tree["accessors"][1]["count"] = "here", 7, -3
        with self.assertRaises(Exception) as caught:
            damage.read_character(damage._joined(tree, binary), "damaged")
        positions = {finding.where for finding in caught.exception.findings}
        self.assertEqual(positions, {"nodes[0].translation", "meshes[0].primitives", "accessors[1].count"})

    def test_half_a_letter_in_a_name_is_replaced_and_a_number_of_thousands_of_digits_refused(self):
        tree, binary = damage._split(glb_bytes(arm()))
        tree["nodes"][0]["name"] = "\ud800tail"
        character, _ = damage.read_character(damage._joined(tree, binary), "damaged")
        self.assertEqual(character.skeleton.names[0], "?tail")
        text = damage._joined(tree, binary).replace(b'"version": "2.0"', b'"version": "2.0", "extras": ' + b"9" * 5000)
        self.assertEqual(damage.read(text), "refused")
