"""Holding: the library, proposals, solids of one's own, soft jaws."""

from __future__ import annotations

import re
import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import expect

from pelvrak.core.geometry.mesh import to_stl
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids
from tests.e2e.browser import Browser
from tests.serving import upload, wait


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
        self.assertEqual(
            [f["id"] for f in plan["fixtures"]], ["bench-125", "hard-125", "par-125x5", "stop-12"]
        )
        # Without its jaws the vise says so; undone, all is as it was.
        rows.nth(1).get_by_role("button").first.click()
        rows.nth(1).get_by_role("button", name="Remove").click()
        self.current(page)
        expect(sheet.get_by_text("Machine vise 125 has no jaws.")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        expect(sheet.get_by_text("6 of 6 freedoms").first).to_be_visible()

    def test_a_vise_that_centres_and_what_a_cure_would_leave(self):
        """Jaws 36 high on parallels of 34: 2 mm of grip, and before the cure is taken what it leaves. A jaw
        set in 10 mm takes the work 5 off the middle.
        """
        number = self.new_project("centring", solids.box((0, 0, 0), (80, 50, 30)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        for name in ("Centring vise 130", "Hard jaws 130", "Parallels 125 × 5"):
            sheet.get_by_role("button", name="+ from the library").click()
            page.get_by_label("Search fixtures").fill(name)
            page.get_by_role("button", name=f"Take {name}", exact=True).click()
            expect(page.get_by_role("dialog", name="What is there to hold with")).to_be_hidden()
        self.current(page)
        rows = sheet.get_by_role("list", name="Build order").get_by_role("listitem")
        rows.nth(2).get_by_role("button").first.click()
        rows.nth(2).get_by_role("button", name=re.compile("height$")).click()
        page.get_by_role("option", name="34 mm", exact=True).click()
        expect(sheet.get_by_text("2 deep", exact=False).first).to_be_visible()
        self.current(page)
        expect(sheet.get_by_role("table", name="Contacts")).to_contain_text("rear jaw")
        page.get_by_role("tab", name=re.compile("^Findings")).click()
        cure = page.get_by_role("button", name=re.compile("^Parallels 30 mm")).first
        cure.locator("..").get_by_role("button", name="What it would leave").click()
        tray = page.get_by_text(re.compile("^height of .*: 34 → 30$")).first
        expect(tray).to_be_visible(timeout=60_000)
        expect(page.get_by_text(re.compile("leaves 0 errors, . warnings? in OP10")).first).to_be_visible()
        with self.server.client() as client:
            before = wait(client, number)["report"]["setups"][0]["hold"]["zero_on_table"][1]
        rows.nth(1).get_by_role("button").first.click()
        field = rows.nth(1).get_by_label(re.compile(" Set in$"))
        field.fill("10")
        field.press("Enter")
        self.current(page)
        with self.server.client() as client:
            hold = wait(client, number)["report"]["setups"][0]["hold"]
        self.assertAlmostEqual(hold["zero_on_table"][1], before - 5, delta=1e-3)

    def test_a_fixture_is_changed_as_its_kind_asks(self):
        """A set of parallels gets another length and heights; it is drawn as typed, and what cannot be stands
        by its field.
        """
        self.new_project("changed", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        page.get_by_role("main", name="Sheet").get_by_role("button", name="+ from the library").click()
        page.get_by_label("Search fixtures").fill("Parallels 125")
        page.get_by_role("button", name="change a copy").first.click()
        form = page.get_by_role("form", name="Change a fixture")
        picture = form.get_by_role("img", name="The fixture as typed")
        page.wait_for_function("image => image.naturalWidth > 100", arg=picture.element_handle())
        before = picture.get_attribute("src")
        length, heights = form.get_by_label("Length", exact=True), form.get_by_label("Heights")
        length.fill("-5")
        length.press("Enter")
        expect(form.get_by_role("alert")).to_contain_text("has to be above 0")
        expect(length).to_have_value("-5")
        self.assertEqual(picture.get_attribute("src"), before)
        length.fill("5 in")  # in its unit, or in another
        length.press("Enter")
        expect(length).to_have_attribute("aria-invalid", "false")
        expect(picture).to_have_attribute("src", re.compile("%22length%22%3A127%2C"))
        heights.fill("8, 12.5 20")
        heights.press("Enter")
        expect(heights).to_have_value("8, 12.5, 20")
        expect(form.get_by_role("alert")).to_have_count(0)
        self.assertNotEqual(picture.get_attribute("src"), before)
        page.wait_for_function("image => image.naturalWidth > 100", arg=picture.element_handle())
        # What never changes is not asked for.
        expect(form.get_by_label("Id", exact=True)).to_have_count(0)
        form.get_by_role("button", name="Put it into the library").click()
        page.get_by_label("Search fixtures").fill("127")
        expect(page.get_by_role("list", name="Fixtures")).to_contain_text("127 × ")
        with self.server.client() as client:
            rows = client.get("/api/fixtures").json()
            made = [one for one in rows if one["kind"] == "parallels" and one["length"] == 127]
            self.assertEqual([one["heights"] for one in made], [[8.0, 12.5, 20.0]])
            client.put("/api/fixtures", json=[one for one in rows if one not in made]).raise_for_status()

    def test_own_solids_by_step_and_stl(self):
        """The shop's own locating block, as STEP and as STL, comes into the library and holds the work."""
        number = self.new_project("own", solids.box((0, 0, 0), (60, 40, 20)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        corner = solids.minus(
            solids.box((-60, -50, 0), (60, 50, 40)), solids.box((-50, -60, 15), (61, 40, 41))
        )
        with tempfile.TemporaryDirectory() as folder:
            for name in ("corner.step", "corner.stl"):
                path = Path(folder) / name
                data = solids.step_bytes(corner)
                path.write_bytes(
                    data if name.endswith("step") else to_stl(model_of_solid(corner, "", "MM").mesh, "x")
                )
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
        touched = {
            tuple(round(v) for v in one["normal"]) for one in hold["contacts"] if one["kind"] == "face"
        }
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
            blank = solids.step_bytes(solids.prism([(0, 0), (80, 0), (80, 58.4), (0, 50)], 0, 34))
            sha = upload(client, blank, "blank.step")["sha256"]
            plan["billet"] = {"kind": "model", "material": "EN AW-6082", "file": "blank.step", "sha256": sha}
            client.put(
                f"/api/projects/{number}/plan",
                json={"based_on": state["revision"], "what": "blank", "plan": plan},
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
            tools = client.get("/api/tools").json()
            plan["tools"] = [tool for tool in tools if tool["id"] in ("em10", "em3")]
            client.put(
                f"/api/projects/{number}/plan",
                json={"based_on": state["revision"], "what": "tools", "plan": plan},
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


if __name__ == "__main__":
    unittest.main()
