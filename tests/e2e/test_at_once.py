"""What is shown at once: names, the billet while it is typed, an operation as its kind asks for it."""

from __future__ import annotations

import json
import os
import re
import signal
import unittest
from urllib.parse import parse_qs, urlsplit

from playwright.sync_api import expect

from tests import solids
from tests.e2e.browser import Browser
from tests.serving import wait


class AtOnce(Browser):
    def test_a_name_is_there_at_once_and_nothing_is_computed(self):
        number = self.new_project("names", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10")
        self.stage(page, "Cut")
        name = sheet.get_by_label("Setup name")
        for wrong, said in (("A B", "1 to 20 letters"), ("", "1 to 20 letters")):
            name.fill(wrong)
            name.press("Enter")
            expect(sheet.get_by_role("alert")).to_contain_text(said)
            expect(name).to_have_value(wrong)  # what was typed stays
        workers = self.server.workers()
        for one in workers:
            os.kill(one, signal.SIGSTOP)
        try:
            name.fill("OP70")
            name.press("Enter")
            card = page.get_by_role("navigation", name="Route").get_by_role("button", name="OP70", exact=True)
            expect(card).to_be_visible()
            # Its picture stays, and is not said to be out of date.
            expect(card.locator("img")).to_be_visible()
            expect(page.get_by_text("out of date")).to_have_count(0)
        finally:
            for one in workers:
                os.kill(one, signal.SIGCONT)
        self.current(page)
        with self.server.client() as client:
            report = client.get(f"/api/projects/{number}").json()["report"]
        self.assertEqual((report["setups"][0]["name"], report["computed"]), ("OP70", []))

    def test_edits_made_before_an_answer_are_all_kept(self):
        """Two values, one of them typed twice, and what was done last taken back, all before the server has
        answered the first.
        """
        number = self.new_project("quick", solids.box((0, 0, 0), (40, 30, 12)))
        page, held = self.page, []
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "Billet")

        def typed(label: str, value: str) -> None:
            field = sheet.get_by_label(label)
            field.fill(value)
            field.press("Enter")

        typed("Back y+", "4")
        self.current(page)
        page.route("**/plan", lambda route: held.append(route))
        for label, value in (("Under z−", "8"), ("Top z+", "7"), ("Top z+", "9"), ("Front y−", "6")):
            typed(label, value)
        page.get_by_role("button", name="Undo").click()
        for answered in range(4):
            while len(held) <= answered:
                page.wait_for_timeout(20)
            held[answered].continue_()
        self.current(page)
        # A revision gone back to is the newest again, whatever was made of it before.
        page.unroute("**/plan")
        typed("Left x−", "3")
        self.current(page)
        expect(page.get_by_role("alert")).to_have_count(0)
        with self.server.client() as client:
            sizing = client.get(f"/api/projects/{number}").json()["plan"]["billet"]["sizing"]
        kept = [sizing[name] for name in ("z_minus", "z_plus", "y_minus", "y_plus", "x_minus")]
        self.assertEqual(kept, [8, 9, 5, 4, 3])

    def test_what_ended_before_the_page_heard_of_it_is_shown(self):
        """The first answer says it is being computed; it ends before the page's events have begun."""
        number = self.new_project("unheard", solids.box((0, 0, 0), (40, 30, 12)))
        asked, held = [], []

        def late(route):
            answer = route.fetch()
            state = answer.json()
            if not asked:
                state["evaluation"] |= {"status": "running", "what": "surface", "share": 0.5}
            asked.append(state)
            route.fulfill(response=answer, json=state)

        page = self.open()
        page.route("**/api/events", lambda route: held.append(route))
        page.route(f"**/api/projects/{number}", late)
        self.go(page, f"/project/{number}")
        status = page.get_by_role("status", name="Computing")
        expect(status).to_contain_text("surface")
        held[0].continue_()
        expect(status).to_have_text("current")
        page.context.close()

    def test_what_ends_while_the_first_answer_is_on_its_way_is_shown(self):
        """Asked for while it is computed, answered after the event that says it has ended: that answer is
        old, and no other event comes.
        """
        number = self.new_project("overtaken", solids.box((0, 0, 0), (40, 30, 12)))
        page, held = self.open(), []

        def first(route):
            held.append((route, answer := route.fetch()))
            if len(held) > 1:
                route.fulfill(response=answer)

        page.route(f"**/api/projects/{number}", first)
        self.go(page, f"/project/{number}")
        while not held:
            page.wait_for_timeout(20)
        with self.server.client() as client:
            client.post(f"/api/projects/{number}/run").raise_for_status()
            wait(client, number)
        page.wait_for_timeout(1000)  # by then the page has heard of it
        route, answer = held[0]
        old = answer.json()
        old["evaluation"] |= {"status": "running", "what": "surface", "share": 0.5}
        route.fulfill(response=answer, json=old)
        page.wait_for_timeout(200)
        expect(page.get_by_role("status", name="Computing")).to_have_text("current")
        page.context.close()

    def test_a_billet_is_drawn_before_a_worker_answers(self):
        self.new_project("quick", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        self.card(page, "Billet")
        workers = self.server.workers()
        for one in workers:
            os.kill(one, signal.SIGSTOP)
        try:
            with page.expect_response(lambda answer: "/billet.glb" in answer.url and answer.ok):
                page.get_by_role("main", name="Sheet").get_by_label("Right x+").fill("25")
                page.keyboard.press("Enter")
            expect(page.get_by_label("Bench").get_by_text("billet, not computed yet")).to_be_visible()
        finally:
            for one in workers:
                os.kill(one, signal.SIGCONT)
        self.current(page)
        expect(page.get_by_label("Bench").get_by_text("billet", exact=True)).to_be_visible()

    def test_a_billet_grows_while_it_is_typed(self):
        number = self.new_project("grows", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        self.card(page, "Billet")
        bench = page.get_by_label("Bench")
        field = page.get_by_role("main", name="Sheet").get_by_label("Right x+")
        before = field.input_value()
        for typed, comes_to in (("25", 25), ("20+12", 32)):
            with page.expect_response(lambda answer: "/billet.glb" in answer.url and answer.ok) as drawn:
                field.fill(typed)
            asked = json.loads(parse_qs(urlsplit(drawn.value.url).query)["billet"][0])
            self.assertEqual(asked["sizing"]["x_plus"], comes_to)
            expect(bench.get_by_text("billet as typed, not kept yet")).to_be_visible()
        with self.server.client() as client:
            self.assertEqual(client.get(f"/api/projects/{number}").json()["revision"], 1)
        page.keyboard.press("Escape")
        expect(field).to_have_value(before)
        expect(bench.get_by_text("billet", exact=True)).to_be_visible()

    def test_a_fixture_moves_while_it_is_typed(self):
        """Drawn from the plan before any worker answers; kept, it stands marked until it is computed."""
        number = self.new_project("holds", solids.box((0, 0, 0), (40, 30, 12)))
        page = self.page
        sheet = page.get_by_role("main", name="Sheet")
        self.card(page, "OP10 ")
        self.stage(page, "Hold")
        sheet.get_by_role("button", name="vise, hard jaws, parallels").click()
        self.current(page)
        sheet.get_by_role("button", name=re.compile("Parallels")).click()
        bench, field = page.get_by_label("Bench"), sheet.get_by_label("parallels Along")
        workers = self.server.workers()
        for one in workers:
            os.kill(one, signal.SIGSTOP)
        try:
            before = self.settled(page)
            with page.expect_response(lambda answer: "/holding.glb" in answer.url and answer.ok) as drawn:
                field.fill("12")
            asked = json.loads(parse_qs(urlsplit(drawn.value.url).query)["hold"][0])
            self.assertEqual([one["x"] for one in asked["items"] if one["id"] == "parallels"], [12])
            expect(bench.get_by_text("holding as typed, not kept yet")).to_be_visible()
            self.other_picture(page, before)
            field.press("Enter")
            expect(bench.get_by_text("holding, not computed yet")).to_be_visible()
        finally:
            for one in workers:
                os.kill(one, signal.SIGCONT)
        self.current(page)
        expect(bench.get_by_text("holding, not computed yet")).not_to_be_visible()
        with self.server.client() as client:
            items = client.get(f"/api/projects/{number}").json()["plan"]["setups"][0]["hold"]["items"]
        self.assertEqual([one["x"] for one in items if one["id"] == "parallels"], [12])

    def test_an_operation_is_asked_for_as_its_kind_says(self):
        block = solids.box((0, 0, 0), (40, 30, 14))
        number = self.new_project("asked", solids.minus(block, solids.cylinder((20, 15, -1), 5, 20)))
        page = self.page
        with self.server.client() as client:
            wall = client.get(f"/api/projects/{number}").json()["plan"]["part"]["sha256"]
            faces = client.get(f"/api/parts/{wall}/facts").json()["faces"]
            hole = next(face for face in faces if face["kind"] == "cylinder")
            ref = {"face": hole["number"], "at": hole["centre"]}
            told = {"kind": "drilling", "cycle": "peck", "faces": [ref]}
            made = client.post(
                f"/api/projects/{number}/draft", json={"setup": "OP10", "operation": told}
            ).json()
            state = client.get(f"/api/projects/{number}").json()
            plan = state["plan"]
            plan["tools"] += [made["tool"]] if made["tool"] else []
            plan["setups"][0]["operations"].append(made["operation"])
            edit = {"based_on": state["revision"], "what": "hole", "plan": plan}
            client.put(f"/api/projects/{number}/plan", json=edit).raise_for_status()
        self.go(page, f"/project/{number}")
        self.current(page)
        self.card(page, "OP10 ")
        self.stage(page, "Cut")
        sheet = page.get_by_role("main", name="Sheet")
        sheet.get_by_role("button", name="Drilling 1", exact=True).click()
        # What has no say is not asked for: a peck's depth for pecking, a chamfer for a spot.
        expect(sheet.get_by_label("Peck", exact=True)).to_have_value("3")
        expect(sheet.get_by_label("Chamfer Ø")).to_have_count(0)
        sheet.get_by_role("radio", name="spot").click()
        chamfer = sheet.get_by_label("Chamfer Ø")
        expect(chamfer).to_have_attribute("placeholder", "hole + 1")
        expect(sheet.get_by_label("Peck", exact=True)).to_have_count(0)
        # Another cycle brought a tool that can do it; too wide a chamfer stands by its field and is not kept.
        expect(sheet.get_by_role("combobox", name="Tool")).to_have_value(re.compile("spot drill"))
        chamfer.fill("-1")
        chamfer.press("Enter")
        expect(sheet.get_by_role("alert")).to_contain_text("has to be above 0")
        expect(chamfer).to_have_value("-1")
        expect(sheet.get_by_label("Retract", exact=True)).to_have_value("2")


if __name__ == "__main__":
    unittest.main()
