"""A load as a place of its own: two vises, one program, dragged and ordered in the browser."""

from __future__ import annotations

import json
import re
from pathlib import Path

import httpx
from playwright.sync_api import expect

from tests.e2e.browser import Browser
from tests.e2e.test_crowding import CROWDED
from tests.serving import upload, wait

DEMO = Path(__file__).resolve().parents[2] / "demo" / "latch-plate"


class Load(Browser):
    def brought(self) -> int:
        """The third demo's first setup alone, in a load; its number."""
        plan = json.loads((DEMO / "plan.json").read_text())
        plan |= {"name": "Plates by two", "resolution_mm": 2.0, "setups": plan["setups"][:1]}
        plan["setups"][0] |= {"load": "L1"}
        with httpx.Client(base_url=self.server.url, headers={"x-pelvrak": "1"}, timeout=60) as client:
            upload(client, (DEMO / "latch-plate.step").read_bytes(), "latch-plate.step")
            told = {"file": ("plan.json", json.dumps(plan).encode())}
            answer = client.post("/api/projects/plan.json", files=told)
            self.assertEqual(answer.status_code, 201, answer.text)
            number = int(answer.json()["id"])
            wait(client, number)
        return number

    def loads(self, number: int) -> list[dict]:
        return httpx.get(f"{self.server.url}/api/projects/{number}").json()["report"]["loads"]

    def test_two_vises_and_one_program(self):
        page, number = self.page, self.brought()
        self.go(page, f"/project/{number}")
        self.current(page)
        page.get_by_role("navigation", name="Route").get_by_role("button", name="Load L1").click()
        load = page.get_by_role("region", name="Load", exact=True)
        pattern = load.get_by_role("group", name="OP10 pattern")
        # A pattern of one setup: both places, each with its register, leave what was planned.
        for name, value in (("OP10 columns", "2"), ("OP10 pitch along X", "220"), ("OP10 first, X", "-200")):
            field = pattern.get_by_label(name, exact=True)
            field.fill(value)
            field.press("Enter")
            self.current(page)
        rows = load.get_by_role("table", name="Places").get_by_role("row")
        expect(rows).to_have_count(3)
        expect(rows.nth(1)).to_contain_text("G54")
        expect(rows.nth(2)).to_contain_text("G55")
        expect(rows.nth(2)).to_contain_text("as planned")
        expect(load).to_contain_text("OP10/2 is cut like OP10/1")
        self.assertEqual(page.evaluate(CROWDED), [])
        # Each tool round changes half as often.
        self.assertEqual(self.loads(number)[0]["changes"], 2 * 4)
        load.get_by_role("radio", name="each tool round").click()
        self.current(page)
        expect(load).to_contain_text(re.compile("4 tool changes; saves 0:[1-9]"))
        order = page.get_by_role("list", name="Order of cutting").get_by_role("listitem")
        expect(order).to_have_count(12)
        # Both dragged at once, 25 along X; too near to each other they are told.
        place = page.get_by_role("button", name="Place OP10/1")
        scale = page.get_by_label("The table from above").evaluate("e => e.getScreenCTM().a")
        box = place.bounding_box()
        at = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(*at)
        page.mouse.down()
        page.mouse.move(at[0] + 25 * scale, at[1], steps=5)
        page.mouse.up()
        expect(pattern.get_by_label("OP10 first, X", exact=True)).to_have_value("-175")
        field = pattern.get_by_label("OP10 pitch along X", exact=True)
        field.fill("60")
        field.press("Enter")
        self.current(page)
        dock = page.get_by_role("region", name="Load dock")
        dock.get_by_role("tab", name=re.compile("Findings")).click()
        expect(dock.get_by_text(re.compile("is in one place"))).to_be_visible()
        # No pitch at all is refused beside its field, and nothing is lost.
        field.fill("0")
        field.press("Enter")
        expect(field).to_have_attribute("aria-invalid", "true")
        field.press("Escape")
        page.get_by_role("button", name="Undo").click()
        self.current(page)
        dock.get_by_role("tab", name="Program").click()
        expect(dock.get_by_label("Load program")).to_contain_text("M98")
        answer = httpx.get(f"{self.server.url}/api/projects/{number}/files/loads/L1.nc")
        self.assertEqual((answer.status_code, answer.text.count("M98 P101")), (200, 2))
        # All of it in one picture; at the second place the bores are left out, and it is cut by itself.
        page.get_by_role("radiogroup", name="Seen").get_by_text("as it is cut").click()
        picture = page.get_by_role("region", name="The load as it stands")
        expect(picture).to_have_attribute("aria-busy", "false")
        expect(picture.get_by_title("OP10/2")).to_be_visible()
        # A step of the order as it begins: who cuts what, and the arrow keys go on to the next.
        dock.get_by_role("tab", name="Order").click()
        order.nth(3).click()
        expect(order.nth(3)).to_have_attribute("aria-current", "step")
        expect(page.get_by_role("radio", name="at a step")).to_be_checked()
        expect(page.get_by_text(re.compile(r"^4 of 12: .* at OP10/[12] with T"))).to_be_visible()
        expect(picture).to_have_attribute("aria-busy", "false")
        seen = picture.screenshot()
        order.nth(3).press("ArrowRight")
        expect(page.get_by_text(re.compile(r"^5 of 12: "))).to_be_visible()
        expect(picture).to_have_attribute("aria-busy", "false")
        page.wait_for_timeout(500)
        self.assertNotEqual(picture.screenshot(), seen)
        # Just over all that stands, and with a shift in place of a register each.
        load.get_by_role("radio", name="just over all").click()
        self.current(page)
        expect(load.get_by_text(re.compile("saves 0:[0-9]+ against the top of Z"))).to_be_visible()
        load.get_by_role("button", name="Shifted").click()
        page.get_by_role("option", name="places of a setup").click()
        self.current(page)
        expect(rows.nth(2)).to_contain_text("G54")
        expect(rows.nth(2)).to_contain_text("shift 220 0 0")
        expect(rows.nth(2)).to_contain_text("as planned")
        self.assertEqual(page.evaluate(CROWDED), [])
        pattern.get_by_role("button", name="OP10 place").click()
        page.get_by_role("option", name="place 2").click()
        there = pattern.get_by_role("group", name="OP10 place 2 operations")
        there.get_by_role("checkbox").last.click()
        self.current(page)
        # One more there, with a number of its own.
        pattern.get_by_role("button", name="OP10 place 2 operation more").click()
        page.get_by_role("option").nth(1).click()
        self.current(page)
        pattern.get_by_role("button", name=re.compile("^(?!Drop).* at OP10 place 2$")).click()
        field = pattern.get_by_label(re.compile("OP10 place 2 .*-2 Step down"))
        field.fill("0.7")
        field.press("Enter")
        self.current(page)
        own = httpx.get(f"{self.server.url}/api/projects/{number}").json()["plan"]["loads"][0]["stands"][0]
        self.assertEqual(own["different"][0]["added"][0]["step_down"], 0.7)
        told = self.loads(number)[0]["places"]
        self.assertEqual([one["differs"] for one in told], [False, True])
        self.assertEqual([one["equal"] for one in told], [True, True])
        self.assertNotEqual(told[0]["outgoing_key"], told[1]["outgoing_key"])
        # Back to its setup.
        load.get_by_role("button", name="OP10 Top").click()
        expect(page.get_by_role("main", name="Sheet")).to_be_visible()
        httpx.delete(f"{self.server.url}/api/projects/{number}", headers={"x-pelvrak": "1"})

    def test_a_setup_of_another_project(self):
        """It stands beside this one's with a register of its own; what is changed there changes here."""
        page, number = self.page, self.brought()
        head = {"x-pelvrak": "1"}
        with httpx.Client(base_url=self.server.url, headers=head, timeout=60) as client:
            other = client.post(f"/api/projects/{number}/copy").json()["id"]
            wait(client, other)
        self.go(page, f"/project/{number}")
        self.current(page)
        page.get_by_role("navigation", name="Route").get_by_role("button", name="Load L1").click()
        guests = page.get_by_role("region", name="Guests")
        guests.get_by_role("button", name="+ a setup of another project").click()
        guests.get_by_role("button", name="Project of the guest").click()
        page.get_by_role("option", name=re.compile("Plates by two")).first.click()
        guests.get_by_role("button", name="Setup of the guest").click()
        page.get_by_role("option", name="OP10").click()
        self.current(page)
        field = guests.get_by_label("P first, X", exact=True)
        field.fill("-220")
        field.press("Enter")
        self.current(page)
        rows = page.get_by_role("table", name="Places").get_by_role("row")
        expect(rows.nth(2)).to_contain_text("P.OP10/1")
        expect(rows.nth(2)).to_contain_text("G55")
        expect(rows.nth(2)).to_contain_text("as planned")
        expect(page.get_by_role("button", name="Place P.OP10/1")).to_be_visible()
        before = self.loads(number)[0]["places"]
        with httpx.Client(base_url=self.server.url, headers=head, timeout=60) as client:
            state = client.get(f"/api/projects/{other}").json()
            state["plan"]["setups"][0]["operations"].pop()
            told = {"based_on": state["revision"], "what": "one less", "plan": state["plan"]}
            self.assertEqual(client.put(f"/api/projects/{other}/plan", json=told).status_code, 200)
            for one in (other, number):
                wait(client, one)
        for _ in range(100):
            after = self.loads(number)[0]["places"]
            if after[1]["outgoing_key"] != before[1]["outgoing_key"]:
                break
            page.wait_for_timeout(300)
        self.assertNotEqual(after[1]["outgoing_key"], before[1]["outgoing_key"])
        self.assertEqual(after[0]["outgoing_key"], before[0]["outgoing_key"])
        for one in (number, other):
            httpx.delete(f"{self.server.url}/api/projects/{one}", headers=head)
