"""The billet pulled in the picture, and sized by size and margins."""

from __future__ import annotations

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser


class Pulling(Browser):
    """On a plate with a step: 60 × 40 × 20, the step 12 high."""

    def made(self, name: str) -> int:
        plate = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.box((40, -1, 12), (30, 50, 10)))
        number = self.new_project(name, plate)
        self.card(self.page, "Billet")
        self.settled(self.page)
        return number

    def sizing(self, number: int) -> dict:
        with self.server.client() as client:
            return client.get(f"/api/projects/{number}").json()["plan"]["billet"]["sizing"]

    def test_a_side_is_pulled_until_it_is_flush(self):
        """Down past the top to the step: 8 mm under the top, told with its face while it is pulled."""
        page = self.page
        number = self.made("Pulled")
        handle = page.get_by_role("button", name="Pull side z+")
        box = handle.bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        # How many pixels a millimetre of height is: by the corners over each other.
        top = page.get_by_role("button", name="Pull corner x- y- z+").bounding_box()
        foot = page.get_by_role("button", name="Pull corner x- y- z-").bounding_box()
        pixels = (foot["y"] - top["y"]) / (20 + 5 + 2)
        page.mouse.move(x, y)
        page.mouse.down()
        for share in range(1, 11):
            page.mouse.move(x, y + share * pixels)
        expect(page.get_by_label("Bench")).to_contain_text("z+ -8 flush with F")
        expect(page.get_by_role("main", name="Sheet").get_by_label("Margin z+")).to_contain_text("-8")
        page.mouse.up()
        expect(page.get_by_role("main", name="Sheet")).to_contain_text("8.00 mm too small")
        self.current(page)
        self.assertEqual(self.sizing(number)["z_plus"], -8.0)
        # By keys, both sides alike.
        page.get_by_role("button", name="Pull side y+").press("Shift+ArrowUp")
        expect(page.get_by_label("Margin y+")).to_contain_text("5.5")
        self.current(page)
        kept = self.sizing(number)
        self.assertEqual((kept["y_minus"], kept["y_plus"]), (5.5, 5.5))

    def test_size_and_margins_the_third_follows(self):
        page = self.page
        number = self.made("Sides")
        page.get_by_role("radio", name="margins").click()
        height = page.get_by_label("Z size")
        expect(height).to_have_value("27")
        height.fill("1.375in")
        height.press("Enter")
        self.current(page)
        # The margin on top stays: what was under the part follows.
        expect(page.get_by_label("Z z−")).to_have_value("12.925")
        page.get_by_label("Z z+").fill(".100 in")
        page.get_by_label("Z z+").press("Enter")
        self.current(page)
        expect(page.get_by_label("Z z−")).to_have_value("12.385")
        self.assertEqual(self.sizing(number)["z"], {"size": 34.925, "below": None, "above": 2.54})
        page.get_by_label("Z z+").fill("-40")
        page.get_by_label("Z z+").press("Enter")
        expect(page.get_by_role("main", name="Sheet")).to_contain_text("40.00 mm too small")
