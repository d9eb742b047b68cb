"""A worker process: takes jobs of the named queues until it is told to stop."""

from __future__ import annotations

import asyncio
import logging
import sys

from pelvrak.server.jobs.apart import prepare
from pelvrak.server.jobs.app import ROUTES, queue


def _load() -> None:
    """What a computation needs loaded takes seconds; the first one should not wait for it."""
    import pelvrak.server.jobs.tasks  # noqa: F401


async def work(queues: list[str]) -> None:
    """One job at a time: a job uses every core by itself."""
    async with queue.open_async():
        await queue.run_worker_async(queues=queues, concurrency=1, listen_notify=True, fetch_job_polling_interval=2.0)


if __name__ == "__main__":
    logging.basicConfig(level=logging.WARNING)
    if ROUTES in sys.argv[1:]:
        prepare(_load)
    asyncio.run(work(sys.argv[1:]))
