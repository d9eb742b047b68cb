"""From a part file to two setups, stage by stage."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser
from tests.serving import wait


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
        field = sheet.get_by_label("Under z−")
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
        expect(sheet.get_by_text("6 deep, 70 long")).to_be_visible()
        field.fill("0")
        field.press("Enter")
        self.current(page)
        # A pair from the set changes the grip by its height, and what stands on it follows.
        sheet.get_by_role("list", name="Build order").get_by_role(
            "button", name=re.compile("Parallels")
        ).click()
        sheet.get_by_role("button", name="parallels height").click()
        page.get_by_role("option", name="22 mm").click()
        self.current(page)
        expect(sheet.get_by_text("8 deep, 70 long")).to_be_visible()
        # Face, then a pocket by picking its floor straight under the spindle.
        self.stage(page, "Cut")
        page.get_by_role("button", name="Spindle").click()
        sheet.get_by_role("button", name="+ operation").click()
        page.get_by_role("menuitem", name="Pocket").click()
        expect(page.get_by_text("Pick the pocket’s floor")).to_be_visible()
        # While the picture waits for the pick another operation is added: the pocket comes after it.
        sheet.get_by_role("button", name="+ operation").click()
        page.get_by_role("menuitem", name="Facing").click()
        expect(sheet.get_by_role("button", name="Facing 1", exact=True)).to_be_visible()
        self.current(page)
        expect(page.get_by_text("Pick the pocket’s floor")).to_be_visible()
        box = page.get_by_label("Bench").locator("canvas").bounding_box()
        place = box["x"] + box["width"] * 0.42, box["y"] + box["height"] / 2
        self.point(page, place, "plane")
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


if __name__ == "__main__":
    unittest.main()
