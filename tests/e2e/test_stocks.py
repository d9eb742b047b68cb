"""The stock a setup begins with, chosen on the page; one operation run alone; stocks saved."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests.e2e.browser import Browser
from tests.serving import shared, wait
from tests.solids import volumes_of_step

CHOSEN = re.compile("^begins with a chosen stock")


class Stocks(Browser):
    """On a copy of the demo."""

    def test_an_earlier_moment_is_chosen_and_left_again(self):
        page = self.page
        self.go(page, f"/project/{self.coarse_copy()}")
        self.card(page, "OP30 Sensor and end face")
        self.stage(page, "Incoming")
        carried = self.settled(page)
        page.get_by_role("button", name="Begins with").click()
        page.get_by_role("option", name="an earlier moment").click()
        moment = page.get_by_role("combobox", name="Moment")
        moment.fill("rough relief")
        page.get_by_role("option", name="after OP20 Rough relief pocket").click()
        self.current(page)
        rail = page.get_by_role("navigation", name="Route")
        expect(rail.get_by_role("img", name=CHOSEN)).to_have_attribute(
            "title", "begins with a chosen stock: after OP20 Rough relief pocket"
        )
        expect(page.get_by_label("Bench")).to_contain_text("begins with a chosen stock")
        sheet = page.get_by_role("main", name="Sheet")
        expect(sheet).to_contain_text("more than carried")
        self.other_picture(page, carried)
        # The comparison comes from it too, and says so.
        self.card(page, "Part rev C")
        self.card(page, "OP30 Sensor and end face")
        sheet.get_by_role("button", name="Take what was carried").click()
        expect(rail.get_by_role("img", name=CHOSEN)).to_have_count(0)
        expect(page.get_by_role("button", name="Begins with")).to_contain_text("what is carried")
        self.current(page)

    def test_a_stock_of_another_plan(self):
        page = self.page
        number = self.demo_copy()
        self.go(page, f"/project/{number}")
        self.card(page, "OP30 Sensor and end face")
        self.stage(page, "Incoming")
        page.get_by_role("button", name="Begins with").click()
        page.get_by_role("option", name="a stock of another plan").click()
        page.get_by_role("button", name="Plan", exact=True).click()
        page.get_by_role("option", name="Sluice-gate encoder housing", exact=True).click()
        stock = page.get_by_role("combobox", name="Its stock")
        stock.fill("OP20 leaves")
        page.get_by_role("option", name="as OP20 leaves it").click()
        page.get_by_role("button", name="Begin with it").click()
        sheet = page.get_by_role("main", name="Sheet")
        expect(sheet).to_contain_text("Sluice-gate encoder housing: OP20 outgoing.rays")
        self.current(page)
        expect(sheet).to_contain_text("no other than what is carried")
        with self.server.client() as client:
            report = client.get(f"/api/projects/{number}").json()["report"]
        # Of 266,000 mm³; drawn without who cut what, the same rays' surface is a little another.
        self.assertLess(report["setups"][3]["incoming"]["more_mm3"], 20.0)

    def test_an_operation_alone_and_a_stock_saved(self):
        page = self.page
        self.go(page, "/project/1")
        self.card(page, "OP10 Top")
        self.stage(page, "Cut")
        sheet = page.get_by_role("main", name="Sheet")
        sheet.get_by_role("button", name=re.compile("^Seal seat")).click()
        sheet.get_by_role("button", name="+ Alone, on another stock").click()
        # Alone the seat takes what the rough bore would have taken too: all of its Ø52, 6 deep.
        sheet.get_by_role("button", name="Run it alone").click()
        expect(page.get_by_label("Bench")).to_contain_text("Seal seat alone, the billet")
        expect(sheet).to_contain_text(re.compile(r"1[2-9]\.\d+ cm³ of 608\.4"))
        self.stage(page, "Outgoing")
        sheet.get_by_role("button", name=re.compile("^Face top")).click()
        with page.expect_download() as saved:
            sheet.get_by_role("link", name="STEP").click()
        self.assertEqual(saved.value.suggested_filename, "OP10-after-1.step")
        [volume] = volumes_of_step(saved.value.path().read_bytes())
        self.assertAlmostEqual(volume, 130 * 90 * (52 - 1.5), delta=1.0)

    def test_all_setups_beside_each_other(self):
        """As stock goes out and as it comes in are two pictures; a setup's name leads to it."""
        page = self.page
        with self.server.client() as client:
            setups = wait(client, 1)["report"]["setups"]
        self.go(page, "/project/1")
        self.card(page, "OP10 Top")
        page.get_by_role("button", name="all beside").click()
        bench = page.get_by_label("Bench")
        for one in setups:
            volume = f"{one['outgoing_volume_mm3'] / 1000:.1f}".rstrip("0").rstrip(".")
            expect(bench.get_by_role("button", name=f"{one['name']} {volume} cm³")).to_be_visible()
        page.wait_for_timeout(1500)
        before = bench.screenshot()
        bench.get_by_role("radio", name="as it comes in").click()
        page.wait_for_timeout(1500)
        self.assertNotEqual(bench.screenshot(), before)
        bench.get_by_role("button", name="OP20 ").filter(has_not_text="JAWS").click()
        expect(page.get_by_role("group", name="Look from")).to_be_visible()
        expect(
            page.get_by_role("navigation", name="Route").get_by_role(
                "button", name="OP20 Underneath", exact=True
            )
        ).to_have_attribute("aria-current", "true")


class Server(unittest.TestCase):
    def test_what_is_not_there_is_refused(self):
        with shared().client() as client:
            wait(client, 1)
            for path, body, code in (
                ("stock", {"setup": "OP99"}, "project.not_computed"),
                ("stock", {"setup": "OP10", "after": "none"}, "stock.no_moment"),
                ("alone/OP99", {}, "setup.unknown"),
                ("alone/OP10", {"operation": "none"}, "operation.unknown"),
            ):
                answer = client.post(f"/api/projects/1/{path}", json=body)
                self.assertEqual(answer.json()["code"], code)
                self.assertGreaterEqual(answer.status_code, 400)
            strange = client.get("/api/projects/1/files/OP10/stock.obj")
            self.assertEqual(strange.status_code, 422)
