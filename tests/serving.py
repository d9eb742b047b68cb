"""One running Pelvrak, demo in it, for all tests of server and screen; stopped when the tests end."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx

TOP = Path(__file__).resolve().parents[1]
DEMO_STEP = TOP / "demo" / "encoder-housing" / "encoder-housing.step"


# What asks a server or a page waits for it: rays at which it is computed soon. At those it ships with it is
# computed in the tests of the core.
DEMO_LOADED = ["--demo", "encoder-housing", "--demo-rays", "1.0"]


class Server:
    """bin/pelvrak serve with a data folder of its own."""

    def __init__(self, demo: bool = True, workers: int = 2) -> None:
        self.data = Path(tempfile.mkdtemp(prefix="pelvrak-test-"))
        self.data.chmod(0o755)  # PostgreSQL's unprivileged user passes through here
        self.demo, self.routes = demo, workers
        self.process: subprocess.Popen[bytes] | None = None
        self.url = ""

    def start(self) -> Server:
        (self.data / "address").unlink(missing_ok=True)
        command = [
            sys.executable,
            "-m",
            "pelvrak.cli",
            "serve",
            "--data",
            str(self.data),
            "--port",
            "8700",
            "--workers",
            str(self.routes),
        ]
        self.log = (self.data / "log").open("ab")
        self.process = subprocess.Popen(
            command + (DEMO_LOADED if self.demo else []), stdout=self.log, stderr=self.log
        )
        for _ in range(600):
            if (self.data / "address").exists() and (self.data / "address").read_text().endswith("\n"):
                self.url = (self.data / "address").read_text().strip()
                return self
            if self.process.poll() is not None:
                break
            time.sleep(0.1)
        raise RuntimeError(f"the server did not start:\n{(self.data / 'log').read_text()}")

    def stop(self) -> None:
        self.log.close()
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(30)
        self.process = None

    def remove(self) -> None:
        self.stop()
        shutil.rmtree(self.data, ignore_errors=True)

    def workers(self) -> list[int]:
        """Process numbers of the workers that compute routes now."""
        mine = str(self.process.pid) if self.process else "-"
        found = []
        for folder in Path("/proc").iterdir():
            if folder.name.isdigit():
                try:
                    words = (folder / "cmdline").read_bytes().split(b"\0")
                    parent = (folder / "stat").read_text().rsplit(")", 1)[1].split()[1]
                except OSError:
                    continue
                if parent == mine and b"pelvrak.server.jobs.worker" in words and b"routes" in words:
                    found.append(int(folder.name))
        return found

    def client(self) -> httpx.Client:
        return httpx.Client(base_url=self.url, timeout=30, headers={"x-pelvrak": "tests"})


_shared: Server | None = None


def shared() -> Server:
    """The server all tests use; its demo is computed."""
    global _shared
    if _shared is None:
        _shared = Server().start()
        atexit.register(_shared.remove)
        with _shared.client() as client:
            wait(client, 1)
    return _shared


def wait(client: httpx.Client, project: int, seconds: float = 240) -> dict[str, Any]:
    """The project once its newest evaluation has ended."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        state = client.get(f"/api/projects/{project}").json()
        if state["evaluation"] and state["evaluation"]["status"] in ("done", "failed", "stopped"):
            return state
        time.sleep(0.3)
    raise TimeoutError(f"project {project} was not computed in {seconds} s: {state['evaluation']}")


def upload(client: httpx.Client, data: bytes, name: str, seconds: float = 60) -> dict[str, Any]:
    """An uploaded part once it has been read or refused."""
    answer = client.post("/api/parts", files={"file": (name, data)})
    if answer.status_code != 202:
        return answer.json()
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        state = client.get(f"/api/parts/{answer.json()['sha256']}").json()
        if state["status"] != "reading":
            return state
        time.sleep(0.2)
    raise TimeoutError(name)


def kill(process: int) -> None:
    os.kill(process, signal.SIGKILL)
