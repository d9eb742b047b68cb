"""Operations looked at from four sides and dragged between them; tools made on the page, kept in the shop."""

from __future__ import annotations

import unittest
from typing import Any

from playwright.sync_api import Locator, Page, expect

from tests import solids
from tests.e2e.browser import Browser
from tests.serving import wait


def _drag(page: Page, what: Locator, onto: Locator) -> None:
    """By its grip, with the steps a hand makes."""
    start, end = what.bounding_box(), onto.bounding_box()
    assert start and end
    page.mouse.move(start["x"] + start["width"] / 2, start["y"] + start["height"] / 2)
    page.mouse.down()
    page.mouse.move(start["x"] + 4, start["y"] + 12, steps=3)
    page.mouse.move(end["x"] + end["width"] / 2, end["y"] + end["height"] / 2, steps=8)
    # A hand rests there until it sees where the thing would go.
    page.wait_for_timeout(300)
    page.mouse.up()
    # A click in the very moment after a drag is taken for its end.
    page.wait_for_timeout(200)


class Lists(Browser):
    def planned(self) -> int:
        """A block with a hole and a pocket, all that can be cut taken."""
        shape = solids.minus(
            solids.minus(solids.box((0, 0, 0), (60, 40, 14)), solids.cylinder((15, 20, -1), 4, 20)),
            solids.filleted(solids.box((28, 12, 8), (52, 28, 15)), 5.0, lambda at: abs(at[2] - 11.5) < 2),
        )
        number = self.new_project("lists", shape)
        self.card(self.page, "OP10")
        self.stage(self.page, "Cut")
        self.page.get_by_role("button", name="Cut all 7 operations").click()
        self.current(self.page)
        # By then nothing below the list changes any more, and no row moves under the hand.
        expect(self.page.get_by_text("Nothing that looks to the spindle is left to cut.")).to_be_visible()
        return number

    def operations(self, number: int) -> list[dict[str, Any]]:
        with self.server.client() as client:
            return list(client.get(f"/api/projects/{number}").json()["plan"]["setups"][0]["operations"])

    def test_four_lists(self):
        number = self.planned()
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        order = sheet.get_by_role("list", name="Operations", exact=True)
        rows = order.get_by_role("listitem")
        self.assertEqual(
            [one["name"] for one in self.operations(number)],
            [
                "Face the top",
                "Rough the outside",
                "Rough pocket",
                "Finish the outside",
                "Finish pocket",
                "Spot Ø8",
                "Drill Ø8",
            ],
        )
        # In order: dragged by hand, and by keys.
        _drag(page, sheet.get_by_label("Move Drill Ø8"), sheet.get_by_label("Move Rough pocket"))
        expect(rows.nth(2)).to_contain_text("Drill Ø8")
        self.current(page)
        sheet.get_by_label("Move Drill Ø8").press("Space")
        page.wait_for_timeout(300)
        for _ in range(4):
            page.keyboard.press("ArrowDown")
            page.wait_for_timeout(300)
        page.keyboard.press("Space")
        expect(rows.nth(6)).to_contain_text("Drill Ø8")
        # Switched off it stays and is not cut.
        sheet.get_by_label("Finish pocket is cut").click()
        self.current(page)
        expect(rows.nth(4)).to_contain_text("off")
        with self.server.client() as client:
            told = wait(client, number)["report"]["setups"][0]["operations"]
        self.assertNotIn("Finish pocket", [one["name"] for one in told])
        # By feature: what nobody cuts now, what is cut by whom.
        sheet.get_by_role("radio", name="By feature").click()
        features = sheet.get_by_role("list", name="Operations by feature")
        hole = features.get_by_role("listitem", name="hole Ø8, 14 through")
        expect(hole).to_contain_text("Spot Ø8")
        expect(hole).to_contain_text("Drill Ø8")
        expect(features.get_by_role("listitem", name="pocket, 6 deep")).to_contain_text("Rough pocket")
        # By tool: dragged to one that cannot do it, it is refused; the spot drill stays.
        sheet.get_by_role("radio", name="By tool").click()
        tools = sheet.get_by_role("list", name="Operations by tool")
        mill = tools.get_by_role("listitem").filter(has_text="end mill").first
        _drag(page, sheet.get_by_label("Move Spot Ø8"), mill)
        expect(sheet.get_by_role("alert")).to_contain_text("Spot Ø8 cannot be cut with")
        # By finish: dragged to another.
        sheet.get_by_role("radio", name="By finish").click()
        finishes = sheet.get_by_role("list", name="Operations by finish")
        semi = finishes.get_by_role("listitem", name="semi-finish")
        _drag(page, sheet.get_by_label("Move Rough pocket"), semi)
        expect(semi).to_contain_text("Rough pocket")
        self.assertEqual(self.operations(number)[2]["finish"], "semi")

    def test_a_group_with_a_switch_and_a_tool_that_is_made_and_used(self):
        number = self.planned()
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        for name in ("Spot Ø8", "Drill Ø8"):
            sheet.get_by_role("button", name=name, exact=True).click()
            sheet.get_by_role("button", name="Group", exact=True).click()
            page.get_by_role("option", name="a new group" if name[0] == "S" else "Group 1").click()
            expect(sheet.get_by_role("button", name="Group Group 1")).to_be_visible()
            sheet.get_by_role("button", name=name, exact=True).click()
        sheet.get_by_label("Group Group 1 is cut").click()
        self.current(page)
        with self.server.client() as client:
            told = wait(client, number)["report"]["setups"][0]["operations"]
        self.assertEqual(len(told), 5)
        self.assertNotIn("Spot Ø8", [one["name"] for one in told])
        sheet.get_by_label("Group Group 1 is cut").click()
        # A tool is made by changing a copy; a size that cannot be is told and not taken.
        sheet.get_by_role("button", name="+ Tools").click()
        sheet.get_by_role("button", name="Make, change, take").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("radio", name="The shop").click()
        dialog.get_by_label("Search tools").fill("end mill DC 8 ")
        dialog.get_by_role("list", name="Tools there are").get_by_role("button", name="Ø8 end mill").click()
        form = dialog.get_by_role("form", name="Tool sizes")
        expect(form.get_by_role("img", name="Tool, 95 mm from the spindle")).to_be_visible()
        out = form.get_by_label("Out", exact=True)
        out.fill("20")
        out.press("Enter")
        expect(form.get_by_role("alert")).to_contain_text("longer than the overhang")
        out.fill("36")
        out.press("Enter")
        expect(form.get_by_role("img", name="Tool, 99 mm from the spindle")).to_be_visible()
        name = form.get_by_label("Name", exact=True)
        name.fill("Ø8 end mill, our own")
        name.press("Enter")
        form.get_by_role("button", name="Add as another").click()
        dialog.get_by_label("Search tools").fill("our own")
        expect(dialog.get_by_role("list", name="Tools there are").get_by_role("button")).to_have_count(1)
        dialog.get_by_role("list", name="Tools there are").get_by_role("button").click()
        form.get_by_role("button", name="Take it into the plan").click()
        dialog.get_by_role("button", name="Leave").click()
        sheet.get_by_role("button", name="Finish pocket", exact=True).click()
        choice = sheet.get_by_role("combobox", name="Tool")
        choice.click()
        choice.fill("our own")
        page.get_by_role("option", name="Ø8 end mill, our own").click()
        expect(choice).to_have_value("Ø8 end mill, our own")
        self.current(page)
        with self.server.client() as client:
            told = wait(client, number)["report"]["setups"][0]["operations"]
            self.assertIn("Ø8 end mill, our own", [one["tool_name"] for one in told])
            shop = client.get("/api/tools")
            own = next(one for one in shop.json() if one["name"] == "Ø8 end mill, our own")
            self.assertEqual((own["overhang"], own["id"]), (36, "em8-2"))
            # Somebody else's change of the library is not overwritten.
            stale = client.put("/api/tools", json=shop.json(), headers={"If-Match": '"0"'})
            self.assertEqual((stale.status_code, stale.json()["code"]), (409, "library.stale"))
            twice = client.put("/api/tools", json=[own, own])
            self.assertEqual((twice.status_code, twice.json()["code"]), (422, "tools.library"))

    def test_a_text_is_engraved_and_kept_for_the_next(self):
        number = self.planned()
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        with self.server.client() as client:
            plan = client.get(f"/api/projects/{number}").json()["plan"]
            faces = client.get(f"/api/parts/{plan['part']['sha256']}/facts").json()["faces"]
            top = next(
                one for one in faces if one["normal"] and one["normal"][2] > 0.9 and one["area"] > 1000
            )
            told = {"kind": "engraving", "faces": [{"face": top["number"], "at": top["centre"]}]}
            made = client.post(f"/api/projects/{number}/draft", json={"setup": "OP10", "operation": told})
            revision = client.get(f"/api/projects/{number}").json()["revision"]
            plan["tools"].append(made.json()["tool"])
            plan["setups"][0]["operations"].append(made.json()["operation"])
            edit = {"based_on": revision, "what": "text", "plan": plan}
            client.put(f"/api/projects/{number}/plan", json=edit).raise_for_status()
        sheet.get_by_role("button", name="Engraving 1", exact=True).click()
        text = sheet.get_by_label("Text", exact=True)
        text.fill("A TEXT WIDER THAN ITS FACE")
        text.blur()
        self.current(page)
        page.get_by_role("tab", name="Findings").click()
        found = page.get_by_role("tabpanel", name="findings")
        expect(found.get_by_text("runs over the edge of its face")).to_be_visible()
        text.fill("OK")
        text.blur()
        self.current(page)
        expect(found.get_by_text("runs over the edge of its face")).to_have_count(0)
        # A drawing in its place: open lines are followed, and cannot be cleared inside.
        lines = "".join(
            f"0\nLINE\n8\n0\n10\n{x}\n20\n{y}\n11\n{u}\n21\n{v}\n"
            for x, y, u, v in ((0, 0, 10, 0), (10, 0, 10, 6))
        )
        drawing = f"0\nSECTION\n2\nENTITIES\n{lines}0\nENDSEC\n0\nEOF\n"
        sheet.get_by_label("Drawing file").set_input_files(
            {"name": "mark.dxf", "mimeType": "image/vnd.dxf", "buffer": drawing.encode()}
        )
        expect(sheet.get_by_text("2 lines, 10.00 × 6.00 mm")).to_be_visible()
        sheet.get_by_role("radio", name="inside outlines").click()
        self.current(page)
        expect(found.get_by_text("belongs to no closed outline")).to_be_visible()
        sheet.get_by_role("button", name="back to the text").click()
        self.current(page)
        # Kept as a template it is put on another face by picking it.
        sheet.get_by_role("button", name="Keep as template").click()
        sheet.get_by_role("button", name="+ operation", exact=True).click()
        page.get_by_role("menuitem", name="Engraving 1").click()
        expect(page.get_by_text("Pick what Engraving 1 is to cut")).to_be_visible()
        page.keyboard.press("Escape")


if __name__ == "__main__":
    unittest.main()
