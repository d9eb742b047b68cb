"""What can be cut in a setup is offered, told of its tolerance, and taken singly or all."""

from __future__ import annotations

import re
import unittest

import numpy as np
from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser, on_screen
from tests.serving import wait


class Cuttable(Browser):
    def test_a_hole_given_h7_changes_its_chain_and_all_is_taken(self):
        shape = solids.minus(
            solids.box((0, 0, 0), (60, 40, 14)),
            solids.cylinder((15, 20, -1), 4, 20),
            solids.filleted(solids.box((28, 12, 8), (52, 28, 15)), 5.0, lambda at: abs(at[2] - 11.5) < 2),
        )
        number = self.new_project("offered", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10")
        self.stage(page, "Cut")
        offered = sheet.get_by_role("list", name="Offered")
        hole = offered.get_by_role("listitem").filter(has_text="hole Ø8")
        expect(hole.first).to_contain_text("Ø8 drill")
        with self.server.client() as client:
            state = wait(client, number)
            plan = state["plan"]
            wall = next(
                one
                for one in client.get(f"/api/parts/{plan['part']['sha256']}/facts").json()["faces"]
                if one["kind"] == "cylinder" and abs(one["radius"] - 4) < 1e-6
            )
            ref = {"face": wall["number"], "at": wall["centre"]}
            plan["part"]["callouts"] = [{"face": ref, "text": "H7"}]
            edit = {"based_on": state["revision"], "what": "H7", "plan": plan}
            self.assertEqual(client.put(f"/api/projects/{number}/plan", json=edit).status_code, 200)
        expect(hole.first).to_contain_text("Ø7.8 drill")
        expect(hole.first).to_contain_text("Ø8 H7 reamer")
        self.current(page)
        # Each step with the time of its path, planned on this stock.
        expect(hole.first.get_by_role("listitem").last).to_have_text(re.compile(r"\d:\d\d$"))
        times = re.findall(r"(\d):(\d\d)", hole.first.inner_text())
        seconds = [60 * int(m) + int(s) for m, s in times]
        self.assertEqual(len(seconds), 4)
        self.assertAlmostEqual(seconds[0], sum(seconds[1:]), delta=2)
        self.chains(hole)
        # Taken singly: its operations stand in the list, and it is offered no more.
        page.get_by_role("button", name=re.compile("^Take pocket")).click()
        expect(sheet.get_by_role("button", name="Finish pocket", exact=True)).to_be_visible()
        expect(offered.get_by_text("pocket, 6 deep")).to_have_count(0)
        sheet.get_by_role("button", name="Cut all 6 operations").click()
        expect(sheet.get_by_text("Nothing that looks to the spindle is left to cut.")).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
            setup = state["report"]["setups"][0]
            names = [one["name"] for one in setup["operations"]]
            wrong = [f["code"] for one in setup["operations"] for f in one["findings"]]
            places = [tool["place"] for tool in state["plan"]["tools"]]
            self.assertEqual(client.get(f"/api/projects/{number}/cuttable/OP77").status_code, 404)
        self.assertEqual(
            names,
            [
                "Face the top",
                "Rough pocket",
                "Rough the outside",
                "Finish pocket",
                "Finish the outside",
                "Spot Ø8",
                "Drill Ø8",
                "Ream Ø8",
            ],
        )
        self.assertEqual(wrong, [])
        # The tools came with the operations, each into a place of its own.
        self.assertEqual(sorted(places), list(range(1, len(places) + 1)))
        sheet.get_by_text(re.compile(r"more not offered, and why")).click()
        expect(sheet.get_by_text(re.compile(r"cut by OP10 Spot Ø8"))).to_be_visible()

    def chains(self, hole):
        """The shop's own way of making close holes, what is refused of it, and back."""
        page = self.page
        page.get_by_role("main", name="Sheet").get_by_role("button", name="How holes are made").click()
        dialog = page.get_by_role("dialog", name="How holes are made")
        dialog.get_by_role("button", name="close hole, reamed", exact=True).click()
        form = dialog.get_by_role("form", name="Chain")
        # Without its drill the reamer would go into solid metal: told, and not kept.
        form.get_by_role("button", name="Without drill").click()
        expect(form.get_by_role("alert")).to_contain_text("“ream” would go into solid metal")
        form.get_by_role("button", name="Without ream").click()
        form.get_by_role("button", name="Then mill", exact=True).click()
        form.get_by_role("button", name="Without spot").click()
        form.get_by_role("button", name="Then finish wall").click()
        expect(form.get_by_role("alert")).to_have_count(0)
        form.get_by_label("To Ø").fill("0.5")
        form.get_by_label("To Ø").press("Enter")
        expect(form.get_by_role("alert")).to_contain_text("from 1 to 0.5 mm")
        form.get_by_label("To Ø").press("Escape")
        dialog.get_by_role("button", name="Leave").click()
        expect(hole.first).to_contain_text("Finish Ø8")
        page.get_by_role("main", name="Sheet").get_by_role("button", name="How holes are made").click()
        dialog.get_by_role("button", name="back to what ships").click()
        dialog.get_by_role("button", name="Leave").click()
        expect(hole.first).to_contain_text("Ø8 H7 reamer")

    def test_cleared_by_layers_with_a_finish_a_stop_and_a_tool_brought_in(self):
        shape = solids.minus(
            solids.box((0, 0, 0), (50, 40, 14)),
            solids.filleted(solids.box((10, 10, 8), (40, 30, 15)), 6.0, lambda at: abs(at[2] - 11.5) < 2),
        )
        number = self.new_project("cleared", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10")
        self.stage(page, "Cut")
        sheet.get_by_role("button", name="+ operation", exact=True).click()
        page.get_by_role("menuitem", name="Clearing").click()
        self.current(page)
        row = sheet.get_by_role("listitem").filter(has_text="Clearing 1")
        expect(row.first).to_contain_text(re.compile(r"\d:\d\d"))
        # Within a box between two corners of the part.
        sheet.get_by_role("radiogroup", name="Within").get_by_role("radio", name="box").click()
        sheet.get_by_role("button", name="Between two corners").click()
        with self.server.client() as client:
            (report,) = client.get(f"/api/projects/{number}").json()["report"]["setups"]
        zero = np.array(report["zero_from_work"])
        for prompt, corner in (
            ("Pick one corner of the box", (0.5, 0.5, 14, 1)),
            ("Pick the corner across", (49.5, 39.5, 14, 1)),
        ):
            expect(page.get_by_text(prompt)).to_be_visible()
            at = (zero @ corner)[:3]
            self.point(page, on_screen(page, tuple(at), report["low"], report["high"]), "corner of edge")
        expect(sheet.get_by_label("Box X to")).not_to_have_value("0")
        self.current(page)
        with self.server.client() as client:
            (cleared,) = client.get(f"/api/projects/{number}").json()["plan"]["setups"][0]["operations"]
        x0, y0, x1, y1 = cleared["box"]
        self.assertEqual((round(x1 - x0, 3), round(y1 - y0, 3)), (50.0, 40.0))
        sheet.get_by_role("radiogroup", name="Within").get_by_role("radio", name="everything").click()
        self.current(page)
        # What it leaves stands once, with its finish.
        sheet.get_by_role("button", name="Finishes").click()
        walls = sheet.get_by_label("rough On walls")
        expect(walls).to_have_value("0.3")
        walls.fill("0.5")
        walls.press("Enter")
        self.current(page)
        sheet.get_by_role("button", name="In the program").click()
        sheet.get_by_label("Comment", exact=True).fill("Blow the chips out")
        sheet.get_by_label("Comment", exact=True).press("Enter")
        sheet.get_by_role("radiogroup", name="Stop after").get_by_text("stop", exact=True).click()
        self.current(page)
        with self.server.client() as client:
            state = client.get(f"/api/projects/{number}").json()
            setup = state["report"]["setups"][0]
            program = client.get(f"/api/results/{setup['program_key']}/program.nc").text
        self.assertEqual(state["plan"]["finishes"][0]["leave_side"], 0.5)
        self.assertIn("M0 (BLOW THE CHIPS OUT)", program)
        # A table that is wrong says where; nothing is brought in.
        sheet.get_by_role("button", name="Tools").click()
        wrong = {"name": "mine.csv", "mimeType": "text/csv", "buffer": b"id,name\na,b\n"}
        sheet.get_by_label("Tools file").set_input_files(files=[wrong])
        expect(sheet.get_by_role("alert")).to_contain_text("mine.csv, line 1: Column kind is missing")
        head = b"id,name,kind,DC,LCF,OAL,DCON,NOF,overhang,unit\n"
        mine = head + b"half,Half inch,end_mill,0.5,1,3.25,0.5,4,1.75,in\n"
        good = {"name": "mine.csv", "mimeType": "text/csv", "buffer": mine}
        sheet.get_by_label("Tools file").set_input_files(files=[good])
        expect(sheet.get_by_role("list", name="Tools of the plan")).to_contain_text("Half inch")
        # Nothing makes the page itself scroll.
        tall = page.evaluate("document.scrollingElement.scrollHeight - window.innerHeight")
        self.assertLessEqual(tall, 0)


if __name__ == "__main__":
    unittest.main()
