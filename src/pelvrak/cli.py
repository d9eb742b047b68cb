"""Headless commands: evaluate a plan, show a part, export the schema, bench, serve."""

from __future__ import annotations

import argparse
import hashlib
import json
import subprocess
import sys
from pathlib import Path

from pelvrak.core.errors import BadInput


def main(arguments: list[str] | None = None) -> int:
    """Entry point of bin/pelvrak; returns the exit code (2 for bad input)."""
    parser = argparse.ArgumentParser(prog="pelvrak", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)
    one = commands.add_parser("evaluate", help="compute a plan without server or database")
    one.add_argument("plan", type=Path)
    one.add_argument("--out", type=Path, required=True)
    one.add_argument("--error", type=float, help="choose the ray distance so that round walls are known to this, mm")
    one.add_argument("--quiet", action="store_true", help="no progress on standard error")
    one = commands.add_parser("schema", help="print the plan's JSON Schema")
    one.add_argument("--api", action="store_true", help="print the server's OpenAPI document instead")
    one = commands.add_parser("part", help="print what a STEP, STL or 3MF file holds, or what a new revision changes")
    one.add_argument("file", type=Path)
    one.add_argument("new", type=Path, nargs="?", help="its new revision: print what became of every face")
    one.add_argument("--json", action="store_true", help="print the facts as JSON")
    one = commands.add_parser("bench", help="measure the stock engine against its references")
    one.add_argument("what", choices=["stock"])
    one.add_argument("--json", action="store_true", help="print the numbers as JSON")
    one.add_argument("--moves", default="1000,5000,20000", help="numbers of moves against mesh booleans")
    one = commands.add_parser("serve", help="start database, workers and web server on loopback")
    one.add_argument("--demo", action="store_true", help="load the demo project when it is not there")
    one.add_argument("--port", type=int, default=8600)
    one.add_argument("--workers", type=int, default=1)
    one.add_argument("--data", type=Path, default=Path(".pelvrak"))
    chosen = parser.parse_args(arguments)
    try:
        return _COMMANDS[chosen.command](chosen)
    except BadInput as bad:
        print(f"pelvrak: {bad}", file=sys.stderr)
        return 2


def _read(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as wrong:
        raise BadInput("file.unreadable", str(path), wrong.strerror or str(wrong), "give the path of a file") from wrong


def _evaluate(chosen: argparse.Namespace) -> int:
    from pelvrak.core.geometry.mesh import to_stl
    from pelvrak.core.route.evaluate import evaluate
    from pelvrak.core.route.pieces import cell_within, mesh_from_bytes
    from pelvrak.core.route.plan import plan_from, plan_from_json
    from pelvrak.core.route.store import MemoryStore

    plan = plan_from_json(_read(chosen.plan), str(chosen.plan))
    if chosen.error is not None:
        plan = plan_from({**plan.model_dump(), "resolution_mm": round(cell_within(chosen.error), 4)}, "--error")
    part = _read(chosen.plan.parent / plan.part.file)
    sha256 = hashlib.sha256(part).hexdigest()
    if plan.part.sha256 not in (None, sha256):
        raise BadInput("part.changed", plan.part.file, "the part file is not the one this plan was made for",
                       "put the right file beside the plan, or clear part.sha256")  # fmt: skip

    def progress(share: float, what: str) -> bool:
        if not chosen.quiet:
            print(f"{share:4.0%} {what}", file=sys.stderr)
        return True

    store = MemoryStore()
    report = evaluate(plan, part, sha256, store, progress, lambda _, name: _read(chosen.plan.parent / name))
    chosen.out.mkdir(parents=True, exist_ok=True)
    for setup in report.setups:
        if setup.outgoing_key:
            surface = store.get(setup.outgoing_key, "surface.npz")
            assert surface is not None
            (chosen.out / f"{setup.name}.stl").write_bytes(
                to_stl(mesh_from_bytes(surface), f"{plan.name} {setup.name}")
            )
            for piece, ending in (("surface.glb", "glb"), ("field", "rays")):
                data = store.get(setup.outgoing_key, piece)
                assert data is not None
                (chosen.out / f"{setup.name}.{ending}").write_bytes(data)
        if setup.program_key:
            program = store.get(setup.program_key, "program.nc")
            assert program is not None
            (chosen.out / f"{setup.name}.nc").write_bytes(program)
    (chosen.out / "report.json").write_text(report.model_dump_json(indent=2) + "\n", encoding="utf-8")
    return 0


def _schema(chosen: argparse.Namespace) -> int:
    from pelvrak.core.route.plan import Plan

    if chosen.api:
        from pelvrak.server.app import app

        print(json.dumps(app.openapi(), indent=2))
        return 0
    print(json.dumps(Plan.model_json_schema(), indent=2))
    return 0


def _part(chosen: argparse.Namespace) -> int:
    from pelvrak.core.geometry.features import part_facts
    from pelvrak.core.geometry.matching import matching_facts
    from pelvrak.core.geometry.part_file import read_part

    model = read_part(_read(chosen.file), chosen.file.name)
    if chosen.new is not None:
        told = matching_facts(model.part, read_part(_read(chosen.new), chosen.new.name).part)
        if chosen.json:
            print(json.dumps(told, indent=2))
            return 0
        print("faces: " + ", ".join(f"{count} {state}" for state, count in told["faces"].items()))
        for line in told["changed"]:
            print(f"  face {line['old']} ({line['kind']}): {line['state']}: {line['sentence']}")
        print(f"{len(told['new_faces'])} faces are new")
        return 0
    facts = part_facts(model)
    if chosen.json:
        print(json.dumps(facts, indent=2))
        return 0
    size = " × ".join(f"{length:.3f}" for length in model.part.size)
    kinds = ", ".join(f"{count} {kind}" for kind, count in facts["faces"].items())
    print(f"{chosen.file.name}: {size} mm (file in {model.part.unit}), {model.part.volume_mm3 / 1000:.3f} cm³")
    print(f"{len(model.part.faces)} faces: {kinds}; smallest inner radius {facts['smallest_inner_radius_mm']} mm")
    for hole in facts["holes"]:
        way = "through" if hole["through"] else f"{hole['depth']:.3f} deep"
        print(f"  hole Ø{hole['diameter']:g} {way}, {hole['form']}, from {len(hole['sides'])} sides")
    for recess in facts["pockets"]:
        corner = "no corners" if recess["corner_radius"] is None else f"corners R{recess['corner_radius']:g}"
        print(f"  {recess['kind']} {recess['depth']:.3f} deep, {corner}, reached from {len(recess['sides'])} sides")
    for boss in facts["bosses"]:
        print(f"  boss {boss['height']:.3f} high" + (f", Ø{boss['diameter']:g}" if boss["diameter"] else ""))
    for problem in facts["problems"]:
        print(f"  {problem['sentence']}")
    return 0


def _bench(chosen: argparse.Namespace) -> int:
    script = Path(__file__).resolve().parents[2] / "bench" / f"{chosen.what}.py"
    if not script.exists():
        raise BadInput("bench.missing", str(script), "the bench is not beside the program", "run it from a clone")
    words = ["--moves", chosen.moves, *(["--json"] if chosen.json else [])]
    return subprocess.run([sys.executable, str(script), *words], check=False).returncode


def _serve(chosen: argparse.Namespace) -> int:
    from pelvrak.server.serve import serve

    return serve(chosen.data, chosen.port, chosen.workers, chosen.demo)


_COMMANDS = {"evaluate": _evaluate, "schema": _schema, "part": _part, "bench": _bench, "serve": _serve}

if __name__ == "__main__":
    sys.exit(main())
