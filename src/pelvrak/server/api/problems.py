"""How does a refusal reach the browser? RFC 9457 problem details."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse

from pelvrak.core.errors import BadInput


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
    return JSONResponse(problem, status_code=status, media_type="application/problem+json")


def install(app: FastAPI) -> None:
    """Answer refusals of the core and of the schema with problem documents."""

    async def bad_input(request: Request, bad: BadInput) -> JSONResponse:
        return document(422, bad.told())

    async def refused(request: Request, wrong: Refused) -> JSONResponse:
        return document(wrong.status, wrong.body)

    async def invalid(request: Request, wrong: RequestValidationError) -> JSONResponse:
        first = wrong.errors()[0]
        where = "/".join(str(step) for step in first["loc"] if step != "body")
        return document(
            422, {"code": "request.invalid", "where": where, "what": first["msg"], "mend": "correct this field"}
        )

    app.add_exception_handler(BadInput, bad_input)  # type: ignore[arg-type]
    app.add_exception_handler(Refused, refused)  # type: ignore[arg-type]
    app.add_exception_handler(RequestValidationError, invalid)  # type: ignore[arg-type]
