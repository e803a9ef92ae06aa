"""Setups that travel to other characters and revised models."""

import unittest
from dataclasses import replace

import numpy as np

from bench.characters import mudwick_as_shipped
from quiver import travel
from quiver.mesh import regions
from quiver.rig.clip import Clip
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.setup.document import dumps, loads


def revised(character, rename=str, size=1.0, shift=(0.0, 0.0, 0.0), finer=()):
    """The character with other names of joints, larger and elsewhere; meshes named in ``finer`` have each triangle cut into four."""
    skeleton, shift = character.skeleton, np.asarray(shift)
    roots, rest = (skeleton.parents < 0)[:, None], skeleton.rest
    rest = replace(rest, translations=size * rest.translations + roots * shift)
    skeleton = replace(skeleton, names=tuple(map(rename, skeleton.names)), rest=rest)
    meshes = []
    for mesh in character.meshes:
        own = {"positions": np.float32(size * mesh.positions)}
        if mesh.skin >= 0:
            binds = mesh.inverse_binds.copy()
            binds[:, :, 3] *= size
            own["inverse_binds"] = binds
        meshes.append(replace(mesh, **own))
    return replace(character, skeleton=skeleton, meshes=tuple(_finer(mesh) if mesh.name in finer else mesh for mesh in meshes))


def _finer(mesh):
    """A mesh whose old vertices come first and whose new ones are the middles of its sides."""
    sides = np.sort(mesh.triangles[:, [[0, 1], [1, 2], [2, 0]]], axis=2)
    edges, number = np.unique(sides.reshape(-1, 2), axis=0, return_inverse=True)
    a, b, c = mesh.triangles.T
    ab, bc, ca = (len(mesh.positions) + number.reshape(-1, 3)).T
    triangles = np.concatenate([np.stack(corners, 1) for corners in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
    own = {
        "positions": np.concatenate([mesh.positions, mesh.positions[edges].mean(1)]),
        "triangles": triangles.astype(np.int32),
        "colours": None,
    }
    if mesh.skin >= 0:
        heavier = np.where(mesh.weights[edges].max(2).argmax(1) == 0, edges[:, 0], edges[:, 1])
        own |= {
            "joints": np.concatenate([mesh.joints, mesh.joints[heavier]]),
            "weights": np.concatenate([mesh.weights, mesh.weights[heavier]]),
        }
    return replace(mesh, **own)


class TravelTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.character, cls.setup = mudwick_as_shipped()

    def test_onto_the_same_model_nothing_changes(self):
        journey = travel.travelled(self.setup, self.character, self.character)
        self.assertEqual((journey.left_out, journey.unsure), ([], {}))
        self.assertEqual(journey.setup.regions, self.setup.regions)
        self.assertEqual(journey.setup.colliders, self.setup.colliders)
        self.assertEqual([replace(layer, built="") for layer in self.setup.layers], list(journey.setup.layers))

    def test_onto_a_finer_model_old_vertices_keep_their_levels(self):
        names = {region.mesh for region in self.setup.regions}
        target = revised(self.character, finer=names)
        journey = travel.travelled(self.setup, self.character, target)
        self.assertEqual(journey.left_out, [])
        for before, after in zip(self.setup.regions, journey.setup.regions, strict=True):
            old = regions.decode(before.values, before.vertices)
            new = regions.decode(after.values, after.vertices)
            self.assertGreater(len(new), 3 * len(old))
            # Where a part crosses itself another place may be just as near.
            self.assertGreater((new[: len(old)] == old).mean(), 0.999)
        plan = compile_plan(TakeSpec(target, replace(journey.setup, layers=journey.setup.layers[:6]), "walk"))
        self.assertGreater(len(plan.parts), 3)

    def test_what_is_near_to_new_skin_is_unsure_and_what_is_far_from_it_is_not(self):
        """A hump grows on his shoulders, above the muscles there and far from his belly."""
        skin = max(self.character.meshes, key=lambda mesh: len(mesh.positions))
        places = skin.positions.astype(float)
        middle = places[places[:, 1] > np.quantile(places[:, 1], 0.8)].mean(0)
        grown = np.exp(-((np.linalg.norm(places - middle, axis=1) / 0.25) ** 2))[:, None] * (0.0, 0.35, 0.0)
        humped = replace(skin, positions=(places + grown).astype(np.float32))
        target = replace(self.character, meshes=tuple(humped if mesh is skin else mesh for mesh in self.character.meshes))
        journey = travel.travelled(self.setup, self.character, target)
        self.assertEqual(list(journey.unsure), ["shoulders-and-haunches"])
        found = journey.unsure["shoulders-and-haunches"]
        self.assertGreater(grown[found].max(1).min(), 0.02)
        self.assertGreater(found.sum(), 50)

    def test_other_names_larger_and_elsewhere(self):
        def rename(name):
            return f"rig:{name.replace('_l', '.L').replace('_r', '.R').title()}_jnt"

        target = revised(self.character, rename, 2.5, (4.0, 0.0, -3.0))
        journey = travel.travelled(self.setup, self.character, target)
        self.assertEqual(journey.left_out, [])
        wrong = {old: new for old, new in journey.joints.items() if new != rename(old)}
        self.assertEqual(wrong, {})
        for before, after in zip(self.setup.colliders, journey.setup.colliders, strict=True):
            np.testing.assert_allclose(after.size, 2.5 * np.array(before.size), rtol=1e-6)
        self.assertEqual([region.values for region in journey.setup.regions], [region.values for region in self.setup.regions])
        compile_plan(TakeSpec(target, replace(journey.setup, layers=journey.setup.layers[:7]), "walk"))
        self.assertEqual(loads(dumps(journey.setup)), journey.setup)

    def test_what_finds_nothing_is_left_out_and_listed(self):
        target = revised(self.character, lambda name: f"zz{number_of(name)}" if name.startswith(("tail", "barbel")) else name)
        target = replace(target, clips=(Clip("other", (), 0.0, 1.0),))
        setup = replace(self.setup, cycles=("walk", "other"))
        journey = travel.travelled(setup, self.character, target)
        names = [what for what, _ in journey.left_out]
        self.assertTrue(any("tail" in name.lower() for name in names))
        kept = {layer.id for layer in journey.setup.layers}
        self.assertNotIn("tail", kept)
        self.assertIn("belly", kept)
        self.assertEqual(journey.setup.cycles, ("other",))
        # By hand they are found.
        by_hand = {name: f"zz{number_of(name)}" for name in travel.joints_of(setup) if name.startswith(("tail", "barbel"))}
        again = travel.travelled(setup, self.character, target, by_hand)
        self.assertIn("tail", {layer.id for layer in again.setup.layers})

    def test_a_mesh_that_is_gone_takes_its_regions_and_layers_along(self):
        target = replace(self.character, meshes=tuple(replace(mesh, name=f"q{k}") for k, mesh in enumerate(self.character.meshes)))
        journey = travel.travelled(self.setup, self.character, target)
        self.assertEqual(journey.setup.regions, ())
        self.assertFalse([layer for layer in journey.setup.layers if layer.region])
        self.assertIn("tail", {layer.id for layer in journey.setup.layers})
        said = ("no mesh like", "did not come over", "none of", "to be attached to")
        self.assertTrue(all(any(words in why for words in said) for _, why in journey.left_out), journey.left_out)

    def test_names_are_alike_whatever_their_sides_are_called(self):
        self.assertEqual(travel.alike("Arm_L.001", "leftArm1"), 1.0)
        self.assertEqual(travel.alike("Arm_L", "Arm_R"), 0.0)
        self.assertGreater(travel.alike("tail_03", "Tail.3"), 0.9)
        self.assertEqual(travel.matched_names(["skin", "bell"], ["Bell", "Skin", "hat"]), {"skin": "Skin", "bell": "Bell"})


def number_of(name):
    return sum(ord(letter) * 31**place for place, letter in enumerate(name)) % 100003
