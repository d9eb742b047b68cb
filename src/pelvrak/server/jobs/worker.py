"""A worker process: takes jobs of the named queues until it is told to stop."""

from __future__ import annotations

import asyncio
import logging
import sys

from pelvrak.server.jobs.app import queue


async def work(queues: list[str]) -> None:
    """One job at a time: a job uses every core by itself."""
    async with queue.open_async():
        await queue.run_worker_async(queues=queues, concurrency=1, listen_notify=True, fetch_job_polling_interval=2.0)


if __name__ == "__main__":
    logging.basicConfig(level=logging.WARNING)
    asyncio.run(work(sys.argv[1:]))
