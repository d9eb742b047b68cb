"""Wrong inputs: a clear word by the field, and nothing lost."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser
from tests.serving import DEMO_STEP


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
        expect(sheet.get_by_text("0.50 mm too small for the part on its x+ side")).to_be_visible(
            timeout=60_000
        )
        field.fill("1 3/4 +")
        field.press("Enter")
        expect(sheet.get_by_role("alert")).to_contain_text("stops too early")
        field.fill("2 in")
        field.press("Enter")
        self.current(page)
        expect(field).to_have_value("2 in")
        expect(sheet.get_by_text("= 50.8 mm")).to_be_visible()

    def test_two_tabs_on_one_plan(self):
        number = self.new_project("tabs", solids.box((0, 0, 0), (40, 30, 14)))
        other = self.open()
        try:
            other.route("**/api/events", lambda route: route.abort())  # a tab that hears nothing
            self.go(other, f"/project/{number}")
            self.card(other, "Billet")
            expect(other.get_by_label("Top z+")).to_have_value("2")
            page = self.page
            self.card(page, "Billet")
            page.get_by_label("Top z+").fill("4")
            page.get_by_label("Top z+").press("Enter")
            self.current(page)
            other.get_by_label("Under z−").fill("7")
            other.get_by_label("Under z−").press("Enter")
            alert = other.get_by_role("alert")
            expect(alert).to_contain_text("The plan was changed elsewhere")
            expect(alert).to_contain_text("/billet/sizing/z_plus")
            expect(other.get_by_label("Top z+")).to_have_value("4")
        finally:
            other.context.close()


if __name__ == "__main__":
    unittest.main()
