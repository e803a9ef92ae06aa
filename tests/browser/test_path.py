"""The whole path, as an artist goes it in the browser."""

import base64
import json
from unittest import TestCase

import numpy as np
from selenium.webdriver.common.action_chains import ActionChains

from quiver.formats.gltf.reading import read_character
from tests.browser.browser import Browser
from tests.browser.server import RunningApp
from tests.formats.makers import arm, glb_bytes
from tests.formats.validator import issues_of

STATE = """
const id = app.store.state.takeId, take = app.takes.frames(id), ended = app.takes.ended(id);
return take && take.loaded === take.count && ended
  ? {id, rotated: take.header.rotated, rotations: Array.from(take.rotations), state: ended.state} : null;
"""


class PathTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.app = cls.enterClassContext(RunningApp(with_demo=True))
        cls.browser = cls.enterClassContext(Browser(cls.app.base))

    def finished_take(self, other_than=None):
        """The take on the stage once it is whole and is not the one given: {id, rotated, rotations}."""
        self.browser.wait_for(
            "return app.store.state.takeId !== arguments[0] && app.takes.ended(app.store.state.takeId)?.state === 'finished'", other_than
        )
        return self.browser.wait_for(STATE)

    def bake_and_read(self, take, clip_name):
        """Bake the take on the Bake page, download the file, and compare every joint of every frame with the stage."""
        browser = self.browser
        browser.click(".steps a[href$='/bake/']")
        browser.wait_for("return document.querySelector('.bake-form button')")
        data = self.baked_file(clip_name)
        self.assertEqual(issues_of(data)["numErrors"], 0)
        character, _ = read_character(data, "baked")
        clip = character.clip(clip_name)
        shown = np.reshape(take["rotations"], (-1, len(take["rotated"]), 4))
        frames = np.arange(len(shown)) / 24.0
        pose = clip.sample(character.skeleton, frames)
        likeness = np.abs(np.sum(pose.rotations[:, take["rotated"]] * shown, axis=2))
        # The stage has the rotations rounded to 1/32767.
        np.testing.assert_allclose(likeness, 1.0, atol=1e-4)
        return character, clip

    def baked_file(self, clip_name):
        """Bake under a name on the open Bake page, wait until that bake is done, and download it."""
        browser = self.browser
        browser.set_value("#bake-name", clip_name)
        browser.click(".bake-form .button.is-keen")
        newest = "const newest = document.querySelector('.takes li'); return newest?.querySelector('strong')?.textContent === arguments[0]"
        done = f"{newest} && Boolean(newest.querySelector('.download'))"
        browser.wait_for(done, clip_name)
        return browser.download(".takes li:first-child .download", ".glb")

    def test_mudwicks_tail_is_tuned_baked_and_taken_away(self):
        browser = self.browser
        browser.open("/")
        browser.click(f".card-words h2 a[href$='/{self.app.mudwick}/']")
        browser.wait_for("return Boolean(window.app && app.store.state.isReady)")
        before = self.finished_take()
        browser.wait_for("return document.querySelectorAll('#score .added').length >= 6")
        browser.set_value("#dial-wobble_rate", 3.1)
        after = self.finished_take(other_than=before["id"])
        self.assertGreater(np.abs(np.subtract(before["rotations"], after["rotations"])).max(), 0.01)
        self.assertEqual(browser.find("#undo").is_enabled(), True)
        character, clip = self.bake_and_read(after, "walk, livelier")
        self.assertEqual([each.name for each in character.clips][:4], ["walk", "hop and land", "shake dry", "idle"])
        self.assertGreater(len(clip.channels), 40)
        self.assertEqual(browser.complaints(), [])

    def test_a_new_region_is_painted_made_soft_rung_and_baked(self):
        browser = self.browser
        browser.open(f"/characters/{self.app.mudwick}/regions/")
        browser.set_value("#region-name", "Cheek")
        browser.click(".add-region .button")
        browser.wait_for("return app.tools.brush.region?.url.includes('/cheek/')")
        browser.set_value("#brush-strength", 100)
        canvas = browser.find("#canvas")
        stroke = ActionChains(browser.driver).move_to_element_with_offset(canvas, -210, -10).click_and_hold()
        for _ in range(6):
            stroke.move_by_offset(6, 4)
        stroke.release().perform()
        browser.wait_for("return app.tools.brush.strokes === 1 && app.tools.brush.region.levels.some((level) => level !== 255)")
        browser.click(".steps a[href$='/motion/']")
        before = browser.run("return app.store.state.takeId")
        browser.click("#add-layer")
        browser.click(".kinds [value=volume] + span")
        browser.set_value("#of", "region:cheek")
        browser.click(".new-layer .is-keen")
        self.finished_take(other_than=before)
        self.assertGreater(browser.run("return app.takes.frames(app.store.state.takeId).offsets.some((value) => value !== 0)"), 0)
        browser.click("[data-solid=wire]")
        browser.wait_for("return app.lattice?.count > 10 && document.querySelector('#lattice-facts').textContent.includes('nodes fixed')")
        browser.click("[data-solid=paper]")
        browser.set_value("#solid-cut", 40)
        drawn = (
            "return app.lattice?.paper.visible && app.lattice.paper.geometry.drawRange.count === 12 * Math.ceil(0.4 * app.lattice.count)"
        )
        browser.wait_for(drawn)
        browser.click("[data-solid=paper]")
        browser.click(".ring-form button")
        browser.wait_for("return document.querySelector('.ring-curve')")
        browser.click(".steps a[href$='/bake/']")
        browser.wait_for("return document.querySelector('.bake-form button')")
        data = self.baked_file("soft cheek")
        self.assertEqual(issues_of(data)["numErrors"], 0)
        self.assertIn(b'"targets"', data[:400_000])
        self.assertEqual(browser.complaints(), [])

    def test_capsules_are_fitted_dragged_matched_and_the_worst_clip_is_marked(self):
        browser = self.browser
        browser.open(f"/characters/{self.app.mudwick}/contacts/")
        before = browser.run("return app.store.state.takeId")
        browser.click(".fit-form [name=small]")
        browser.click(".fit-form button")
        browser.wait_for("return app.tools.colliders.view?.items.length > 10")
        self.finished_take(other_than=before)
        browser.click(".colliders a[href*='collider=jaw']")
        browser.wait_for("return app.tools.colliders.view?.chosen === 'jaw'")
        # A dot of the jaw's that is seen and lies over no other's.
        free_dot = (
            "const view = app.tools.colliders.view, item = view.chosenItem, camera = app.viewport.stage.camera;"
            "const box = document.getElementById('canvas').getBoundingClientRect();"
            "for (let k = 0; k < item.dots.length; k += 3) {"
            "  const spot = camera.position.clone().fromArray(item.dots, k).applyMatrix4(item.now).project(camera);"
            "  const [x, y] = [(spot.x / 2 + 0.5) * box.width, (0.5 - spot.y / 2) * box.height];"
            "  const found = view.under(x, y, camera, box.width, box.height);"
            "  if (found?.item === item && !found.handle) return [x - box.width / 2, y - box.height / 2];"
            "}"
        )
        place = browser.wait_for(free_dot)
        drag = ActionChains(browser.driver).move_to_element_with_offset(browser.find("#canvas"), *map(round, place)).click_and_hold()
        drag.move_by_offset(-20, 8).move_by_offset(-20, 8).release().perform()
        browser.wait_for("return document.querySelector('.last-change').textContent.includes('jaw: moved')")
        browser.wait_for("return document.querySelector('.colliders .is-chosen a')?.textContent.startsWith('jaw')")
        turn_before = browser.run("return app.tools.colliders.view.chosenItem.facts.turn")
        place = browser.wait_for(
            "const view = app.tools.colliders.view, spot = view._handlePositions(view.chosenItem).tip.project(app.viewport.stage.camera);"
            "const box = document.getElementById('canvas').getBoundingClientRect();"
            "return [spot.x / 2 * box.width, -spot.y / 2 * box.height];"
        )
        drag = ActionChains(browser.driver).move_to_element_with_offset(browser.find("#canvas"), *map(round, place)).click_and_hold()
        drag.move_by_offset(15, 15).move_by_offset(15, 15).release().perform()
        browser.wait_for(
            f"return app.tools.colliders.view?.chosenItem && app.tools.colliders.view.chosenItem.facts.turn[0] !== {turn_before[0]}"
        )
        meets = "return document.querySelector('[aria-label=\"Barbels collides with jaw\"]').getAttribute('aria-pressed')"
        self.assertEqual(browser.run(meets), "true")
        browser.run("document.querySelector('[aria-label=\"Barbels collides with jaw\"]').click()")
        browser.wait_for(meets + " === 'false'")
        # A hull is where its joint is: it is chosen on the stage, not dragged.
        browser.set_value("#shape", "hull")
        browser.set_value(".add-form [name=joint]", "jaw")
        browser.click(".add-form .is-keen")
        browser.wait_for("return app.tools.colliders.view?.chosenItem?.isSurface")
        place = browser.wait_for(free_dot)
        drag = ActionChains(browser.driver).move_to_element_with_offset(browser.find("#canvas"), *map(round, place)).click_and_hold()
        drag.move_by_offset(15, 15).release().perform()
        browser.wait_for(
            "return app.tools.colliders.view?.chosenItem?.isSurface"
            " && !document.querySelector('.last-change').textContent.includes('moved')"
        )
        browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished' && document.querySelector('.clip-area')")
        browser.wait_for("const mark = document.querySelector('.marks .is-clip'); mark?.click(); return app.tools.clipMark.object.visible")
        self.assertEqual(browser.complaints(), [])

    def test_a_file_made_by_another_tool_goes_the_same_way(self):
        document = arm()
        blob = document.binary_blob()
        plain = json.loads(document.gltf_to_json())
        plain["buffers"] = [{"byteLength": len(blob), "uri": "data:application/octet-stream;base64," + base64.b64encode(blob).decode()}]
        for data, name in ((glb_bytes(document), "other.glb"), (json.dumps(plain).encode(), "other.gltf")):
            with self.subTest(name):
                self._other_file(data, name)

    def _other_file(self, data, name):
        browser = self.browser
        number = self.app.upload(data, name)
        browser.open(f"/characters/{number}/motion/")
        browser.click("#add-layer")
        browser.wait_for("return document.querySelector('#joints')")
        browser.set_value("#joints", "upper")
        browser.click(".new-layer .is-keen")
        take = self.finished_take()
        self.assertEqual(take["rotated"], [1, 2, 3])
        self.bake_and_read(take, "springy")
        # Its mesh has no normals, and goes soft all the same.
        browser.open(f"/characters/{number}/motion/")
        before = self.finished_take()["id"]
        browser.click("#add-layer")
        browser.click(".kinds [value=sheet] + span")
        browser.set_value("#of", "mesh:strip")
        browser.click(".new-layer .is-keen")
        self.finished_take(other_than=before)
        browser.wait_for(
            "return app.viewport.view.meshes[0].geometry.attributes.moved.array.some((value) => value !== 0) || app.player.go(8)"
        )
        self.assertEqual(browser.complaints(), [])
