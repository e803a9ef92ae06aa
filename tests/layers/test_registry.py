"""A kind of layer is one module: a toy kind, made here, goes through document, form, run and score; nothing else is touched."""

import pathlib
import re
from dataclasses import replace
from unittest import TestCase

import numpy as np
from django.template import engines

from quiver import layers as registry
from quiver.dial_tables import dial_tables
from quiver.dials import Dial
from quiver.errors import BadInput
from quiver.layers.kinds import JOINTS, LayerKind
from quiver.rig import transforms
from quiver.run.parts.part import Part, Unit
from quiver.setup import document, edits
from quiver.setup.model import ChainPick, Setup
from tests.app.helpers import RunningDeskTest, run_waiting_jobs

ROOT = pathlib.Path(__file__).resolve().parent.parent.parent
TOY_PANEL = "toy says {{ chosen.name }}"


class Nod(Unit, Part):
    """Turns one joint to and fro."""

    def __init__(self, context, layer):
        self.context, self.layer, self.layers, self.units = context, layer, (layer,), [self]
        self.node = context.character.skeleton.index(layer.chains[0].root)
        self.drives = (self.node,)

    def digest_inputs(self):
        return "nod", self.layer.values, self.node

    @classmethod
    def compiled(cls, units, context, substeps, beside):
        return units[0]

    def fresh(self):
        own = super().fresh()
        own.units = [own]
        return own

    def start(self, world):
        self.at = 0.0

    def jumps(self, frame_world):
        return np.zeros(len(frame_world), bool)

    def simulate(self, frames, jumped, every, threads=None):
        angles = np.radians(self.layer.value("swing")) * np.sin(frames.at + np.arange(frames.count))
        return {"rotations": transforms.from_axis_angle(np.tile([0.0, 0.0, 1.0], (frames.count, 1)), angles)}

    def apply(self, frames, outputs, every):
        rotations = frames.final.rotations
        rotations[:, self.node] = transforms.multiply(outputs["rotations"], rotations[:, self.node])

    def added(self, frames, outputs, keyed_world, final_world):
        return [(self.layer, np.abs(outputs["rotations"][-len(keyed_world) :, 2]))]

    def measures(self, outputs):
        return {"volume": outputs["rotations"][:, 2]}


TOY = LayerKind(
    name="nod",
    label="Nod",
    summary="A toy.",
    made_of=JOINTS,
    dials=(Dial("swing", "Swing", "°", 0.0, 90.0, 20.0, 1.0, "Feel", "How far it nods."),),
    presets={"Deep": {"swing": 60}},
    build=lambda context, layers: [Nod(context, layer) for layer in layers],
    measures=("volume",),
    panel="toy.html",
)


class ToyKindTest(RunningDeskTest):
    def setUp(self):
        super().setUp()
        registry.register(TOY)
        self.addCleanup(registry.unregister, "nod")
        loader = next(iter(engines["django"].engine.template_loaders))
        plain = loader.get_template
        panel = engines["django"].from_string(TOY_PANEL).template
        loader.get_template = lambda name, skip=None: panel if name == "toy.html" else plain(name, skip)
        self.addCleanup(setattr, loader, "get_template", plain)

    def test_it_goes_through_document_form_run_and_score(self):
        setup = edits.with_new_chain(Setup(), ChainPick("hand", "hand"), "Nodding", kind="nod")
        again = document.loads(document.dumps(setup))
        self.assertEqual(again.layers[0].value("swing"), 20.0)
        self.assertIn("NodDials", document.json_schema()["$defs"])
        with self.assertRaisesRegex(BadInput, "swing: expected a number from 0 to 90"):
            document.from_document(document.to_document(edits.with_layer(setup, replace(setup.layers[0], values={"swing": 99.0}))))
        page = self.post("motion/add/", joints="hand", kind="nod")
        self.assertContains(page, "toy says hand")
        self.assertContains(page, "dial-swing")
        self.post("motion/hand/like/", like="preset:Deep")
        run_waiting_jobs()
        take = self.fresh.takes.first()
        self.assertEqual(take.job.state, "finished", take.job.message)
        column = take.layer_ids.index("hand")
        self.assertGreater(max(row[column] for row in take.added), 100.0)
        self.assertEqual(len(take.measures["hand"]["volume"]), take.frame_count)
        self.assertIn("hand", self.heard()["score"])

    def test_a_name_that_is_taken_is_refused(self):
        with self.assertRaisesRegex(BadInput, "taken"):
            registry.register(TOY)


class TablesTest(TestCase):
    def test_the_guide_s_tables_are_those_of_the_registry(self):
        made = dial_tables()
        self.assertEqual((ROOT / "docs" / "dials.md").read_text(), made, "run: ./keen python -m quiver dials > docs/dials.md")
        anchors = {line[3:].lower().replace(" ", "-") for line in made.splitlines() if line.startswith("## ")}
        named = re.findall(r"dials\.md#([a-z-]+)", (ROOT / "docs" / "guide.md").read_text())
        self.assertGreater(len(named), 2)
        self.assertLessEqual(set(named), anchors)
