"""Edits of a plan while workers are killed at random moments: whatever happens, the last state is reached."""

from __future__ import annotations

import contextlib
import os
import random
import signal
import threading
import time
from collections.abc import Callable

from tests.serving import Server, wait

# The longest an evaluation may take after the last kill: a worker starts anew, and the lost one is taken up.
REACHED_S = 90.0


def edits_under_fire(
    server: Server, project: int, edits: int, seed: int, said: Callable[[str], None] = lambda line: None
) -> tuple[int, list[str]]:
    """Edit the height of a billet again and again, killing workers meanwhile: how many were killed, and what
    went wrong.
    """
    chance, killed, wrong = random.Random(seed), 0, []
    with server.client() as client:
        state = client.get(f"/api/projects/{project}").json()
        for number in range(edits):
            plan = state["plan"]
            top = round(2 + chance.random() * 8, 2)
            plan["billet"]["sizing"]["z_plus"] = top
            answer = client.put(
                f"/api/projects/{project}/plan",
                json={"based_on": state["revision"], "what": f"top {top}", "plan": plan},
            )
            answer.raise_for_status()
            state = answer.json()
            after = chance.random() * 3
            shots = _shoot(server, chance, after) if chance.random() < 0.7 else 0
            killed += shots
            # Most edits come before the last is computed.
            if chance.random() < 0.6 and number < edits - 1:
                time.sleep(chance.random() * 1.5)
                state = client.get(f"/api/projects/{project}").json()
                continue
            state = wait(client, project, REACHED_S)
            told = f"{number + 1}: top {top}, {killed} killed, {state['evaluation']}"
            said(told)
            margin = ((state["report"] or {}).get("billet") or {}).get("margins", {}).get("z+")
            if (state["evaluation"]["status"], state["report_revision"]) != ("done", state["revision"]):
                wrong.append(f"not reached: {told}")
            elif margin is None or abs(margin - top) > 1e-3:
                wrong.append(f"another state's answer, margin {margin}: {told}")
    return killed, wrong


def _shoot(server: Server, chance: random.Random, after: float) -> int:
    """Kill one of the workers in a while; how many will be killed."""
    workers = server.workers()
    if not workers:
        return 0
    victim = chance.choice(workers)

    def kill() -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(victim, signal.SIGKILL)

    timer = threading.Timer(after, kill)
    timer.daemon = True
    timer.start()
    return 1
