"""Who is answered? Only the host this server was started for, edits only from its own page or by a program
that says so, and no more of a body than the place it is sent to can use.
"""

from __future__ import annotations

import os
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from pelvrak.core.geometry.step_file import SIZE_LIMIT_BYTES
from pelvrak.server.api.problems import document

# What a program other than the page sends with its edits: a page elsewhere cannot, without being asked first.
OWN_HEADER = "x-pelvrak"
LOOPBACK = frozenset({"127.0.0.1", "localhost", "[::1]"})
READS = frozenset({"GET", "HEAD", "OPTIONS"})
SAME_SITE = frozenset({"same-origin", "none"})
JSON_LIMIT_BYTES = 8 * 1024**2
# A form's own words round a file.
FORM_BYTES = 64 * 1024
FILE_LIMITS = {
    "/api/parts": SIZE_LIMIT_BYTES + FORM_BYTES,
    "/api/projects/plan.json": JSON_LIMIT_BYTES,
    "/api/fixtures.json": 5_000_000 + FORM_BYTES,
    "/api/machines.json": 2_000_000 + FORM_BYTES,
    "/api/dialects.json": 200_000 + FORM_BYTES,
    "/api/shelf.csv": 5_000_000 + FORM_BYTES,
}
SAFE_HEADERS = {
    "content-security-policy": (
        "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self' 'unsafe-inline'; img-src"
        " 'self' data: blob:; font-src 'self' data:; connect-src 'self' data: blob:; worker-src 'self' blob:;"
        " object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    ),
    "x-content-type-options": "nosniff",
    "x-frame-options": "DENY",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}


def hosts_of(port: str | None) -> frozenset[str]:
    """What may stand in a request's Host: loopback by its names, with the port the server was started on."""
    return LOOPBACK if not port else frozenset(f"{name}:{port}" for name in LOOPBACK)


class TooMuch(ClientDisconnect):
    """More came in than is taken."""


class Guard:
    """ASGI middleware: host, origin, size, and the headers every answer bears."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self.hosts = hosts_of(os.environ.get("PELVRAK_PORT"))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return

        async def bearing(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in SAFE_HEADERS.items():
                    headers.setdefault(name, value)
            await send(message)

        headers = Headers(scope=scope)
        refused = self._refused(scope, headers)
        if refused is not None:
            status, body = refused
            await document(status, body)(scope, receive, bearing)
            return
        await self._limited(scope, receive, bearing, headers)

    def _refused(self, scope: Scope, headers: Headers) -> tuple[int, dict[str, str]] | None:
        host = headers.get("host", "")
        if host.lower() not in self.hosts:
            return 421, {
                "code": "request.host",
                "where": "Host",
                "what": f"this server does not answer for {host[:80]!r}",
                "mend": "open it at the address it was started with",
            }
        if scope["method"] in READS:
            return None
        origin = headers.get("origin")
        foreign = origin is not None and urlsplit(origin).netloc.lower() not in self.hosts
        fetched = headers.get("sec-fetch-site")
        ours = fetched in SAME_SITE if fetched is not None else OWN_HEADER in headers
        if foreign or not ours:
            return 403, {
                "code": "request.origin",
                "where": "Origin",
                "what": "edits are only taken from this server's own page",
                "mend": f"from a program, send the header {OWN_HEADER}: 1",
            }
        return None

    async def _limited(self, scope: Scope, receive: Receive, send: Send, headers: Headers) -> None:
        limit = FILE_LIMITS.get(scope["path"], JSON_LIMIT_BYTES)
        too_much = {
            "code": "request.too_large",
            "where": scope["path"],
            "what": f"more than {limit / 1024**2:.0f} MiB were sent",
            "mend": "send less: the single part, not the assembly",
        }
        refusal = document(413, too_much)
        # Nobody reads on: what is still coming has nowhere to go.
        refusal.headers["connection"] = "close"
        said = headers.get("content-length", "")
        if said.isdigit() and int(said) > limit:
            await refusal(scope, receive, send)
            return
        came, over, started = 0, False, False

        async def counted() -> Message:
            nonlocal came, over
            message = await receive()
            came += len(message.get("body", b""))
            if came > limit:
                over = True
                raise TooMuch
            return message

        async def watched(message: Message) -> None:
            nonlocal started
            if over and not started:
                # Whatever the application made of a body cut short, this is why.
                if message["type"] == "http.response.start":
                    started = True
                    await refusal(scope, receive, send)
                return
            if not over:
                started = True
                await send(message)

        try:
            await self.app(scope, counted, watched)
        except TooMuch:
            if not started:
                await refusal(scope, receive, send)
