"""A program is proved, run in step with the picture, changed by hand, and brought in from elsewhere."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

import httpx
from playwright.sync_api import Page, expect

from tests.e2e.browser import Browser


class Prove(Browser):
    def copied(self) -> int:
        """A copy of the demo to be changed; its number."""
        number = self.coarse_copy()
        self.go(self.page, f"/project/{number}")
        self.current(self.page)
        return number

    def prove(self, card: str) -> None:
        self.card(self.page, card)
        self.stage(self.page, "Prove-out")

    def state(self, number: int) -> dict:
        return httpx.get(f"{self.server.url}/api/projects/{number}").json()

    def here(self, page: Page) -> str:
        return page.locator(".cm-line[aria-current=true]").text_content() or ""

    def test_run_in_step(self):
        page = self.page
        self.go(page, "/project/1")
        self.current(page)
        self.prove("OP10 Top")
        sheet = page.get_by_role("main", name="Sheet")
        expect(sheet).to_contain_text("the planned stock")
        expect(sheet.get_by_text(re.compile(r"^\d+:\d\d, planned \d+:\d\d$"))).to_be_visible()
        expect(page.get_by_label("Program text")).to_contain_text("O0010 (OP10 TOP)")
        # Block after block: where the control says it is, is what the text says.
        block = page.get_by_role("button", name="one block", exact=True)
        block.click()
        expect(page.locator(".cm-line[aria-current=true]")).to_have_text(re.compile("^N10 "))
        seen = 0
        for _ in range(25):
            page.keyboard.press("n")
            line = self.here(page)
            for axis, value in re.findall(r"([XYZ])(-?[\d.]+)", "" if "G53" in line else line):
                expect(page.get_by_test_id(f"axis-{axis}")).to_have_text(f"{float(value):.3f}")
                seen += 1
        self.assertGreater(seen, 8)
        state = page.get_by_label("As the control stands")
        expect(state).to_contain_text("G54")
        expect(state).to_contain_text("T")
        picture = self.settled(page)
        # A mark in the margin: to it, and it stops a run.
        text = page.locator(".cm-scroller")
        text.evaluate("e => e.scrollTop = 2600")
        top = text.bounding_box()["y"] + 60
        box, marked = next(
            (box, line.text_content())
            for line in page.locator(".cm-line").all()
            if (box := line.bounding_box())["y"] > top
        )
        page.mouse.click(box["x"] - 12, box["y"] + 8)
        page.get_by_role("button", name="to the mark").click()
        expect(page.locator(".cm-line[aria-current=true]")).to_have_text(marked)
        picture = self.other_picture(page, picture)
        page.get_by_role("button", name="one block", exact=True).click()
        self.assertNotEqual(self.here(page), marked)
        # A click on a line goes to its moment.
        page.mouse.click(box["x"] + 40, box["y"] - 30)
        expect(page.locator(".cm-line[aria-current=true]")).not_to_have_text(marked)
        page.get_by_role("button", name="×60").click()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("button", name="Run", exact=True)).to_be_visible(timeout=30_000)
        expect(page.locator(".cm-line[aria-current=true]")).to_have_text(marked)
        # Its height is dragged, and stays.
        before = page.get_by_label("Dock", exact=True).bounding_box()["height"]
        grip = page.get_by_role("separator", name="Height of the dock").bounding_box()
        page.mouse.move(grip["x"] + 300, grip["y"] + 3)
        page.mouse.down()
        page.mouse.move(grip["x"] + 300, grip["y"] - 60, steps=8)
        page.mouse.up()
        after = page.get_by_label("Dock", exact=True).bounding_box()["height"]
        self.assertGreater(after, before + 40)
        page.reload()
        self.prove("OP10 Top")
        expect(page.get_by_label("Program text")).to_be_visible()
        self.assertAlmostEqual(page.get_by_label("Dock", exact=True).bounding_box()["height"], after, delta=2)

    def test_in_another_dialect(self):
        """Another is taken, one of its settings is changed, and it is kept for the shop."""
        page, number = self.page, self.copied()
        self.prove("OP10 Top")
        sheet = page.get_by_role("main", name="Sheet")
        text = page.get_by_label("Program text")
        sheet.get_by_role("button", name="Dialect", exact=True).click()
        page.get_by_role("option", name="Strict").click()
        expect(text).to_contain_text("G91 G28 Z0.000", timeout=60_000)
        self.current(page)
        expect(sheet).to_contain_text("the planned stock")
        # Tapping wants a cycle.
        route = page.get_by_role("navigation", name="Route")
        expect(route.get_by_role("button", name="OP10 Top")).to_contain_text("dialect")
        sheet.get_by_role("button", name="Edit the dialect").click()
        sheet.get_by_role("checkbox", name="All decimals").click()
        expect(text).not_to_contain_text("Z0.000", timeout=60_000)
        expect(sheet.get_by_label("Dialect name")).to_have_value("Strict, ours")
        sheet.get_by_label("Dialect name").fill("Bay 3")
        page.keyboard.press("Enter")
        expect(sheet.get_by_role("button", name="Dialect", exact=True)).to_contain_text("Bay 3")
        # Words that are none are refused where they stand.
        sheet.get_by_label("Flood").fill("on")
        page.keyboard.press("Enter")
        expect(sheet.get_by_label("Flood")).to_have_attribute("aria-invalid", "true")
        page.keyboard.press("Escape")
        try:
            sheet.get_by_role("button", name="keep for the shop").click()
            expect(sheet.get_by_role("button", name="keep for the shop")).to_have_count(0)
            plan = self.state(number)["plan"]
            self.assertEqual([one["name"] for one in plan["dialects"]], ["Bay 3"])
            self.go(page, "/project/1")
            self.current(page)
            self.prove("OP10 Top")
            sheet.get_by_role("button", name="Dialect", exact=True).click()
            expect(page.get_by_role("option", name="Bay 3")).to_contain_text("the shop’s")
        finally:
            httpx.put(f"{self.server.url}/api/dialects", json=[], headers={"x-pelvrak": "1"})

    def test_a_place_tells_its_line(self):
        """A click on the floor of the bore: the text goes to the line that cut it."""
        page = self.page
        self.go(page, "/project/1")
        self.current(page)
        self.prove("OP10 Top")
        page.get_by_role("button", name="Spindle", exact=True).click()
        self.settled(page)
        bench = page.get_by_label("Bench").bounding_box()
        with page.expect_response(re.compile("/cut-at")) as answer:
            page.mouse.click(bench["x"] + bench["width"] * 0.5, bench["y"] + bench["height"] * 0.42)
        self.assertIsNotNone(answer.value.json()["seconds"])
        line = page.locator(".cm-line[aria-current=true]")
        expect(line).to_have_text(re.compile(r"^N\d+ "))

    def test_set_up_wrongly(self):
        """The work 0.7 mm to the left: every wall is off by that; right again, the picture is as it was."""
        page = self.page
        self.go(page, "/project/1")
        self.current(page)
        self.prove("OP20 Underneath")
        before = self.settled(page)
        wrongly = page.get_by_label("Run it otherwise")
        field = wrongly.get_by_label("work to the left")
        field.fill("70")
        field.press("Enter")
        wrongly.get_by_role("button", name="see what it does").click()
        expect(wrongly.get_by_role("alert")).to_be_visible()
        field.fill("0.7")
        field.press("Enter")
        wrongly.get_by_role("button", name="see what it does").click()
        told = wrongly.get_by_role("status", name="What it does")
        expect(told).to_contain_text(re.compile(r"^0\.[67]\d* mm from the plan"), timeout=60_000)
        expect(page.get_by_text("OP20 run otherwise")).to_be_visible()
        self.other_picture(page, before)
        wrongly.get_by_role("button", name="set it right again").click()
        expect(page.get_by_text("OP20 run otherwise")).to_have_count(0)

    def text_of(self, number: int) -> str:
        """The text that the last setup runs."""
        told = self.state(number)["report"]["setups"][-1]
        with self.server.client() as client:
            return client.get(f"/api/results/{told['program_key']}/program.nc").text

    def test_a_line_is_changed_by_hand(self):
        page, number = self.page, self.copied()
        self.prove("OP30 Sensor and end face")
        expect(page.get_by_label("Program text")).to_contain_text("O0030")
        page.get_by_role("button", name="change the text").click()
        page.locator(".cm-scroller").evaluate("e => e.scrollTop = 300")
        line = page.locator(".cm-line", has_text=re.compile(r"^N180 G1 Z14")).first
        line.click()
        page.keyboard.press("End")
        page.keyboard.press("Home")
        page.keyboard.press("Shift+End")
        page.keyboard.type("N180 G1 Z13.2 F800")
        # What is typed outlives a page that is left.
        page.reload()
        self.current(page)
        self.prove("OP30 Sensor and end face")
        page.get_by_role("button", name="change the text").click()
        page.locator(".cm-scroller").evaluate("e => e.scrollTop = 300")
        expect(page.get_by_text("N180 G1 Z13.2 F800")).to_be_visible()
        page.get_by_role("button", name="keep and prove").click()
        other = page.get_by_role("group", name="Against")
        self.current(page)
        sheet = page.get_by_role("main", name="Sheet")
        expect(sheet).to_contain_text("changed by hand")
        expect(sheet).to_contain_text("another stock")
        expect(sheet.get_by_label("Findings of this stage")).to_contain_text("leaves another stock")
        other.get_by_label("Another text").click()
        page.get_by_role("option", name="the written one").click()
        page.locator(".cm-scroller").evaluate("e => e.scrollTop = 300")
        expect(page.locator(".cm-deletedChunk").first).to_contain_text("N180 G1 Z14.")
        # What both cut: 14 less 13.2, and the same for a file that is the text itself.
        other.get_by_role("button", name="and what they cut").click()
        expect(other.get_by_role("status")).to_contain_text("0.8 mm apart")
        text = self.text_of(number)
        other.get_by_label("Another text").click()
        page.get_by_role("option", name="a file …").click()
        kept = {"name": "same.nc", "mimeType": "text/plain", "buffer": text.encode()}
        other.get_by_label("Another text file").set_input_files(kept)
        other.get_by_role("button", name="and what they cut").click()
        expect(other.get_by_role("status")).to_contain_text("0 mm apart")
        # The planned stock is carried on again, and the written program taken: nothing of it is left.
        sheet.get_by_label("the stock that the text leaves").click()
        self.current(page)
        told = self.state(number)["report"]["setups"][-1]
        self.assertEqual(told["outgoing_key"], told["planned_key"])
        expect(page.get_by_role("button", name=re.compile("0 errors, [1-9] warning"))).to_be_visible()
        sheet.get_by_role("button", name="take the written program", exact=True).click()
        expect(sheet).to_contain_text("as written")
        self.current(page)
        self.assertIsNone(self.state(number)["plan"]["setups"][-1]["text"])

    def test_from_elsewhere_into_the_next_setup(self):
        """A file cuts OP10 in place of its operations; the next setups begin with what it leaves. What is no
        text, and what the control would not run, are told.
        """
        page, number = self.page, self.copied()
        told = self.state(number)["report"]["setups"][0]
        url = f"{self.server.url}/api/results/{told['program_key']}/program.nc"
        text = httpx.get(url).text
        deeper = re.sub(r"(G1 Z-)20\.", r"\g<1>20.5", text)
        self.prove("OP10 Top")
        sheet = page.get_by_role("main", name="Sheet")
        with tempfile.TemporaryDirectory() as folder:
            for name, body in (
                ("picture.nc", b"\x00\x01PNG"),
                ("broken.nc", text.replace("G54\n", "G59\n", 1).encode()),
                ("deeper.nc", deeper.encode()),
            ):
                path = Path(folder) / name
                path.write_bytes(body)
                sheet.get_by_label("Bring in a program").set_input_files(path)
                if name == "picture.nc":
                    expect(sheet.get_by_role("alert")).to_contain_text("This is no text")
                    self.assertIsNone(self.state(number)["plan"]["setups"][0]["text"])
                elif name == "broken.nc":
                    expect(sheet).to_contain_text("broken.nc, from elsewhere")
                    self.current(page)
                    expect(sheet.get_by_label("Findings of this stage")).to_contain_text(
                        "G59 has not been set"
                    )
                else:
                    expect(sheet).to_contain_text("deeper.nc, from elsewhere")
                    self.current(page)
        setups = self.state(number)["report"]["setups"]
        self.assertEqual(setups[0]["operations"][0]["kind"], "text")
        self.assertNotEqual(setups[0]["outgoing_key"], told["outgoing_key"])
        self.assertEqual(setups[2]["incoming_key"], setups[0]["outgoing_key"])
        self.stage(page, "Cut")
        does = page.get_by_role("list", name="What the text does")
        expect(does.get_by_role("listitem").first).to_contain_text("FACE TOP")
        does.get_by_role("button").nth(1).click()
        expect(page.get_by_text(re.compile("^after ROUGH OUTLINE$"))).to_be_visible()
