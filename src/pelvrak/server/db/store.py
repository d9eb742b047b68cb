"""Where are results kept? In PostgreSQL, each content once; what nobody names any more is collected."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta

import zstandard
from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from pelvrak.core.engine.digest import digest_of_bytes
from pelvrak.core.engine.store import waited_for
from pelvrak.server.db.models import KeptContent, KeptResult, ResultPiece, now
from pelvrak.server.db.session import engine, transaction

# What no kept revision names goes when nothing has asked for it so long.
UNUSED = timedelta(days=1)
# Revisions younger than this keep their results; the one that is shown always does.
KEPT = timedelta(weeks=4)
# That something was used is noted no oftener than this.
NOTED = timedelta(hours=1)
# Whoever puts results in holds this shared, who collects alone: no content goes while a result that names it
# comes.
_LOCK = 7_305_118
_TAKE, _LET_GO = text("select pg_try_advisory_lock(:number)"), text("select pg_advisory_unlock(:number)")
# Results that revisions of the last weeks, the ones shown, parts and running computations name.
_NAMED = """
    select unnest(e.keys) as key from evaluation e join project p on p.id = e.project_id
      join revision r on r.project_id = e.project_id and r.number = e.revision
      where r.created > :young or e.revision = p.head or e.status in ('queued', 'running')
    union select key from part_upload where key is not null
"""


class DatabaseStore:
    """The results store in PostgreSQL."""

    def kept(self, key: str) -> bool:
        """Whether there is a result; notes that it was asked for, so that it stays a while."""
        with transaction() as session:
            row = session.get(KeptResult, key)
            if row is None:
                return False
            if now() - row.used > NOTED:
                session.execute(update(KeptResult).where(KeptResult.key == key).values(used=now()))
            return True

    def digest(self, key: str, piece: str) -> str | None:
        """What a piece of a result is called by its content; None where there is none."""
        with transaction() as session:
            row = session.get(ResultPiece, (key, piece))
            return None if row is None else row.digest

    def content(self, digest: str) -> bytes | None:
        """Bytes by the name of their content."""
        with transaction() as session:
            row = session.get(KeptContent, digest)
            return None if row is None else zstandard.ZstdDecompressor().decompress(row.body)

    def get(self, key: str, piece: str) -> bytes | None:
        """One piece, or None."""
        digest = self.digest(key, piece)
        return None if digest is None else self.content(digest)

    def put(self, key: str, pieces: dict[str, bytes], step: str = "") -> None:
        """All pieces in one transaction; pieces and contents that are there already stay."""
        named = {piece: digest_of_bytes(data) for piece, data in pieces.items()}
        with transaction() as session:
            session.execute(text("select pg_advisory_xact_lock_shared(:lock)"), {"lock": _LOCK})
            there = set(
                session.scalars(select(KeptContent.digest).where(KeptContent.digest.in_(named.values())))
            )
            packer = zstandard.ZstdCompressor(level=3)
            new = {
                named[piece]: {"digest": named[piece], "size": len(data), "body": packer.compress(data)}
                for piece, data in pieces.items()
                if named[piece] not in there
            }
            if new:
                session.execute(insert(KeptContent).values(list(new.values())).on_conflict_do_nothing())
            session.execute(insert(KeptResult).values(key=key, step=step).on_conflict_do_nothing())
            rows = [{"key": key, "piece": piece, "digest": digest} for piece, digest in named.items()]
            session.execute(insert(ResultPiece).values(rows).on_conflict_do_nothing())

    @contextmanager
    def alone(self, key: str, waiting: Callable[[], None]) -> Iterator[None]:
        """A lock in the database, for all its workers; it goes with the connection of who had it and
        ended.
        """
        number = {"number": int(key[:15], 16)}
        with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as link:
            taken = waited_for(lambda: bool(link.execute(_TAKE, number).scalar_one()), waiting)
            try:
                yield
            finally:
                if taken and not link.execute(_LET_GO, number).scalar_one():
                    link.invalidate()  # lost with its connection; the next one begins afresh


@dataclass(frozen=True)
class StepShare:
    """What the results of one kind of step take: how many there are, how many of them nobody names, bytes as
    they are and as kept.

    A content that several name counts with each of them.
    """

    step: str
    results: int
    unnamed: int
    size: int
    kept: int


@dataclass(frozen=True)
class StoreSize:
    """What the store holds: results, contents, their bytes as they are and as kept (compressed), by step."""

    results: int
    contents: int
    size: int
    kept: int
    by_step: tuple[StepShare, ...]


def store_size() -> StoreSize:
    """How much there is, and what for."""
    shares = text(
        f"""
        with named as ({_NAMED})
        select r.step, count(distinct r.key),
          count(distinct r.key) filter (where r.key not in (select key from named)),
          coalesce(sum(c.size), 0), coalesce(sum(length(c.body)), 0)
        from result r left join result_piece p on p.key = r.key left join content c on c.digest = p.digest
        group by r.step order by 5 desc
    """
    )
    with transaction() as session:
        found = session.execute(shares, {"young": now() - KEPT}).all()
        contents, size, kept = session.execute(
            select(
                func.count(),
                func.coalesce(func.sum(KeptContent.size), 0),
                func.coalesce(func.sum(func.length(KeptContent.body)), 0),
            )
        ).one()
    by_step = tuple(StepShare(step or "?", int(n), int(u), int(s), int(k)) for step, n, u, s, k in found)
    return StoreSize(sum(one.results for one in by_step), int(contents), int(size), int(kept), by_step)


def collect(unused: timedelta = UNUSED) -> tuple[int, int]:
    """Let go what nobody names and nothing has asked for so long: (results, contents) that went."""
    with transaction() as session:
        session.execute(text("select pg_advisory_xact_lock(:lock)"), {"lock": _LOCK})
        return _results(session, unused), _contents(session)


def _results(session: Session, unused: timedelta) -> int:
    gone = session.execute(
        text(f"delete from result where used < :idle and key not in ({_NAMED})"),
        {"idle": now() - unused, "young": now() - KEPT},
    )
    return int(gone.rowcount)  # type: ignore[attr-defined]


def _contents(session: Session) -> int:
    named = select(ResultPiece.digest)
    gone = session.execute(delete(KeptContent).where(KeptContent.digest.not_in(named)))
    return int(gone.rowcount)  # type: ignore[attr-defined]
