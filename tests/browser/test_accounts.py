"""Somebody to whom a character is shared, in a real browser."""

import subprocess
import sys

from django.test import SimpleTestCase

from tests.browser.browser import Browser
from tests.browser.server import ROOT, RunningApp
from tests.formats.makers import arm, glb_bytes

PASSWORDS = {"wren": "three reeds by the water", "pike": "under the old bridge"}


class SharedTest(SimpleTestCase):
    def test_who_may_look_finds_what_changes_it_switched_off_until_nothing_is_there(self):
        app = RunningApp()
        app.environment |= {"KEEN_LISTEN": "0.0.0.0"}
        with app:
            for name, password in PASSWORDS.items():
                command = [sys.executable, "manage.py", "add_user", name]
                subprocess.run(
                    command, cwd=ROOT, env=app.environment, input=password + "\n", text=True, check=True, stdout=subprocess.DEVNULL
                )
            app.post("/login/", username="wren", password=PASSWORDS["wren"])
            pk = app.upload(glb_bytes(arm()), "arm.glb")
            app.post(f"/characters/{pk}/motion/add/", joints="upper")
            app.post(f"/characters/{pk}/sharing/", name="pike", may="look")
            app.post(f"/characters/{pk}/takes/sweep/", dial="upper:drag", low="1", high="9", count="3")
            app.wait_for(lambda: app.query("SELECT count(*) FROM takes_movingpicture") == 3)
            sheet = app.query("SELECT id FROM takes_sweep")
            with Browser(app.base) as browser:
                browser.driver.get(f"{app.base}/characters/{pk}/motion/?layer=upper")
                self.assertEqual(browser.faults_of_access(), [])
                fields = "for (const [name, value] of Object.entries(arguments[0])) document.querySelector(`[name=${name}]`).value = value;"
                browser.run(fields + "document.querySelector('.door-form').submit()", {"username": "pike", "password": PASSWORDS["pike"]})
                browser.wait_for("return Boolean(window.app && app.store.state.isReady)")
                dials = "return [...document.querySelectorAll('#panel input[type=range]')].map((each) => each.disabled)"
                states = browser.run(dials)
                self.assertTrue(states and all(states))
                self.assertFalse(browser.run("return document.querySelector('#clip-choice').disabled"))
                browser.driver.get(app.base + f"/sweeps/{sheet}/")
                browser.wait_for("return document.querySelector('[data-strip]')?.style.backgroundImage.includes('moving')")
                acts = "return [...document.querySelectorAll('.sweep-acts button, .sheet-play form button')].map((each) => each.disabled)"
                states = browser.run(acts)
                self.assertTrue(len(states) == 4 and all(states))
                for path in (f"/sweeps/{sheet}/", "/results/", "/"):
                    browser.driver.get(app.base + path)
                    self.assertEqual(browser.faults_of_access(), [], path)
                self.assertEqual(browser.complaints(), [])
                # The sheet leads to one of its takes on the stage.
                take = app.query("SELECT min(id) FROM takes_take WHERE sweep_id IS NOT NULL")
                browser.open(f"/characters/{pk}/takes/?take={take}")
                browser.wait_for(
                    "return app.takes.ended(arguments[0])?.state === 'finished' && app.store.state.takeId === arguments[0]", take
                )
                app.post(f"/characters/{pk}/sharing/", name="pike", may="nothing")
                browser.wait_for("return document.title.startsWith('Nothing here')")
