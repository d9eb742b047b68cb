"""How is a file from outside read without trusting it? By a process of its own, with limits of time and memory."""

from __future__ import annotations

import json
import os
import pwd
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

from pelvrak.core.errors import BadInput, SeveralSolids

TIME_LIMIT_S = 120.0
# Address space of a reading process: libraries alone take about one.
MEMORY_LIMIT_BYTES = 6 * 1024**3
REFUSED, SEVERAL = 3, 5
NOBODY = "nobody"
# What a reading process is told of its surroundings; never how the database is reached.
_KEPT = (
    "PATH",
    "LANG",
    "LC_ALL",
    "HOME",
    "PYTHONPATH",
    "OPENBLAS_CORETYPE",
    "OPENBLAS_L2_SIZE",
    "VIRTUAL_ENV",
)


def protected(
    module: str,
    words: list[str],
    data: bytes,
    name: str,
    seconds: float = TIME_LIMIT_S,
    memory: int = MEMORY_LIMIT_BYTES,
) -> bytes:
    """What `python -m module limits source target name *words` leaves in its target for a file's bytes.

    The process has an address space of `memory` bytes and ends after `seconds`; as root it becomes an unprivileged
    user where that user can run Python at all. Raises BadInput as the process says, "part.too_slow", "part.too_big"
    or "part.crashed", and SeveralSolids.
    """
    with tempfile.TemporaryDirectory(prefix="pelvrak-read-") as folder:
        source, target = Path(folder) / "source", Path(folder) / "target"
        source.write_bytes(data)
        command = [sys.executable, "-m", module, str(memory), str(source), str(target), name, *words]
        user = _unprivileged()
        if user is not None:
            for path in (Path(folder), source):
                os.chown(path, user[0], user[1])
        env = {key: os.environ[key] for key in _KEPT if key in os.environ} | {
            "OPENBLAS_NUM_THREADS": "1",
            "OMP_NUM_THREADS": "1",
            "TMPDIR": folder,
            "HOME": folder,
        }
        try:
            done = subprocess.run(
                command,
                capture_output=True,
                text=True,
                errors="replace",
                timeout=seconds,
                check=False,
                env=env,
                cwd=folder,
                **({} if user is None else {"user": user[0], "group": user[1], "extra_groups": []}),  # type: ignore[call-overload]
            )
        except subprocess.TimeoutExpired as late:
            raise BadInput(
                "part.too_slow", name, f"reading took longer than {seconds:.0f} s", "export a simpler file"
            ) from late
        if done.returncode == SEVERAL:
            raise SeveralSolids(name, json.loads(target.read_bytes()))
        if done.returncode == REFUSED:
            told = json.loads(done.stderr.strip().splitlines()[-1])
            raise BadInput(told["code"], name, told["what"], told["mend"])
        if done.returncode != 0 or not target.exists():
            if "MemoryError" in done.stderr or "bad_alloc" in done.stderr:
                raise BadInput(
                    "part.too_big",
                    name,
                    f"reading it takes more than {memory / 1024**3:.0f} GiB of memory",
                    "export a simpler file",
                )
            raise BadInput(
                "part.crashed",
                name,
                f"the reader broke down on this file (exit {done.returncode})",
                "export it again",
            )
        return target.read_bytes()


@cache
def _unprivileged() -> tuple[int, int] | None:
    """User and group a reading process takes when this one is root; None when it is not, or that user cannot run Python."""
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
