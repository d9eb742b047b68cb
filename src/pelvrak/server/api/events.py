"""How do progress and new results reach the browser? Server-sent events fed by PostgreSQL's NOTIFY."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from datetime import timedelta

import psycopg
from fastapi import APIRouter
from fastapi.responses import StreamingResponse
from sqlalchemy import select

from pelvrak.server.api.projects import queue_evaluation
from pelvrak.server.db.models import Evaluation, now
from pelvrak.server.db.session import CHANNEL, database_url, tell, transaction

router = APIRouter(prefix="/api", tags=["events"])
KEEP_ALIVE_S = 15.0
LOST_AFTER_S = 12.0
MOST_TRIES = 3
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
    """Look for evaluations whose worker has died, and queue them again or say that they failed."""
    while True:
        await asyncio.sleep(3.0)
        try:
            await asyncio.to_thread(take_up_lost)
        except Exception:
            log.exception("could not look for lost evaluations")


def take_up_lost() -> None:
    """Queue evaluations again that gave no sign of life for LOST_AFTER_S; after MOST_TRIES they fail visibly."""
    again = []
    with transaction() as session:
        late = now() - timedelta(seconds=LOST_AFTER_S)
        lost = select(Evaluation).where(Evaluation.status == "running", Evaluation.beat < late).with_for_update()
        for row in session.scalars(lost):
            if row.tries >= MOST_TRIES:
                row.status = "failed"
                row.problem = {
                    "code": "evaluation.lost", "where": row.what,
                    "what": f"the worker died {row.tries} times while computing this", "mend": "undo the last edit and run again",
                }  # fmt: skip
            else:
                row.status, row.beat = "queued", now()
                again.append(row.id)
            tell(session, kind="evaluation", project=row.project_id)
    for evaluation_id in again:
        queue_evaluation(evaluation_id)


@router.get("/events")
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
