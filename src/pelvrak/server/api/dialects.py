"""Dialects the shop keeps for its controls, and files of them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response, UploadFile
from pydantic import Field, TypeAdapter
from sqlalchemy.orm import Session

from pelvrak.core.program.dialects import AnyDialect, dialect_from_json, dialects
from pelvrak.server.api.libraries import (
    IfMatch,
    changed,
    read_rows,
    replace_rows,
    revision_of,
    tell_revision,
    told_apart,
)
from pelvrak.server.api.problems import Refused
from pelvrak.server.db.models import DialectRow
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["dialects"])
MOST_DIALECTS = 200
ONE = TypeAdapter(AnyDialect)


def _rows(session: Session) -> list[AnyDialect]:
    return [ONE.validate_python(row) for row in read_rows(session, DialectRow)]


@router.get("/dialects")
def kept(response: Response) -> list[AnyDialect]:
    """All dialects of the shop's own; the ETag says which revision of the library it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "dialects"))
        return _rows(session)


@router.put("/dialects")
def put_dialects(
    rows: Annotated[list[AnyDialect], Field(max_length=MOST_DIALECTS)],
    response: Response,
    if_match: IfMatch = None,
) -> list[AnyDialect]:
    """The whole library anew, on the revision that If-Match names; ids must be told apart, and from those
    that ship.
    """
    told_apart("dialects", [row.id for row in rows])
    shipped = next((row.id for row in rows if row.id in dialects()), None)
    if shipped is not None:
        raise Refused(
            422,
            "dialects.library",
            "dialects",
            f"{shipped} is one that ships",
            "keep it under an id of its own",
        )
    with transaction() as session:
        changed(session, "dialects", if_match, response)
        return replace_rows(session, DialectRow, rows)


@router.post("/dialects.json")
def read_dialect(file: UploadFile) -> AnyDialect:
    """The dialect of a file, checked; it is kept by the plan that takes it."""
    return dialect_from_json(file.file.read(200_000), file.filename or "dialect.json")
