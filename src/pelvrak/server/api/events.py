"""How do progress and new results reach the browser? Server-sent events fed by PostgreSQL's NOTIFY."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator

import psycopg
from fastapi import APIRouter
from fastapi.responses import StreamingResponse

from pelvrak.server.api.shapes import file_of
from pelvrak.server.db.session import CHANNEL, database_url
from pelvrak.server.jobs.lost import take_up_lost

router = APIRouter(prefix="/api", tags=["events"])
KEEP_ALIVE_S = 15.0
listeners: set[asyncio.Queue[str]] = set()
log = logging.getLogger("pelvrak.events")


async def listen() -> None:
    """Pass every notification on to the listening browsers; connects again when the database goes away."""
    while True:
        try:
            connection = await psycopg.AsyncConnection.connect(database_url(), autocommit=True)
            async with connection:
                await connection.execute(f"listen {CHANNEL}")
                async for notice in connection.notifies():
                    for listener in list(listeners):
                        listener.put_nowait(notice.payload)
        except psycopg.OperationalError as gone:
            log.warning("lost the database's notices: %s", gone)
            await asyncio.sleep(1.0)


async def watch() -> None:
    """Look for what a worker began and never ended, and hand it on again or say that it failed."""
    while True:
        await asyncio.sleep(3.0)
        try:
            await asyncio.to_thread(take_up_lost)
        except Exception:
            log.exception("could not look for lost work")


@router.get("/events", **file_of("text/event-stream"))
async def events() -> StreamingResponse:
    """Events as they happen: {kind, project, …}."""
    mine: asyncio.Queue[str] = asyncio.Queue()
    listeners.add(mine)

    async def stream() -> AsyncIterator[str]:
        try:
            yield f"data: {json.dumps({'kind': 'hello'})}\n\n"
            while True:
                try:
                    yield f"data: {await asyncio.wait_for(mine.get(), KEEP_ALIVE_S)}\n\n"
                except TimeoutError:
                    yield ": still here\n\n"
        finally:
            listeners.discard(mine)

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
