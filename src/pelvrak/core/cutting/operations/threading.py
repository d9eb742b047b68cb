"""Thread milling: up in a helix of the thread's pitch."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.operation import OperationKind
from pelvrak.core.cutting.regions import bore_region, is_through
from pelvrak.core.cutting.tools import Tool, ToolKind
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import FaceRef, Part, face_of

# A thread mill wider than this share of the thread cuts its flanks out of shape: common practice, no source.
WIDEST_SHARE = 0.75
# Its hole may be this much off the tapping size, as a share of the pitch: ISO 965-1, 6H minor diameter
# tolerances of coarse threads M3 … M24 are 0.2 to 0.27 of it.
MINOR_SHARE = 0.27


class Threading(OperationKind):
    """Threads in bores of the tapping size, by a thread mill: up from the bottom, so that a right-hand thread
    is cut in climb.
    """

    called: ClassVar[str] = "Thread milling"
    pick_first: ClassVar[str] = "Pick the wall of the hole"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("thread_mill",)}

    kind: Literal["threading"] = "threading"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1)] = asked(
        title="Holes",
        help="the walls of the holes, at the tapping size",
        widget="faces",
        pick="Pick the wall of a hole",
        place="what",
    )
    size: Annotated[float, Field(gt=0, le=300)] | None = asked(
        None,
        title="Thread size",
        help="major diameter",
        unit="mm",
        empty="hole + the tool’s pitch",
        place="what",
    )
    hand: Literal["right", "left"] = asked("right", title="Hand", help="of the thread", place="what")
    short: Annotated[float, Field(ge=0, le=100)] = asked(
        0.0,
        title="Short of bottom",
        help="how far above the bottom of blind holes it ends",
        unit="mm",
        place="what",
    )
    passes: Annotated[int, Field(ge=1, le=10)] = asked(
        1, title="Passes", help="each a share of the depth of the thread", place="what"
    )

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """One that fits, nearest to three quarters of its thread."""
        face = self.first_face(part)
        if face is None or face.radius is None or tool.TP is None:
            return super().unsuitable(tool, part)
        size = self.size or 2 * face.radius + tool.TP
        over = tool.DC - WIDEST_SHARE * size
        minor_off = abs(2 * face.radius + tool.TP - size)
        return math.inf if over > 0 or minor_off > MINOR_SHARE * tool.TP else -over

    def thread_made(self, tool: Tool, drawn: float) -> tuple[float, float] | None:
        return None if tool.TP is None else (self.size or drawn + tool.TP, tool.TP)

    def plan(self, job: Job) -> None:
        for ref in self.faces:
            self._thread(job, ref)

    def _thread(self, job: Job, ref: FaceRef) -> None:
        """One hole. Raises BadInput for a hole that is not of the tapping size."""
        assert job.tool.TP is not None
        face = face_of(job.part.part, ref, self.name)
        disc, bottom, top = bore_region(job.part.part, face, job.zero_from_work, self.name)
        assert face.radius is not None
        pitch, minor = job.tool.TP, 2 * face.radius
        size = self.size or minor + pitch
        if abs(minor + pitch - size) > MINOR_SHARE * pitch:
            raise BadInput(
                "cut.not_tapping_size",
                self.name,
                f"a thread of {size:g} × {pitch:g} needs a hole Ø{size - pitch:.4g}; this is Ø{minor:.4g}",
                "choose a thread mill of another pitch, or another size",
            )
        x, y = disc.centroid.x, disc.centroid.y
        if WIDEST_SHARE * size < job.tool.DC:
            job.note(
                "cut.tool_too_big",
                "error",
                f"{job.tool.name} is too wide to mill a thread of {size:g} mm.",
                np.array([x, y, bottom]),
                measured=job.tool.DC,
                limit=round(WIDEST_SHARE * size, 3),
                unit="mm",
            )
            return
        through = is_through(job.part.part, face)
        low = bottom - pitch / 2 if through else bottom + self.short
        job.check_reach(top, low)
        job.path.rapid(x, y, job.top + self.clearance)
        for n in range(self.passes):
            # Even shares of the cut's area: the depth goes with the root of how much of it is done.
            share = math.sqrt((n + 1) / self.passes)
            turn = (minor + share * (size - minor) - job.tool.DC) / 2
            self._helix(job, (x, y), turn, (low, top))
        job.path.rapid(x, y, job.top + self.clearance)

    def _helix(
        self, job: Job, middle: tuple[float, float], turn: float, heights: tuple[float, float]
    ) -> None:
        """Up a helix in as many turns as the rows of teeth leave to do."""
        assert job.tool.TP is not None
        (x, y), (low, top), pitch = middle, heights, job.tool.TP
        rows = max(1, math.floor(job.tool.LCF / pitch + 1e-9))
        sets = max(1, math.ceil((top - low) / pitch / rows - 1e-9))
        up = pitch if self.hand == "right" else -pitch
        for n in range(sets):
            z = low + n * rows * pitch
            # A left-hand thread goes down in climb: from a pitch higher.
            first = z if up > 0 else z + pitch
            job.path.feed(x, y, first, job.data.link_mm_min)
            job.lead_round((x + turn, y, first + up / 4), (x + turn / 2, y))
            job.path.arc("ccw", (x + turn, y, first + up * 5 / 4), (x, y), job.feed)
            job.lead_round((x, y, first + up * 3 / 2), (x + turn / 2, y))
