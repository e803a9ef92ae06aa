"""Headless Chromium with WebGL in software, and the few things the tests do with it."""

import contextlib
import pathlib
import shutil
import tempfile
import time

from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

PATIENCE = 60.0
TRIES = 5
FLAGS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--enable-unsafe-swiftshader",
    "--no-first-run",
    "--no-default-browser-check",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # Nothing but the app is reachable: a page that asks for anything else fails the test.
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
)
AXE = pathlib.Path(__file__).resolve().parent.parent / "tools" / "node_modules" / "axe-core" / "axe.min.js"


class Browser:
    """A context manager around one window of ``size``; ``webgl`` off is how a machine without graphics looks."""

    def __init__(self, base, size=(1280, 943), webgl=True):
        self.base = base
        self.folder = tempfile.mkdtemp(prefix="keen-browser-")
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium")
        for flag in (*FLAGS, f"--window-size={size[0]},{size[1]}", f"--user-data-dir={self.folder}/profile"):
            options.add_argument(flag)
        if not webgl:
            options.add_argument("--disable-3d-apis")
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        options.add_experimental_option("prefs", {"download.default_directory": self.folder, "download.prompt_for_download": False})
        self.driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))

    def __enter__(self):
        return self

    def __exit__(self, *error):
        self.driver.quit()
        shutil.rmtree(self.folder, ignore_errors=True)

    def open(self, path):
        """Open a page and wait until its stage, if it has one, is ready."""
        self.driver.get(self.base + path)
        self.wait_for("return !document.getElementById('stage') || Boolean(window.app && app.store.state.isReady)")

    def run(self, script, *values):
        return self.driver.execute_script(script, *values)

    def wait_for(self, script, *values, seconds=PATIENCE):
        """The first true value of a script; AssertionError with the script when it takes too long."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            value = self.run(script, *values)
            if value:
                return value
            time.sleep(0.05)
        raise AssertionError(f"waited {seconds:g} s in vain for: {script}")

    def find(self, selector):
        return self.driver.find_element(By.CSS_SELECTOR, selector)

    def click(self, selector):
        self.wait_for("return document.querySelector(arguments[0])", selector)
        for _ in range(TRIES):
            # Between finding and clicking the page may show that part anew.
            with contextlib.suppress(StaleElementReferenceException):
                self.find(selector).click()
                return
        raise AssertionError(f"it was shown anew each time before it could be clicked: {selector}")

    def text(self, selector):
        return self.find(selector).text

    def set_value(self, selector, value):
        """Set a field as typing does: the value, then the events that follow it."""
        self.run(
            "const field = document.querySelector(arguments[0]); field.value = arguments[1];"
            "field.dispatchEvent(new Event('input', { bubbles: true })); field.dispatchEvent(new Event('change', { bubbles: true }));",
            selector,
            str(value),
        )

    def download(self, selector, suffix):
        """Click a link and wait for the file: its bytes."""
        # In one script, because the panel may show itself anew between finding and clicking.
        self.wait_for("const link = document.querySelector(arguments[0]); link?.click(); return Boolean(link)", selector)
        end = time.monotonic() + PATIENCE
        while time.monotonic() < end:
            files = list(pathlib.Path(self.folder).glob("*.*"))
            # While it comes in there is a second, nameless file beside it.
            if len(files) == 1 and files[0].suffix == suffix and files[0].stat().st_size:
                data = files[0].read_bytes()
                files[0].unlink()
                return data
            time.sleep(0.1)
        raise AssertionError("no file came")

    def faults_of_access(self):
        """What axe-core finds wrong with the page: [(rule, element), ...]."""
        self.run(AXE.read_text())
        report = self.driver.execute_async_script(
            "const done = arguments[0]; axe.run(document).then(done, (error) => done({error: String(error)}));"
        )
        return [(each["id"], each["nodes"][0]["html"][:160]) for each in report["violations"]]

    def complaints(self):
        """Errors that the page wrote into the console since the last call."""
        return [entry["message"] for entry in self.driver.get_log("browser") if entry["level"] == "SEVERE"]
