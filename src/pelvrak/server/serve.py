"""One command that starts everything and stops it cleanly: database, migrations, workers, web server."""

from __future__ import annotations

import hashlib
import ipaddress
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

from pelvrak.server.postgres import Cluster, free_port, running, write_closed

DEMO = Path(__file__).resolve().parents[3] / "demo"
DEMOS = {
    "encoder-housing": "encoder-housing/plan.json",
    "encoder-housing-trunnion": "encoder-housing/trunnion.json",
    "float-carrier": "float-carrier/plan.json",
    "latch-plate": "latch-plate/plan.json",
    "carrier-lot": "carrier-lot/plan.json",
}
STOP_WITHIN_S = 8.0


class _Asked(Exception):
    """Someone asked us to stop."""


def serve(
    data: Path,
    port: int,
    workers: int,
    demo: list[str] | None,
    host: str = "127.0.0.1",
    rays: float | None = None,
) -> int:
    """Run until interrupted; a process that dies is started again, the database too. rays: how far apart
    those of the demo are, mm, where not as it has them.
    """
    if not on_loopback(host):
        raise SystemExit(
            f"pelvrak: {host} can be reached from other machines, and there is no sign-in yet: whoever"
            " reaches it could change everything. Leave --host out, and reach it from elsewhere through a"
            " tunnel that asks who you are"
        )

    def asked(signal_number: int, frame: object) -> None:
        raise _Asked

    signal.signal(signal.SIGTERM, asked)
    signal.signal(signal.SIGINT, asked)
    try:
        with running(data) as cluster:
            os.environ["PELVRAK_DATABASE"] = cluster.url
            from pelvrak.server.db.session import migrate

            migrate()
            for name in DEMOS if demo == [] else demo or ():
                load_demo(DEMO / DEMOS[name], rays)
            port = free_port(port, "the web server")
            os.environ["PELVRAK_PORT"] = str(port)
            _attend(data, cluster, port, _commands(port, workers))
    except _Asked:
        print("Pelvrak has stopped.", flush=True)
    return 0


def _commands(port: int, workers: int) -> dict[str, list[str]]:
    """What is started, by what it is called: the page first, for what the others have to load would only keep
    it waiting.
    """
    from pelvrak.server.jobs.handing import PARTS, ROUTES

    listen = ["--host", "127.0.0.1", "--port", str(port)]
    quiet = ["--log-level", "warning", "--timeout-graceful-shutdown", "2"]
    worker = [sys.executable, "-m", "pelvrak.server.jobs.worker"]
    return {
        "web": [sys.executable, "-m", "uvicorn", "pelvrak.server.app:app", *listen, *quiet],
        "reader": [*worker, PARTS],
        **{f"worker {number}": [*worker, ROUTES] for number in range(1, workers + 1)},
    }


def _attend(data: Path, cluster: Cluster, port: int, commands: dict[str, list[str]]) -> None:
    """Start the processes, and again those that end; they are stopped whatever ends this."""
    address = f"http://127.0.0.1:{port}"
    processes: dict[str, subprocess.Popen[bytes]] = {}
    try:
        processes["web"] = subprocess.Popen(commands["web"])
        _wait_for(f"{address}/api/library")
        for name, command in commands.items():
            if name not in processes:
                processes[name] = subprocess.Popen(command)
        write_closed(data / "database", cluster.url + "\n")
        (data / "address").write_text(f"{address}\n")
        (data / "workers").write_text("\n".join(str(p.pid) for n, p in processes.items() if n != "web"))
        print(f"Pelvrak is at {address}   (Ctrl-C stops it)", flush=True)
        while True:
            time.sleep(0.5)
            if not cluster.runs():
                print("pelvrak: the database ended, starting it again", flush=True)
                cluster.start()
            for name, process in processes.items():
                if process.poll() is not None:
                    print(f"pelvrak: {name} ended ({process.returncode}), starting it again", flush=True)
                    processes[name] = subprocess.Popen(commands[name])
    finally:
        _stop(processes)


def on_loopback(host: str) -> bool:
    """Whether an address to listen on is this machine's alone."""
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return host == "localhost"


def _stop(processes: dict[str, subprocess.Popen[bytes]]) -> None:
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for process in processes.values():
        process.terminate()
    until = time.monotonic() + STOP_WITHIN_S
    for process in processes.values():
        try:
            process.wait(max(0.1, until - time.monotonic()))
        except subprocess.TimeoutExpired:
            process.kill()


def _wait_for(url: str) -> None:
    for _ in range(300):
        try:
            with urllib.request.urlopen(url, timeout=2):
                return
        except (urllib.error.URLError, OSError):
            time.sleep(0.2)
    raise SystemExit("pelvrak: the web server does not answer")


def load_demo(path: Path, rays: float | None = None) -> None:
    """Put the demo project in, once: it is known by its part and its plan's name. rays: how far apart, mm."""
    from sqlalchemy import select

    from pelvrak.core.route.plan import plan_from_json
    from pelvrak.server.api.projects import add_project, start_evaluation
    from pelvrak.server.db.models import PartUpload, Project
    from pelvrak.server.db.session import transaction
    from pelvrak.server.jobs.handing import BESIDE, hand_part

    plan = plan_from_json(path.read_bytes(), str(path))
    plan = plan if rays is None else plan.model_copy(update={"resolution_mm": rays})
    body = path.with_name(plan.part.file).read_bytes()
    sha256 = hashlib.sha256(body).hexdigest()
    with transaction() as session:
        if session.scalars(select(Project).where(Project.name == plan.name)).first():
            return
        fresh = session.get(PartUpload, sha256) is None
        if fresh:
            session.add(PartUpload(sha256=sha256, name=plan.part.file, body=body, status="reading"))
            session.flush()
            hand_part(session, sha256)
        start_evaluation(session, add_project(session, plan, "demo loaded"), BESIDE)
