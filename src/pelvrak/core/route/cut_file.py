"""What does one program do to a block? A text cut by itself, with tools and offsets as told and no plan."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput, json_from
from pelvrak.core.geometry.mesh import Mesh, volume
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.machine.machine import Machine
from pelvrak.core.machine.travel import register_value
from pelvrak.core.program.dialects import dialect_of
from pelvrak.core.route.cut_checks import IN_STOCK
from pelvrak.core.route.cut_facts import Moves, met_in_stock
from pelvrak.core.route.pictures import drawn
from pelvrak.core.route.running import Stretch, at_places, control_for, moves_of, stretches_of, text_given
from pelvrak.core.stock.cut import Hits, Sweep, cut
from pelvrak.core.stock.field import RayField, extents, grid_around
from pelvrak.core.stock.shapes import field_of_block

_SIZES = re.compile(r"(\d+(?:\.\d+)?)[x×X*](\d+(?:\.\d+)?)[x×X*](\d+(?:\.\d+)?)", re.ASCII)
# A block may be so long, mm, and its rays stand no closer than this, mm.
LONGEST_MM, FINEST_MM = 2000.0, 0.05
_REGISTER = re.compile(r"G5[4-9](\.[1-3])?|G54\.1 P\d{1,3}", re.ASCII)


class Met(Frozen):
    """Something a tool met that it must not: at which line, which part of it, how deep, mm, and where in the
    block.
    """

    line: int
    part: str
    depth: float
    place: Vector


class CutByTool(Frozen):
    """What one tool did. lines: first and last; removed_mm3, time_s."""

    tool: int
    name: str
    lines: tuple[int, int]
    removed_mm3: float
    time_s: float


class CutFile(Frozen):
    """What a text did to a block. volumes mm³; low, high: of what is left, from the block's low corner."""

    moves: int
    time_s: float
    before_mm3: float
    left_mm3: float
    low: Vector
    high: Vector
    tools: tuple[CutByTool, ...]
    met: tuple[Met, ...]


@dataclass(frozen=True)
class LeftOver:
    """The facts, the stock itself, and its surface."""

    facts: CutFile
    stock: RayField
    surface: Mesh


def sizes_of(text: str) -> Vector:
    """A block's sizes from 100x80x30, mm. Raises BadInput."""
    found = _SIZES.fullmatch(text.replace(" ", ""))
    sizes = [float(one) for one in found.groups()] if found else []
    if not sizes or not all(0 < one <= LONGEST_MM for one in sizes):
        raise BadInput(
            "cut.sizes",
            "billet",
            f"{text!r} is no block",
            f"give length, width and height up to {LONGEST_MM:g} mm, as 100x80x30",
        )
    return as_vector(np.array(sizes))


def offsets_from(data: bytes, name: str) -> dict[str, Vector]:
    """Where each register's zero lies from the block's low corner, mm: {"G54": [50, 40, 30]}. Raises
    BadInput.
    """
    value = json_from(data, name, "cut.offsets")
    if not isinstance(value, dict) or not value:
        raise BadInput(
            "cut.offsets", name, "it holds no registers", 'write {"G54": [50, 40, 30]}: from the low corner'
        )
    out = {}
    for register, place in value.items():
        good = isinstance(place, list) and len(place) == 3
        numbers = good and all(isinstance(p, (int, float)) and abs(p) < 1e5 for p in place)
        if not _REGISTER.fullmatch(register) or not numbers:
            raise BadInput(
                "cut.offsets",
                f"{name}, {register[:20]}",
                "this is no register with X, Y and Z",
                'write "G54": [50, 40, 30]',
            )
        out[register] = as_vector(np.array(place, float))
    return out


def cut_file(
    text: str,
    sizes: Vector,
    tools: list[Tool],
    offsets: dict[str, Vector],
    machine: Machine,
    cell: float = 0.5,
) -> LeftOver:
    """Cut a block by a text. sizes: of the block, mm; tools: by their places; offsets: of each register's
    zero from the block's low corner; cell: distance of its rays, mm. Raises BadInput, Alarm included.
    """
    if not FINEST_MM <= cell <= 5:
        raise BadInput("cut.cell", "cell", f"rays {cell:g} mm apart", f"give {FINEST_MM:g} to 5 mm")
    registers = {
        name: dict(zip("XYZ", register_value(machine, place), strict=True)) for name, place in offsets.items()
    }
    by_place = at_places(tools)
    in_ms = dialect_of(machine.control.dialect).dwell == "P ms"
    given = text_given(text, registers, by_place, machine, np.eye(4), {}, in_ms)
    low, high = np.zeros(3), np.array(sizes)
    stock = field_of_block(grid_around(low, high, cell), low, high)
    seconds, done, met = 0.0, list[CutByTool](), list[Met]()
    moves = 0
    for one in stretches_of(control_for(given).steps(text), given, (low, high)):
        moves += sum(moves_of(event) for event in one.events)
        seconds += one.seconds
        if one.sweep is None:
            continue
        stock, hits = cut(stock, one.sweep, 1)
        lines = one.lines
        met += _met(one, one.sweep, hits, lines)
        done.append(
            CutByTool(
                tool=one.number,
                name=by_place[one.number].name,
                lines=(min(lines), max(lines)),
                removed_mm3=round(float(hits.removed.sum()), 2),
                time_s=round(one.seconds, 2),
            )
        )
    surface = drawn(stock)
    ends = extents(stock) or (np.zeros(3), np.zeros(3))
    return LeftOver(
        CutFile(
            moves=moves,
            time_s=round(seconds, 2),
            before_mm3=round(float(np.prod(sizes)), 2),
            left_mm3=round(volume(surface), 2),
            low=as_vector(np.round(ends[0], 3)),
            high=as_vector(np.round(ends[1], 3)),
            tools=tuple(done),
            met=tuple(met),
        ),
        stock,
        surface,
    )


def _met(one: Stretch, sweep: Sweep, hits: Hits, lines: list[int]) -> list[Met]:
    """What a tool met in the block. lines: of its moves. While axes turn a move is many chords, and only what
    it cuts is known.
    """
    if one.turns:
        return []
    moves = Moves(one.flat, sweep, np.zeros(len(one.flat.what)))
    return [
        Met(line=lines[m.move], part=m.part, depth=round(m.depth, 3), place=m.place)
        for m in met_in_stock(moves, hits)
    ]


def met_in_words(one: Met) -> str:
    """What was met, as a sentence."""
    said = next(said for part, (_, said) in IN_STOCK.items() if part == one.part)
    return f"line {one.line}: {said.format(depth=f'{one.depth:.2f} mm')}"
