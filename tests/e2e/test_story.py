"""The whole story in the browser, on the demo: what a user does, stage by stage, and wrong inputs."""

from __future__ import annotations

import itertools
import json
import math
import os
import re
import signal
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np
from playwright.sync_api import Locator, Page, expect, sync_playwright

from pelvrak.core.geometry.mesh import to_stl
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids
from tests.serving import DEMO_STEP, shared, wait

CHROMIUM = [
    "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking",
    "--disable-sync", "--no-first-run", "--disable-component-update",
]  # fmt: skip

# What is computed takes its time on two cores that also run the other half of the tests.
expect.set_options(timeout=30_000)


class Browser(unittest.TestCase):
    """A page on the shared server; page errors fail the test."""

    @classmethod
    def setUpClass(cls):
        cls.server = shared()
        cls.playwright = sync_playwright().start()
        # Scrollbars as users see them.
        cls.browser = cls.playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=CHROMIUM, ignore_default_args=["--hide-scrollbars"]
        )

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.playwright.stop()

    def setUp(self):
        self.errors: list[str] = []
        self.page = self.open()

    def tearDown(self):
        self.page.context.close()
        self.assertEqual(self.errors, [])

    def open(self) -> Page:
        context = self.browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
        page = context.new_page()
        page.set_default_timeout(20_000)
        page.on("pageerror", lambda error: self.errors.append(f"{error} {(error.stack or '')[:600]}"))
        return page

    def go(self, page: Page, path: str) -> None:
        page.goto(self.server.url + path)

    def stage(self, page: Page, name: str) -> None:
        page.get_by_role("list", name="Stages").get_by_role("button", name=name).click()

    def card(self, page: Page, name: str) -> None:
        page.get_by_role("navigation", name="Route").get_by_role("button", name=name, exact=True).click()

    def current(self, page: Page) -> None:
        expect(page.get_by_role("status", name="Computing")).to_have_text("current", timeout=180_000)

    def new_project(self, name: str, shape: object) -> int:
        """Bring in a part through the page; gives the project's number."""
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"{name}.step"
            path.write_bytes(solids.step_bytes(shape))
            self.go(page, "/")
            page.get_by_label("Part file").set_input_files(path)
            page.get_by_role("button", name="Start planning").click(timeout=60_000)
        page.wait_for_url(re.compile(r"/project/\d+"))
        self.current(page)
        return int(page.url.rsplit("/", 1)[1])


# The demo's route, as the rail names it.
CARDS = (
    "Billet", "OP10 Top", "OP20-JAWS Jaws for OP20", "OP20 Underneath", "OP30 Sensor and end face", "Part rev C",
)  # fmt: skip
# Sideways scrollbars, and texts of one row or one line of fields that run into each other; the words of what is wrong.
CROWDED = """() => {
  const wrong = []
  for (const one of document.querySelectorAll('body, body *')) {
    const style = getComputedStyle(one)
    if (one.scrollWidth > one.clientWidth + 1 && ['auto', 'scroll'].includes(style.overflowX) && one.clientWidth > 0)
      wrong.push('scrolls sideways: ' + (one.getAttribute('aria-label') || one.className).slice(0, 80))
  }
  if (document.documentElement.scrollWidth > innerWidth) wrong.push('the page scrolls sideways')
  const boxOf = (node) => { const range = document.createRange(); range.selectNodeContents(node); return range.getBoundingClientRect() }
  const texts = [...document.querySelectorAll('td, th, h1, h2, h3, label, nav [class*=truncate], [role=tab]')]
    .filter((one) => one.textContent.trim() && one.checkVisibility())
  for (const row of document.querySelectorAll('tr')) {
    const cells = [...row.children].filter((one) => one.textContent.trim())
    for (let i = 1; i < cells.length; i += 1) {
      const [a, b] = [boxOf(cells[i - 1]), boxOf(cells[i])]
      if (a.right > b.left + 0.5 && a.bottom > b.top + 2 && b.bottom > a.top + 2)
        wrong.push('run together: ' + cells[i - 1].textContent + ' | ' + cells[i].textContent)
    }
  }
  for (let i = 1; i < texts.length; i += 1) {
    const [one, two] = [texts[i - 1], texts[i]]
    if (one.contains(two) || two.contains(one) || one.closest('tr')) continue
    const [a, b] = [one.getBoundingClientRect(), two.getBoundingClientRect()]
    if (Math.min(a.right, b.right) - Math.max(a.left, b.left) > 2 && Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top) > 4)
      wrong.push('lie over each other: ' + one.textContent.slice(0, 40) + ' | ' + two.textContent.slice(0, 40))
  }
  return wrong
}"""


class Crowding(Browser):
    """Nothing scrolls sideways and no two texts run into each other, on every main screen at 1280 × 800."""

    def test_every_stage_of_every_setup(self):
        page = self.page
        self.go(page, "/")
        expect(page.get_by_role("link", name=re.compile("Sluice-gate"))).to_be_visible()
        self.assertEqual(page.evaluate(CROWDED), [])
        self.go(page, "/project/1")
        self.current(page)
        for card in CARDS:
            self.card(page, card)
            stages = ("Incoming", "Seat", "Hold", "Reach", "Cut", "Outgoing") if card.startswith("OP") else ("",)
            for stage in stages:
                if stage:
                    self.stage(page, stage)
                page.wait_for_timeout(150)
                for tab in ("Time", "Program", "Findings"):
                    page.get_by_role("tab", name=re.compile(tab)).click()
                    self.assertEqual(page.evaluate(CROWDED), [], (card, stage, tab))

    def test_the_rail_holds_eight_setups(self):
        page = self.page
        number = self.new_project("long-route", solids.box((0, 0, 0), (30, 20, 10)))
        for _ in range(7):
            page.get_by_role("button", name="+ setup").click()
            expect(page.get_by_role("status", name="Computing")).not_to_have_text("saving")
        self.assertEqual(page.evaluate(CROWDED), [])
        rail = page.get_by_role("navigation", name="Route")
        last = rail.get_by_role("button", name="+ setup").bounding_box()
        self.assertLessEqual(last["x"] + last["width"], 1280)
        with self.server.client() as client:
            client.patch(f"/api/projects/{number}", json={"archived": True})
            client.delete(f"/api/projects/{number}")

    def test_the_dock_is_pulled_larger_and_remembers_it(self):
        page = self.page
        self.go(page, "/project/1")
        dock = page.get_by_role("region", name="Dock")
        before = dock.bounding_box()["height"]
        page.get_by_role("separator", name="Height of the dock").focus()
        for _ in range(4):
            page.keyboard.press("ArrowUp")
        self.assertAlmostEqual(dock.bounding_box()["height"], before + 160, delta=2)
        page.reload()
        self.assertAlmostEqual(page.get_by_role("region", name="Dock").bounding_box()["height"], before + 160, delta=2)


class WholeProjects(Browser):
    """A project as a whole, from the list."""

    def test_copied_renamed_put_away_and_deleted(self):
        page = self.page
        self.new_project("whole", solids.box((0, 0, 0), (30, 20, 9)))
        self.go(page, "/")
        menu = lambda name: page.get_by_role("button", name=f"More for {name}", exact=True)  # noqa: E731
        pick = lambda word: page.get_by_role("menuitem", name=word).click()  # noqa: E731
        menu("whole").click()
        pick("Copy")
        menu("whole copy").click()
        pick("Rename")
        page.get_by_label("New name of whole copy").fill("another")
        page.get_by_role("button", name="Rename", exact=True).click()
        for name in ("another", "whole"):
            menu(name).click()
            pick("Put away")
            expect(page.get_by_role("link", name=re.compile(f"^{name} "))).to_have_count(0)
        page.get_by_role("button", name="what was put away").click()
        for name in ("another", "whole"):
            menu(name).click()
            pick("Delete for good")
            page.get_by_role("button", name="Delete it").click()
            expect(menu(name)).to_have_count(0)


class Axes(Browser):
    """The first thing people check: where X, Y and Z run."""

    def test_letters_at_the_zero_and_of_the_machine(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "OP10 Top")
        self.current(page)
        page.get_by_role("button", name="Spindle", exact=True).click()
        page.wait_for_timeout(500)
        box = lambda name: page.locator(f"#zero-axes-{name}").bounding_box()  # noqa: E731
        zero = page.locator("#zero-mark").bounding_box()
        # Seen from the spindle X runs right, Y up, as the operator at the table sees it.
        self.assertGreater(box("X")["x"], zero["x"] + 20)
        self.assertLess(box("Y")["y"], zero["y"] - 20)
        expect(page.get_by_role("img", name="The machine’s axes")).to_be_visible()
        self.assertGreater(float(page.locator("#machine-axes-X").get_attribute("x2")), 40)


class Demo(Browser):
    """The demo as it comes."""

    def test_route_and_stages(self):
        page = self.page
        self.go(page, "/")
        page.get_by_role("link", name=re.compile("Sluice-gate encoder housing")).click()
        rail = page.get_by_role("navigation", name="Route")
        for title in ("Billet", "OP10 Top", "OP20-JAWS Jaws for OP20", "OP20 Underneath", "Part rev C"):
            expect(rail.get_by_role("button", name=title, exact=True)).to_be_visible()
        for name in CARDS:  # pictures made on the server
            picture = rail.get_by_role("button", name=name, exact=True).locator("img")
            page.wait_for_function("image => image.naturalWidth > 100", arg=picture.element_handle())
        self.card(page, "OP20 Underneath")
        sheet = page.get_by_role("main", name="Sheet")
        expect(sheet.get_by_text("OP10 Top, carried")).to_be_visible()
        expect(sheet.get_by_text(re.compile(r"1\.04\d kg"))).to_be_visible()
        self.stage(page, "Seat")
        expect(sheet.get_by_role("radio", name="flipped about X")).to_be_checked()
        expect(page.locator("#zero-mark")).to_have_text(re.compile("G55"))
        self.stage(page, "Hold")
        expect(sheet.get_by_role("list", name="Build order").get_by_text("Soft blanks 160 × 50 × 45")).to_be_visible()
        expect(sheet.get_by_role("img", name=re.compile(r"Nest from above, gap 9\.(59|6)"))).to_be_visible()
        expect(sheet.get_by_label("Jaws turn")).to_have_value("3")
        expect(sheet.get_by_role("table", name="Contacts").get_by_text("moving jaw").first).to_be_visible()
        expect(sheet.get_by_role("table", name="Clamping").get_by_text("Face to 42")).to_be_visible()
        self.stage(page, "Reach")
        expect(sheet.get_by_text(re.compile(r"^-398\.97\d$"))).to_be_visible()
        sheet.get_by_role("button", name="why").first.click()
        expect(sheet.get_by_text("table corner + zero from the corner").first).to_be_visible()
        self.stage(page, "Cut")
        sheet.get_by_role("button", name="Ring groove").click()
        expect(page.get_by_text("after Ring groove")).to_be_visible()
        self.card(page, "OP30 Sensor and end face")
        self.stage(page, "Outgoing")
        sheet.get_by_role("button", name="Colour by distance to the part").click()
        expect(page.get_by_role("list", name="Scale, mm")).to_be_visible()
        self.stage(page, "Reach")
        reach = sheet.get_by_role("region", name="What a tool reaches")
        reach.get_by_role("button", name="Show on the part").click()
        expect(reach.get_by_text(re.compile(r"cm² · \d+ %")).first).to_be_visible(timeout=60_000)
        expect(page.get_by_role("list", name="What the tool reaches")).to_be_visible()
        # More out than the tool is long is refused beside it.
        reach.get_by_label("Tool out of its holder").fill("400")
        reach.get_by_label("Tool out of its holder").press("Enter")
        expect(reach.get_by_role("alert")).to_contain_text("overhang")
        self.stage(page, "Outgoing")
        sheet.get_by_role("button", name="Colour by distance to the part").click()
        # One clamping on the rotary reaches all that the first two left: nothing stays.
        expect(sheet.get_by_text(re.compile(r"^0\.\d+ mm at most")).first).to_be_visible()
        expect(sheet.get_by_text(re.compile("is left on the part"))).to_have_count(0)

    def test_time_program_and_findings(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "OP10 Top")
        self.stage(page, "Cut")
        bar = page.get_by_role("slider", name="Time")
        box = bar.bounding_box()
        page.mouse.click(box["x"] + box["width"] * 0.25, box["y"] + 10)
        expect(page.get_by_test_id("program-line")).to_have_text(re.compile(r"^N\d+ "))
        first = page.get_by_test_id("program-line").text_content()
        bar.focus()
        for _ in range(4):
            page.keyboard.press("Shift+ArrowRight")
        expect(page.get_by_test_id("program-line")).not_to_have_text(first)
        # The stock at that moment, the tool's load, and the stock going with the time.
        expect(page.get_by_text(re.compile(r"^Rough outline at \d+:\d\d$"))).to_be_visible()
        expect(page.get_by_test_id("load")).to_have_text(re.compile(r"cm³/min · ae [\d.]+ · ap [\d.]+"))
        expect(page.get_by_text("catching up")).to_have_count(0)
        picture = page.get_by_label("Bench").screenshot()
        with page.expect_response(re.compile(r"/moment\?seconds=")) as answer:
            page.mouse.click(box["x"] + box["width"] * 0.31, box["y"] + 10)
        self.assertEqual(answer.value.status, 200)
        expect(page.get_by_text("catching up")).to_have_count(0)
        page.wait_for_timeout(300)
        self.assertNotEqual(page.get_by_label("Bench").screenshot(), picture)
        # Running: time goes on by itself, and pauses.
        page.get_by_role("button", name="×60").click()
        page.get_by_role("button", name="Start", exact=True).click()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(bar).not_to_have_attribute("aria-valuenow", "0")
        page.get_by_role("button", name="Pause").click()
        at = bar.get_attribute("aria-valuenow")
        page.wait_for_timeout(400)
        expect(bar).to_have_attribute("aria-valuenow", at)
        page.get_by_role("tab", name="Program").click()
        expect(page.get_by_label("Program text")).to_contain_text("O0010 (OP10 TOP)")
        with page.expect_download() as download:
            page.get_by_role("link", name="Download OP10.nc").click()
        self.assertEqual(download.value.suggested_filename, "OP10.nc")
        self.assertIn("G54", Path(download.value.path()).read_text())
        page.get_by_role("tab", name="Findings").click()
        page.get_by_role("tabpanel").get_by_role("button", name="Show").first.click()
        expect(page.locator("#trouble-mark")).to_be_visible()
        self.assertEqual(page.get_by_role("list", name="Stages").locator("[aria-current]").text_content(), "Hold")

    def test_release_downloads_stock(self):
        page = self.page
        self.go(page, "/project/1")
        page.get_by_role("button", name="Release").click()
        with page.expect_download() as download:
            page.get_by_role("menuitem", name="OP20 outgoing stock, STL").click()
        self.assertGreater(Path(download.value.path()).stat().st_size, 10_000)

    def test_keys(self):
        page = self.page
        self.go(page, "/project/1")
        page.get_by_role("navigation", name="Route").wait_for()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog", name="Keys")).to_be_hidden()
        page.keyboard.press("3")
        expect(page.get_by_role("heading", name="Hold")).to_be_visible()
        page.keyboard.press("]")
        expect(page.get_by_text("The blanks are clamped as OP20 will grip")).to_be_visible()
        page.keyboard.press("]")
        expect(page.get_by_text("clamps the work in OP20")).to_be_visible()
        page.keyboard.press("t")
        expect(page.get_by_role("button", name="Spindle")).to_have_attribute("aria-pressed", "true")


class Story(Browser):
    """From a file to two carried setups, in the page."""

    def test_a_part_becomes_two_setups(self):
        shape = solids.minus(
            solids.box((0, 0, 0), (60, 40, 20)),
            solids.box((10, 10, 12), (50, 30, 30)),
            solids.cylinder((30, 20, -1), 4, 30),
        )
        number = self.new_project("story", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "Billet")
        field = sheet.get_by_label("Allowance Under  z−")
        field.fill("8")
        field.press("Enter")
        self.current(page)
        expect(sheet.get_by_text("70 × 50 × 30 mm")).to_be_visible()
        # Nothing holds the work: a finding; then a vise.
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        expect(sheet.get_by_text("Nothing holds the work in this setup.")).to_be_visible()
        sheet.get_by_role("button", name="vise, hard jaws, parallels").click()
        self.current(page)
        field = sheet.get_by_label("Off the middle")
        field.fill("1 5/16 inn")
        field.press("Enter")
        expect(sheet.get_by_role("alert")).to_contain_text("“n” does not fit here")
        expect(sheet.get_by_role("alert").locator("mark")).to_have_text("n")
        field.fill("1/4 in + 2.25")
        expect(sheet.get_by_text("= 8.6 mm")).to_be_visible()
        field.press("Enter")
        self.current(page)
        expect(sheet.get_by_text("8 deep, 70 long")).to_be_visible()
        field.fill("0")
        field.press("Enter")
        self.current(page)
        # A pair from the set changes the grip by its height, and what stands on it follows.
        sheet.get_by_role("list", name="Build order").get_by_role("button", name=re.compile("Parallels")).click()
        sheet.get_by_role("button", name="parallels height").click()
        page.get_by_role("option", name="44 mm").click()
        self.current(page)
        expect(sheet.get_by_text("6 deep, 70 long")).to_be_visible()
        # Face, then a pocket by picking its floor straight under the spindle.
        self.stage(page, "Cut")
        sheet.get_by_role("button", name="+ operation").click()
        page.get_by_role("menuitem", name="facing").click()
        self.current(page)
        page.get_by_role("button", name="Spindle").click()
        sheet.get_by_role("button", name="+ operation").click()
        page.get_by_role("menuitem", name="pocket").click()
        expect(page.get_by_text("Pick the pocket’s floor")).to_be_visible()
        page.wait_for_timeout(1500)
        box = page.get_by_label("Bench").locator("canvas").bounding_box()
        x, y = box["x"] + box["width"] * 0.42, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        expect(page.get_by_role("tooltip")).to_contain_text("plane")
        page.mouse.click(x, y)
        expect(sheet.get_by_role("button", name="Pocket 1", exact=True)).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        pocket = state["report"]["setups"][0]["operations"][1]
        self.assertEqual(pocket["kind"], "pocket")
        self.assertGreater(pocket["removed_volume_mm3"], 5000)
        # A second setup, turned over, takes what the first left.
        page.get_by_role("button", name="+ setup").click()
        self.current(page)
        self.card(page, "OP20 ")
        self.stage(page, "Seat")
        sheet.get_by_role("radio", name="flipped about X").click()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        first, second = state["report"]["setups"]
        self.assertEqual(second["incoming_key"], first["outgoing_key"])
        self.assertEqual(second["zero_from_work"][2][2], -1)
        # Undo and redo walk the revisions.
        page.get_by_role("button", name="Undo").click()
        expect(sheet.get_by_role("radio", name="as it stands")).to_be_checked()
        page.get_by_role("button", name="Redo").click()
        expect(sheet.get_by_role("radio", name="flipped about X")).to_be_checked()
        # After a reload all is as it was left.
        page.reload()
        expect(
            page.get_by_role("navigation", name="Route").get_by_role("button", name="OP20", exact=False).first
        ).to_be_visible()


class Turning(Browser):
    """Index positions on a machine with a rotary, in the page."""

    def test_a_hole_in_the_side_at_its_own_position(self):
        shape = solids.minus(
            solids.box((0, 0, 0), (60, 40, 30)),
            solids.placed(solids.turned(solids.cylinder((0, 0, -8), 2.5, 20), 90, (1, 0, 0)), (20, 0, 15)),
        )
        number = self.new_project("turned", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        with self.server.client() as client:
            state = wait(client, number)
            part = client.get(f"/api/parts/{state['plan']['part']['sha256']}/facts").json()
            wall = next(f for f in part["faces"] if f["kind"] == "cylinder")
        self.card(page, "OP10 ")
        self.stage(page, "Reach")
        sheet.get_by_role("button", name="Machine", exact=True).click()
        page.get_by_role("option", name="Vertical mill 760, rotary about X").click()
        self.current(page)
        sheet.get_by_role("button", name="+ by a direction").click()
        self.current(page)
        sheet.get_by_role("button", name="P1", exact=True).click()
        for axis, value in (("Y", "-1"), ("Z", "0")):
            field = sheet.get_by_label(f"P1 towards {axis}")
            field.fill(value)
            field.press("Enter")
            self.current(page)
        positions = sheet.get_by_role("list", name="Positions")
        expect(positions).to_contain_text("A90")
        # Towards the end face it cannot turn: said with what could.
        for axis, value in (("X", "1"), ("Y", "0")):
            field = sheet.get_by_label(f"P1 towards {axis}")
            field.fill(value)
            field.press("Enter")
            self.current(page)
        expect(sheet.get_by_text("cannot turn the work to P1")).to_be_visible()
        expect(positions).to_contain_text("not reached")
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        expect(positions).to_contain_text("A90")
        with self.server.client() as client:
            state = wait(client, number)
            plan = state["plan"]
            plan["tools"] = [t for t in client.get("/api/library").json()["tools"] if t["id"] == "dr5"]
            plan["setups"][0]["operations"] = [
                {
                    "id": "hole",
                    "name": "Side hole",
                    "kind": "drilling",
                    "tool": "dr5",
                    "faces": [{"face": wall["number"], "at": wall["centre"]}],
                }
            ]
            client.put(
                f"/api/projects/{number}/plan", json={"based_on": state["revision"], "what": "hole", "plan": plan}
            ).raise_for_status()
        page.reload()
        self.card(page, "OP10 ")
        self.stage(page, "Cut")
        self.current(page)
        # As the work is seated the hole lies on its side; at its position it is drilled.
        expect(sheet.get_by_text("does not stand upright")).to_be_visible()
        sheet.get_by_role("button", name="Cut it at P1, A90").click()
        self.current(page)
        sheet.get_by_role("button", name="Side hole", exact=True).click()
        expect(sheet.get_by_role("checkbox", name=re.compile("^P1"))).to_be_checked()
        expect(sheet.get_by_text("does not stand upright")).to_have_count(0)
        with self.server.client() as client:
            setup = wait(client, number)["report"]["setups"][0]
            program = client.get(f"/api/results/{setup['program_key']}/program.nc").text
        self.assertGreater(setup["removed_volume_mm3"], 100)
        self.assertIn("G0 A90.", program)
        self.stage(page, "Reach")
        expect(sheet.get_by_role("region", name="Offsets")).to_contain_text("Side hole")
        # The fewest positions, and a machine of the shop's own.
        sheet.get_by_role("button", name="Fewest positions …").click()
        expect(sheet.get_by_role("region", name="Fewest positions")).to_contain_text("reach all this seat")
        with self.server.client() as client:
            mine = next(m for m in client.get("/api/library").json()["machines"] if m["id"] == "vertical-760-a")
        mine |= {"id": "our-mill", "name": "Our mill with a rotary"}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mine.json"
            path.write_text(json.dumps(mine | {"schema_version": 7}))
            sheet.get_by_label("Machine file").set_input_files(path)
            expect(sheet.get_by_role("alert")).to_contain_text("reads version 1")
            path.write_text(json.dumps(mine))
            sheet.get_by_label("Machine file").set_input_files(path)
            expect(sheet.get_by_role("button", name="Machine", exact=True)).to_have_text(re.compile("Our mill"))
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        self.assertEqual([m["id"] for m in state["plan"]["machines"]], ["our-mill"])
        self.assertGreater(state["report"]["setups"][0]["removed_volume_mm3"], 100)
        self.registers_and_places(page, sheet)
        self.machine_edited(page, sheet, number)

    def registers_and_places(self, page: Page, sheet: Locator) -> None:
        """Found only later, a register is used too soon; an operation at two positions, one of them left out again."""
        offsets = sheet.get_by_role("region", name="Offsets")
        expect(offsets.get_by_role("img", name=re.compile("G55 from G54"))).to_be_visible()
        offsets.get_by_role("button", name="Register G54").click()
        offsets.get_by_role("button", name="G54 found before").click()
        page.get_by_role("option", name="before Side hole").click()
        self.current(page)
        expect(offsets).to_contain_text("before Side hole")
        sheet.get_by_role("radio", name="positions", exact=True).click()
        self.current(page)
        self.stage(page, "Cut")
        places = sheet.get_by_role("list", name="Index positions of this operation")
        places.get_by_role("checkbox", name="as it is seated").click()
        self.current(page)
        expect(
            sheet.get_by_text("Nothing of Side hole looks to the spindle at the work as it is seated")
        ).to_be_visible()
        sheet.get_by_role("button", name="Leave that position out").click()
        self.current(page)
        expect(sheet.get_by_text("Nothing of Side hole looks")).to_have_count(0)
        expect(places.get_by_role("button", name="cut again")).to_be_visible()

    def machine_edited(self, page: Page, sheet: Locator, number: int) -> None:
        """Limits that are swapped are refused, and nothing is changed; others are taken, and the work turns the other way round."""
        self.stage(page, "Reach")
        sheet.get_by_role("button", name="edit", exact=True).click()
        editor = sheet.get_by_role("region", name="Machine")
        editor.get_by_role("button", name="Axis A").click()
        for axis_end, value in (("to", "-400"), ("to", "60")):
            field = editor.get_by_label(f"A {axis_end}", exact=True)
            field.fill(value)
            field.press("Enter")
            if value == "-400":
                expect(editor.get_by_text(re.compile("limits are swapped"))).to_be_visible()
        self.current(page)
        expect(sheet.get_by_role("list", name="Positions")).to_contain_text("A-270")
        with self.server.client() as client:
            plan = wait(client, number)["plan"]
        self.assertEqual([(m["id"], m["axes"][-1]["high"]) for m in plan["machines"]], [("our-mill", 60.0)])


class Holding(Browser):
    """A holding built up from the library, and soft jaws solved and cut, in the page."""

    def test_library_build_and_proposals(self):
        number = self.new_project("holding", solids.box((0, 0, 0), (80, 50, 30)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        for kind, name in (
            ("vises", "Machine vise 125"),
            ("jaws", "Hard jaws 125"),
            ("parallels", "Parallels 125 × 5"),
        ):
            sheet.get_by_role("button", name="+ from the library").click()
            library = page.get_by_role("dialog", name="What is there to hold with")
            library.get_by_role("button", name=kind, exact=True).click()
            picture = library.get_by_role("button", name=f"Take {name}", exact=True).locator("img")
            expect(picture).to_be_visible()
            page.wait_for_function("image => image.naturalWidth > 100", arg=picture.element_handle())
            library.get_by_role("button", name=f"Take {name}", exact=True).click()
            expect(library).to_be_hidden()
        self.current(page)
        rows = sheet.get_by_role("list", name="Build order").get_by_role("listitem")
        expect(rows).to_have_count(3)
        expect(rows.nth(1)).to_contain_text("on vise")
        # Parallels 10 mm high under jaws 40 high: a deep grip. A stop takes the last freedom.
        expect(sheet.get_by_text("5 of 6 freedoms").first).to_be_visible()
        sheet.get_by_role("button", name="+ from the library").click()
        page.get_by_label("Search fixtures").fill("stop")
        page.get_by_role("button", name="Take Work stop 12").click()
        self.current(page)
        sheet.get_by_role("button", name="left", exact=True).click()
        self.current(page)
        expect(sheet.get_by_text("6 of 6 freedoms").first).to_be_visible()
        with self.server.client() as client:
            plan = wait(client, number)["plan"]
        self.assertEqual([f["id"] for f in plan["fixtures"]], ["bench-125", "hard-125", "par-125x5", "stop-12"])
        # Without its jaws the vise says so; undone, all is as it was.
        rows.nth(1).get_by_role("button").first.click()
        rows.nth(1).get_by_role("button", name="Remove").click()
        self.current(page)
        expect(sheet.get_by_text("Machine vise 125 has no jaws.")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        expect(sheet.get_by_text("6 of 6 freedoms").first).to_be_visible()

    def test_own_solids_by_step_and_stl(self):
        """The shop's own locating block, as STEP and as STL, comes into the library and holds the work."""
        number = self.new_project("own", solids.box((0, 0, 0), (60, 40, 20)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        corner = solids.minus(solids.box((-60, -50, 0), (60, 50, 40)), solids.box((-50, -60, 15), (61, 40, 41)))
        with tempfile.TemporaryDirectory() as folder:
            for name in ("corner.step", "corner.stl"):
                path = Path(folder) / name
                data = solids.step_bytes(corner)
                path.write_bytes(data if name.endswith("step") else to_stl(model_of_solid(corner, "", "MM").mesh, "x"))
                sheet.get_by_role("button", name="+ from the library").click()
                library = page.get_by_role("dialog", name="What is there to hold with")
                library.get_by_label("bring in a solid").set_input_files(path)
                taken = library.get_by_role("button", name=f"Take {name}", exact=True)
                expect(taken).to_be_visible(timeout=60_000)
                if name.endswith("step"):
                    library.get_by_role("button", name="Leave").click()
                else:
                    taken.click()
                expect(library).to_be_hidden()
        self.current(page)
        for way in ("left", "back"):
            sheet.get_by_role("button", name=way, exact=True).click()
            self.current(page)
        expect(sheet.get_by_text("6 of 6 freedoms").first).to_be_visible()
        with self.server.client() as client:
            hold = wait(client, number)["report"]["setups"][0]["hold"]
        touched = {tuple(round(v) for v in one["normal"]) for one in hold["contacts"] if one["kind"] == "face"}
        self.assertEqual(touched, {(0, 0, 1), (1, 0, 0), (0, -1, 0)})

    def test_soft_jaws_solved_and_cut(self):
        number = self.new_project("soft", solids.prism([(0, 0), (80, 0), (80, 58.4), (0, 50)], 0, 30))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "Billet")
        with self.server.client() as client:
            state = wait(client, number)
            plan = state["plan"]
            # A billet as the part is: what comes in has the part's own leaning wall.
            upload = client.post(
                "/api/parts",
                files={
                    "file": (
                        "blank.step",
                        solids.step_bytes(solids.prism([(0, 0), (80, 0), (80, 58.4), (0, 50)], 0, 34)),
                    )
                },
            )
            sha = upload.json()["sha256"]
            plan["billet"] = {"kind": "model", "material": "EN AW-6082", "file": "blank.step", "sha256": sha}
            while client.get(f"/api/parts/{sha}").json()["status"] == "reading":
                time.sleep(0.3)
            client.put(
                f"/api/projects/{number}/plan", json={"based_on": state["revision"], "what": "blank", "plan": plan}
            ).raise_for_status()
        self.current(page)
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        sheet.get_by_role("button", name="vise, soft jaws").click()
        self.current(page)
        # Walls atan(8.4/80) = 6.0° apart: 3° of turn.
        expect(sheet.get_by_label("Jaws turn")).to_have_value(re.compile(r"^-?2\.99\d|^-?3(\.0\d*)?$"))
        expect(sheet.get_by_text("No setup of the route cuts the jaws")).to_be_visible()
        field = sheet.get_by_label("Jaws grip")
        field.fill("1/4 in")
        field.press("Enter")
        self.current(page)
        expect(sheet.get_by_text("typed ·").first).to_be_visible()
        expect(sheet.get_by_text("6.35 deep")).to_be_visible()
        field.fill("400")
        field.press("Enter")
        expect(sheet.get_by_role("alert")).to_be_visible()
        with self.server.client() as client:
            state = wait(client, number)
            plan = state["plan"]
            tools = client.get("/api/library").json()["tools"]
            plan["tools"] = [tool for tool in tools if tool["id"] in ("em10", "em3")]
            client.put(
                f"/api/projects/{number}/plan", json={"based_on": state["revision"], "what": "tools", "plan": plan}
            ).raise_for_status()
        # The page is told of an edit from elsewhere; here it is opened anew, so that nothing is stale.
        page.reload()
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        self.current(page)
        sheet.get_by_role("button", name="Put OP10-JAWS before OP10").click()
        self.current(page)
        rail = page.get_by_role("navigation", name="Route")
        expect(rail.get_by_role("button", name="OP10-JAWS Jaws for OP10")).to_be_visible()
        with self.server.client() as client:
            state = wait(client, number)
            made = state["report"]["setups"][0]
            self.assertEqual(made["makes"], "OP10")
            self.assertGreater(made["removed_volume_mm3"], 5000)
            self.assertEqual([f["code"] for o in made["operations"] for f in o["findings"]], [])
            for kind in ("step", "stl", "dxf"):
                answer = client.get(f"/api/projects/{number}/files/OP10/jaws.{kind}")
                self.assertEqual(answer.status_code, 200)
                self.assertGreater(len(answer.content), 1000)


def on_screen(page: Page, point: tuple[float, float, float], low: tuple, high: tuple) -> tuple[float, float]:
    """Where a point of the zero frame stands in the window, looked at as the operator, the box low…high fitted."""
    direction = np.array([0.62, -1, 0.78]) / np.linalg.norm([0.62, -1, 0.78])
    right = np.cross([0, 0, 1], direction)
    right /= np.linalg.norm(right)
    axes = np.array([right, np.cross(direction, right)])
    middle = (np.array(low) + np.array(high)) / 2
    corners = np.array(list(itertools.product(*zip(low, high, strict=True)))) - middle
    wide, tall = 2 * np.abs(corners @ axes.T).max(axis=0)
    box = page.get_by_label("Bench").locator("canvas").bounding_box()
    zoom = min(box["width"] / wide, (box["height"] - 50) / tall) * 0.86
    x, y = axes @ (np.array(point) - middle) * zoom
    return box["x"] + box["width"] / 2 + x, box["y"] + box["height"] / 2 - y


class Picking(Browser):
    """Faces, edges and holes picked in the picture serve the seat."""

    def test_up_x_and_zero_by_picks(self):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 12, 30))
        number = self.new_project("picks", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Seat")
        page.wait_for_timeout(1000)
        low, high = (-35, -25, -27), (35, 25, 0)  # the billet from zero, its top middle

        def pick(button: str, work: tuple[float, float, float], shown: str) -> None:
            sheet.get_by_role("button", name=button).click()
            page.wait_for_timeout(800)
            x, y = on_screen(page, (work[0] - 30, work[1] - 20, work[2] - 22), low, high)
            page.mouse.move(x, y)
            expect(page.get_by_role("tooltip")).to_contain_text(shown)
            page.mouse.click(x, y)
            self.current(page)

        sheet.get_by_role("button", name="Zero on").click()
        page.get_by_role("option", name="axis of a hole or boss").click()
        reach = 12 / math.hypot(0.62, 1)
        wall = (30 - 0.62 * reach, 20 + reach, 17.0)  # the inside of the bore that faces the operator
        page.wait_for_timeout(800)
        x, y = on_screen(page, (wall[0] - 30, wall[1] - 20, wall[2] - 22), low, high)
        page.mouse.move(x, y)
        expect(page.get_by_role("tooltip")).to_contain_text("hollow cylinder Ø24")
        page.mouse.click(x, y)
        self.current(page)
        expect(sheet.get_by_text(re.compile("Ø24 at 30, 20"))).to_be_visible()
        pick("Pick X edge", (59.0, 30.0, 20.0), "edge")
        expect(sheet.get_by_text(re.compile(r"along edge \d+"))).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        rows = state["report"]["setups"][0]["zero_from_work"]
        self.assertAlmostEqual(abs(rows[0][1]), 1.0)  # the part's y lies along X
        page.get_by_role("button", name="Undo").click()
        expect(sheet.get_by_text(re.compile(r"along edge \d+"))).to_be_hidden()
        self.current(page)
        pick("Pick up face", (60.0, 20.0, 10.0), "plane")
        expect(sheet.get_by_text(re.compile(r"face \d+ looks up"))).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        self.assertEqual(state["plan"]["setups"][0]["seat"]["up"]["rule"], "face")
        # The bore no longer stands upright: zero over it is refused, in words, and nothing is lost.
        expect(sheet.get_by_text("The hole does not stand upright in this setup")).to_be_visible()
        sheet.get_by_role("button", name="Zero on").click()
        page.get_by_role("option", name="incoming stock").click()
        self.current(page)
        with self.server.client() as client:
            rows = wait(client, number)["report"]["setups"][0]["zero_from_work"]
        self.assertAlmostEqual(rows[2][0], 1.0)  # the part's x looks up


class PartBilletSeat(Browser):
    """Features, measures and a new revision of the part; the shelf; what a zero rests on."""

    def test_features_measures_and_sections(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "Part rev C")
        sheet = page.get_by_role("main", name="Sheet")
        pocket = (
            sheet.get_by_role("region", name="Pockets, slots, steps").get_by_role("button").filter(has_text="24 deep")
        )
        expect(pocket).to_contain_text("corners R6")
        expect(pocket).to_contain_text("+z")
        page.wait_for_timeout(1500)
        before = page.get_by_label("Bench").screenshot()
        pocket.click()
        page.wait_for_timeout(500)
        self.assertNotEqual(page.get_by_label("Bench").screenshot(), before)  # its faces are shown
        pocket.click()
        # The top and the floor of the pocket, picked and measured: 24 mm, and F2 writes it into a field.
        page.keyboard.press("m")
        low, high = (-60, -40, 0), (60, 40, 42)
        for work in ((-8, -32, 42), (28, 16, 18)):
            x, y = on_screen(page, work, low, high)
            page.mouse.move(x, y)
            page.wait_for_timeout(300)
            page.mouse.click(x, y)
        measure = page.get_by_role("region", name="Measure")
        expect(measure.get_by_role("button", name="Keep distance")).to_have_text("24 mm")
        page.keyboard.press("Escape")
        # A section changes the picture, and going along with the slider changes it again.
        page.wait_for_timeout(300)
        whole = page.get_by_label("Bench").screenshot()
        page.keyboard.press("x")
        page.wait_for_timeout(500)
        cut = page.get_by_label("Bench").screenshot()
        self.assertNotEqual(cut, whole)
        page.get_by_role("slider", name="Section place").press("ArrowLeft")
        for _ in range(20):
            page.keyboard.press("ArrowLeft")
        page.wait_for_timeout(500)
        self.assertNotEqual(page.get_by_label("Bench").screenshot(), cut)
        self.card(page, "Billet")
        field = page.get_by_label("Ray distance")
        field.fill("")
        field.press("F2")
        field.press("Escape")
        expect(field).to_have_value("0.5")

    def test_mesh_part_billet_from_the_shelf_and_zero(self):
        shape = solids.minus(solids.box((0, 0, 0), (2, 1.5, 0.75)), solids.cylinder((1, 0.75, -1), 0.25, 3))
        from pelvrak.core.geometry.mesh import to_stl

        page = self.page
        self.go(page, "/")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "inch.stl"
            path.write_bytes(to_stl(model_of_solid(shape, "", "MM").mesh, "x"))
            page.get_by_label("Part file").set_input_files(path)
            page.get_by_role("group", name="Unit of the mesh").get_by_role("button", name="in").click()
        expect(page.get_by_text("50.8 × 38.1 × 19.05 mm")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Start planning").click()
        page.wait_for_url(re.compile(r"/project/\d+"))
        self.current(page)
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "Billet")
        sheet.get_by_role("button", name="From the shelf").click()
        sheet.get_by_label("Allowance for the shelf").select_option("2")
        # 54.8 × 42.1 × 23.05: 60 × 30 along y is the least.
        first = sheet.get_by_role("button", name=re.compile("^Take")).first
        expect(first).to_have_text("60 × 30")
        first.click()
        self.current(page)
        expect(sheet.get_by_label("Size x", exact=True)).to_have_value("60")
        expect(sheet.get_by_label("Size y", exact=True)).to_have_value("42.1")
        sheet.get_by_role("button", name="Kind of billet").click()
        page.get_by_role("option", name="round bar or tube").click()
        self.current(page)
        sheet.get_by_label("Diameter").fill("40")
        sheet.get_by_label("Diameter").press("Enter")
        expect(sheet.get_by_text("The billet does not cover the part")).to_be_visible(timeout=60_000)
        sheet.get_by_label("Diameter").fill("")
        sheet.get_by_label("Diameter").press("Enter")
        self.current(page)
        expect(sheet.get_by_text("The billet does not cover the part")).to_have_count(0)
        # Zero on the part: nothing there can be touched in raw stock; the cure puts it on what can.
        self.card(page, "OP10 ")
        self.stage(page, "Seat")
        sheet.get_by_role("button", name="Zero on").click()
        page.get_by_role("option", name="part", exact=True).click()
        self.current(page)
        expect(sheet.get_by_role("list", name="Zero rests on")).to_contain_text("not there yet")
        sheet.get_by_role("button", name="Same place, from the incoming stock").click()
        self.current(page)
        expect(sheet.get_by_role("list", name="Zero rests on")).to_contain_text("raw")
        expect(sheet.get_by_label("Zero offset Z")).to_have_value("-2")
        sheet.get_by_role("button", name="+ zero").click()
        self.current(page)
        expect(sheet.get_by_role("region", name="Zero zero 2")).to_contain_text("From zero")

    def test_new_revision_takes_only_what_is_confirmed(self):
        def shape(at: float):
            return solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((at, 20, -1), 6, 30))

        number = self.new_project("rev", shape(30))
        page = self.page
        with self.server.client() as client:
            state = client.get(f"/api/projects/{number}").json()
            plan = state["plan"]
            part = client.get(f"/api/parts/{plan['part']['sha256']}/facts").json()
            bore = next(f for f in part["faces"] if f["kind"] == "cylinder")
            plan["setups"][0]["seat"]["zero"] |= {"of": "hole", "hole": {"face": bore["number"], "at": bore["centre"]}}
            client.put(
                f"/api/projects/{number}/plan",
                json={"based_on": state["revision"], "what": "zero on the bore", "plan": plan},
            ).raise_for_status()
        self.current(page)
        self.card(page, "Part rev A")
        sheet = page.get_by_role("main", name="Sheet")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "rev-b.step"
            path.write_bytes(solids.step_bytes(shape(33)))
            sheet.get_by_label("New revision’s file").set_input_files(path)
            rows = sheet.get_by_role("list", name="References")
            # The browser reads the file when it is sent, so it stays until then.
            expect(rows).to_contain_text("moved: moved 3.000 mm", timeout=60_000)
        sheet.get_by_label("Take OP10 seat work zero hole").check()
        sheet.get_by_role("button", name="Plan on revision B").click()
        self.card(page, "Part rev B")
        self.current(page)
        with self.server.client() as client:
            plan = wait(client, number)["plan"]
        self.assertEqual((plan["part"]["revision"], plan["part"]["file"]), ("B", "rev-b.step"))
        self.assertAlmostEqual(plan["setups"][0]["seat"]["zero"]["hole"]["at"][0], 33.0, places=6)


class WrongInputs(Browser):
    def test_wrong_files(self):
        page = self.page
        self.go(page, "/")
        with tempfile.TemporaryDirectory() as folder:
            for name, data, said in (
                ("cut.step", DEMO_STEP.read_bytes()[:30000], "damaged or cut short"),
                ("part.stl", b"solid x\nfacet normal 0 0 1\nendsolid", "no triangles in the STL file"),
                ("part.gif", b"GIF89a", "neither STEP"),
                ("empty.step", b"", "The file is empty"),
            ):
                path = Path(folder) / name
                path.write_bytes(data)
                page.get_by_label("Part file").set_input_files(path)
                alert = page.get_by_role("alert")
                expect(alert).to_contain_text(said, timeout=60_000)
                expect(alert).to_contain_text(name)
                expect(page.get_by_role("button", name="Start planning")).to_be_hidden()

    def test_wrong_numbers_stand_by_their_field_and_lose_nothing(self):
        self.new_project("numbers", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "Billet")
        sheet.get_by_role("radio", name="finished size").click()
        self.current(page)
        field = sheet.get_by_label("Size x", exact=True)
        for text, said in (
            ("NaN", "does not fit here"),
            ("-5", "above 0"),
            ("10000000", "at most 2000"),
        ):
            field.fill(text)
            field.press("Enter")
            expect(sheet.get_by_role("alert")).to_contain_text(said)
            expect(field).to_have_value(text)  # what was typed stays
        # A billet smaller than the part: an error with side, amount and place.
        field.fill("39")
        field.press("Enter")
        expect(sheet.get_by_text("0.50 mm too small for the part on its x+ side")).to_be_visible(timeout=60_000)
        field.fill("1 3/4 +")
        field.press("Enter")
        expect(sheet.get_by_role("alert")).to_contain_text("stops too early")
        field.fill("2 in")
        field.press("Enter")
        self.current(page)
        expect(field).to_have_value("2 in")
        expect(sheet.get_by_text("= 50.8 mm")).to_be_visible()

    def test_a_name_is_there_at_once_and_nothing_is_computed(self):
        number = self.new_project("names", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10")
        self.stage(page, "Cut")
        name = sheet.get_by_label("Setup name")
        for wrong, said in (("A B", "1 to 20 letters"), ("", "1 to 20 letters")):
            name.fill(wrong)
            name.press("Enter")
            expect(sheet.get_by_role("alert")).to_contain_text(said)
            expect(name).to_have_value(wrong)  # what was typed stays
        workers = self.server.workers()
        for one in workers:
            os.kill(one, signal.SIGSTOP)
        try:
            name.fill("OP70")
            name.press("Enter")
            card = page.get_by_role("navigation", name="Route").get_by_role("button", name="OP70", exact=True)
            expect(card).to_be_visible()
            # Its picture stays, and is not said to be out of date.
            expect(card.locator("img")).to_be_visible()
            expect(page.get_by_text("out of date")).to_have_count(0)
        finally:
            for one in workers:
                os.kill(one, signal.SIGCONT)
        self.current(page)
        with self.server.client() as client:
            report = client.get(f"/api/projects/{number}").json()["report"]
        self.assertEqual((report["setups"][0]["name"], report["computed"]), ("OP70", []))

    def test_a_billet_is_drawn_before_a_worker_answers(self):
        self.new_project("quick", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        self.card(page, "Billet")
        workers = self.server.workers()
        for one in workers:
            os.kill(one, signal.SIGSTOP)
        try:
            with page.expect_response(lambda answer: "/billet.glb" in answer.url and answer.ok):
                page.get_by_role("main", name="Sheet").get_by_label("Allowance Right  x+").fill("25")
                page.keyboard.press("Enter")
            expect(page.get_by_label("Bench").get_by_text("billet, not computed yet")).to_be_visible()
        finally:
            for one in workers:
                os.kill(one, signal.SIGCONT)
        self.current(page)
        expect(page.get_by_label("Bench").get_by_text("billet", exact=True)).to_be_visible()

    def test_two_tabs_on_one_plan(self):
        number = self.new_project("tabs", solids.box((0, 0, 0), (40, 30, 14)))
        other = self.open()
        try:
            other.route("**/api/events", lambda route: route.abort())  # a tab that hears nothing
            self.go(other, f"/project/{number}")
            self.card(other, "Billet")
            expect(other.get_by_label("Allowance Top  z+")).to_have_value("2")
            page = self.page
            self.card(page, "Billet")
            page.get_by_label("Allowance Top  z+").fill("4")
            page.get_by_label("Allowance Top  z+").press("Enter")
            self.current(page)
            other.get_by_label("Allowance Under  z−").fill("7")
            other.get_by_label("Allowance Under  z−").press("Enter")
            alert = other.get_by_role("alert")
            expect(alert).to_contain_text("The plan was changed elsewhere")
            expect(alert).to_contain_text("/billet/sizing/z_plus")
            expect(other.get_by_label("Allowance Top  z+")).to_have_value("4")
        finally:
            other.context.close()


if __name__ == "__main__":
    unittest.main()
