"""How does a machine stand with its work for some values of its axes, and what meets what there?"""

from __future__ import annotations

import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import transformed
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.machine.index import Turned, local_plane
from pelvrak.core.machine.kinematics import direction_of, home_angles, linear_for, pose
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.machine.slides import met_by_slides, nose_slide, slides
from pelvrak.core.route.holding import holding_mesh
from pelvrak.core.route.report import Matrix, SetupReport, SlidesFact
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.route.station import solids_of, station_at
from pelvrak.core.route.told import machine_picture, slides_picture


class Jog(Frozen):
    """A machine as it stands. values: of every axis; local_from_zero: 4×4, the plane square to the tool;
    nose: where the bare spindle's nose is in it, mm; machine_key, slides: pictures; beyond: axes past their
    limits; meets: what runs into what, in words.
    """

    values: dict[str, float]
    local_from_zero: Matrix
    nose: Vector
    machine_key: str | None
    slides: SlidesFact | None
    beyond: tuple[str, ...] = ()
    meets: tuple[str, ...] = ()


def jog(run: Run, setup: SetupReport, values: dict[str, float]) -> Jog:
    """A setup's machine with its axes at some values; those not given: rotary ones at home, the nose over
    zero, as high as it goes.

    Raises BadInput when the holding has no place on the table, or an axis is named that is not there.
    """
    machine = machine_of(setup.machine, run.plan.machines)
    hold = setup.hold
    if setup.zero_from_work is None or hold is None or hold.zero_on_table is None:
        raise BadInput(
            "reach.no_layout", "reach", f"{setup.name} has no place on the table", "hold the work first"
        )
    names = {axis.name for axis in machine.axes}
    stray = sorted(set(values) - names)
    if stray:
        raise BadInput(
            "reach.no_axis",
            stray[0],
            f"{machine.name} has no axis {stray[0]}",
            f"name one of {', '.join(sorted(names))}",
        )
    zero = np.array(hold.zero_on_table)
    angles = home_angles(machine) | {a.name: values[a.name] for a in machine.rotary if a.name in values}
    over = linear_for(machine, zero, angles)
    over["Z"] = machine.axis("Z").high
    whole = {**over, **angles, **values}
    at = Turned("", angles, local_plane(machine, angles), as_vector(direction_of(machine, angles)))
    nose = moved(at.local_from_zero, pose(machine, whole).table_from_spindle[:3, 3] - zero)
    station = station_at(
        setup.name,
        machine,
        np.array(setup.zero_from_work),
        hold,
        lambda: holding_mesh(run, hold),
        {},
        at,
    )
    work = transformed(run.surface(setup.incoming_key or ""), station.zero_from_work)
    still = [("work", work), *((piece.name, solid) for _, piece, solid in solids_of(station))]
    met = met_by_slides(
        [*slides(machine, hold.zero_on_table, at), nose_slide(machine)], nose[None], nose[None], still
    )
    beyond = [
        f"{axis.name} {whole[axis.name]:g} is beyond {axis.low:g} … {axis.high:g}"
        for axis in machine.axes
        if not axis.endless and not axis.low - 1e-9 <= whole[axis.name] <= axis.high + 1e-9
    ]
    return Jog(
        values={name: round(value, 6) + 0.0 for name, value in whole.items()},
        local_from_zero=matrix(at.local_from_zero),
        nose=as_vector(np.round(nose, 6) + 0.0),
        machine_key=machine_picture(run, machine, at, hold.zero_on_table),
        slides=slides_picture(run, machine, at, hold.zero_on_table),
        beyond=tuple(beyond),
        meets=tuple(f"The {one.slide} runs {one.depth:.1f} mm into the {one.what}." for one in met),
    )
