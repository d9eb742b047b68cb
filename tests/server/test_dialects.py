"""Dialects: in the shop's library, from files, in a plan, and what a change of one costs."""

from __future__ import annotations

import copy
import json
import unittest

from tests.serving import shared, wait


class DialectsTest(unittest.TestCase):
    def test_kept_for_the_shop(self):
        with shared().client() as client:
            shipped = client.get("/api/library").json()
            self.assertEqual([one["id"] for one in shipped["dialects"]], ["extended", "plain", "strict"])
            forms = {one["kind"]: one["fields"]["properties"] for one in shipped["dialect_forms"]}
            self.assertEqual(forms["strict"]["arcs"]["default"], "radius")
            ours = {**shipped["dialects"][1], "id": "ours", "name": "Bay 3", "decimals": 4}
            try:
                self.assertEqual(client.put("/api/dialects", json=[ours]).status_code, 200)
                self.assertEqual(client.get("/api/dialects").json(), [ours])
                stale = client.put("/api/dialects", json=[], headers={"If-Match": '"0"'})
                self.assertEqual((stale.status_code, stale.json()["code"]), (409, "library.stale"))
                for wrong in ([ours, ours], [shipped["dialects"][0]]):
                    refused = client.put("/api/dialects", json=wrong)
                    self.assertEqual((refused.status_code, refused.json()["code"]), (422, "dialects.library"))
                self.assertEqual(client.put("/api/dialects", json=[{**ours, "decimals": 9}]).status_code, 422)
            finally:
                client.put("/api/dialects", json=[])

    def test_from_a_file(self):
        with shared().client() as client:
            one = client.get("/api/library").json()["dialects"][2]
            send = lambda text: client.post("/api/dialects.json", files={"file": ("d.json", text)})  # noqa: E731
            self.assertEqual(send(json.dumps(one)).json(), one)
            for text, said in (
                ("{", "dialect.unreadable"),
                (json.dumps({**one, "arcs": "by hand"}), "dialect.invalid"),
            ):
                refused = send(text)
                self.assertEqual((refused.status_code, refused.json()["code"]), (422, said))

    def test_a_plan_written_in_another(self):
        """Another text, proved; the stock of no setup is cut anew."""
        with shared().client() as client:
            before = wait(client, 1)
            plan = copy.deepcopy(before["plan"])
            used = {setup["machine"] for setup in plan["setups"]}
            shipped = client.get("/api/library").json()
            plan["machines"] = [
                {**one, "control": {**one["control"], "dialect": "bay"}}
                for one in shipped["machines"]
                if one["id"] in used
            ]
            plan["dialects"] = [{**shipped["dialects"][2], "id": "bay", "name": "Bay"}]
            url = "/api/projects/1/plan"
            put = client.put(url, json={"based_on": before["revision"], "what": "dialect", "plan": plan})
            self.assertEqual(put.status_code, 200, put.text)
            try:
                after = wait(client, 1)
                for one, two in zip(before["report"]["setups"], after["report"]["setups"], strict=True):
                    self.assertEqual(one["outgoing_key"], two["outgoing_key"])
                    self.assertNotEqual(one["program_key"], two["program_key"])
                    self.assertTrue(two["proof"]["equal"])
                found = [
                    one
                    for one in after["report"]["setups"][0]["findings"]
                    if one["code"] == "program.dialect"
                ]
                self.assertEqual(len(found), 1)
                text = client.get(
                    f"/api/results/{after['report']['setups'][0]['program_key']}/program.nc"
                ).text
                self.assertIn("G91 G28 Z0.000", text)
            finally:
                now = client.get("/api/projects/1").json()["revision"]
                told = {"based_on": now, "what": "as it was", "plan": before["plan"]}
                self.assertEqual(client.put(url, json=told).status_code, 200)
                wait(client, 1)


if __name__ == "__main__":
    unittest.main()
