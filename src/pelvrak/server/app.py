"""The web process."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Annotated, Any

from fastapi import FastAPI, HTTPException, Query
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles

from pelvrak.core.billet.block import SIZINGS
from pelvrak.core.billet.forms import KINDS as BILLETS
from pelvrak.core.billet.several import LAYOUTS, PLACEMENTS, Division
from pelvrak.core.cutting.feeds import Material, materials
from pelvrak.core.cutting.finish import Finish
from pelvrak.core.cutting.operations import KINDS, OperationKind
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.callout import Understood
from pelvrak.core.geometry.callout import understood as read_callout
from pelvrak.core.holding.hold import Item
from pelvrak.core.holding.kinds import KINDS as FIXTURES
from pelvrak.core.holding.kinds import FixtureKind
from pelvrak.core.machine.machine import machines as shipped_machines
from pelvrak.core.program.dialects import KINDS as DIALECTS
from pelvrak.core.program.dialects import dialects
from pelvrak.core.quantity.typed import FieldUnit, understood
from pelvrak.core.route.pieces import cell_within
from pelvrak.server.api import (
    chains,
    drafting,
    drawings,
    events,
    everyday,
    holding,
    machines,
    moments,
    parts,
    problems,
    projects,
    proposing,
    release,
    shelf,
    stocks,
    templates,
    texts,
    tools,
)
from pelvrak.server.api import dialects as dialect_library
from pelvrak.server.api.shapes import BilletForm, DialectForm, FixtureForm, Library, OperationForm, RuleForm
from pelvrak.server.guard import Guard

WEB = Path(__file__).resolve().parents[3] / "web" / "dist"


@asynccontextmanager
async def lifespan(app: FastAPI) -> AsyncIterator[None]:
    """Listen to the database while the process lives; first hand on what an earlier version computed."""
    await asyncio.to_thread(projects.retire_old_reports)
    loops = (events.listen, events.watch, events.say_number, events.tidy)
    tasks = [asyncio.create_task(loop()) for loop in loops]
    try:
        yield
    finally:
        for task in tasks:
            task.cancel()


# The pages that show the API would take their script from elsewhere: off. /openapi.json says the same.
app = FastAPI(title="Pelvrak", version="0.1.0", lifespan=lifespan, docs_url=None, redoc_url=None)
problems.install(app)
app.add_middleware(GZipMiddleware, minimum_size=1000, compresslevel=1)
app.add_middleware(Guard)
for router in (
    projects.router,
    moments.router,
    parts.router,
    release.router,
    shelf.router,
    stocks.router,
    drawings.router,
    chains.router,
    templates.router,
    texts.router,
    tools.router,
    holding.router,
    everyday.router,
    dialect_library.router,
    machines.router,
    drafting.router,
    proposing.router,
    events.router,
):
    app.include_router(router)


def operation_form(name: str, kind: type[OperationKind]) -> OperationForm:
    """How the page asks for a kind of operation."""
    return OperationForm(
        kind=name,
        called=kind.called,
        pick_first=kind.pick_first,
        picks=kind.picks,
        tools_by=kind.tools_by,
        tools={value: list(tools) for value, tools in kind.tools.items()},
        fields=kind.model_json_schema(),
    )


def fixture_form(name: str, kind: type[FixtureKind]) -> FixtureForm:
    """How the page shows a kind of fixture."""
    return FixtureForm(
        kind=name,
        called=kind.called,
        several=kind.several,
        sizes=kind.sizes,
        asks=kind.asks,
        fields=kind.model_json_schema(),
    )


def rule_form(field: str, rule: Any) -> RuleForm:
    """A way to tell something. field: by whose value it is told from the others."""
    return RuleForm(
        rule=rule.model_fields[field].default, called=rule.called, fields=rule.model_json_schema()
    )


@app.get("/api/library")
def library() -> Library:
    """Machines, dialects, tools and materials that ship with the program."""
    return Library(
        machines=list(shipped_machines().values()),
        dialects=list(dialects().values()),
        dialect_forms=[
            DialectForm(kind=name, called=kind.called, fields=kind.model_json_schema())
            for name, kind in DIALECTS.items()
        ],
        materials=list(materials().values()),
        operations=[operation_form(name, kind) for name, kind in KINDS.items()],
        fixtures=[fixture_form(name, kind) for name, kind in FIXTURES.items()],
        billets=[
            BilletForm(
                kind=kind.model_fields["kind"].default,
                called=kind.called,
                reads=kind.reads,
                holds=kind.holds,
                fields=kind.model_json_schema(),
            )
            for kind in BILLETS
        ],
        sizings=[rule_form("rule", one) for one in SIZINGS],
        layouts=[rule_form("rule", one) for one in LAYOUTS],
        placements=[rule_form("lies", one) for one in PLACEMENTS],
        division=Division.model_json_schema(),
        item=Item.model_json_schema(),
        finish=Finish.model_json_schema(),
        tool=Tool.model_json_schema(),
        material=Material.model_json_schema(),
    )


@app.get("/api/understood")
def typed(text: Annotated[str, Query(max_length=1000)], unit: FieldUnit = "mm") -> float:
    """The value of what was typed into a field, in the field's unit; a problem document says at which
    character it fails.
    """
    return understood(text, unit).value


@app.get("/api/callout")
def callout(
    text: Annotated[str, Query(max_length=40)],
    nominal: Annotated[float | None, Query(gt=0, le=5000, allow_inf_nan=False)] = None,
) -> Understood:
    """What a tolerance or thread typed on a size (mm), or a roughness, means. nominal: none for a face that
    has no size.
    """
    return read_callout(text, nominal)


@app.get("/api/cell")
def cell(error_mm: Annotated[float, Query(gt=0, le=10, allow_inf_nan=False)]) -> float:
    """The ray distance, mm, that knows round walls to within an error."""
    return cell_within(error_mm)


@app.api_route("/api", methods=["GET", "POST", "PUT", "PATCH", "DELETE"], include_in_schema=False)
@app.api_route("/api/{path:path}", methods=["GET", "POST", "PUT", "PATCH", "DELETE"], include_in_schema=False)
def nothing_here(path: str = "") -> None:
    """What is below /api and nowhere above is nowhere: not the page."""
    raise HTTPException(404)


if WEB.exists():
    app.mount("/assets", StaticFiles(directory=WEB / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        """The application; the browser finds the way within it."""
        return FileResponse(WEB / "index.html")
