"""What pulls muscles, what they are made of, and which results are used again."""

from dataclasses import replace
from unittest import TestCase

import numpy as np

from quiver.bodies import attaching, made, muscle, pieces
from quiver.errors import BadInput
from quiver.rig.pose import world_matrices
from quiver.rig.reposed import reposed
from quiver.run.execute import Execution, execute
from quiver.run.parts.built_muscle import BuiltMuscle
from quiver.run.plan import compile_plan
from quiver.run.results import Results
from quiver.run.spec import TakeSpec
from quiver.setup import document, edits
from quiver.setup import muscles as muscle_edits
from quiver.setup.model import Attachment, Muscle, MuscleForm, PullDriver
from tests.muscles import LOWER, UPPER, limb, muscle_layer, setup_of, spindle

PIECE = spindle([0.03, 0.05, 0], [0.34, 0.05, 0], 0.03, shape=lambda along: 0.25 + 0.75 * np.sin(np.pi * along))


def pulls_of(character, layer, **scene):
    """The pulls (F, Q) of a take."""
    plan = compile_plan(TakeSpec(character, setup_of(layer, **scene), "bend"))
    return np.concatenate([chunk.measures["muscles"]["pulls"] for chunk in execute(plan)])


class PullTest(TestCase):
    def test_an_angle_pulls_from_one_end_of_its_range_to_the_other(self):
        for low, high, scene in ((10.0, 50.0, {}), (50.0, 10.0, {"frame_rate": 30.0}), (0.0, 80.0, {"scale": 0.01})):
            character = limb([PIECE], bend=60.0, scale=scene.get("scale", 1.0))
            driver = PullDriver("angle", LOWER, low, high, curve="even")
            found = pulls_of(character, muscle_layer(drivers=(driver,)), **scene)[:, 0]
            angles = np.linspace(0.0, 60.0, len(found))
            np.testing.assert_allclose(found, np.clip((angles - low) / (high - low), 0.0, 1.0), atol=0.02)

    def test_shortening_speed_keys_and_others_are_mixed(self):
        character = limb([PIECE, PIECE], bend=60.0)
        second = len(PIECE[0])
        drivers = (PullDriver("shortening", low=0.0, high=8.0, curve="even"),)
        both = muscle_layer((0, second), drivers=drivers)
        first, other = both.muscles
        slave = replace(
            other, drivers=(PullDriver("muscle", first.id, 0.0, 1.0, curve="even", share=0.5),), keys=((0.0, 0.0), (24.0, 0.25))
        )
        found = pulls_of(character, replace(both, muscles=(first, slave)))
        self.assertGreater(found[-1, 0], 0.5)
        np.testing.assert_allclose(found[:, 1], 0.5 * found[:, 0] + np.linspace(0.0, 0.25, len(found)), atol=0.02)
        speed = muscle_layer(drivers=(PullDriver("speed", low=0.0, high=10.0),))
        self.assertGreater(pulls_of(limb([PIECE], bend=60.0), speed).max(), 0.5)

    def test_smoothing_spreads_a_pull_over_frames_and_loses_none(self):
        keys = ((9.0, 0.0), (10.0, 0.8), (11.0, 0.0))
        layer = muscle_layer(keys=keys)
        sharp = pulls_of(limb([PIECE]), layer)[:, 0]
        soft = pulls_of(limb([PIECE]), replace(layer, muscles=(replace(layer.muscles[0], smoothing=1.5),)))[:, 0]
        self.assertAlmostEqual(soft.sum(), sharp.sum(), delta=0.01)
        self.assertLess(soft.max(), 0.5 * sharp.max())
        self.assertGreater(soft[7], 0.02)

    def test_muscles_that_pull_each_other_in_a_circle_are_refused(self):
        both = muscle_layer((0, len(PIECE[0])))
        pulled = [
            replace(own, drivers=(PullDriver("muscle", other.id, 0.0, 1.0),))
            for own, other in zip(both.muscles, both.muscles[::-1], strict=True)
        ]
        with self.assertRaisesRegex(BadInput, "circle"):
            compile_plan(TakeSpec(limb([PIECE, PIECE]), setup_of(replace(both, muscles=tuple(pulled))), "bend"))

    def test_a_pull_bulges_and_tendons_do_not_shorten(self):
        moved = {}
        for tendon in (0.0, 30.0):
            layer = muscle_layer(keys=((0.0, 0.0), (8.0, 1.0)), tendon=tendon, shortening=35.0)
            character = limb([PIECE])
            plan = compile_plan(TakeSpec(character, setup_of(layer), "bend"))
            offsets = plan.skin.of_mesh(0, np.concatenate([chunk.offsets for chunk in execute(plan)]))[-1]
            rest = character.meshes[0].positions[plan.moved[0]]
            belly = np.abs(rest[:, 0] - 0.185) < 0.03
            outwards = (rest - [0.0, 0.05, 0.0]) * [0.0, 1.0, 1.0]
            outwards = outwards / np.maximum(np.linalg.norm(outwards, axis=1, keepdims=True), 1e-9)
            moved[tendon] = float(np.einsum("rk,rk->r", offsets, outwards)[belly].mean())
        # Where all of it shortens between fixed ends, its belly can do so only as much as its thin ends give way.
        self.assertGreater(moved[30.0], moved[0.0])
        self.assertGreater(moved[0.0], 0.0005)


class RunTest(TestCase):
    def setup(self):
        return setup_of(muscle_layer(drivers=(PullDriver("angle", LOWER, 0.0, 60.0),)), preroll=4.0)

    def test_taken_from_results_it_goes_on_to_the_bit(self):
        character, setup = limb([PIECE], bend=50.0, seconds=2.0), self.setup()
        spec, known = TakeSpec(character, setup, "bend"), Results()
        whole = list(execute(compile_plan(spec)))
        list(execute(compile_plan(replace(spec, last_frame=10)), known))
        for one, other in zip(execute(compile_plan(spec), known), whole, strict=True):
            np.testing.assert_array_equal(one.offsets, other.offsets)
        self.assertGreater(known.hits, 0)

    def test_names_change_nothing_and_dials_do(self):
        character, setup = limb([PIECE], bend=50.0), self.setup()
        first = compile_plan(TakeSpec(character, setup, "bend")).nodes[0].digest
        named = muscle_edits.rename_muscle(setup, "muscles", "m0", "Biceps")
        self.assertEqual(compile_plan(TakeSpec(character, named, "bend")).nodes[0].digest, first)
        for changed in (
            muscle_edits.set_own_dial(setup, "muscles", "m0", "shortening", 12.0),
            muscle_edits.set_pull(setup, "muscles", "m0", {0.0: 0.5}),
            muscle_edits.swap_ends(setup, "muscles", "m0"),
            edits.set_dial(setup, ["muscles"], "tendon", 3.0),
        ):
            self.assertNotEqual(compile_plan(TakeSpec(character, changed, "bend")).nodes[0].digest, first)

    def test_a_snapshot_brings_back_what_was(self):
        plan = compile_plan(TakeSpec(limb([PIECE], bend=50.0), self.setup(), "bend"))
        runs = [Execution(plan, threads=1) for _ in range(2)]
        list(runs[0].chunks())
        runs[1].start(np.repeat(np.eye(3, 4)[None], 3, 0))
        part, other = (next(iter(run.running.values())) for run in runs)
        other.restore(part.snapshot())
        np.testing.assert_array_equal(part.state.positions, other.state.positions)
        np.testing.assert_array_equal(part.pulled, other.pulled)

    def test_an_inverted_bone_is_kept_off_as_well_as_another(self):
        for flip in (1, -1):
            bone, faces = spindle([0.02, 0.0, 0], [0.28, 0.0, 0], 0.03)
            character = limb([PIECE], bend=40.0)
            mesh = replace(character.meshes[0], name="bone", positions=np.float32(bone), triangles=np.ascontiguousarray(faces[:, ::flip]))
            character = replace(character, meshes=(*character.meshes, mesh))
            chunks = list(execute(compile_plan(TakeSpec(character, setup_of(muscle_layer(bones=("bone",))), "bend"))))
            self.assertLess(max(float(np.abs(chunk.measures["muscles"]["volume"]).max()) for chunk in chunks), 5.0)
            self.assertLess(max(float(chunk.added.max()) for chunk in chunks), 0.07)


class RestTest(TestCase):
    def test_muscles_that_fit_their_bones_in_a_frame_of_a_clip_rest_there(self):
        character = limb([PIECE], bend=60.0)
        bent = reposed(character, "bend", 0.5)
        layer = muscle_layer(drivers=(PullDriver("shortening", "", 0.0, 10.0),))
        there, here = setup_of(replace(layer, rests=("bend", 12.0))), setup_of(layer)
        plans = [compile_plan(TakeSpec(*each, "bend")) for each in ((character, there), (bent, here), (character, here))]
        frames = world_matrices(character.skeleton, character.clip("bend").sample(character.skeleton, np.array([0.5])))
        part = plans[0].parts[0]
        np.testing.assert_allclose(part.keyed(frames)[0], part.part.lattice.nodes, atol=1e-7)
        self.assertGreater(np.abs(plans[2].parts[0].keyed(frames)[0] - part.part.lattice.nodes).max(), 0.02)
        # As if the rig's rest pose had been that one.
        found = [np.concatenate([chunk.offsets for chunk in execute(plan)]) for plan in plans]
        np.testing.assert_allclose(found[0], found[1], atol=1e-6)
        self.assertGreater(np.abs(found[0] - found[2]).max(), 0.005)

    def test_what_rests_nowhere_is_said(self):
        character = limb([PIECE], bend=60.0)
        with self.assertRaisesRegex(BadInput, "swim"):
            compile_plan(TakeSpec(character, setup_of(replace(muscle_layer(), rests=("swim", 0.0))), "bend"))
        own = replace(muscle_layer().muscles[0], mesh="", form=MadeTest.FORM)
        with self.assertRaisesRegex(BadInput, "layer of their own"):
            compile_plan(TakeSpec(character, setup_of(replace(muscle_layer(), muscles=(own,), rests=("bend", 0.0))), "bend"))
        setup = setup_of(replace(muscle_layer(), rests=("bend", 12.0)))
        self.assertEqual(document.loads(document.dumps(setup)), setup)


class MadeTest(TestCase):
    FORM = MuscleForm(((0.03, 1.05, 0.0), (0.18, 1.07, 0.0), (0.34, 1.05, 0.0)), "spindle", 0.06, 0.05)

    def own(self, **fields):
        return Muscle("m0", "Made", "", 0, Attachment(UPPER), Attachment(LOWER), form=self.FORM, **fields)

    def test_a_muscle_made_by_hand_runs_like_one_of_the_file(self):
        character = limb([PIECE], bend=60.0)
        layer = replace(muscle_layer(), muscles=(self.own(drivers=(PullDriver("angle", LOWER, 0.0, 60.0),)),))
        plan = compile_plan(TakeSpec(character, setup_of(layer), "bend"))
        chunks = list(execute(plan))
        self.assertEqual(list(plan.moved), [len(character.meshes)])
        self.assertGreater(chunks[-1].added[-1, 0], 0.003)
        whole = made.with_made(character, setup_of(layer))
        self.assertEqual(whole.meshes[-1].name, "muscle:muscles/m0")
        self.assertIs(made.with_made(character, setup_of(layer)), whole)
        self.assertEqual(attaching.bones_of(whole).keys(), attaching.bones_of(character).keys())

    def test_the_document_says_all_of_it(self):
        drivers = (PullDriver("angle", LOWER, 5.0, 70.0, "z", "early", 0.7), PullDriver("muscle", "m1", 0.0, 1.0))
        first = self.own(values={"tendon": 9.0}, keys=((0.0, 0.1), (7.0, 1.0)), drivers=drivers, smoothing=2.0)
        other = Muscle("m1", "Other", "muscles", 3, Attachment(UPPER, "bone", 12.0, 3.0), Attachment(LOWER))
        setup = setup_of(replace(muscle_layer(), muscles=(first, other), bones=("bone",)))
        self.assertEqual(document.loads(document.dumps(setup)), setup)

    def test_what_is_wrong_is_said_with_its_place(self):
        plain = document.to_document(setup_of(replace(muscle_layer(), muscles=(self.own(),))))
        own = plain["layers"][0]["muscles"][0]
        wrong = {
            "rising order": own | {"pull": [[5, 1], [3, 0]]},
            "low and a high": own | {"drivers": [{"by": "shortening", "low": 3, "high": 3}]},
            "a mesh or a form": own | {"mesh": "muscles"},
            "dials from": own | {"dials": {"weight": 50.0}},
            "form.width": own | {"form": own["form"] | {"width": 0.0}},
        }
        for words, changed in wrong.items():
            with self.assertRaisesRegex(BadInput, words):
                document.from_document(plain | {"layers": [plain["layers"][0] | {"muscles": [changed]}]})


class PiecesTest(TestCase):
    def test_pieces_are_told_apart_with_what_is_wrong(self):
        flat = spindle([0, 0.3, 0], [0.3, 0.3, 0], 0.03)
        flat = flat[0] * [1.0, 1.0, 0.0] + [0.0, 0.0, 0.5], flat[1]
        tiny = spindle([0, 0.2, 0], [0.0004, 0.2, 0], 0.0001)
        first = (PIECE[1] < 48).all(1)
        opened = PIECE[0][:48] + np.array([0.0, 0.4, 0.0]), PIECE[1][first]
        holed = PIECE[0] + [0.0, -0.4, 0.0], PIECE[1][:-1]
        found = pieces.pieces_of(limb([PIECE, flat, tiny, opened, holed]), "muscles", 1.0)
        self.assertEqual([piece.hinders for piece in found], [False, True, True, True, False])
        for piece, words in zip(found[1:], ("flat", "too small", "open", "closed as if by a lid"), strict=True):
            self.assertIn(words, piece.problems[0])
        self.assertEqual(found[0].problems, ())
        # What is wrong is at its spot: a hole at its rim.
        begins = np.cumsum([0, *(len(each[0]) for each in (PIECE, flat, tiny, opened))])
        self.assertIn(found[4].spot, begins[4] + PIECE[1][-1])
        self.assertIn(found[3].spot, begins[3] + np.concatenate([np.arange(8), np.arange(40, 48)]))
        self.assertLess(abs(found[0].points[found[0].spot - begins[0], 0] - 0.185), 0.03)
        # Turned inside out, it is the same muscle.
        flipped = pieces.pieces_of(limb([(PIECE[0], PIECE[1][:, ::-1])]), "muscles", 1.0)[0]
        self.assertAlmostEqual(flipped.volume, found[0].volume, places=9)

    def test_ends_are_attached_to_what_is_near_and_the_upper_is_the_origin(self):
        for turned in (PIECE[0], PIECE[0][::-1]):
            number = np.arange(len(turned))[::-1] if turned is not PIECE[0] else np.arange(len(turned))
            character = limb([(turned, number[PIECE[1]])], bend=30.0)
            piece = pieces.pieces_of(character, "muscles", 1.0)[0]
            shape = muscle.shape_of(piece.points, piece.triangles)
            origin, insertion = attaching.proposed(character, piece, shape.line, 1.0)
            self.assertEqual((origin.joint, insertion.joint), (UPPER, LOWER))

    def test_nothing_near_is_said_and_the_tip_is_held(self):
        layer = muscle_layer()
        own = replace(layer.muscles[0], origin=Attachment(UPPER, reach=1.0))
        plan = compile_plan(TakeSpec(limb([PIECE]), setup_of(replace(layer, muscles=(own,))), "bend"))
        self.assertTrue(any("within 1 mm" in note and "tip is held" in note for note in plan.notes), plan.notes)
        # On the stage it is where that end is.
        for end, x in (("origin", 0.03), ("insertion", 0.34)):
            own = replace(layer.muscles[0], **{end: replace(getattr(layer.muscles[0], end), reach=0.1)})
            spot = BuiltMuscle(limb([PIECE]), setup_of(layer), layer, own).spot
            self.assertLess(abs(PIECE[0][spot, 0] - x), 0.03)

    def test_one_end_for_both_is_refused_in_words(self):
        layer = muscle_layer(ends=("nowhere", LOWER))
        with self.assertRaisesRegex(BadInput, "nowhere"):
            compile_plan(TakeSpec(limb([PIECE]), setup_of(layer), "bend"))
