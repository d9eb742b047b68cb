"""How is the database reached?"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session

if TYPE_CHECKING:
    from alembic.config import Config

CHANNEL = "pelvrak"
_NEXT = text("select nextval('event_number')")
_LAST = text("select case when is_called then last_value else 0 end from event_number")
STATEMENT_LIMIT_MS = 60_000


def database_url() -> str:
    """postgresql://… of this process, from PELVRAK_DATABASE; empty where none is needed (writing the API's
    schema).
    """
    return os.environ.get("PELVRAK_DATABASE", "")


@cache
def engine() -> Engine:
    """The process's one engine."""
    # Every statement ends: nobody waits for an answer without end.
    return create_engine(
        database_url().replace("postgresql://", "postgresql+psycopg://"),
        pool_pre_ping=True,
        pool_size=12,
        max_overflow=28,
        connect_args={"options": f"-c statement_timeout={STATEMENT_LIMIT_MS}", "connect_timeout": 10},
    )


@contextmanager
def transaction() -> Iterator[Session]:
    """A session that commits at the end, or not at all."""
    with Session(engine(), expire_on_commit=False) as session, session.begin():
        yield session


def migrations() -> Config:
    """The steps that bring the tables from one version to the next."""
    # Loaded by who migrates; every worker would take a second for it.
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
    return config


def migrate() -> None:
    """Bring the tables to the newest version."""
    from alembic import command

    config = migrations()
    with engine().begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def tell(session: Session, **event: Any) -> None:
    """Send an event to every listening browser when the transaction commits.

    All but progress are numbered: who sees a number missing knows that something was not heard, and asks for
    what there is.
    """
    if event["kind"] != "progress":
        event["number"] = session.execute(_NEXT).scalar_one()
    session.execute(
        text("select pg_notify(:channel, :event)"), {"channel": CHANNEL, "event": json.dumps(event)}
    )


def last_event() -> int:
    """The number of the newest event."""
    with transaction() as session:
        return int(session.execute(_LAST).scalar_one())
