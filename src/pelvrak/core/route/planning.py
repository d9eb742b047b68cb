"""Which moves does an operation make? Its path planned on the stock that comes in, kept by what it was
planned from.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass, replace

import numpy as np
from cachetools import LRUCache
from shapely import from_wkb, to_wkb

from pelvrak.core.cutting.feeds import CuttingData, cutting_data, material_of
from pelvrak.core.cutting.job import Job, plan_operation
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.standing import Standing, is_square, standing, standing_square
from pelvrak.core.cutting.toolpath import Path
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reader, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, transformed
from pelvrak.core.machine.index import TurningLine, turning_lines
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.naming import SETUP, TOOL, nameless_operation, nameless_tool
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, FIELD, PART, PATH, SURFACE, PlannedPath
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.station import Station

# How finely the stock's heights are looked at where its rays do not stand upright, mm.
PLAN_CELL_MM = 0.5


@dataclass(frozen=True)
class PathGiven:
    """What an operation's path is planned from. zero_from_work: of the plane it is cut in; stock: that comes
    in; surface: the same, where the plane does not lie along its rays or the work turns under the tool; data:
    of cutting; nest: as `Station.nest`, regions as WKB (ISO 13249-3); turning: the rotary axes that can turn
    the work.
    """

    part: Content
    stock: Content
    surface: Content | None
    zero_from_work: Floats
    operation: Operation
    tool: Tool
    data: CuttingData
    nest: tuple[tuple[str, bytes, float], ...]
    turning: tuple[TurningLine, ...]


def data_of(plan: Plan, machine: Machine, operation: Operation, tool: Tool) -> CuttingData:
    """Speeds and feeds of an operation, by its finish. Raises BadInput for a material that is not there."""
    return cutting_data(
        tool,
        material_of(plan.billet.material, plan.materials),
        machine,
        operation.speed_rpm,
        operation.feed_mm_min,
        plan.shares_of(operation),
    )


def path_given(
    engine: Engine,
    part: Content,
    incoming: Result,
    operation: Operation,
    tool: Tool,
    data: CuttingData,
    station: Station,
) -> PathGiven:
    """The input of an operation's planning at a station, without names. incoming: the stock that comes in."""
    given = given_in_plane(engine, part, incoming, operation, tool, data, station.zero_from_work)
    nest = tuple((name, to_wkb(region), floor) for name, (region, floor) in station.nest().items())
    if not operation.turns_work or station.zero_on_table is None:
        return replace(given, nest=nest)
    lines = turning_lines(station.machine, station.zero_on_table, station.at)
    return replace(given, nest=nest, turning=tuple(lines))


def given_in_plane(
    engine: Engine,
    part: Content,
    incoming: Result,
    operation: Operation,
    tool: Tool,
    data: CuttingData,
    plane: Floats,
) -> PathGiven:
    """The same in a plane (4×4 from the work frame), no nest being cut and nothing turning."""
    lies_along = is_square(plane) and not operation.turns_work and not operation.touches_stock
    return PathGiven(
        part,
        incoming.content(FIELD),
        None if lies_along else surface_of(engine, incoming.key).content(SURFACE),
        plane,
        nameless_operation(operation),
        nameless_tool(tool, TOOL),
        data,
        (),
        (),
    )


# Stocks at planes they do not lie along, put on rays there: the operations of a setup are planned on one.
_at_hand: LRUCache[tuple[str, bytes], Standing | None] = LRUCache(4)
_looking = threading.Lock()


def _lying(given: PathGiven, reads: Reads) -> Mesh | None:
    """The stock's surface in the plane it is cut in, where it is asked for."""
    if given.surface is None:
        return None
    return transformed(reads.read(given.surface, SURFACE), given.zero_from_work)


def standing_in(reads: Reader, stock: Content, surface: Content | None, plane: Floats) -> Standing | None:
    """A stock on rays as it lies in a plane: its own where the plane lies along them, else new ones through
    its surface. None where nothing stands.
    """
    if is_square(plane):
        return standing_square(reads.read(stock, FIELD), plane)
    if surface is None:
        return None
    key = surface.digest, plane.tobytes()
    with _looking:
        if key not in _at_hand:
            _at_hand[key] = standing(transformed(reads.read(surface, SURFACE), plane), PLAN_CELL_MM)
        return _at_hand[key]


def _plan(given: PathGiven, reads: Reads) -> Pieces:
    """The path of one operation. Raises BadInput when it cannot be planned."""
    lying = _lying(given, reads)
    here = standing_in(reads, given.stock, given.surface, given.zero_from_work)
    if here is None:
        raise BadInput(
            "stock.none", given.operation.name, "no stock is left to cut", "check the operations before"
        )
    job = Job(
        reads.read(given.part, PART),
        given.zero_from_work,
        here,
        given.tool,
        given.data,
        SETUP,
        given.operation,
        Path((0.0, 0.0, float(here.high[2]) + given.operation.clearance + 50.0)),
        {name: (from_wkb(region), floor) for name, region, floor in given.nest},
        list(given.turning),
        lying,
    )
    plan_operation(job)
    return {
        PATH: PlannedPath(job.path, job.holes, np.zeros(0), measured=job.measured),
        FACTS: {"findings": [f.model_dump(mode="json") for f in job.findings]},
    }


PLAN_PATH = Step("path", 7, PathGiven, _plan)
