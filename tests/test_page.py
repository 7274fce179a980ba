"""The page, the report and a notebook's view as people meet them: in a browser."""

from __future__ import annotations

import hashlib
import json
import shutil
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of
from test_look import ball, job, served, shelf_of
from zesty_otter.jobs.looking import JobFiles, Runs
from zesty_otter.page.server import PageServer
from zesty_otter.page.shelf import Shelf

webdriver = pytest.importorskip("selenium.webdriver")
CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
if not (CHROMIUM and DRIVER):
    pytest.skip("needs the programs chromium and chromedriver", allow_module_level=True)

FLAGS = [
    "--headless=new", "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
]  # fmt: skip
PATIENCE = 60.0  # seconds, for slow machines


class Browser:
    """A browser with one page open."""

    def __init__(self, profile: Path) -> None:
        options = webdriver.ChromeOptions()
        options.binary_location = CHROMIUM
        for flag in (*FLAGS, f"--user-data-dir={profile}"):
            options.add_argument(flag)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
        self.driver = webdriver.Chrome(options=options, service=webdriver.ChromeService(DRIVER))
        self.size(1280, 800)

    def size(self, wide: int, high: int) -> None:
        about = {"width": wide, "height": high, "deviceScaleFactor": 1, "mobile": False}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", about)

    def open(self, address: str) -> None:
        self.driver.get("about:blank")
        self.driver.get_log("browser"), self.driver.get_log("performance")
        self.driver.get(address)

    def ask(self, script: str, *arguments: Any) -> Any:
        return self.driver.execute_script(f"return {script}", *arguments)

    def wait(self, script: str, *arguments: Any) -> Any:
        """Until something is so."""
        until = time.monotonic() + PATIENCE
        while not (found := self.ask(script, *arguments)):
            assert time.monotonic() < until, f"not within {PATIENCE} s: {script}; {self.text('body')[:400]}"
            time.sleep(0.03)
        return found

    def text(self, selector: str) -> str:
        return self.ask("[...document.querySelectorAll(arguments[0])].map(one => one.textContent).join(' ')", selector)

    def click(self, word: str) -> None:
        """A switch, a button or a link, by its words."""
        found = self.wait(
            "[...document.querySelectorAll('label, button, a')].find(one => one.textContent.trim().startsWith(arguments[0]))",
            word,
        )
        self.driver.execute_script("arguments[0].click()", found)

    def press(self, *keys: str) -> None:
        from selenium.webdriver.common.action_chains import ActionChains

        for key in keys:
            ActionChains(self.driver).send_keys(key).perform()

    def state(self, name: str) -> str:
        return self.ask("document.querySelector('.drawn').dataset[arguments[0]]", name)

    def settled(self) -> str:
        """A hash of the picture once it stays as it is."""
        self.wait("document.querySelector('.drawn')?.dataset.pictures")
        until, last = time.monotonic() + PATIENCE, ""
        while time.monotonic() < until:
            now = hashlib.sha256(self.ask("document.querySelector('canvas').toDataURL()").encode()).hexdigest()
            if now == last:
                return now
            last = now
            time.sleep(0.25)
        raise AssertionError("the picture never stays as it is")

    def complaints(self) -> list[str]:
        """What the browser objects to, and every address outside of this machine that the page asked for."""
        wrong = [one["message"] for one in self.driver.get_log("browser") if one["level"] in ("SEVERE", "WARNING")]
        for entry in self.driver.get_log("performance"):
            message = json.loads(entry["message"])["message"]
            address = message.get("params", {}).get("request", {}).get("url", "")
            if address and not address.startswith(("http://127.0.0.1:", "blob:", "data:", "file:", "about:")):
                wrong.append(address)
        return wrong


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Browser]:
    made = Browser(tmp_path_factory.mktemp("browser"))
    yield made
    made.driver.quit()


def different(browser: Browser, before: str) -> bool:
    """Whether the picture is another one than before."""
    return browser.settled() != before


@pytest.fixture
def yard(tmp_path: Path) -> Path:
    """A ball with levels, collision, shadow and two slots, beside a crate that hangs below another node."""
    paints = (zo.Material("red", (0.6, 0.05, 0.02, 1.0)), zo.Material("blue", (0.02, 0.1, 0.5, 1.0)))
    mesh = ball(800)
    mesh = mesh.replace(slots=paints, face_slot=[n % 2 for n in range(mesh.face_count)])
    scene = zo.apply(
        scene_of(mesh),
        zo.steps.Unwrap(),
        zo.steps.Levels(chain="50 25"),
        zo.steps.Collision(shape="box"),
        zo.steps.Shadow(),
    )
    crate = zo.Node("crate", moved(3, -0.5, 0), content=cube(name="crate"))
    path = tmp_path / "yard.glb"
    zo.write(zo.Scene((*scene.roots, crate), scene.frame), path)
    return path


def test_switches_change_the_picture_and_nothing_is_drawn_when_nothing_moves(browser, yard):
    with served(shelf_of(yard)) as address:
        browser.open(address)
        seen = {"shaded": browser.settled()}
        for word in ("wire", "normals", "UV checker", "material slots"):
            browser.click(word)
            seen[word] = browser.settled()
        browser.click("shaded")
        assert browser.settled() == seen["shaded"] and len(set(seen.values())) == 5
        for word in ("edges", "collision", "footing", "shadow mesh", "bounds", "pivots", "axes", "grid", "figure"):
            before = browser.settled()
            browser.click(word)
            assert different(browser, before), word
        drawn = browser.state("pictures")
        time.sleep(0.6)
        assert browser.state("pictures") == drawn
        assert browser.complaints() == []


def test_levels_by_slider_and_by_distance(browser, yard):
    counts = [mesh.triangle_count for placed, mesh in zo.read(yard).placed_meshes() if "ball" in placed.node.name][:1]
    levels = zo.audit.survey(zo.steps.Roles().apply(zo.read(yard))).levels
    full, first, second = counts[0] + 12, levels[0].triangles + 12, levels[1].triangles + 12
    with served(shelf_of(yard)) as address:
        browser.open(address)
        browser.wait("document.querySelector('input[type=range]')")

        def triangles(wanted: int) -> None:
            browser.wait("document.querySelector('.drawn').dataset.triangles === arguments[0]", str(wanted))

        triangles(full)
        slide = "(s => { s.value = arguments[0]; s.dispatchEvent(new Event('input')); return true })(document.querySelector('input[type=range]'))"
        for level, wanted in ((1, first), (2, second), (0, full)):
            browser.ask(slide, level)
            triangles(wanted)
        browser.click("by distance")
        canvas = browser.wait("document.querySelector('canvas')")
        browser.ask("arguments[0].focus()", canvas)
        browser.press(*["+"] * 20)
        triangles(full)
        browser.press(*["-"] * 60)
        triangles(second)


def test_a_changed_file_appears_keeps_the_camera_and_marks_what_moved(browser, tmp_path):
    path = tmp_path / "crate.glb"
    zo.write(scene_of(zo.Node("crate", content=cube()), zo.Node("lid", moved(0, 1, 0), content=cube())), path)
    with served(shelf_of(path)) as address:
        browser.open(address)
        browser.settled()
        browser.click("left")
        before, eye = browser.settled(), browser.state("eye")
        zo.write(scene_of(zo.Node("crate", content=cube()), zo.Node("lid", moved(0, 1.5, 0), content=cube())), path)
        browser.wait("document.querySelector('.news').textContent.includes('lid moved')")
        assert different(browser, before) and browser.state("eye") == eye
        assert "crate" not in browser.text(".news").replace("crate.glb", "")
        path.write_bytes(b"glTF half")
        browser.wait("document.querySelector('.problem').textContent.includes('crate.glb')")
        assert browser.state("triangles") == "24"  # the last good picture stays
        path.unlink()
        browser.wait("document.querySelector('.problem').textContent.includes('not there any more')")
        zo.write(scene_of(zo.Node("crate", content=cube())), path)
        browser.wait("document.querySelector('.drawn').dataset.triangles === '12'")
        browser.wait("document.querySelector('.problem').hidden")


def test_a_finding_moves_the_camera_and_a_click_tells_facts(browser, yard):
    scene = zo.read(yard)
    odd = zo.Mesh.from_faces("torn", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0.5, 0.5, 0.4)],
                             [(0, 1, 2, 3), (0, 1, 4), (1, 0, 4)])  # fmt: skip
    zo.write(zo.Scene((*scene.roots, zo.Node("torn", moved(-4, 0, 0), content=odd)), scene.frame), yard)
    with served(shelf_of(yard)) as address:
        browser.open(address)
        before = browser.settled()
        browser.wait("document.querySelector('.finding')")
        eye = browser.state("eye")
        browser.click("warning torn: 1 edge with more than two faces")
        assert different(browser, before) and browser.state("eye") != eye
        target = [float(one) for one in browser.state("target").split()]
        assert target == pytest.approx([-3.5, 0, 0], abs=0.01)  # the middle of the edge that three faces share
        assert browser.text(".details .name") == "torn"


def test_the_keyboard_does_everything(browser, yard):
    alone = yard.with_name("ball.glb")
    zo.write(zo.apply(zo.read(yard), zo.steps.Select(drop="crate")), alone)
    with served(shelf_of(alone)) as address:
        browser.open(address)
        browser.settled()
        browser.ask("document.activeElement.blur() || true")
        reached = set()
        for _ in range(60):
            browser.press("\ue004")  # the tab key
            reached.add(browser.ask("document.activeElement.tagName + ' ' + (document.activeElement.type || '')"))
        assert {"CANVAS ", "INPUT radio", "INPUT checkbox", "INPUT range", "BUTTON button"} <= reached
        browser.ask("document.querySelector('canvas').focus() || true")
        for key in ("\ue012", "\ue013", "+", "-"):  # arrows and zoom
            before = browser.settled()
            browser.press(key)
            assert different(browser, before), key
        browser.click("figure")
        browser.ask("document.querySelector('canvas').focus() || true")
        browser.press("0", "\ue007")  # all of it, and pick in the middle
        browser.wait("document.querySelector('.details .name')")
        browser.press("\ue00c")
        browser.wait("!document.querySelector('.details .name')")
        browser.click("measure between two points")
        browser.ask("document.querySelector('canvas').focus() || true")
        browser.press("\ue007", *["\ue012"] * 6, "\ue007")
        browser.wait("document.querySelector('.measured').textContent.includes(' apart: ')")


def test_measuring_gives_the_length_between_two_points(browser, tmp_path):
    path = tmp_path / "crate.glb"
    zo.write(scene_of(cube((2, 1, 1))), path)
    with served(shelf_of(path)) as address:
        browser.open(address)
        for word in ("figure", "front", "measure between two points"):
            browser.click(word)
        browser.settled()
        from selenium.webdriver.common.action_chains import ActionChains

        canvas = browser.driver.find_element("css selector", "canvas")
        away = (
            float(browser.state("distance")) - 0.5
        )  # from the front of the crate, which is half a metre before its middle
        pixels = canvas.size["height"] / 2 / np.tan(np.radians(20)) / away
        for x in (-0.9, 0.9):
            ActionChains(browser.driver).move_to_element_with_offset(canvas, round(x * pixels), 0).click().perform()
        said = browser.wait("[document.querySelector('.measured').textContent].find(one => one.includes('apart'))")
        assert float(said.split()[0]) == pytest.approx(1.8, abs=0.02)


def test_before_and_after_stand_side_by_side(browser, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    files = JobFiles(job(tmp_path))
    zo.run_job("yard.toml")
    with served(Shelf(files.contents)) as address:
        browser.open(address)
        browser.click("gate.obj")
        before = browser.settled()
        browser.click("before and after")
        browser.wait("[...document.querySelectorAll('.labels span')].some(one => one.textContent === 'before')")
        assert different(browser, before) and browser.state("triangles") == "12"


def test_a_sheet_is_searched_and_filtered(browser, tmp_path):
    paths = []
    for name, mesh in (("gate", cube()), ("ball", ball(400)), ("post", cube())):
        paths.append(tmp_path / f"{name}.glb")
        zo.write(scene_of(mesh), paths[-1])
    shelf = shelf_of(*paths)
    for entry in shelf.listing()["assets"]:
        shelf.packed(entry["key"], "after")
    with served(shelf) as address:
        browser.open(address)
        browser.wait("document.querySelectorAll('.card').length === 3")
        fill = "(s => { s.value = arguments[1]; s.dispatchEvent(new Event('input')); return true })(document.querySelector(arguments[0]))"
        browser.ask(fill, "input[type=search]", "GAT")
        assert browser.text(".card .name") == "gate.glb"
        browser.ask(fill, "input[type=search]", "")
        browser.ask(fill, "input[type=number]", 100)
        assert browser.text(".card .name") == "ball.glb" and "1 of 3 assets" in browser.text(".filters")
        browser.click("ball.glb")
        browser.settled()
        browser.click("All assets")
        assert browser.text(".card .name") == "ball.glb"


def test_hostile_names_stay_text_and_empty_places_say_what_to_do(browser, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    path = tmp_path / "bad.glb"
    name = "<img src=x onerror=document.title='pwned'><script>document.title='pwned'</script>"
    zo.write(scene_of(zo.Node(name, content=cube(name=name).replace(slots=(zo.Material(name),)))), path)
    with served(shelf_of(path)) as address:
        browser.open(address)
        browser.settled()
        assert name in browser.text(".tree") and "pwned" not in browser.driver.title
        assert browser.ask("document.querySelectorAll('.tree img, .details script').length") == 0
    files = JobFiles(job(tmp_path))
    with served(Shelf(files.contents)) as address:
        browser.open(address)
        browser.wait("document.querySelector('.empty')?.textContent.includes('has not made any file yet')")
        zo.run_job("yard.toml")
        browser.wait("document.querySelectorAll('.card').length === 2")


def test_a_job_that_runs_while_it_is_looked_at(browser, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    files = JobFiles(job(tmp_path))
    zo.run_job("yard.toml")
    look, runs = PageServer(Shelf(files.contents)), Runs(files)
    with look.in_background() as address:
        running = threading.Thread(target=lambda: [look.refresh() for _ in runs], daemon=True)
        running.start()
        browser.open(address)
        browser.click("gate.obj")
        browser.settled()
        source = tmp_path / "in" / "gate.obj"
        good = source.read_text()
        source.write_text(good.replace("v 1", "v 4"))
        browser.wait("document.querySelector('.news').textContent.includes('gate has another shape')")
        source.write_text("f 1 2 x")
        browser.wait("document.querySelector('.problem').textContent.includes('as it was last')")
        assert "gate.obj" in browser.text(".problem") and browser.state("triangles") == "12"
        source.write_text(good)
        browser.wait("document.querySelector('.problem').hidden")
    runs.stop.set()
    running.join(10)


def test_two_clients_follow_one_file(browser, tmp_path):
    path = tmp_path / "crate.glb"
    zo.write(scene_of(cube()), path)
    with served(shelf_of(path)) as address:
        browser.open(address)
        browser.settled()
        first = browser.driver.current_window_handle
        browser.driver.switch_to.new_window("tab")
        browser.open(address)
        browser.settled()
        zo.write(scene_of(cube(), zo.Node("lid", content=cube())), path)
        browser.wait("document.querySelector('.drawn').dataset.triangles === '24'")
        browser.driver.close()
        browser.driver.switch_to.window(first)
        browser.wait("document.querySelector('.drawn').dataset.triangles === '24'")


def test_a_lost_context_is_said_and_comes_back(browser, yard):
    with served(shelf_of(yard)) as address:
        browser.open(address)
        before = browser.settled()
        browser.ask(
            "(window.lost = document.querySelector('canvas').getContext('webgl2').getExtension('WEBGL_lose_context')).loseContext() || true"
        )
        browser.wait("document.querySelector('.problem').textContent.includes('taken the picture')")
        browser.ask("window.lost.restoreContext() || true")
        browser.wait("document.querySelector('.problem').hidden")
        assert browser.settled() == before


def test_a_program_that_ended_is_said(browser, yard):
    with served(shelf_of(yard)) as address:
        browser.open(address)
        browser.settled()
    browser.wait("document.querySelector('.news').textContent.includes('has ended')")


@pytest.mark.parametrize("wide", [400, 1280])
def test_nothing_sticks_out_at_any_width(browser, yard, wide):
    browser.size(wide, 800)
    try:
        with served(shelf_of(yard)) as address:
            browser.open(address)
            browser.settled()
            assert browser.ask("document.documentElement.scrollWidth") <= wide
    finally:
        browser.size(1280, 800)


@pytest.mark.parametrize("wide", [500, 1280])
def test_a_report_fits_its_window(browser, tmp_path, wide, run):
    """Nothing sticks out at the side, and every picture is drawn."""
    long_name = "lantern_buoy_with_a_name_that_goes_on_and_on_and_on_without_a_break"
    scene = scene_of(zo.Node(long_name, content=ball(100)), zo.Node("crate", moved(3, 0, 0), content=cube()))
    zo.write(scene, tmp_path / f"{long_name}.glb")
    output = 'target = "m-left-up-forward"\ncheck = "all"\nsteps = ["levels chain=50", "collision shape=hull"]\n'
    (tmp_path / "j.toml").write_text(f'[[sources]]\nfiles = "*.glb"\n[[outputs]]\n{output}')
    assert run("run", tmp_path / "j.toml").status == 0
    browser.size(wide, 900)
    try:
        browser.open((tmp_path / "ready" / "report.html").as_uri())
        drawn = "[...document.images].filter(one => one.complete && one.naturalWidth > 0).length === 2"
        browser.wait(drawn)
        assert browser.ask("document.documentElement.scrollWidth") <= wide
    finally:
        browser.size(1280, 800)


def test_a_report_turns_its_assets_around(browser, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    job(tmp_path)
    zo.run_job("yard.toml")
    browser.open((tmp_path / "ready" / "report.html").as_uri())
    assert browser.ask("document.querySelectorAll('figure img').length") == 2
    browser.click("Turn it around")
    before = browser.settled()
    browser.click("wire")
    assert different(browser, before)
    browser.click("Turn it around")  # the other one: only one is open
    browser.settled()
    assert browser.ask("document.querySelectorAll('canvas').length") == 1
    browser.click("Back to the picture")
    assert browser.ask("document.querySelectorAll('canvas').length") == 0
    assert browser.complaints() == []


def test_a_notebook_shows_a_scene_without_network(browser, tmp_path, yard):
    shown = zo.read(yard)._repr_mimebundle_()
    assert shown["text/plain"].startswith("Scene") and len(shown["text/html"]) < 400_000
    (tmp_path / "notebook.html").write_text(f"<!doctype html>{shown['text/html']}")
    browser.open((tmp_path / "notebook.html").as_uri())
    browser.driver.switch_to.frame(0)
    browser.settled()
    assert int(browser.state("triangles")) > 12
    browser.driver.switch_to.default_content()
    assert browser.complaints() == []
