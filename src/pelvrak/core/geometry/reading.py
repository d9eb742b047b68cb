"""Where do the processes come from that read files from outside? From one that has the readers' libraries
loaded and never sees a file.

Loading them takes seconds, forking them milliseconds. The process here is started by `protected`, as the user
and with the surroundings a reading process may have, and lives as long as who started it. For every file it
forks a keeper, and the keeper the process that reads: it waits for it, says how it ended, and kills it once
nobody asks any more.
"""

from __future__ import annotations

import ctypes
import gc
import importlib
import json
import os
import resource
import select
import signal
import socket
import sys
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pelvrak.core.errors import BadInput, SeveralSolids

REFUSED, SEVERAL = 3, 5
MESSAGE_BYTES = 64 * 1024
# prctl(2): nobody else of the same user may look into this process.
_PR_SET_DUMPABLE = 4


class Reading(NamedTuple):
    """One file to be read. memory: limit of the address space in bytes; source, target: in folder, where it
    works.
    """

    module: str
    memory: int
    folder: str
    source: str
    target: str
    name: str
    words: list[str]


def wait_for_readings(asked: socket.socket) -> None:
    """Fork a keeper for each reading that comes with a socket to answer on, until who asks is gone."""
    ctypes.CDLL(None).prctl(_PR_SET_DUMPABLE, 0, 0, 0, 0)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # keepers are nobody's to wait for
    while True:
        message, sockets, _, _ = socket.recv_fds(asked, MESSAGE_BYTES, 1)
        if not message:
            return
        answer = socket.socket(fileno=sockets[0])
        told = json.loads(message)
        if isinstance(told, str):  # only to be loaded
            importlib.import_module(told)
            answer.close()
            continue
        reading = Reading(*told)
        importlib.import_module(reading.module)
        gc.freeze()
        if os.fork() == 0:
            asked.close()
            _keep(reading, answer)
        answer.close()


def _keep(reading: Reading, answer: socket.socket) -> None:
    """Start the reading, answer with how it ended (as `subprocess` tells it), and end this process."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    worker = os.fork()
    if worker == 0:
        answer.close()
        _read(reading)
    ready, _, _ = select.select([answer.fileno(), os.pidfd_open(worker)], [], [])
    if answer.fileno() in ready:
        os.kill(worker, signal.SIGKILL)
    _, status = os.waitpid(worker, 0)
    try:
        answer.send(str(os.waitstatus_to_exitcode(status)).encode())
    except OSError:
        os._exit(1)  # nobody asks any more
    os._exit(0)


def _read(reading: Reading) -> None:
    """Read a file by a reader's `read`, within its limits, and end this process.

    `read` takes the file's bytes, its name and further words, and gives what is left for the process that
    asked.
    """
    os.chdir(reading.folder)
    os.environ.update(HOME=reading.folder, TMPDIR=reading.folder)
    os.dup2(os.open("said", os.O_CREAT | os.O_WRONLY, 0o600), sys.stderr.fileno())
    resource.setrlimit(resource.RLIMIT_AS, (reading.memory, reading.memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    code = 1
    try:
        read: Callable[[bytes, str, list[str]], bytes] = sys.modules[reading.module].read
        Path(reading.target).write_bytes(read(Path(reading.source).read_bytes(), reading.name, reading.words))
        code = 0
    except SeveralSolids as several:
        Path(reading.target).write_text(json.dumps(several.choices))
        code = SEVERAL
    except BadInput as bad:
        print(json.dumps(bad.told()), file=sys.stderr)
        code = REFUSED
    except MemoryError:
        print("MemoryError", file=sys.stderr)
    except BaseException as broken:  # this process must end here, whatever it was
        print(repr(broken), file=sys.stderr)
    finally:
        # The interpreter's own ending after large libraries takes as long as reading a small part.
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    wait_for_readings(socket.socket(fileno=int(sys.argv[1])))
