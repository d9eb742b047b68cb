"""How are the shop's libraries kept from being overwritten? Each has a revision, told as ETag and asked for
as If-Match (RFC 9110).
"""

from __future__ import annotations

from typing import Annotated, Any, TypeVar

from fastapi import Header, Response
from pydantic import BaseModel
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from pelvrak.server.api.problems import Refused
from pelvrak.server.db.models import Library, LibraryRow

Row = TypeVar("Row", bound=BaseModel)
IfMatch = Annotated[str | None, Header(max_length=40)]


def revision_of(session: Session, name: str, lock: bool = False) -> int:
    """How often a library was changed."""
    row = session.get(Library, name, with_for_update=lock)
    return row.revision if row else 0


def tell_revision(response: Response, revision: int) -> None:
    """Say with an answer which revision it is of."""
    response.headers["ETag"] = f'"{revision}"'
    response.headers["Cache-Control"] = "no-cache"


def changed(session: Session, name: str, based_on: str | None, response: Response) -> None:
    """Count a change of a library, refused when someone else changed it since the revision it is based on.

    Without a revision nothing is compared: who brings a file in beside what is there takes nothing away.
    """
    now = revision_of(session, name, lock=True)
    if based_on is not None and based_on.strip().removeprefix("W/").strip('"') not in (str(now), "*"):
        raise Refused(
            409,
            "library.stale",
            name,
            f"the {name} were changed elsewhere since you opened them",
            "look at them as they are now, then make your change again",
        )
    session.merge(Library(name=name, revision=now + 1))
    session.flush()
    tell_revision(response, now + 1)


def read_rows(session: Session, table: type[LibraryRow]) -> list[dict[str, Any]]:
    """What is kept in a library, in its order."""
    return [row.kept for row in session.scalars(select(table).order_by(table.place)).all()]


def replace_rows(session: Session, table: type[LibraryRow], rows: list[Row]) -> list[Row]:
    """Keep these in the place of all that was there."""
    session.execute(delete(table))
    session.add_all(table(place=i, kept=row.model_dump(mode="json")) for i, row in enumerate(rows))
    return rows


def told_apart(name: str, ids: list[str]) -> None:
    """Raise Refused where two rows of a library have one id."""
    twice = next((one for one in ids if ids.count(one) > 1), None)
    if twice is not None:
        raise Refused(422, f"{name}.library", name, f"two {name} have the id {twice}", "give each its own")
