"""What do the operations of a setup come to, one after the other?"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pelvrak.core.cures import Add, Cure, Element
from pelvrak.core.cutting.feeds import removal_rate
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.repeated import Shared
from pelvrak.core.cutting.tools import Tool, shape_of
from pelvrak.core.engine.engine import Result
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef, Vector, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.program.compose import Planned, Where
from pelvrak.core.program.writing import Program
from pelvrak.core.route.cut_checks import cut_findings, worn_findings
from pelvrak.core.route.cut_facts import CUT_FACTS, CutFacts, Laid
from pelvrak.core.route.cut_told import Told
from pelvrak.core.route.load_places import CutSetup
from pelvrak.core.route.meant import MeantGiven
from pelvrak.core.route.naming import named, named_refusal, names_of, unregistered
from pelvrak.core.route.needed import turned_for
from pelvrak.core.route.pieces import FACTS, MOMENTS, PATH, PlannedPath
from pelvrak.core.route.placing import Placed
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.planning import PLAN_PATH, data_of, path_given
from pelvrak.core.route.programs import beyond, program_of
from pelvrak.core.route.registers import counted_from, where
from pelvrak.core.route.report import (
    OperationReport,
    ProbeFact,
    TouchFact,
    WrappedFact,
)
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.route.setting import setting_findings, setting_s
from pelvrak.core.route.simulate import OnStock, clamped, cut_operation
from pelvrak.core.route.turning import Turning, shared
from pelvrak.core.route.visits import Visit
from pelvrak.core.route.zeros import maker_number


@dataclass
class Done:
    """What the operations of a setup came to. text: of the program kept under program_key; findings: what is
    wrong with how it is written.
    """

    reports: list[OperationReport]
    key: str
    volume: float
    program_key: str | None
    text: str = ""
    findings: tuple[Finding, ...] = ()


def cut_operations(
    run: Run, index: int, placed: Placed, turning: Turning, key: str, stock_volume: float, about: str
) -> Done:
    """All operations of a setup, one after the other, and their program. about: what is clamped, for its
    head.
    """
    came = key
    reports, planned, key = cut_through(run, index, placed, turning, key)
    reports, stock_volume = with_volumes(reports, stock_volume)
    program_key, program = program_of(run, turning, planned, about)
    told = [_with_lines(report, program) for report in reports]
    if turning.setup.load and program_key is not None:
        run.cuts[turning.setup.name] = CutSetup(turning, tuple(planned), came, key, placed.low, placed.high)
    found = (*setting_findings(run, turning, planned, came), *beyond(run, turning, program))
    return Done(told, key, stock_volume, program_key, program.text, found)


def with_volumes(reports: list[OperationReport], volume: float) -> tuple[list[OperationReport], float]:
    """Operations with the volume that each leaves, and that of the last. volume: that comes in, mm³."""
    out = []
    for report in reports:
        volume -= report.removed_volume_mm3
        out.append(report.model_copy(update={"outgoing_volume_mm3": volume}))
    return out, volume


def cut_through(
    run: Run,
    index: int,
    placed: Placed,
    turning: Turning,
    key: str,
) -> tuple[list[OperationReport], list[Planned], str]:
    """All operations of a setup, one after the other: what each came to, what is to be written of it, and the
    stock at the end.
    """
    reports: list[OperationReport] = []
    planned: list[Planned] = []
    cutter = _Cutter(run, index, turning)
    previous_place, stood = None, None
    for visit in turning.visits:
        report, ready = cutter.cut(visit, key)
        if ready is not None:
            planned.append(ready)
        if ready is not None and ready.path.moves:
            between = 0.0
            if ready.tool.place != previous_place:
                between += placed.machine.changer.seconds
            if stood is not None and stood != visit.position:
                between += turning.time_between(stood, visit.position)
            previous_place, stood = ready.tool.place, visit.position
            report = report.model_copy(update={"time_s": report.time_s + between})
        reports.append(report)
        if report.key is not None:
            key = report.key
    if reports and turning.setup.set_tools:
        seconds = setting_s(turning, len({one.tool.place for one in planned if one.tool.kind != "probe"}))
        reports[0] = reports[0].model_copy(update={"time_s": reports[0].time_s + seconds})
    if reports and stood is not None and "" in turning.turned:
        # The work is turned back at the end, for the next one to be loaded.
        back = turning.time_between(stood, "")
        reports[-1] = reports[-1].model_copy(update={"time_s": reports[-1].time_s + back})
    return reports, planned, key


class _Cutter:
    """Cuts the operations of a setup, each on the stock that the one before left."""

    def __init__(self, run: Run, index: int, turning: Turning) -> None:
        self.run, self.index, self.turning, self.setup = run, index, turning, turning.setup
        self.tools = {tool.id: tool for tool in run.plan.tools}
        self.divided: dict[str, Shared] = {}

    def cut(self, visit: Visit, key: str) -> tuple[OperationReport, Planned | None]:
        """What an operation comes to at one of its positions, and what is to be written of it; None where it
        cannot be cut.

        key: of the stock that comes in.
        """
        operation, tool = visit.operation, self.tools.get(visit.operation.tool)
        base = OperationReport(
            id=operation.id,
            run=visit.run,
            number=visit.number,
            position=visit.position or None,
            name=operation.name,
            kind=operation.kind,
            tool=operation.tool,
            tool_name=tool.name if tool else operation.tool,
        )
        try:
            if tool is None:
                raise BadInput(
                    "cut.no_tool",
                    operation.name,
                    f"there is no tool {operation.tool!r} in the plan",
                    "choose a tool",
                )
            there = where(self.turning, visit)
            here, stray = self._here(visit)
            if here is None:
                return base.model_copy(update={"findings": (*stray, self._nothing_there(visit))}), None
            report, planned = self._cut(base, visit, here, tool, there, key)
            return report.model_copy(update={"findings": (*stray, *report.findings)}), planned
        except BadInput as bad:
            return base.model_copy(update={"findings": (self._refused(visit, tool, bad),)}), None
        finally:
            self.run.done += 1

    def _here(self, visit: Visit) -> tuple[Operation | None, list[Finding]]:
        """What of an operation is cut at a position, and, at its first, the faces that are cut at none.

        Raises BadInput for a position that cannot be reached.
        """
        self.turning.station(visit)
        operation = visit.operation
        if operation.id not in self.divided:
            self.divided[operation.id] = shared(self.turning, operation, self.run.part)
        each, nowhere = self.divided[operation.id]
        first = visit.position == next(iter(each))
        return each[visit.position], _stray(self.setup, operation, nowhere) if first else []

    def _nothing_there(self, visit: Visit) -> Finding:
        operation = visit.operation
        return Finding(
            code="index.nothing_there",
            severity="warning",
            setup=self.setup.name,
            operation=operation.id,
            stage="cut",
            sentence=(
                f"Nothing of {operation.name} looks to the spindle at"
                f" {visit.position or 'the work as it is seated'}."
            ),
            cures=(
                Cure(
                    label="Leave that position out",
                    edits=(
                        Add(
                            of=Element(setup=self.setup.name, operation=operation.id),
                            to="left_out",
                            value=visit.position,
                        ),
                    ),
                ),
            ),
        )

    def _refused(self, visit: Visit, tool: Tool | None, bad: BadInput) -> Finding:
        """Why an operation cannot be cut, and where it could be."""
        operation, seated = visit.operation, self.turning.stations.get("")
        told = named_refusal(bad, names_of(self.setup.name, operation, tool))
        finding = of_bad_input(told, self.setup.name, operation.id, "cut")
        if bad.code != "cut.not_square" or seated is None:
            return finding
        cures = turned_for(self.turning, operation, self.run.part.part, seated.zero_from_work)
        return finding.model_copy(update={"cures": cures})

    def _wears(self, operation: Operation) -> int:
        """D of the tool whose wear an operation corrects, 0 where it corrects none. Raises BadInput."""
        wanted = operation.tool_corrected()
        if wanted is None:
            return 0
        tool = self.tools.get(wanted)
        if tool is None:
            raise BadInput(
                "cut.no_tool", operation.name, f"there is no tool {wanted!r} in the plan", "choose a tool"
            )
        return tool.place

    def _set_from(self, visit: Visit, there: Where) -> Vector:
        """What is added to coordinates to count as the register does that an operation sets. Raises BadInput
        for one that it counts from, or that holds no zero of the work as it stands.
        """
        operation = visit.operation
        self._as_register_stands(visit, there)
        register = operation.register_set() or operation.register_turned()
        if register is None:
            return 0.0, 0.0, 0.0
        if there.tilted is not None:
            raise BadInput(
                "probe.tilted_plane",
                operation.name,
                "in a plane that the control has turned nothing lies along a slide, and no register is set",
                "run the positions by registers or from the rotary centre",
            )
        if register == there.register:
            raise BadInput(
                "probe.own_register",
                operation.name,
                f"it would set {register}, in which it is driven itself",
                "drive it in a register that is known already",
            )
        other = operation.model_copy(update={"offset_register": register})
        return counted_from(self.turning, replace(visit, operation=other))[1]

    def _as_register_stands(self, visit: Visit, there: Where) -> None:
        """A probe is driven along the slides. Raises BadInput for one in a register that was found turned."""
        if not visit.operation.touches_stock:
            return
        before = self.turning.visits[: self.turning.visits.index(visit)]
        found = next((o for o in before if o.operation.register_turned() == there.register), None)
        if found is not None:
            raise BadInput(
                "probe.in_turned",
                visit.operation.name,
                f"{there.register} was found turned by {found.operation.name}, and a probe is driven along"
                " the slides",
                "touch it before that, or drive it in another register",
            )

    def _cut(
        self, base: OperationReport, visit: Visit, here: Operation, tool: Tool, there: Where, key: str
    ) -> tuple[OperationReport, Planned]:
        """Plan and cut it. here: what of the operation is cut at the position. Raises BadInput when it cannot
        be planned.
        """
        run, turning, operation = self.run, self.turning, visit.operation
        station, bare = turning.station(visit), unregistered(here)
        set_from = self._set_from(visit, there)
        data = data_of(run.plan, station.machine, operation, tool)
        called = f"{self.setup.name} {operation.name}"
        called += f" at {visit.position}" if visit.run != operation.id else ""
        given = path_given(run.engine, run.part_content, Result(key, run.engine), bare, tool, data, station)
        planned = run.engine.run(PLAN_PATH, given, f"{called}: path")
        held = clamped(run.engine, station, turning.zero_from_work, turning.hold)
        maker = maker_number(self.index, visit.number)
        on = OnStock(given.stock, given.surface, given.tool, given.operation.turns_work)
        result = cut_operation(run.engine, on, planned.content(PATH), held, maker, called)
        facts, made = result.value(CUT_FACTS), planned.value(PATH)
        names, used = names_of(self.setup.name, operation, tool), run.in_cut.get(tool.id, 0.0)
        told = [
            Finding.model_validate({**named(one, names), "operation": operation.id})
            for one in planned.value(FACTS)["findings"]
        ]
        if visit.run == operation.id:
            told += run.ends.get((self.setup.name, operation.id), ())
        if made.path.moves:
            told += cut_findings(Told(self.setup.name, operation), tool, station, facts)
            told += worn_findings(Told(self.setup.name, operation), tool, used, facts, run.plan.taken_places)
        report = base.model_copy(
            update={
                "key": result.key,
                **as_cut(facts),
                "speed": data.speed_rpm,
                "feed": data.feed_mm_min,
                "removal": _removal(operation, tool, data.feed_mm_min.value),
                "moves": len(made.path.moves),
                "tool_shape": shape_of(tool, station.machine.spindle.nose),
                "offset_register": there.register,
                "zero_from_work": matrix(station.zero_from_work) if visit.position else None,
                "findings": tuple(told),
                "probe": None if made.measured is None else _probe_fact(made, station.zero_from_work),
            }
        )
        speed, feed = data.speed_rpm.value, data.feed_mm_min.value
        if operation.means_to_cut_in() and made.path.moves:
            run.meant.append(MeantGiven(result.content(MOMENTS), maker))
        run.in_cut[tool.id] = used + facts.in_cut_s
        twin = tool.after(used)
        ready = Planned(visit.run, here, twin, made.path, made.holes, speed, feed, there)
        return report, replace(ready, measured=made.measured, set_from=set_from, wears=self._wears(operation))


def _probe_fact(made: PlannedPath, zero_from_work: Floats) -> ProbeFact:
    """What a probe touches, as it is told."""
    assert made.measured is not None
    work_from_zero, told = inverse(zero_from_work), []
    for touch in made.measured.touches:
        way = np.zeros(3)
        way["XYZ".index(touch.axis)] = touch.way
        # The path is of the ball's lowest point.
        at = np.array(made.path.moves[touch.move].end)
        if touch.axis != "Z":
            at = at + made.measured.radius * (way + [0.0, 0.0, 1.0])
        there = as_vector(np.round(moved(work_from_zero, at), 6))
        told.append(TouchFact(at=there, way=as_vector(np.round(turned(work_from_zero, way), 9))))
    return ProbeFact(
        sets=made.measured.sets, axes=made.measured.axes, touches=tuple(told), depth=made.measured.depth
    )


def as_cut(facts: CutFacts) -> dict[str, Any]:
    """What the report of an operation shows of how it was cut."""
    reach = None if facts.least is None or facts.most is None else (facts.least, facts.most)
    return {
        "time_s": facts.time_s,
        "moving_s": facts.time_s,
        "in_cut_s": facts.in_cut_s,
        "most_removal_cm3_min": facts.most_removal_cm3_min,
        "removed_volume_mm3": facts.removed_mm3,
        "low": facts.low,
        "high": facts.high,
        "cut_z": facts.cut_z,
        "wrapped": None if facts.laid is None else wrapped_fact(facts.laid),
        "travel": reach,
    }


def wrapped_fact(lie: Laid) -> WrappedFact:
    """How a flat path is laid out on its cylinder, as it is told."""
    diameter = 2 * lie.radius
    return WrappedFact(
        axis=lie.axis,
        turns=(round(lie.turns[0], 4), round(lie.turns[1], 4)),
        flat_length=Reckoned(
            value=round(math.pi * diameter, 4),
            unit="mm",
            formula="once round = π·d",
            with_values=f"π·{diameter:g}",
            source="circumference of a circle",
        ),
        centre_below=Reckoned(
            value=round(lie.below, 4),
            unit="mm",
            formula="centre below zero = d / 2 where zero is on top",
            with_values=f"d / 2 = {lie.radius:g}",
            source="common practice, no source",
        ),
    )


def _stray(setup: Setup, operation: Operation, nowhere: tuple[FaceRef, ...]) -> list[Finding]:
    """Faces of an operation that look to the spindle at none of its positions."""
    if not nowhere:
        return []
    return [
        Finding(
            code="index.face_nowhere",
            severity="error",
            setup=setup.name,
            operation=operation.id,
            stage="cut",
            sentence=(
                f"{len(nowhere)} of the faces of {operation.name} look to the spindle at none of its"
                " positions: give it one more, or pick other faces."
            ),
            measured=float(len(nowhere)),
            limit=0.0,
            unit="faces",
            place=tuple(ref.at for ref in nowhere),
        )
    ]


def _removal(operation: Operation, tool: Tool, feed: float) -> Reckoned | None:
    engaged = operation.engagement(tool.DC)
    if engaged is None:
        return None
    ap, ae = engaged
    return Reckoned(
        value=round(removal_rate(ap, ae, feed), 2),
        unit="cm³/min",
        formula="Q = ap·ae·vf / 1000",
        with_values=f"{ap:g}·{ae:g}·{feed:.0f} / 1000",
        source="ISO 3002-3 material removal rate, at full step",
    )


def _with_lines(report: OperationReport, program: Program) -> OperationReport:
    lines = program.lines.get(report.run)
    if not lines:
        return report
    return report.model_copy(update={"first_line": min(lines), "last_line": max(lines)})


def depths(reports: list[OperationReport], placed: Placed) -> dict[str, Any]:
    """How deep and how high the setup cuts, from zero and from what the work rests on."""
    cutting = [report for report in reports if report.cut_z is not None and report.position is None]
    if not cutting:
        return {}
    deep = min(cutting, key=lambda r: r.cut_z[0] if r.cut_z else 0.0)
    high = max(cutting, key=lambda r: r.cut_z[1] if r.cut_z else 0.0)
    assert deep.cut_z and high.cut_z
    rest = placed.hold.rest if placed.hold.rest is not None else float(placed.low[2])
    return {
        "cut_z": (deep.cut_z[0], high.cut_z[1]),
        "cut_z_of": (deep.name, high.name),
        "below_rest": round(max(0.0, rest - deep.cut_z[0]), 4),
    }
