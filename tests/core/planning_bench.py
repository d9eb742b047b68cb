"""One operation planned, cut and measured, for tests: a small part in a block, without vise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pelvrak.core.cutting.feeds import cutting_data, material_of
from pelvrak.core.cutting.job import Job, plan_operation
from pelvrak.core.cutting.standing import UP, standing_square
from pelvrak.core.cutting.toolpath import Path, chords
from pelvrak.core.cutting.tools import Tool, body_profiles, cutter_profile, tool_shelf
from pelvrak.core.geometry.mesh import volume
from pelvrak.core.geometry.part import Part, PartModel, ref_to
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.stock.cut import Hits, Sweep, cut
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.surface import surface

SAME = np.eye(4)
# Cells of one surface that lie so near to each other are drawn as one, mm.
JOINED_MM = 0.005


@dataclass
class Cut:
    """What came of it."""

    job: Job
    field: RayField
    hits: Hits

    @property
    def volume(self) -> float:
        return enclosed(self.field)


def enclosed(field: RayField) -> float:
    """Volume within the surface of a field, mm³."""
    return volume(surface(field, JOINED_MM))


def model(shape: Any) -> PartModel:
    return model_of_solid(shape, "0" * 64, "millimetre")


def run(part: PartModel, field: RayField, operation: Any, tool: Tool | None = None) -> Cut:
    """Plan and cut one operation; zero is the part's own origin, up is +z."""
    tool = tool or tool_shelf()[operation.tool]
    here = standing_square(field, SAME)
    assert here is not None
    data = cutting_data(
        tool,
        material_of("EN AW-6082"),
        machine_of("vertical-760"),
        operation.speed_rpm,
        operation.feed_mm_min,
    )
    job = Job(part, SAME, here, tool, data, "OP10", operation, Path((0.0, 0.0, float(here.high[2]) + 60)))
    plan_operation(job)
    if not job.path.moves:
        none = np.zeros(0)
        return Cut(job, field, Hits(none, np.zeros((0, 3)), none, none, none, none))
    lines = chords(job.path)
    sweep = Sweep(lines.starts, lines.ends, lines.what, UP, cutter_profile(tool), body_profiles(tool))
    after, hits = cut(field, sweep, 257)
    return Cut(job, after, hits)


def plane_at(part: Part, height: float) -> Any:
    """A reference to the upward plane face at a height."""
    return ref_to(
        next(f for f in part.faces if f.normal and f.normal[2] > 0.999 and abs(f.centre[2] - height) < 1e-6)
    )


def bore_of(part: Part, diameter: float) -> tuple[Any, ...]:
    """References to the walls of the holes of a diameter."""
    return tuple(ref_to(part.faces[h.faces[0]]) for h in part.holes if abs(h.diameter - diameter) < 1e-6)
