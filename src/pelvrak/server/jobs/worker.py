"""A worker process: takes jobs until it is told to stop."""

from __future__ import annotations

import asyncio
import logging

from pelvrak.server.jobs.app import queue


async def work() -> None:
    """One job at a time: a job uses every core by itself."""
    async with queue.open_async():
        await queue.run_worker_async(concurrency=1, listen_notify=True, fetch_job_polling_interval=2.0)


if __name__ == "__main__":
    logging.basicConfig(level=logging.WARNING)
    asyncio.run(work())
