"""A hole in the side, cut at an index position of its own."""

from __future__ import annotations

import json
import re
import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import Locator, Page, expect

from tests import solids
from tests.e2e.browser import Browser
from tests.serving import wait


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
            plan["tools"] = [t for t in client.get("/api/tools").json() if t["id"] == "dr5"]
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
                f"/api/projects/{number}/plan",
                json={"based_on": state["revision"], "what": "hole", "plan": plan},
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
            mine = next(
                m for m in client.get("/api/library").json()["machines"] if m["id"] == "vertical-760-a"
            )
        mine |= {"id": "our-mill", "name": "Our mill with a rotary"}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mine.json"
            path.write_text(json.dumps(mine | {"schema_version": 7}))
            sheet.get_by_label("Machine file").set_input_files(path)
            expect(sheet.get_by_role("alert")).to_contain_text("reads version 1")
            path.write_text(json.dumps(mine))
            sheet.get_by_label("Machine file").set_input_files(path)
            expect(sheet.get_by_role("button", name="Machine", exact=True)).to_have_text(
                re.compile("Our mill")
            )
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        self.assertEqual([m["id"] for m in state["plan"]["machines"]], ["our-mill"])
        self.assertGreater(state["report"]["setups"][0]["removed_volume_mm3"], 100)
        self.registers_and_places(page, sheet)
        self.machine_edited(page, sheet, number)

    def registers_and_places(self, page: Page, sheet: Locator) -> None:
        """Found only later, a register is used too soon; an operation at two positions, one of them left out
        again.
        """
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
        """Limits that are swapped are refused, and nothing is changed; others are taken, and the work turns
        the other way round.
        """
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


if __name__ == "__main__":
    unittest.main()
