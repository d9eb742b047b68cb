"""What does a setup's program say? The blocks of its operations, in whatever dialect they are written."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from scipy.spatial.transform import Rotation

from pelvrak.core.cutting.contour import along_contour
from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.measuring import Measured
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.toolpath import Move, Path, Round, chords
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.program import blocks
from pelvrak.core.program.blocks import Block, Blocks, Body
from pelvrak.core.program.dialect import number
from pelvrak.core.program.variables import level_of, variable_of


@dataclass(frozen=True)
class Where:
    """Where the work is turned to. rotary: name, angle (degrees), clamp and unclamp code of each axis; shift:
    what is added to every coordinate; tilted: turns about Z, X, Z (degrees) of a plane the control turns,
    plane_at: its zero from the register's; message: to stop with.
    """

    register: str
    rotary: tuple[tuple[str, float, str, str], ...] = ()
    shift: Vector = (0.0, 0.0, 0.0)
    tilted: tuple[float, float, float] | None = None
    plane_at: Vector = (0.0, 0.0, 0.0)
    message: str | None = None


@dataclass(frozen=True)
class Planned:
    """One operation as the program needs it, at one position. run: tells it from its other visits; measured:
    what it touches, where it is a probe's, set_from: what is added to a coordinate to count as the register
    it sets does; wears: D of the tool whose wear it corrects; place: at which of its load; over: how high its
    tool is over all that stands there, as its path counts, None: only the top of Z surely is; shifted: its
    zero from the register's own, as that counts.
    """

    run: str
    operation: Operation
    tool: Tool
    path: Path
    holes: list[Hole]
    speed_rpm: float
    feed_mm_min: float
    where: Where
    measured: Measured | None = None
    set_from: Vector = (0.0, 0.0, 0.0)
    wears: int = 0
    place: str = ""
    over: float | None = None
    shifted: Vector = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Head:
    """What stands round the operations. number: of the program, 0 for one made of its name; digits: in which
    it is written; last_block: the largest block number the control takes; found_in: the register the operator
    finds, from which the others are turned; home: name, angle (degrees), clamp and unclamp code of each
    rotary axis where the next work is loaded; taken: numbers of the plan's other programs;
    setter: X, Y and Z of the slides at which the bare nose would touch the setter tools are touched on before
    anything is cut, and the feed; stops: the operator may stop it between places; counter: the variable that
    counts how often it has run, 0: none; features: what is cut alike may be called with a shift.
    """

    number: int = 0
    digits: int = 4
    last_block: int = 9999
    found_in: str = ""
    home: tuple[tuple[str, float, str, str], ...] = ()
    taken: tuple[int, ...] = ()
    setter: tuple[Vector, float] | None = None
    stops: bool = False
    counter: int = 0
    features: bool = False


def composed(
    name: str,
    title: str,
    part: str,
    registers: dict[str, Vector],
    billet: str,
    operations: list[Planned],
    head: Head | None = None,
) -> Blocks:
    """The program of one setup: safe start, each operation with its tool, safe end.

    Before every operation the offset register is told again. registers: what each holds. Before the first
    tool change and whenever the work is turned the spindle goes up; at the end the work is turned back to
    where it was loaded.
    """
    head = head or Head()
    running = _Running()
    tell = running.items.append
    tell(blocks.Opening(head.number or _number_in(name), head.digits, f"{name} {title}", head.taken))
    tell(blocks.Note(part))
    tell(blocks.Note(f"incoming {billet}"))
    for register, value in registers.items():
        tell(blocks.Note(f"{register} X{number(value[0])} Y{number(value[1])} Z{number(value[2])}"))
    if head.found_in:
        tell(blocks.Note(f"find {head.found_in}, the others are turned from it"))
    for tool in {p.tool.place: p.tool for p in operations}.values():
        tell(blocks.Note(f"T{tool.place} {tool.name}, out {tool.overhang:g}"))
    tell(blocks.Safe())
    # Wherever the last jog left it: nothing turns or changes under a tool that is down.
    tell(blocks.Up())
    cut = [_shifted(one) for one in operations if one.path.moves]
    if head.setter is not None and cut:
        running.set_lengths(cut, *head.setter)
    for one, after in zip(cut, [*cut, None][1:], strict=True):
        running.at_place(one, head.stops)
        running.operation(one, None if after is None else after.tool.place)
    tell(blocks.CoolOff())
    running.untilt()
    running.shift((0.0, 0.0, 0.0))
    tell(blocks.Up())
    tell(blocks.SpinOff())
    if running.stands:
        # The next work is loaded, and its zero found, as this one was.
        running.turn(Where("", head.home))
    tell(blocks.Aside())
    if head.counter:
        tell(blocks.Counted(head.counter))
    tell(blocks.Closing())
    return Blocks(tuple(running.items), head.last_block, head.features)


def _number_in(name: str) -> int:
    """The number that stands in a setup's name; 1 where none does."""
    return int("".join(c for c in name if c.isdigit()) or "1")


@dataclass
class _Running:
    """How the machine stands as its program goes on: tool in the spindle, angles of the rotary axes, plane
    that the control has turned. items: what it has said; turned: registers that were found turned, each with
    its number; found: where along X a register's Y was found, and the other way round, as it counts;
    last: what was said last; shifted: what the program counts from, from its register's zero.
    """

    items: list[Block | Body] = field(default_factory=list)
    tool: int | None = None
    stands: dict[str, float] = field(default_factory=dict)
    plane: object = None
    place: str = ""
    turned: dict[str, int] = field(default_factory=dict)
    found: dict[str, dict[str, float]] = field(default_factory=dict)
    last: Planned | None = None
    shifted: Vector = (0.0, 0.0, 0.0)

    def set_lengths(self, cut: list[Planned], nose: Vector, feed: float) -> None:
        """Touch each tool on the setter, before the work is turned anywhere."""
        self.items.append(blocks.Note("tools are set"))
        self.items.append(blocks.Count(cut[0].where.register))
        for tool in {one.tool.place: one.tool for one in cut if one.tool.kind != "probe"}.values():
            self.items.append(blocks.Bring(tool.place))
            told = blocks.SetLength(tool.place, nose, tool.gauge_length, feed, cut[0].where.register)
            self.items += [told, blocks.Up()]
            self.tool = tool.place

    def at_place(self, planned: Planned, stops: bool) -> None:
        """Go on to the place of the load an operation is cut at: over all that stands, by the top of Z."""
        place = planned.place
        if place == self.place:
            return
        over = None if self.last is None or stops else self._over(self.last, planned)
        if over is not None:
            self.items += over
        elif self.place:
            self.items.append(blocks.CoolOff())
            self.untilt()
            self.items.append(blocks.Up())
            if stops:
                self.items += [blocks.SpinOff(), blocks.Halt("optional", f"place {place} is next")]
        self.items.append(blocks.Note(f"place {place}"))
        self.place = place

    def _over(self, one: Planned, two: Planned) -> list[Block] | None:
        """How the tool goes up to go over all that stands from one operation to another, nothing where it is
        there already; None by the top of Z: what is changed or turned between them, or a plane that the
        control has turned, asks for that.
        """
        stays = one.tool.place == two.tool.place and one.where.rotary == two.where.rotary
        turned = self.plane is not None or two.where.register in self.turned
        if not stays or turned or one.over is None or two.over is None:
            return None
        return [blocks.Over(one.over)] if one.over > one.path.moves[-1].end[2] else []

    def operation(self, planned: Planned, then: int | None) -> None:
        """Say one operation. then: the place of the next one's tool."""
        tool, there, operation = planned.tool, planned.where, planned.operation
        self.items.append(blocks.Note(operation.name))
        if operation.comment:
            self.items.append(blocks.Note(operation.comment))
        self._stop(operation.stop_before, operation.comment)
        self._bring(tool, there, then)
        self.items.append(blocks.Count(there.register))
        self.shift(planned.shifted)
        self._tilt(there)
        if planned.measured is None:
            self.items.append(blocks.Spin(planned.speed_rpm, operation.spindle))
        self.items += self._moved(planned)
        self._stop(operation.stop_after, operation.comment)
        self.last = planned

    def _moved(self, planned: Planned) -> list[Block | Body]:
        """The moves of an operation, and what is to be said before them."""
        path, operation, place = planned.path, planned.operation, planned.tool.place
        if path.round is not None:
            return [_wrapped(planned, path.round, self.stands)]
        if planned.measured is not None:
            return [self._probed(planned, planned.measured)]
        come = blocks.Come(place, path.moves[0].end, operation.coolant)
        if operation.canned_cycle() and operation.retract_feed is None:
            return [_drilled(planned, come)]
        told, programmed = _as_programmed(planned)
        out: list[Block] = [come]
        made = [(0, 0)]
        at = path.moves[0].end
        for moves in programmed[1:]:
            for move in moves:
                out.append(blocks.Go(move, at, place))
                at = move.end
            made.append((len(out) - 1, 0))
        return [*told, Body(planned.run, tuple(out), tuple(made))]

    def _stop(self, stop: str, text: str) -> None:
        """Stop with the spindle up and standing, where it is asked for."""
        if stop == "no":
            return
        self.items.append(blocks.CoolOff())
        self.untilt()
        self.items += [blocks.Up(), blocks.SpinOff()]
        self.items.append(blocks.Halt("optional" if stop == "optional" else "stop", text))

    def _bring(self, tool: Tool, there: Where, then: int | None) -> None:
        """The tool into the spindle and the work to its angles, with the spindle up."""
        turns = any(self.stands.get(name) != angle for name, angle, _, _ in there.rotary)
        changes = tool.place != self.tool
        if self.tool is not None and (changes or turns):
            self.items.append(blocks.CoolOff())
            self.untilt()
            self.items.append(blocks.Up())
            if changes:
                self.items.append(blocks.SpinOff())
        if changes:
            self.items.append(blocks.Bring(tool.place, then))
            self.tool = tool.place
        if turns:
            # An axis that turns counts from its zero in the register, too.
            self.items.append(blocks.Count(there.register))
            self.turn(there)

    def turn(self, there: Where) -> None:
        """Turn the work, or stop first: one axis after the other, each with its clamp off and on, because how
        two that go in rapid overlap on the way is up to the control.
        """
        if there.message is not None:
            self.items.append(blocks.Halt("stop", there.message or "turn and clamp the work anew"))
        for name, angle, clamp, unclamp in there.rotary:
            if self.stands.get(name) != angle:
                self.items.append(blocks.Turn(name, angle, clamp, unclamp))
                self.stands[name] = angle

    def _probed(self, planned: Planned, measured: Measured) -> Body:
        """What a probe does, and where it found what it did."""
        for found in measured.finds:
            at = np.mean([planned.path.moves[measured.touches[n].move].end for n in found.touches], axis=0)
            there = at - np.array(planned.where.shift) + np.array(planned.set_from)
            # Turned by a little, Y moves with X from where it was found along X, and the other way round.
            if found.axis != "Z":
                along = "YX"["XY".index(found.axis)]
                self.found.setdefault(measured.sets, {})[along] = float(there["XYZ".index(along)])
        if measured.angle is not None:
            self.turned.setdefault(measured.sets, len(self.turned))
        return _probed(planned, measured, self.turned.get(measured.sets, 0))

    def _tilt(self, there: Where) -> None:
        """The plane the operation is cut in, where the control turns it: into the tilted one, or as its
        register was found turned.
        """
        turned = self.turned.get(there.register)
        if turned is not None:
            found = self.found.get(there.register, {})
            rotate = blocks.Rotate(turned, (found.get("X", 0.0), found.get("Y", 0.0)))
            if self.plane != rotate:
                self.untilt()
                self.items.append(rotate)
                self.plane = rotate
            return
        wanted = None if there.tilted is None else (there.tilted, there.plane_at)
        if self.plane != wanted:
            self.untilt()
        if there.tilted is None or self.plane is not None:
            return
        # A plane turned about zero by I, J, K (about Z, the new X, the new Z), and the tool set square to it.
        self.items.append(blocks.Note(f"plane {turn_in_words(there.tilted)}"))
        self.items.append(blocks.Tilt(there.tilted, there.plane_at))
        self.plane = wanted

    def shift(self, by: Vector) -> None:
        """Count from a place of the register's, where that changes."""
        if by != self.shifted:
            self.items.append(blocks.Shift(by))
            self.shifted = by

    def untilt(self) -> None:
        """Leave the plane that the control has turned, where there is one."""
        if self.plane is not None:
            self.items.append(blocks.Untilt())
            self.plane = None


def _as_programmed(planned: Planned) -> tuple[list[Block], list[tuple[Move, ...]]]:
    """The program's moves for each of the path's, and what the operator has to be told for them."""
    path, tool, how = planned.path, planned.tool, planned.operation.corrected_in_control()
    if not how or all(move.compensation == "" for move in path.moves):
        return [], [(move,) for move in path.moves]
    said = "wear of the radius, 0 for a cutter as told"
    if how == "whole":
        said = f"radius of the cutter, {number(tool.DC / 2)} mm"
    told: list[Block] = [blocks.Note(f"D{tool.place}: {said}")]
    if how == "wear":
        return told, [(move,) for move in path.moves]
    return told, along_contour(path, tool.DC / 2, planned.operation.name)


def _probed(planned: Planned, measured: Measured, turned: int) -> Body:
    """Touches, and what is set from them. A way back from a touch, or up, is guarded by nothing: the ball
    still touches. turned: the number of the turn that is found.
    """
    path, place = planned.path, planned.tool.place
    out: list[Block] = [blocks.Come(place, path.moves[0].end, "off")]
    made, at, touched = [(0, 0)], path.moves[0].end, False
    for n, move in enumerate(path.moves[1:], start=1):
        touch = measured.touch_at(n)
        if touch is not None:
            to = list(move.end)
            told = measured.touches[touch]
            to["XYZ".index(told.axis)] += told.way * told.beyond
            out.append(blocks.Feel(as_vector(to), at, measured.feed, touch, told.axis))
        elif touched or move.kind == "rapid" or move.end[2] > at[2]:
            out.append(blocks.Go(move, at, place))
        else:
            out.append(blocks.Guard(move.end, at, measured.guard_feed))
        at, touched = move.end, touch is not None
        made.append((len(out) - 1, 0))
    out += _found(planned, measured, turned)
    return Body(planned.run, tuple(out), tuple(made), _cycle(planned, measured))


def _found(planned: Planned, measured: Measured, turned: int) -> list[Block]:
    """What comes of what was touched: axes that are set, a turn, sizes."""
    shift, out = planned.where.shift, list[Block]()
    for n, found in enumerate(measured.finds):
        axis = "XYZ".index(found.axis)
        first = measured.touches[found.touches[0]]
        # The tool is as long as to the ball's lowest point, which is what touches along Z.
        ball = measured.radius * first.way if len(found.touches) == 1 and axis != 2 else 0.0
        out.append(
            blocks.Take(
                found.axis,
                n,
                found.touches,
                ball,
                found.at + shift[axis],
                found.at + planned.set_from[axis],
                measured.tolerance,
                planned.where.register,
                measured.sets,
                measured.said,
                (found.starts[0] + shift[0], found.starts[1] + shift[1]),
            )
        )
    if measured.angle is not None:
        angle = measured.angle
        out.append(
            blocks.Turned(
                angle.axis,
                angle.touches,
                angle.apart,
                turned,
                measured.tolerance,
                planned.where.register,
                measured.said,
            )
        )
    for n, size in enumerate(measured.sizes):
        out.append(
            blocks.Gauge(
                n,
                size.touches,
                size.ball,
                size.low,
                size.high,
                measured.then,
                measured.said,
                planned.wears,
                size.ball > 0,
            )
        )
    return out


def _cycle(planned: Planned, measured: Measured) -> blocks.Cycle | None:
    """All of it as a cycle of the control's own would be told it, None where none does the same."""
    if not measured.what or not measured.finds:
        return None
    moves, shift = planned.path.moves, np.array(planned.where.shift)
    ends = [np.array(moves[one.move].end) for one in measured.touches]
    first, axis = measured.touches[0], "XYZ".index(measured.touches[0].axis)
    counts = (ends[0] if len(ends) == 1 else (ends[0] + ends[1]) / 2) - shift + np.array(planned.set_from)
    told: dict[str, float] = {}
    if len(ends) == 1:
        begins = np.array(moves[first.move - 1].end)
        at = float(ends[0][axis]) + (first.way * measured.radius if axis != 2 else 0.0)
        counts[axis] += at - ends[0][axis]
        told = dict(zip("XYZ", begins.tolist(), strict=True)) | {"AT": at}
        approach = float(abs(ends[0] - begins)[axis])
    else:
        inside = 1 if measured.what in ("walls", "bore") else -1
        size = float(abs(ends[1] - ends[0])[axis]) + inside * 2 * measured.radius
        told = dict(zip("XYZ", ((ends[0] + ends[1]) / 2).tolist(), strict=True)) | {"SIZE": size}
        approach = measured.approach
    level, number = level_of(measured.sets)
    ways = {"WX": float(first.way * (axis == 0)), "WY": float(first.way * (axis == 1))}
    if len(ends) > 1:
        ways = {name: abs(way) for name, way in ways.items()}
    told |= ways | dict(zip(("SX", "SY", "SZ"), counts.tolist(), strict=True))
    told |= {"BALL": measured.radius, "APPROACH": approach, "BEYOND": first.beyond, "FEED": measured.feed}
    told |= {"WAYFEED": measured.guard_feed, "OVER": float(moves[0].end[2])}
    told |= {"STOPS": measured.tolerance, "L": level, "P": number}
    told |= {"V": variable_of(planned.where.register, 0)}
    return blocks.Cycle(measured.what, tuple(told.items()))


def _drilled(planned: Planned, come: blocks.Come) -> Body:
    """Holes: the moves are made by their hole, or one by one."""
    operation = planned.operation
    moves, at = [], planned.path.moves[0].end
    for move in planned.path.moves[1:]:
        moves.append(blocks.Go(move, at, planned.tool.place))
        at = move.end
    drill = blocks.Drill(
        operation.canned_cycle(),
        tuple(planned.holes),
        planned.feed_mm_min,
        operation.peck_mm(),
        operation.dwell_s_at_bottom(),
        tuple(moves),
    )
    return Body(planned.run, (come, drill), ((0, 0), *((1, i) for i in range(len(moves)))))


def turn_in_words(tilted: tuple[float, float, float]) -> str:
    """Turns about Z, the new X and the new Z (degrees) as one turn that can be read: by how much, about
    what.
    """
    turn = Rotation.from_euler("ZXZ", tilted, degrees=True).as_rotvec(degrees=True)
    angle = float(np.linalg.norm(turn))
    if angle < 1e-6:
        return "not turned"
    way = turn / angle
    axis = int(np.argmax(np.abs(way)))
    if abs(way[axis]) > 1 - 1e-9:
        return f"turned {number(float(np.sign(way[axis])) * angle)} ° about {'XYZ'[axis]}"
    return f"turned {number(angle)} ° about {' '.join(number(float(c)) for c in way)}"


def _wrapped(planned: Planned, lie: Round, stands: dict[str, float]) -> Body:
    """A path round a rotary axis, as straight moves of the slides and the axis; how often a minute each would
    fit, because a feed in mm/min says nothing of a move that is partly degrees. stands: where each axis is,
    kept up to date.
    """
    flat = chords(planned.path)
    points = np.concatenate([flat.starts[:1], flat.ends])
    places = lie.place(points) + np.array(planned.where.shift)
    angles = [lie.angle_at(float(y)) for y in points[:, 1]]
    _, _, clamp, unclamp = next(one for one in planned.where.rotary if one[0] == lie.axis)
    out: list[Block] = [blocks.Clamp(unclamp)] if unclamp else []
    # The path's first move comes down over its first place, which is gone to at full height.
    turned = ((lie.axis, angles[1]),)
    out.append(blocks.Come(planned.tool.place, as_vector(places[1]), planned.operation.coolant, turned))
    made = [(len(out) - 1, 0)] * len(planned.path.moves)
    for i in range(1, len(flat.what)):
        move = planned.path.moves[int(flat.move[i])]
        length = float(np.linalg.norm(flat.ends[i] - flat.starts[i]))
        last = i + 1 == len(flat.what) or flat.move[i + 1] != flat.move[i]
        rate = None if move.kind == "rapid" else move.feed / length
        stays = move.dwell_s if last else 0.0
        out.append(blocks.TurnGo(as_vector(places[i + 1]), lie.axis, angles[i + 1], rate, stays))
        made[int(flat.move[i])] = (len(out) - 1, 0)
    out.append(blocks.Untimed())
    if clamp:
        out.append(blocks.Clamp(clamp))
    stands[lie.axis] = angles[-1]
    return Body(planned.run, tuple(out), tuple(made))


def _shifted(one: Planned) -> Planned:
    """An operation with every coordinate as its register counts it."""
    dx, dy, dz = one.where.shift
    if (dx, dy, dz) == (0.0, 0.0, 0.0) or one.path.round is not None:
        return one
    moves = [
        replace(
            m,
            end=(m.end[0] + dx, m.end[1] + dy, m.end[2] + dz),
            centre=None if m.centre is None else (m.centre[0] + dx, m.centre[1] + dy),
        )
        for m in one.path.moves
    ]
    start = one.path.start
    path = Path((start[0] + dx, start[1] + dy, start[2] + dz), moves)
    holes = [Hole(h.x + dx, h.y + dy, h.start + dz, h.bottom + dz) for h in one.holes]
    return replace(one, path=path, holes=holes, over=None if one.over is None else one.over + dz)
