"""A worker process: takes jobs of the named queues until it is told to stop."""

from __future__ import annotations

import asyncio
import logging
import sys
import threading

from pelvrak.server.jobs.apart import prepare
from pelvrak.server.jobs.app import queue
from pelvrak.server.jobs.handing import PARTS, ROUTES

# Files are read by processes of their own: a slow one does not keep the others waiting.
READERS = 3
# What a computation needs loaded takes seconds; none should wait for it.
COMPUTES = "pelvrak.server.jobs.computing"


async def work(queues: list[str]) -> None:
    """Routes one at a time, since a route uses every core by itself; several files at once."""
    at_once = READERS if queues == [PARTS] else 1
    async with queue.open_async():
        await queue.run_worker_async(
            queues=queues, concurrency=at_once, listen_notify=True, fetch_job_polling_interval=2.0
        )


def _load_reader() -> None:
    import pelvrak.server.jobs.files  # noqa: F401
    from pelvrak.core.geometry import protected
    from pelvrak.core.geometry.step_file import READER

    protected.prepare(READER)


def start(queues: list[str]) -> None:
    """Have what computes routes, and what reads most files, loaded by the time the first one comes."""
    if ROUTES in queues:
        prepare(COMPUTES)
    if PARTS in queues:
        threading.Thread(target=_load_reader, daemon=True).start()


if __name__ == "__main__":
    logging.basicConfig(level=logging.WARNING)
    start(sys.argv[1:])
    asyncio.run(work(sys.argv[1:]))
