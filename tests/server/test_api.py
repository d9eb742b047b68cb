"""The server on a real PostgreSQL with a real worker: revisions, refusals, jobs, restart."""

from __future__ import annotations

import contextlib
import copy
import io
import json
import socket
import threading
import time
import unittest

import numpy as np
import trimesh

from pelvrak.core.cutting.tools import tool_shelf
from tests import solids
from tests.serving import DEMO_STEP, Server, kill, shared, upload, wait


def small_project(client, name: str) -> dict:
    """A small part in a project of its own, computed."""
    data = solids.step_bytes(
        solids.minus(solids.box((0, 0, 0), (40, 30, 12)), solids.cylinder((20, 15, -1), 5, 20))
    )
    part = upload(client, data, "plate.step")
    state = client.post("/api/projects", json={"name": name, "sha256": part["sha256"]}).json()
    return wait(client, state["id"])


def edit(client, state: dict, change, what: str = "edit"):
    plan = copy.deepcopy(state["plan"])
    change(plan)
    return client.put(
        f"/api/projects/{state['id']}/plan", json={"based_on": state["revision"], "what": what, "plan": plan}
    )


def faced_finely(plan: dict) -> None:
    """Rays a tenth of a millimetre apart, and something to cut."""
    plan["resolution_mm"] = 0.1
    plan["tools"] = [tool_shelf()["em10"].model_dump(mode="json")]
    plan["setups"][0]["operations"] = [{"id": "face", "name": "Face", "kind": "facing", "tool": "em10"}]


class Demo(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.client = shared().client()

    @classmethod
    def tearDownClass(cls):
        cls.client.close()

    def test_demo_is_computed_and_its_pieces_are_there(self):
        state = wait(self.client, 1)
        self.assertEqual(state["evaluation"]["status"], "done")
        self.assertIsNone(state["stale_from"])
        report = state["report"]
        for key, piece, begins in (
            (report["billet"]["key"], "surface.glb", b"glTF"),
            (report["setups"][1]["outgoing_key"], "surface.glb", b"glTF"),
            (report["comparison"]["key"], "surface.glb", b"glTF"),
            (report["setups"][0]["program_key"], "program.nc", b"%\nO0010"),
            (state["stills"]["OP20"], "still.png", b"\x89PNG"),
        ):
            answer = self.client.get(f"/api/results/{key}/{piece}")
            self.assertEqual(answer.status_code, 200)
            self.assertTrue(answer.content.startswith(begins))
            self.assertIn("immutable", answer.headers["cache-control"])

    def test_the_demo_is_good_and_nothing_is_left(self):
        report = wait(self.client, 1)["report"]
        found = [*report["part_findings"], *report["billet"]["findings"], *report["comparison"]["findings"]]
        for setup in report["setups"]:
            found += [*setup["findings"], *(f for o in setup["operations"] for f in o["findings"])]
        # OP10 faces the raw top its zero was found on: a note.
        self.assertEqual([f["sentence"] for f in found if f["severity"] != "note"], [])
        left = report["comparison"]
        self.assertLessEqual(left["max_gouge_mm"], left["stated_error_mm"])
        self.assertLessEqual(left["max_left_mm"], left["stated_error_mm"])

    def test_files_for_the_shop(self):
        wait(self.client, 1)
        program = self.client.get("/api/projects/1/files/OP10.nc")
        self.assertIn("attachment", program.headers["content-disposition"])
        self.assertIn("G54", program.text)
        self.assertEqual(len(self.client.get("/api/projects/1/files/OP20/stock.stl").content[:80]), 80)
        self.assertEqual(
            self.client.get("/api/projects/1/files/plan.json").json()["name"], "Sluice-gate encoder housing"
        )
        self.assertEqual(self.client.get("/api/projects/1/files/OP99.nc").status_code, 404)

    def test_unknown_things(self):
        for path in (
            "/api/projects/999",
            "/api/results/none/surface.glb",
            "/api/results/none/secret",
            "/api/parts/0",
        ):
            answer = self.client.get(path)
            self.assertEqual(answer.status_code, 404)
            self.assertEqual(answer.headers["content-type"], "application/problem+json")  # RFC 9457
            self.assertTrue(
                {"type", "title", "status", "detail", "code", "what", "mend"} <= set(answer.json())
            )

    def test_any_moment(self):
        setup = self.client.get("/api/projects/1").json()["report"]["setups"][0]
        operation = next(o for o in setup["operations"] if o["name"] == "Rough outline")
        sizes = []
        for seconds in (0, operation["moving_s"] / 2, 1e6):
            answer = self.client.get(f"/api/results/{operation['key']}/moment", params={"seconds": seconds})
            self.assertEqual(answer.status_code, 200)
            self.assertEqual(answer.headers["content-type"], "model/gltf-binary")
            self.assertEqual(answer.content[:4], b"glTF")
            sizes.append(len(answer.content))
        self.assertEqual(len(set(sizes)), 3)
        loads = self.client.get(f"/api/results/{operation['key']}/load.json").json()
        self.assertAlmostEqual(loads["seconds"], operation["moving_s"], places=6)
        # What the load says was removed is what the operation removed, as far as rays half a millimetre apart
        # know.
        removed = sum(loads["removal"]) / len(loads["removal"]) * loads["seconds"] / 60 * 1000
        self.assertAlmostEqual(removed / operation["removed_volume_mm3"], 1.0, delta=0.02)

    def test_a_billet_is_drawn_at_once(self):
        """Before any worker: a block of the size that is typed, and what is no billet refused."""
        state = self.client.get("/api/projects/1").json()
        path = f"/api/parts/{state['plan']['part']['sha256']}/billet.glb"
        sizing = {"rule": "corners", "low": [-1, -2, -3], "high": [131, 97, 44]}
        answer = self.client.get(path, params={"billet": json.dumps({"kind": "block", "sizing": sizing})})
        self.assertEqual(answer.status_code, 200)
        scene = trimesh.load(io.BytesIO(answer.content), file_type="glb")
        meshes = [one for one in scene.dump() if isinstance(one, trimesh.Trimesh)]
        np.testing.assert_allclose(meshes[0].bounds, [[-1, -2, -3], [131, 97, 44]], atol=0.01)
        for wrong in (
            "{",
            "[]",
            "7",
            '{"kind": "sphere"}',
            '{"kind": "bar", "diameter": -1}',
            '{"kind":"bar","axis":"\\u0000"}',
        ):
            answer = self.client.get(path, params={"billet": wrong})
            self.assertEqual((answer.status_code, answer.json()["code"]), (422, "plan.invalid"), wrong)
        kept = {"kind": "stock", "file": "op10.rays"}
        self.assertEqual(self.client.get(path, params={"billet": json.dumps(kept)}).status_code, 409)

    def test_moments_that_are_not_there(self):
        self.assertEqual(self.client.get("/api/results/none/moment?seconds=1").status_code, 404)
        for wrong in ("-1", "nan", "soon", ""):
            self.assertEqual(self.client.get(f"/api/results/none/moment?seconds={wrong}").status_code, 422)

    def test_fields_are_understood(self):
        ask = lambda text, unit="mm": self.client.get("/api/understood", params={"text": text, "unit": unit})  # noqa: E731
        self.assertAlmostEqual(ask("1/8 in").json(), 3.175)
        self.assertAlmostEqual(ask("90/4", "°").json(), 22.5)
        refused = ask("12 x 3")
        self.assertEqual(refused.status_code, 422)
        self.assertEqual((refused.json()["code"], refused.json()["at"]), ("field.not_understood", "3"))
        self.assertAlmostEqual(self.client.get("/api/cell?error_mm=0.11375").json(), 0.5)
        self.assertEqual(self.client.get("/api/cell?error_mm=0.01").json()["code"], "stock.error")

    def test_library(self):
        library = self.client.get("/api/library").json()
        self.assertTrue(all(library[kind] for kind in ("machines", "tool", "materials")))


class Machines(unittest.TestCase):
    """Machine files, and what a machine needs for a part."""

    def test_a_file_is_read_or_refused(self):
        with shared().client() as client:
            mine = next(m for m in client.get("/api/library").json()["machines"] if m["id"] == "trunnion-ac")
            send = lambda text: client.post("/api/machines.json", files={"file": ("mine.json", text)})  # noqa: E731
            self.assertEqual(send(json.dumps(mine)).json(), mine)
            tilting = next(axis for axis in mine["axes"] if axis["name"] == "A")
            tilting["rides"] = "C"
            refused = send(json.dumps(mine))
            self.assertEqual((refused.status_code, refused.json()["code"]), (422, "machine.invalid"))
            self.assertIn("in a ring", refused.json()["what"])
            self.assertEqual(send("{").json()["code"], "machine.unreadable")

    def test_the_fewest_positions_of_the_demo(self):
        with shared().client() as client:
            wait(client, 1)
            found = client.get("/api/projects/1/fewest/OP30").json()
            # The sensor face, and the end face with port and holes.
            angles = [round(one["angles"]["A"], 6) for one in found["here"]]
            self.assertIn(-30.0, angles)
            self.assertTrue({-90.0, 270.0} & set(angles))
            self.assertGreaterEqual(len(found["setups"]), 1)
            self.assertEqual(client.get("/api/projects/1/fewest/OP99").status_code, 404)

    def test_what_a_tool_of_the_demo_reaches(self):
        with shared().client() as client:
            state = wait(client, 1)

            def ask(**query):
                asked = {"tool": "dr5", "position": "end", **query}
                return client.get("/api/projects/1/reach/OP30", params=asked)

            found = ask().json()
            part = client.get(f"/api/parts/{state['plan']['part']['sha256']}/facts").json()
            self.assertAlmostEqual(sum(found["areas"].values()) / part["area_mm2"], 1.0, delta=2e-3)
            # The cross holes' walls in the end face are reached from there, the wall on the other side is
            # not.
            walls = [
                f["number"]
                for f in part["faces"]
                if f["kind"] == "cylinder" and f["radius"] == 2.5 and abs(f["axis"][1]) > 0.999
            ]
            self.assertEqual(len(walls), 2)
            self.assertTrue(all(found["faces"][n] > 0.9 for n in walls))
            away = max(part["faces"], key=lambda f: f["area"] if f["normal"] and f["normal"][1] < -0.9 else 0)
            self.assertEqual(found["faces"][away["number"]], 0.0)
            self.assertEqual(client.get(f"/api/results/{found['key']}/surface.glb").content[:4], b"glTF")
            self.assertEqual(ask(tool="none").status_code, 404)
            self.assertEqual(ask(position="nowhere").json()["code"], "index.no_position")
            refused = ask(overhang=400)
            self.assertEqual(refused.status_code, 422)
            self.assertIn("overhang", refused.json()["what"])

    def test_the_machine_at_any_axis_values(self):
        with shared().client() as client:
            wait(client, 1)
            ask = lambda **axes: client.get("/api/projects/1/jog/OP30", params=axes)  # noqa: E731
            high = ask().json()
            # Over zero, as high as it goes, with the rotary at home: nothing meets.
            self.assertEqual(
                (high["values"]["Z"], high["values"]["A"], high["meets"], high["beyond"]), (0.0, 0.0, [], [])
            )
            self.assertEqual([round(c, 6) for c in high["nose"][:2]], [0.0, 0.0])
            # Lower by 400 the bare nose stands where the work is, 400 lower than before.
            low = ask(z=-460).json()
            self.assertAlmostEqual(high["nose"][2] - low["nose"][2], 460, places=6)
            self.assertTrue(any("spindle nose runs" in told for told in low["meets"]), low["meets"])
            self.assertEqual(ask(x=12).json()["beyond"], ["X 12 is beyond -760 … 0"])
            self.assertEqual(ask(c=30).json()["code"], "reach.no_axis")


class Fixtures(unittest.TestCase):
    """The shop's library of fixtures."""

    def test_edit_files_and_pictures(self):
        with shared().client() as client:
            before = client.get("/api/fixtures").json()
            try:
                vee = next(f for f in before if f["id"] == "vee-90-60")
                mine = {**vee, "id": "vee-mine", "name": "Our vee", "length": 45.0}
                self.assertEqual(client.put("/api/fixtures", json=[*before, mine]).status_code, 200)
                self.assertEqual(client.get("/api/fixtures").json()[-1], mine)
                picture = client.get("/api/fixtures/vee-mine/picture.png")
                self.assertEqual((picture.status_code, picture.content[:4]), (200, b"\x89PNG"))
                # A file brings in what is new and what is changed, and leaves the rest.
                text = json.dumps({"fixtures": [{**mine, "length": 50.0}, {**mine, "id": "vee-other"}]})
                rows = client.post("/api/fixtures.json", files={"file": ("shop.json", text)}).json()
                self.assertEqual(len(rows), len(before) + 2)
                self.assertEqual(next(r for r in rows if r["id"] == "vee-mine")["length"], 50.0)
                saved = client.get("/api/fixtures.json").json()["fixtures"]
                self.assertEqual(saved, rows)
                # What is wrong is refused whole, and says where.
                for rows_, where in (([{**mine, "angle_deg": 10}], "angle_deg"), ([mine, mine], "shop.json")):
                    answer = client.post(
                        "/api/fixtures.json", files={"file": ("shop.json", json.dumps(rows_))}
                    )
                    self.assertEqual((answer.status_code, answer.json()["code"]), (422, "hold.library"))
                    self.assertIn(where, answer.json()["where"])
                answer = client.post("/api/fixtures.json", files={"file": ("shop.json", b"\xff\x00")})
                self.assertEqual(answer.json()["code"], "hold.library")
                self.assertEqual(client.put("/api/fixtures", json=[]).status_code, 422)
                self.assertEqual(client.get("/api/fixtures").json(), saved)
                self.assertEqual(client.get("/api/fixtures/nobody/picture.png").status_code, 404)
            finally:
                client.put("/api/fixtures", json=before)

    def test_an_open_mesh_as_a_fixture(self):
        """A solid that is not closed: refused when it is read, with where it is open; a plan that uses it
        says so.
        """
        ball = trimesh.creation.icosphere(3, 20)
        ball.update_faces(np.arange(len(ball.faces)) > len(ball.faces) // 3)
        with shared().client() as client:
            state = upload(client, ball.export(file_type="stl"), "fixture.stl")
            self.assertEqual(state["status"], "refused")
            self.assertIn("mesh.", state["problem"]["code"])


class Editing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.client = shared().client()
        cls.start = small_project(cls.client, "editing")

    @classmethod
    def tearDownClass(cls):
        cls.client.close()

    def state(self):
        return wait(self.client, self.start["id"])

    def test_edit_undo_redo(self):
        state = self.state()
        edited = edit(
            self.client, state, lambda plan: plan["billet"]["sizing"].update(z_plus=3.0), "top allowance"
        ).json()
        self.assertEqual(edited["revision"], state["revision"] + 1)
        self.assertEqual(edited["stale_from"], 0)
        done = self.state()
        volume = done["report"]["billet"]["volume_mm3"]
        self.assertGreater(volume, state["report"]["billet"]["volume_mm3"])
        back = self.client.post(
            f"/api/projects/{state['id']}/undo", json={"based_on": edited["revision"]}
        ).json()
        self.assertEqual(back["plan"], state["plan"])
        self.assertTrue(back["can_redo"])
        undone = self.state()
        self.assertEqual(undone["report"]["billet"]["key"], state["report"]["billet"]["key"])
        self.assertEqual(undone["report"]["computed"], [])  # undo brings results back without computing
        again = self.client.post(
            f"/api/projects/{state['id']}/redo", json={"based_on": back["revision"]}
        ).json()
        self.assertEqual(again["plan"]["billet"]["sizing"]["z_plus"], 3.0)
        self.state()
        self.client.post(f"/api/projects/{state['id']}/undo", json={"based_on": again["revision"]})
        self.state()

    def test_a_stale_edit_is_refused_with_what_changed(self):
        state = self.state()
        first = edit(self.client, state, lambda plan: plan["setups"][0].update(title="First tab"))
        self.assertEqual(first.status_code, 200)
        second = edit(self.client, state, lambda plan: plan["setups"][0].update(title="Second tab"))
        self.assertEqual(second.status_code, 409)
        problem = second.json()
        self.assertEqual(
            (problem["code"], problem["changed"], problem["head"]),
            ("plan.stale", ["/setups/0/title"], first.json()["revision"]),
        )
        self.assertEqual(self.state()["plan"]["setups"][0]["title"], "First tab")
        for step in ("undo", "redo"):
            self.assertEqual(
                self.client.post(
                    f"/api/projects/{state['id']}/{step}", json={"based_on": state["revision"]}
                ).status_code,
                409,
            )

    def test_two_tabs_at_once_one_wins(self):
        state = self.state()
        answers = []

        def push(title: str) -> None:
            with shared().client() as client:
                answers.append(
                    edit(client, state, lambda plan: plan["setups"][0].update(title=title)).status_code
                )

        tabs = [threading.Thread(target=push, args=(f"tab {i}",)) for i in range(4)]
        for tab in tabs:
            tab.start()
        for tab in tabs:
            tab.join()
        self.assertEqual(sorted(answers), [200, 409, 409, 409])

    def test_wrong_values_change_nothing(self):
        state = self.state()
        for change, where in (
            (lambda plan: plan["billet"]["sizing"].update(x_plus="NaN"), "x_plus"),
            (lambda plan: plan["billet"].update(sizing={"rule": "size", "size": [-4, 1, 1]}), "size"),
            (lambda plan: plan.update(resolution_mm=0), "resolution_mm"),
            (
                lambda plan: plan["setups"][0]["hold"].update(
                    items=[{"id": "a", "fixture": "pin-12", "on": "b"}]
                ),
                "hold",
            ),
            (lambda plan: plan["part"].update(sha256="0" * 64), "part"),
        ):
            answer = edit(self.client, state, change)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(where, answer.json()["where"])
            self.assertTrue(answer.json()["mend"])
        # NaN as JSON itself is no JSON; the server says so and lives.
        text = json.dumps(
            {
                "based_on": state["revision"],
                "what": "x",
                "plan": {**state["plan"], "resolution_mm": float("nan")},
            }
        )
        raw = self.client.put(
            f"/api/projects/{state['id']}/plan", content=text, headers={"content-type": "application/json"}
        )
        self.assertEqual(raw.status_code, 422)
        now = self.state()
        self.assertEqual((now["revision"], now["plan"]), (state["revision"], state["plan"]))

    def test_an_edit_as_a_patch(self):
        state = self.state()
        address = f"/api/projects/{state['id']}/plan"

        def patched(*changes: dict, based_on: int = state["revision"]):
            body = {"based_on": based_on, "what": "title", "changes": changes}
            return self.client.patch(address, json=body)

        for changes, status, code, where in (
            (
                [{"op": "replace", "path": "/setups/7/title", "value": "x"}],
                422,
                "plan.patch",
                "/setups/7/title",
            ),
            ([{"op": "replace", "path": "/setups/0/title", "value": 7}], 422, "plan.invalid", "title"),
            ([{"op": "replace", "path": "", "value": []}], 422, "plan.patch", "/"),
            ([{"op": "test", "path": "/name", "value": "another"}], 422, "plan.patch", "/name"),
            ([{"op": "copy", "path": "/name", "from": "/title"}], 422, "request.invalid", "changes"),
            ([{"op": "add", "path": "/name", "value": "x"}] * 5001, 422, "request.invalid", "changes"),
        ):
            answer = patched(*changes)
            told = answer.json()
            self.assertEqual((answer.status_code, told["code"]), (status, code), told)
            self.assertIn(where, told["where"])
            self.assertTrue(told["mend"])
        self.assertEqual(self.state()["plan"], state["plan"])
        title = {"op": "replace", "path": "/setups/0/title", "value": "Patched"}
        self.assertEqual(patched(title).json()["plan"]["setups"][0]["title"], "Patched")
        stale = patched({**title, "value": "late"})
        self.assertEqual((stale.status_code, stale.json()["changed"]), (409, ["/setups/0/title"]))

    def test_an_edit_that_changes_nothing_makes_no_revision(self):
        state = self.state()
        self.assertEqual(edit(self.client, state, lambda plan: None).json()["revision"], state["revision"])

    def test_findings_come_with_cures(self):
        state = self.state()
        edit(self.client, state, lambda plan: plan["billet"]["sizing"].update(y_minus=-2.0))
        found = self.state()["report"]["billet"]["findings"]
        self.assertEqual([(f["code"], f["measured"]) for f in found], [("billet.too_small", -2.0)])
        cure = found[0]["cures"][0]
        self.assertEqual(
            [(one["field"], one["value"]) for one in cure["edits"]], [("billet/sizing/y_minus", 2.0)]
        )
        self.take(cure).raise_for_status()
        self.assertEqual(self.state()["report"]["billet"]["findings"], [])

    def take(self, cure: dict, based_on: int | None = None):
        state = self.state()
        body = {"based_on": based_on or state["revision"], "what": "cure", "edits": cure["edits"]}
        return self.client.post(f"/api/projects/{state['id']}/edits", json=body)

    def test_a_cure_meets_what_it_names_or_nothing(self):
        """Another setup was put before the one that a cure names; then the named one has gone."""
        state = edit(self.client, self.state(), lambda plan: plan["setups"].insert(0, {"name": "OP5"})).json()
        named = state["plan"]["setups"][1]["name"]
        cure = {"edits": [{"kind": "put", "of": {"setup": named}, "field": "title", "value": "Cured"}]}
        self.assertEqual([s["title"] for s in self.take(cure).json()["plan"]["setups"]][:2], ["", "Cured"])
        stale = self.take(cure, based_on=state["revision"])
        self.assertEqual((stale.status_code, stale.json()["code"]), (409, "plan.stale"))
        before = edit(self.client, self.state(), lambda plan: plan["setups"].pop(1)).json()
        gone = self.take(cure)
        self.assertEqual((gone.status_code, gone.json()["code"]), (422, "plan.gone"), gone.text)
        self.assertIn(named, gone.json()["what"])
        self.assertEqual(self.state()["revision"], before["revision"])
        wrong = self.take({"edits": [{"kind": "put", "of": {"setup": "OP5"}, "field": "title", "value": 7}]})
        self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "plan.invalid"))
        unknown = self.take({"edits": [{"kind": "burn", "of": {}, "field": "name", "value": ""}]})
        self.assertEqual((unknown.status_code, unknown.json()["code"]), (422, "request.invalid"))


class Parts(unittest.TestCase):
    def test_bad_files_are_refused_and_the_server_lives(self):
        with shared().client() as client:
            for name, data, code in (
                ("empty.step", b"", "part.empty"),
                ("part.stl", b"solid x\nfacet normal 0 0 1\n", "mesh.unreadable"),
                ("part.gif", b"GIF89a", "part.kind"),
                ("cut.step", DEMO_STEP.read_bytes()[:50000], "part.unreadable"),
            ):
                state = upload(client, data, name)
                self.assertEqual(state["status"], "refused")
                self.assertEqual(state["problem"]["code"], code)
                answer = client.post("/api/projects", json={"name": "x", "sha256": state["sha256"]})
                self.assertEqual((answer.status_code, answer.json()["code"]), (409, "part.not_ready"))
            self.assertEqual(client.get("/api/library").status_code, 200)

    def test_one_solid_of_several_is_chosen(self):
        data = solids.step_bytes(
            solids.together(solids.box((0, 0, 0), (10, 20, 30)), solids.box((50, 0, 0), (55, 5, 5)))
        )
        with shared().client() as client:
            state = upload(client, data, "two.step")
            self.assertEqual((state["status"], len(state["choices"])), ("choose", 2))
            answer = client.post("/api/projects", json={"name": "x", "sha256": state["sha256"]})
            self.assertEqual(answer.status_code, 409)
            wrong = client.post(f"/api/parts/{state['sha256']}/choose", json={"solid": 9})
            self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "part.no_such_solid"))
            chosen = client.post(f"/api/parts/{state['sha256']}/choose", json={"solid": 1}).json()
            self.assertEqual(chosen["origin"], "two.step")
            for _ in range(200):
                if (now := client.get(f"/api/parts/{chosen['sha256']}").json())["status"] != "reading":
                    break
                time.sleep(0.2)
            self.assertEqual(now["status"], "ready")
            facts = client.get(f"/api/parts/{chosen['sha256']}/facts").json()
            self.assertAlmostEqual(facts["volume_mm3"], 125.0, places=6)
            features = client.get(f"/api/parts/{chosen['sha256']}/features").json()
            self.assertEqual(features["holes"], [])

    def test_other_files_are_told_apart(self):
        import io

        import ezdxf

        drawing = ezdxf.new(units=4)
        drawing.modelspace().add_circle((0, 0), 30)
        text = io.StringIO()
        drawing.write(text)
        with shared().client() as client:
            outline = upload(client, text.getvalue().encode(), "round.dxf")
            self.assertEqual((outline["status"], outline["kind"]), ("ready", "outline"))
            answer = client.post("/api/projects", json={"name": "x", "sha256": outline["sha256"]})
            self.assertEqual((answer.status_code, answer.json()["code"]), (409, "part.not_ready"))
            junk = upload(client, b"\x28\xb5\x2f\xfd junk", "x.rays")
            self.assertEqual((junk["status"], junk["problem"]["code"]), ("refused", "billet.not_stock"))

    def test_over_the_limit(self):
        with shared().client() as client:
            answer = client.post(
                "/api/parts", files={"file": ("huge.step", b"ISO-10303-21;" + b" " * (64 * 1024**2 + 1))}
            )
            self.assertEqual((answer.status_code, answer.json()["code"]), (413, "part.too_large"))


class Shelf(unittest.TestCase):
    """The shop's shelf: read, edited, as CSV, and asked for a part."""

    def test_edit_csv_and_picks(self):
        with shared().client() as client:
            rows = client.get("/api/shelf").json()
            text = client.get("/api/shelf.csv").text
            self.assertEqual(len(text.splitlines()), len(rows) + 1)
            wrong = client.post(
                "/api/shelf.csv", files={"file": ("s.csv", text.replace("EN AW-6082", "", 1).encode())}
            )
            self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "shelf.row"))
            self.assertEqual(client.get("/api/shelf").json(), rows)  # nothing was taken
            own = [{**rows[0], "width_mm": 131.5, "height_mm": 61.5, "count": 4}]
            self.assertEqual(client.put("/api/shelf", json=own).status_code, 200)
            found = client.get("/api/projects/1/picks", params={"allowance": [2] * 6}).json()
            self.assertEqual(
                [pick["bought"]["count"] for pick in found["from_shelf"]], [4] * len(found["from_shelf"])
            )
            self.assertTrue(found["from_shelf"])
            self.assertEqual(client.put("/api/shelf", json=[{**own[0], "count": -1}]).status_code, 422)
            self.assertEqual(
                client.post("/api/shelf.csv", files={"file": ("s.csv", text.encode())}).json(), rows
            )

    def test_measure_and_thickness(self):
        with shared().client() as client:
            state = client.get("/api/projects/1").json()
            sha256 = state["plan"]["part"]["sha256"]
            planes = [f for f in client.get(f"/api/parts/{sha256}/facts").json()["faces"] if f["normal"]]
            ends = [min(planes, key=lambda f: f["centre"][0]), max(planes, key=lambda f: f["centre"][0])]
            first, second = ({"kind": "face", "number": f["number"]} for f in ends)
            values = client.post(
                f"/api/parts/{sha256}/measure", json={"first": first, "second": second}
            ).json()
            self.assertEqual((values[0]["name"], round(values[0]["value"], 6)), ("distance", 120.0))
            wrong = client.post(
                f"/api/parts/{sha256}/measure", json={"first": {"kind": "face", "number": 9999}}
            )
            self.assertEqual(wrong.json()["code"], "measure.no_face")
            key = state["report"]["billet"]["key"]
            (low, high) = state["report"]["billet"]["low"], state["report"]["billet"]["high"]
            at = [(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, high[2]]
            thick = client.get(f"/api/results/{key}/thickness", params={"at": at, "way": [0, 0, -1]}).json()
            self.assertAlmostEqual(thick["value"], high[2] - low[2], places=2)


class Tools(unittest.TestCase):
    """The plan's tools as a table and as JSON, and read back."""

    def test_out_and_read_again(self):
        with shared().client() as client:
            tools = client.get("/api/projects/1").json()["plan"]["tools"]
            table = client.get("/api/projects/1/tools.csv")
            self.assertIn("attachment", table.headers["content-disposition"])
            for name, data in (
                ("tools.csv", table.content),
                ("tools.json", client.get("/api/projects/1/tools.json").content),
            ):
                read = client.post("/api/tools/read", files={"file": (name, data)}).json()
                self.assertEqual(read, tools, name)

    def test_a_wrong_row_refuses_all(self):
        with shared().client() as client:
            text = client.get("/api/projects/1/tools.csv").text.replace("end_mill", "end_mil", 1)
            answer = client.post("/api/tools/read", files={"file": ("t.csv", text.encode())})
            self.assertEqual((answer.status_code, answer.json()["code"]), (422, "tools.tool"))
            self.assertRegex(answer.json()["where"], r"line \d+, kind")
            huge = client.post("/api/tools/read", files={"file": ("t.csv", b"x" * 2_000_001)})
            self.assertEqual(huge.json()["code"], "tools.too_large")


class Fair(unittest.TestCase):
    """One worker, and a route nobody looks at under way."""

    def test_who_waits_goes_first(self):
        server = Server(workers=1).start()
        self.addCleanup(server.remove)
        with server.client() as client:

            def demo() -> dict:
                (line,) = [one for one in client.get("/api/projects").json() if one["id"] == 1]
                return line

            until = time.monotonic() + 120
            while demo()["status"] != "running" and time.monotonic() < until:
                time.sleep(0.2)
            small = small_project(client, "waited for")
            self.assertEqual(small["evaluation"]["status"], "done")
            self.assertIn(demo()["status"], ("queued", "running"))
            # What let it pass goes on by itself, from where it was.
            while demo()["status"] != "running" and time.monotonic() < until:
                time.sleep(0.2)
            self.assertEqual(demo()["status"], "running")
            # Looked at, it is urgent itself.
            self.assertEqual(client.get("/api/projects/1").json()["evaluation"]["status"], "running")


class Running(unittest.TestCase):
    """A server of its own: a port that is taken, a worker killed in the middle, restart."""

    @classmethod
    def setUpClass(cls):
        cls.server = Server(demo=False, workers=1)
        with socket.socket() as taken:
            taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            with contextlib.suppress(OSError):  # the shared server may hold it already
                taken.bind(("127.0.0.1", 8700))
                taken.listen()
            cls.server.start()

    @classmethod
    def tearDownClass(cls):
        cls.server.remove()

    def test_stop_kill_and_restart(self):
        with self.server.client() as client:
            # Fine enough that there is time to stop it.
            state = edit(client, small_project(client, "long"), faced_finely).json()
            self.until_running(client)
            stopped = client.post("/api/projects/1/stop").json()
            self.assertIn(stopped["evaluation"]["status"], ("stopped", "running"))
            state = wait(client, 1, 60)
            self.assertEqual(state["evaluation"]["status"], "stopped")
            self.assertNotEqual(state["report_revision"], state["revision"])
            self.shown_as_it_comes(client)
            # A worker that dies in the middle: the plan stands and the run is taken up again.
            client.post("/api/projects/1/run")
            self.until_running(client)
            workers = self.server.workers()
            for worker in workers:
                kill(worker)
            state = wait(client, 1)
            self.assertEqual(state["evaluation"]["status"], "done")
            self.assertEqual(state["report_revision"], state["revision"])
            self.assertFalse(set(self.server.workers()) & set(workers))
            before = state
        # Reopened after a restart everything is as it was left.
        self.server.stop()
        self.server.start()
        with self.server.client() as client:
            again = client.get("/api/projects/1").json()
            self.assertEqual(again, before)
            self.assertEqual(len(client.get("/api/projects").json()), 1)
            self.assertEqual(client.get(f"/api/results/{again['stills']['OP10']}/still.png").status_code, 200)

    def shown_as_it_comes(self, client) -> None:
        """Before the cutting ends the billet and the seat belong to the new plan, and the programs wait."""
        now = client.post("/api/projects/1/run").json()
        now = edit(client, now, lambda plan: plan["billet"]["sizing"].update(z_plus=9.0)).json()
        self.assertTrue(now["billet_late"])
        for _ in range(600):
            state = client.get("/api/projects/1").json()
            if state["seated"] == 0:
                break
            time.sleep(0.05)
        self.assertEqual(
            (state["seated"], state["evaluation"]["status"], state["stale_from"]), (0, "running", 0)
        )
        self.assertFalse(state["billet_late"])
        report = state["report"]
        self.assertAlmostEqual(report["billet"]["high"][2], 12 + 9.0, places=6)
        self.assertEqual(report["setups"][0]["incoming_volume_mm3"], report["billet"]["volume_mm3"])
        self.assertEqual(report["setups"][0]["high"][2] - report["setups"][0]["low"][2], 12 + 9.0 + 5.0)
        self.assertNotEqual(state["report_revision"], state["revision"])
        self.assertEqual(client.get("/api/projects/1/files/OP10.nc").status_code, 409)
        client.post("/api/projects/1/stop")
        wait(client, 1, 60)

    def until_running(self, client) -> None:
        for _ in range(600):
            state = client.get("/api/projects/1").json()["evaluation"]
            if state["status"] == "running" and state["share"] > 0:
                return
            time.sleep(0.1)
        self.fail(f"it did not run: {state}")

    def test_a_taken_port_is_said_and_another_used(self):
        self.assertNotEqual(self.server.url, "http://127.0.0.1:8700")
        self.assertIn("port 8700 for the web server is taken", (self.server.data / "log").read_text())


if __name__ == "__main__":
    unittest.main()
