"""The shop's shelf of bars, and what to take from it for a part."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Query, Response, UploadFile
from fastapi.responses import PlainTextResponse
from pydantic import Field
from sqlalchemy.orm import Session

from pelvrak.core.billet.casting import best_place
from pelvrak.core.billet.forms import Model
from pelvrak.core.billet.several import laid
from pelvrak.core.billet.shelf import Bought, Picks, from_csv, picks, starting_shelf, to_csv
from pelvrak.core.cutting.feeds import material_of
from pelvrak.core.geometry.part import PartModel
from pelvrak.core.route.plan import Plan
from pelvrak.server.api.libraries import IfMatch, changed, read_rows, replace_rows, revision_of, tell_revision
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import plan_of
from pelvrak.server.api.shapes import CastingPlace, ProjectId, file_of
from pelvrak.server.db.models import PartUpload, ShelfRow
from pelvrak.server.db.session import transaction
from pelvrak.server.db.uploads import model_of

router = APIRouter(prefix="/api", tags=["shelf"])
MOST_ROWS = 5000
Allowance = Annotated[float, Field(ge=0, le=500, allow_inf_nan=False)]


def _rows(session: Session) -> list[Bought]:
    return [Bought.model_validate(row) for row in read_rows(session, ShelfRow)] or starting_shelf()


@router.get("/shelf")
def shelf(response: Response) -> list[Bought]:
    """All sizes in stock; the ETag says which revision of the shelf it is."""
    with transaction() as session:
        tell_revision(response, revision_of(session, "shelf"))
        return _rows(session)


@router.put("/shelf")
def put_shelf(rows: list[Bought], response: Response, if_match: IfMatch = None) -> list[Bought]:
    """The whole shelf anew, on the revision that If-Match names."""
    if not 0 < len(rows) <= MOST_ROWS:
        raise Refused(422, "shelf.rows", "shelf", f"a shelf of {len(rows)} rows", f"give 1 to {MOST_ROWS}")
    with transaction() as session:
        changed(session, "shelf", if_match, response)
        return replace_rows(session, ShelfRow, rows)


@router.get("/shelf.csv", **file_of("text/csv"))
def shelf_csv() -> PlainTextResponse:
    """The shelf as a CSV file."""
    with transaction() as session:
        text = to_csv(_rows(session))
    return PlainTextResponse(
        text, media_type="text/csv", headers={"Content-Disposition": 'attachment; filename="shelf.csv"'}
    )


@router.post("/shelf.csv")
def bring_shelf(file: UploadFile, response: Response) -> list[Bought]:
    """The shelf from a CSV file; a row that is wrong refuses all of it."""
    name = file.filename or "shelf.csv"
    return put_shelf(from_csv(file.file.read(5_000_000).decode("utf-8", "replace"), name), response)


def _planned(session: Session, project_id: int) -> tuple[Plan, PartModel]:
    """A plan, and what lies in its billet: the part, or several pieces of it."""
    plan = plan_of(session, project_id)
    upload = session.get(PartUpload, plan.part.sha256)
    model = model_of(upload.key if upload else None)
    if model is None:
        raise Refused(409, "part.not_ready", "part", "this part has not been read", "wait until it is")
    return plan, laid(plan.pieces, model)


@router.get("/projects/{project_id}/picks")
def shelf_picks(
    project_id: ProjectId, allowance: Annotated[list[Allowance], Query(min_length=6, max_length=6)]
) -> Picks:
    """What on the shelf covers the part plus allowances (x-, x+, y-, y+, z-, z+; mm), and what to order when
    nothing does.
    """
    with transaction() as session:
        plan, part = _planned(session, project_id)
        rows = _rows(session)
    material = material_of(plan.billet.material, plan.materials)
    return picks(part, material.name, material.density_g_cm3, tuple(allowance), rows)


@router.get("/projects/{project_id}/casting")
def casting_place(project_id: ProjectId) -> CastingPlace:
    """Where the plan's model billet lies best round the part, searched from where it lies now."""
    with transaction() as session:
        plan, part = _planned(session, project_id)
        billet = plan.billet
        upload = (
            session.get(PartUpload, billet.sha256) if isinstance(billet, Model) and billet.sha256 else None
        )
        model = model_of(upload.key if upload else None)
    if model is None or not isinstance(billet, Model):
        raise Refused(
            409,
            "billet.no_model",
            "billet",
            "the billet is no model that has been read",
            "choose a model file first",
        )
    mesh = replace(model.mesh, vertices=billet.scale * model.mesh.vertices)
    rough = [ref.face for ref in plan.part.as_came]
    weights = {one.face.face: one.times for one in billet.weights}
    found = best_place(part, mesh, billet.turn, billet.move, rough, weights)
    return CastingPlace(
        turn=found.turn,
        move=found.move,
        cover=found.cover,
        thinnest_at=found.thinnest_at,
        datums_off=found.datums_off,
    )
