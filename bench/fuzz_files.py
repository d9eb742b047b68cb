"""Changed files of every kind through the readers: each answer clear, none over a stated time, nothing
accepted that is not meant.

Through their readers, some through the command, and some through a running server as the page sends them.
Run: .venv/bin/python bench/fuzz_files.py [--files 10000] [--api 1000] [--command 200] [--json].
"""

from __future__ import annotations

import argparse
import collections
import contextlib
import hashlib
import io
import json
import random
import sys
import tempfile
import time
from pathlib import Path

import httpx
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.test_hostile_files import drawing, package
from tests.serving import Server

from pelvrak.cli import main as command
from pelvrak.core.billet.shelf import from_csv, starting_shelf, to_csv
from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.mesh import box, to_stl
from pelvrak.core.geometry.part_file import read_part
from pelvrak.core.geometry.protected import protected
from pelvrak.core.holding.kinds import fixtures_from_json, fixtures_shipped
from pelvrak.core.machine.machine import machine_from_json, machines
from pelvrak.core.route.plan import plan_from_json
from pelvrak.core.stock.field import grid_around, saved
from pelvrak.core.stock.shapes import field_of_block

TOP = Path(__file__).resolve().parents[1]
# What a reading process costs to start; texts are read in this process.
LIMIT_S = {"step": 30.0, "stl": 20.0, "3mf": 20.0, "dxf": 20.0, "rays": 20.0, "json": 1.0, "csv": 1.0}
# Of all files so many are read by a process of their own: each takes a second or two.
HEAVY_SHARE = 0.05
FORBIDDEN = ("Traceback", "Exception", "Error", "NoneType", "<class", "regex")


def seeds() -> dict[str, bytes]:
    """A good file of every kind."""
    low, high = np.zeros(3), np.array([12.0, 10.0, 8.0])
    plan = (TOP / "demo" / "float-carrier" / "plan.json").read_bytes()
    fixtures = json.dumps(
        {"fixtures": [one.model_dump(mode="json") for one in fixtures_shipped().values()]}
    ).encode()
    machine = next(iter(machines().values())).model_dump_json().encode()
    return {
        "part.step": (TOP / "demo" / "float-carrier" / "float-carrier.step").read_bytes(),
        "part.stl": to_stl(box(low, high), "x"),
        "part.3mf": package(),
        "outline.dxf": drawing("25.0"),
        "stock.rays": saved(field_of_block(grid_around(low, high, 1.0), low, high)),
        "plan.json": plan,
        "fixtures.json": fixtures,
        "machine.json": machine,
        "shelf.csv": to_csv(starting_shelf()).encode(),
    }


def changed(data: bytes, dice: random.Random) -> bytes:
    """The file with a few of its bytes, numbers or stretches changed."""
    out = bytearray(data)
    for _ in range(dice.choice((1, 1, 2, 5))):
        at, what = dice.randrange(max(len(out), 1)), dice.randrange(7)
        if what == 0:
            out[at : at + 1] = bytes([dice.randrange(256)])
        elif what == 1:
            del out[at : at + dice.choice((1, 4, 100, len(out) // 2))]
        elif what == 2:
            out[at:at] = out[at : at + dice.choice((1, 8, 200))]
        elif what == 3:
            out[at:at] = dice.choice(
                (b"nan", b"-1e308", b"99999999999999999999", b"\0", b"\xff\xfe", b"{[", b"1e-320")
            )
        elif what == 4:
            digits = [i for i, c in enumerate(out[at : at + 400], at) if 48 <= c <= 57]
            if digits:
                out[digits[0]] = 48 + dice.randrange(10)
        elif what == 5:
            out[at : at + 4] = dice.choice(
                (b"\xff\xff\xff\xff", b"\0\0\0\0", b"\0\0\xc0\x7f", b"\xff\xff\x7f\x7f")
            )
        else:
            out = out[: dice.randrange(max(len(out), 1))]
    return bytes(out)


def read(name: str, data: bytes) -> None:
    """Read a file as the program would. Raises BadInput."""
    if name.endswith((".step", ".stl", ".3mf")):
        read_part(data, name)
    elif name.endswith(".dxf"):
        protected("pelvrak.core.billet.billet_reader", ["outline"], data, name)
    elif name.endswith(".rays"):
        protected("pelvrak.core.billet.billet_reader", ["stock"], data, name)
    elif name == "plan.json":
        plan_from_json(data, name)
    elif name == "fixtures.json":
        fixtures_from_json(data, name)
    elif name == "machine.json":
        machine_from_json(data, name)
    else:
        from_csv(data.decode("utf-8", "replace"), name)


class Tally:
    """What came of the files: answers by kind, the slowest of each kind, and what was wrong."""

    def __init__(self) -> None:
        self.answers: collections.Counter[str] = collections.Counter()
        self.slowest: dict[str, float] = {}
        self.wrong: list[str] = []

    def timed(self, name: str, began: float, spare: float = 0.0) -> None:
        """Keep how long a file took; spare: seconds allowed beyond what its kind may take."""
        took, kind = time.monotonic() - began, name.rsplit(".", 1)[1]
        self.slowest[kind] = max(self.slowest.get(kind, 0.0), round(took, 3))
        if took > LIMIT_S[kind] + spare:
            self.wrong.append(f"late: {name} {took:.1f} s")

    def told(self, name: str, code: str, where: str, what: str, mend: str) -> None:
        """Keep a refusal, which has to say what, where and how to mend it in plain words."""
        self.answers[f"{name} {code}"] += 1
        if any(word in what + mend for word in FORBIDDEN) or not (what and mend and where):
            self.wrong.append(f"unclear: {name} {code} {where}: {what} / {mend}")

    def broke(self, name: str, data: bytes, how: str) -> None:
        """Keep a file that something broke down on."""
        self.wrong.append(f"broke down: {name} {hashlib.sha256(data).hexdigest()[:12]} {how}"[:300])


def by_reader(tally: Tally, name: str, data: bytes) -> None:
    """A file through its reader, which is what the command calls."""
    began = time.monotonic()
    try:
        read(name, data)
        tally.answers[f"{name} read"] += 1
    except SeveralSolids:
        tally.answers[f"{name} several solids"] += 1
    except BadInput as bad:
        tally.told(name, bad.code, bad.where, bad.what, bad.mend)
    except Exception as broken:
        tally.broke(name, data, f"{type(broken).__name__}: {broken}")
    tally.timed(name, began)


def by_command(tally: Tally, name: str, data: bytes, folder: Path) -> None:
    """A part's file or a plan through the command line: an exit code and a sentence, never a traceback."""
    file = folder / name
    file.write_bytes(data)
    words = ["part", str(file)] if name.startswith("part") else ["offsets", str(file)]
    out, err, began = io.StringIO(), io.StringIO(), time.monotonic()
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = command(words)
        tally.answers[f"command {words[0]} {code}"] += 1
        if code and not err.getvalue().strip():
            tally.wrong.append(f"unclear: command {words[0]} {code} without a word")
    except Exception as broken:
        tally.broke(f"command {words[0]} {name}", data, f"{type(broken).__name__}: {broken}")
    tally.timed(name, began, spare=LIMIT_S["step"])


def by_server(tally: Tally, name: str, data: bytes, client: httpx.Client) -> None:
    """A file as the page sends it: answered with 200 to 202, or a refusal as problem details; what a worker
    reads comes to an end.
    """
    paths = {
        "plan.json": "/api/projects/plan.json",
        "fixtures.json": "/api/fixtures.json",
        "machine.json": "/api/machines.json",
        "shelf.csv": "/api/shelf.csv",
    }
    began = time.monotonic()
    answer = client.post(paths.get(name, "/api/parts"), files={"file": (name, data)})
    problem = None
    if answer.status_code == 202:
        state = answer.json()
        while state["status"] == "reading" and time.monotonic() - began < 90:
            time.sleep(0.1)
            state = client.get(f"/api/parts/{state['sha256']}").json()
        if state["status"] == "reading":
            tally.wrong.append(f"without end: {name} {state['sha256'][:12]}")
        problem = state["problem"]
    elif answer.status_code >= 500:
        tally.broke(f"server {name}", data, f"{answer.status_code} {answer.text[:200]}")
    elif answer.status_code >= 300:
        problem = answer.json()
    if problem is not None:
        tally.told(f"server {name}", problem["code"], problem["where"], problem["what"], problem["mend"])
    else:
        tally.answers[f"server {name} {answer.status_code}"] += 1
    if answer.status_code == 201:
        # Only what was put away can be deleted.
        made = f"/api/projects/{answer.json()['id']}"
        client.patch(made, json={"archived": True}).raise_for_status()
        client.delete(made).raise_for_status()
    tally.timed(name, began, spare=LIMIT_S["step"])


def main() -> int:
    """Print what came of the files; 1 when an answer was late, unclear or broke down."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=10_000)
    parser.add_argument(
        "--api", type=int, default=1000, help="how many of them go through a running server too"
    )
    parser.add_argument("--command", type=int, default=200, help="how many go through the command too")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--json", action="store_true")
    chosen = parser.parse_args()
    good, dice, tally = seeds(), random.Random(chosen.seed), Tally()
    heavy = [name for name in good if name.endswith((".step", ".stl", ".3mf", ".dxf", ".rays"))]
    light = [name for name in good if name not in heavy]
    files = []
    for _ in range(chosen.files):
        name = dice.choice(heavy if dice.random() < HEAVY_SHARE else light)
        files.append((name, changed(good[name], dice)))
    for name, data in files:
        by_reader(tally, name, data)
    print(
        f"{len(files)} read: {len(tally.wrong)} wrong, slowest {tally.slowest}", file=sys.stderr, flush=True
    )
    with tempfile.TemporaryDirectory() as folder:
        for name, data in [one for one in files if one[0].startswith(("part", "plan"))][: chosen.command]:
            by_command(tally, name, data, Path(folder))
    if chosen.api:
        # Every kind as often as the others: here reading is what is tried.
        sent = [(name, changed(good[name], dice)) for name in list(good) * -(-chosen.api // len(good))][
            : chosen.api
        ]
        server = Server(demo=False).start()
        try:
            with server.client() as client:
                for name, data in sent:
                    by_server(tally, name, data, client)
                if client.get("/api/projects").status_code != 200:
                    tally.wrong.append("the server does not answer any more")
        finally:
            server.remove()
    result = {
        "files": chosen.files,
        "through_server": chosen.api,
        "slowest_s": tally.slowest,
        "wrong": tally.wrong[:20],
        "answers": dict(sorted(tally.answers.items())),
    }
    print(
        json.dumps(result, indent=2)
        if chosen.json
        else (
            f"{chosen.files} files, {chosen.api} through the server, {len(tally.wrong)} wrong, slowest"
            f" {tally.slowest}\n"
        )
        + "\n".join(tally.wrong[:20])
    )
    return 1 if tally.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
