"""The demo as it is looked at: route, stages, time, program, findings, keys."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from playwright.sync_api import expect

from tests.e2e.browser import CARDS, Browser


class Axes(Browser):
    """The first thing people check: where X, Y and Z run."""

    def test_letters_at_the_zero_and_of_the_machine(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "OP10 Top")
        self.current(page)
        page.get_by_role("button", name="Spindle", exact=True).click()
        self.settled(page)
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
        expect(
            sheet.get_by_role("list", name="Build order").get_by_text("Soft blanks 160 × 50 × 45")
        ).to_be_visible()
        expect(sheet.get_by_role("img", name=re.compile(r"Nest from above, gap 9\.(59|6)"))).to_be_visible()
        expect(sheet.get_by_label("Jaws turn")).to_have_value("3")
        expect(sheet.get_by_role("table", name="Contacts").get_by_text("moving jaw").first).to_be_visible()
        expect(sheet.get_by_role("table", name="Clamping").get_by_text("Face to 42")).to_be_visible()
        self.stage(page, "Reach")
        expect(sheet.get_by_text(re.compile(r"^-398\.97\d$"))).to_be_visible()
        sheet.get_by_role("button", name="why").first.click()
        expect(sheet.get_by_text("table corner + zero from the corner").first).to_be_visible()
        self.stage(page, "Cut")
        sheet.get_by_role("button", name="Ring groove", exact=True).click()
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
        picture = self.settled(page)
        with page.expect_response(re.compile(r"/moment\?seconds=")) as answer:
            page.mouse.click(box["x"] + box["width"] * 0.31, box["y"] + 10)
        self.assertEqual(answer.value.status, 200)
        self.other_picture(page, picture)
        # Running: time goes on by itself, and pauses.
        page.get_by_role("button", name="×60").click()
        page.get_by_role("button", name="Start", exact=True).click()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(bar).not_to_have_attribute("aria-valuenow", "0")
        page.get_by_role("button", name="Pause").click()
        at = bar.get_attribute("aria-valuenow")
        self.settled(page)
        expect(bar).to_have_attribute("aria-valuenow", at)
        page.get_by_role("tab", name="Program").click()
        expect(page.get_by_label("Program text")).to_contain_text("(ROUGH OUTLINE)")
        with page.expect_download() as download:
            page.get_by_role("link", name="Download OP10.nc").click()
        self.assertEqual(download.value.suggested_filename, "OP10.nc")
        self.assertIn("G54", Path(download.value.path()).read_text())
        page.get_by_role("tab", name="Findings").click()
        page.get_by_role("tabpanel").get_by_role("button", name="Show").first.click()
        expect(page.locator("#trouble-mark")).to_be_visible()
        self.assertEqual(
            page.get_by_role("list", name="Stages").locator("[aria-current]").text_content(), "Hold"
        )

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


if __name__ == "__main__":
    unittest.main()
