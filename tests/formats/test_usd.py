"""USD files pass USD's own validation and hold the positions that went in. Skipped where the optional extra is not installed."""

import pathlib
import tempfile
from unittest import TestCase, skipUnless

import numpy as np

from quiver.formats import usd
from quiver.formats.gltf.reading import read_character
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from tests.formats.makers import arm, glb_bytes


class NameTest(TestCase):
    def test_names_that_usd_allows(self):
        self.assertEqual(usd.identifier("left arm.01", []), "left_arm_01")
        self.assertEqual(usd.identifier("1st", ["_1st"]), "_1st_2")
        self.assertEqual(usd.identifier("Körper", []), "K_rper")


@skipUnless(usd.is_there(), "usd-core is not installed")
class UsdTest(TestCase):
    def test_it_is_valid_and_comes_back(self):
        from pxr import Usd, UsdGeom, UsdSkel, UsdValidation  # noqa: PLC0415  (an optional extra)

        character, _ = read_character(glb_bytes(arm(z_up=True)), "arm")
        frames = np.arange(4, 9)
        poses = character.clip("wave").sample(character.skeleton, frames / 24.0)
        worlds = world_matrices(character.skeleton, poses)
        positions = [[skinned_positions(mesh, world) for mesh in character.meshes] for world in worlds]
        with tempfile.TemporaryDirectory() as folder:
            path = pathlib.Path(folder) / "arm.usdc"
            usd.write(path, character, "arm 1", 24.0, frames, 0.01, zip((poses[k] for k in range(5)), positions, strict=True))
            stage = Usd.Stage.Open(str(path))
            registry = UsdValidation.ValidationRegistry()
            errors = UsdValidation.ValidationContext(registry.GetOrLoadAllValidators()).Validate(stage)
            severe = [error.GetMessage() for error in errors if error.GetType() == UsdValidation.ValidationErrorType.Error]
            self.assertEqual(severe, [])
            self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()), (4.0, 8.0, 24.0))
            mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/arm_1/Meshes/strip"))
            for number, frame in enumerate(frames):
                points = np.array(mesh.GetPointsAttr().Get(Usd.TimeCode(float(frame))))
                np.testing.assert_array_equal(points, positions[number][0])
            skel = UsdSkel.Skeleton(stage.GetPrimAtPath("/arm_1/Rig/Skeleton"))
            query = UsdSkel.Cache().GetSkelQuery(skel)
            shown = np.array([np.array(m) for m in query.ComputeJointSkelTransforms(Usd.TimeCode(6.0))])
            np.testing.assert_allclose(shown[:, 3, :3], worlds[2][character.skeleton.order][:, :, 3], atol=1e-5)
