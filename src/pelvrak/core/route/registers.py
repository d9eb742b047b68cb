"""Which register does each zero and index position of a setup get, what stands in it, and how does the
program count from it?
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field, replace
from typing import Any

import manifold3d
import numpy as np
from scipy.spatial.transform import Rotation

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.machine.index import centre_register
from pelvrak.core.machine.travel import corner, register_value
from pelvrak.core.program.compose import Where
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.turning import Turning, alike
from pelvrak.core.route.visits import Visit

SAME_PLACE_MM = 1e-3


@dataclass
class Kept:
    """What a register of a load holds: for which setup, X, Y and Z (mm; None without a layout), and after
    which visit of which setup it is known.
    """

    setup: str
    value: Vector | None
    known: tuple[int, int]


@dataclass(frozen=True)
class Standing:
    """The work of one setup as it stands on the table: its solid and box there."""

    setup: str
    solid: manifold3d.Manifold
    low: Floats
    high: Floats


@dataclass
class Load:
    """The registers and works of what stands on the machine together, as far as its setups have been
    computed.
    """

    kept: dict[str, Kept] = field(default_factory=dict)
    standing: list[Standing] = field(default_factory=list)


def load_name(setup: Setup) -> str:
    """What stands on the machine with a setup: its load, or the setup alone."""
    return setup.load or setup.name


def _claimed(plan: Plan, setup: Setup) -> set[str]:
    """Registers that other setups of the same load are told to use."""
    beside = [
        other for other in plan.setups if other.name != setup.name and load_name(other) == load_name(setup)
    ]
    return {
        register
        for other in beside
        for register in (
            other.offset_register,
            *(one.offset_register for one in other.seat.zeros),
            *(p.offset_register for p in other.positions),
        )
        if register is not None
    }


def give_registers(out: Turning, plan: Plan, load: Load) -> None:
    """Each position its register: as typed, or the next free one that is not reserved and that nothing else
    of the load keeps.
    """
    setup = out.setup
    claimed = _claimed(plan, setup) | set(load.kept)
    taken = {
        setup.offset_register: "its own zero",
        **{z.offset_register: f"“{z.name}”" for z in setup.seat.zeros},
    }
    if setup.rotary_run == "register_each":
        _one_each(out, taken, claimed)
    else:
        out.registers = dict.fromkeys(out.turned, setup.offset_register)
    out.findings += _not_to_be_had(out, taken, claimed)
    out.findings += _tilting(out)


def _one_each(out: Turning, taken: dict[str, str], claimed: set[str]) -> None:
    """A register for each position. taken: who keeps what in each of the setup's own; claimed: by others of
    the load.
    """
    setup, control = out.setup, out.machine.control
    out.registers[""] = setup.offset_register
    fixed = {p.name: p.offset_register for p in setup.positions if p.offset_register is not None}
    for name, register in fixed.items():
        if register in taken:
            said = (
                f"{setup.name} keeps {name} and {taken[register]} in {register}: one would write over the"
                " other."
            )
            out.findings.append(wrong(setup, "offsets.clash", said))
        taken.setdefault(register, name)
        out.registers[name] = register
    for name in (name for name in out.turned if name and name not in fixed):
        same = next((n for n in out.registers if n in out.turned and _one_place(out, n, name)), None)
        free = control.free_register({*taken, *claimed})
        if same is not None:
            out.registers[name] = out.registers[same]
        elif free is None:
            every, kept = len(control.all_registers()), len(control.reserved)
            said = f"{out.machine.name} has no register left for {name}: it has {every}, {kept} reserved."
            out.findings.append(_wrong(setup, "offsets.none_left", said))
        else:
            taken[free] = name
            out.registers[name] = free


def _not_to_be_had(out: Turning, taken: dict[str, str], claimed: set[str]) -> list[Finding]:
    """Registers that are reserved on the machine, or that its control has not."""
    setup, machine = out.setup, out.machine
    found = []
    for register, who in taken.items():
        if register in machine.control.reserved:
            free = machine.control.free_register({*taken, *claimed})
            said = f"{register}, which {setup.name} keeps {who} in, is reserved on {machine.name}."
            cures = _register_cure(out, register, free)
            found.append(wrong(setup, "offsets.reserved", said, *cures, stage="seat"))
        if register not in machine.control.all_registers():
            said = (
                f"The control of {machine.name} has no register {register}, which {setup.name} keeps"
                f" {who} in."
            )
            found.append(_wrong(setup, "offsets.no_register", said))
    return found


def _tilting(out: Turning) -> list[Finding]:
    """Whether the control can run the positions as the setup says."""
    setup, machine, found = out.setup, out.machine, []
    if setup.rotary_run == "tilted_plane" and not machine.control.tilted_plane and machine.rotary:
        said = (
            f"The control of {machine.name} has no tilted plane: run {setup.name} by registers or from the"
            " rotary centre."
        )
        found.append(_wrong(setup, "offsets.no_tilted_plane", said))
    tilts = {a.name for a in machine.rotary} & {a.name for a in machine.chain(machine.spindle.rides)}
    if tilts and setup.rotary_run != "tilted_plane" and len(out.turned) > 1:
        said = f"{machine.name} tilts its tool: only the control's tilted plane knows how long it is."
        found.append(_wrong(setup, "offsets.tool_tilts", said))
    return found


def _register_cure(turning: Turning, register: str, free: str | None) -> tuple[Cure, ...]:
    """Another register where one was typed."""
    setup = turning.setup
    typed = [
        *([Element(setup=setup.name)] if setup.offset_register == register else []),
        *(
            Element(setup=setup.name, zero=zero.name)
            for zero in setup.seat.zeros
            if zero.offset_register == register
        ),
        *(
            Element(setup=setup.name, position=one.name)
            for one in setup.positions
            if one.offset_register == register
        ),
    ]
    return (put(f"Use {free}", typed[0], "offset_register", free),) if free and len(typed) == 1 else ()


def _one_place(turning: Turning, one: str, two: str) -> bool:
    a, b = turning.turned[one], turning.turned[two]
    return alike(a, b) and bool(np.allclose(a.local_from_zero, b.local_from_zero, atol=1e-9))


def wrong(setup: Setup, code: str, sentence: str, *cures: Cure, stage: str = "reach") -> Finding:
    """An error in the registers of a setup."""
    return Finding(code=code, severity="error", setup=setup.name, stage=stage, sentence=sentence, cures=cures)


def _wrong(setup: Setup, code: str, sentence: str) -> Finding:
    return wrong(setup, code, sentence, stage="seat")


def values_of(turning: Turning, name: str, at: Floats | None = None) -> tuple[Reckoned, ...] | None:
    """X, Y and Z for the register of a position. at: of another zero, from the setup's own, mm."""
    if turning.zero_on_table is None or name not in turning.turned:
        return None
    machine, register = turning.machine, turning.registers.get(name, "")
    there = turning.turned[name]
    zero = as_vector(np.add(turning.zero_on_table, there.origin if at is None else at))
    angles = there.angles
    start, source = corner(machine), "layout of table, vise, parallels and seat"
    if turning.setup.rotary_run == "centre" and machine.rotary and at is None:
        values = centre_register(machine, turning.zero_on_table)
        return tuple(
            Reckoned(
                value=round(v, 3),
                unit="mm",
                formula=f"{axis} of {register}: the rotary centre",
                with_values=f"{v:.3f}",
                source="the machine's rotary axes",
            )
            for axis, v in zip("XYZ", values, strict=True)
        )
    if turning.setup.rotary_run == "tilted_plane" and at is None:
        angles, zero = {}, turning.zero_on_table
    values = register_value(machine, zero, angles)
    stood = register_value(machine, zero, {})
    told = " ".join(f"{k}{v:g}" for k, v in angles.items())
    if np.allclose(values, stood):
        return tuple(
            Reckoned(
                value=round(v, 3),
                unit="mm",
                formula=f"{axis} of {register} = table corner + zero from the corner",
                with_values=f"{s:.3f} + {v - s:.3f}",
                source=source,
            )
            for axis, v, s in zip("XYZ", values, start, strict=True)
        )
    return tuple(
        Reckoned(
            value=round(v, 3),
            unit="mm",
            formula=f"{axis} of {register} = zero turned about the rotary centre, {told}",
            with_values=f"{s:.3f} at home → {v:.3f}",
            source=source + " and the rotary axes",
        )
        for axis, v, s in zip("XYZ", values, stood, strict=True)
    )


def held_by(turning: Turning, register: str) -> tuple[Reckoned, ...] | None:
    """X, Y and Z for a register of a setup, whichever of its zeros or positions it holds."""
    setup = turning.setup
    name = next(
        (name for name, held in turning.registers.items() if held == register and name in turning.turned),
        None,
    )
    if name is not None:
        return values_of(turning, name)
    at = next(
        (
            at
            for one, at in zip(setup.seat.zeros, turning.zeros, strict=True)
            if one.offset_register == register
        ),
        None,
    )
    return values_of(turning, "", np.zeros(3) if at is None else at)


def counted_from(turning: Turning, visit: Visit) -> tuple[str, Vector]:
    """The register an operation counts from, and what is added to its coordinates for that, mm.

    Raises BadInput for one that holds no zero the operation could count from as the work then stands.
    """
    setup, operation = turning.setup, visit.operation
    own = turning.registers.get(visit.position, setup.offset_register)
    wanted, at = operation.offset_register, turning.turned.get(visit.position)
    if wanted is None or wanted == own or at is None:
        return own, (0.0, 0.0, 0.0)
    places: list[Floats] = []
    home = turning.turned.get("")
    if home is not None and alike(home, at):
        if wanted == setup.offset_register:
            places.append(np.zeros(3))
        places += [
            zero
            for one, zero in zip(setup.seat.zeros, turning.zeros, strict=True)
            if one.offset_register == wanted
        ]
    places += [
        np.array(turning.turned[name].origin)
        for name, register in turning.registers.items()
        if register == wanted and name in turning.turned and alike(turning.turned[name], at)
    ]
    if not places:
        stands = f"at {visit.position}" if visit.position else "as the work is seated"
        raise BadInput(
            "offsets.wrong_register",
            operation.name,
            f"{wanted} holds no zero that {operation.name} could count from {stands}",
            f"count from {own}, or keep a zero of the work as it then stands in {wanted}",
        )
    return wanted, as_vector(np.round(-moved(at.local_from_zero, places[0]), 9) + 0.0)


def where(turning: Turning, visit: Visit) -> Where:
    """How the program comes to an operation's position. Raises BadInput as `counted_from` does."""
    machine, setup = turning.machine, turning.setup
    at = turning.turned.get(visit.position)
    register, shift = counted_from(turning, visit)
    tilted = (
        at is not None
        and setup.rotary_run == "tilted_plane"
        and Rotation.from_matrix(at.local_from_zero[:3, :3]).magnitude() > 1e-9
    )
    if tilted and visit.operation.turns_work:
        raise BadInput(
            "wrap.tilted_plane",
            visit.operation.name,
            "a plane that the control has turned does not turn on with the work",
            "run the positions by registers or from the rotary centre",
        )
    own = register == turning.registers.get(visit.position, setup.offset_register)
    if at is None or not machine.rotary:
        return Where(register=register, shift=shift)
    rotary = tuple((a.name, at.angles[a.name], a.clamp, a.unclamp) for a in machine.rotary)
    place = Where(
        register=register, rotary=rotary, shift=shift, message=at.message if at.change == "stop" else None
    )
    if turning.zero_on_table is None or not own:
        return place
    if setup.rotary_run == "centre":
        mine = register_value(machine, as_vector(np.add(turning.zero_on_table, at.origin)), at.angles)
        return replace(
            place,
            shift=as_vector(np.round(np.subtract(mine, centre_register(machine, turning.zero_on_table)), 6)),
        )
    if setup.rotary_run == "tilted_plane":
        turn = Rotation.from_matrix(at.local_from_zero[:3, :3].T)
        if turn.magnitude() < 1e-9 and not any(at.origin):
            return place
        return replace(place, tilted=_euler(turn), plane_at=at.origin)
    return place


def _euler(turn: Rotation) -> tuple[float, float, float]:
    """Turns about Z, the new X and the new Z, degrees: how a tilted plane is told."""
    with warnings.catch_warnings():
        warnings.simplefilter(
            "ignore"
        )  # straight up the first and third are one; scipy then takes the third as 0
        values: Any = turn.as_euler("ZXZ", degrees=True)
    a, b, c = (float(round(v, 6)) + 0.0 for v in values)
    # The same plane is (a ± 180, -b, c ∓ 180) too: a plain turn about X is told as one.
    other = ((a + 360) % 360 - 180, -b + 0.0, (c + 360) % 360 - 180)
    return min((a, b, c), other, key=lambda one: abs(one[0]) + abs(one[2]))
