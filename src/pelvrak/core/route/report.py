"""What came out of an evaluation?"""

from __future__ import annotations

from typing import Any, Literal

from pelvrak.core.billet.several import Saw
from pelvrak.core.cutting.tools import ToolPart
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.part import Frozen, Vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.holding.nest import Reason
from pelvrak.core.machine.kinematics import Angles
from pelvrak.core.route.load_report import LoadReport
from pelvrak.core.seat.resting import Rest

Matrix = tuple[tuple[float, ...], ...]
# Lengths, volumes and times are told to a millionth; what others multiply by is told as it is.
TOLD_DIGITS = 6
FACTORS = frozenset(
    {"zero_from_work", "zero_from_nest", "local_from_zero", "follows", "direction", "work_axis"}
)


def rounded(told: Any) -> Any:
    """Plain values as people read them: without the noise of a float's last digits."""
    if isinstance(told, float):
        return round(told, TOLD_DIGITS) + 0.0
    if isinstance(told, dict):
        return {key: value if key in FACTORS else rounded(value) for key, value in told.items()}
    if isinstance(told, (list, tuple)):
        return [rounded(one) for one in told]
    return told


class WrappedFact(Frozen):
    """What a wrapped operation is laid out by: once round the flat, how far the rotary axis lies below zero
    (mm), and from where to where it turns (degrees).
    """

    axis: str
    flat_length: Reckoned
    centre_below: Reckoned
    turns: tuple[float, float]


class TouchFact(Frozen):
    """One touch of a probe: where the surface is that it should meet, and the way it comes there; work frame,
    mm.
    """

    at: Vector
    way: Vector


class ProbeFact(Frozen):
    """What a probe touches, and the axes of a register that are set from it.

    sets: the register; axes: of it; touches: in their order; depth: how far under the edge of what is
    touched the ball's middle goes, mm, None from above.
    """

    sets: str
    axes: tuple[str, ...]
    touches: tuple[TouchFact, ...]
    depth: float | None = None


class OperationReport(Frozen):
    """One operation. key: of its result (pieces surface.glb, path.json, load.json); volumes mm³, time s.

    time_s counts a tool change before it, moving_s does not, in_cut_s nothing but what takes stock off;
    most_removal_cm3_min: the greatest at any
    moment. cut_z: lowest and highest Z of its feed moves in the stock, from zero. tool_shape: what cuts and
    what only turns, as drawn. position: where it is cut; zero_from_work: 4×4, the plane its moves, low, high
    and cut_z are in. travel: least and most X, Y and Z of the machine. run: tells the visits of one operation
    at several positions apart; number: of the operation in its setup. offset_register: it counts from.
    probe: what it touches and sets, where it is a probe's.
    """

    id: str
    run: str
    number: int
    name: str
    kind: str
    tool: str
    tool_name: str
    key: str | None = None
    time_s: float = 0.0
    moving_s: float = 0.0
    in_cut_s: float = 0.0
    most_removal_cm3_min: float = 0.0
    removed_volume_mm3: float = 0.0
    outgoing_volume_mm3: float = 0.0
    speed: Reckoned | None = None
    feed: Reckoned | None = None
    removal: Reckoned | None = None
    low: Vector | None = None
    high: Vector | None = None
    moves: int = 0
    cut_z: tuple[float, float] | None = None
    tool_shape: tuple[ToolPart, ...] = ()
    position: str | None = None
    zero_from_work: Matrix | None = None
    travel: tuple[Vector, Vector] | None = None
    offset_register: str = ""
    wrapped: WrappedFact | None = None
    probe: ProbeFact | None = None
    first_line: int | None = None
    last_line: int | None = None
    findings: tuple[Finding, ...] = ()


class ZeroReport(Frozen):
    """A further zero of a setup: where it lies from the setup's own (mm), what it rests on, what its register
    holds.
    """

    name: str
    offset_register: str
    at: Vector
    rests: tuple[Rest, ...] = ()
    register_value: tuple[Reckoned, Reckoned, Reckoned] | None = None


class SlidesFact(Frozen):
    """Solids of the machine that move against the work. key: of their picture, with the bare nose at zero of
    the position's plane, labelled by number; follows: how far each goes for each mm the nose goes, 3×3.
    """

    key: str
    names: tuple[str, ...]
    follows: tuple[Matrix, ...]


class PositionReport(Frozen):
    """An index position: which way looks up (zero frame), the rotary axes' angles, the local plane (4×4 from
    the zero frame), where its zero lies and how its x lies there (zero frame), its register and values, the
    share of each face that the spindle then sees, and what else would do. machine_key: picture of the
    machine's solids.
    """

    name: str
    direction: Vector
    angles: dict[str, float]
    local_from_zero: Matrix
    origin: Vector
    x: Vector
    offset_register: str
    register_value: tuple[Reckoned, Reckoned, Reckoned] | None = None
    seen: tuple[float, ...] = ()
    solutions: tuple[Angles, ...] = ()
    why: str = ""
    change: str = "turn"
    turning_s: float = 0.0
    machine_key: str | None = None
    slides: SlidesFact | None = None


class OffsetRow(Frozen):
    """One register of a load: what it stands on from the table up, how it is found, X, Y and Z, the rotary
    angles it holds for, and what uses it.

    comes_from: the register it is found in or turned from; before: the operation before which the program
    finds it; set_by: the operations that set it by what they touch; set_value: as set by hand, and off_mm:
    how far that lies from the value. at: its zero, zero frame of its setup, mm.
    """

    load: str
    setup: str
    register_name: str
    zero: str
    stands_on: tuple[str, ...]
    found: Literal["fixed point", "edge", "probe", "by hand", "derived"]
    comes_from: str | None = None
    before: str | None = None
    set_by: tuple[str, ...] = ()
    value: tuple[Reckoned, Reckoned, Reckoned] | None
    set_value: Vector | None = None
    off_mm: float | None = None
    at: Vector
    angles: dict[str, float]
    positions: tuple[str, ...] = ()
    operations: tuple[str, ...] = ()
    state: Literal["known", "to be found", "set by hand", "derived", "no layout"]


class NestReport(Frozen):
    """Soft jaws or a nest as solved; mm, degrees. Frame: the vise's over its bed, or the block's.

    item: of the holding; setup: it is for; cut_in: the setup that cuts it, None when none does. outline: of
    what goes in, opening: of what the cutter leaves, both (x, y) rings; blank: (length, height, thickness or
    width); zero_from_nest: 4×4 rows. files_key: of its files (pieces jaws.step, jaws.stl, jaws.dxf).
    """

    item: str
    setup: str
    cut_in: str | None = None
    turn_deg: float
    between_deg: float
    grip: float
    edge: float
    floor: float
    top: float
    gap: float
    split: float
    walls: tuple[float, float]
    blank: tuple[float, float, float]
    front: tuple[float, float, float] | None = None
    blank_id: str
    outline: tuple[tuple[float, float], ...]
    opening: tuple[tuple[float, float], ...]
    seated: tuple[float, float]
    reasons: tuple[Reason, ...]
    zero_from_nest: Matrix | None = None
    files_key: str | None = None


class IncomingReport(Frozen):
    """A stock that was chosen for a setup in place of the carried one. said: what it is called; carried_key:
    of the carried one; more, less: what it has that the carried one has not, and the other way: volumes mm³,
    and how far at most, mm; known_mm: less is no difference.
    """

    said: str
    carried_key: str | None = None
    more_mm3: float = 0.0
    less_mm3: float = 0.0
    more_mm: float = 0.0
    less_mm: float = 0.0
    known_mm: float = 0.0


class Proof(Frozen):
    """What came of a setup's program. equal: whether it leaves the planned stock, None where it was not
    run or nothing was planned. unproved: why it could not be run; alarm: why the control stops, at which
    line. most_mm: how far the two surfaces lie apart, at a place in the work frame; within_mm: up to which
    they count as equal; left_mm3, gouged_mm3:
    what stands that should not, and the other way. time_s: by the control; planned_s: by the plan; lines,
    moves: of the program; stops, optional_stops: how often it waits for its operator. met_mm, met_line: how
    deep a rapid, or what does not cut of a tool, comes into the stock at most, and where. key: of how it
    runs (piece control.json).
    """

    setup: str
    key: str | None = None
    equal: bool | None = None
    unproved: str | None = None
    alarm: str | None = None
    alarm_line: int | None = None
    most_mm: float | None = None
    within_mm: float = 0.0
    place: Vector | None = None
    left_mm3: float | None = None
    gouged_mm3: float | None = None
    time_s: float | None = None
    planned_s: float
    lines: int = 0
    moves: int = 0
    stops: int = 0
    optional_stops: int = 0
    met_mm: float | None = None
    met_line: int | None = None


class SetupReport(Frozen):
    """One setup. makes: the setup it cuts jaws for, whose stocks are those jaws then; nest: the solved jaws
    or nest it cuts or holds in. Frames are 4×4 rows; low and high are the incoming stock's box in the zero
    frame.

    incoming: how its stock was chosen; None: carried. offsets: the registers of this load;
    wrong_centre_mm: how far the work is off at a position when the rotary centre is 0.02 wrong. rests:
    what its zero rests on. cut_z: lowest and highest Z of its cutting moves, and the operations they are
    of. below_rest: how far the lowest lies under what the work rests on, mm. proof: of its program, once
    it has been run. seen: the share of each face of the part that the spindle sees from above.
    """

    name: str
    title: str
    machine: str
    offset_register: str
    incoming_key: str | None = None
    incoming: IncomingReport | None = None
    outgoing_key: str | None = None
    incoming_volume_mm3: float = 0.0
    outgoing_volume_mm3: float = 0.0
    removed_volume_mm3: float = 0.0
    incoming_mass_kg: float = 0.0
    outgoing_mass_kg: float = 0.0
    time_s: float = 0.0
    zero_from_work: Matrix | None = None
    low: Vector | None = None
    high: Vector | None = None
    hold: HoldFacts | None = None
    makes: str | None = None
    nest: NestReport | None = None
    rests: tuple[Rest, ...] = ()
    zeros: tuple[ZeroReport, ...] = ()
    cut_z: tuple[float, float] | None = None
    cut_z_of: tuple[str, str] | None = None
    below_rest: float | None = None
    seen: tuple[float, ...] = ()
    positions: tuple[PositionReport, ...] = ()
    offsets: tuple[OffsetRow, ...] = ()
    wrong_centre_mm: float | None = None
    machine_key: str | None = None
    slides: SlidesFact | None = None
    register_value: tuple[Reckoned, Reckoned, Reckoned] | None = None
    operations: tuple[OperationReport, ...] = ()
    program_key: str | None = None
    written_key: str | None = None
    written_as: str | None = None
    planned_key: str | None = None
    planned_s: float | None = None
    proof: Proof | None = None
    findings: tuple[Finding, ...] = ()

    def all_findings(self) -> tuple[Finding, ...]:
        """Those of its operations with them."""
        return (*self.findings, *(found for one in self.operations for found in one.findings))


class BilletReport(Frozen):
    """The raw material; margins mm by side.

    stated_error_mm: what its rays know of round walls of 1 mm radius; field_bytes: what they take in memory.
    """

    key: str | None = None
    low: Vector
    high: Vector
    volume_mm3: float
    mass_kg: float
    margins: dict[str, float]
    stated_error_mm: float
    field_bytes: int
    findings: tuple[Finding, ...] = ()


class DividedPiece(Frozen):
    """One piece after the billet came apart. margins: what stands on its sides over the part, mm; like: the
    first piece that came out alike, by its name.
    """

    name: str
    volume_mm3: float
    margins: dict[str, float]
    like: str


class SeveralReport(Frozen):
    """Several parts in one billet. names: of the pieces; poses: 4×4 of each from where the part lies; low,
    high: of the part, mm; after: the setup after which they come apart; saws: the planes they are sawn along;
    divided: what came of it.
    """

    names: tuple[str, ...]
    poses: tuple[Matrix, ...]
    low: Vector
    high: Vector
    after: str | None = None
    saws: tuple[Saw, ...] = ()
    divided: tuple[DividedPiece, ...] = ()
    findings: tuple[Finding, ...] = ()


def refused(base: SetupReport, bad: BadInput) -> SetupReport:
    """A setup that cannot be computed, and why."""
    why = of_bad_input(bad, base.name, None, bad.where.split(".")[0])
    return base.model_copy(update={"findings": (*base.findings, why)})


def last_cut(setup: SetupReport, operation: str) -> OperationReport:
    """What the last run of an operation (by its id) of a setup came to. Raises BadInput "stock.no_moment"."""
    runs = [one for one in setup.operations if one.id == operation]
    if not runs:
        raise BadInput(
            "stock.no_moment",
            "incoming",
            f"{setup.name} has no operation {operation!r} that is cut",
            "choose another moment",
        )
    return runs[-1]


class ComparisonReport(Frozen):
    """The last outgoing stock against the part; volumes mm³, distances mm.

    stated_error_mm: differences up to this can be the resolution's; undrawn_mm: how far edges thinner than
    the rays' distance stand out of their picture; as_came_mm3: what stands on faces that stay as they came.
    """

    key: str
    left_volume_mm3: float
    gouge_volume_mm3: float
    max_left_mm: float
    max_gouge_mm: float
    undrawn_mm: float = 0.0
    as_came_mm3: float = 0.0
    stated_error_mm: float
    findings: tuple[Finding, ...] = ()


class Maker(Frozen):
    """What a number on a stock's surface stands for; number 0 is the billet and has none."""

    number: int
    setup: str
    operation: str
    tool: str


class Report(Frozen):
    """Everything an evaluation found out. version: of all steps that found it.

    makers: who the numbers on the surfaces are; pieces: of several parts in the billet; loads: that the plan
    tells of. computed and reused: the steps
    that ran and those that did not need to. begun: the last setup, when it is seated and held and not cut
    yet.
    """

    version: str
    plan: str
    part_key: str
    part_volume_mm3: float
    part_mass_kg: float
    billet: BilletReport
    setups: tuple[SetupReport, ...]
    comparison: ComparisonReport | None = None
    part_findings: tuple[Finding, ...] = ()
    makers: tuple[Maker, ...] = ()
    pieces: SeveralReport | None = None
    loads: tuple[LoadReport, ...] = ()
    computed: tuple[str, ...] = ()
    reused: tuple[str, ...] = ()
    begun: str | None = None

    def told(self) -> dict[str, Any]:
        """The report as plain values, rounded for reading."""
        return dict(rounded(self.model_dump(mode="json")))

    def findings(self) -> list[Finding]:
        """All findings, in the order of the route."""
        out = [*self.part_findings, *self.billet.findings]
        for setup in self.setups:
            out += setup.all_findings()
        if self.comparison:
            out += self.comparison.findings
        if self.pieces:
            out += self.pieces.findings
        for load in self.loads:
            out += load.findings
        return out
