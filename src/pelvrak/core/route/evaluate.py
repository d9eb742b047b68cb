"""What becomes of a plan? The graph of pure steps, each kept by what it was computed from."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from typing import Any

import numpy as np

from pelvrak.core.billet.forms import Files, Raw, raw_of
from pelvrak.core.cutting.feeds import cutting_data, material_of, removal_rate
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.repeated import Shared
from pelvrak.core.cutting.tools import Tool, shape_of
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding, of_bad_input
from pelvrak.core.geometry.callout import check_callout
from pelvrak.core.geometry.mesh import Floats, box_corners, transformed
from pelvrak.core.geometry.part import FaceRef, PartModel, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import rigid, rotation_about_z
from pelvrak.core.geometry.seen import reached
from pelvrak.core.holding.assemble import CutJaws
from pelvrak.core.holding.clamping import FRICTION
from pelvrak.core.holding.facts import HoldFacts, in_frame
from pelvrak.core.holding.hold import fixtures_of
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.machine.travel import check_table
from pelvrak.core.program.post import Planned, Program
from pelvrak.core.route.ahead import ahead
from pelvrak.core.route.billets import billet_report
from pelvrak.core.route.comparing import compared
from pelvrak.core.route.graph import route_version
from pelvrak.core.route.holding import held_for_cutting, held_in, safety_of
from pelvrak.core.route.jaws import (
    BLANKS,
    BlanksGiven,
    Solved,
    blanks_mesh,
    cut_jaws,
    cutting_zero,
    jaw_files,
    maker_of,
    not_cut,
    rooms,
    smaller_blank,
    solved_for,
    spacer,
    zero_from_nest,
)
from pelvrak.core.route.loads import safety_findings
from pelvrak.core.route.naming import named, named_refusal, names_of, unregistered
from pelvrak.core.route.needed import positions_needed, turned_for
from pelvrak.core.route.offsets import known_in_time, offsets_of, wrong_centre
from pelvrak.core.route.pictures import volume_in, volume_later, volume_of
from pelvrak.core.route.pieces import FACTS, PART, PATH
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.programs import program_of
from pelvrak.core.route.registers import Load, give_registers, load_name, values_of, where
from pelvrak.core.route.report import (
    ComparisonReport,
    Maker,
    NestReport,
    OperationReport,
    Report,
    SetupReport,
    WrappedFact,
    ZeroReport,
)
from pelvrak.core.route.run import Progress, Run, in_work_frame, matrix, mesh_in, part_result
from pelvrak.core.route.simulate import cut_given, cut_operation, path_given
from pelvrak.core.route.swinging import swings
from pelvrak.core.route.together import works_apart
from pelvrak.core.route.told import machine_picture, position_reports, slides_picture
from pelvrak.core.route.turning import Turning, shared, turning_of
from pelvrak.core.route.visits import Visit, order_findings, visits
from pelvrak.core.route.zeros import maker_number, zeros_checked
from pelvrak.core.seat.seating import Boxes, lay, seat_work, zero_place

Partly = Callable[[Report], None]


def _raw(plan: Plan, model: PartModel, engine: Engine, files: Files) -> Raw | BadInput:
    """The billet, or why there is none."""
    try:
        return raw_of(plan.billet, model, files, lambda data, name: mesh_in(data, name, engine))
    except BadInput as bad:
        return bad


def _no_files(sha256: str | None, name: str) -> bytes:
    raise BadInput("billet.no_file", "billet", f"{name} is not here", "upload it, or put it beside the plan")


def evaluate(
    plan: Plan,
    part_bytes: bytes,
    sha256: str,
    store: Store,
    progress: Progress | None = None,
    files: Files | None = None,
    partly: Partly | None = None,
    keys: dict[str, str] | None = None,
) -> Report:
    """Compute the whole route; every step that is already in the store is taken from it.

    files gives the bytes of other files the plan names. partly is given the report as far as it has come: after the billet,
    when a setup's seat, holding and reach are known, and when it is cut. keys: filled with the key of every result that was used, and its
    step. Raises BadInput when the part cannot be read or
    the material is unknown, and Stopped when
    progress returns False. Anything wrong further on is a finding of the place it stands in.
    """
    found = files or _no_files
    engine = Engine(store, files=found, keys={} if keys is None else keys)
    try:
        read = part_result(part_bytes, plan.part.file, sha256, engine)
        model = read.value(PART)
        run = Run(
            plan, engine, progress or (lambda share, what: True), model, read, material_of(plan.billet.material),
            _raw(plan, model, engine, found), found, steps=3 + sum(3 + len(visits(s)) for s in plan.setups),
        )  # fmt: skip
        return _Walk(run).whole(partly or (lambda report: None))
    finally:
        engine.close()


class _Walk:
    """The way along a route, setup after setup, and what has been told of it so far."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self.density = run.material.density_g_cm3 * 1e-6
        self.billet = billet_report(run, self.density)
        self.part_findings = tuple(_callouts(run))
        self.setups: list[SetupReport] = []

    def told(self, begun: SetupReport | None = None, comparison: ComparisonReport | None = None) -> Report:
        """The report as far as it has come. begun: a setup that is known and not cut yet."""
        run, volume = self.run, self.run.part.part.volume_mm3
        whole = (*self.setups, begun) if begun is not None else tuple(self.setups)
        return Report(
            version=route_version(), plan=run.plan.name, part_key=run.read.key, part_volume_mm3=volume, part_mass_kg=volume * self.density,
            billet=self.billet, setups=whole, comparison=comparison, makers=_makers(whole), part_findings=self.part_findings,
            computed=tuple(run.engine.computed), reused=tuple(run.engine.reused), begun=None if begun is None else begun.name,
        )  # fmt: skip

    def whole(self, partly: Partly) -> Report:
        """All setups and the comparison; partly hears of each as it comes."""
        run = self.run
        run.begun = lambda begun: partly(self.told(begun))
        partly(self.told())
        key, stock_volume = self.billet.key, self.billet.volume_mm3
        for index, setup in enumerate(run.plan.setups):
            if setup.makes is not None:
                # The part passes by while its jaws are cut.
                self.setups.append(_jaw_setup(run, index, setup, key, self.density))
            else:
                self.setups.append(self._of_the_part(index, setup, key, stock_volume))
                key, stock_volume = self.setups[-1].outgoing_key, self.setups[-1].outgoing_volume_mm3
            partly(self.told())
        comparison = compared(run, key) if key is not None and self.setups else None
        run.tell("done", 1.0)
        return self.told(comparison=comparison)

    def _of_the_part(self, index: int, setup: Setup, key: str | None, stock_volume: float) -> SetupReport:
        run = self.run
        plans = zip(self.setups, run.plan.setups, strict=False)
        jaws = [one for one, of in plans if of.makes and of.makes.setup == setup.name]
        computed = _setup(run, index, setup, key, stock_volume, self.density, jaws[-1] if jaws else None)
        if computed.zero_from_work is None:
            return computed
        before = [one for one in self.setups if one.makes is None]
        machine = machine_of(setup.machine, run.plan.machines)
        return zeros_checked(run.surface, run.part, index, setup, computed, before, self.billet.key, machine)


def _makers(setups: tuple[SetupReport, ...]) -> tuple[Maker, ...]:
    """Who the numbers on the surfaces are."""
    return tuple(
        Maker(number=number, setup=setup.name, operation=operation.name, tool=operation.tool_name)
        for i, setup in enumerate(setups)
        for number, operation in {maker_number(i, one.number): one for one in setup.operations}.items()
    )


def _callouts(run: Run) -> list[Finding]:
    """Tolerances on faces that are lost, or that mean nothing there."""
    out = []
    for callout in run.plan.part.callouts:
        try:
            check_callout(run.part.part, callout)
        except BadInput as bad:
            out.append(of_bad_input(bad, None, None, "part"))
    return out


@dataclass
class Placed:
    """A setup with its frames and holding known. zeros: places of its further zeros in the zero frame."""

    zero_from_work: Floats
    zeros: list[Floats]
    machine: Machine
    hold: HoldFacts
    findings: list[Finding]
    low: Floats
    high: Floats
    boxes: Callable[[Floats], Boxes]
    nest: NestReport | None = None
    solved: Solved | None = None


def _place(
    run: Run, index: int, setup: Setup, incoming_key: str, density: float, made: SetupReport | None
) -> Placed:
    """Frames and holding of a setup. made: the setup that cut its jaws."""
    part = run.part.part
    machine = machine_of(setup.machine, run.plan.machines)
    rotation = lay(setup.seat, part)
    assert isinstance(run.raw, Raw)  # without a billet there is no stock to lay
    incoming = run.surface(incoming_key)
    solved = solved_for(run, setup, incoming_key, rotation)
    cut: dict[str, CutJaws] = {}
    if solved is not None:
        rotation = rotation_about_z(solved.nest.turn_deg) @ rotation
        cut[solved.item.id] = cut_jaws(run, solved, made)
    corners = box_corners(run.raw.low, run.raw.high)

    def boxed(turn: Floats) -> Boxes:
        out: Boxes = {}
        for name, points in (
            ("billet", corners),
            ("part", run.part.mesh.vertices),
            ("incoming", incoming.vertices),
        ):
            seen = points @ turn.T
            out[name] = (as_vector(seen.min(axis=0)), as_vector(seen.max(axis=0)))
        return out

    boxes = boxed(rotation)
    lying = rigid(rotation, np.zeros(3))
    held = held_in(run, setup, incoming_key, lying, density, cut)
    if held.facts.jaw is not None:
        boxes["jaw"] = held.facts.jaw
    zero_from_work = seat_work(setup.seat.zero, part, boxes, rotation)
    others = [zero_place(one.zero, part, boxes, rotation) + zero_from_work[:3, 3] for one in setup.seat.zeros]
    facts = in_frame(held.facts, zero_from_work[:3, 3])
    found = [in_work_frame(f, lying) for f in held.findings]
    nest = None
    if solved is not None:
        number = next(i for i, item in enumerate(setup.hold.items) if item.id == solved.item.id)
        found += solved.findings(f"hold/items/{number}")
        facts = facts.model_copy(
            update={"proposals": (*facts.proposals, *smaller_blank(solved, f"hold/items/{number}"))}
        )
        maker = maker_of(run.plan, index, solved.item)
        if maker is None:
            found.append(not_cut(run.plan, index, solved))
        zero = None if facts.zero_on_table is None else zero_from_nest(solved, np.array(facts.zero_on_table))
        nest = solved.report(None if maker is None else run.plan.setups[maker].name, zero)
        nest = nest.model_copy(update={"files_key": jaw_files(run, solved)})
    if facts.zero_on_table is not None:
        standing = [
            (p.name, _on_table(setup, p.item), p.low, p.high) for p in facts.pieces if p.name != "table"
        ]
        places = {
            item.id: (f"hold/items/{i}", (item.x, item.y, item.z)) for i, item in enumerate(setup.hold.items) if item.on == "table"
        }  # fmt: skip
        found += check_table(machine, facts.zero_on_table, standing, setup.name, places)
    seen = incoming.vertices @ rotation.T + zero_from_work[:3, 3]
    return Placed(
        zero_from_work, others, machine, facts, found, seen.min(axis=0), seen.max(axis=0), boxed, nest, solved
    )  # fmt: skip


def _on_table(setup: Setup, item: str) -> str:
    """The item on the table that an item stands on in the end."""
    below = {one.id: one.on for one in setup.hold.items}
    while below.get(item, "table") != "table":
        item = below[item]
    return item


def _setup(
    run: Run, index: int, setup: Setup, incoming_key: str | None, incoming_volume: float, density: float,
    made: SetupReport | None,
) -> SetupReport:  # fmt: skip
    base = SetupReport(
        name=setup.name, title=setup.title, machine=setup.machine, offset_register=setup.offset_register, incoming_key=incoming_key,
        outgoing_key=incoming_key, incoming_volume_mm3=incoming_volume, outgoing_volume_mm3=incoming_volume,
        incoming_mass_kg=incoming_volume * density, outgoing_mass_kg=incoming_volume * density,
    )  # fmt: skip
    if incoming_key is None or incoming_volume <= 0:
        nothing = Finding(
            code="stock.none",
            severity="error",
            setup=setup.name,
            stage="incoming",
            sentence="No stock comes into this setup.",
        )
        return base.model_copy(update={"findings": (nothing,)})
    try:
        placed = _place(run, index, setup, incoming_key, density, made)
    except BadInput as bad:
        run.done += len(setup.operations) + 3
        return base.model_copy(
            update={"findings": (of_bad_input(bad, setup.name, None, bad.where.split(".")[0]),)}
        )
    run.done += 1
    turning = turning_of(
        run, setup, placed.machine, placed.zero_from_work, placed.hold, {}, placed.zeros, placed.boxes
    )
    load = run.loads.setdefault(load_name(setup), Load())
    give_registers(turning, run.plan, load)
    beside_it = []
    if setup.load:
        incoming = run.surface(incoming_key)
        beside_it = works_apart(load, setup.name, incoming, placed.zero_from_work, placed.hold.zero_on_table)
    tools = {tool.id: tool for tool in run.plan.tools}
    shop = fixtures_of(run.plan.fixtures)
    foretold, beside, proposals = ahead(run, turning, tools, incoming_key, shop)
    seated: dict[str, Any] = {
        "zero_from_work": matrix(placed.zero_from_work),
        "low": as_vector(placed.low),
        "high": as_vector(placed.high),
        "nest": placed.nest,
        "register_value": values_of(turning, ""),
        "positions": position_reports(run, turning, run.part),
        "machine_key": machine_picture(run, placed.machine, turning.turned.get(""), turning.zero_on_table),
        "slides": slides_picture(run, placed.machine, turning.turned.get(""), turning.zero_on_table),
        "offsets": offsets_of(turning, shop),
        "wrong_centre_mm": round(wrong_centre(turning), 5) if setup.positions else None,
        "zeros": tuple(
            ZeroReport(
                name=one.name,
                offset_register=one.offset_register,
                at=as_vector(np.round(at, 6) + 0.0),
                register_value=values_of(turning, "", at),
            )
            for one, at in zip(setup.seat.zeros, placed.zeros, strict=True)
        ),
        "seen": tuple(
            np.round(reached(run.part, [as_vector(placed.zero_from_work[2, :3])])[0][:, 0], 3).tolist()
        ),
    }
    early = [_with_pointers(f, index) for f in (*placed.findings, *turning.findings, *foretold)]
    placed.hold = placed.hold.model_copy(
        update={"beside": beside, "proposals": (*placed.hold.proposals, *proposals)}
    )
    run.begun(base.model_copy(update={**seated, "hold": placed.hold, "findings": tuple(early)}))
    size = placed.high - placed.low
    about = f"{size[0]:.1f} x {size[1]:.1f} x {size[2]:.1f} mm, {incoming_volume * density:.3f} kg"
    done = _operations(run, index, placed, turning, incoming_key, incoming_volume, about)
    reports, key, stock_volume = done.reports, done.key, done.volume
    planes = {name: one.at.local_from_zero for name, one in turning.stations.items()}
    stands = safety_of(run, setup, placed.hold, (placed.low, placed.high), reports, tools, planes)
    placed.hold = placed.hold.model_copy(update={
        "safety": stands, "friction": FRICTION if stands else None,
    })  # fmt: skip
    change_s = placed.machine.changer.seconds
    told = (
        *placed.findings, *turning.findings, *known_in_time(turning, index, load), *swings(run, turning, incoming_key, tools, reports),
        *order_findings(setup, index, turning.time_between, change_s), *_lying(run, turning, index, reports),
    )  # fmt: skip
    told = (*told, *_program_number(setup, placed.machine), *_places(setup, placed.machine, tools))
    findings = [_with_pointers(finding, index) for finding in told]
    findings += [in_work_frame(f, placed.zero_from_work) for f in safety_findings(stands, setup.name)]
    findings += [_with_pointers(f, index) for f in foretold]
    findings += beside_it
    if not setup.operations:
        findings.append(
            Finding(code="cut.no_operations", severity="note", setup=setup.name, stage="cut",
                    sentence="Nothing is cut in this setup yet.")
        )  # fmt: skip
    return base.model_copy(
        update={
            "outgoing_key": key,
            "outgoing_volume_mm3": stock_volume,
            "removed_volume_mm3": incoming_volume - stock_volume,
            "outgoing_mass_kg": stock_volume * density,
            "time_s": sum(r.time_s for r in reports),
            **seated,
            "hold": placed.hold,
            **_depths(reports, placed),
            "operations": tuple(reports),
            "program_key": done.program_key,
            "findings": tuple(findings),
        }
    )


def _program_number(setup: Setup, machine: Machine) -> list[Finding]:
    digits = machine.control.program_digits
    if setup.program_number is None or setup.program_number < 10**digits:
        return []
    return [
        Finding(
            code="program.number", severity="error", setup=setup.name, stage="cut",
            sentence=f"The control of {machine.name} takes program numbers of {digits} digits; {setup.name} is O{setup.program_number}.",
            measured=float(setup.program_number), limit=float(10**digits - 1),
            cures=(Cure(label="Number it by its name", path="program_number", value=None),),
        )
    ]  # fmt: skip


def _places(setup: Setup, machine: Machine, tools: dict[str, Tool]) -> list[Finding]:
    """Tools of the setup whose place the machine's changer does not have."""
    most = machine.changer.places
    used = dict.fromkeys(operation.tool for operation in setup.operations)
    order = list(tools)
    taken = {tool.place for tool in tools.values()}
    free = next((place for place in range(1, most + 1) if place not in taken), None)
    return [
        Finding(
            code="cut.no_place", severity="error", setup=setup.name, stage="cut",
            sentence=f"{tools[name].name} is in place {tools[name].place}; the changer of {machine.name} has {most}.",
            measured=float(tools[name].place), limit=float(most),
            cures=() if free is None else (Cure(label=f"Put it in place {free}", path=f"/tools/{order.index(name)}/place", value=free),),
        )
        for name in used if name in tools and tools[name].place > most
    ]  # fmt: skip


def _lying(run: Run, turning: Turning, index: int, reports: list[OperationReport]) -> list[Finding]:
    """Positions for all operations at once whose faces do not look to the spindle."""
    seated = turning.stations.get("")
    wrong = {report.id for report in reports if any(f.code == "cut.not_square" for f in report.findings)}
    lying = [operation for operation in turning.setup.operations if operation.id in wrong]
    return (
        []
        if seated is None
        else positions_needed(turning, index, lying, run.part.part, seated.zero_from_work)
    )


@dataclass
class Done:
    """What the operations of a setup came to."""

    reports: list[OperationReport]
    key: str
    volume: float
    program_key: str


def _operations(
    run: Run, index: int, placed: Placed, turning: Turning, key: str, stock_volume: float, about: str
) -> Done:
    """All operations of a setup, one after the other, and their program. about: what is clamped, for its head."""
    reports: list[OperationReport] = []
    planned: list[Planned] = []
    tools = {tool.id: tool for tool in run.plan.tools}
    previous_place, stood = None, None
    divided: dict[str, Shared] = {}
    volumes: dict[int, Future[Result]] = {}
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
            volumes[len(reports) - 1] = volume_later(run.engine, key)
    if reports and stood is not None and "" in turning.turned:
        # The work is turned back at the end, for the next one to be loaded.
        back = turning.time_between(stood, "")
        reports[-1] = reports[-1].model_copy(update={"time_s": reports[-1].time_s + back})
    for number, report in enumerate(reports):
        left = volume_in(volumes[number].result()) if number in volumes else stock_volume
        volume = {"outgoing_volume_mm3": left, "removed_volume_mm3": stock_volume - left}
        reports[number], stock_volume = report.model_copy(update=volume), left
    program_key, program = program_of(run, turning, planned, about)
    return Done([_with_lines(report, program) for report in reports], key, stock_volume, program_key)


def _jaw_setup(run: Run, index: int, setup: Setup, part_stock: str | None, density: float) -> SetupReport:
    """A setup that cuts the jaws of a later one: blanks come in, cut jaws go out, zero is the one they share."""
    assert setup.makes is not None
    base = SetupReport(
        name=setup.name, title=setup.title, machine=setup.machine, offset_register=setup.offset_register, makes=setup.makes.setup,
        incoming_volume_mm3=0.0, outgoing_volume_mm3=0.0,
    )  # fmt: skip
    run.done += 1
    later = next(
        (i for i, one in enumerate(run.plan.setups) if i > index and one.name == setup.makes.setup), None
    )
    try:
        if later is None or any(one.makes is None for one in run.plan.setups[index + 1 : later]):
            raise BadInput("jaws.no_target", "hold", f"{setup.name} cuts jaws for {setup.makes.setup}, which does not follow it",
                           "put it right before that setup")  # fmt: skip
        target = run.plan.setups[later]
        if part_stock is None:
            raise BadInput(
                "stock.none", "incoming", f"no stock comes into {target.name}", "mend the setups before"
            )
        placed = _place(run, later, target, part_stock, density, None)
        if (
            placed.solved is None
            or placed.nest is None
            or placed.nest.item != setup.makes.item
            or placed.hold.zero_on_table is None
        ):
            raise BadInput("jaws.no_target", "hold", f"{target.name} does not grip in jaws called {setup.makes.item}",
                           f"let {target.name} grip in soft jaws, or take this setup out")  # fmt: skip
        return _jaws_cut(run, index, setup, base, placed, density)
    except BadInput as bad:
        run.done += len(setup.operations) + 2
        return base.model_copy(
            update={"findings": (of_bad_input(bad, setup.name, None, bad.where.split(".")[0]),)}
        )


def _jaws_cut(
    run: Run, index: int, setup: Setup, base: SetupReport, target: Placed, density: float
) -> SetupReport:
    solved = target.solved
    assert solved is not None
    assert target.hold.zero_on_table is not None
    to_zero = cutting_zero(solved, np.array(target.hold.zero_on_table))
    blanks = blanks_mesh(solved)
    low, high = blanks.vertices.min(axis=0), blanks.vertices.max(axis=0)
    cell = run.plan.resolution_mm
    made = run.step(
        BLANKS, BlanksGiven(blanks, as_vector(low), as_vector(high), cell), f"{setup.name} blanks"
    )
    key, amount = made.key, volume_of(run.engine, made.key)
    block = spacer(solved)
    hold = (
        HoldFacts()
        if solved.on_end
        else held_for_cutting(
            run, setup, target.hold, solved, None if block is None else transformed(block, to_zero)
        )
    )
    here = blanks.vertices @ to_zero[:3, :3].T + to_zero[:3, 3]
    placed = Placed(
        to_zero,
        [],
        machine_of(setup.machine, run.plan.machines),
        hold,
        [],
        here.min(axis=0),
        here.max(axis=0),
        lambda _: {},
    )
    turning = turning_of(run, setup, placed.machine, to_zero, hold, rooms(solved, to_zero), [], placed.boxes)
    give_registers(turning, run.plan, Load())
    vise = solved.vise
    force = 0.0 if vise is None else (vise[0].force_kn or vise[1].force_kn)
    about = f"{solved.called(solved.blank)}" + (
        f", on a spacer {solved.nest.gap:.2f} mm, clamped with {force:g} kN" if vise else ""
    )
    done = _operations(run, index, placed, turning, key, amount, about)
    findings = said_of_jaws(setup, solved.on_end, solved.nest.half[1])
    return base.model_copy(
        update={
            "incoming_key": key, "outgoing_key": done.key, "incoming_volume_mm3": amount, "outgoing_volume_mm3": done.volume,
            "removed_volume_mm3": amount - done.volume, "incoming_mass_kg": amount * density, "outgoing_mass_kg": done.volume * density,
            "time_s": sum(r.time_s for r in done.reports), "zero_from_work": matrix(to_zero), "low": as_vector(placed.low),
            "high": as_vector(placed.high), "hold": hold, "nest": solved.report(setup.name, to_zero),
            "register_value": values_of(turning, ""), "offsets": offsets_of(turning, fixtures_of(run.plan.fixtures)),
            **_depths(done.reports, placed), "operations": tuple(done.reports), "program_key": done.program_key,
            "findings": tuple(findings),
        }
    )  # fmt: skip


def said_of_jaws(setup: Setup, on_end: bool, high: float) -> list[Finding]:
    """What is said of a setup that cuts jaws. on_end: whether its block is cut standing on its end, and how high it is then, mm."""
    found = []
    if not setup.operations:
        found.append(Finding(code="jaws.no_operations", severity="error", setup=setup.name, stage="cut", sentence="Nothing cuts the jaws yet."))  # fmt: skip
    if on_end:
        found.append(Finding(code="jaws.on_end", severity="note", setup=setup.name, stage="hold", sentence=f"The block is cut standing on its end, {high:g} mm high; zero is its top. Its clamping is not planned here."))  # fmt: skip
    return found


def _depths(reports: list[OperationReport], placed: Placed) -> dict[str, Any]:
    """How deep and how high the setup cuts, from zero and from what the work rests on."""
    cutting = [report for report in reports if report.cut_z is not None and report.position is None]
    if not cutting:
        return {}
    deep = min(cutting, key=lambda r: r.cut_z[0] if r.cut_z else 0.0)
    high = max(cutting, key=lambda r: r.cut_z[1] if r.cut_z else 0.0)
    assert deep.cut_z and high.cut_z
    rest = placed.hold.rest if placed.hold.rest is not None else float(placed.low[2])
    return {
        "cut_z": (deep.cut_z[0], high.cut_z[1]), "cut_z_of": (deep.name, high.name),
        "below_rest": round(max(0.0, rest - deep.cut_z[0]), 4),
    }  # fmt: skip


def _with_pointers(finding: Finding, index: int) -> Finding:
    """Cures that a setup's check wrote relative to the setup, as pointers into the plan."""
    cures = tuple(
        cure
        if cure.path.startswith("/")
        else cure.model_copy(update={"path": f"/setups/{index}/{cure.path}"})
        for cure in finding.cures
    )
    return finding.model_copy(update={"cures": cures})


def _operation(
    run: Run, index: int, turning: Turning, visit: Visit, divided: Shared, tools: dict[str, Tool], incoming_key: str
) -> tuple[OperationReport, Planned | None]:  # fmt: skip
    setup, position, operation = turning.setup, visit.number, visit.operation
    tool = tools.get(operation.tool)
    base = OperationReport(
        id=operation.id, run=visit.run, number=visit.number, position=visit.position or None, name=operation.name, kind=operation.kind, tool=operation.tool,
        tool_name=tool.name if tool else operation.tool,
    )  # fmt: skip
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
                code="index.nothing_there", severity="warning", setup=setup.name, operation=operation.id, stage="cut",
                sentence=f"Nothing of {operation.name} looks to the spindle at {visit.position or 'the work as it is seated'}.",
                cures=(Cure(label="Leave that position out", path=f"/setups/{index}/operations/{position}/left_out", value=[*operation.left_out, visit.position]),),
            )  # fmt: skip
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
            code="index.face_nowhere", severity="error", setup=setup.name, operation=operation.id, stage="cut",
            sentence=f"{len(nowhere)} of the faces of {operation.name} look to the spindle at none of its positions: give it one more, or pick other faces.",
            measured=float(len(nowhere)), limit=0.0, unit="faces", place=tuple(ref.at for ref in nowhere),
        )
    ]  # fmt: skip


def _removal(operation: Operation, tool: Tool, feed: float) -> Reckoned | None:
    engaged = operation.engagement(tool.DC)
    if engaged is None:
        return None
    ap, ae = engaged
    return Reckoned(
        value=round(removal_rate(ap, ae, feed), 2), unit="cm³/min", formula="Q = ap·ae·vf / 1000",
        with_values=f"{ap:g}·{ae:g}·{feed:.0f} / 1000", source="ISO 3002-3 material removal rate, at full step",
    )  # fmt: skip


def _with_lines(report: OperationReport, program: Program) -> OperationReport:
    lines = program.lines.get(report.run)
    if not lines:
        return report
    return report.model_copy(update={"first_line": min(lines), "last_line": max(lines)})
