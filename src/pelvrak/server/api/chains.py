"""By which chains of tools holes are made in the shop."""

from __future__ import annotations

from fastapi import APIRouter, Response
from sqlalchemy import delete
from sqlalchemy.orm import Session

from pelvrak.core.proposals.chains import Rules, rules_shipped
from pelvrak.server.api.libraries import (
    IfMatch,
    changed,
    read_rows,
    replace_rows,
    revision_of,
    tell_revision,
)
from pelvrak.server.db.models import ChainsRow
from pelvrak.server.db.session import transaction

router = APIRouter(prefix="/api", tags=["chains"])


def shop_rules(session: Session) -> Rules:
    """The shop's rules: those that ship with the program until they were changed."""
    rows = read_rows(session, ChainsRow)
    return Rules.model_validate(rows[0]) if rows else rules_shipped()


@router.get("/chains")
def chains(response: Response) -> Rules:
    """How holes are made, the chain that is tried first first; the ETag says which revision it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "chains"))
        return shop_rules(session)


@router.put("/chains")
def put_chains(rules: Rules, response: Response, if_match: IfMatch = None) -> Rules:
    """All of it anew, on the revision that If-Match names."""
    with transaction() as session:
        changed(session, "chains", if_match, response)
        return replace_rows(session, ChainsRow, [rules])[0]


@router.delete("/chains")
def chains_as_shipped(response: Response, if_match: IfMatch = None) -> Rules:
    """Back to what ships with the program."""
    with transaction() as session:
        changed(session, "chains", if_match, response)
        session.execute(delete(ChainsRow))
    return rules_shipped()
