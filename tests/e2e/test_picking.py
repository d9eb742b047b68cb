"""Faces, edges and corners picked in the picture."""

from __future__ import annotations

import math
import re
import unittest

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser, on_screen
from tests.serving import wait


class Picking(Browser):
    """Faces, edges and holes picked in the picture serve the seat."""

    def test_up_x_and_zero_by_picks(self):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 12, 30))
        number = self.new_project("picks", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Seat")
        low, high = (-35, -25, -27), (35, 25, 0)  # the billet from zero, its top middle

        def pick(button: str, work: tuple[float, float, float], shown: str) -> None:
            sheet.get_by_role("button", name=button).click()
            place = on_screen(page, (work[0] - 30, work[1] - 20, work[2] - 22), low, high)
            self.point(page, place, shown)
            self.current(page)

        sheet.get_by_role("button", name="Zero on").click()
        page.get_by_role("option", name="axis of a hole or boss").click()
        reach = 12 / math.hypot(0.62, 1)
        wall = (30 - 0.62 * reach, 20 + reach, 17.0)  # the inside of the bore that faces the operator
        place = on_screen(page, (wall[0] - 30, wall[1] - 20, wall[2] - 22), low, high)
        self.point(page, place, "hollow cylinder Ø24")
        self.current(page)
        expect(sheet.get_by_text(re.compile("Ø24 at 30, 20"))).to_be_visible()
        pick("Pick X edge", (59.0, 30.0, 20.0), "edge")
        expect(sheet.get_by_text(re.compile(r"along edge \d+"))).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        rows = state["report"]["setups"][0]["zero_from_work"]
        self.assertAlmostEqual(abs(rows[0][1]), 1.0)  # the part's y lies along X
        page.get_by_role("button", name="Undo").click()
        expect(sheet.get_by_text(re.compile(r"along edge \d+"))).to_be_hidden()
        self.current(page)
        pick("Pick up face", (60.0, 20.0, 10.0), "plane")
        expect(sheet.get_by_text(re.compile(r"face \d+ looks up"))).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        self.assertEqual(state["plan"]["setups"][0]["seat"]["up"]["rule"], "face")
        # The bore no longer stands upright: zero over it is refused, in words, and nothing is lost.
        expect(sheet.get_by_text("The hole does not stand upright in this setup")).to_be_visible()
        sheet.get_by_role("button", name="Zero on").click()
        page.get_by_role("option", name="incoming stock").click()
        self.current(page)
        with self.server.client() as client:
            rows = wait(client, number)["report"]["setups"][0]["zero_from_work"]
        self.assertAlmostEqual(rows[2][0], 1.0)  # the part's x looks up

    def test_an_edge_is_picked_to_be_broken(self):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((30, 20, -1), 12, 30))
        number = self.new_project("broken", shape)
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10")
        self.stage(page, "Cut")
        sheet.get_by_role("button", name="+ operation", exact=True).click()
        page.get_by_role("menuitem", name="Chamfer, deburr").click()
        place = on_screen(page, (59.5 - 30, 30 - 20, 20 - 22), (-35, -25, -27), (35, 25, 0))
        self.point(page, place, "edge")
        expect(sheet.get_by_text(re.compile(r"^E\d+"))).to_be_visible()
        self.current(page)
        with self.server.client() as client:
            state = wait(client, number)
        (operation,) = state["plan"]["setups"][0]["operations"]
        self.assertEqual((operation["kind"], len(operation["edges"])), ("chamfering", 1))
        # An edge under raw stock: the cutter goes to it all the same, and what it runs into is told.
        self.assertEqual(state["report"]["setups"][0]["operations"][0]["id"], operation["id"])


if __name__ == "__main__":
    unittest.main()
