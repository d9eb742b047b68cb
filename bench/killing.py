"""Fifty edits while workers are killed at random moments: the last state is always reached.

Run: .venv/bin/python bench/killing.py [--edits 50] [--seed 1].
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests import solids
from tests.server.killing import edits_under_fire
from tests.serving import Server, upload, wait


def main() -> int:
    """Print what went wrong; 1 when anything did."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--edits", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    server = Server(demo=False).start()
    try:
        with server.client() as client:
            part = upload(client, solids.step_bytes(solids.box((0, 0, 0), (40, 30, 12))), "plate.step")
            project = client.post("/api/projects", json={"name": "fire", "sha256": part["sha256"]}).json()[
                "id"
            ]
            state = wait(client, project)
            plan = state["plan"]
            # Fine enough that most kills meet a computation.
            plan["resolution_mm"] = 0.12
            plan["setups"][0]["operations"] = [
                {"id": "face", "name": "Face", "kind": "facing", "tool": "em10"}
            ]
            edit = {"based_on": state["revision"], "what": "finer", "plan": plan}
            client.put(f"/api/projects/{project}/plan", json=edit).raise_for_status()
        killed, wrong = edits_under_fire(
            server, project, chosen.edits, chosen.seed, lambda line: print(line, flush=True)
        )
    finally:
        server.remove()
    print(f"{chosen.edits} edits, {killed} workers killed, {len(wrong)} wrong")
    for line in wrong:
        print(line)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
