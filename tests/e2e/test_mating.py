"""Two clicks put the shop's own solid where it goes; a holder is put into a vise."""

from __future__ import annotations

import numpy as np
from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser, on_screen
from tests.serving import upload, wait

# Pieces that the picture need not show whole.
IN_THE_BACK = ("table", "vise body", "slide", "fixed block", "base plate")


class Mating(Browser):
    """A holder of the shop's own: a block 120 × 80 × 30 with a room for the work in its top."""

    def holder(self, name: str, items) -> int:
        number = self.new_project(name, solids.box((0, 0, 0), (60, 40, 20)))
        room = solids.minus(
            solids.box((-60, -40, 0), (60, 40, 30)), solids.box((-35.02, -25.02, 15), (35.02, 25.02, 31))
        )
        with self.server.client() as client:
            state = wait(client, number)
            sha = upload(client, solids.step_bytes(room), "room.step")["sha256"]
            plan = state["plan"]
            own = {"kind": "own", "id": "room", "name": "Our room", "file": "room.step", "sha256": sha}
            shop = {one["id"]: one for one in client.get("/api/fixtures").json()}
            used = [shop[one["fixture"]] for one in items if one["fixture"] in shop]
            plan["fixtures"] = [own, *used]
            plan["setups"][0]["hold"] = {"items": items, "work": {}}
            client.put(
                f"/api/projects/{number}/plan",
                json={"based_on": state["revision"], "what": "holding", "plan": plan},
            ).raise_for_status()
            wait(client, number)
        return number

    def told(self, number: int) -> dict:
        with self.server.client() as client:
            return wait(client, number)["report"]["setups"][0]

    def screen(self, told: dict, point) -> tuple[float, float]:
        shown = [one for one in told["hold"]["pieces"] if one["name"] not in IN_THE_BACK]
        low = np.min([told["low"], *(one["low"] for one in shown)], axis=0)
        high = np.max([told["high"], *(one["high"] for one in shown)], axis=0)
        return on_screen(self.page, tuple(point), tuple(low), tuple(high))

    def test_two_clicks_put_it_on_the_plate(self):
        number = self.holder(
            "Mated",
            [
                {"id": "plate", "fixture": "grid-400", "x": 400, "y": 300},
                {"id": "room", "fixture": "room", "x": 660, "y": 300},
            ],
        )
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        self.current(page)
        sheet.get_by_role("button", name="2 Our room").click()
        self.settled(page)
        told = self.told(number)
        piece = {one["item"]: one for one in told["hold"]["pieces"]}
        sheet.get_by_role("button", name="against a picked face").click()
        # Its rim on top, then the plate's top by its right edge, between two rows of holes.
        rim = [piece["room"]["low"][0] + 10, piece["room"]["low"][1] + 10, piece["room"]["high"][2]]
        page.mouse.click(*self.screen(told, rim))
        expect(page.get_by_text("And what does it go against?")).to_be_visible()
        plate = piece["plate"]
        middle = (plate["low"][1] + plate["high"][1]) / 2
        edge = [plate["high"][0] - 12.5, middle - 12.5, plate["high"][2]]
        page.mouse.click(*self.screen(told, edge))
        expect(sheet).to_contain_text("face on face of plate")
        self.current(page)
        # On its head on the plate, the two picked places on each other.
        lies = self.told(number)["hold"]["pieces"]
        own = next(one for one in lies if one["item"] == "room")
        base = next(one for one in lies if one["item"] == "plate")
        self.assertAlmostEqual(own["low"][2], base["high"][2], places=3)
        # Moved by one number.
        gap = sheet.get_by_label("room gap 1")
        gap.fill("12.5")
        gap.press("Enter")
        self.current(page)
        lies = self.told(number)["hold"]["pieces"]
        own = next(one for one in lies if one["item"] == "room")
        self.assertAlmostEqual(own["low"][2] - base["high"][2], 12.5, places=3)
        sheet.get_by_role("button", name="Take back what room is put against, 1").click()
        expect(sheet).not_to_contain_text("face on face of plate")
        self.current(page)

    def test_a_holder_is_put_into_a_vise(self):
        """Table, vise, holder, work: the jaws close on the holder, and that is told."""
        number = self.holder(
            "In a vise",
            [
                {"id": "vise", "fixture": "bench-160", "x": 450, "y": 380},
                {"id": "jaws", "fixture": "hard-160", "on": "vise"},
                {"id": "room", "fixture": "room", "x": 200, "y": 150},
            ],
        )
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        self.current(page)
        sheet.get_by_role("button", name="3 Our room").click()
        sheet.get_by_role("button", name="room stands on").click()
        page.get_by_role("option", name="vise", exact=True).click()
        self.current(page)
        told = self.told(number)
        own = next(one for one in told["hold"]["pieces"] if one["item"] == "room")
        jaw = next(one for one in told["hold"]["pieces"] if one["name"] == "fixed jaw")
        self.assertLess(own["low"][2], jaw["high"][2])
        codes = {one["code"] for one in told["findings"]}
        self.assertNotIn("hold.unknown_fixture", codes)
