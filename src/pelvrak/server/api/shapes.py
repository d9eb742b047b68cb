"""What does the API say and take?"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Path
from fastapi.responses import Response
from pydantic import BaseModel, Field

from pelvrak.core.cures import Edits
from pelvrak.core.cutting.feeds import Material
from pelvrak.core.cutting.tools import ToolKind
from pelvrak.core.geometry.measure import Target
from pelvrak.core.geometry.mesh_file import LengthUnit
from pelvrak.core.geometry.part import Vector
from pelvrak.core.machine.machine import Machine
from pelvrak.core.program.dialects import AnyDialect
from pelvrak.core.route.edits import Changes
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import Report

# What PostgreSQL's integer holds.
LARGEST = 2**31 - 1
# A length or place somebody sends, mm; and what a file of a kind is published as.
Length = Annotated[float, Field(ge=-20_000, le=20_000, allow_inf_nan=False)]


def file_of(*kinds: str) -> dict[str, Any]:
    """How an answer that is a file is published: keywords of a route."""
    return {
        "response_class": Response,
        "responses": {200: {"description": "The file.", "content": {kind: {} for kind in kinds}}},
    }


ProjectId = Annotated[int, Path(ge=1, le=LARGEST)]
RevisionNumber = Annotated[int, Field(ge=1, le=LARGEST)]


class Problem(BaseModel):
    """What is wrong, where, and how to mend it."""

    code: str
    where: str
    what: str
    mend: str


class SolidLine(BaseModel):
    """One solid of a file with several; mm, mm³."""

    number: int
    name: str
    size: tuple[float, float, float]
    volume_mm3: float


class PartState(BaseModel):
    """An uploaded part. choices: its solids, when one has to be chosen; origin: the file it was taken
    from.
    """

    sha256: str
    name: str
    kind: Literal["part", "outline", "stock"] = "part"
    status: Literal["reading", "ready", "choose", "refused"]
    key: str | None = None
    problem: Problem | None = None
    choices: list[SolidLine] = []
    origin: str | None = None


class Choose(BaseModel):
    """Which solid of a file is the part, or in which unit a mesh without one was written."""

    solid: Annotated[int, Field(ge=0)] | None = None
    unit: LengthUnit | None = None


class Measure(BaseModel):
    """What to measure on a part: one thing, or from one to another."""

    first: Target
    second: Target | None = None


class CastingPlace(BaseModel):
    """Where a casting lies best: degrees about x, then y, then z, then mm; the thinnest cover it gives, mm,
    and where; how far faces that stay as they came then lie off it.
    """

    turn: Vector
    move: Vector
    cover: float
    thinnest_at: Vector
    datums_off: float | None = None


class Revise(BaseModel):
    """A new revision of the part for a plan. take: references (JSON pointers) whose new place was
    confirmed.
    """

    based_on: RevisionNumber
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
    revision: Annotated[str, Field(max_length=20)]
    take: list[str] = []


Status = Literal["queued", "running", "done", "stopped", "failed"]


class ProjectLine(BaseModel):
    """A project in the list, so that routes of one part can be held side by side: time in s, left: mm³ on the
    part at the end.

    status: how its newest computing stands.
    """

    id: int
    name: str
    revision: int
    part: str
    setups: int
    positions: int = 0
    registers: int = 0
    time_s: float | None = None
    left_mm3: float | None = None
    archived: bool = False
    still: str | None = None
    status: Status | None = None


class EvaluationState(BaseModel):
    """How the newest computing stands."""

    revision: int
    status: Status
    share: float
    what: str
    problem: Problem | None = None


class ProjectState(BaseModel):
    """A project as the screen needs it.

    report: the newest finished one, made for report_revision, with what is there already of one under way.
    stale_from: the first setup (from 0) whose part of the report does not belong to the plan, or is not
    computed yet; None when all of it is current. seated: the setup whose seat, holding and reach are current
    while its cuts are not. billet_late: the report's billet is not the plan's.
    """

    id: int
    revision: int
    what: str
    plan: Plan
    can_undo: bool
    can_redo: bool
    evaluation: EvaluationState | None = None
    report: Report | None = None
    report_revision: int | None = None
    stale_from: int | None = None
    billet_late: bool = False
    seated: int | None = None
    stills: dict[str, str] = {}


class NewProject(BaseModel):
    """A project from a part that was read."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]


class ChangeProject(BaseModel):
    """What to change of a project; what is None stays."""

    name: Annotated[str, Field(min_length=1, max_length=80, pattern=r"^[^\x00-\x1f]+$")] | None = None
    archived: bool | None = None


class Edit(BaseModel):
    """A new state of the plan, made on a revision."""

    based_on: RevisionNumber
    what: Annotated[str, Field(min_length=1, max_length=120)]
    plan: dict[str, Any]


class Patch(BaseModel):
    """An edit of the plan, made on a revision: what it changes, as JSON Patch (RFC 6902)."""

    based_on: RevisionNumber
    what: Annotated[str, Field(min_length=1, max_length=120)]
    changes: Changes


class TypedEdits(BaseModel):
    """An edit of the plan, made on a revision, that names what it changes: a cure, or a proposal taken."""

    based_on: RevisionNumber
    what: Annotated[str, Field(min_length=1, max_length=120)]
    edits: Edits


class Step(BaseModel):
    """Undo or redo, asked for on a revision."""

    based_on: RevisionNumber


class OperationForm(BaseModel):
    """A kind of operation as the page asks for it.

    fields: JSON Schema of its document, with labels, units, help and defaults; pick_first: what must be
    picked before there can be one, for the field `picks` (faces or edges); tools: what can do it, by the
    value of its field tools_by.
    """

    kind: str
    called: str
    pick_first: str
    picks: str
    tools_by: str
    tools: dict[str, list[ToolKind]]
    fields: dict[str, Any]


class FixtureForm(BaseModel):
    """A kind of fixture as the page shows it.

    called, several: one of it, and several; sizes: what is asked for first, with fields in braces (a list by
    its least and most, a yes by its field's name); asks: the fields of its item in a holding, with what they
    are called there; fields: JSON Schema with what core/forms.py says of each field.
    """

    kind: str
    called: str
    several: str
    sizes: str
    asks: dict[str, str]
    fields: dict[str, Any]


class RuleForm(BaseModel):
    """One of several ways to tell something: to size a block, to lay pieces in a billet. rule: as in the
    plan; called: as people say it; fields: JSON Schema of it.
    """

    rule: str
    called: str
    fields: dict[str, Any]


class BilletForm(BaseModel):
    """A kind of billet as the page asks for it.

    called: as people say it; reads: endings of the files it is read from, "" for none; holds: what has to be
    in such a file; fields: JSON Schema with what core/forms.py says of each field.
    """

    kind: str
    called: str
    reads: str
    holds: str
    fields: dict[str, Any]


class DialectForm(BaseModel):
    """A kind of dialect, as the page asks for it.

    called: as people say it; fields: JSON Schema with what core/forms.py says of each field.
    """

    kind: str
    called: str
    fields: dict[str, Any]


class Library(BaseModel):
    """What ships with the program, and the kinds of operation, fixture, billet and dialect there are.

    sizings: ways to size a block; layouts: to lay several parts in a billet, placements: one of them by hand;
    division: JSON Schema of how they come apart; item: JSON Schema of an item of a holding; finish: of a
    stage of finish; tool: of a tool; material: of a work material.
    """

    machines: list[Machine]
    dialects: list[AnyDialect]
    dialect_forms: list[DialectForm]
    materials: list[Material]
    operations: list[OperationForm]
    fixtures: list[FixtureForm]
    billets: list[BilletForm]
    sizings: list[RuleForm]
    layouts: list[RuleForm]
    placements: list[RuleForm]
    division: dict[str, Any]
    item: dict[str, Any]
    finish: dict[str, Any]
    tool: dict[str, Any]
    material: dict[str, Any]
