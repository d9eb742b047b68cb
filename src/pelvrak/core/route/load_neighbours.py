"""Does a tool at one place of a load, or a slide of the machine, come near what stands at another?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import Chords, Move, Path, chords, swept_by
from pelvrak.core.cutting.tools import Tool, body_profiles
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, box_corners, transformed
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, turned
from pelvrak.core.load.load import Load
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import Tips
from pelvrak.core.machine.slides import Slide, met_by_slides, slides
from pelvrak.core.route.load_checks import PLACE_FIELD, FieldGiven, Occupied, Standing, cut_there
from pelvrak.core.route.load_places import Stood, wrong, zero_of
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.pieces import FACTS, FIELD, PATH, SURFACE
from pelvrak.core.route.report import OperationReport, SetupReport
from pelvrak.core.route.run import Run
from pelvrak.core.route.turning import Turning
from pelvrak.core.stock.cut import RAPID, test
from pelvrak.core.stock.field import error_of
from pelvrak.core.stock.profile import Profile

# Room wanted between a tool at one place and what stands at another, mm: common practice, no source.
ROOM_MM = 3.0
# A gap is known to this, mm.
NEAR_MM = 0.1


@dataclass(frozen=True)
class NeighbourGiven:
    """A path at one place, or a rapid on the way to it, and what stands at another. body: there, its zero
    frame; field: the same on rays; from_local: 4×4, of the plane the path is in to that zero frame; slides:
    of the machine that could come near it.
    """

    path: Content | tuple[Vector, Vector]
    tool: Tool
    nose: tuple[float, float]
    body: Content
    field: Content
    from_local: Floats
    slides: tuple[Slide, ...]


def _passed(given: NeighbourGiven, reads: Reads) -> Pieces:
    """How near the tool comes sideways, mm, None where there is room enough; into: how deep it comes in;
    slide: what of the machine does, and how deep.
    """
    field = reads.read(given.field, FIELD)
    if isinstance(given.path, tuple):
        flat = chords(Path(given.path[0], [Move("rapid", given.path[1])]))
    else:
        flat = chords(reads.read(given.path, PATH).path)
    slide = _slide_met(given, flat, reads)
    starts, ends = (moved(given.from_local, places) for places in (flat.starts, flat.ends))
    what = np.full(len(flat.what), RAPID, np.uint8)
    bare = swept_by(given.tool, given.nose, starts, ends, what, turned(given.from_local, UP))
    known = error_of(field.grid.cell)

    def met(by: float) -> float:
        """How deep a tool comes in that is so much wider all round, mm."""
        bodies = tuple(_wider(one, by) for one in bare.bodies)
        hits = test(field, replace(bare, cutter=_wider(bare.cutter, by), bodies=bodies))
        return float(hits.deepest.max())

    into = met(0.0)
    if into > known:
        return {FACTS: {"gap": 0.0, "into": round(into, 3), "slide": slide}}
    if met(ROOM_MM) <= known:
        return {FACTS: {"gap": None, "into": 0.0, "slide": slide}}
    free, taken = 0.0, ROOM_MM
    while taken - free > NEAR_MM:
        middle = (free + taken) / 2
        free, taken = (free, middle) if met(middle) > known else (middle, taken)
    return {FACTS: {"gap": round(free, 3), "into": 0.0, "slide": slide}}


def _slide_met(given: NeighbourGiven, flat: Chords, reads: Reads) -> list[Any] | None:
    """Which slide runs deepest into what stands there, and how deep, mm; None where none does."""
    if not given.slides:
        return None
    body = transformed(reads.read(given.body, SURFACE), inverse(given.from_local))
    up = np.array([0.0, 0.0, given.tool.gauge_length])
    met = met_by_slides(list(given.slides), flat.starts + up, flat.ends + up, [("there", body)])
    worst = max(met, key=lambda one: one.depth, default=None)
    return None if worst is None else [worst.slide, round(worst.depth, 3)]


def _wider(profile: Profile, by: float) -> Profile:
    """A body wider all round."""
    ball = None if profile.ball is None else (profile.ball[0], profile.ball[1] + by)
    return Profile(profile.heights, tuple(radius + by for radius in profile.radii), ball)


PASS_NEIGHBOUR = Step("past a neighbour", 4, NeighbourGiven, _passed)


class SlidesThere:
    """The slides of a setup's machine as they lie at its places: with all angles as they are, a shift on the
    table shifts them by as much for each mm.
    """

    def __init__(self, turning: Turning, at: Turned) -> None:
        assert turning.zero_on_table is not None
        self.planned = np.array(turning.zero_on_table)
        self.here = slides(turning.machine, as_vector(self.planned), at)
        self.by = [
            np.column_stack([b.mesh.vertices[0] - a.mesh.vertices[0] for b in (x, y)])
            for a, x, y in zip(
                self.here,
                *(slides(turning.machine, as_vector(self.planned + way), at) for way in np.eye(3)[:2]),
                strict=True,
            )
        ]

        self.boxes = [(one.mesh.vertices.min(axis=0), one.mesh.vertices.max(axis=0)) for one in self.here]

    def _off(self, n: int, shift: tuple[float, float]) -> Floats:
        return np.asarray(np.round(self.by[n] @ np.array(shift), 6))

    def box(self, n: int, shift: tuple[float, float]) -> tuple[Floats, Floats]:
        """That a slide lies in, by its number, with the nose at zero. shift: of the place from where the
        setup is planned, mm.
        """
        off = self._off(n, shift)
        return self.boxes[n][0] + off, self.boxes[n][1] + off

    def at(self, n: int, shift: tuple[float, float]) -> Slide:
        """The slide itself there."""
        one = self.here[n]
        return replace(one, mesh=transformed(one.mesh, rigid(np.eye(3), self._off(n, shift))))


class Passing:
    """Everything that stands in a load, and whether a tool on its way comes near it. places: of the load;
    shared: what stands once for all places of a setup; boxes: corners of each, (n, 8, 3), mm on the table;
    tips: of the machine, which is one for all of it.
    """

    def __init__(self, run: Run, places: list[Occupied], shared: dict[str, Standing]) -> None:
        self.run = run
        self.shared = shared
        self.standing: list[Standing] = [*places, *shared.values()]
        self.boxes = np.array([box_corners(one.low, one.high) for one in self.standing])
        self.tips = Tips(places[0].one.turning.machine)
        self._slides: dict[tuple[str, str], SlidesThere] = {}

    def met(
        self,
        one: Stood,
        position: str,
        tool: Tool,
        path: Content | tuple[Vector, Vector],
        box: tuple[Floats, Floats],
        but: Sequence[Standing] = (),
    ) -> Iterator[tuple[Standing, dict[str, Any]]]:
        """What comes of each that a path could come near: `FACTS` of `PASS_NEIGHBOUR`. one: the place in
        whose plane, at an index position, the path is; box: that it lies in; but: what is not looked at.
        """
        at = one.turning.turned[position]
        key = one.place.cut_as, position
        if key not in self._slides:
            self._slides[key] = SlidesThere(one.cut.turning, at)
        moving = self._slides[key]
        for number, mine in _come_near(one, self.boxes, box, tool, at, moving):
            could = tuple(moving.at(n, one.place.at) for n in mine)
            there = self.standing[number]
            if any(there is left for left in but):
                continue
            given = self._past(one, there, path, tool, at, could)
            called = f"{tool.name} at {one.place.key} past {there.called}"
            yield there, self.run.engine.run(PASS_NEIGHBOUR, given, called).value(FACTS)

    def _past(
        self,
        one: Stood,
        there: Standing,
        path: Content | tuple[Vector, Vector],
        tool: Tool,
        at: Turned,
        could: tuple[Slide, ...],
    ) -> NeighbourGiven:
        """A path at one place and what stands elsewhere. could: slides that may come near it."""
        to_table = rigid(np.eye(3), np.array(zero_of(one))) @ inverse(at.local_from_zero)
        frame = rigid(np.eye(3), -np.array(there.at)) @ to_table
        body = there.body.content(SURFACE)
        rays = self.run.engine.run(PLACE_FIELD, FieldGiven(body), f"rays of {there.called}")
        return NeighbourGiven(
            path,
            nameless_tool(tool, TOOL),
            one.turning.machine.spindle.nose,
            body,
            rays.content(FIELD),
            np.round(frame, 6),
            could,
        )


def neighbours(
    load: Load, passing: Passing, places: list[Occupied], reports: dict[str, SetupReport]
) -> list[Finding]:
    """Tools at one place, and slides of the machine, that come into, or near to, what stands elsewhere."""
    out = []
    for here in places:
        one = here.one
        # What its own setup stands on was looked at there, as near as that has to be.
        own = passing.shared.get(one.place.setup)
        known = [here] if own is None or one.place.at != (0.0, 0.0) else [here, own]
        for told, tool in cut_there(one, reports):
            position = told.position or ""
            if (
                told.key is None
                or told.low is None
                or told.high is None
                or position not in one.turning.turned
            ):
                continue
            path = Result(told.key, passing.run.engine).content(PATH)
            box = np.array(told.low), np.array(told.high)
            for there, facts in passing.met(one, position, tool, path, box, known):
                if facts["gap"] is not None and (facts["into"] or there is not own):
                    out.append(_near_finding(load, one, there, told, facts))
                if facts["slide"] is not None:
                    out.append(_slide_finding(load, one, there, told, facts["slide"]))
    return out


def _come_near(
    one: Stood,
    boxes: Floats,
    box: tuple[Floats, Floats],
    tool: Tool,
    at: Turned,
    moving: SlidesThere,
) -> Iterator[tuple[int, tuple[int, ...]]]:
    """What tool or slides come near to anywhere in a box, by the boxes of what stands, and which slides, by
    their numbers. boxes: (n, 8, 3) on the table, mm.
    """
    machine, zero = one.turning.machine, np.array(zero_of(one))
    lying = moved(at.local_from_zero, boxes.reshape(-1, 3) - zero).reshape(boxes.shape)
    lows, highs = lying.min(axis=1), lying.max(axis=1)
    reach = max(tool.DC / 2, *(_widest(tool, machine.spindle.nose))) + ROOM_MM
    least, most = box[0] - reach, box[1] + reach
    # Whatever is over the tip is tool, in the plane the path is in: only from below is there always room.
    near = (least < highs).all(axis=1) & (most[:2] > lows[:, :2]).all(axis=1)
    noses = box_corners(as_vector(box[0]), as_vector(box[1])) + [0.0, 0.0, tool.gauge_length]
    could = []
    for n, slide in enumerate(moving.here):
        goes = noses @ slide.follows.T
        low, high = moving.box(n, one.place.at)
        low, high = low + goes.min(axis=0), high + goes.max(axis=0)
        could.append((low < highs).all(axis=1) & (high > lows).all(axis=1))
    for number in range(len(boxes)):
        mine = tuple(n for n, meets in enumerate(could) if meets[number])
        if mine or near[number]:
            yield number, mine


def _widest(tool: Tool, nose: tuple[float, float]) -> list[float]:
    return [profile.widest for profile in body_profiles(tool, nose)]


def _slide_finding(
    load: Load, one: Stood, other: Standing, told: OperationReport, met: tuple[str, float]
) -> Finding:
    said = (
        f"While {told.name} is cut at {one.place.key}, the {met[0]} of the machine runs {met[1]:.1f} mm into"
        f" {other.stands}."
    )
    more: dict[str, Any] = {"measured": met[1], "limit": 0.0, "unit": "mm", "stage": "reach"}
    return wrong(one.place, "load.slide_meets", said, operation=told.id, **more)


def _near_finding(
    load: Load, one: Stood, other: Standing, told: OperationReport, facts: dict[str, float]
) -> Finding:
    into, gap = facts["into"], facts["gap"]
    said = (
        f"{told.tool_name} of {told.name} at {one.place.key} comes {into:.2f} mm into {other.stands}."
        if into
        else f"{told.tool_name} of {told.name} at {one.place.key} passes {other.called} by {gap:.1f} of"
        f" {ROOM_MM:g} mm."
    )
    more: dict[str, Any] = {
        "measured": -into if into else gap,
        "limit": ROOM_MM,
        "unit": "mm",
        "stage": "reach",
    }
    severity = "error" if into else "warning"
    return wrong(one.place, "load.neighbour", said, severity=severity, operation=told.id, **more)
