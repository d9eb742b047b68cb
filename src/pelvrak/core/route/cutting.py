"""What do the operations of a setup come to, one after the other?"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from typing import Any

from pelvrak.core.cutting.feeds import cutting_data, removal_rate
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.repeated import Shared
from pelvrak.core.cutting.tools import Tool, shape_of
from pelvrak.core.engine.engine import Result
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding, of_bad_input
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.program.post import Planned, Program
from pelvrak.core.route.naming import named, named_refusal, names_of, unregistered
from pelvrak.core.route.needed import turned_for
from pelvrak.core.route.pictures import volume_in, volume_later
from pelvrak.core.route.pieces import FACTS, PATH
from pelvrak.core.route.placing import Placed
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.programs import program_of
from pelvrak.core.route.registers import where
from pelvrak.core.route.report import (
    OperationReport,
    WrappedFact,
)
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.route.simulate import cut_given, cut_operation, path_given
from pelvrak.core.route.turning import Turning, shared
from pelvrak.core.route.visits import Visit
from pelvrak.core.route.zeros import maker_number


@dataclass
class Done:
    """What the operations of a setup came to."""

    reports: list[OperationReport]
    key: str
    volume: float
    program_key: str


def cut_operations(
    run: Run, index: int, placed: Placed, turning: Turning, key: str, stock_volume: float, about: str
) -> Done:
    """All operations of a setup, one after the other, and their program. about: what is clamped, for its head."""
    volumes: dict[int, Future[Result]] = {}

    def weighed(number: int, stock: str) -> None:
        volumes[number] = volume_later(run.engine, stock)

    reports, planned, key = cut_through(run, index, placed, turning, key, weighed)
    for number, report in enumerate(reports):
        left = volume_in(volumes[number].result()) if number in volumes else stock_volume
        volume = {"outgoing_volume_mm3": left, "removed_volume_mm3": stock_volume - left}
        reports[number], stock_volume = report.model_copy(update=volume), left
    program_key, program = program_of(run, turning, planned, about)
    return Done([_with_lines(report, program) for report in reports], key, stock_volume, program_key)


def cut_through(
    run: Run,
    index: int,
    placed: Placed,
    turning: Turning,
    key: str,
    on_cut: Callable[[int, str], None] = lambda number, key: None,
) -> tuple[list[OperationReport], list[Planned], str]:
    """All operations of a setup, one after the other: what each came to, what is to be written of it, and the stock at the end.

    on_cut: told the number of an operation in this order and the stock it leaves, as soon as it is there.
    """
    reports: list[OperationReport] = []
    planned: list[Planned] = []
    tools = {tool.id: tool for tool in run.plan.tools}
    previous_place, stood = None, None
    divided: dict[str, Shared] = {}
    for visit in turning.visits:
        if visit.operation.id not in divided:
            divided[visit.operation.id] = shared(turning, visit.operation, run.part)
        report, ready = _operation(run, index, turning, visit, divided[visit.operation.id], tools, key)
        if ready is not None:
            if ready.path.moves and ready.tool.place != previous_place:
                previous_place = ready.tool.place
                report = report.model_copy(update={"time_s": report.time_s + placed.machine.changer.seconds})
            if ready.path.moves:
                there = visit.position
                if stood is not None and stood != there:
                    report = report.model_copy(
                        update={"time_s": report.time_s + turning.time_between(stood, there)}
                    )
                stood = there
            planned.append(ready)
        reports.append(report)
        if report.key is not None:
            key = report.key
            on_cut(len(reports) - 1, key)
    if reports and stood is not None and "" in turning.turned:
        # The work is turned back at the end, for the next one to be loaded.
        back = turning.time_between(stood, "")
        reports[-1] = reports[-1].model_copy(update={"time_s": reports[-1].time_s + back})
    return reports, planned, key


def _operation(
    run: Run,
    index: int,
    turning: Turning,
    visit: Visit,
    divided: Shared,
    tools: dict[str, Tool],
    incoming_key: str,
) -> tuple[OperationReport, Planned | None]:
    setup, position, operation = turning.setup, visit.number, visit.operation
    tool = tools.get(operation.tool)
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
    name = f"{setup.name} {operation.name}" + (f" at {visit.position}" if visit.run != operation.id else "")
    try:
        if tool is None:
            raise BadInput(
                "cut.no_tool",
                operation.name,
                f"there is no tool {operation.tool!r} in the plan",
                "choose a tool",
            )
        station = turning.station(visit)
        there = where(turning, visit)
        own, nowhere = divided
        here = own[visit.position]
        stray = _stray(setup, operation, nowhere) if visit.position == next(iter(own)) else []
        if here is None:
            run.done += 1
            nothing = Finding(
                code="index.nothing_there",
                severity="warning",
                setup=setup.name,
                operation=operation.id,
                stage="cut",
                sentence=f"Nothing of {operation.name} looks to the spindle at {visit.position or 'the work as it is seated'}.",
                cures=(
                    Cure(
                        label="Leave that position out",
                        path=f"/setups/{index}/operations/{position}/left_out",
                        value=[*operation.left_out, visit.position],
                    ),
                ),
            )
            return base.model_copy(update={"findings": (*stray, nothing)}), None
        cut = unregistered(here)
        data = cutting_data(tool, run.material, station.machine, operation.speed_rpm, operation.feed_mm_min)
        incoming = Result(incoming_key, run.engine)
        given = path_given(run.engine, run.part_content, incoming, cut, tool, data, station)
        setup_zero = turning.zero_from_work
        result = cut_operation(
            run.engine,
            cut_given(run.engine, given, station, setup_zero, turning.hold, maker_number(index, position)),
            name,
        )
        run.done += 1
        key, facts, planned = result.key, result.value(FACTS), result.value(PATH)
        names = names_of(setup.name, operation, tool, station.hold)
    except BadInput as bad:
        run.done += 1
        told = named_refusal(bad, names_of(setup.name, operation, tool))
        finding = of_bad_input(told, setup.name, operation.id, "cut")
        if bad.code == "cut.not_square" and "" in turning.stations:
            cures = turned_for(turning, index, operation, run.part.part, turning.stations[""].zero_from_work)
            finding = finding.model_copy(update={"cures": cures})
        return base.model_copy(update={"findings": (finding,)}), None
    path, holes = planned.path, planned.holes
    report = base.model_copy(
        update={
            "key": key,
            "time_s": facts["time_s"],
            "moving_s": facts["time_s"],
            "most_removal_cm3_min": facts["most_removal_cm3_min"],
            "speed": data.speed_rpm,
            "feed": data.feed_mm_min,
            "removal": _removal(operation, tool, data.feed_mm_min.value),
            "low": tuple(facts["low"]) if facts["low"] else None,
            "high": tuple(facts["high"]) if facts["high"] else None,
            "moves": len(path.moves),
            "cut_z": tuple(facts["cut_z"]) if facts.get("cut_z") else None,
            "tool_shape": shape_of(tool, station.machine.spindle.nose),
            "offset_register": there.register,
            "wrapped": WrappedFact.model_validate(facts["wrapped"]) if "wrapped" in facts else None,
            "travel": tuple(tuple(end) for end in facts["travel"]) if facts.get("travel") else None,
            "zero_from_work": matrix(station.zero_from_work) if visit.position else None,
            "findings": (
                *stray,
                *(
                    Finding.model_validate({**named(f, names), "operation": operation.id})
                    for f in facts["findings"]
                ),
            ),
        }
    )
    return report, Planned(
        visit.run, cut, tool, path, holes, data.speed_rpm.value, data.feed_mm_min.value, there
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
            sentence=f"{len(nowhere)} of the faces of {operation.name} look to the spindle at none of its positions: give it one more, or pick other faces.",
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


def with_pointers(finding: Finding, index: int) -> Finding:
    """Cures that a setup's check wrote relative to the setup, as pointers into the plan."""
    cures = tuple(
        cure
        if cure.path.startswith("/")
        else cure.model_copy(update={"path": f"/setups/{index}/{cure.path}"})
        for cure in finding.cures
    )
    return finding.model_copy(update={"cures": cures})
