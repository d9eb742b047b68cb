"""How long does an edit of one project take while another project's whole route is computed, over the same
alone?

A server of its own with two workers; the edited project is a small one, the other the demo, computed from
nothing each time. Run: .venv/bin/python bench/busy.py.
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import httpx

TOP = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(TOP))

from tests.server.test_api import small_project  # noqa: E402
from tests.serving import Server, upload, wait  # noqa: E402

# Edits of each kind; the median of them counts.
EDITS = 3
DEMO = TOP / "demo" / "encoder-housing"


def edited(client: httpx.Client, project: int, clearance: float) -> float:
    """How long it takes from an edit of the project's one operation until it is computed, s."""
    state = client.get(f"/api/projects/{project}").json()
    plan = state["plan"]
    plan["setups"][0]["operations"] = [
        {
            "id": "face",
            "name": "Face",
            "kind": "facing",
            "tool": plan["tools"][0]["id"],
            "clearance": clearance,
        }
    ]
    began = time.perf_counter()
    body = {"based_on": state["revision"], "what": "edit", "plan": plan}
    client.put(f"/api/projects/{project}/plan", json=body).raise_for_status()
    wait(client, project)
    return time.perf_counter() - began


def median(values: list[float]) -> float:
    """The middle one."""
    return sorted(values)[len(values) // 2]


def busy_ratio() -> dict[str, float]:
    """Seconds alone and beside another route, and their ratio."""
    server = Server(demo=False, workers=2).start()
    try:
        with server.client() as client:
            small = small_project(client, "small")["id"]
            part = upload(client, (DEMO / "encoder-housing.step").read_bytes(), "encoder-housing.step")
            document: dict[str, Any] = json.loads((DEMO / "plan.json").read_text())
            document["part"]["sha256"] = part["sha256"]
            edited(client, small, 4.0)
            alone, beside = [], []
            for number in range(EDITS):
                alone.append(edited(client, small, 5.0 + number))
                # Another name and another billet: nothing of it is there yet.
                document["name"] = f"busy {number}"
                document["billet"]["sizing"]["size"][0] = 132.0 + number
                file = {"file": ("plan.json", json.dumps(document))}
                made = client.post("/api/projects/plan.json", files=file).raise_for_status().json()["id"]
                while client.get(f"/api/projects/{made}").json()["evaluation"]["status"] == "queued":
                    time.sleep(0.1)
                time.sleep(5.0)
                beside.append(edited(client, small, 15.0 + number))
                wait(client, made)
            return {
                "alone_s": median(alone),
                "beside_s": median(beside),
                "busy_ratio": median(beside) / median(alone),
            }
    finally:
        server.remove()


if __name__ == "__main__":
    print(json.dumps(busy_ratio(), indent=2))
