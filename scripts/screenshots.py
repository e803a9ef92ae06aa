"""Takes the pictures in docs/screenshots from the demo data: ``./keen python -m scripts.screenshots``."""

import pathlib
import time

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By

from tests.browser.browser import Browser
from tests.browser.server import RunningApp
from tests.formats.makers import arm, glb_bytes

FOLDER = pathlib.Path(__file__).resolve().parent.parent / "docs" / "screenshots"
SECONDS_TO_SETTLE = 0.8


def main():
    FOLDER.mkdir(parents=True, exist_ok=True)
    with RunningApp(with_demo=("Mudwick", "Tidewarden")) as app:
        app.wait_for(lambda: app.query("SELECT count(*) FROM jobs_job WHERE state = 'finished'") == 8)
        with Browser(app.base) as browser:
            take_all(app, browser)


def take_all(app, browser):
    def desk(step):
        browser.open(f"/characters/{app.mudwick}/{step}/")
        browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")

    browser.open("/")
    keep(browser, "library")
    refuse(browser)
    keep(browser, "refused")
    desk("rig")
    ActionChains(browser.driver).move_to_element(browser.find("[data-name='tail_2']")).perform()
    keep(browser, "rig")
    desk("regions")
    browser.run("app.player.go(8)")
    keep(browser, "regions")
    desk("motion")
    choose_clip(browser, "hop and land")
    desk("motion")
    browser.click("[data-show=both]")
    browser.wait_for("return app.viewport.view.ghost?.object.visible")
    browser.run("document.querySelector('[data-look=joints]').click(); app.player.go(36)")
    keep(browser, "motion-both")
    desk("motion")
    browser.set_value("#dial-wobble_rate", 1.8)
    browser.wait_for("return document.querySelector('#take-status').textContent.includes('Take 9 finished')")
    many_layers(app, browser)
    browser.open(f"/characters/{app.mudwick}/motion/?layer=belly")
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.click(".ring-form button")
    browser.wait_for("return document.querySelector('.ring-curve')")
    browser.click("[data-look=joints]")
    browser.run("document.querySelector('.ring-form').scrollIntoView(); app.player.go(40)")
    browser.run("app.viewport.stage.camera.position.set(2.6, 0.5, 2.0); app.viewport.stage.controls.update()")
    keep(browser, "motion-soft")
    browser.open(f"/characters/{app.mudwick}/motion/?layer=belly")
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.click("[data-look=joints]")
    browser.click("[data-solid=paper]")
    browser.set_value("#solid-cut", 62)
    browser.wait_for("return Boolean(app.lattice) && document.querySelector('#volume-facts').textContent.includes('tetrahedra')")
    browser.run("document.querySelector('.dials').scrollIntoView(); app.player.go(20)")
    keep(browser, "motion-inside")
    desk("contacts")
    browser.click(".fit-form [name=small]")
    browser.click(".fit-form button")
    browser.wait_for("return document.querySelectorAll('.colliders .layer').length > 10")
    time.sleep(1)
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished' && document.querySelector('.clip-area')")
    browser.run("app.player.go(24); document.querySelector('.meet').closest('details').open = true")
    browser.run("document.querySelector('.meet').scrollIntoView({block: 'center'})")
    keep(browser, "contacts")
    browser.open(f"/characters/{app.mudwick}/motion/?layer=saddle-blanket")
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.run("document.querySelector('[data-look=joints]').click(); app.player.go(26)")
    browser.run(
        "document.querySelector('.dials').scrollIntoView(); "
        "app.viewport.stage.camera.position.set(2.3, 1.7, -1.9); app.viewport.stage.controls.update()"
    )
    keep(browser, "motion-sheet")
    anatomy(app, browser)
    compared(browser, desk)
    poke(browser, desk)
    skin_on_skin(browser, desk)
    tidewarden(app, browser)
    desk("bake")
    browser.click(".bake-form .button.is-keen")
    browser.wait_for("return document.querySelector('.takes .download')")
    browser.run("app.player.go(27)")
    keep(browser, "bake")
    all_clips(browser, desk)
    sweep_sheet(browser, desk)


def all_clips(browser, desk):
    """The walk run around until it closes, and all clips in one table."""
    desk("takes")
    choose_clip(browser, "walk")
    desk("takes")
    browser.click("[name=around]")
    browser.wait_for("return document.querySelector('.take.is-current .note')?.textContent.includes('closes exactly')", seconds=120)
    browser.run("document.querySelector('.all-clips').open = true; document.querySelector('.all-clips button').click()")
    browser.wait_for(
        "return [...document.querySelectorAll('.all-clips tbody tr')].every((row) => row.textContent.includes('finished'))", seconds=240
    )
    browser.run("document.querySelector('.all-clips').open = true; document.querySelector('[data-look=joints]').click(); app.player.go(6)")
    keep(browser, "all-clips")


def sweep_sheet(browser, desk):
    """The hop with the tail at six pairs of dials, rung, as it overshoots."""
    desk("takes")
    choose_clip(browser, "hop and land")
    desk("takes")
    put = "document.querySelectorAll(`details.sweep [name=${arguments[0]}]`)[arguments[1]].value = arguments[2]"
    for row, values in enumerate((("tail:wobble_rate", 1.0, 3.0, 2), ("tail:settle_time", 10.0, 60.0, 3))):
        for name, value in zip(("dial", "low", "high", "count"), values, strict=True):
            browser.run(put, name, row, value)
    browser.run("document.querySelector('details.sweep form button').click()")
    browser.wait_for("return document.querySelectorAll('[data-strip]').length === 6", seconds=240)
    browser.run("document.querySelector('.sheet-play form button').click()")
    browser.wait_for("return document.querySelectorAll('.ring-curve').length === 6", seconds=240)
    browser.run("document.getElementById('sheet-play').click(); document.getElementById('sheet-frame').value = 13")
    keep(browser, "sweep")


def many_layers(app, browser):
    """Two layers chosen: one set of dials."""
    browser.open(f"/characters/{app.mudwick}/motion/?layer=barbels,frill")
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.run("app.player.go(33)")
    keep(browser, "layers")


def anatomy(app, browser):
    """Muscles and bones through a thinned skin, and the hide over them."""
    for layer, looks, frame, eye in (
        ("muscles", ("skin", "fibres"), 44, (2.4, 0.9, 2.1)),
        ("tissue", (), 33, (2.5, 0.9, -1.5)),
    ):
        browser.open(f"/characters/{app.mudwick}/motion/?layer={layer}")
        browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
        browser.click("[data-look=joints]")
        for look in looks:
            browser.click(f"[data-under={look}]")
        if looks:
            browser.click(".muscles details")
            browser.wait_for("return document.querySelector('.muscle-drive')")
        browser.run("app.player.go(arguments[0]); app.viewport.stage.controls.target.set(0, 0.5, 0.1)", frame)
        browser.run("app.viewport.stage.camera.position.set(...arguments[0]); app.viewport.stage.controls.update()", eye)
        keep(browser, layer)


def compared(browser, desk):
    """The tail's slower take with its livelier one as a ghost."""
    desk("takes")
    browser.run("document.querySelector('.take.is-current ~ .take.is-finished [data-beside]').click()")
    browser.wait_for("return document.querySelector('.changes') && app.viewport.view.ghost?.object.visible")
    browser.run("document.querySelector('[data-look=joints]').click(); app.player.go(36)")
    keep(browser, "takes")
    browser.click("[data-beside='']")


def choose_clip(browser, name):
    browser.run("const choice = document.getElementById('clip-choice'); choice.value = arguments[0]; choice.form.submit();", name)
    time.sleep(1)


def poke(browser, desk):
    """A ball on its way into the flank."""
    desk("takes")
    browser.click("[data-look=joints]")
    browser.click("[data-act=poke]")
    browser.wait_for("return app.tools.poke.store")
    browser.click("[data-poke=throw]")
    canvas = browser.find("#canvas")
    for _ in range(2):
        # The first one takes the mail bag along.
        ActionChains(browser.driver).move_to_element_with_offset(canvas, 20, 40).click().perform()
        browser.wait_for("return app.tools.poke._things.ball?.visible")
        time.sleep(0.3)
    keep(browser, "poke", settle=0.0)
    browser.click("[data-act=poke]")


def skin_on_skin(browser, desk):
    """The forelegs are kept from the rest of the skin on the walk; the capsules, fitted last, are taken back first."""
    desk("contacts")
    browser.click("#undo")
    browser.wait_for("return document.querySelectorAll('.colliders .layer').length === 1")
    choose_clip(browser, "walk")
    desk("contacts")
    browser.click("[data-look=joints]")
    browser.set_value("[aria-label='Joints whose skin is kept apart, with commas']", "fore_lower_l, fore_lower_r")
    browser.click(".touches .is-keen")
    browser.wait_for("return document.querySelectorAll('.touches li').length === 1")
    time.sleep(1)
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.run("document.querySelector('.touches').scrollIntoView({block: 'end'}); document.getElementById('score').scrollTo(0, 9999)")
    browser.run("app.player.go(0); app.viewport.stage.controls.target.set(-0.27, 0.5, 0.25)")
    browser.run("app.viewport.stage.camera.position.set(-1.5, 0.45, -0.75); app.viewport.stage.controls.update()")
    keep(browser, "skin-on-skin")


def tidewarden(app, browser):
    """The coat over the legs, simulated."""
    browser.open(f"/characters/{app.demo('Tidewarden')}/motion/?layer=coat-skirt")
    browser.wait_for("return app.takes.ended(app.store.state.takeId)?.state === 'finished'")
    browser.run("document.querySelector('[data-look=joints]').click(); app.player.go(13)")
    browser.run("document.querySelector('.dials').scrollIntoView()")
    browser.run(
        "app.viewport.stage.controls.target.set(0, 0.92, 0);"
        "app.viewport.stage.camera.position.set(2.6, 1.2, 3.2); app.viewport.stage.controls.update()"
    )
    keep(browser, "tidewarden")


def refuse(browser):
    """Bring in a file that is cut off, to show what is said then."""
    path = pathlib.Path(browser.folder) / "cut off.glb"
    path.write_bytes(glb_bytes(arm())[:-3000])
    browser.driver.find_element(By.ID, "file").send_keys(str(path))
    browser.wait_for("return document.querySelector('.is-refused')")


def keep(browser, name, settle=SECONDS_TO_SETTLE):
    time.sleep(settle)
    browser.driver.save_screenshot(str(FOLDER / f"{name}.png"))


if __name__ == "__main__":
    main()
