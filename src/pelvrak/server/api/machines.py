"""Machine files, and the fewest positions and setups a machine needs for a part."""

from __future__ import annotations

import numpy as np
from fastapi import APIRouter, UploadFile

from pelvrak.core.geometry.features import Features
from pelvrak.core.machine.machine import Machine, machine_from_json, machine_of
from pelvrak.core.route.fewest import Fewest, fewest
from pelvrak.core.route.plan import plan_from
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.projects import project as state_of_project
from pelvrak.server.db.models import PartUpload
from pelvrak.server.db.session import DatabaseStore, transaction

router = APIRouter(prefix="/api", tags=["machines"])


@router.post("/machines.json")
def read_machine(file: UploadFile) -> Machine:
    """The machine of a file, checked; it is kept by the plan that takes it."""
    return machine_from_json(file.file.read(2_000_000), file.filename or "machine.json")


@router.get("/projects/{project_id}/fewest/{setup}")
def fewest_positions(project_id: int, setup: str) -> Fewest:
    """The fewest positions for a setup as it stands, and the fewest setups for the part, on the setup's machine."""
    state = state_of_project(project_id)
    plan = plan_from(state.plan.model_dump(mode="json"))
    own = next((one for one in plan.setups if one.name == setup), None)
    told = next((one for one in state.report.setups if one.name == setup), None) if state.report else None
    if own is None:
        raise Refused(404, "project.no_setup", setup, f"there is no setup {setup!r}", "choose one of the route")
    if told is None or told.zero_from_work is None:
        raise Refused(409, "project.not_computed", setup, f"{setup} has not been computed", "wait until it is current")
    with transaction() as session:
        upload = session.get(PartUpload, plan.part.sha256) if plan.part.sha256 else None
        data = DatabaseStore().get(upload.key, "features.json") if upload and upload.key else None
    if data is None:
        raise Refused(409, "part.not_ready", "part", "this part has not been read", "wait until it is read")
    features = Features.model_validate_json(data)
    return fewest(features, machine_of(own.machine, plan.machines), np.array(told.zero_from_work))
