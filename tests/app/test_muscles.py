"""Muscles in the app: brought in with the file, made by clicks, attached, pulled, mirrored, covered by tissue, baked."""

import numpy as np

from quiver.bake.joints import Track
from quiver.bodies.made import for_export
from quiver.demo.building import Builder, Part
from quiver.demo.shapes import vertex_normals
from quiver.formats.frames import read_messages
from quiver.formats.gltf.accessors import read_accessor
from quiver.formats.gltf.reading import read_character
from quiver.mesh import regions
from quiver.rig import transforms
from quiver.rig.pose import world_matrices
from quiver.rig.skinning import skinned_positions
from quiver.setup import edits
from quiver.setup.model import Setup
from studio.characters.models import Character
from studio.characters.services import bring_in, forget_loaded
from studio.takes.models import Take
from studio.takes.services import unpack_offsets
from tests.app.helpers import RunningDeskTest, body_of, run_waiting_jobs
from tests.formats.validator import issues_of
from tests.muscles import spindle
from tests.solids import box_surface

JOINTS = {"root": (None, (0, 1, 0))} | {
    f"{part}_{letter}": (f"upper_{letter}" if part == "lower" else "root", (side * x, 1.0, 0.0))
    for letter, side in (("l", 1.0), ("r", -1.0))
    for part, x in (("upper", 0.1), ("lower", 0.4))
}
"""Two arms, left and right."""


def arms_glb(pieces=()):
    """A GLB of two arms in sleeves of skin, with closed pieces [(positions, triangles)] of a mesh "muscles"; its clip bends both."""
    builder = Builder("arms", JOINTS)
    parts = []
    for letter, side in (("l", 1.0), ("r", -1.0)):
        positions, triangles = box_surface((0.66, 0.2, 0.2), (24, 6, 6))
        positions = (positions + np.array([0.05, 0.9, -0.1])) * [side, 1.0, 1.0]
        triangles = triangles if side > 0 else triangles[:, ::-1]
        share = np.clip((np.abs(positions[:, 0]) - 0.34) / 0.12, 0.0, 1.0)[:, None]
        weights = (1.0 - share) * builder.whole(f"upper_{letter}", len(positions)) + share * builder.whole(
            f"lower_{letter}", len(positions)
        )
        parts.append(Part(positions, triangles, vertex_normals(positions, triangles), np.full((len(positions), 3), 180.0), weights))
    builder.add_mesh("skin", parts, roughness=0.7)
    inner = []
    for positions, triangles in pieces:
        letter = "l" if positions[:, 0].mean() > 0 else "r"
        whole = builder.whole(f"upper_{letter}", len(positions))
        inner.append(Part(positions, triangles, vertex_normals(positions, triangles), np.full((len(positions), 3), 150.0), whole))
    if inner:
        builder.add_mesh("muscles", inner, roughness=0.7)
    tracks = []
    for letter, side in (("l", 1.0), ("r", -1.0)):
        turns = transforms.from_axis_angle(np.tile([0.0, 0.0, side], (2, 1)), np.radians([0.0, 60.0]))
        tracks.append(Track(builder.index(f"lower_{letter}"), "rotation", np.array([0.0, 1.0]), turns))
    builder.add_clip("bend", tracks)
    return builder.glb()


def last_offsets(take):
    """How the vertices that a take moves are moved in its last frame, (R, 3) [file units]."""
    chunk = take.chunks.last()
    return unpack_offsets(take, chunk)[-1] * chunk.offset_step


def piece(side, z, y=1.03):
    return spindle([side * 0.13, y, z], [side * 0.5, y, z], 0.024, shape=lambda along: 0.3 + 0.7 * np.sin(np.pi * along))


class MuscleTest(RunningDeskTest):
    def setUp(self):
        forget_loaded()

    def desk(self, pieces=(), setup=None):
        self.row = bring_in(arms_glb(pieces), "arms.glb", setup or Setup(preroll_frames=0.0))

    def layer(self):
        return next(layer for layer in self.fresh.setup.layers if layer.kind == "muscle")

    def change(self, muscle, **fields):
        return self.post(f"motion/{self.layer().id}/muscles/{muscle}/change/", **fields)

    def all(self, **fields):
        return self.post(f"motion/{self.layer().id}/muscles/", **fields)

    def test_twenty_pieces_of_a_file_are_muscles_with_one_form(self):
        pieces = [piece(side, z, y) for side in (1.0, -1.0) for z in (-0.06, 0.0, 0.06) for y in (0.95, 1.01, 1.07)][:18]
        self.desk([*pieces, piece(1.0, 0.03, 0.92), piece(-1.0, 0.03, 0.92)])
        self.assertContains(self.client.get(self.url("motion/new/")), "20 of 20 pieces")
        response = self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        self.assertEqual(response.status_code, 200)
        muscles = self.layer().muscles
        self.assertEqual(len(muscles), 20)
        for own in muscles:
            ends = {own.origin.joint[:5], own.insertion.joint[:5]}
            self.assertEqual(ends, {"upper", "lower"})
            self.assertEqual(own.origin.joint[-1], own.insertion.joint[-1])
        run_waiting_jobs()
        take = Take.objects.latest("pk")
        self.assertEqual(take.job.state, "finished", take.job.message)
        self.assertIn("muscles", take.measures)
        shown = self.client.get(self.url(f"motion/?layer={self.layer().id}"))
        self.assertContains(shown, 'data-where="1 ', 20)
        self.assertNotContains(shown, "set aside")
        score = self.heard(take.pk)["score"]
        self.assertEqual(score.count('data-muscle="'), 20)

    def test_made_by_clicks_driven_mirrored_covered_and_baked(self):
        self.desk()
        skin = read_character(arms_glb(), "arms")[0].meshes[0]
        self.post("motion/add/", kind="muscle")
        self.assertEqual(self.layer().muscles, ())
        near = [int(np.argmin(np.linalg.norm(skin.positions - place, axis=1))) for place in ([0.15, 1.1, 0.0], [0.52, 1.1, 0.0])]
        self.all(command="make", mesh="skin", vertices=" ".join(map(str, near)), shape="spindle", width="70", thickness="60")
        (own,) = self.layer().muscles
        self.assertEqual((own.origin.joint, own.insertion.joint), ("upper_l", "lower_l"))
        self.assertAlmostEqual(own.form.points[0][1], 1.1 - 0.55 * 0.06, places=3)
        self.change(own.id, command="drive", by="angle", joint="lower_l", low="0", high="50")
        self.all(command="mirror")
        first, other = self.layer().muscles
        self.assertEqual((other.origin.joint, other.insertion.joint, other.drivers[0].of), ("upper_r", "lower_r", "lower_r"))
        self.assertEqual((first.name, other.name), ("upper_l to lower_l", "upper_r to lower_r"))
        np.testing.assert_allclose(np.array(other.form.points), np.array(first.form.points) * [-1, 1, 1])
        levels = np.where(np.abs(np.abs(skin.positions[:, 0]) - 0.32) < 0.24, regions.IN_FULL, regions.OUT).astype(np.uint8)
        setup = edits.with_new_region(self.fresh.setup, "Arms", "skin", len(levels), regions.encode(levels))
        self.row = bring_in(arms_glb(), "arms2.glb", edits.with_new_soft(setup, "tissue", setup.regions[-1].id, thickness=30.0))
        run_waiting_jobs()
        self.post("takes/run/")
        run_waiting_jobs()
        take = Take.objects.filter(character=self.row).latest("pk")
        self.assertEqual(take.job.state, "finished", take.job.message)
        self.assertGreater(max(max(pulls) for pulls in take.measures[self.layer().id]["pulls"]), 0.9)
        # The stage knows which mesh is whose, whatever is made or removed later.
        moved = read_messages(self.frames(take))[0]["moved"]
        made = [mesh["name"] for mesh in self.client.get(self.url("motion/looks.json")).json()["made"]]
        self.assertEqual([each["name"] for each in moved], ["", *made])
        tissue = take.layer_ids.index("arms")
        self.assertGreater(max(row[tissue] for row in take.added), 1.0)
        self.post("bake/start/", take=take.pk, name="soft", first="0", last="24", step="1", form="glb", shape_limit="0.5")
        run_waiting_jobs()
        made = take.bakes.first()
        data = body_of(self.client.get(f"/bakes/{made.pk}/download"))
        issues = issues_of(data)
        self.assertEqual(issues["numErrors"], 0, issues)
        self.assertGreater(made.report["shapes"], 0)
        self.assertEqual([mesh.name for mesh in read_character(data, "arms")[0].meshes], ["skin"])
        self.post("bake/start/", take=take.pk, name="with", first="0", last="24", step="1", form="glb", shape_limit="0.1", has_muscles="1")
        run_waiting_jobs()
        data = body_of(self.client.get(f"/bakes/{take.bakes.first().pk}/download"))
        issues = issues_of(data)
        self.assertEqual(issues["numErrors"], 0, issues)
        self.assert_muscle_is_as_simulated(take, data)

    def test_muscles_of_a_take_are_brought_back_and_nothing_else_is(self):
        self.desk([piece(1, 0.0)])
        self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        self.all(command="drive", by="shortening", low="0", high="15")
        self.post("takes/run/")
        run_waiting_jobs()
        take = Take.objects.filter(character=self.row).latest("pk")
        before = self.layer()
        self.change(before.muscles[0].id, command="rename", value="Renamed")
        self.all(command="drive", by="speed", low="0", high="90")
        self.post("motion/scene/", dial="preroll_frames", value="7")
        page = self.client.get(f"/characters/{self.row.pk}/takes/").content.decode()
        self.assertIn(f"/takes/{take.pk}/muscles/", page)
        self.client.post(f"/takes/{take.pk}/muscles/")
        self.assertEqual(self.layer(), before)
        self.assertEqual(self.fresh.setup.preroll_frames, 7.0)

    def assert_muscle_is_as_simulated(self, take, data):
        """A muscle made here is a mesh of the file, and its shapes put it where the take has it in the last frame."""
        own = self.layer().muscles[0]
        character, document = read_character(data, "arms")
        (index,) = (number for number, mesh in enumerate(character.meshes) if mesh.name == own.name)
        mesh, clip = character.meshes[index], next(clip for clip in character.clips if clip.name == "with")
        world = world_matrices(character.skeleton, clip.sample(character.skeleton, np.array([1.0])))[0]
        targets = document.tree["meshes"][document.tree["nodes"][mesh.node]["mesh"]]["primitives"][0]["targets"]
        animation = next(each for each in document.tree["animations"] if each["name"] == "with")
        channel = next(each for each in animation["channels"] if each["target"] == {"node": mesh.node, "path": "weights"})
        sampler = animation["samplers"][channel["sampler"]]
        weights = read_accessor(document, sampler["output"], "weights").reshape(-1, len(targets))[-1]
        shown = mesh.positions + sum(
            weight * read_accessor(document, target["POSITION"], "target") for weight, target in zip(weights, targets, strict=True)
        )
        shown = shown @ world[mesh.node, :, :3].T + world[mesh.node, :, 3]
        character = for_export(read_character(arms_glb(), "arms")[0], take.version.setup)
        # Its mesh comes first after the skin.
        offsets, vertices, begin = last_offsets(take), take.moved["1"], len(take.moved["0"])
        keyed = skinned_positions(character.meshes[1], world)
        keyed[vertices] += offsets[begin : begin + len(vertices)]
        self.assertLess(np.abs(shown - keyed).max(), 0.0005)

    def test_what_is_set_aside_is_listed_with_its_place(self):
        points, triangles = piece(-1.0, 0.0)
        self.desk([piece(1.0, 0.0), (points, triangles[: len(triangles) // 2])])
        self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        shown = self.client.get(self.url(f"motion/?layer={self.layer().id}"))
        self.assertContains(shown, "1 piece set aside")
        self.assertContains(shown, "muscles 2 is open: ")
        self.assertEqual(len(self.layer().muscles), 1)

    def test_what_has_no_lattice_says_so(self):
        self.desk([piece(1.0, 0.0)])
        self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        for path in ("lattice", "volume/"):
            answer = self.client.get(self.url(f"motion/{self.layer().id}/{path}"))
            self.assertContains(answer, "“muscles”", status_code=422)

    def test_forms_say_what_is_wrong_and_change_nothing(self):
        self.desk([piece(1.0, 0.0), piece(-1.0, 0.0)])
        self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        before, own = self.fresh.current_id, self.layer().muscles[0].id
        for fields, words in (
            ({"command": "attach", "end": "origin", "to": "joint:nowhere"}, "joint or a bone"),
            ({"command": "attach", "end": "middle", "to": "joint:root"}, "origin, insertion"),
            ({"command": "drive", "by": "angle", "joint": "lower_l", "low": "5", "high": "5"}, "from one value to another"),
            ({"command": "keys", "frame": "3", "value": "2"}, "pull from 0 to 1"),
            ({"command": "dial", "dial": "weight", "value": "50"}, "one of Wobble rate"),
            ({"command": "smooth", "value": "-1"}, "smoothing"),
            ({"command": "dance"}, "one of rename"),
        ):
            self.assertContains(self.change(own, **fields), words, status_code=422)
        self.assertContains(self.all(command="make", mesh="skin", vertices="3", shape="spindle"), "2 to 16 points", status_code=422)
        self.assertContains(self.all(command="mirror"), "other side has no piece", status_code=422)
        self.assertContains(self.post("motion/add/", kind="muscle", muscle_mesh="muscles"), "no muscles yet", status_code=422)
        self.assertEqual(self.fresh.current_id, before)

    def test_one_muscle_s_own_dials_keys_and_ends(self):
        self.desk([piece(1.0, 0.0)])
        self.post("motion/add/", kind="muscle", muscle_mesh="muscles")
        own = self.layer().muscles[0]
        self.change(own.id, command="dial", dial="shortening", value="11")
        self.change(own.id, command="keys", frame="0", value="0.2", add="1", new_frame="9", new_value="1")
        self.change(own.id, command="attach", end="insertion", to="joint:lower_l", reach="40", firmness="2")
        now = self.layer().muscles[0]
        self.assertEqual((now.values, now.keys), ({"shortening": 11.0}, ((0.0, 0.2), (9.0, 1.0))))
        self.assertEqual((now.insertion.reach, now.insertion.firmness), (40.0, 2.0))
        self.assertContains(self.client.get(self.url(f"motion/{self.layer().id}/muscles/{own.id}/")), 'value="11"')
        looks = self.client.get(self.url("motion/looks.json")).json()
        self.assertEqual(len(looks["muscles"]), 1)
        self.assertGreater(len(looks["muscles"][0]["strokes"]), 50)
        self.change(own.id, command="dial", dial="shortening", value="")
        self.assertEqual(self.layer().muscles[0].values, {})
        response = self.all(command="rest", clip="bend")
        self.assertEqual(self.layer().rests, ("bend", 0.0))
        self.assertContains(response, "They fit in")
        self.all(command="rest", clip="bend", frame="12")
        self.assertEqual(self.layer().rests, ("bend", 12.0))
        self.assertEqual(self.all(command="rest", clip="swim", frame="0").status_code, 422)
        self.all(command="rest", clip="")
        self.assertIsNone(self.layer().rests)

    @property
    def fresh(self):
        return Character.objects.get(pk=self.row.pk)
