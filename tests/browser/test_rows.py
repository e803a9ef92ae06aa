"""What an artist met at the desk, each as it was met: takes, joints, sizes, ring tests, branching chains, two sides."""

from unittest import TestCase

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.browser import Browser
from tests.browser.server import RunningApp


class RowsTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.app = cls.enterClassContext(RunningApp(with_demo=True))
        cls.browser = cls.enterClassContext(Browser(cls.app.base, size=(1280, 943)))

    def open(self, step, query=""):
        self.browser.open(f"/characters/{self.app.mudwick}/{step}/{query}")
        self.browser.wait_for("return document.querySelectorAll('#score [data-choose]').length >= 8")
        self.browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")

    def layers(self):
        return self.app.setup(self.app.mudwick)["layers"]

    def place_of(self, joint):
        return self.browser.run(
            "const box = document.getElementById('canvas').getBoundingClientRect(), { view, quills, stage } = app.viewport;"
            "const points = quills.project(stage.camera, box.width, box.height), node = view.names.indexOf(arguments[0]);"
            "return [Math.round(points[3 * node] - box.width / 2), Math.round(points[3 * node + 1] - box.height / 2)];",
            joint,
        )

    def pointer(self, place):
        return ActionChains(self.browser.driver).move_to_element_with_offset(self.browser.find("#canvas"), *place)

    def test_an_older_take_is_shown_in_stage_list_and_status_alike(self):
        self.open("motion", "?layer=tail")
        older, newest = (self._take_after("#dial-settle_time", value) for value in (41, 42))
        self.open("takes")
        self.browser.click(f"[data-take='{older}']")
        self.browser.wait_for("return app.store.state.takeId === arguments[0]", older)
        self.browser.wait_for("return document.querySelector('#take-status').textContent.includes(arguments[0])", f"Take {older} ")
        self.browser.wait_for(
            "return [...document.querySelectorAll('.take.is-current')].map((row) => +row.dataset.row).join() === String(arguments[0])",
            older,
        )
        # Beside the newer one: its settings are listed, its lanes drawn as lines, its motion is the ghost's.
        self.browser.click(f"[data-take='{newest}']")
        self.browser.wait_for("return app.store.state.takeId === arguments[0]", newest)
        self.browser.click(f"[data-beside='{older}']")
        self.browser.wait_for("return document.querySelector('.changes')?.textContent.includes('Settle time')")
        self.browser.wait_for("return document.querySelectorAll('.line-beside').length >= 8")
        self.browser.wait_for(
            "return app.takes.frames(Number(app.store.state.besideTake))?.loaded > 10 && app.viewport.view.ghost?.object.visible"
        )
        self.browser.click("[data-beside='']")
        self.browser.wait_for("return document.querySelectorAll('.line-beside').length === 0")

    def _take_after(self, selector, value):
        """The number of the take that a dial's new value yields."""
        before = self.app.query("SELECT max(id) FROM takes_take")
        self.browser.set_value(selector, value)
        return self.browser.wait_for(
            "const id = app.store.state.takeId; return id > arguments[0] && app.takes.ended(id)?.state === 'finished' && id", before
        )

    def test_a_take_is_named_and_noted(self):
        self.open("takes")
        self.browser.run("document.querySelector('.describe').open = true")
        field = self.browser.find(".describe [name=name]")
        field.send_keys("The good one", Keys.ENTER)
        self.browser.wait_for("return document.querySelector('.show-take').textContent === 'The good one'")
        self.browser.wait_for("return document.querySelector('#take-status').textContent.includes('The good one')")

    def test_a_ring_test_goes_stale_when_its_dials_change(self):
        self.open("motion", "?layer=tail")
        self.browser.click(".ring-form button")
        self.browser.wait_for("return document.querySelector('.ring-curve')")
        self.assertFalse(self.browser.run("return Boolean(document.querySelector('.ring.is-stale'))"))
        self.browser.set_value("#dial-wobble_rate", 1.7)
        self.browser.wait_for("return document.querySelector('.ring.is-stale .stale-word')?.offsetHeight > 0")

    def test_joints_are_found_and_the_skin_says_which_move_it(self):
        self.open("rig")
        self.browser.find("[data-filters='.tree']").send_keys("barbel_l")
        seen = "return [...document.querySelectorAll('.tree li:not([hidden])')].map((item) => item.textContent)"
        self.browser.wait_for(f"return (() => {{ {seen} }})().length === 6")
        self.browser.run("document.querySelector('[data-look=joints]').click()")
        self.pointer((40, -20)).click().perform()
        words = self.browser.wait_for(
            "const words = document.querySelector('#spot-joints').textContent; return words.includes('%') && words"
        )
        shares = [int(part.split()[-1]) for part in words.replace("This spot is moved by ", "").replace("%", "").split(", ")]
        self.assertAlmostEqual(sum(shares), 100, delta=3)

    def test_a_joint_is_dragged_and_returns(self):
        self.open("rig")
        tail = (
            "const { view } = app.viewport, at = 3 * view.names.indexOf('tail_6');"
            "view.scene.updateMatrixWorld(true); return [...view.positions().slice(at, at + 3)];"
        )
        before = self.browser.run(tail)
        self.pointer(self.place_of("tail_2")).click_and_hold().move_by_offset(40, 20).perform()
        self.browser.wait_for("return app.viewport.view.bent !== null")
        self.browser.run("app.viewport.stage._draw(performance.now())")
        self.assertNotEqual(self.browser.run(tail), before)
        ActionChains(self.browser.driver).release().perform()
        self.browser.run("app.viewport.stage._draw(performance.now())")
        self.assertEqual(self.browser.run(tail), before)

    def test_joints_on_one_spot_are_reached_by_clicking_again(self):
        self.browser.open("/")
        found = self.browser.driver.execute_async_script(
            "const done = arguments[0]; import('/static/viewport/maths/picking.js').then(({ pickJoint }) => {"
            "const points = [50, 50, 0, 50, 50, 0, 90, 90, 0]; let at = -1; const met = [];"
            "for (let k = 0; k < 4; k++) { at = pickJoint(51, 50, points, [], [0, 1, 2], 13, at); met.push(at); } done(met); });"
        )
        self.assertEqual(found, [0, 1, 0, 1])

    def test_meshes_are_hidden_and_stay_so(self):
        self.open("rig")
        self.browser.click("[data-hide-mesh='0']")
        self.browser.wait_for("return !app.viewport.view.parts[0].visible")
        self.open("motion")
        self.assertFalse(self.browser.run("return app.viewport.view.parts[0].visible"))
        self.open("rig")
        self.browser.click("[data-hide-mesh='0']")
        self.browser.click("[data-only-mesh='1']")
        self.assertEqual(self.browser.run("return app.viewport.view.parts.filter((part) => part.visible).length"), 1)
        self.browser.click("[data-only-mesh='1']")
        all_but_those_under = "const { view } = app.viewport; return view.parts.every((part) => part.visible !== view.isUnder(part))"
        self.assertTrue(self.browser.run(all_but_those_under))

    def test_a_wrong_unit_is_one_click_to_mend(self):
        self.open("rig")
        self.assertTrue(self.browser.run("return app.figure.object.visible"))
        self.assertIn("m high", self.browser.text(".size"))
        before = self.browser.run("return app.figure.object.scale.x")
        self.browser.click("[name=metres][value='0.01'] + span")
        self.app.wait_for(lambda: self.app.setup(self.app.mudwick)["metres_per_unit"] == 0.01)
        self.browser.wait_for("return app.figure.object.scale.x > 99 * arguments[0]", before)
        self.browser.click("#undo")
        self.app.wait_for(lambda: self.app.setup(self.app.mudwick)["metres_per_unit"] == 1.0)

    def test_a_chain_that_branches_offers_its_ends(self):
        self.app.post(f"/characters/{self.app.mudwick}/motion/all/", on="false")
        self.open("motion")
        count = len(self.layers())
        self.browser.click("#add-layer")
        self.browser.wait_for("return document.querySelector('#joints')")
        self.browser.set_value("#joints", "head")
        self.browser.click(".new-layer .is-keen")
        self.browser.wait_for("return document.querySelectorAll('.ends input').length >= 4")
        self.browser.run("for (const box of document.querySelectorAll('.ends input')) box.checked = box.value.includes('barbel_l1_3')")
        self.browser.click(".new-layer .is-keen")
        self.app.wait_for(lambda: len(self.layers()) == count + 1)
        self.assertEqual(self.layers()[-1]["chains"], [{"root": "head", "end": "barbel_l1_3"}])
        self.app.post(f"/characters/{self.app.mudwick}/motion/undo/")
        self.app.post(f"/characters/{self.app.mudwick}/motion/undo/")

    def test_several_lines_of_joints_are_several_chains_at_once(self):
        self.app.post(f"/characters/{self.app.mudwick}/motion/all/", on="false")
        self.open("motion")
        count = len(self.layers())
        ActionChains(self.browser.driver).send_keys_to_element(self.browser.find("#stage"), "a").perform()
        self.browser.wait_for("return document.querySelector('#joints')")
        # From the tree, as from the stage: with Shift one more.
        self.browser.click("[data-name='barbel_l1_1']")
        chain = ActionChains(self.browser.driver).key_down(Keys.SHIFT)
        for name in ("barbel_l1_2", "barbel_r1_1", "tail_1"):
            chain.click(self.browser.find(f"[data-name='{name}']"))
        chain.key_up(Keys.SHIFT).perform()
        self.assertEqual(self.browser.find("#joints").get_attribute("value"), "barbel_l1_1, barbel_l1_2, barbel_r1_1, tail_1")
        self.browser.run("document.querySelector('[name=apart]').checked = true")
        self.browser.click(".new-layer .is-keen")
        self.app.wait_for(lambda: len(self.layers()) == count + 3)
        self.assertEqual([layer["chains"][0]["root"] for layer in self.layers()[-3:]], ["barbel_l1_1", "barbel_r1_1", "tail_1"])
        self.browser.wait_for("return document.querySelector('#chosen-layers')?.dataset.ids.split(',').length === 3")
        self.app.post(f"/characters/{self.app.mudwick}/motion/undo/")
        self.app.post(f"/characters/{self.app.mudwick}/motion/undo/")

    def test_the_other_side_takes_the_dials_or_is_linked(self):
        path = f"/characters/{self.app.mudwick}/motion"
        self.app.post(f"{path}/all/", on="false")
        for side in ("l", "r"):
            self.app.post(f"{path}/add/", kind="chain", joints=f"barbel_{side}2_1")
        left, right = (layer["id"] for layer in self.layers()[-2:])
        self.app.post(f"{path}/{left}/dial/", dial="drag", value="17")
        self.open("motion", f"?layer={left}")
        self.browser.click(f"[data-menu={left}]")
        self.browser.click("[data-do=mirror]")
        self.browser.wait_for("return document.querySelector('.question')?.textContent.includes('other side')")
        self.browser.click(".question [value=copy]")
        self.app.wait_for(lambda: self.layers()[-1]["dials"]["drag"] == 17)
        self.browser.click(f"[data-menu={left}]")
        self.browser.click("[data-do=mirror]")
        self.browser.click(".question [value=link]")
        self.browser.wait_for("return document.querySelector('.linked')")
        self.browser.set_value("#dial-drag", 9)
        self.app.wait_for(lambda: [layer["dials"]["drag"] for layer in self.layers()[-2:]] == [9, 9])
        self.assertEqual(self.layers()[-1]["id"], right)

    def test_a_spot_command_shows_that_it_waits_and_says_when_a_click_misses(self):
        self.open("regions")
        self.browser.wait_for("return Boolean(app.tools.brush.region)")
        self.browser.click("[data-spot=gradient]")
        self.assertEqual(self.browser.find("[data-spot=gradient]").get_attribute("aria-pressed"), "true")
        self.pointer((-380, -200)).click().perform()
        self.browser.wait_for("return document.querySelector('.under-brush').textContent.includes('missed')")
        self.browser.click("[data-spot=gradient]")
        self.assertEqual(self.browser.find("[data-spot=gradient]").get_attribute("aria-pressed"), "false")

    def test_a_removed_character_is_brought_back(self):
        self.browser.open("/")
        self.browser.click(f"form[action='/characters/{self.app.mudwick}/delete/'] button")
        self.browser.wait_for("return document.querySelector('.removed')?.textContent.includes('Mudwick')")
        self.browser.click(".removed button")
        self.browser.wait_for(f"return document.querySelector(\"a[href='/characters/{self.app.mudwick}/']\")")
        self.open("motion")
