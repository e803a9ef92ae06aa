"""Muscles made by hand, as an artist makes them on the stage: two clicks, a driver, the other side, under the skin, the score."""

from unittest import TestCase

from selenium.webdriver.common.action_chains import ActionChains

from tests.app.test_muscles import arms_glb
from tests.browser.browser import Browser
from tests.browser.server import RunningApp

ON_STAGE = """
const {view, stage, canvas} = app.viewport, box = canvas.getBoundingClientRect(), part = view.parts[0];
const place = stage.camera.position.clone().set(...arguments[0]).project(stage.camera);
return [(place.x + 1) / 2 * box.width, (1 - place.y) / 2 * box.height];
"""


class MuscleTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.app = cls.enterClassContext(RunningApp())
        cls.browser = cls.enterClassContext(Browser(cls.app.base))
        cls.pk = cls.app.upload(arms_glb(), "arms.glb")

    def finished(self):
        self.browser.wait_for(
            "return app.takes.ended(app.store.state.takeId)?.state === 'finished' && !document.querySelector('.lanes.is-stale')"
        )

    def press(self, text):
        found = "[...document.querySelectorAll('#panel button')].find((each) => each.textContent.trim() === arguments[0])"
        self.browser.wait_for(f"const button = {found}; button?.click(); return Boolean(button)", text)

    def layer(self):
        return self.app.setup(self.pk)["layers"][0]

    def test_two_clicks_a_driver_and_the_other_side(self):
        browser = self.browser
        browser.open(f"/characters/{self.pk}/motion/")
        browser.click("#add-layer")
        browser.click(".kinds [value=muscle] + span")
        browser.click(".new-layer .is-keen")
        browser.click("[data-pick]")
        canvas = browser.find("#canvas")
        width, height = canvas.size["width"], canvas.size["height"]
        # On the sleeve's front: over the upper arm, and beyond the elbow.
        for place in ([0.2, 1.0, 0.1], [0.5, 1.0, 0.1]):
            x, y = browser.run(ON_STAGE, place)
            ActionChains(browser.driver).move_to_element_with_offset(canvas, int(x - width / 2), int(y - height / 2)).click().perform()
        browser.wait_for("return document.querySelector('.picked').textContent.startsWith('2 points')")
        self.press("Make")
        self.app.wait_for(lambda: len(self.layer()["muscles"]) == 1)
        own = self.layer()["muscles"][0]
        self.assertEqual((own["origin"]["joint"], own["insertion"]["joint"]), ("upper_l", "lower_l"))
        browser.wait_for("return document.querySelectorAll('.muscles li').length === 1")
        # Driven by the elbow, on its own form.
        browser.run("document.querySelector('.muscles details').open = true")
        browser.wait_for("return document.querySelector('.muscle-drive')")
        browser.wait_for("return app.tools.place.object.visible && app.tools.place.spot.part === 1")
        browser.set_value(".muscle-drive [name=by]", "angle")
        browser.set_value(".muscle-drive [name=joint]", "lower_l")
        browser.click(".muscle-drive .button")
        self.app.wait_for(lambda: self.layer()["muscles"][0].get("drivers"))
        self.press("Mirror all")
        self.app.wait_for(lambda: len(self.layer()["muscles"]) == 2)
        self.assertEqual(self.layer()["muscles"][1]["drivers"][0]["of"], "lower_r")
        self.finished()
        # Both lanes of pull are there, and rise to full as the elbows bend.
        browser.wait_for("return document.querySelectorAll('[data-pull-of] .pull-area').length === 2")
        peaks = "[...document.querySelectorAll('.is-pull .peak')].map((each) => each.textContent).join()"
        browser.wait_for(f"return {peaks} === 'pull 100 %,pull 100 %'")
        both = browser.wait_for("const { takeId } = app.store.state; return app.takes.frames(takeId)?.header.moved.length === 2 && takeId")
        # Under the skin they are seen, and are drawn where the take has them.
        self.assertFalse(browser.run("return app.viewport.view.parts[1].visible"))
        browser.click(".stage-tools [data-under=skin]")
        browser.wait_for("return app.viewport.view.parts[1].visible && app.viewport.view.parts[2].visible")
        browser.run("app.player.go(24)")
        browser.wait_for("return app.viewport.poseKey?.startsWith('24')")
        self.assertEqual(browser.faults_of_access(), [])
        # Back and forth.
        browser.run("document.activeElement.blur()")
        ActionChains(browser.driver).key_down("\ue009").send_keys("z").key_up("\ue009").perform()
        self.app.wait_for(lambda: len(self.layer()["muscles"]) == 1)
        self.finished()
        browser.wait_for("return app.viewport.view.made.length === 1")
        # The take of both moves the one that is there, and nothing for the other.
        both = f"app.takes.frames({both}).header.moved"
        found = browser.run(f"return {both}.map((each) => app.viewport.view.parts.indexOf(app.viewport.view.partOf(each)))")
        self.assertEqual(found, [1, -1])
        self.assertEqual(browser.complaints(), [])
