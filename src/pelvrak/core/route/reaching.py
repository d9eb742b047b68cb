"""What of the part does a tool with its holder reach from an index position, and what stops it elsewhere?

The tool stands where it would touch each small piece of a face from outside, and is tested there against the
finished part and against what holds it, as the simulation tests it; what stands there before it is cut does
not count.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting.tools import Tool, body_profiles, cutter_profile
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import Floats, Mesh, crease_lines, triangle_areas, triangle_normals
from pelvrak.core.geometry.part import Frozen, PartModel
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import home_angles, linear_for_all
from pelvrak.core.machine.machine import Machine, machine_of
from pelvrak.core.route.naming import TOOL, bare_hold, nameless_position, nameless_tool
from pelvrak.core.route.pieces import FACTS, PART, PICTURE, SURFACE
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.station import Station, station_from
from pelvrak.core.stock.compare import refined
from pelvrak.core.stock.cut import RAPID, Sweep, test
from pelvrak.core.stock.field import RayField, error_of, grid_around
from pelvrak.core.stock.shapes import field_of_mesh

Stop = Literal["reached", "part", "holding", "travel", "angle"]
STOPS: tuple[Stop, ...] = ("reached", "part", "holding", "travel", "angle")
# How large the pieces of a face are that are looked at, and how far apart the rays of the part are for the
# cutter and for all above it, mm.
PIECE_MM, CELLS_MM = 3.5, (0.5, 1.0)
# A face leans away from the tool when its normal points down by more than this (sine).
AWAY = 0.02
# Places tried round a flat place, share of the cutter's radius: in the middle and round it.
ROUND = 6
# What the rays do not know of is no trouble, mm.
SPARE_MM = 0.1


class Reached(Frozen):
    """What a tool reaches from a position. key: of the picture (surface.glb of the part, labelled by STOPS);
    areas mm², by what stops it; faces: the share of each face that is reached.
    """

    key: str
    position: str
    tool: str
    overhang: float
    holder: str
    areas: dict[Stop, float]
    faces: tuple[float, ...]


def reached_from(run: Run, setup: SetupReport, position: str, tool: Tool) -> Reached:
    """What a tool reaches from a position of a setup that was computed. Raises LookupError when there is no
    such position.
    """
    assert setup.zero_from_work is not None and setup.hold is not None
    hold = setup.hold
    machine = machine_of(setup.machine, run.plan.machines)
    there = next((one for one in setup.positions if one.name == position), None)
    if there is None and position:
        raise LookupError(position)
    at = (
        Turned("", home_angles(machine), np.eye(4), (0.0, 0.0, 1.0))
        if there is None
        else Turned(there.name, there.angles, np.array(there.local_from_zero), there.direction)
    )
    solids = None if hold.key is None else Result(hold.key, run.engine).content(SURFACE)
    given = ReachGiven(
        run.part_content,
        np.array(setup.zero_from_work),
        solids,
        bare_hold(hold),
        machine.as_built,
        nameless_position(at),
        nameless_tool(tool, TOOL),
    )
    result = run.engine.run(REACH, given, "reach")
    facts = result.value(FACTS)
    return Reached(
        key=result.key,
        position=position,
        tool=tool.name,
        overhang=tool.overhang,
        holder=tool.holder.name,
        areas=facts["areas"],
        faces=tuple(facts["faces"]),
    )


@dataclass(frozen=True)
class ReachGiven:
    """A part, what holds it (solids and facts) on a machine at a position, and a tool."""

    part: Content
    zero_from_work: Floats
    solids: Content | None
    hold: HoldFacts
    machine: Machine
    at: Turned
    tool: Tool


def _reach(given: ReachGiven, reads: Reads) -> Pieces:
    part = reads.read(given.part, PART)
    station = station_from(reads, given.machine, given.zero_from_work, given.hold, given.solids, given.at)
    whole = refined(part.mesh, PIECE_MM)
    stops = stops_on(whole, part, station, given.tool)
    size = triangle_areas(whole.vertices[whole.triangles])
    count = len(part.part.faces)
    faces = np.bincount(whole.label, weights=size, minlength=count)
    free = np.bincount(whole.label, weights=size * (stops == 0), minlength=count)
    told = {
        "areas": {name: float(size[stops == i].sum()) for i, name in enumerate(STOPS)},
        "faces": np.round(free / np.maximum(faces, 1e-12), 4).tolist(),
    }
    painted = Mesh(whole.vertices, whole.triangles, stops.astype(np.int64))
    return {PICTURE: to_glb(painted, crease_lines(part.mesh, by_label=False)), FACTS: told}


REACH = Step("reach", 1, ReachGiven, _reach)


def stops_on(surface: Mesh, part: PartModel, station: Station, tool: Tool) -> NDArray[np.int8]:
    """What stops a tool at each triangle (n,) of the part's surface: a number of STOPS."""
    corners = moved(station.zero_from_work, surface.vertices)[surface.triangles]
    normals = triangle_normals(surface) @ station.zero_from_work[:3, :3].T
    out = np.full(len(corners), STOPS.index("angle"), np.int8)
    asked = np.flatnonzero(normals[:, 2] > -AWAY)
    tips = _tips(corners[asked].mean(axis=1), normals[asked], tool)
    low, high = part.mesh.vertices.min(axis=0), part.mesh.vertices.max(axis=0)
    fine, coarse = (field_of_mesh(grid_around(low, high, cell), part.mesh) for cell in CELLS_MM)
    holding = station.holding()
    worst = np.full(len(asked), STOPS.index("part"), np.int8)
    for places in tips:
        left = np.flatnonzero((worst != STOPS.index("reached")) & np.isfinite(places[:, 0]))
        if len(left) == 0:
            continue
        here = places[left]
        clear = ~_meets((fine, coarse), inverse(station.zero_from_work), station, here, tool)
        found = np.full(len(left), STOPS.index("part"), np.int8)
        found[clear] = STOPS.index("reached")
        if holding is not None and clear.any():
            hit = np.zeros(len(left), bool)
            hit[clear] = _meets((holding, holding), np.eye(4), station, here[clear], tool)
            found[hit] = STOPS.index("holding")
        beyond = found == STOPS.index("reached")
        if beyond.any():
            beyond[beyond] = _beyond(station, here[beyond], tool)
            found[beyond] = STOPS.index("travel")
        # Of several places the best counts; one that fails at the part tells less than one that fails further
        # on.
        better = (found == STOPS.index("reached")) | (found > worst[left])
        worst[left[better]] = found[better]
    out[asked] = worst
    return out


def _tips(places: Floats, normals: Floats, tool: Tool) -> list[Floats]:
    """Where the tip may stand to touch each place (n, 3) from outside, one array for each way; NaN where a
    way is none.

    A ball touches along the normal; any other cutter with its side or rim, and what lies flat with some place
    of its end.
    """
    radius = tool.DC / 2
    if tool.kind == "ball_mill":
        return [places + radius * normals - [0, 0, radius]]
    across = np.linalg.norm(normals[:, :2], axis=1)
    flat = across < math.sin(math.radians(1))
    aside = places.copy()
    aside[~flat, :2] += radius * normals[~flat, :2] / across[~flat, None]
    out = [aside]
    for k in range(ROUND):
        angle = 2 * math.pi * k / ROUND
        shifted = places + 0.95 * radius * np.array([math.cos(angle), math.sin(angle), 0.0])
        shifted[~flat] = np.nan
        out.append(shifted)
    return out


def _meets(
    fields: tuple[RayField, RayField], frame_from_zero: Floats, station: Station, tips: Floats, tool: Tool
) -> NDArray[np.bool_]:
    """Whether any of a tool that stands at some places (zero frame) meets a body, given as its finer and its
    coarser field in some frame.
    """
    there = moved(frame_from_zero, tips)
    axis = np.asarray(frame_from_zero[:3, 2])
    _, shank, holder, nose = body_profiles(tool, station.machine.spindle.nose)
    out = np.zeros(len(tips), bool)
    # A little slimmer, so that what it only touches, as a drill the wall of its hole, is not met all along.
    slim = tool.model_copy(update={"DC": max(0.9 * tool.DC, tool.DC - 2 * SPARE_MM)})
    for field, first, others in ((fields[0], cutter_profile(slim), ()), (fields[1], holder, (shank, nose))):
        left = np.flatnonzero(~out)
        if len(left):
            still = there[left]
            met = test(field, Sweep(still, still, np.full(len(left), RAPID, np.uint8), axis, first, others))
            out[left] = met.deepest > error_of(field.grid.cell) + SPARE_MM
    return out


def _beyond(station: Station, tips: Floats, tool: Tool) -> NDArray[np.bool_]:
    """Whether X, Y and Z would have to go past their limits."""
    if station.zero_on_table is None:
        return np.zeros(len(tips), bool)
    machine, zero = station.machine, np.array(station.zero_on_table)
    places = moved(inverse(station.at.local_from_zero), tips) + zero
    values = linear_for_all(machine, places, station.at.angles, tool.gauge_length)
    least, most = machine.limits()
    return np.asarray(((values < least - 1e-6) | (values > most + 1e-6)).any(axis=1))
