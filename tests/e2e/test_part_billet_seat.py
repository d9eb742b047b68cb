"""The part's sheet, the billet from the shelf, a new revision."""

from __future__ import annotations

import re
import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import expect

from pelvrak.core.geometry.mesh import to_stl
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids
from tests.e2e.browser import Browser, on_screen
from tests.serving import wait


class PartBilletSeat(Browser):
    """Features, measures and a new revision of the part; the shelf; what a zero rests on."""

    def test_features_measures_and_sections(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "Part rev C")
        sheet = page.get_by_role("main", name="Sheet")
        pocket = (
            sheet.get_by_role("region", name="Pockets, slots, steps")
            .get_by_role("button")
            .filter(has_text="24 deep")
        )
        expect(pocket).to_contain_text("corners R6")
        expect(pocket).to_contain_text("+z")
        before = self.settled(page)
        pocket.click()
        self.other_picture(page, before)  # its faces are shown
        pocket.click()
        # The top and the floor of the pocket, picked and measured: 24 mm, and F2 writes it into a field.
        page.keyboard.press("m")
        low, high = (-60, -40, 0), (60, 40, 42)
        for work in ((-8, -32, 42), (28, 16, 18)):
            self.point(page, on_screen(page, work, low, high), "")
        measure = page.get_by_role("region", name="Measure")
        expect(measure.get_by_role("button", name="Keep distance")).to_have_text("24 mm")
        page.keyboard.press("Escape")
        # A section changes the picture, and going along with the slider changes it again.
        whole = self.settled(page)
        page.keyboard.press("x")
        cut = self.other_picture(page, whole)
        page.get_by_role("slider", name="Section place").press("ArrowLeft")
        for _ in range(20):
            page.keyboard.press("ArrowLeft")
        self.other_picture(page, cut)
        self.card(page, "Billet")
        field = page.get_by_label("Ray distance")
        field.fill("")
        field.press("F2")
        field.press("Escape")
        expect(field).to_have_value("1")

    def test_mesh_part_billet_from_the_shelf_and_zero(self):
        shape = solids.minus(solids.box((0, 0, 0), (2, 1.5, 0.75)), solids.cylinder((1, 0.75, -1), 0.25, 3))

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
            plan["setups"][0]["seat"]["zero"] |= {
                "of": "hole",
                "hole": {"face": bore["number"], "at": bore["centre"]},
            }
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


if __name__ == "__main__":
    unittest.main()
