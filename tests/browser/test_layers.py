"""The list of layers in the score, their dials, and the form for new ones, as hands use them."""

import contextlib
import itertools
from unittest import TestCase

from selenium.common.exceptions import StaleElementReferenceException
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.browser import Browser
from tests.browser.server import RunningApp


class LayersTest(TestCase):
    @classmethod
    def setUpClass(cls):
        cls.app = cls.enterClassContext(RunningApp(with_demo=True))
        cls.browser = cls.enterClassContext(Browser(cls.app.base, size=(1280, 943)))

    def setUp(self):
        self.open()

    def open(self, step="motion"):
        self.browser.open(f"/characters/{self.app.mudwick}/{step}/")
        self.browser.wait_for("return document.querySelectorAll('#score [data-choose]').length >= 8")

    def layers(self):
        return self.app.setup(self.app.mudwick)["layers"]

    def layer(self, identifier):
        return next(each for each in self.layers() if each["id"] == identifier)

    def wait_for_setup(self, is_so):
        self.app.wait_for(lambda: is_so(self.layers()))

    def choose(self, *ids, held=None):
        for identifier in ids:
            self.calm()
            self.browser.run("document.querySelector('#chosen-layers').isOld = true")
            self.app.wait_for(lambda identifier=identifier: self._click_on(identifier, held))
            self.browser.wait_for(
                "const shown = document.querySelector('#chosen-layers');"
                "return shown && !shown.isOld && shown.dataset.ids.split(',').includes(arguments[0])"
                " && document.querySelector('[data-choose=' + arguments[0] + ']').getAttribute('aria-pressed') === 'true'",
                identifier,
            )

    def _click_on(self, identifier, held):
        """Whether a layer's name was clicked: lanes that come anew in between take it away."""
        chain = ActionChains(self.browser.driver)
        if held:
            chain.key_down(held)
        try:
            chain.click(self.browser.find(f"[data-choose={identifier}]")).perform()
        except StaleElementReferenceException:
            return False
        finally:
            if held:
                ActionChains(self.browser.driver).key_up(held).perform()
        return True

    def calm(self):
        """Until the take of the last change is there, so that the lanes do not come anew."""
        self.browser.wait_for(
            "return app.takes.ended(app.store.state.takeId)?.state === 'finished' && !document.querySelector('.lanes.is-stale')"
        )

    def type_into(self, selector, *keys):
        field = self.browser.find(selector)
        ActionChains(self.browser.driver).click(field).key_down(Keys.CONTROL).send_keys("a").key_up(Keys.CONTROL).send_keys(*keys).perform()

    def test_enter_keeps_a_dial_s_value_and_the_page(self):
        self.choose("tail")
        self.browser.run("window.isTheSame = true")
        self.type_into("#dial-wobble_rate", "3.4", Keys.ENTER)
        self.wait_for_setup(lambda layers: layers[0]["dials"]["wobble_rate"] == 3.4)
        self.assertEqual(self.browser.find("#dial-wobble_rate").get_attribute("value"), "3.4")
        self.assertTrue(self.browser.run("return window.isTheSame"))

    def test_enter_in_names_and_scene_values_keeps_them_and_the_choice(self):
        self.choose("belly")
        self.browser.run("window.isTheSame = true")
        self.type_into(".layer-name input[name=value]", "Big belly", Keys.ENTER)
        self.wait_for_setup(lambda layers: any(layer["name"] == "Big belly" for layer in layers))
        self.browser.wait_for("return document.querySelector('[data-choose=belly]').textContent === 'Big belly'")
        self.browser.run("document.querySelector('#scene-preroll_frames').closest('details').open = true")
        self.type_into("#scene-preroll_frames", "14", Keys.ENTER)
        self.app.wait_for(lambda: self.app.setup(self.app.mudwick)["preroll_frames"] == 14)
        self.assertTrue(self.browser.run("return window.isTheSame"))
        self.browser.wait_for("return document.querySelector('#chosen-layers').dataset.ids === 'belly'")

    def test_arrow_keys_go_in_steps_coarse_and_fine(self):
        self.choose("tail")
        self.type_into("#dial-settle_time", "40", Keys.TAB)
        self.wait_for_setup(lambda layers: layers[0]["dials"]["settle_time"] == 40.0)
        field = self.browser.find("#dial-settle_time")
        chain = ActionChains(self.browser.driver).click(field).send_keys(Keys.ARROW_UP)
        chain.key_down(Keys.SHIFT).send_keys(Keys.ARROW_UP).key_up(Keys.SHIFT)
        chain.key_down(Keys.ALT).send_keys(Keys.ARROW_DOWN).key_up(Keys.ALT).perform()
        self.wait_for_setup(lambda layers: abs(layers[0]["dials"]["settle_time"] - 50.9) < 1e-6)

    def test_several_are_chosen_show_what_is_mixed_and_change_together(self):
        self.choose("frill")
        self.choose("barbels", held=Keys.CONTROL)
        self.browser.wait_for("return document.querySelector('.many').textContent.startsWith('2 layers')")
        self.assertEqual(self.browser.find("#dial-wobble_rate").get_attribute("placeholder"), "mixed")
        self.browser.set_value("#dial-wobble_rate", 2.2)
        self.wait_for_setup(lambda layers: sum(layer["dials"].get("wobble_rate") == 2.2 for layer in layers) == 2)
        self.assertEqual(self.browser.run("return document.querySelectorAll('.lane-label.is-chosen').length"), 2)
        ids = [layer["id"] for layer in self.layers()]
        self.choose(ids[0])
        self.choose(ids[3], held=Keys.SHIFT)
        self.assertEqual(self.browser.run("return document.querySelector('#chosen-layers').dataset.ids.split(',')"), ids[:4])

    def test_order_by_dragging_and_by_keys_and_names_by_f2(self):
        ids = [layer["id"] for layer in self.layers()]
        self.calm()
        heads = [self.browser.find(f"[data-choose={each}]") for each in ids[:3]]
        ActionChains(self.browser.driver).drag_and_drop_by_offset(
            heads[0], 0, heads[2].location["y"] - heads[0].location["y"] + 9
        ).perform()
        self.wait_for_setup(lambda layers: [layer["id"] for layer in layers[:3]] == [ids[1], ids[2], ids[0]])
        self.browser.wait_for("return document.querySelectorAll('[data-choose]')[2].dataset.choose === arguments[0]", ids[0])
        self.browser.run("document.querySelector('[data-choose=' + arguments[0] + ']').focus()", ids[0])
        ActionChains(self.browser.driver).key_down(Keys.ALT).send_keys(Keys.ARROW_UP).key_up(Keys.ALT).perform()
        self.wait_for_setup(lambda layers: [layer["id"] for layer in layers[:3]] == [ids[1], ids[0], ids[2]])
        # The focus stays where it was, though the list came anew.
        self.browser.wait_for("return document.querySelectorAll('[data-choose]')[1].dataset.choose === arguments[0]", ids[0])
        self.browser.wait_for("return document.activeElement.dataset.choose === arguments[0]", ids[0])
        ActionChains(self.browser.driver).send_keys(Keys.F2).perform()
        ActionChains(self.browser.driver).send_keys("Rudder", Keys.ENTER).perform()
        self.wait_for_setup(lambda layers: layers[1]["name"] == "Rudder")
        self.browser.wait_for("return document.querySelectorAll('[data-choose]')[1].textContent === 'Rudder'")
        self.browser.wait_for("return document.querySelector('.last-change').textContent.includes('renamed')")
        # Enter named it, and did not choose it besides.
        chosen = "return document.querySelector('#chosen-layers').dataset.ids"
        self.assertEqual(self.browser.run(chosen), ids[0])
        # An empty name is no name.
        self.browser.run("document.querySelectorAll('[data-choose]')[1].focus()")
        ActionChains(self.browser.driver).send_keys(Keys.F2).perform()
        ActionChains(self.browser.driver).send_keys(Keys.BACKSPACE, Keys.ENTER).perform()
        self.browser.wait_for("return document.querySelector('#messages').textContent.includes('needs a name')")
        self.browser.set_value("#dial-settle_time", 31)
        self.browser.wait_for("return document.querySelector('#messages').textContent.trim() === ''")

    def menu(self, identifier, what):
        self.browser.click(f"[data-menu={identifier}]")
        self.browser.wait_for("return document.querySelector('#layer-menu').matches(':popover-open')")
        self.browser.click(f"[data-do={what}]")

    def test_the_menu_switches_groups_copies_and_removes(self):
        count = len(self.layers())
        self.menu("belly", "solo")
        self.wait_for_setup(lambda layers: [layer["id"] for layer in layers if layer["on"]] == ["belly"])
        self.browser.click("[data-all]")
        self.wait_for_setup(lambda layers: not any(layer["on"] for layer in layers))
        self.browser.wait_for("return document.querySelector('[data-all]').textContent === 'All on'")
        self.browser.click("[data-all]")
        self.wait_for_setup(lambda layers: all(layer["on"] for layer in layers))
        self.menu("belly", "duplicate")
        self.wait_for_setup(lambda layers: len(layers) == count + 1)
        copy = next(after["id"] for before, after in itertools.pairwise(self.layers()) if before["id"] == "belly")
        self.browser.wait_for("return document.querySelector('#chosen-layers').dataset.ids === arguments[0]", copy)
        self.browser.wait_for("return document.querySelector('[data-menu=' + arguments[0] + ']')", copy)
        self.menu(copy, "remove")
        self.wait_for_setup(lambda layers: len(layers) == count)
        self.choose("frill")
        self.choose("bell", held=Keys.CONTROL)
        self.browser.click("[data-menu=bell]")
        self.browser.find(".group-form input").send_keys("Back", Keys.ENTER)
        self.wait_for_setup(lambda layers: sum(layer.get("group") == "Back" for layer in layers) == 2)
        self.browser.click("[data-fold=Back]")
        self.browser.wait_for("return document.querySelector('[data-choose=bell]').closest('.lane-label').hidden")
        self.browser.click("[data-fold=Back]")

    def test_amount_keys_are_made_and_dragged_in_the_lane(self):
        self.choose("tail")
        # On a busy machine two clicks may be too far apart to be a double one.
        for _ in range(5):
            self.calm()
            lane = self.browser.find("[data-of=tail]")
            ActionChains(self.browser.driver).move_to_element_with_offset(lane, 0, lane.size["height"] // 2 - 3).double_click().perform()
            with contextlib.suppress(AssertionError):
                self.app.wait_for(lambda: len(self.layer("tail")["amount"]) == 2, seconds=8.0)
                break
        self.assertEqual(len(self.layer("tail")["amount"]), 2)
        self.browser.wait_for("return document.querySelectorAll('[data-of=tail] .amount-handle').length === 2")
        self.calm()
        handle = self.browser.find("[data-of=tail] [data-key='1']")
        frame, value = self.layer("tail")["amount"][1]
        self.assertLess(value, 0.3)
        ActionChains(self.browser.driver).drag_and_drop_by_offset(handle, 100, -20).perform()
        self.wait_for_setup(lambda layers: self.layer("tail")["amount"][1] != [frame, value])
        moved = self.layer("tail")["amount"][1]
        self.assertGreater(moved[0], frame)
        self.assertGreater(moved[1], value)

    def test_borders_are_dragged_and_remembered(self):
        wide = "return document.querySelector('#panel').getBoundingClientRect().width"
        before = self.browser.run(wide)
        ActionChains(self.browser.driver).drag_and_drop_by_offset(self.browser.find(".split.is-panel"), -120, 0).perform()
        self.assertAlmostEqual(self.browser.run(wide), before + 120, delta=6)
        ActionChains(self.browser.driver).drag_and_drop_by_offset(self.browser.find(".split.is-panel"), -700, 0).perform()
        self.assertAlmostEqual(self.browser.run(wide), 640, delta=2)
        self.open()
        self.assertAlmostEqual(self.browser.run(wide), 640, delta=2)
        self.browser.click("#fold")
        self.assertLess(self.browser.run("return document.querySelector('.score').getBoundingClientRect().height"), 60)
        self.open()
        self.assertLess(self.browser.run("return document.querySelector('.score').getBoundingClientRect().height"), 60)
        self.browser.run("localStorage.clear()")
        self.open()

    def test_the_first_dial_is_in_sight_whichever_layer_is_chosen(self):
        self.browser.driver.set_window_size(1280, 943)
        # Fifteen of them.
        for layer in ("tail", "belly", "frill", "bell"):
            count = len(self.layers())
            self.menu(layer, "duplicate")
            self.wait_for_setup(lambda layers, count=count: len(layers) == count + 1)
        self.assertEqual(len(self.layers()), 15)
        self.open()
        for layer in self.layers():
            self.choose(layer["id"])
            first = "return document.querySelector('.dial .number, .dial select').getBoundingClientRect().bottom"
            self.assertLess(self.browser.run(first), 700, layer["id"])
        for count in range(15, 11, -1):
            self.browser.click("#undo")
            self.wait_for_setup(lambda layers, count=count: len(layers) == count - 1)
            self.calm()

    def test_few_stops_lead_to_the_first_dial(self):
        self.browser.run("document.querySelector('#panel').focus()")
        for _ in range(10):
            ActionChains(self.browser.driver).send_keys(Keys.TAB).perform()
            if self.browser.run("return document.activeElement.matches('.dial .number')"):
                return
        self.fail("no dial after ten stops")

    def test_f6_goes_around(self):
        order = []
        for _ in range(4):
            ActionChains(self.browser.driver).send_keys(Keys.F6).perform()
            order.append(self.browser.run("return document.activeElement.id"))
        self.assertEqual(order[:3], ["stage", "panel", "score"])
        self.assertEqual(order[3], "stage")
