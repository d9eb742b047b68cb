"""How does a refusal reach the browser? RFC 9457 problem details, in the published API as they are sent."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.openapi.utils import get_openapi
from fastapi.responses import JSONResponse
from psycopg.errors import DiskFull, QueryCanceled
from sqlalchemy.exc import DataError, DBAPIError
from starlette.exceptions import HTTPException

from pelvrak.core.errors import BadInput, plain

KIND = "application/problem+json"
log = logging.getLogger("pelvrak.server")
# Every answer that is no answer, by what may be sent for any request; 2xx stand with each operation.
REFUSALS = {
    400: "The request cannot be read.",
    403: "Edits are only taken from this server's own page, or with the header x-pelvrak.",
    404: "There is no such thing.",
    405: "This cannot be done here.",
    409: "It does not go with how things stand: changed elsewhere, not computed yet, out of date.",
    413: "More was sent than is taken.",
    421: "This server does not answer for that host.",
    422: "Something in it means nothing or is out of bounds; it says what, where and how to mend it.",
    503: "The database cannot be reached, or took too long.",
    507: "The disk is full; nothing was saved.",
}


class Refused(Exception):
    """A request that cannot be done, as a problem document."""

    def __init__(self, status: int, code: str, where: str, what: str, mend: str, **more: Any) -> None:
        super().__init__(what)
        self.status = status
        self.body = {"code": code, "where": where, "what": what, "mend": mend, **more}


def document(status: int, body: dict[str, Any]) -> JSONResponse:
    """The problem as a response."""
    problem = {
        "type": f"about:blank#{body['code']}",
        "title": body["what"],
        "status": status,
        "detail": body["mend"],
        **body,
    }
    return JSONResponse(problem, status_code=status, media_type=KIND)


def _of_database(wrong: DBAPIError) -> tuple[int, dict[str, Any]]:
    """What the database refused, by who can mend it."""
    if isinstance(wrong, DataError):
        return 422, {
            "code": "request.invalid",
            "where": "the request",
            "what": "a text holds a character that cannot be kept, or a number is too large",
            "mend": "correct it",
        }
    if isinstance(wrong.orig, DiskFull):
        return 507, {
            "code": "server.disk_full",
            "where": "the data folder",
            "what": "the disk is full: nothing was saved",
            "mend": "make room on the disk, then do it again",
        }
    if isinstance(wrong.orig, QueryCanceled):
        return 503, {
            "code": "server.too_slow",
            "where": "the database",
            "what": "the answer took too long",
            "mend": "try again in a moment",
        }
    return 503, {
        "code": "server.database",
        "where": "the database",
        "what": "the database cannot be reached: nothing was saved",
        "mend": "try again in a moment",
    }


def install(app: FastAPI) -> None:
    """Answer refusals of the core, of the schema and of the database with problem documents, and publish them
    so.
    """

    async def bad_input(request: Request, bad: BadInput) -> JSONResponse:
        return document(422, bad.told())

    async def refused(request: Request, wrong: Refused) -> JSONResponse:
        return document(wrong.status, wrong.body)

    async def invalid(request: Request, wrong: RequestValidationError) -> JSONResponse:
        first = wrong.errors()[0]
        where = "/".join(str(step) for step in first["loc"] if step != "body")
        what, mend = plain(first)
        return document(422, {"code": "request.invalid", "where": where, "what": what, "mend": mend})

    async def http(request: Request, wrong: HTTPException) -> JSONResponse:
        what = {404: "there is nothing at this address", 405: f"{request.method} is not done here"}.get(
            wrong.status_code, "the request cannot be read"
        )
        mend = {404: "see /openapi.json for what there is", 405: "see /openapi.json for what is"}.get(
            wrong.status_code, "correct it"
        )
        answer = document(
            wrong.status_code,
            {"code": "request.invalid", "where": request.url.path, "what": what, "mend": mend},
        )
        answer.headers.update(wrong.headers or {})
        return answer

    async def database(request: Request, wrong: DBAPIError) -> JSONResponse:
        status, body = _of_database(wrong)
        if status >= 500:
            log.warning("%s %s: %s", request.method, request.url.path, wrong.orig)
        return document(status, body)

    app.add_exception_handler(BadInput, bad_input)  # type: ignore[arg-type]
    app.add_exception_handler(Refused, refused)  # type: ignore[arg-type]
    app.add_exception_handler(RequestValidationError, invalid)  # type: ignore[arg-type]
    app.add_exception_handler(HTTPException, http)  # type: ignore[arg-type]
    app.add_exception_handler(DBAPIError, database)  # type: ignore[arg-type]
    app.openapi = lambda: _published(app)  # type: ignore[method-assign]


def _published(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI document, with every refusal as it is sent."""
    if app.openapi_schema:
        return app.openapi_schema
    told = get_openapi(title=app.title, version=app.version, routes=app.routes)
    schemas = told["components"]["schemas"]
    schemas["ProblemDetails"] = {
        "type": "object",
        "title": "ProblemDetails",
        "description": "RFC 9457 problem details: what is wrong, where, and how to mend it.",
        "properties": {
            name: {"type": "string"} for name in ("type", "title", "detail", "code", "where", "what", "mend")
        }
        | {"status": {"type": "integer"}},
        "required": ["type", "title", "status", "detail", "code", "where", "what", "mend"],
    }
    refusals = {
        str(status): {
            "description": said,
            "content": {KIND: {"schema": {"$ref": "#/components/schemas/ProblemDetails"}}},
        }
        for status, said in REFUSALS.items()
    }
    for path in told["paths"].values():
        for operation in path.values():
            operation["responses"] = {
                **{s: r for s, r in operation["responses"].items() if s.startswith("2")},
                **refusals,
            }
    for name in ("HTTPValidationError", "ValidationError"):
        schemas.pop(name, None)
    app.openapi_schema = told
    return told
