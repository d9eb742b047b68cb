"""How are the index positions of a setup told, and the machine that stands by them drawn?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.engine.step import Pieces, Reads, Step
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import Mesh, crease_lines, joined, transformed
from pelvrak.core.geometry.part import PartModel, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse
from pelvrak.core.geometry.visibility import visible
from pelvrak.core.machine.index import Turned, index_time
from pelvrak.core.machine.kinematics import home_angles
from pelvrak.core.machine.machine import Machine
from pelvrak.core.machine.slides import nose_slide, slides
from pelvrak.core.route.naming import nameless_position
from pelvrak.core.route.pieces import PICTURE
from pelvrak.core.route.registers import values_of
from pelvrak.core.route.report import PositionReport, SlidesFact
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.route.station import bodies, compact
from pelvrak.core.route.turning import Turning

TOLD_SOLUTIONS = 4


@dataclass(frozen=True)
class MachineGiven:
    """A machine's solids that stand by the work, or move against it, at a position. zero: the setup's, on the
    table.
    """

    machine: Machine
    at: Turned
    zero: Vector


def _by_the_work(given: MachineGiven, reads: Reads) -> Pieces:
    back = inverse(given.at.local_from_zero)
    return _drawn([transformed(mesh, back) for _, mesh in bodies(given.machine, given.at, given.zero)])


def _moving(given: MachineGiven, reads: Reads) -> Pieces:
    return _drawn(
        [one.mesh for one in (*slides(given.machine, given.zero, given.at), nose_slide(given.machine))]
    )


def _drawn(solids: list[Mesh]) -> Pieces:
    """Solids drawn, labelled by number."""
    mesh = joined([compact(one, number) for number, one in enumerate(solids)])
    return {PICTURE: to_glb(mesh, crease_lines(mesh))}


MACHINE_PICTURE = Step("machine picture", 1, MachineGiven, _by_the_work)
SLIDES_PICTURE = Step("slides picture", 1, MachineGiven, _moving)


def machine_picture(run: Run, machine: Machine, at: Turned | None, zero: Vector | None) -> str | None:
    """Key of a picture (surface.glb) of the machine's solids that stand by the work at a position; zero
    frame, None without a layout.

    zero: the setup's, on the table.
    """
    if at is None or zero is None or not machine.rotary:
        return None
    return run.engine.run(
        MACHINE_PICTURE, MachineGiven(machine.as_built, nameless_position(at), zero), "machine"
    ).key


def slides_picture(run: Run, machine: Machine, at: Turned | None, zero: Vector | None) -> SlidesFact | None:
    """The machine's solids that move against the work, drawn (surface.glb, labelled by number) with the bare
    nose at zero of a position's plane; the nose itself last.
    """
    if at is None or zero is None:
        return None
    moving = [*slides(machine, zero, at), nose_slide(machine)]
    drawn = run.engine.run(
        SLIDES_PICTURE, MachineGiven(machine.as_built, nameless_position(at), zero), "machine"
    )
    return SlidesFact(
        key=drawn.key,
        names=tuple(one.name for one in moving),
        follows=tuple(matrix(one.follows) for one in moving),
    )


def position_reports(run: Run, turning: Turning, part: PartModel) -> tuple[PositionReport, ...]:
    """The positions as they are told. The share of each face that is seen is reckoned for all directions at
    once.
    """
    out = []
    names = [name for name in turning.turned if name]
    ways = [as_vector(turning.stations[name].zero_from_work[2, :3]) for name in names]
    shares = visible(part, ways)[0] if ways else np.zeros((0, 0))
    for k, name in enumerate(names):
        at = turning.turned[name]
        solutions = () if at.solved is None else at.solved.solutions[:TOLD_SOLUTIONS]
        out.append(
            PositionReport(
                name=name,
                direction=at.direction,
                angles={k_: round(v, 6) for k_, v in at.angles.items()},
                local_from_zero=matrix(at.local_from_zero),
                origin=at.origin,
                x=as_vector(np.round(at.local_from_zero[0, :3], 9) + 0.0),
                offset_register=turning.registers.get(name, ""),
                register_value=values_of(turning, name),
                seen=tuple(np.round(shares[:, k], 3).tolist()),
                solutions=solutions,
                why=solutions[0].why if solutions else "as typed",
                change=at.change,
                machine_key=machine_picture(run, turning.machine, at, turning.zero_on_table),
                slides=slides_picture(run, turning.machine, at, turning.zero_on_table),
                turning_s=round(index_time(turning.machine, home_angles(turning.machine), at.angles), 3),
            )
        )
    return tuple(out)
