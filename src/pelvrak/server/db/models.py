"""What is kept in the database?"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, Boolean, DateTime, Float, ForeignKey, Integer, LargeBinary, String, Text
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


def now() -> datetime:
    """The present, with its zone."""
    return datetime.now(UTC)


class Base(DeclarativeBase):
    """All tables."""


class LibraryRow(Base):
    """One row of one of the shop's libraries. place: in its order; kept: what stands there."""

    __abstract__ = True
    place: Mapped[int] = mapped_column(Integer, primary_key=True)
    kept: Mapped[dict[str, Any]] = mapped_column(JSONB)


class PartUpload(Base):
    """A part file as it came, and how reading it went: reading, ready, choose or refused.

    kind: part, outline (DXF) or stock (saved). beat: last sign of life of who reads it; tries: how often it
    was begun. choices: the solids of a file with several; origin: the file a chosen solid was taken from.
    """

    __tablename__ = "part_upload"
    sha256: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(Text)
    body: Mapped[bytes] = mapped_column(LargeBinary)
    kind: Mapped[str] = mapped_column(String(12), default="part")
    status: Mapped[str] = mapped_column(String(12), default="reading")
    key: Mapped[str | None] = mapped_column(String(40))
    problem: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    choices: Mapped[list[dict[str, Any]] | None] = mapped_column(JSONB)
    origin: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    tries: Mapped[int] = mapped_column(Integer, default=0)
    beat: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class ShelfRow(LibraryRow):
    """One size of bar on the shelf, in the order it is shown."""

    __tablename__ = "shelf_row"
    kept: Mapped[dict[str, Any]] = mapped_column("bought", JSONB)


class Project(Base):
    """One part's plan; head is the revision that is shown."""

    __tablename__ = "project"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    name: Mapped[str] = mapped_column(Text)
    head: Mapped[int] = mapped_column(Integer)
    last: Mapped[int] = mapped_column(Integer)
    archived: Mapped[bool] = mapped_column(Boolean, default=False)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class Revision(Base):
    """One state of a plan. parent: what it was made from; redo: where redo goes from here."""

    __tablename__ = "revision"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(Integer, primary_key=True)
    parent: Mapped[int | None] = mapped_column(Integer)
    redo: Mapped[int | None] = mapped_column(Integer)
    what: Mapped[str] = mapped_column(Text)
    plan: Mapped[dict[str, Any]] = mapped_column(JSONB)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class Evaluation(Base):
    """One computing of one revision: queued, running, done, stopped or failed. keys: of all results it names;
    line: what the list of projects shows of the report.
    """

    __tablename__ = "evaluation"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    revision: Mapped[int] = mapped_column(Integer)
    status: Mapped[str] = mapped_column(String(12), default="queued")
    share: Mapped[float] = mapped_column(Float, default=0.0)
    what: Mapped[str] = mapped_column(Text, default="")
    tries: Mapped[int] = mapped_column(Integer, default=0)
    stop: Mapped[bool] = mapped_column(Boolean, default=False)
    beat: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    report: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    line: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    stills: Mapped[dict[str, str] | None] = mapped_column(JSONB)
    problem: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    keys: Mapped[list[str] | None] = mapped_column(ARRAY(String(40)))


class Library(Base):
    """How often one of the shop's libraries (shelf, fixtures) was changed; a library nobody changed has no
    row.
    """

    __tablename__ = "library"
    name: Mapped[str] = mapped_column(String(20), primary_key=True)
    revision: Mapped[int] = mapped_column(Integer)


class FixtureRow(LibraryRow):
    """One fixture of the shop's library, in its order."""

    __tablename__ = "fixture_row"
    kept: Mapped[dict[str, Any]] = mapped_column("fixture", JSONB)


class ToolRow(LibraryRow):
    """One tool of the shop's library, in its order."""

    __tablename__ = "tool_row"
    kept: Mapped[dict[str, Any]] = mapped_column("tool", JSONB)


class TemplateRow(LibraryRow):
    """Operations kept for the next plan, in their order."""

    __tablename__ = "template_row"
    kept: Mapped[dict[str, Any]] = mapped_column("template", JSONB)


class DialectRow(LibraryRow):
    """One dialect of the shop's own, in their order."""

    __tablename__ = "dialect_row"
    kept: Mapped[dict[str, Any]] = mapped_column("dialect", JSONB)


class ChainsRow(LibraryRow):
    """By which chains holes are made in the shop: one row with all of it, or none."""

    __tablename__ = "chains_row"
    kept: Mapped[dict[str, Any]] = mapped_column("rules", JSONB)


class KeptResult(Base):
    """One result of a step, under the key of what it was computed from. used: when it was last made or asked
    for by a computation.
    """

    __tablename__ = "result"
    key: Mapped[str] = mapped_column(String(40), primary_key=True)
    step: Mapped[str] = mapped_column(String(40))
    made: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    used: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now, index=True)


class ResultPiece(Base):
    """One piece of a result, by the name of its content."""

    __tablename__ = "result_piece"
    key: Mapped[str] = mapped_column(ForeignKey("result.key", ondelete="CASCADE"), primary_key=True)
    piece: Mapped[str] = mapped_column(String(40), primary_key=True)
    digest: Mapped[str] = mapped_column(ForeignKey("content.digest"), index=True)


class KeptContent(Base):
    """Bytes under the name of their content, zstd-compressed. size: of the bytes themselves."""

    __tablename__ = "content"
    digest: Mapped[str] = mapped_column(String(40), primary_key=True)
    size: Mapped[int] = mapped_column(BigInteger)
    body: Mapped[bytes] = mapped_column(LargeBinary)
