"""Thirty readers beside one evaluation: how long an answer takes, as a ratio to one reader on a quiet server
in the same run.

Run: .venv/bin/python bench/readers.py [--projects 50] [--json].
"""

from __future__ import annotations

import argparse
import json
import sys
import threading
import time
from pathlib import Path

import httpx
import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from tests.serving import Server, wait

# A page asks about twice a second while a route is computed.
READERS, SECONDS, EVERY_S = 30, 15.0, 0.5
PATHS = ("/api/projects", "/api/projects/1", "/api/library", "/api/fixtures")


def read(server: Server, readers: int, seconds: float) -> dict[str, float]:
    """Median and 95th percentile of the answers' times, s, and how many there were; every answer has to be a
    200.
    """
    took: list[float] = []
    until = time.monotonic() + seconds

    def one(number: int) -> None:
        with server.client() as client:
            turn = number
            while time.monotonic() < until:
                began = time.monotonic()
                client.get(PATHS[turn % len(PATHS)]).raise_for_status()
                took.append(time.monotonic() - began)
                turn += 1
                time.sleep(EVERY_S)

    threads = [threading.Thread(target=one, args=(i,)) for i in range(readers)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return {"median_s": float(np.median(took)), "p95_s": float(np.percentile(took, 95)), "answers": len(took)}


def main() -> int:
    """Print the ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--projects", type=int, default=50)
    parser.add_argument("--json", action="store_true")
    chosen = parser.parse_args()
    server = Server().start()
    try:
        with server.client() as client:
            wait(client, 1)
            for _ in range(chosen.projects):
                project = client.post("/api/projects/1/copy").json()["id"]
            wait(client, project, 600)
            quiet = read(server, 1, SECONDS)
            state = client.get("/api/projects/1").json()
            plan = state["plan"] | {"resolution_mm": 0.4}
            client.put(
                "/api/projects/1/plan", json={"based_on": state["revision"], "what": "finer", "plan": plan}
            ).raise_for_status()
            busy = read(server, READERS, SECONDS)
            told = client.get("/api/projects/1").json()["evaluation"]["status"]
    except httpx.HTTPError as failed:
        print(f"a reader was refused: {failed}", file=sys.stderr)
        return 1
    finally:
        server.remove()
    result = {
        "projects": chosen.projects + 1,
        "readers": READERS,
        "evaluation": told,
        "quiet": quiet,
        "busy": busy,
        "median_ratio": busy["median_s"] / quiet["median_s"],
        "p95_ratio": busy["p95_s"] / quiet["p95_s"],
    }
    print(
        json.dumps(result, indent=2)
        if chosen.json
        else f"median {result['median_ratio']:.1f}, p95 {result['p95_ratio']:.1f} times one reader's"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
