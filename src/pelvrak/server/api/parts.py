"""Part files: coming in, being read, facts."""

from __future__ import annotations

import hashlib
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Query, UploadFile
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.billet.block import Allowance
from pelvrak.core.billet.forms import Billet, KeptStock, raw_of
from pelvrak.core.billet.pulling import pulled
from pelvrak.core.billet.several import Several, laid
from pelvrak.core.engine.engine import Engine
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.measure import Value, measured
from pelvrak.core.geometry.mesh import crease_lines
from pelvrak.core.geometry.part import Part, as_vector
from pelvrak.core.geometry.part_file import taken_out
from pelvrak.core.geometry.step_file import SIZE_LIMIT_BYTES
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import mesh_from_bytes
from pelvrak.core.route.plan import billet_from, pieces_from
from pelvrak.core.route.run import mesh_in
from pelvrak.core.stock.questions import first_hit
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.shapes import Choose, Length, Measure, PartState, file_of
from pelvrak.server.db.models import PartUpload, now
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of, model_of
from pelvrak.server.jobs.handing import hand_part

router = APIRouter(prefix="/api", tags=["parts"])
Triple = Annotated[list[Length], Query(min_length=3, max_length=3)]
SCREEN_PIECES = {
    "contacts.glb": "model/gltf-binary",
    "surface.glb": "model/gltf-binary",
    "still.png": "image/png",
    "path.json": "application/json",
    "program.nc": "text/plain; charset=utf-8",
    "lines.json": "application/json",
    "load.json": "application/json",
    "control.json": "application/json",
}


def state_of(upload: PartUpload) -> PartState:
    """An upload as the screen needs it."""
    return PartState(
        sha256=upload.sha256,
        name=upload.name,
        kind=upload.kind,
        status=upload.status,
        key=upload.key,
        problem=upload.problem,
        choices=upload.choices or [],
        origin=(upload.origin or {}).get("name"),
    )


@router.post("/parts", status_code=202)
def upload(file: UploadFile) -> PartState:
    """Take a part file; a worker reads it and an event tells how it went."""
    body = file.file.read(SIZE_LIMIT_BYTES + 1)
    name = (file.filename or "part.step")[-200:]
    if len(body) > SIZE_LIMIT_BYTES:
        raise Refused(
            413,
            "part.too_large",
            name,
            f"the file is over {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )
    return _taken_in(body, name, None)


def _taken_in(body: bytes, name: str, origin: dict[str, Any] | None) -> PartState:
    sha256 = hashlib.sha256(body).hexdigest()
    with transaction() as session:
        row = session.get(PartUpload, sha256)
        if row is None:
            row = PartUpload(
                sha256=sha256, name=name, body=body, kind="part", status="reading", origin=origin
            )
            session.add(row)
            session.flush()
            hand_part(session, sha256)
        elif row.status == "refused":
            row.status, row.problem, row.name, row.tries, row.beat = "reading", None, name, 0, now()
            hand_part(session, sha256)
        return state_of(row)


@router.post("/parts/{sha256}/choose", status_code=202)
def choose(sha256: str, wanted: Choose) -> PartState:
    """A part of its own from one solid of a file, or from a mesh in another unit; the file stays as it is."""
    with transaction() as session:
        row = session.get(PartUpload, sha256)
        if row is None:
            raise Refused(404, "part.unknown", "sha256", "there is no such part", "upload it")
        name, body = row.name, row.body
    taken, called = taken_out(body, name, wanted.solid, wanted.unit)
    return _taken_in(taken, called, {"sha256": sha256, "name": name, **wanted.model_dump()})


@router.get("/parts/{sha256}")
def part(sha256: str) -> PartState:
    """How reading a part went."""
    with transaction() as session:
        row = session.get(PartUpload, sha256)
        if row is None:
            raise Refused(404, "part.unknown", "sha256", "there is no such part", "upload it")
        return state_of(row)


@router.get("/parts/{sha256}/facts")
def facts(sha256: str) -> Part:
    """Faces, edges, holes, size and volume."""
    state = part(sha256)
    data = DatabaseStore().get(state.key, "facts.json") if state.key else None
    if data is None:
        raise Refused(
            409, "part.not_ready", "sha256", "this part has not been read", "wait, or upload it again"
        )
    return Part.model_validate_json(data)


@router.post("/parts/{sha256}/measure")
def measure(sha256: str, wanted: Measure) -> list[Value]:
    """What was picked measures; nothing is kept."""
    return measured(facts(sha256), wanted.first, wanted.second)


@router.get("/results/{key}/thickness")
def thickness(key: str, at: Triple, way: Triple) -> Value:
    """How thick the stock is from a place on it along a direction into it, mm."""
    data = piece_of(DatabaseStore(), key, "surface.npz")
    if data is None:
        raise Refused(404, "result.unknown", "key", "this result is not kept", "run the plan again")
    start, along = np.array(at), np.array(way)
    along = along / max(float(np.linalg.norm(along)), 1e-12)
    hit = first_hit(mesh_from_bytes(data), start + 0.01 * along, along)
    if hit is None:
        raise Refused(
            409,
            "measure.no_stock",
            "at",
            "there is no stock behind this place",
            "pick on the stock's surface",
        )
    return Value(
        name="thickness",
        value=round(hit.length + 0.01, 4),
        unit="mm",
        ends=(as_vector(start), as_vector(hit.place)),
    )


@router.get("/parts/{sha256}/features")
def features(sha256: str) -> Features:
    """Holes, recesses, bosses, fillets, chamfers, and from where each face is reached."""
    state = part(sha256)
    data = DatabaseStore().get(state.key, "features.json") if state.key else None
    if data is None:
        raise Refused(
            409, "part.not_ready", "sha256", "this part has not been read", "wait, or upload it again"
        )
    return Features.model_validate_json(data)


@router.get("/parts/{sha256}/billet.glb", **file_of("model/gltf-binary"))
def billet_picture(
    sha256: str,
    billet: Annotated[str, Query(max_length=4000)],
    pieces: Annotated[str, Query(max_length=4000, pattern="^[ -~]*$")] = "",
) -> Response:
    """A billet (JSON, as in the plan) as it lies round a part, or round several pieces of it (likewise),
    drawn at once and without rays; a saved stock is not.
    """
    model = model_of(part(sha256).key)
    if model is None:
        raise Refused(
            409, "part.not_ready", "sha256", "this part has not been read", "wait, or upload it again"
        )
    wanted = billet_from(billet)
    if isinstance(wanted, KeptStock):
        raise Refused(
            409,
            "billet.not_quick",
            "billet",
            "a saved stock is not drawn before it is computed",
            "wait until it is",
        )
    engine = Engine(DatabaseStore())
    model = laid(pieces_from(pieces) if pieces else None, model)
    shape = raw_of(wanted, model, body_of, lambda data, name: mesh_in(data, name, engine)).surface()
    return Response(to_glb(shape, crease_lines(shape, by_label=False)), media_type="model/gltf-binary")


class PullAsked(BaseModel):
    """A billet, several parts in it, and the margins that some of its sides (x-, x+, …) are pulled to, mm."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    billet: Billet
    pieces: Several | None = None
    margins: Annotated[dict[str, Allowance], Field(min_length=1, max_length=6)]


@router.post("/parts/{sha256}/pulled")
def pull(sha256: str, wanted: PullAsked) -> Billet:
    """A billet with a side pulled, as it then says so itself. Nothing is kept."""
    model = model_of(part(sha256).key)
    if model is None:
        raise Refused(
            409, "part.not_ready", "sha256", "this part has not been read", "wait, or upload it again"
        )
    engine = Engine(DatabaseStore())
    model = laid(wanted.pieces, model)
    raw = raw_of(wanted.billet, model, body_of, lambda data, name: mesh_in(data, name, engine))
    return pulled(wanted.billet, model, as_vector(raw.low), as_vector(raw.high), wanted.margins)


@router.get(
    "/results/{key}/{piece}", **file_of("model/gltf-binary", "image/png", "application/json", "text/plain")
)
def result(key: str, piece: str) -> Response:
    """A piece of a result; it never changes, so it may be kept for ever."""
    if piece not in SCREEN_PIECES:
        raise Refused(
            404,
            "result.no_piece",
            "piece",
            f"there is no piece {piece!r}",
            f"one of {', '.join(SCREEN_PIECES)}",
        )
    data = piece_of(DatabaseStore(), key, piece)
    if data is None:
        raise Refused(404, "result.unknown", "key", "this result is not kept", "run the plan again")
    return Response(
        data,
        media_type=SCREEN_PIECES[piece],
        headers={"Cache-Control": "public, max-age=31536000, immutable"},
    )
