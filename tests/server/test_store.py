"""What is kept of what was computed, who else computes, and how a page hears of it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import psycopg

from tests import solids
from tests.server.test_api import edit, small_project
from tests.serving import DEMO_STEP, TOP, Server, shared, upload, wait


def address(server: Server) -> str:
    """Where the server's database is."""
    return (server.data / "database").read_text().strip()


def run(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "pelvrak.cli", *words],
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
    )


class StoreTest(unittest.TestCase):
    def store(self, *words: str) -> dict[str, Any]:
        done = run("store", "--data", str(shared().data), "--json", *words)
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout)

    def test_how_much_and_what_for(self):
        size = self.store()
        steps = {one["step"]: one for one in size["by_step"]}
        for step in ("part", "billet", "hold", "path", "cut", "surface", "volume", "compare", "still"):
            self.assertGreater(steps[step]["results"], 0, step)
            self.assertGreater(steps[step]["kept"], 0, step)
        self.assertEqual(size["results"], sum(one["results"] for one in size["by_step"]))
        # Compressed, and a content that several results name only once.
        self.assertLess(size["kept"], size["size"])
        self.assertLessEqual(size["size"], sum(one["size"] for one in size["by_step"]))
        told = run("store", "--data", str(shared().data)).stdout
        self.assertIn(f"{size['results']} results", told)

    def test_what_nobody_names_goes_after_a_day_and_nothing_else(self):
        with psycopg.connect(address(shared()), autocommit=True) as database:

            def put(key: str, hours: int) -> None:
                database.execute(
                    "insert into content values (%s, 3, 'abc') on conflict do nothing", [f"c{key}"]
                )
                database.execute(
                    "insert into result (key, step, used) values (%s, 'cut', now() - make_interval(hours =>"
                    " %s))",
                    [key, hours],
                )
                database.execute("insert into result_piece values (%s, 'field', %s)", [key, f"c{key}"])

            put("old", 25)
            put("young", 23)
            # However long nobody asked: what a project shows stays.
            database.execute(
                "update result set used = used - interval '50 days' where step <> 'cut' or key not in ('old',"
                " 'young')"
            )
            before = self.store()
            after = self.store("--collect")
            left = {
                key for (key,) in database.execute("select key from result where key in ('old', 'young')")
            }
            contents = {
                key
                for (key,) in database.execute(
                    "select digest from content where digest in ('cold', 'cyoung')"
                )
            }
            self.assertEqual((left, contents), ({"young"}, {"cyoung"}))
            self.assertLess(after["results"], before["results"])
            database.execute("delete from result where key = 'young'")
            self.assertEqual(
                database.execute("select count(*) from result_piece where key = 'young'").fetchone(), (0,)
            )
        with shared().client() as client:
            report = client.get("/api/projects/1").json()["report"]
            keys = [
                report["billet"]["key"],
                report["comparison"]["key"],
                *(one["outgoing_key"] for one in report["setups"]),
            ]
            for key in keys:
                self.assertEqual(client.get(f"/api/results/{key}/surface.glb").content[:4], b"glTF", key)
            state = client.post("/api/projects/1/run").json()
            self.assertEqual(wait(client, state["id"])["report"]["computed"], [])

    def test_where_there_is_no_database(self):
        for words, said in (
            (("store", "--data", "/nowhere"), "no Pelvrak runs from this folder"),
            (("work", "--database", "http://here"), "is not the address of a database"),
            (("work", "--database", "postgresql://a:b@127.0.0.1:1/none"), "does not answer"),
        ):
            done = run(*words)
            self.assertEqual((done.returncode, "Traceback" in done.stderr), (2, False), done.stderr)
            self.assertIn(said, done.stderr)

    def test_a_database_of_another_version(self):
        with psycopg.connect(address(shared()), autocommit=True) as database:
            (was,) = database.execute("select version_num from alembic_version").fetchone()
            try:
                database.execute("update alembic_version set version_num = '0001'")
                done = run("work", "--database", address(shared()))
            finally:
                database.execute("update alembic_version set version_num = %s", [was])
        self.assertEqual(done.returncode, 2)
        self.assertIn("its tables are of version 0001", done.stderr)


HAS_IT = """
from pelvrak.server.db.store import DatabaseStore
import sys, time
with DatabaseStore().alone("a" * 32, lambda: None):
    print("has it", flush=True)
    time.sleep(60)
"""
WAITS = """
from pelvrak.server.db.store import DatabaseStore
waited = []
def waiting():
    waited.append(1)
    if len(waited) == 3:
        print("waits", flush=True)
with DatabaseStore().alone("b" * 32, waiting):
    assert not waited, "another key is another's"
with DatabaseStore().alone("a" * 32, waiting):
    print("has it", flush=True)
"""


class HelpTest(unittest.TestCase):
    """Several workers on one route."""

    def test_the_key_of_a_worker_that_vanishes_is_free(self):
        own = {**os.environ, "PELVRAK_DATABASE": address(shared())}

        def started(program: str) -> subprocess.Popen[str]:
            return subprocess.Popen(
                [sys.executable, "-c", program], stdout=subprocess.PIPE, text=True, env=own
            )

        with started(HAS_IT) as first:
            try:
                self.assertEqual(first.stdout.readline(), "has it\n")
                with started(WAITS) as second:
                    self.assertEqual(second.stdout.readline(), "waits\n")
                    first.kill()
                    self.assertEqual(second.stdout.readline(), "has it\n")
                    self.assertEqual(second.wait(20), 0)
            finally:
                first.kill()

    def test_an_idle_worker_helped_with_the_demo(self):
        with psycopg.connect(address(shared())) as database:
            (status,) = database.execute(
                "select status from procrastinate_jobs where task_name = 'help' and args->>'evaluation_id' ="
                " (select min(id)::text from evaluation where project_id = 1 and status = 'done')"
            ).fetchone()
        self.assertEqual(status, "succeeded")


OLD = """
from alembic import command
from alembic.config import Config
from sqlalchemy import text
from pelvrak.server.db.session import engine, migrate
config = Config()
config.set_main_option("script_location", "src/pelvrak/server/db/migrations")
with engine().begin() as connection:
    config.attributes["connection"] = connection
    command.upgrade(config, "0004")
    for line in (
        "insert into part_upload (sha256, name, body, kind, status, key, created) values (repeat('a', 64), 'a.step', 'x', 'part', 'ready', 'old', now())",
        "insert into project (id, name, head, last, created) values (1, 'old', 1, 1, now())",
        "insert into revision (project_id, number, what, plan, created) values (1, 1, 'made', '{}', now())",
        "insert into evaluation (project_id, revision, status, share, what, tries, stop, beat, report) "
        "values (1, 1, 'done', 1, '', 1, false, now(), jsonb_build_object('version', 14))",
        "insert into result_piece values ('old', 'field', 'x')",
    ):
        connection.execute(text(line))
migrate()
from pelvrak.server.api.projects import retire_old_reports
retire_old_reports()
retire_old_reports()
with engine().begin() as connection:
    print(connection.execute(text("select string_agg(status, ' ' order by id) from evaluation")).scalar_one())
    print(connection.execute(text("select status from part_upload")).scalar_one())
    print(connection.execute(text("select count(*) from procrastinate_jobs where status = 'todo'")).scalar_one())
"""


class UpgradeTest(unittest.TestCase):
    def test_projects_of_the_version_before_are_computed_again(self):
        url = address(shared())
        with psycopg.connect(url, autocommit=True) as database:
            database.execute("create database before")
        try:
            old = {**os.environ, "PELVRAK_DATABASE": url.rsplit("/", 1)[0] + "/before"}
            done = subprocess.run(
                [sys.executable, "-c", OLD], cwd=TOP, env=old, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            # Once, and not at every start.
            self.assertEqual(done.stdout.split("\n")[:3], ["stopped queued", "reading", "2"])
        finally:
            with psycopg.connect(url, autocommit=True) as database:
                database.execute("drop database before with (force)")

    def test_a_part_read_by_the_version_before_is_known_as_it_is_read_now(self):
        with shared().client() as client, psycopg.connect(address(shared()), autocommit=True) as database:
            part = upload(client, solids.step_bytes(solids.box((0, 0, 0), (31, 21, 11))), "read.step")
            body = {"name": "read before", "sha256": part["sha256"]}
            number = client.post("/api/projects", json=body).json()["id"]
            wait(client, number)
            of = {"sha256": part["sha256"]}
            database.execute("update part_upload set key = 'before' where sha256 = %(sha256)s", of)
            client.post(f"/api/projects/{number}/run")
            wait(client, number)
            row = database.execute("select key from part_upload where sha256 = %(sha256)s", of).fetchone()
            self.assertNotEqual(row, ("before",))
            facts = client.get(f"/api/parts/{part['sha256']}/facts").json()
            self.assertEqual((len(facts["faces"]), facts["callouts"]), (6, []))


class ElsewhereTest(unittest.TestCase):
    """A server that computes nothing itself."""

    @classmethod
    def setUpClass(cls):
        cls.server = Server(demo=False, workers=0).start()

    @classmethod
    def tearDownClass(cls):
        cls.server.remove()

    @contextmanager
    def worker(self) -> Iterator[subprocess.Popen[str]]:
        own = {name: value for name, value in os.environ.items() if name != "PELVRAK_DATABASE"}
        command = [sys.executable, "-m", "pelvrak.cli", "work", "--database", address(self.server)]
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, text=True, env=own, start_new_session=True
        )
        try:
            assert process.stdout is not None
            self.assertIn("Computing", process.stdout.readline())
            yield process
        finally:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
            process.wait(10)

    def test_a_worker_that_vanishes_costs_only_its_step(self):
        with self.server.client() as client:
            part = upload(client, DEMO_STEP.read_bytes(), "housing.step")
            document = json.loads((TOP / "demo" / "encoder-housing" / "plan.json").read_text())
            document["part"]["sha256"] = part["sha256"]
            document["setups"] = document["setups"][:1]
            answer = client.post(
                "/api/projects/plan.json", files={"file": ("plan.json", json.dumps(document))}
            )
            self.assertLess(answer.status_code, 300, answer.text)
            project = answer.json()["id"]
            time.sleep(1.5)
            self.assertEqual(client.get(f"/api/projects/{project}").json()["evaluation"]["status"], "queued")
            with self.worker() as process:
                self.until(client, project, lambda state: (state["report"] or {}).get("begun") == "OP10")
                os.killpg(process.pid, signal.SIGKILL)
            with self.worker() as process:
                done = wait(client, project)
                self.assertEqual(done["evaluation"]["status"], "done")
                self.assertIn("OP10 holding", done["report"]["reused"])
                self.assertNotIn("OP10 holding", done["report"]["computed"])
                self.assertIn("compare", done["report"]["computed"])
                process.send_signal(signal.SIGINT)
                self.assertEqual(process.wait(20), 0)

    def until(self, client: httpx.Client, project: int, reached: Any) -> None:
        for _ in range(900):
            if reached(client.get(f"/api/projects/{project}").json()):
                return
            time.sleep(0.1)
        self.fail("it never came so far")


class EventTest(unittest.TestCase):
    """Nothing that happened stays unheard: events are numbered."""

    def test_numbers(self):
        with shared().client() as client, client.stream("GET", "/api/events") as stream:
            events = (json.loads(line[6:]) for line in stream.iter_lines() if line.startswith("data: "))
            hello = next(events)
            self.assertEqual(hello["kind"], "hello")
            with shared().client() as other:
                state = small_project(other, "heard")
                edit(other, wait(other, state["id"]), lambda plan: plan["setups"][0].update(title="Heard"))
            numbers = []
            while len(numbers) < 4:
                event = next(events)
                if event["kind"] in ("part", "evaluation"):
                    numbers.append(event["number"])
            self.assertEqual(numbers, sorted(numbers))
            self.assertEqual(len(set(numbers)), 4)
            self.assertGreater(numbers[0], hello["number"])
            # One that is lost on its way is told by its number before long.
            with psycopg.connect(address(shared()), autocommit=True) as database:
                (lost,) = database.execute("select nextval('event_number')").fetchone()
            for event in events:
                if event["kind"] == "here" and event["number"] >= lost:
                    break


if __name__ == "__main__":
    unittest.main()
