"""How do progress and new results reach the browser? Server-sent events fed by PostgreSQL's NOTIFY."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from typing import Literal

import psycopg
from fastapi import APIRouter
from fastapi.responses import StreamingResponse
from pydantic import BaseModel

from pelvrak.server.db.session import CHANNEL, database_url, last_event
from pelvrak.server.db.store import collect
from pelvrak.server.jobs.lost import take_up_lost

router = APIRouter(prefix="/api", tags=["events"])
# How often the newest event's number is told; it keeps the connection open, too.
HERE_S = 5.0
COLLECT_S = 3600.0
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


async def tidy() -> None:
    """Let go of results that nobody names any more."""
    while True:
        await asyncio.sleep(COLLECT_S)
        try:
            gone = await asyncio.to_thread(collect)
            if any(gone):
                log.info("collected %d results and %d contents", *gone)
        except Exception:
            log.exception("could not collect results")


async def watch() -> None:
    """Look for what a worker began and never ended, and hand it on again or say that it failed."""
    while True:
        await asyncio.sleep(3.0)
        try:
            await asyncio.to_thread(take_up_lost)
        except Exception:
            log.exception("could not look for lost work")


class Event(BaseModel):
    """One thing that happened.

    kind: "hello" to who begins to listen and "here" from time to time, with the number of the newest event;
    "evaluation" and "part": that something of them is new; "progress": how far a computation is, 0…1, and at
    what. number: of all events but progress, one after the other: where one is missing something was not
    heard.
    """

    kind: Literal["hello", "here", "evaluation", "part", "progress"]
    number: int | None = None
    project: int | None = None
    revision: int | None = None
    share: float | None = None
    what: str | None = None
    sha256: str | None = None


async def say_number() -> None:
    """Tell every listener from time to time which event was the newest, so that none stays unheard."""
    while True:
        await asyncio.sleep(HERE_S)
        try:
            number = await asyncio.to_thread(last_event)
        except Exception as gone:
            log.warning("the newest event's number is not known: %s", gone)
            continue
        for listener in list(listeners):
            listener.put_nowait(json.dumps({"kind": "here", "number": number}))


@router.get(
    "/events",
    responses={200: {"model": Event, "content": {"text/event-stream": {}}}},
    response_class=StreamingResponse,
)
async def events() -> StreamingResponse:
    """Events as they happen, each a JSON document."""
    mine: asyncio.Queue[str] = asyncio.Queue()
    listeners.add(mine)
    # Asked after listening: what happens in between is heard as well.
    number = await asyncio.to_thread(last_event)

    async def stream() -> AsyncIterator[str]:
        try:
            yield f"data: {json.dumps({'kind': 'hello', 'number': number})}\n\n"
            while True:
                yield f"data: {await mine.get()}\n\n"
        finally:
            listeners.discard(mine)

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
