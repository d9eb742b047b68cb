"""What has every kind of operation in common, and what does each kind answer for itself?"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.cutting.tools import Tool, ToolKind
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face, FaceRef, Frozen, Part
from pelvrak.core.machine.machine import Register

if TYPE_CHECKING:
    from pelvrak.core.cutting.job import Job

NestRoom = Literal["floor", "step", "boss"]
Depth = Annotated[float, Field(gt=0, le=200)]
Leave = Annotated[float, Field(ge=0, le=20)]
Clearance = Annotated[float, Field(gt=0, le=200)]
StepOver = Annotated[float, Field(gt=0.02, le=0.95)]
Ramp = Annotated[float, Field(gt=0.1, le=30)]
Feed = Annotated[float, Field(gt=0, le=100_000)]
Stop = Literal["no", "stop", "optional"]
PositionName = Annotated[str, Field(min_length=1, max_length=20)]
# A fresh operation takes the cutter nearest to this where nothing says better: common practice, no source.
USUAL_CUTTER_MM = 10.0


def depth_of_pass(default: float) -> Any:
    """The field `step_down` of kinds that cut in passes."""
    return asked(default, title="Step down", help="depth of one pass", unit="mm", place="what")


def width_of_pass(default: float) -> Any:
    """The field `step_over` of kinds that cut in passes."""
    return asked(
        default, title="Step over", help="width of one pass, as a share of DC", unit="× DC", place="what"
    )


def leaves(title: str, help: str) -> Any:
    """A field for what an operation leaves, which its finish says where it does not."""
    return asked(None, title=title, help=help, unit="mm", empty="by its finish", place="what")


def ramp_angle() -> Any:
    """The field `ramp_deg` of kinds that go down in the material."""
    return asked(
        3.0, title="Ramp", help="angle at which it goes down in the material", unit="°", place="what"
    )


class OperationKind(Frozen, ABC):
    """What every operation is told. A kind adds its own fields and answers the questions below.

    called: the kind's name on the page; leave_is: which of a finish's allowances its field `leave` is;
    pick_first: what has to be picked before there can be one, "" for nothing; picks: the field that is picked
    for; turns_work: the work turns under the tool while it cuts; touches_stock: it touches the stock as it
    comes in and cuts nothing; round_each: told no faces, it goes round each piece of the billet by itself.
    tools: the kinds of tool that can do it, the usual one first, by the value of the field tools_by; under ""
    where that is no matter.
    """

    called: ClassVar[str]
    pick_first: ClassVar[str] = ""
    picks: ClassVar[str] = "faces"
    leave_is: ClassVar[str] = "leave_side"
    turns_work: ClassVar[bool] = False
    touches_stock: ClassVar[bool] = False
    round_each: ClassVar[bool] = False
    tools_by: ClassVar[str] = ""
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]]

    # Each kind has its own, by which it is told from the others.
    kind: str
    id: Annotated[str, Field(min_length=1, max_length=40)] = asked(
        title="Id", help="tells the operation from the others of its setup; never changes, never shown"
    )
    name: Annotated[str, Field(min_length=1, max_length=60)] = asked(
        title="Name", help="what the operation is called wherever people read of it"
    )
    tool: str = asked(
        title="Tool", help="the tool it is cut with, of the plan's list", widget="tool", place="where"
    )
    position: PositionName | None = asked(
        None,
        title="Cut at",
        help="the index position it is cut at; none: as the work is seated",
        widget="positions",
        place="where",
    )
    repeated_at: Annotated[tuple[PositionName, ...], Field(max_length=60)] = asked(
        (),
        title="Also cut at",
        help="further index positions: at each the faces that look to the spindle there",
    )
    left_out: Annotated[tuple[Annotated[str, Field(max_length=20)], ...], Field(max_length=60)] = asked(
        (), title="Left out at", help='positions of these where it is not cut; "": as the work is seated'
    )
    not_at: Annotated[tuple[Annotated[str, Field(max_length=12)], ...], Field(max_length=60)] = asked(
        (),
        title="Not at",
        help="pieces of the billet, of several, where it is not cut",
        widget="pieces",
        place="where",
    )
    finish: Annotated[str, Field(max_length=40)] | None = asked(
        None,
        title="Finish",
        help="rough, semi-finish or finish: what stays, and how fast it goes, where it is not said here",
        widget="finish",
        place="where",
    )
    group: Annotated[str, Field(max_length=40)] | None = asked(
        None,
        title="Group",
        help="its group in the setup, which may say its finish and register",
        widget="group",
        place="where",
    )
    off: bool = asked(False, title="Off", help="kept, and not cut")
    offset_register: Register | None = asked(
        None,
        title="Counts from",
        help="the register it counts from; none: its position's",
        widget="register",
        place="where",
    )
    clearance: Clearance = asked(
        10.0,
        title="Clearance",
        help="height over the stock for moves between places",
        unit="mm",
        place="feeds",
    )
    retract: Clearance = asked(
        2.0,
        title="Retract",
        help="height over the work for moves within the operation",
        unit="mm",
        place="feeds",
    )
    speed_rpm: Annotated[float, Field(gt=0, le=100_000)] | None = asked(
        None,
        title="Speed",
        help="spindle speed in place of the computed one",
        unit="rpm",
        empty="computed",
        below="speed",
        place="feeds",
    )
    feed_mm_min: Feed | None = asked(
        None,
        title="Feed",
        help="feed in place of the computed one",
        unit="mm/min",
        empty="computed",
        below="feed",
        place="feeds",
    )
    entry_feed: Feed | None = asked(
        None,
        title="Entry feed",
        help="feed down into the material",
        unit="mm/min",
        empty="computed",
        place="feeds",
    )
    lead_feed: Feed | None = asked(
        None,
        title="Lead feed",
        help="feed of leads to and from a pass",
        unit="mm/min",
        empty="the feed",
        place="feeds",
    )
    retract_feed: Feed | None = asked(
        None,
        title="Retract feed",
        help="feed up out of the cut, as far as the retract height over it",
        unit="mm/min",
        empty="rapid",
        place="feeds",
    )
    coolant: Literal["flood", "mist", "off"] = asked(
        "flood", title="Coolant", help="on while it cuts", place="program"
    )
    spindle: Literal["forward", "backward"] = asked(
        "forward",
        title="Spindle",
        help="forward: clockwise seen from the spindle; backward for left-hand tools",
        place="program",
    )
    stop_before: Stop = asked(
        "no",
        title="Stop before",
        help="the program stops with the spindle up, always or where the operator has set it to",
        place="program",
    )
    stop_after: Stop = asked("no", title="Stop after", help="the same when it is done", place="program")
    comment: Annotated[str, Field(max_length=200)] = asked(
        "", title="Comment", help="stands in the program and with its stops", place="program"
    )

    @model_validator(mode="after")
    def _positions_are_its_own(self) -> OperationKind:
        everywhere = [self.position or "", *self.repeated_at]
        if len(set(everywhere)) != len(everywhere):
            raise ValueError(f"{self.name} is repeated at a position twice: name each once")
        stray = next((name for name in self.left_out if name not in everywhere), None)
        if stray is not None:
            where = stray or "the work as it is seated"
            raise ValueError(f"{self.name} leaves {where} out, where it is not cut anyway")
        return self

    def places(self) -> tuple[str, ...]:
        """The positions it is cut at, in its order, without those left out; "" is the work as it is
        seated.
        """
        return tuple(n for n in (self.position or "", *self.repeated_at) if n not in self.left_out)

    def tool_kinds(self) -> tuple[ToolKind, ...]:
        """The kinds of tool that can do it, the usual one first."""
        return self.tools[getattr(self, self.tools_by) if self.tools_by else ""]

    @abstractmethod
    def plan(self, job: Job) -> None:
        """Fill job.path, job.holes and job.findings. Raises BadInput when it cannot be planned."""

    def on_walls(self) -> float:
        """What stays on walls, mm; 0 where neither it nor its finish says."""
        said = getattr(self, "leave_side", getattr(self, "leave", None))
        return float(said or 0.0)

    def on_floors(self) -> float:
        """What stays on floors, mm."""
        said = getattr(self, "leave_floor", getattr(self, "leave", None))
        return float(said or 0.0)

    def faces_told(self) -> tuple[FaceRef, ...]:
        """The faces it is told to cut."""
        return tuple(getattr(self, "faces", ()))

    def first_face(self, part: Part | None) -> Face | None:
        """The first of the faces it is told to cut, as the part has it."""
        told = self.faces_told()
        if part is None or not told:
            return None
        return next((face for face in part.faces if face.number == told[0].face), None)

    def of_faces(self, faces: tuple[FaceRef, ...]) -> OperationKind:
        """The same for other faces."""
        return self.model_copy(update={"faces": faces})

    def engagement(self, cutter_mm: float) -> tuple[float, float] | None:
        """Depth and width of cut at a full step, mm; None where it does not cut in passes."""
        down, over = getattr(self, "step_down", None), getattr(self, "step_over", None)
        return None if down is None or over is None else (down, over * cutter_mm)

    def canned_cycle(self) -> str:
        """The cycle its holes are made in, one of the post's CYCLE_CODES; "" where it makes none."""
        return ""

    def dwell_s_at_bottom(self) -> float:
        """How long the tool stands at the bottom of its holes, s."""
        return 0.0

    def adjusted(self, tool: Tool, part: Part | None) -> Tool:
        """A tool set to what it is to cut, where it can be set."""
        return tool

    def cut_from(self, part: Part, face: Face, zero_from_work: Floats) -> bool | None:
        """Whether a face can be cut from where the spindle looks; None: as any other of its form."""
        return None

    def means_to_cut_in(self) -> bool:
        """Whether it cuts into the part as drawn and is meant to: what it takes is no gouge."""
        return False

    def bore_made(self, tool: Tool, drawn: float) -> float | None:
        """Diameter of the hole it makes where it is told the wall of one, mm; None where it makes none to a
        size. drawn: as the part has it, mm.
        """
        return None

    def thread_made(self, tool: Tool, drawn: float) -> tuple[float, float] | None:
        """Size and pitch of the thread it cuts in a hole, mm."""
        return None

    def scallops_left(self, tool: Tool) -> float | None:
        """Height of what it leaves between two passes over a surface, mm; None where it makes none known."""
        return None

    def tool_corrected(self) -> str | None:
        """The tool whose wear it corrects by what it measures. Raises BadInput where none is told."""
        return None

    def register_set(self) -> Register | None:
        """The register whose axes it sets by what it touches."""
        return None

    def register_turned(self) -> Register | None:
        """The register that it finds turned, by what it touches: what counts from it after that is turned
        with it.
        """
        return None

    def corrected_in_control(self) -> Literal["", "wear", "whole"]:
        """What of the cutter's radius the control corrects: nothing, its wear, all of it."""
        return ""

    def is_drilled(self) -> bool:
        """Whether its holes are as wide as a drill makes them."""
        return False

    def peck_mm(self) -> float | None:
        """The depth the tool goes between two retreats in a hole, mm; None: in one go."""
        return None

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """How ill a tool that can do it suits it, mm: the least is taken for a fresh operation, endless is of
        a wrong size.
        """
        return abs(tool.DC - USUAL_CUTTER_MM)
