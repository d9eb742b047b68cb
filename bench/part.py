"""How long until a part of 2,000 faces is read, known and shown, beside plain Open CASCADE reading and
meshing it?

Run: python bench/part.py [--json] [--faces 2000]. Both run in processes of their own, one after the other,
start of the interpreter and loading of Open CASCADE included. Ratios only mean something within one run.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

TOP = Path(__file__).resolve().parents[1]
PLAIN = """
import sys
from OCP.STEPControl import STEPControl_Reader
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from pelvrak.core.geometry.step_reader import ANGLE_RAD, DEFLECTION_MM
reader = STEPControl_Reader()
reader.ReadFile(sys.argv[1])
reader.TransferRoots()
BRepMesh_IncrementalMesh(reader.OneShape(), DEFLECTION_MM, False, ANGLE_RAD, True)
"""
OURS = """
import hashlib, sys
from pathlib import Path
from pelvrak.core.route.run import part_result
from pelvrak.core.engine.engine import Engine
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.route.pieces import PART
data = Path(sys.argv[1]).read_bytes()
model = part_result(data, "plate.step", Engine(MemoryStore())).value(PART)
print(len(model.part.faces), len(model.part.holes))
"""


def plate(faces: int) -> bytes:
    """A plate with rows of blind holes, every second one counterbored, as STEP."""
    sys.path.insert(0, str(TOP))
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.TopTools import TopTools_ListOfShape
    from tests import solids

    tools, count, number = TopTools_ListOfShape(), 6, 0
    columns = int((faces / 3) ** 0.5) + 1
    while count < faces:
        at = (4.0 + 8 * (number % columns), 4.0 + 8 * (number // columns))
        tools.Append(solids.cylinder((*at, 6.0), 1.5, 20.0))
        count += 2
        if number % 2:
            tools.Append(solids.cylinder((*at, 14.0), 2.6, 20.0))
            count += 2
        number += 1
    rows = number // columns + 1
    arguments = TopTools_ListOfShape()
    arguments.Append(solids.box((0, 0, 0), (8.0 * columns, 8.0 * rows, 20.0)))
    cut = BRepAlgoAPI_Cut()
    cut.SetArguments(arguments)
    cut.SetTools(tools)
    cut.Build()
    return solids.step_bytes(cut.Shape())


def took(code: str, path: Path) -> tuple[float, str]:
    """Seconds of a Python process, and what it printed."""
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", code, str(path)], check=True, capture_output=True, text=True)
    return time.perf_counter() - began, done.stdout.strip()


def main(arguments: list[str]) -> int:
    """Print the ratio."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--faces", type=int, default=2000)
    chosen = parser.parse_args(arguments)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plate.step"
        path.write_bytes(plate(chosen.faces))
        took(OURS, path)  # compile first
        ratios = []
        for _ in range(3):
            plain, _ = took(PLAIN, path)
            ours, told = took(OURS, path)
            ratios.append(ours / plain)
            print(f"plain {plain:.2f} s, ours {ours:.2f} s ({told} faces, holes)", file=sys.stderr)
    out = {"faces": int(told.split()[0]), "part_time_ratio": round(statistics.median(ratios), 2)}
    print(
        json.dumps(out, indent=2)
        if chosen.json
        else f"{out['faces']} faces: {out['part_time_ratio']} times plain reading"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
