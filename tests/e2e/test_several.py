"""Several parts in one billet, laid, cut, left out at one and sawn apart in the browser."""

from __future__ import annotations

import json
import re

import httpx
from playwright.sync_api import expect

from tests.core import test_removal as plate
from tests.e2e.browser import Browser
from tests.e2e.test_crowding import CROWDED
from tests.serving import upload, wait


class Several(Browser):
    def brought(self) -> int:
        """A plate with a hole and an opening, one in a block of its own size and 5 round it; its number."""
        plan = {
            "name": "Plates in a bar",
            "part": {"file": "plate.step"},
            "resolution_mm": 1.0,
            "tools": [one.model_dump(mode="json") for one in plate.tool_shelf().values()],
            "billet": {
                "kind": "block",
                "sizing": {"rule": "size", "size": [70, 54, 16], "place": [0.5, 0.5, 0]},
            },
            "setups": [
                {
                    "name": "OP10",
                    "operations": [
                        plate.drilling("drill", "dr8", plate.face("cylinder", radius=4.0), name="Drill"),
                    ],
                },
                {"name": "OP20", "operations": []},
            ],
        }
        with httpx.Client(base_url=self.server.url, headers={"x-pelvrak": "1"}, timeout=60) as client:
            upload(client, plate.DATA, "plate.step")
            told = {"file": ("plan.json", json.dumps(plan).encode())}
            answer = client.post("/api/projects/plan.json", files=told)
            self.assertEqual(answer.status_code, 201, answer.text)
            number = int(answer.json()["id"])
            wait(client, number)
        return number

    def project(self, number: int) -> dict:
        return httpx.get(f"{self.server.url}/api/projects/{number}").json()

    def typed(self, label: str, value: str) -> None:
        field = self.page.get_by_label(label, exact=True)
        field.fill(value)
        field.press("Enter")
        self.current(self.page)

    def test_two_by_two_sawn_apart(self):
        page, number = self.page, self.brought()
        self.go(page, f"/project/{number}")
        self.current(page)
        rail = page.get_by_role("navigation", name="Route")
        rail.get_by_role("button", name="Billet").click()
        parts = page.get_by_role("region", name="Parts in the billet")
        parts.get_by_role("radio", name="rows and columns").click()
        self.current(page)
        self.typed("Rows", "2")
        # What stood round one stands round all of them: the block has grown with its pieces.
        billet = self.project(number)["report"]["billet"]
        size = [high - low for low, high in zip(billet["low"], billet["high"], strict=True)]
        self.assertEqual([round(one, 3) for one in size], [70 + 60 + 12, 54 + 44 + 12, 16])
        expect(page.get_by_title("piece 4")).to_be_visible()
        expect(rail).to_contain_text("4 parts")
        self.assertEqual(page.evaluate(CROWDED), [])
        # Sawn midway, with each piece's sides.
        parts.get_by_role("radio", name="sawn").click()
        self.current(page)
        rows = page.get_by_role("table", name="Pieces as divided").get_by_role("row")
        expect(rows).to_have_count(5)
        expect(rows.nth(1)).to_contain_text("4.5")
        expect(rail).to_contain_text("÷ 4")
        # A saw typed into a part says so, and by how much; one click puts it back.
        parts.get_by_role("radio", name="as typed").click()
        self.current(page)
        self.typed("Saw 1 square to x", "60")
        said = page.get_by_text(re.compile(r"goes 1\.50 mm into piece"))
        expect(said.first).to_be_visible()
        page.get_by_role("button", name="Saw midway between the pieces").first.click()
        self.current(page)
        expect(said).to_have_count(0)
        # One cut left out at one piece.
        rail.get_by_role("button", name=re.compile("OP10")).first.click()
        self.stage(page, "Cut")
        page.get_by_role("button", name="Drill", exact=True).click()
        before = self.project(number)["report"]["setups"][0]["operations"][0]["removed_volume_mm3"]
        page.get_by_role("group", name="Pieces it is cut at").get_by_label("3").click()
        self.current(page)
        told = self.project(number)
        self.assertEqual(told["plan"]["setups"][0]["operations"][0]["not_at"], ["3"])
        now = told["report"]["setups"][0]["operations"][0]["removed_volume_mm3"]
        self.assertAlmostEqual(now / before, 3 / 4, delta=0.01)
        # What comes after can begin with that one.
        rail.get_by_role("button", name=re.compile("OP20")).first.click()
        self.stage(page, "Incoming")
        page.get_by_role("button", name="Begins with").click()
        page.get_by_role("option", name="another piece of the billet").click()
        self.current(page)
        page.get_by_role("button", name="Piece it begins with").click()
        page.get_by_role("option", name="piece 3").click()
        self.current(page)
        self.assertEqual(self.project(number)["report"]["setups"][1]["incoming"]["said"], "piece 3")
        httpx.delete(f"{self.server.url}/api/projects/{number}", headers={"x-pelvrak": "1"})
