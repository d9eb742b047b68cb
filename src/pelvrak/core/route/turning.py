"""A setup whose work is turned: its index positions, what stands round them, their registers, and how the program goes there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.operations import Operation
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding, of_bad_input
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    box,
    box_corners,
    crease_lines,
    joined,
    mesh_of,
    to_glb,
    transformed,
    with_label,
)
from pelvrak.core.geometry.part import Part, PartModel, Vector, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import inverse, moved, rigid, square_to
from pelvrak.core.geometry.seen import reached
from pelvrak.core.holding import fixture as kinds
from pelvrak.core.holding.facts import HoldFacts, PieceFact
from pelvrak.core.machine.index import IndexPosition, Turned, centre_register, index_time, turned_to, upright
from pelvrak.core.machine.kinematics import home_angles, moved_by, pose
from pelvrak.core.machine.machine import Machine, Solid
from pelvrak.core.machine.travel import corner, register_value
from pelvrak.core.program.post import Where
from pelvrak.core.route.holding import holding_field, holding_mesh
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import PositionReport
from pelvrak.core.route.run import VERSION, Run, matrix
from pelvrak.core.route.simulate import Station
from pelvrak.core.route.store import key_of

TOLD_SOLUTIONS = 4


@dataclass
class Turning:
    """The index positions of a setup. stations: by position, "" for the work as it is seated; registers: the same; findings of all that is wrong with them."""

    setup: Setup
    machine: Machine
    hold: HoldFacts
    turned: dict[str, Turned] = field(default_factory=dict)
    stations: dict[str, Station] = field(default_factory=dict)
    registers: dict[str, str] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)

    @property
    def zero_on_table(self) -> Vector | None:
        return self.hold.zero_on_table

    def station(self, operation: Operation) -> Station:
        """Where an operation is run. Raises BadInput for a position that cannot be."""
        found = self.stations.get(operation.position or "")
        if found is None:
            where = operation.position or "the work as it is seated"
            raise BadInput("index.nowhere", operation.name, f"{where} cannot be reached on {self.machine.name}",
                           "mend the index position, or cut it at another")  # fmt: skip
        return found

    def time_between(self, before: str, after: str) -> float:
        """Time to turn from one position to another, s."""
        a, b = self.turned.get(before), self.turned.get(after)
        return 0.0 if a is None or b is None else index_time(self.machine, a.angles, b.angles)


def turning_of(
    run: Run, setup: Setup, machine: Machine, zero_from_work: Floats, hold: HoldFacts,
    nest: dict[str, tuple[BaseGeometry, float]],
) -> Turning:  # fmt: skip
    """All positions of a setup, in the order its operations come to them."""
    out = Turning(setup, machine, hold)
    part = run.part.part
    used = [operation.position or "" for operation in setup.operations]
    try:
        out.turned[""] = upright(machine)
    except BadInput as bad:
        if "" in used or not setup.operations:
            out.findings.append(of_bad_input(bad, setup.name, None, "reach"))
    now = out.turned[""].angles if "" in out.turned else home_angles(machine)
    order = sorted(setup.positions, key=lambda p: used.index(p.name) if p.name in used else len(used))
    for position in order:
        try:
            at = turned_to(position, part, zero_from_work, machine, now)
        except BadInput as bad:
            out.findings.append(of_bad_input(bad, setup.name, None, "reach"))
            continue
        out.turned[position.name], now = at, at.angles
    for name, at in out.turned.items():
        out.stations[name] = _station(run, setup, machine, zero_from_work, hold, nest, at)
    _give_registers(out)
    return out


def _station(
    run: Run, setup: Setup, machine: Machine, zero_from_work: Floats, hold: HoldFacts,
    nest: dict[str, tuple[BaseGeometry, float]], at: Turned,
) -> Station:  # fmt: skip
    here = hold
    local = at.local_from_zero
    solids: Callable[[], Mesh | None]
    if machine.rotary and hold.key is not None and hold.zero_on_table is not None:
        # The table itself and what turns it are known solids; the flat that stood for them goes.
        kept = [i for i, piece in enumerate(hold.pieces) if piece.item != "table"]
        bodies = _bodies(machine, at, hold.zero_on_table)
        here = hold.model_copy(update={"pieces": (
            *(_boxed(hold.pieces[i], local) for i in kept),
            *(PieceFact(name=name, item="machine", role="body", low=as_vector(m.vertices.min(axis=0)), high=as_vector(m.vertices.max(axis=0)))
              for name, m in bodies),
        )})  # fmt: skip

        def turned_solids() -> Mesh | None:
            whole = holding_mesh(run, hold)
            if whole is None:
                return None
            lying = transformed(whole, local)
            found = [_compact(with_label(lying, i), k) for k, i in enumerate(kept)]
            return joined([*found, *(_compact(m, len(kept) + k) for k, (_, m) in enumerate(bodies))])

        solids = cache(turned_solids)
    else:
        solids = cache(lambda: holding_mesh(run, hold))
    return Station(
        setup.name, run.part, machine, np.asarray(local @ zero_from_work), here, hold.zero_on_table, at,
        cache(lambda: holding_field(solids())), solids, lambda: nest,
    )  # fmt: skip


def _compact(mesh: Mesh, label: int) -> Mesh:
    """Only the corners its triangles have, under one label."""
    used, corners = np.unique(mesh.triangles, return_inverse=True)
    return Mesh(
        mesh.vertices[used], corners.reshape(-1, 3).astype(np.int64), np.full(len(mesh.triangles), label, np.int64)
    )


def _boxed(piece: PieceFact, local: Floats) -> PieceFact:
    ends = moved(local, box_corners(piece.low, piece.high))
    return piece.model_copy(update={"low": as_vector(ends.min(axis=0)), "high": as_vector(ends.max(axis=0))})


def solid_mesh(one: Solid) -> Mesh:
    """A simple solid of a machine, base frame with every axis at 0."""
    if one.low is not None and one.high is not None:
        return box(np.array(one.low), np.array(one.high))
    assert one.at is not None and one.axis is not None and one.diameter is not None and one.length is not None
    body = mesh_of(kinds.rod(one.diameter, -one.length / 2, one.length / 2))
    return transformed(body, rigid(square_to(np.array(one.axis)).T, np.array(one.at)))


def table_side(machine: Machine) -> list[str]:
    """The axes that stand still against the table but for what turns it: up to the first that slides, and that one."""
    out = []
    for axis in machine.chain(machine.table.rides):
        out.append(axis.name)
        if not axis.rotary:
            return [str(name) for name in out]
    return [*map(str, out), "base"]


def _bodies(machine: Machine, at: Turned, zero_on_table: Vector) -> list[tuple[str, Mesh]]:
    """Solids of the machine that stand by the work whatever X, Y and Z do; local plane of a position."""
    base_from_table = pose(machine, at.angles).base_from_table
    local_from_base = at.local_from_zero @ rigid(np.eye(3), -np.array(zero_on_table)) @ inverse(base_from_table)
    near = table_side(machine)
    return [
        (one.name, transformed(solid_mesh(one), local_from_base @ moved_by(machine, one.rides, at.angles)))
        for one in machine.solids if one.rides in near and (one.rides != "base" or near[-1] == "base")
    ]  # fmt: skip


def _give_registers(out: Turning) -> None:
    """Each position its register: as typed, or the next free one that is not reserved."""
    setup, control = out.setup, out.machine.control
    taken = {setup.offset_register: "its own zero", **{z.offset_register: f"“{z.name}”" for z in setup.seat.zeros}}
    if setup.rotary_run != "register_each":
        out.registers = dict.fromkeys(out.turned, setup.offset_register)
    else:
        out.registers[""] = setup.offset_register
        fixed = {p.name: p.offset_register for p in setup.positions if p.offset_register is not None}
        for name, register in fixed.items():
            if register in taken:
                out.findings.append(_wrong(setup, "offsets.clash", f"{setup.name} keeps {name} and {taken[register]} in {register}: one would write over the other."))  # fmt: skip
            taken.setdefault(register, name)
            out.registers[name] = register
        for name in (name for name in out.turned if name and name not in fixed):
            same = next((n for n in out.registers if n in out.turned and _alike(out.turned[n], out.turned[name])), None)
            free = next((r for r in control.all_registers() if r not in taken and r not in control.reserved), None)
            if same is not None:
                out.registers[name] = out.registers[same]
            elif free is None:
                out.findings.append(_wrong(setup, "offsets.none_left", f"{out.machine.name} has no register left for {name}: it has {len(control.all_registers())}, {len(control.reserved)} reserved."))  # fmt: skip
            else:
                taken[free] = name
                out.registers[name] = free
    for register, who in taken.items():
        if register not in control.all_registers():
            out.findings.append(_wrong(setup, "offsets.no_register", f"The control of {out.machine.name} has no register {register}, which {setup.name} keeps {who} in."))  # fmt: skip
    tool_tilts = {a.name for a in out.machine.rotary} & {a.name for a in out.machine.chain(out.machine.spindle.rides)}
    if setup.rotary_run == "tilted_plane" and not control.tilted_plane and out.machine.rotary:
        out.findings.append(_wrong(setup, "offsets.no_tilted_plane", f"The control of {out.machine.name} has no tilted plane: run {setup.name} by registers or from the rotary centre."))  # fmt: skip
    if tool_tilts and setup.rotary_run != "tilted_plane" and len(out.turned) > 1:
        out.findings.append(_wrong(setup, "offsets.tool_tilts", f"{out.machine.name} tilts its tool: only the control's tilted plane knows how long it is."))  # fmt: skip


def _alike(one: Turned, two: Turned) -> bool:
    return all(abs(one.angles[k] - two.angles[k]) < 1e-9 for k in one.angles)


def _wrong(setup: Setup, code: str, sentence: str) -> Finding:
    return Finding(code=code, severity="error", setup=setup.name, stage="seat", sentence=sentence)


def turned_for(
    turning: Turning, index: int, operation: Operation, part: Part, zero_from_work: Floats
) -> tuple[Cure, ...]:
    """For an operation whose faces do not look to the spindle: the position where they do, there already or made for it."""
    faces = [*getattr(operation, "faces", ()), *([ref] if (ref := getattr(operation, "face", None)) else [])]
    if not faces or not turning.machine.rotary:
        return ()
    names = [position.name for position in turning.setup.positions]
    fresh = next(f"P{n}" for n in range(1, 99) if f"P{n}" not in names)
    made = IndexPosition(name=fresh, face=faces[0])
    try:
        at = turned_to(made, part, zero_from_work, turning.machine, home_angles(turning.machine))
    except BadInput:
        return ()
    there = next((name for name, one in turning.turned.items() if name and _alike(one, at)), None)
    setup = turning.setup.model_copy(update={
        "positions": turning.setup.positions if there else (*turning.setup.positions, made),
        "operations": tuple(o.model_copy(update={"position": there or fresh}) if o.id == operation.id else o for o in turning.setup.operations),
    })  # fmt: skip
    angles = " ".join(f"{name}{value:g}" for name, value in at.angles.items())
    return (
        Cure(
            label=f"Cut it at {there or f'a new position {fresh}'}, {angles}",
            path=f"/setups/{index}",
            value=setup.model_dump(mode="json"),
        ),
    )


# ---- what the report and the program need


def values_of(turning: Turning, name: str, at: Floats | None = None) -> tuple[Reckoned, ...] | None:
    """X, Y and Z for the register of a position. at: of another zero, from the setup's own, mm."""
    if turning.zero_on_table is None or name not in turning.turned:
        return None
    machine, register = turning.machine, turning.registers.get(name, "")
    zero = as_vector(np.add(turning.zero_on_table, np.zeros(3) if at is None else at))
    angles = turning.turned[name].angles
    start, source = corner(machine), "layout of table, vise, parallels and seat"
    if turning.setup.rotary_run == "centre" and machine.rotary:
        values = centre_register(machine, zero)
        return tuple(
            Reckoned(value=round(v, 3), unit="mm", formula=f"{axis} of {register}: the rotary centre", with_values=f"{v:.3f}", source="the machine's rotary axes")
            for axis, v in zip("XYZ", values, strict=True)
        )  # fmt: skip
    if turning.setup.rotary_run == "tilted_plane":
        angles = {}
    values = register_value(machine, zero, angles)
    stood = register_value(machine, zero, {})
    told = " ".join(f"{k}{v:g}" for k, v in angles.items())
    if np.allclose(values, stood):
        return tuple(
            Reckoned(value=round(v, 3), unit="mm", formula=f"{axis} of {register} = table corner + zero from the corner",
                     with_values=f"{s:.3f} + {v - s:.3f}", source=source)
            for axis, v, s in zip("XYZ", values, start, strict=True)
        )  # fmt: skip
    return tuple(
        Reckoned(value=round(v, 3), unit="mm", formula=f"{axis} of {register} = zero turned about the rotary centre, {told}",
                 with_values=f"{s:.3f} at home → {v:.3f}", source=source + " and the rotary axes")
        for axis, v, s in zip("XYZ", values, stood, strict=True)
    )  # fmt: skip


def machine_picture(run: Run, turning: Turning, name: str) -> str | None:
    """Key of a picture (surface.glb) of the machine's solids that stand by the work at a position; zero frame, None without a layout."""
    at, zero = turning.turned.get(name), turning.zero_on_table
    if at is None or zero is None or not turning.machine.rotary:
        return None
    key = key_of("machine", VERSION, turning.machine, at.angles, zero)
    if run.store.get(key, "surface.glb") is None:
        back = inverse(at.local_from_zero)
        mesh = joined(
            [transformed(_compact(m, k), back) for k, (_, m) in enumerate(_bodies(turning.machine, at, zero))]
        )
        run.store.put(key, {"surface.glb": to_glb(mesh, crease_lines(mesh)), "facts.json": b"{}"})
    return key


def position_reports(run: Run, turning: Turning, part: PartModel) -> tuple[PositionReport, ...]:
    """The positions as they are told. The share of each face that is seen is reckoned for all directions at once."""
    out = []
    names = [name for name in turning.turned if name]
    ways = [as_vector(turning.stations[name].zero_from_work[2, :3]) for name in names]
    shares = reached(part, ways)[0] if ways else np.zeros((0, 0))
    for k, name in enumerate(names):
        at = turning.turned[name]
        solutions = () if at.solved is None else at.solved.solutions[:TOLD_SOLUTIONS]
        out.append(PositionReport(
            name=name, direction=at.direction, angles={k_: round(v, 6) for k_, v in at.angles.items()},
            local_from_zero=matrix(at.local_from_zero), offset_register=turning.registers.get(name, ""),
            register_value=values_of(turning, name), seen=tuple(np.round(shares[:, k], 3).tolist()),
            solutions=solutions, why=solutions[0].why if solutions else "as typed", change=at.change,
            machine_key=machine_picture(run, turning, name),
            turning_s=round(index_time(turning.machine, home_angles(turning.machine), at.angles), 3),
        ))  # fmt: skip
    return tuple(out)


def where(turning: Turning, operation: Operation) -> Where:
    """How the program comes to an operation's position."""
    name, machine, setup = operation.position or "", turning.machine, turning.setup
    at = turning.turned.get(name)
    register = turning.registers.get(name, setup.offset_register)
    if at is None or not machine.rotary:
        return Where(register=register)
    rotary = tuple((a.name, at.angles[a.name], a.clamp, a.unclamp) for a in machine.rotary)
    place = Where(register=register, rotary=rotary, message=at.message if at.change == "stop" else None)
    if turning.zero_on_table is None:
        return place
    if setup.rotary_run == "centre":
        mine, centre = (register_value(machine, turning.zero_on_table, at.angles), centre_register(machine, turning.zero_on_table))  # fmt: skip
        return replace(place, shift=as_vector(np.round(np.subtract(mine, centre), 6)))
    if setup.rotary_run == "tilted_plane":
        turn = Rotation.from_matrix(at.local_from_zero[:3, :3].T)
        if turn.magnitude() < 1e-9:
            return place
        first, second, third = _euler(turn)
        return replace(place, tilted=(first, second, third))
    return place


def _euler(turn: Rotation) -> tuple[float, float, float]:
    """Turns about Z, the new X and the new Z, degrees: how a tilted plane is told."""
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # straight up the first and third are one; scipy then takes the third as 0
        values: Any = turn.as_euler("ZXZ", degrees=True)
    a, b, c = (float(round(v, 6)) + 0.0 for v in values)
    return a, b, c
