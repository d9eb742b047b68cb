"""Is only answered who should be, is nothing lost or left without end, and does a refusal say what it is?"""

from __future__ import annotations

import contextlib
import io
import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
import unittest
from pathlib import Path

import httpx
import psycopg

from pelvrak.server import serve
from pelvrak.server.jobs import apart
from pelvrak.server.postgres import Cluster
from tests import solids
from tests.server.killing import edits_under_fire
from tests.serving import TOP, Server, shared, upload, wait


class Doors(unittest.TestCase):
    """A page elsewhere whose name was bound to loopback, a form on any page, a program."""

    @classmethod
    def setUpClass(cls):
        cls.url = shared().url
        cls.host = cls.url.removeprefix("http://")

    def asked(self, method: str, path: str, **headers: str) -> httpx.Response:
        return httpx.request(
            method, self.url + path, headers={k.replace("_", "-"): v for k, v in headers.items()}, timeout=30
        )

    def test_only_its_own_host_is_answered(self):
        for host in (
            "evil.example",
            "evil.example:8600",
            "127.0.0.1.evil.example",
            self.host.split(":")[0] + ":1",
            "",
        ):
            answer = self.asked("GET", "/api/projects", host=host)
            self.assertEqual((answer.status_code, answer.json()["code"]), (421, "request.host"), host)
            self.assertEqual(self.asked("GET", "/", host=host).status_code, 421)
        port = self.host.split(":")[1]
        for host in (self.host, f"localhost:{port}", f"[::1]:{port}"):
            self.assertEqual(self.asked("GET", "/api/projects", host=host).status_code, 200, host)

    def test_a_form_elsewhere_changes_nothing(self):
        before = self.asked("GET", "/api/shelf").json()
        for headers in (
            {},
            {"origin": "http://evil.example"},
            {"sec_fetch_site": "cross-site", "x_pelvrak": "1"},
            {"sec_fetch_site": "same-site", "x_pelvrak": "1"},
            {"origin": "null", "x_pelvrak": "1"},
            {"origin": "http://evil.example", "sec_fetch_site": "same-origin"},
        ):
            for method, path in (
                ("PUT", "/api/shelf"),
                ("POST", "/api/shelf.csv"),
                ("PUT", "/api/fixtures"),
                ("POST", "/api/fixtures.json"),
                ("POST", "/api/parts"),
                ("POST", "/api/projects/1/run"),
                ("POST", "/api/projects/1/stop"),
                ("PATCH", "/api/projects/1"),
                ("DELETE", "/api/projects/1"),
            ):
                answer = self.asked(method, path, **headers)
                self.assertEqual(
                    (answer.status_code, answer.json()["code"]),
                    (403, "request.origin"),
                    (headers, method, path),
                )
        self.assertEqual(self.asked("GET", "/api/shelf").json(), before)
        # The page itself, and a program that says that it is one.
        for headers in ({"sec_fetch_site": "same-origin", "origin": self.url}, {"x_pelvrak": "1"}):
            self.assertEqual(self.asked("POST", "/api/projects/1/stop", **headers).status_code, 200)

    def test_every_answer_bears_its_headers(self):
        for path in ("/", "/api/projects", "/api/nothing", "/openapi.json"):
            headers = self.asked("GET", path).headers
            self.assertIn("frame-ancestors 'none'", headers["content-security-policy"])
            self.assertEqual(headers["x-content-type-options"], "nosniff")
            self.assertEqual(headers["referrer-policy"], "no-referrer")
            self.assertNotIn("set-cookie", headers)

    def test_what_is_not_below_api(self):
        for path in ("/api/nothing", "/api/projects/1/files/OP10.step", "/api", "/api/"):
            answer = self.asked("GET", path)
            self.assertEqual(answer.status_code, 404, path)
            self.assertEqual(answer.headers["content-type"], "application/problem+json")
        # The pages that show an API would take their script from elsewhere.
        for path in ("/docs", "/redoc"):
            self.assertNotIn("cdn", self.asked("GET", path).text)

    def test_too_much_is_refused_while_it_streams_in(self):
        sent = 0

        def body():
            nonlocal sent
            for _ in range(400):
                sent += 1024**2
                yield bytes(1024**2)

        with contextlib.suppress(httpx.WriteError):
            answer = httpx.put(
                self.url + "/api/shelf", content=body(), headers={"x-pelvrak": "1"}, timeout=30
            )
            self.assertEqual((answer.status_code, answer.json()["code"]), (413, "request.too_large"))
        self.assertLess(sent, 40 * 1024**2)
        # What says beforehand that it is too much is not waited for.
        host, port = self.host.split(":")
        with socket.create_connection((host, int(port)), timeout=10) as line:
            head = (
                f"PUT /api/shelf HTTP/1.1\r\nHost: {self.host}\r\nX-Pelvrak: 1\r\nContent-Length:"
                f" {150 * 1024**2}\r\n\r\n"
            )
            line.sendall(head.encode())
            self.assertIn(b"413", line.recv(100))

    def test_numbers_and_characters_that_cannot_be_kept(self):
        with shared().client() as client:
            state = client.get("/api/projects/1").json()
            for path in (f"/api/projects/{2**31}", "/api/projects/0", f"/api/projects/{10**30}"):
                self.assertEqual(client.get(path).status_code, 422, path)
            for based_on in (2**31, 2**63, -1):
                body = {"based_on": based_on, "what": "x", "plan": state["plan"]}
                self.assertEqual(client.put("/api/projects/1/plan", json=body).status_code, 422)
                self.assertEqual(
                    client.post("/api/projects/1/undo", json={"based_on": based_on}).status_code, 422
                )
            named = {**state["plan"], "name": "a\0b"}
            answer = client.put(
                "/api/projects/1/plan", json={"based_on": state["revision"], "what": "x", "plan": named}
            )
            self.assertEqual((answer.status_code, answer.json()["where"]), (422, "/name"))
            titled = {
                "based_on": state["revision"],
                "what": "a\0b",
                "plan": {**state["plan"], "name": "other"},
            }
            self.assertEqual(client.put("/api/projects/1/plan", json=titled).status_code, 422)
            for path in ("/api/results/a%00b/surface.glb", "/api/parts/%00", "/api/fixtures/%00/picture.png"):
                self.assertIn(client.get(path).status_code, (404, 422), path)
            self.assertEqual(client.get("/api/projects/1").json()["revision"], state["revision"])

    def test_json_nested_a_hundred_thousand_deep(self):
        deep = b"[" * 100_000 + b"]" * 100_000
        with shared().client() as client:
            for path in ("/api/fixtures.json", "/api/machines.json", "/api/projects/plan.json"):
                answer = client.post(path, files={"file": ("x.json", deep)})
                self.assertEqual(answer.status_code, 422, path)
                self.assertIn("nested", answer.json()["what"])
            for path in ("/api/fixtures", "/api/shelf"):
                self.assertIn(
                    client.put(path, content=deep, headers={"content-type": "application/json"}).status_code,
                    (400, 422),
                )

    def test_words_of_a_refusal(self):
        """No patterns of characters, no names of exceptions, and how to mend it."""
        with shared().client() as client:
            state = client.get("/api/projects/1").json()
            for change, word in (
                (lambda p: p["setups"][0].update(name="OP 10!"), "letters"),
                (lambda p: p.update(colour="red"), "no field 'colour'"),
                (lambda p: p["setups"][0].update(offset_register="G99"), "G54"),
                (lambda p: p.update(resolution_mm=50), "at most 5"),
                (lambda p: p["tools"][0].update(kind="magnet"), "one of"),
                (lambda p: p["setups"][0].pop("name"), "missing"),
            ):
                plan = json.loads(json.dumps(state["plan"]))
                change(plan)
                answer = client.put(
                    "/api/projects/1/plan", json={"based_on": state["revision"], "what": "x", "plan": plan}
                )
                self.assertEqual(answer.status_code, 422)
                told = answer.json()["what"] + answer.json()["mend"]
                self.assertIn(word, told)
                for forbidden in ("^", "pattern", "extra inputs", "pydantic", "Error"):
                    self.assertNotIn(forbidden, told)


class Projects(unittest.TestCase):
    def test_copied_renamed_archived_and_deleted(self):
        with shared().client() as client:
            data = solids.step_bytes(solids.box((0, 0, 0), (30, 20, 11)))
            part = upload(client, data, "lid.step")
            first = client.post("/api/projects", json={"name": "Lid", "sha256": part["sha256"]}).json()
            second = client.post(f"/api/projects/{first['id']}/copy").json()
            self.assertEqual(second["plan"]["name"], "Lid copy")
            self.assertEqual({**second["plan"], "name": "Lid"}, first["plan"])
            named = client.patch(
                f"/api/projects/{second['id']}", json={"name": "Lid, on the trunnion"}
            ).json()
            self.assertEqual(
                (named["plan"]["name"], named["revision"], named["can_undo"]),
                ("Lid, on the trunnion", 2, True),
            )
            # A project in use is not deleted; archived it is out of the list, and comes back.
            self.assertEqual(client.delete(f"/api/projects/{second['id']}").status_code, 409)
            client.patch(f"/api/projects/{second['id']}", json={"archived": True})
            names = lambda **q: [line["name"] for line in client.get("/api/projects", params=q).json()]  # noqa: E731
            self.assertNotIn("Lid, on the trunnion", names())
            self.assertIn("Lid, on the trunnion", names(archived=True))
            self.assertEqual(client.delete(f"/api/projects/{second['id']}").status_code, 204)
            self.assertEqual(client.get(f"/api/projects/{second['id']}").status_code, 404)
            # The plan as a document, in again.
            text = client.get(f"/api/projects/{first['id']}/files/plan.json").content
            brought = client.post("/api/projects/plan.json", files={"file": ("lid.json", text)})
            self.assertEqual((brought.status_code, brought.json()["plan"]), (201, first["plan"]))
            stray = {**json.loads(text), "part": {"file": "nobody.step"}}
            answer = client.post(
                "/api/projects/plan.json", files={"file": ("x.json", json.dumps(stray).encode())}
            )
            self.assertEqual((answer.status_code, answer.json()["code"]), (409, "plan.no_part"))
            for project in (first["id"], brought.json()["id"]):
                client.patch(f"/api/projects/{project}", json={"archived": True})
                self.assertEqual(client.delete(f"/api/projects/{project}").status_code, 204)

    def test_the_list_says_what_it_said_of_reports(self):
        with shared().client() as client:
            wait(client, 1)
            line = next(one for one in client.get("/api/projects").json() if one["id"] == 1)
            report = client.get("/api/projects/1").json()["report"]
            self.assertAlmostEqual(line["time_s"], sum(one["time_s"] for one in report["setups"]), places=3)
            self.assertEqual(line["registers"], sum(len(one["offsets"]) for one in report["setups"]))

    def test_two_who_change_a_library(self):
        with shared().client() as client:
            opened = client.get("/api/shelf")
            rows = opened.json()
            first = client.put("/api/shelf", json=rows[1:], headers={"if-match": opened.headers["etag"]})
            self.assertEqual(first.status_code, 200)
            second = client.put("/api/shelf", json=rows[:-1], headers={"if-match": opened.headers["etag"]})
            self.assertEqual((second.status_code, second.json()["code"]), (409, "library.stale"))
            self.assertEqual(client.get("/api/shelf").json(), rows[1:])
            again = client.put("/api/shelf", json=rows, headers={"if-match": first.headers["etag"]})
            self.assertEqual(again.status_code, 200)


class Published(unittest.TestCase):
    def test_every_refusal_is_published_as_it_is_sent(self):
        with shared().client() as client:
            told = client.get("/openapi.json").json()
            self.assertNotIn("HTTPValidationError", told["components"]["schemas"])
            for path, of_path in told["paths"].items():
                for method, one in of_path.items():
                    for status in ("404", "409", "413", "422"):
                        self.assertEqual(
                            list(one["responses"][status]["content"]),
                            ["application/problem+json"],
                            (path, method),
                        )
            wanted = set(told["components"]["schemas"]["ProblemDetails"]["required"])
            for answer in (
                client.get("/api/projects/99999"),
                client.get("/api/nothing"),
                client.put("/api/shelf", json=3),
            ):
                self.assertLessEqual(wanted, set(answer.json()))


class Fuzzed(unittest.TestCase):
    """schemathesis over the whole published API, for a bounded time, on a server of its own."""

    def test_no_500_and_nothing_undocumented(self):
        server = Server(demo=False, workers=1).start()
        try:
            with server.client() as client:
                part = upload(client, solids.step_bytes(solids.box((0, 0, 0), (30, 20, 10))), "a.step")
                client.post("/api/projects", json={"name": "x", "sha256": part["sha256"]})
            done = subprocess.run(
                [
                    str(Path(sys.executable).with_name("schemathesis")),
                    "run",
                    f"{server.url}/openapi.json",
                    "--exclude-path",
                    "/api/events",
                    "-H",
                    "x-pelvrak: tests",
                    "--max-examples",
                    "4",
                    "--phases",
                    "fuzzing",
                    "--seed",
                    "1",
                    "--request-timeout",
                    "30",
                    "--checks",
                    "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance",
                ],
                capture_output=True,
                text=True,
                timeout=240,
                check=False,
                cwd=server.data,
            )
            self.assertEqual(done.returncode, 0, done.stdout[-6000:])
            # All of the API but its stream of events, which never ends.
            chosen = re.search(r"Selected: (\d+)/(\d+)\s+Tested: (\d+)", done.stdout)
            assert chosen is not None, done.stdout
            self.assertEqual((int(chosen[1]), int(chosen[3])), (int(chosen[2]) - 1, int(chosen[2]) - 1))
            with server.client() as client:
                self.assertEqual(client.get("/api/projects").status_code, 200)
        finally:
            server.remove()


def _one() -> int:
    return 1


class Lost(unittest.TestCase):
    """On a server of its own: what is killed, cut off or lost is taken up again, and nothing waits for
    ever.
    """

    server: Server

    @classmethod
    def setUpClass(cls):
        cls.server = Server(demo=False).start()

    @classmethod
    def tearDownClass(cls):
        cls.server.remove()

    def database(self) -> psycopg.Connection:
        cluster = Cluster(self.server.data)
        lines = (cluster.home / "postmaster.pid").read_text().splitlines()
        cluster.port = int(lines[3])
        return psycopg.connect(cluster.url, autocommit=True)

    def test_an_evaluation_nobody_was_handed(self):
        """The web process dies between the commit and the job: no job, and the row queued."""
        with self.server.client() as client, self.database() as db:
            part = upload(client, solids.step_bytes(solids.box((0, 0, 0), (30, 20, 12))), "a.step")
            state = client.post("/api/projects", json={"name": "lost", "sha256": part["sha256"]}).json()
            wait(client, state["id"])
            db.execute(
                "insert into evaluation (project_id, revision, status, share, what, tries, stop, beat)"
                " values (%s, 1, 'queued', 0, '', 0, false, now() - interval '1 minute')",
                (state["id"],),
            )
            self.assertEqual(wait(client, state["id"], 40)["evaluation"]["status"], "done")

    def test_workers_killed_while_a_plan_is_edited(self):
        """Six edits here, fifty in bench/killing.py."""
        with self.server.client() as client:
            part = upload(client, solids.step_bytes(solids.box((0, 0, 0), (32, 20, 12))), "fire.step")
            project = client.post("/api/projects", json={"name": "fire", "sha256": part["sha256"]}).json()[
                "id"
            ]
            wait(client, project)
        killed, wrong = edits_under_fire(self.server, project, 6, 4)
        self.assertGreater(killed, 2)
        self.assertEqual(wrong, [])

    def test_a_part_whose_reader_was_killed(self):
        data = solids.step_bytes(solids.box((0, 0, 0), (31, 20, 12)))
        with self.server.client() as client, self.database() as db:
            part = upload(client, data, "b.step")
            db.execute(
                "update part_upload set status = 'reading', tries = 1, beat = now() - interval '1 minute'"
                " where sha256 = %s",
                (part["sha256"],),
            )
            self.until(lambda: client.get(f"/api/parts/{part['sha256']}").json()["status"] == "ready")
            # Three times are enough.
            db.execute(
                "update part_upload set status = 'reading', tries = 3, beat = now() - interval '1 minute'"
                " where sha256 = %s",
                (part["sha256"],),
            )
            self.until(lambda: client.get(f"/api/parts/{part['sha256']}").json()["status"] == "refused")
            self.assertIn("3 times", client.get(f"/api/parts/{part['sha256']}").json()["problem"]["what"])

    def test_a_database_that_dies_comes_back(self):
        cluster = Cluster(self.server.data)
        with self.server.client() as client:
            before = client.get("/api/projects").json()
            os.kill(int((cluster.home / "postmaster.pid").read_text().split()[0]), signal.SIGKILL)

            def back() -> bool:
                try:
                    answer = client.get("/api/projects")
                except httpx.TransportError:
                    return False
                # Never a bare 500: what is wrong, and that nothing was saved.
                self.assertIn(answer.status_code, (200, 503))
                return answer.status_code == 200

            time.sleep(1)
            self.until(back, 60)
            self.assertEqual(client.get("/api/projects").json(), before)
        self.assertIn("the database ended, starting it again", (self.server.data / "log").read_text())

    def test_a_second_start_on_the_same_folder(self):
        second = subprocess.run(
            [sys.executable, "-m", "pelvrak.cli", "serve", "--data", str(self.server.data), "--port", "8790"],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
            cwd=TOP,
        )
        self.assertNotEqual(second.returncode, 0)
        self.assertIn(self.server.url, second.stderr)
        self.assertNotIn("Traceback", second.stderr)
        with self.server.client() as client:
            self.assertEqual(client.get("/api/projects").status_code, 200)

    def test_files_closed_to_others(self):
        cluster = Cluster(self.server.data)
        self.assertEqual(cluster.secret.stat().st_mode & 0o077, 0)
        self.assertEqual(cluster.home.stat().st_mode & 0o077, 0)
        self.assertFalse((cluster.home.parent / "first-password").exists())

    def until(self, done, seconds: float = 40.0) -> None:
        until = time.monotonic() + seconds
        while not done():
            self.assertLess(time.monotonic(), until, "it did not come about")
            time.sleep(0.3)


class FirstStart(unittest.TestCase):
    def test_broken_off_and_without_its_password(self):
        """A start broken off while the cluster was made, and a lost password file: the next start mends both
        and keeps what is there.
        """
        server = Server(demo=False, workers=0)
        try:
            half = Cluster(server.data).home
            half.with_name("postgres-new").mkdir(parents=True)
            (half.with_name("postgres-new") / "PG_VERSION").write_text("15")
            server.start()
            with server.client() as client:
                upload(client, solids.step_bytes(solids.box((0, 0, 0), (30, 20, 12))), "a.step")
                project = client.post(
                    "/api/projects",
                    json={
                        "name": "kept",
                        "sha256": upload(
                            client, solids.step_bytes(solids.box((0, 0, 0), (30, 20, 12))), "a.step"
                        )["sha256"],
                    },
                )
                self.assertEqual(project.status_code, 201)
            server.stop()
            (server.data / "postgres-password").unlink()
            server.start()
            with server.client() as client:
                self.assertEqual([line["name"] for line in client.get("/api/projects").json()], ["kept"])
        finally:
            server.remove()

    def test_other_machines_are_not_answered_without_sign_in(self):
        for host in ("0.0.0.0", "192.0.2.1", "::", "shop.example"):
            with self.assertRaises(SystemExit) as caught, contextlib.redirect_stdout(io.StringIO()):
                serve.serve(Path("/nonexistent"), 8600, 1, None, host)
            self.assertIn("no sign-in", str(caught.exception))
        for host in ("127.0.0.1", "::1", "localhost", "127.0.0.9"):
            self.assertTrue(serve.on_loopback(host))

    def test_a_pool_that_broke_is_made_anew(self):
        """A computation's process that dies while it starts must not end all computing for good."""
        apart._pool.cache_clear()
        try:
            self.assertEqual(apart.run(_one, (), lambda: True), 1)
            apart._pool().stop()
            apart._pool().join()
            self.assertEqual(apart.run(_one, (), lambda: True), 1)
        finally:
            apart._pool().stop()
            apart._pool().join()
            apart._pool.cache_clear()


if __name__ == "__main__":
    unittest.main()
