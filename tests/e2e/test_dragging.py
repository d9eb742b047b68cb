"""Zero and its axes dragged in the picture from one place to the next."""

from __future__ import annotations

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser


class Dragging(Browser):
    """On a plate 60 × 40 × 20 with a hole upright in it."""

    def test_zero_and_its_axes(self):
        page = self.page
        plate = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((15, 20, -5), 4, 30))
        number = self.new_project("Dragged", plate)
        self.card(page, "OP10")
        self.stage(page, "Seat")
        self.settled(page)

        def seat() -> dict:
            with self.server.client() as client:
                return client.get(f"/api/projects/{number}").json()["plan"]["setups"][0]["seat"]

        def middle(name: str) -> tuple[float, float]:
            box = page.get_by_role("button", name=name, exact=True).bounding_box()
            return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2

        def place(name: str) -> tuple[float, float]:
            at = page.evaluate("id => document.getElementById(id).getBoundingClientRect().toJSON()", name)
            return at["x"], at["y"]

        def drag(handle: str, to: str, shown: str = "") -> None:
            page.mouse.move(*middle(handle))
            page.mouse.down()
            x, y = place(to)
            page.mouse.move(x + 2, y + 1, steps=4)
            if shown:
                expect(page.get_by_label("Bench")).to_contain_text(shown)
            page.mouse.up()
            self.current(page)
            self.settled(page)

        self.assertEqual((seat()["zero"]["x"], seat()["zero"]["z"]), (0, 1))
        drag("Drag zero", "to-incoming-m1m11", "stock, left front top")
        zero = seat()["zero"]
        self.assertEqual((zero["of"], zero["x"], zero["y"], zero["z"]), ("incoming", -1, -1, 1))
        # Taken up and brought back, it stays where it was.
        x, y = middle("Drag zero")
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 40, y + 30, steps=3)
        page.mouse.move(x + 2, y, steps=3)
        page.mouse.up()
        page.wait_for_timeout(300)
        self.assertEqual(seat()["zero"], zero)
        hole = page.locator("[id^=to-hole-]").first.get_attribute("id")
        drag("Drag zero", hole, "hole F")
        self.assertEqual(seat()["zero"]["of"], "hole")
        # By keys, from there: the stock's middle, then a place to the right and one down.
        drag("Drag zero", "to-incoming-001")
        for key in ("ArrowRight", "PageDown"):
            page.get_by_role("button", name="Drag zero").press(key)
            self.current(page)
        self.settled(page)
        zero = seat()["zero"]
        self.assertEqual((zero["x"], zero["y"], zero["z"]), (1, 0, 0))
        # X to where Y is: the work turns a quarter back under it, 60 × 40 becomes 40 × 60.
        size = page.get_by_role("main", name="Sheet")
        drag("Drag X", "way-yp")
        self.assertEqual(seat()["x"], {"rule": "turn", "quarter_turns": 3})
        expect(size).to_contain_text("x → 0 -1 0")
        # Z to where X is: what looked to the right looks up.
        before = seat()
        drag("Drag Z", "way-xp")
        self.assertNotEqual(before["up"], seat()["up"])
        # X of the picture was Y of the part.
        self.assertEqual(seat()["up"], {"rule": "direction", "direction": [0.0, 1.0, 0.0]})
        expect(size).to_contain_text("y → 0 0 1")
