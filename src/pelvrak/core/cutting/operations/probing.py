"""Probing: touch what the work is found by, and set a register from it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.measuring import Axis, Finds, Measured, Touch
from pelvrak.core.cutting.operation import OperationKind
from pelvrak.core.cutting.tools import Tool, ToolKind
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face, FaceRef, Part, as_vector, face_of
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.machine.machine import Register
from pelvrak.core.stock.touch import touched

Reach = Annotated[float, Field(gt=0, le=100)]
What = Literal["face", "walls", "web", "corner", "bore", "boss", "top"]
# How many faces are picked for each.
FACES = {"face": 1, "walls": 2, "web": 2, "corner": 2, "bore": 1, "boss": 1, "top": 1}
CALLED = {
    "face": "one face",
    "walls": "between two walls",
    "web": "a web",
    "corner": "a corner",
    "bore": "a bore",
    "boss": "a boss",
    "top": "a top",
}
# An axis is met square within this, as a share.
SQUARE = 1e-6
# How far the stock may lie off its face before a touch there says something else, mm: rays and drawn surface.
NEAR_MM = 0.05


@dataclass(frozen=True)
class _Spot:
    """Where the ball's centre touches, and the way it comes, an axis and its sign; starts: where the touch
    begins, which like ones share.
    """

    at: Floats
    axis: int
    way: int
    starts: Floats


class Probing(OperationKind):
    """Touch faces as they stand, and set axes of a register by where they are: a face its one axis, a corner
    two, the middle of two walls one, of a bore or boss two.
    """

    called: ClassVar[str] = "Probing"
    pick_first: ClassVar[str] = "Pick what is to be touched"
    touches_stock: ClassVar[bool] = True
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("probe",)}

    kind: Literal["probing"] = "probing"
    what: What = asked("face", title="Touches", help="what is measured", called=CALLED, place="what")
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1, max_length=2)] = asked(
        title="Faces",
        help="one face, two walls that look at or away from each other, the wall of a bore or boss",
        widget="faces",
        pick="Pick what is touched",
        place="what",
    )
    sets: Register = asked(
        "G55", title="Sets", help="the register whose axes are set by it", widget="sets", place="what"
    )
    points: Literal["four", "two"] = asked(
        "four",
        title="Points",
        help="in a bore or on a boss: two on each axis, or on one axis alone",
        place="what",
        when={"what": ["bore", "boss"]},
    )
    across: Literal["X", "Y"] = asked(
        "X", title="Across", help="the axis its two points lie on", place="what", when={"points": ["two"]}
    )
    depth: Reach = asked(
        5.0,
        title="Depth",
        help="of the ball’s middle under the edge of what it touches",
        unit="mm",
        place="what",
    )
    along: Annotated[float, Field(ge=-1000, le=1000)] = asked(
        0.0, title="Along", help="from the middle of a wall to where it is touched", unit="mm", place="what"
    )
    approach: Reach = asked(
        4.0, title="Approach", help="from where it goes slowly, before the face", unit="mm", place="feeds"
    )
    beyond: Reach = asked(
        4.0,
        title="Beyond",
        help="how far it looks for the face past where it should be",
        unit="mm",
        place="feeds",
    )
    tolerance: Annotated[float, Field(gt=0, le=20)] = asked(
        1.0,
        title="Stops at",
        help="the program stops where it finds something further off",
        unit="mm",
        place="feeds",
    )
    touch_feed: Annotated[float, Field(gt=0, le=5000)] = asked(
        100.0, title="Touch feed", help="at which it touches", unit="mm/min", place="feeds"
    )
    guard_feed: Annotated[float, Field(gt=0, le=20_000)] = asked(
        1500.0,
        title="Way feed",
        help="of its way down and across, where it stops as soon as it meets something",
        unit="mm/min",
        place="feeds",
    )

    def plan(self, job: Job) -> None:
        _plan(self, job)

    @model_validator(mode="after")
    def _what_is_not_there_is_noticed(self) -> Probing:
        if self.beyond <= 2 * self.tolerance:
            raise ValueError(
                f"{self.name} looks {self.beyond:g} mm beyond and stops at {self.tolerance:g} mm: a face that"
                " is not there would pass for one that is off. Look more than twice as far as it stops at"
            )
        return self

    def faces_told(self) -> tuple[FaceRef, ...]:
        """It cuts none."""
        return ()

    def register_set(self) -> Register:
        """The register whose axes it sets by what it touches."""
        return self.sets

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The smaller the ball, the more it gets into."""
        return tool.DC


def _plan(operation: Probing, job: Job) -> None:
    if len(operation.faces) != FACES[operation.what]:
        raise BadInput(
            "probe.faces",
            operation.name,
            f"{len(operation.faces)} faces are picked, and {CALLED[operation.what]} has"
            f" {FACES[operation.what]}",
            "pick as many",
        )
    faces = [face_of(job.part.part, ref, operation.name) for ref in operation.faces]
    if operation.what in ("bore", "boss"):
        spots, finds = _round(operation, job, faces[0])
    elif operation.what == "top":
        spots, finds = _top(operation, job, faces[0])
    else:
        spots, finds = _walls(operation, job, faces)
    _touch_all(operation, job, spots)
    _ask_the_stock(operation, job, spots, finds)
    touch_moves = _touch_moves(job, spots)
    job.measured = Measured(
        tuple(
            Touch(move, _letter(spot.axis), spot.way, operation.beyond)
            for spot, move in zip(spots, touch_moves, strict=True)
        ),
        tuple(finds),
        job.radius,
        operation.tolerance,
        operation.touch_feed,
        operation.guard_feed,
        operation.sets,
        CALLED[operation.what],
    )


def _letter(axis: int) -> Axis:
    letters: tuple[Axis, Axis, Axis] = ("X", "Y", "Z")
    return letters[axis]


def _normal(operation: Probing, job: Job, face: Face) -> tuple[int, int]:
    """The axis a plane face is square to as it lies, and the side it looks to. Raises BadInput for another
    face.
    """
    if face.normal is not None:
        normal = turned(job.zero_from_work, np.array(face.normal))
        axis = int(np.argmax(np.abs(normal)))
        if abs(abs(normal[axis]) - 1) < SQUARE:
            return axis, 1 if normal[axis] > 0 else -1
    raise BadInput(
        "probe.slanting",
        operation.name,
        "a face that is neither square to an axis nor a round wall along Z says nothing of one axis",
        "pick a flat face square to X, Y or Z, or the wall of a bore or boss",
    )


def _corners(job: Job, face: Face) -> Floats:
    """The corners of a face's triangles as it lies, (n, 3)."""
    mesh = job.lying
    return np.asarray(mesh.vertices[np.unique(mesh.triangles[mesh.label == face.number])])


def _walls(operation: Probing, job: Job, faces: list[Face]) -> tuple[list[_Spot], list[Finds]]:
    """Flat walls: one, two whose middle is looked for, or two square to each other."""
    r, spots = job.radius, []
    for face in faces:
        axis, looks = _normal(operation, job, face)
        if axis == 2:
            raise BadInput(
                "probe.not_a_wall", operation.name, "a face that looks up is no wall", "touch it as a top"
            )
        corners = _corners(job, face)
        low, high = corners.min(axis=0), corners.max(axis=0)
        at = (low + high) / 2
        at[1 - axis] += operation.along
        at[2] = high[2] - operation.depth
        at[axis] += looks * r
        starts = at.copy()
        starts[axis] += looks * operation.approach
        spots.append(_Spot(at, axis, -looks, starts))
    surfaces = [float(spot.at[spot.axis] + spot.way * r) for spot in spots]
    if operation.what in ("walls", "web"):
        one, two = spots
        facing = (surfaces[1] - surfaces[0]) * one.way > 0
        if one.axis != two.axis or one.way == two.way or facing != (operation.what == "web"):
            how = "away from each other" if operation.what == "web" else "at each other"
            raise BadInput(
                "probe.no_pair",
                operation.name,
                f"the two faces do not look {how} along one axis",
                "pick two that do, or touch each by itself",
            )
        if operation.what == "walls":
            spots = _from_between(operation, spots, abs(surfaces[1] - surfaces[0]), r)
        return spots, [Finds(_letter(one.axis), (0, 1), sum(surfaces) / 2)]
    if operation.what == "corner" and spots[0].axis == spots[1].axis:
        raise BadInput(
            "probe.no_corner",
            operation.name,
            "the two faces are along the same axis",
            "pick one of the other",
        )
    return spots, [Finds(_letter(spot.axis), (n,), surfaces[n]) for n, spot in enumerate(spots)]


def _from_between(operation: Probing, spots: list[_Spot], wide: float, r: float) -> list[_Spot]:
    """Both touches of two walls from the middle between them, as far as they are apart."""
    _room(operation, wide, r)
    middle = (spots[0].at + spots[1].at) / 2
    middle[2] = min(spots[0].at[2], spots[1].at[2])
    out = []
    for spot in spots:
        at, starts = spot.at.copy(), middle.copy()
        at[2] = starts[2] = middle[2]
        at[1 - spot.axis] = starts[1 - spot.axis]
        if abs(at[spot.axis] - middle[spot.axis]) > operation.approach:
            starts[spot.axis] = at[spot.axis] - spot.way * operation.approach
        out.append(_Spot(at, spot.axis, spot.way, starts))
    return out


def _room(operation: Probing, wide: float, r: float) -> None:
    if wide <= 2 * r + 0.1:
        raise BadInput(
            "probe.ball_too_big",
            operation.name,
            f"a ball of Ø{2 * r:g} has no room where {wide:g} mm are open",
            "take a smaller ball",
        )


def _round(operation: Probing, job: Job, face: Face) -> tuple[list[_Spot], list[Finds]]:
    """The wall of a bore or boss along Z, touched on its axes."""
    hollow = operation.what == "bore"
    if face.kind != "cylinder" or face.axis is None or face.axis_point is None or face.radius is None:
        raise BadInput("probe.not_round", operation.name, "the face is no round wall", "pick a cylinder")
    axis = turned(job.zero_from_work, np.array(face.axis))
    if abs(abs(axis[2]) - 1) > SQUARE or face.hollow != hollow:
        raise BadInput(
            "probe.not_round",
            operation.name,
            f"the face is not the wall of a {operation.what} along Z",
            "pick one, or turn the work",
        )
    r, radius = job.radius, face.radius
    if hollow:
        _room(operation, 2 * radius, r)
    middle = moved(job.zero_from_work, np.array(face.axis_point))
    middle[2] = _corners(job, face)[:, 2].max() - operation.depth
    spots, finds = [], []
    for at_axis in (0, 1) if operation.points == "four" else ("XY".index(operation.across),):
        for way in (-1, 1):
            at, starts = middle.copy(), middle.copy()
            away = radius - r if hollow else radius + r
            side = way if hollow else -way
            at[at_axis] += side * away
            begins = max(0.0, away - operation.approach) if hollow else away + operation.approach
            starts[at_axis] += side * begins
            spots.append(_Spot(at, at_axis, way, starts))
        last = len(spots) - 1
        finds.append(Finds(_letter(at_axis), (last - 1, last), float(middle[at_axis])))
    return spots, finds


def _top(operation: Probing, job: Job, face: Face) -> tuple[list[_Spot], list[Finds]]:
    """A face that looks up, touched from above where it was picked."""
    if _normal(operation, job, face) != (2, 1):
        raise BadInput("probe.not_up", operation.name, "the face does not look up", "pick one that does")
    at = moved(job.zero_from_work, np.array(face.centre))
    at[0] += operation.along
    surface = float(at[2])
    at[2] += job.radius
    starts = at + np.array([0.0, 0.0, operation.approach])
    return [_Spot(at, 2, -1, starts)], [Finds("Z", (0,), surface)]


def _touch_all(operation: Probing, job: Job, spots: list[_Spot]) -> None:
    """The way from touch to touch: over what stands wherever it does not begin where the one before did."""
    r, over = job.radius, job.top + operation.clearance
    path, last = job.path, None
    down = np.array([0.0, 0.0, r])  # the path is of the ball's lowest point
    for spot in spots:
        starts, at = spot.starts - down, spot.at - down
        if last is None or not _same_hollow(last, spot):
            if last is not None:
                path.feed(path.at[0], path.at[1], over, operation.guard_feed)
            # Over the first place the program comes in rapid.
            path.rapid(starts[0], starts[1], over) if last is None else path.feed(
                starts[0], starts[1], over, operation.guard_feed
            )
        path.feed(*as_vector(starts), operation.guard_feed)
        path.feed(*as_vector(at), operation.touch_feed)
        path.feed(*as_vector(starts), operation.guard_feed)
        last = spot
    path.rapid(path.at[0], path.at[1], over)


def _same_hollow(one: _Spot, two: _Spot) -> bool:
    """Whether the way from where one touch begins to where the next does stays between them, at their
    height.
    """
    return (
        bool(one.starts[2] == two.starts[2])
        and bool(np.dot(one.at - one.starts, two.starts - one.starts) <= 1e-9)
        and bool(np.dot(two.at - two.starts, one.starts - two.starts) <= 1e-9)
    )


def _touch_moves(job: Job, spots: list[_Spot]) -> list[int]:
    """Which moves of the path make the touches."""
    down = np.array([0.0, 0.0, job.radius])
    out, after = [], -1
    for spot in spots:
        at = tuple((spot.at - down).tolist())
        after = next(
            n for n, m in enumerate(job.path.moves) if n > after and np.allclose(m.end, at, atol=1e-9)
        )
        out.append(after)
    return out


def _ask_the_stock(operation: Probing, job: Job, spots: list[_Spot], finds: list[Finds]) -> None:
    """Whether the stock as it comes in has the faces there, no hole in their place and nothing before them:
    of one face where it is, of two where their middle is.
    """
    assert job.surface is not None
    offs = [_off(job, spot, operation.beyond) for spot in spots]
    for found in finds:
        absent = [n for n in found.touches if offs[n] is None]
        for n in absent:
            job.note(
                "probe.nothing_there",
                "error",
                f"The ball goes {operation.beyond:g} mm past where touch {n + 1} of {operation.name} should"
                f" meet the stock along {_signed(spots[n])}, and meets nothing: there is a hole or an edge,"
                " or the face is not there yet.",
                spots[n].at,
            )
        if absent:
            continue
        off = sum(spots[n].way * (offs[n] or 0.0) for n in found.touches) / len(found.touches)
        if abs(off) > NEAR_MM:
            one = len(found.touches) == 1
            what = f"touch {found.touches[0] + 1}" if one else "the middle of two touches"
            job.note(
                "probe.elsewhere",
                "error",
                f"In {operation.name} {what} lies {abs(off):.2f} mm along {found.axis} from where the faces"
                " are: they are cut later, or a hole or an edge is there.",
                spots[found.touches[0]].at,
                measured=round(abs(off), 3),
                limit=NEAR_MM,
                unit="mm",
            )


def _signed(spot: _Spot) -> str:
    return f"{'+' if spot.way > 0 else '-'}{_letter(spot.axis)}"


def _off(job: Job, spot: _Spot, beyond: float) -> float | None:
    """How far past where it should the ball meets the stock, mm; None where it meets none."""
    assert job.surface is not None
    ends = spot.at.copy()
    ends[spot.axis] += spot.way * beyond
    share = touched(job.surface, spot.starts, ends, job.radius)
    if share is None:
        return None
    met = spot.starts[spot.axis] + share * (ends - spot.starts)[spot.axis]
    return float((met - spot.at[spot.axis]) * spot.way)
