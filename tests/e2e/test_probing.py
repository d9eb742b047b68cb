"""The demo that is probed: from the jaw to its ends to its bore, in the browser."""

from __future__ import annotations

import re
from pathlib import Path

import httpx
from playwright.sync_api import expect

from tests.e2e.browser import Browser
from tests.serving import upload

DEMO = Path(__file__).resolve().parents[2] / "demo" / "latch-plate"


class Probing(Browser):
    def brought(self) -> int:
        """The demo as a project; its number."""
        with httpx.Client(base_url=self.server.url, headers={"x-pelvrak": "1"}, timeout=60) as client:
            part = upload(client, (DEMO / "latch-plate.step").read_bytes(), "latch-plate.step")
            self.assertEqual(part.get("status"), "ready", part)
            plan = (DEMO / "plan.json").read_bytes()
            answer = client.post("/api/projects/plan.json", files={"file": ("plan.json", plan)})
            self.assertEqual(answer.status_code, 201, answer.text)
            return int(answer.json()["id"])

    def test_the_chain(self):
        """The registers as they are found, one from the other, with who sets what; work off its place is cut
        right all the same, as far as the probe takes it.
        """
        page, number = self.page, self.brought()
        self.go(page, f"/project/{number}")
        self.current(page)
        self.card(page, "OP20 Underneath")
        self.stage(page, "Reach")
        offsets = page.get_by_label("Offsets")
        expect(offsets.get_by_role("button", name="Register G55")).to_contain_text(
            "in G54, X by “Find the ends”"
        )
        expect(offsets.get_by_role("button", name="Register G56")).to_contain_text(
            "in G55, X Y by “Find the bore”"
        )
        bench = page.get_by_label("Bench")
        expect(bench.get_by_text("Find the ends")).to_contain_text("G55 X")
        expect(bench.get_by_text("Find the bore")).to_contain_text("G56 X Y")
        # What it runs in and what it sets, in its form; the text follows.
        self.stage(page, "Cut")
        sheet = page.get_by_role("main", name="Sheet")
        sheet.get_by_text("Find the bore").first.click()
        expect(sheet.get_by_role("radio", name="a bore")).to_be_checked()
        field = sheet.get_by_label("Stops at")
        field.fill("3")
        field.press("Enter")
        expect(field).to_have_attribute("aria-invalid", "true")
        field.press("Escape")
        # Its places are moved in the picture: by a key, and pulled 40 pixels down.
        touch = page.get_by_label("Move touch 1 of Find the bore")
        touch.press("ArrowDown")
        expect(sheet.get_by_label("Depth", exact=True)).to_have_value("6.5")
        self.current(page)
        self.settled(page)
        box = touch.bounding_box()
        place = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(*place)
        page.mouse.down()
        page.mouse.move(place[0], place[1] + 20, steps=4)
        expect(page.get_by_label("Bench")).to_contain_text("deep")
        page.mouse.up()
        expect(sheet.get_by_label("Depth", exact=True)).not_to_have_value("6.5")
        self.assertGreater(float(sheet.get_by_label("Depth", exact=True).input_value()), 7.0)
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        self.stage(page, "Prove-out")
        expect(sheet).to_contain_text("the planned stock")
        wrongly = page.get_by_label("Run it otherwise")
        for left, role, said in (
            ("0.7", "status", r"^0(\.00\d)? mm from the plan"),
            ("1.6", "alert", "stops itself"),
        ):
            field = wrongly.get_by_label("work to the left")
            field.fill(left)
            field.press("Enter")
            wrongly.get_by_role("button", name="see what it does").click()
            expect(wrongly.get_by_role(role)).to_contain_text(re.compile(said), timeout=60_000)
        # Begun within the step: what came before is left, and the way there goes through what stands.
        for name, value in (("work to the left", "0"), ("feed turned to", "50"), ("begin at line", "98")):
            field = wrongly.get_by_label(name)
            field.fill(value)
            field.press("Enter")
        wrongly.get_by_role("button", name="see what it does").click()
        expect(wrongly.get_by_role("status")).to_contain_text("In line 98 a rapid", timeout=60_000)
        expect(wrongly.get_by_role("status")).to_contain_text("chips 0.5 times as thick")
        httpx.delete(f"{self.server.url}/api/projects/{number}", headers={"x-pelvrak": "1"})
