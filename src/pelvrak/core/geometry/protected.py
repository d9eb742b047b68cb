"""How is a file from outside read without trusting it? By a process of its own, with limits of time and
memory.
"""

from __future__ import annotations

import atexit
import json
import os
import pwd
import socket
import subprocess
import sys
import tempfile
import threading
from functools import cache
from pathlib import Path

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.reading import REFUSED, SEVERAL, Reading

TIME_LIMIT_S = 120.0
# Address space of a reading process: libraries alone take about one.
MEMORY_LIMIT_BYTES = 6 * 1024**3
NOBODY = "nobody"
# What a reading process is told of its surroundings; never how the database is reached.
_KEPT = (
    "PATH",
    "LANG",
    "LC_ALL",
    "PYTHONPATH",
    "OPENBLAS_CORETYPE",
    "OPENBLAS_L2_SIZE",
    "VIRTUAL_ENV",
)
# One that starts has its libraries to load first.
LOADING_S = 60.0


def protected(
    module: str,
    words: list[str],
    data: bytes,
    name: str,
    seconds: float = TIME_LIMIT_S,
    memory: int = MEMORY_LIMIT_BYTES,
) -> bytes:
    """What a reader's `read(data, name, words)` gives; module: the reader's.

    The process that reads has an address space of `memory` bytes and ends after `seconds`; as root it is an
    unprivileged user's where that user can run Python at all. Raises BadInput as the reader does,
    "part.too_slow", "part.too_big" or "part.crashed", and SeveralSolids.
    """
    _readers.prepare(module)
    with tempfile.TemporaryDirectory(prefix="pelvrak-read-") as folder:
        source, target = Path(folder) / "source", Path(folder) / "target"
        source.write_bytes(data)
        user = _unprivileged()
        if user is not None:
            for path in (Path(folder), source):
                os.chown(path, user[0], user[1])
        try:
            code = _readers.read(
                Reading(module, memory, folder, str(source), str(target), name, words), seconds
            )
        except TimeoutError as late:
            raise BadInput(
                "part.too_slow", name, f"reading took longer than {seconds:.0f} s", "export a simpler file"
            ) from late
        if code == SEVERAL:
            raise SeveralSolids(name, json.loads(target.read_bytes()))
        wrote = Path(folder) / "said"
        said = wrote.read_text(errors="replace") if code and wrote.exists() else ""
        if code == REFUSED:
            told = json.loads(said.strip().splitlines()[-1])
            raise BadInput(told["code"], name, told["what"], told["mend"])
        if code != 0 or not target.exists():
            if "MemoryError" in said or "bad_alloc" in said:
                raise BadInput(
                    "part.too_big",
                    name,
                    f"reading it takes more than {memory / 1024**3:.0f} GiB of memory",
                    "export a simpler file",
                )
            raise BadInput(
                "part.crashed", name, f"the reader broke down on this file (exit {code})", "export it again"
            )
        return target.read_bytes()


def prepare(module: str) -> None:
    """Have a reader's libraries loaded before the first file comes."""
    _readers.prepare(module)


class _Readers:
    """The process that reading processes are forked from, started when it is first asked, and again when it
    is gone.
    """

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.process: subprocess.Popen[bytes] | None = None
        self.ask: socket.socket | None = None
        self.loaded: set[str] = set()

    def prepare(self, module: str) -> None:
        """Have a reader loaded; returns when it is."""
        if module not in self.loaded or self.process is None or self.process.poll() is not None:
            with self._sent(json.dumps(module)) as answer:
                answer.settimeout(LOADING_S)
                answer.recv(1)
            self.loaded.add(module)

    def read(self, reading: Reading, seconds: float) -> int:
        """How the process that read ended, as `subprocess` tells it. Raises TimeoutError; by then it is being
        killed.
        """
        with self._sent(json.dumps(reading)) as answer:
            answer.settimeout(seconds)
            return int(answer.recv(16) or b"1")

    def _sent(self, message: str) -> socket.socket:
        """A message handed over; the socket on which its answer comes."""
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs, self.lock:
            for _ in range(2):
                if self.ask is None or self.process is None or self.process.poll() is not None:
                    self._start()
                assert self.ask is not None
                try:
                    socket.send_fds(self.ask, [message.encode()], [theirs.fileno()])
                    break
                except OSError:
                    self.close()
        return mine

    def _start(self) -> None:
        self.close()
        self.ask, asked = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        user = _unprivileged()
        with asked:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "pelvrak.core.geometry.reading", str(asked.fileno())],
                pass_fds=[asked.fileno()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                env={key: os.environ[key] for key in _KEPT if key in os.environ}
                | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "HOME": "/"},
                cwd="/",
                **({} if user is None else {"user": user[0], "group": user[1], "extra_groups": []}),  # type: ignore[call-overload]
            )

    def close(self) -> None:
        """Let the process end; what it has forked for a file ends by itself."""
        if self.ask is not None:
            self.ask.close()
        if self.process is not None:
            self.process.kill()
            self.process.wait()
        self.ask, self.process, self.loaded = None, None, set()


_readers = _Readers()
atexit.register(_readers.close)


@cache
def _unprivileged() -> tuple[int, int] | None:
    """User and group a reading process takes when this one is root; None when it is not, or that user cannot
    run Python.
    """
    if os.geteuid() != 0:
        return None
    try:
        user = pwd.getpwnam(NOBODY)
        done = subprocess.run(
            [sys.executable, "-c", "import pelvrak.core.errors"],
            user=user.pw_uid,
            group=user.pw_gid,
            extra_groups=[],
            capture_output=True,
            check=False,
            timeout=30,
            cwd="/",
        )
    except (KeyError, OSError, subprocess.SubprocessError):
        return None
    return (user.pw_uid, user.pw_gid) if done.returncode == 0 else None
