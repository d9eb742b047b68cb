"""Texts of programs that come in: from elsewhere, or changed by hand."""

from __future__ import annotations

import hashlib
from typing import Annotated

from fastapi import APIRouter, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from pelvrak.core.engine.engine import Engine
from pelvrak.core.program.own_text import MOST_BYTES, readable, tools_told
from pelvrak.core.program.reading import ReadProgram, read_program
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import Proof, SetupReport
from pelvrak.core.route.two_texts import against, written_text
from pelvrak.core.route.wrongly import Wrongly, set_up_wrongly
from pelvrak.server.api.moments import KERNELS
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.api.projects import told_of
from pelvrak.server.api.shapes import ProjectId
from pelvrak.server.db.models import PartUpload
from pelvrak.server.db.session import transaction
from pelvrak.server.db.store import DatabaseStore
from pelvrak.server.db.uploads import body_of

router = APIRouter(prefix="/api", tags=["texts"])
# Longer texts are read where they are run.
MOST_READ = 50_000


class ToolTold(BaseModel):
    """What a comment of a text tells of a tool: its number, the words, the diameter where there is one,
    mm.
    """

    model_config = ConfigDict(frozen=True)
    number: int
    said: str
    diameter: float | None


class TextState(BaseModel):
    """A text that is kept. read: what is in it, None for one that is too long to be read at once."""

    model_config = ConfigDict(frozen=True)
    sha256: str
    name: str
    read: ReadProgram | None
    tools: tuple[ToolTold, ...]


@router.post("/texts", status_code=201)
def bring_text(file: UploadFile) -> TextState:
    """Keep a text, so that a setup can be cut by it. What cannot be read of it is told, and it is kept
    all the same.
    """
    name = (file.filename or "program.nc")[-200:]
    body = file.file.read(MOST_BYTES + 1)
    if len(body) > MOST_BYTES:
        raise Refused(
            413,
            "program.too_large",
            name,
            f"the text is over {MOST_BYTES // 1024**2} MiB",
            "break it up into programs of one setup each",
        )
    text = readable(body, name)
    sha256 = hashlib.sha256(body).hexdigest()
    with transaction() as session:
        if session.get(PartUpload, sha256) is None:
            session.add(PartUpload(sha256=sha256, name=name, body=body, kind="program", status="ready"))
    lines = text.split("\n")
    return TextState(
        sha256=sha256,
        name=name,
        read=read_program(lines) if len(lines) <= MOST_READ else None,
        tools=tuple(
            ToolTold(number=number, said=said, diameter=diameter)
            for number, (said, diameter) in tools_told(text).items()
        ),
    )


class Against(BaseModel):
    """A text that a setup's program is set against. sha256: of one that was brought in; None: the written
    one.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None


@router.post("/projects/{project_id}/against/{setup}")
def run_against(project_id: ProjectId, setup: str, other: Against) -> Proof:
    """What another text leaves, against what the setup's own program leaves. Nothing is changed."""
    plan, told = _computed(project_id, setup)
    engine = Engine(DatabaseStore(), files=body_of)
    name = "the other text"
    with KERNELS:
        if other.sha256 is None:
            text = written_text(told, engine)
        else:
            text = readable(body_of(other.sha256, name), name)
        if text is None:
            raise Refused(409, "program.none", setup, "the setup has no program", "give it something to cut")
        return against(plan, told, engine, text)


@router.post("/projects/{project_id}/wrongly/{setup}")
def run_wrongly(project_id: ProjectId, setup: str, how: Wrongly) -> Proof:
    """What a setup's program would leave on a machine that is set up wrongly, or run otherwise. Nothing is
    changed.
    """
    plan, told = _computed(project_id, setup)
    with KERNELS:
        return set_up_wrongly(plan, told, Engine(DatabaseStore(), files=body_of), how)


def _computed(project_id: ProjectId, setup: str) -> tuple[Plan, SetupReport]:
    """A setup as it is computed, and its plan."""
    state = state_of_project(project_id)
    told = told_of(state, setup)
    if told is None or state.report_revision != state.revision:
        raise Refused(
            409, "project.not_computed", setup, f"{setup} has not been computed", "wait until it is current"
        )
    return plan_from(state.plan.model_dump(mode="json")).settled(), told
