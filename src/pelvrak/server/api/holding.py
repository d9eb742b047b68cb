"""The shop's library of fixtures, with pictures; files out of a holding."""

from __future__ import annotations

import json
import threading
from functools import lru_cache
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query, UploadFile
from fastapi.responses import Response
from pydantic import Field
from sqlalchemy.orm import Session

from pelvrak.core.errors import BadInput, json_from
from pelvrak.core.geometry.mesh import joined, mesh_of
from pelvrak.core.holding.kinds import (
    Fixture,
    Own,
    fixtures_from,
    fixtures_from_json,
    fixtures_shipped,
)
from pelvrak.server.api.libraries import IfMatch, changed, read_rows, replace_rows, revision_of, tell_revision
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.shapes import file_of
from pelvrak.server.db.models import FixtureRow, PartUpload
from pelvrak.server.db.session import transaction
from pelvrak.server.db.uploads import model_of
from pelvrak.server.jobs.stills import FIXTURE_SHADE, draw

router = APIRouter(prefix="/api", tags=["holding"])
MOST_FIXTURES = 2000
_drawing = threading.Lock()
Fixtures = Annotated[list[Fixture], Field(max_length=MOST_FIXTURES)]


def shop_fixtures(session: Session) -> list[Fixture]:
    """All fixtures of the shop's library."""
    rows = read_rows(session, FixtureRow)
    return fixtures_from(rows) if rows else list(fixtures_shipped().values())


@router.get("/fixtures")
def fixtures(response: Response) -> list[Fixture]:
    """All fixtures of the shop; the ETag says which revision of the library it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "fixtures"))
        return shop_fixtures(session)


@router.put("/fixtures")
def put_fixtures(rows: Fixtures, response: Response, if_match: IfMatch = None) -> list[Fixture]:
    """The whole library anew, on the revision that If-Match names; ids must be told apart."""
    if not rows:
        raise Refused(422, "hold.library", "fixtures", "a library without a fixture", "keep at least one")
    checked = fixtures_from([row.model_dump(mode="json") for row in rows])
    with transaction() as session:
        changed(session, "fixtures", if_match, response)
        return replace_rows(session, FixtureRow, checked)


@router.get("/fixtures.json", **file_of("application/json"))
def fixtures_file() -> Response:
    """The library as a file."""
    with transaction() as session:
        rows = [row.model_dump(mode="json") for row in shop_fixtures(session)]
    text = json.dumps({"fixtures": rows}, indent=2) + "\n"
    return Response(
        text,
        media_type="application/json",
        headers={"Content-Disposition": 'attachment; filename="fixtures.json"'},
    )


@router.post("/fixtures.json")
def bring_fixtures(file: UploadFile, response: Response) -> list[Fixture]:
    """Fixtures of a library file, beside those that are here; one of the same id takes its place. A wrong one
    refuses all.
    """
    name = file.filename or "fixtures.json"
    new = {one.id: one for one in fixtures_from_json(file.file.read(5_000_000), name)}
    with transaction() as session:
        changed(session, "fixtures", None, response)
        kept = [new.pop(one.id, one) for one in shop_fixtures(session)]
        return replace_rows(session, FixtureRow, [*kept, *new.values()])


@lru_cache(maxsize=512)
def _picture(text: str) -> bytes:
    one = fixtures_from([json.loads(text)])[0]
    if isinstance(one, Own):
        with transaction() as session:
            upload = session.get(PartUpload, one.sha256) if one.sha256 else None
            model = model_of(upload.key if upload else None)
        if model is None:
            raise Refused(404, "hold.no_file", one.id, f"{one.file} is not here", "bring the file again")
        mesh = model.mesh
    else:
        mesh = joined([mesh_of(solid.body) for solid in one.picture()])
    with _drawing:
        return draw(mesh, np.tile(np.array(FIXTURE_SHADE, np.uint8), (len(mesh.triangles), 1)))


@router.get("/fixtures/picture.png", **file_of("image/png"))
def picture_as_typed(fixture: Annotated[str, Query(min_length=2, max_length=4000)]) -> Response:
    """A fixture that is in no library yet, by its JSON document, as it looks from the right front. Refused as
    a library refuses it.
    """
    (one,) = fixtures_from([json_from(fixture, "the fixture", "hold.library")], "the fixture")
    return Response(_picture(one.model_dump_json()), media_type="image/png")


@router.get("/fixtures/{fixture_id}/picture.png", **file_of("image/png"))
def picture(fixture_id: str) -> Response:
    """A fixture as it looks from the right front."""
    with transaction() as session:
        one = next((row for row in shop_fixtures(session) if row.id == fixture_id), None)
    if one is None:
        raise Refused(
            404,
            "hold.unknown_fixture",
            fixture_id,
            f"there is no fixture {fixture_id!r}",
            "choose one from the library",
        )
    try:
        return Response(
            _picture(one.model_dump_json()), media_type="image/png", headers={"Cache-Control": "no-cache"}
        )
    except BadInput as bad:
        raise Refused(409, bad.code, bad.where, bad.what, bad.mend) from bad
