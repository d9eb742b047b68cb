"""What the page asks for at the stage Cut: tools, templates, chains, drawings, who cuts what."""

from __future__ import annotations

import unittest

from tests.serving import shared, wait


class Cutting(unittest.TestCase):
    """What the page asks for at the stage Cut."""

    def test_who_cuts_what_over_the_route(self):
        with shared().client() as client:
            wait(client, 1)
            rows = client.get("/api/projects/1/cut_by").json()
            plan = client.get("/api/projects/1").json()["plan"]
        by = {one["what"].split(",")[0]: [(b["setup"], b["name"]) for b in one["by"]] for one in rows}
        self.assertEqual(
            by["hole Ø8 (8.000 … 8.015)"][:3],
            [("OP10", "Spot dowels"), ("OP10", "Drill dowels"), ("OP10", "Ream dowels 8 H7")],
        )
        # The demo's part is finished: nothing stands, and every face is somebody's.
        self.assertEqual({one["state"] for one in rows}, {"cut"})
        self.assertTrue(all(one["by"] for one in rows))
        known = {one["name"] for setup in plan["setups"] for one in setup["operations"]}
        self.assertTrue({name for row in by.values() for _, name in row} <= known)

    def test_time_in_cut_and_what_goes_into_the_changer(self):
        with shared().client() as client:
            state = wait(client, 1)
            told = client.get("/api/projects/1/changer").json()
        cut = {one["tool"]: one["in_cut_s"] for one in told["uses"]}
        operations = [one for setup in state["report"]["setups"] for one in setup["operations"]]
        for tool, seconds in cut.items():
            own = [one for one in operations if one["tool"] == tool]
            self.assertAlmostEqual(seconds, sum(one["in_cut_s"] for one in own), places=3)
            self.assertLessEqual(seconds, sum(one["moving_s"] for one in own) + 1e-6)
        first = [one for one in told["changes"] if one["setup"] == "OP10"]
        self.assertTrue(first and all(one["taken"] is None for one in first))

    def test_a_tool_is_drawn_or_refused_with_its_field(self):
        with shared().client() as client:
            tool = client.get("/api/tools").json()[0]
            drawn = client.post("/api/tools/picture", json=tool).json()
            self.assertEqual(
                drawn["length"], tool["overhang"] + sum(step[0] for step in tool["holder"]["stack"])
            )
            wide = max(r for part in drawn["parts"] if part["name"] == "cutter" for r, _ in part["outline"])
            self.assertEqual(2 * wide, tool["DC"])
            wrong = client.post("/api/tools/picture", json=tool | {"overhang": 1})
            self.assertEqual(wrong.status_code, 422)
            self.assertIn("longer than the overhang", wrong.json()["what"])

    def test_a_drawing_is_read_or_refused(self):
        text = "0\nSECTION\n2\nENTITIES\n0\nLINE\n8\n0\n10\n0\n20\n0\n11\n25.4\n21\n0\n0\nENDSEC\n0\nEOF\n"
        with shared().client() as client:
            read = client.post("/api/drawings/read", files={"file": ("a.dxf", text.encode())}).json()
            self.assertEqual(read["lines"], [[[0.0, 0.0], [25.4, 0.0]]])
            wrong = client.post("/api/drawings/read", files={"file": ("a.dxf", b"no drawing")})
            self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "outline.unreadable"))
            long = client.post("/api/drawings/read", files={"file": ("a.dxf", b"0\n" * 10_000_001)})
            self.assertEqual((long.status_code, long.json()["code"]), (413, "request.too_large"))

    def test_chains_are_the_shops(self):
        with shared().client() as client:
            answer = client.get("/api/chains")
            rules, tag = answer.json(), answer.headers["etag"]
            own = {**rules, "chains": [one for one in rules["chains"] if one["id"] != "deep"]}
            kept = client.put("/api/chains", json=own, headers={"If-Match": tag})
            self.assertEqual((kept.status_code, kept.json()), (200, own))
            late = client.put("/api/chains", json=rules, headers={"If-Match": tag})
            self.assertEqual((late.status_code, late.json()["code"]), (409, "library.stale"))
            wrong = {**rules, "chains": [{**rules["chains"][0], "steps": ["tap"]}]}
            refused = client.put("/api/chains", json=wrong)
            self.assertEqual(refused.status_code, 422)
            self.assertIn("“tap” would go into solid metal", refused.json()["what"])
            self.assertEqual(client.get("/api/chains").json(), own)
            self.assertEqual(client.delete("/api/chains").json(), rules)
            self.assertEqual(client.get("/api/chains").json(), rules)

    def test_what_is_said_of_a_face_without_a_size(self):
        with shared().client() as client:
            rough = client.get("/api/callout", params={"text": "Ra 1.6"}).json()
            self.assertEqual((rough["kind"], rough["ra_um"]), ("surface", 1.6))
            wrong = client.get("/api/callout", params={"text": "H7"})
            self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "tolerance.no_size"))

    def test_times_of_what_is_offered_are_asked_for(self):
        with shared().client() as client:
            state = wait(client, 1)
            tool = next(one for one in state["plan"]["tools"] if one["kind"] == "face_mill")
            told = {"kind": "facing", "name": "Face", "tool": tool["id"], "finish": "finish"}
            step = {"told": told, "tool": tool, "finish": "finish"}
            where = "/api/projects/1/cuttable/OP10/times"
            (one,) = client.post(where, json={"steps": [step]}).json()
            faced = state["report"]["setups"][0]["operations"][0]
            # The demo's own facing goes on the same stock; another depth, another time.
            self.assertGreater(one["seconds"], faced["moving_s"] / 4)
            self.assertLess(one["seconds"], faced["moving_s"] * 4)
            for asked, code in (
                ({"steps": [step], "position": "P9"}, "plan.unknown_position"),
                ({"steps": [step | {"told": told | {"kind": "sawing"}}]}, "plan.unknown_kind"),
                ({"steps": [step] * 21}, "request.invalid"),
            ):
                refused = client.post(where, json=asked)
                self.assertEqual((refused.status_code, refused.json()["code"]), (422, code), asked)

    def test_templates_are_kept_and_used(self):
        with shared().client() as client:
            plan = client.get("/api/projects/1").json()["plan"]
            own = next(one for one in plan["setups"][0]["operations"] if one["name"] == "Drill M6")
            tools = [tool for tool in plan["tools"] if tool["id"] == own["tool"]]
            kept = {"id": "m6", "name": "M6 drilled", "operations": [own], "tools": tools}
            put = client.put("/api/templates", json=[kept])
            self.assertEqual((put.status_code, len(put.json())), (200, 1))
            self.assertEqual(
                client.put("/api/templates", json=[kept, kept]).json()["code"], "templates.library"
            )
            stale = client.put("/api/templates", json=[], headers={"If-Match": '"0"'})
            self.assertEqual(stale.json()["code"], "library.stale")
            wanted = {"template": "m6", "setup": "OP20", "faces": own["faces"][:1]}
            cure = client.post("/api/projects/1/from_template", json=wanted).json()
            # The plan has the tool already.
            self.assertEqual([edit["to"] for edit in cure["edits"]], ["operations"])
            gone = client.post("/api/projects/1/from_template", json=wanted | {"template": "x"})
            self.assertEqual((gone.status_code, gone.json()["code"]), (404, "templates.unknown"))
            self.assertEqual(client.put("/api/templates", json=[]).status_code, 200)


if __name__ == "__main__":
    unittest.main()
