"""The desk itself: stage, score, keys, undo, access, and a browser without WebGL."""

import itertools
import time
from unittest import TestCase

import numpy as np
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from quiver.demo import mudwick
from quiver.formats.gltf.reading import read_character
from studio.steps import STEPS
from tests.browser.browser import Browser
from tests.browser.server import RunningApp

PIXELS = """
const {stage} = app.viewport; stage._draw(performance.now());
const {canvas, renderer} = stage; const gl = renderer.getContext();
const pixels = new Uint8Array(canvas.width * canvas.height * 4);
gl.readPixels(0, 0, canvas.width, canvas.height, gl.RGBA, gl.UNSIGNED_BYTE, pixels);
let sum = 0; for (let i = 0; i < pixels.length; i += 4) sum += (pixels[i] * 3 + pixels[i + 1] * 5 + pixels[i + 2] * 7) * (1 + i % 1009);
return sum;
"""
"""Draw now and read in the same task: a number that changes with the picture."""
SIZES = ((1024, 843), (1280, 943), (1920, 1223), (2560, 1583))
"""Windows whose pages have 1024x700, 1280x800, 1920x1080 and 2560x1440 pixels."""


class DeskTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.app = cls.enterClassContext(RunningApp(with_demo=True))
        cls.browser = cls.enterClassContext(Browser(cls.app.base, size=(1280, 943)))

    def open(self, step="motion"):
        self.browser.open(f"/characters/{self.app.mudwick}/{step}/")
        self.browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")

    def keys(self, *keys):
        ActionChains(self.browser.driver).send_keys_to_element(self.browser.find("#stage"), *keys).perform()

    def chord(self, *held):
        chain = ActionChains(self.browser.driver)
        for key in held:
            chain.key_down(key)
        chain.send_keys("z")
        for key in held:
            chain.key_up(key)
        chain.perform()

    def wait_for_change(self, words):
        """Until the page says that a change is kept."""
        self.browser.wait_for("return document.querySelector('.last-change')?.textContent.includes(arguments[0])", words)

    def frame(self):
        return self.browser.run("return app.player.frame")

    def version(self):
        return self.browser.run("return document.querySelector('#history')?.dataset.version")

    def wait_for_version(self, after):
        self.browser.wait_for("const now = document.querySelector('#history')?.dataset.version; return now && now !== arguments[0]", after)

    def test_what_the_graphics_card_holds_does_not_grow(self):
        # Drawn now: on a slow machine what is new may not have been drawn yet.
        held = (
            "const { stage } = app.viewport; stage._draw(performance.now()); "
            "const { geometries, textures } = stage.renderer.info.memory; return [geometries, textures]"
        )

        def edits(count):
            self.browser.click(".steps a[href$='/motion/']")
            self.browser.wait_for("return document.querySelector('#dial-settle_time')")
            for k in range(count):
                before = self.version()
                self.browser.set_value("#dial-settle_time", 20 + 0.5 * k)
                self.wait_for_version(before)

        def choose_points(count):
            self.browser.run("document.querySelector('[data-pick]').click()")
            chain = ActionChains(self.browser.driver, duration=0)
            for k in range(count):
                chain.move_to_element_with_offset(canvas, 5 * (k % 9) - 20, 4 * (k // 9) - 20).click()
            chain.perform()

        def drags(count):
            self.browser.click(".steps a[href$='/contacts/']")
            self.browser.click("#colliders a[href*='collider=head']")
            self.browser.wait_for("return Boolean(app.tools.colliders.view?.chosenItem)")
            for k in range(count):
                before, shift = self.version(), 9 if k % 2 else -9
                x, y = self.browser.wait_for(
                    "const { view } = app.tools.colliders, { camera } = app.viewport.stage;"
                    "const spot = view._handlePositions(view.chosenItem).top.project(camera);"
                    "const box = document.getElementById('canvas').getBoundingClientRect();"
                    "return [spot.x / 2 * box.width, -spot.y / 2 * box.height];"
                )
                chain = ActionChains(self.browser.driver, duration=0).move_to_element_with_offset(canvas, round(x), round(y))
                chain.click_and_hold().move_by_offset(shift, shift).release().perform()
                self.wait_for_version(before)
                self.browser.wait_for("return Boolean(app.tools.colliders.view?.chosenItem) && !app.tools.colliders.pressed")

        self.open("takes")
        canvas = self.browser.find("#canvas")
        self.app.post(f"/characters/{self.app.mudwick}/motion/follow/")
        self.app.post(f"/characters/{self.app.mudwick}/contacts/add/", shape="ball", joint="head")
        edits(2)
        choose_points(2)
        drags(2)
        before = self.browser.run(held)
        self.browser.run("window.isTheSame = true")
        edits(40)
        choose_points(20)
        drags(10)
        # All of it in one page: one that is opened anew holds nothing of before.
        self.assertTrue(self.browser.run("return window.isTheSame"))
        after = self.browser.run(held)
        self.assertLessEqual(after, before)
        self.app.post(f"/characters/{self.app.mudwick}/motion/follow/")

    def test_a_panel_that_was_left_does_not_come_back_late(self):
        self.open("takes")
        late = (
            "const send = XMLHttpRequest.prototype.send; let isFirst = true;"
            "XMLHttpRequest.prototype.send = function (...sent) {"
            "  setTimeout(() => { send.apply(this, sent); window.sent = (window.sent ?? 0) + 1; }, isFirst ? 1500 : 0); isFirst = false;"
            "};"
            "document.body.dispatchEvent(new CustomEvent('take-ended'));"
        )
        self.browser.run(late)
        self.browser.click(".steps a[href$='/motion/']")
        self.browser.wait_for("return document.querySelector('#panel h1').textContent === 'Motion'")
        self.browser.wait_for("return window.sent > 1")
        time.sleep(1.5)
        self.assertEqual(self.browser.run("return document.querySelector('#panel h1').textContent"), "Motion")
        self.browser.run("location.reload()")

    def test_back_and_forward_show_the_panel_and_keep_the_stage(self):
        self.open("motion")
        self.browser.run("document.getElementById('canvas').isTheSame = true")
        self.browser.click(".steps a[href$='/takes/']")
        self.browser.wait_for("return document.querySelector('#panel h1').textContent === 'Takes'")
        for go, title in (
            (self.browser.driver.back, "Motion"),
            (self.browser.driver.forward, "Takes"),
            (self.browser.driver.back, "Motion"),
        ):
            go()
            self.browser.wait_for("return document.querySelector('#panel h1')?.textContent === arguments[0]", title)
            self.browser.wait_for("return document.querySelector('.steps [aria-current]')?.textContent.includes(arguments[0])", title)
            self.assertTrue(self.browser.run("return document.getElementById('canvas').isTheSame && Boolean(app.viewport)"))
        self.browser.run("app.player.go(3)")
        seen = self.browser.run(PIXELS)
        self.browser.run("app.player.go(20)")
        self.assertNotEqual(self.browser.run(PIXELS), seen)
        self.assertEqual(self.browser.complaints(), [])

    def test_a_second_tab_shows_what_the_first_changed_at_once(self):
        self.open()
        first = self.browser.driver.current_window_handle
        self.browser.driver.switch_to.new_window("tab")
        try:
            self.open()
            second = self.browser.driver.current_window_handle
            self.browser.driver.switch_to.window(first)
            self.browser.set_value("#dial-settle_time", 33)
            self.wait_for_change("Settle")
            self.browser.driver.switch_to.window(second)
            self.browser.wait_for("return Number(document.querySelector('#dial-settle_time')?.value) === 33", seconds=5)
            self.browser.wait_for("return document.querySelector('.last-change').textContent.includes('Settle')", seconds=5)
        finally:
            self.browser.driver.close()
            self.browser.driver.switch_to.window(first)

    def test_meshes_are_counted_as_the_core_counts_them(self):
        self.open()
        character, _ = read_character(mudwick.build()[0], "Mudwick")
        shown = self.browser.run(
            "return app.viewport.view.parts.map(({ geometry }) => geometry.attributes.position)"
            ".map((position) => [position.count, ...position.array.slice(0, 3)])"
        )
        own = [[len(mesh.positions), *np.float32(mesh.positions[0]).tolist()] for mesh in character.meshes]
        self.assertEqual(shown, own)

    def test_pictures_differ_between_frames_and_between_keyed_and_simulated(self):
        self.open()
        seen = []
        for script in ("app.player.go(3)", "app.player.go(20)", "document.querySelector('[data-show=keyed]').click()"):
            self.browser.run(script)
            seen.append(self.browser.run(PIXELS))
        self.assertEqual(len(set(seen)), 3)
        self.browser.run("document.querySelector('[data-show=both]').click()")
        self.browser.wait_for("return app.viewport.view.ghost?.object.visible")
        for look in ("xray", "wire", "joints"):
            self.browser.click(f"[data-look={look}]")
            seen.append(self.browser.run(PIXELS))
        self.assertEqual(len(set(seen)), 6)

    def test_keys_step_play_and_list_themselves(self):
        self.open()
        self.keys(Keys.HOME, Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.ARROW_LEFT)
        self.assertEqual(self.frame(), 1)
        self.keys(Keys.END)
        last = self.browser.run("return app.player.first + app.player.count - 1")
        self.assertGreater(last, 1)
        self.assertEqual(self.frame(), last)
        self.keys(Keys.SPACE)
        self.browser.wait_for("return app.player.frame > 1 && app.player.frame < arguments[0]", last)
        self.keys(Keys.SPACE)
        self.assertFalse(self.browser.run("return app.player.isPlaying"))
        self.keys("?")
        self.assertTrue(self.browser.find("#help").is_displayed())
        self.browser.click("#help button")

    def test_every_frame_playback_leaves_none_out(self):
        self.open()
        self.browser.click("#every-frame")
        self.browser.run(
            "window.seen = []; const go = app.player.advance.bind(app.player);"
            "app.player.advance = (now) => { go(now); if (app.player.isPlaying) seen.push(app.player.frame); };"
            "app.player.go(0); app.player.play(true);"
        )
        self.browser.wait_for("return seen.length > 12")
        self.browser.run("app.player.play(false)")
        seen = self.browser.run("return seen")
        steps = {(b - a) % 28 for a, b in itertools.pairwise(seen)}
        self.assertEqual(steps - {0}, {1})

    def test_worst_frame_and_scrubbing_in_the_score(self):
        self.open()
        self.browser.wait_for("return document.querySelectorAll('.lane-label > .peak').length >= 8")
        # In one go: the score may be swapped for a newer one between finding and reading.
        peak = int(self.browser.run("return document.querySelector('.peak').dataset.frame"))
        self.browser.click(".peak")
        self.assertEqual(self.frame(), peak)
        self.assertEqual(self.browser.find("#frame").get_attribute("value"), str(peak))
        track = self.browser.find(".lane")
        ActionChains(self.browser.driver).move_to_element(track).click().perform()
        self.assertAlmostEqual(self.frame(), 13.5, delta=1.0)

    def test_tree_and_stage_agree_and_the_skin_lights_up(self):
        self.open("rig")
        plain = self.browser.run(PIXELS)
        place = self.browser.run(
            "const box = document.getElementById('canvas').getBoundingClientRect(); const node = app.viewport.view.names.indexOf('head');"
            "const points = app.viewport.quills.project(app.viewport.stage.camera, box.width, box.height);"
            "return [points[3 * node] - box.width / 2, points[3 * node + 1] - box.height / 2];"
        )
        ActionChains(self.browser.driver).move_to_element_with_offset(self.browser.find("#canvas"), *map(round, place)).perform()
        self.browser.wait_for("return document.getElementById('joint-label').textContent === 'head'")
        self.assertNotEqual(self.browser.run(PIXELS), plain)
        ActionChains(self.browser.driver).click().perform()
        self.assertEqual(self.browser.text(".joint.is-chosen"), "head")
        self.browser.click("[data-name='tail_3']")
        self.assertEqual(self.browser.run("return app.viewport.view.names[app.viewport.quills.chosen]"), "tail_3")
        self.browser.click("#add-layer")
        self.browser.wait_for("return document.querySelector('#joints')?.value === 'tail_3'")
        canvas = ActionChains(self.browser.driver).move_to_element_with_offset(self.browser.find("#canvas"), *map(round, place))
        canvas.key_down(Keys.SHIFT).click().key_up(Keys.SHIFT).perform()
        self.assertEqual(self.browser.find("#joints").get_attribute("value"), "tail_3, head")

    def test_undo_and_redo_by_key_survive_a_reload(self):
        self.open()
        before = self.browser.find("#dial-settle_time").get_attribute("value")
        self.browser.set_value("#dial-settle_time", 77)
        self.wait_for_change("Settle")
        self.open()
        self.assertEqual(float(self.browser.find("#dial-settle_time").get_attribute("value")), 77)
        self.chord(Keys.CONTROL)
        self.browser.wait_for("return document.querySelector('#dial-settle_time')?.value === arguments[0]", before)
        self.open()
        self.assertEqual(self.browser.find("#dial-settle_time").get_attribute("value"), before)
        self.chord(Keys.CONTROL, Keys.SHIFT)
        self.browser.wait_for("return Number(document.querySelector('#dial-settle_time')?.value) === 77")

    def test_slider_and_number_move_together_and_a_bad_number_says_why(self):
        self.open()
        self.browser.run(
            "const slider = document.querySelector('[data-slides=dial-drag]'); slider.value = 20;"
            "slider.dispatchEvent(new Event('input', {bubbles: true})); slider.dispatchEvent(new Event('change', {bubbles: true}));"
        )
        self.assertEqual(self.browser.find("#dial-drag").get_attribute("value"), "20")
        self.wait_for_change("Drag")
        self.browser.set_value("#dial-drag", 400)
        self.browser.wait_for("return document.querySelector('#messages').textContent.includes('from 0 to 90')")

    def test_amount_keys_draw_a_line_in_the_lane(self):
        self.open()
        self.browser.run("document.querySelector('form.amount').closest('details').open = true")
        self.browser.run("document.querySelector('[name=new_frame]').value = 14; document.querySelector('[name=new_value]').value = 0;")
        self.browser.click(".is-new button")
        self.browser.wait_for(
            "return document.querySelectorAll('.amount-line').length === 1 && document.querySelectorAll('.amount-key').length === 4"
        )
        self.browser.set_value(".amount-key[name=value]", 0.5)
        self.app.wait_for(lambda: [0, 0.5] in self.app.setup(self.app.mudwick)["layers"][0]["amount"])
        self.browser.wait_for("return Number(document.querySelector('.amount-key[name=value]')?.value) === 0.5")

    def test_a_stroke_is_shown_kept_and_undone(self):
        self.open("regions")
        before = self.browser.run("return Array.from(app.tools.brush.region.levels)")
        canvas, plain = self.browser.find("#canvas"), self.browser.run(PIXELS)
        stroke = ActionChains(self.browser.driver).move_to_element_with_offset(canvas, 60, -20).click_and_hold()
        for _ in range(4):
            stroke.move_by_offset(5, 3)
        stroke.perform()
        self.assertNotEqual(self.browser.run(PIXELS), plain)
        ActionChains(self.browser.driver).release().perform()
        self.browser.wait_for("return app.tools.brush.strokes === 1")
        self.wait_for_change("Belly: add")
        painted = self.browser.run("return Array.from(app.tools.brush.region.levels)")
        self.assertGreater(sum(a != b for a, b in zip(before, painted, strict=True)), 20)
        self.open("regions")
        self.assertEqual(self.browser.run("return Array.from(app.tools.brush.region.levels)"), painted)
        self.chord(Keys.CONTROL)
        self.browser.wait_for("return String(app.tools.brush.region?.levels) === String(arguments[0])", before)

    def test_a_tail_is_poked_and_nothing_is_kept(self):
        self.open("takes")
        version = self.app.query("SELECT max(id) FROM characters_setupversion")
        self.keys("p")
        self.browser.wait_for("return app.tools.poke.store")
        spot = """
            const { view, stage } = app.viewport;
            const tip = view.nodes[view.names.indexOf('tail_6')].getWorldPosition(stage.camera.position.clone());
            const place = tip.clone().project(app.viewport.stage.camera), box = app.viewport.stage.canvas.getBoundingClientRect();
            return [place.x * box.width / 2, -place.y * box.height / 2, tip.y];
        """
        x, y, low = self.browser.run(spot)
        hand = ActionChains(self.browser.driver).move_to_element_with_offset(self.browser.find("#canvas"), int(x), int(y))
        hand.click_and_hold().move_by_offset(10, -50).move_by_offset(10, -50).perform()
        self.browser.wait_for(f"{spot.replace('return [', 'const now = [')} return now[2] > arguments[0] + 0.15", low)
        self.assertEqual(self.browser.faults_of_access(), [])
        ActionChains(self.browser.driver).release().perform()
        self.browser.click("[data-poke=throw]")
        ActionChains(self.browser.driver).move_to_element(self.browser.find("#canvas")).click().perform()
        self.browser.wait_for("return app.tools.poke._things.ball?.visible")
        self.keys("p")
        self.browser.wait_for("return !app.tools.poke.isOn && !app.tools.poke._things.ball.visible")
        self.assertEqual(self.app.query("SELECT max(id) FROM characters_setupversion"), version)
        self.assertEqual(self.browser.complaints(), [])

    def test_pages_can_be_used_by_everyone(self):
        for step in STEPS:
            self.open(step.slug)
            self.assertEqual(self.browser.faults_of_access(), [], step.slug)
            for size in SIZES:
                self.browser.driver.set_window_size(*size)
                wide = self.browser.run(
                    "return [document.documentElement.scrollWidth, innerWidth, document.documentElement.scrollHeight, innerHeight]"
                )
                self.assertLessEqual(wide[0], wide[1], (step.slug, size))
                self.assertLessEqual(wide[2], wide[3], (step.slug, size))
            self.browser.driver.set_window_size(*SIZES[1])
        self.browser.open("/")
        self.assertEqual(self.browser.faults_of_access(), [])
        self.assertEqual(self.browser.complaints(), [])


class NoWebglTest(TestCase):
    def test_the_page_says_so_and_the_rest_works(self):
        with RunningApp(with_demo=True) as app, Browser(app.base, webgl=False) as browser:
            browser.open(f"/characters/{app.mudwick}/motion/")
            self.assertTrue(browser.find("#no-webgl").is_displayed())
            self.assertIn("has no WebGL", browser.text("#no-webgl"))
            browser.wait_for("return document.querySelectorAll('#score .added').length === 11")
            latest = app.query("SELECT max(id) FROM takes_take")
            browser.set_value("#dial-wobble_rate", 2.9)
            browser.wait_for(
                "return app.takes.ended(app.store.state.takeId)"
                " && document.querySelector('#take-status').textContent.includes(arguments[0])",
                f"Take {latest + 1} finished",
            )
            browser.click(".peak")
            self.assertEqual(browser.faults_of_access(), [])
