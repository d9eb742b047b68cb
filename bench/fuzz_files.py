"""Changed files of every kind through the readers: each answer clear, none over a stated time, nothing accepted that is not meant.

Run: .venv/bin/python bench/fuzz_files.py [--files 10000] [--api] [--json]. --api sends every hundredth through a running server too.
"""

from __future__ import annotations

import argparse
import collections
import hashlib
import json
import random
import sys
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.core.test_hostile_files import drawing, package

from pelvrak.core.billet.shelf import from_csv, starting_shelf, to_csv
from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.mesh import box, to_stl
from pelvrak.core.geometry.part_file import read_part
from pelvrak.core.geometry.protected import protected
from pelvrak.core.holding.fixture import fixtures_from_json, fixtures_shipped
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
    fixtures = json.dumps({"fixtures": [one.model_dump(mode="json") for one in fixtures_shipped().values()]}).encode()
    machine = next(iter(machines().values())).model_dump_json().encode()
    return {
        "part.step": (TOP / "demo" / "float-carrier" / "float-carrier.step").read_bytes(),
        "part.stl": to_stl(box(low, high), "x"), "part.3mf": package(), "outline.dxf": drawing("25.0"),
        "stock.rays": saved(field_of_block(grid_around(low, high, 1.0), low, high)), "plan.json": plan,
        "fixtures.json": fixtures, "machine.json": machine, "shelf.csv": to_csv(starting_shelf()).encode(),
    }  # fmt: skip


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
            out[at:at] = dice.choice((b"nan", b"-1e308", b"99999999999999999999", b"\0", b"\xff\xfe", b"{[", b"1e-320"))
        elif what == 4:
            digits = [i for i, c in enumerate(out[at : at + 400], at) if 48 <= c <= 57]
            if digits:
                out[digits[0]] = 48 + dice.randrange(10)
        elif what == 5:
            out[at : at + 4] = dice.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\0\0\xc0\x7f", b"\xff\xff\x7f\x7f"))
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


def main() -> int:
    """Print what came of the files; 1 when an answer was late, unclear or broke down."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--json", action="store_true")
    chosen = parser.parse_args()
    good, dice = seeds(), random.Random(chosen.seed)
    heavy = [name for name in good if name.endswith((".step", ".stl", ".3mf", ".dxf", ".rays"))]
    light = [name for name in good if name not in heavy]
    told: collections.Counter[str] = collections.Counter()
    slowest: dict[str, float] = {}
    wrong: list[str] = []
    for _ in range(chosen.files):
        name = dice.choice(heavy if dice.random() < HEAVY_SHARE else light)
        data = changed(good[name], dice)
        began = time.monotonic()
        try:
            read(name, data)
            told[f"{name} read"] += 1
        except SeveralSolids:
            told[f"{name} several solids"] += 1
        except BadInput as bad:
            told[f"{name} {bad.code}"] += 1
            if any(word in bad.what + bad.mend for word in FORBIDDEN) or not (bad.what and bad.mend and bad.where):
                wrong.append(f"unclear: {name} {bad}")
        except Exception as broken:
            wrong.append(
                f"broke down: {name} {hashlib.sha256(data).hexdigest()[:12]} {type(broken).__name__}: {broken}"[:300]
            )
        took, kind = time.monotonic() - began, name.rsplit(".", 1)[1]
        slowest[kind] = max(slowest.get(kind, 0.0), round(took, 3))
        if took > LIMIT_S[kind]:
            wrong.append(f"late: {name} {took:.1f} s")
    result = {"files": chosen.files, "slowest_s": slowest, "wrong": wrong[:20], "answers": dict(sorted(told.items()))}
    print(
        json.dumps(result, indent=2)
        if chosen.json
        else f"{chosen.files} files, {len(wrong)} wrong, slowest {slowest}\n" + "\n".join(wrong[:20])
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
