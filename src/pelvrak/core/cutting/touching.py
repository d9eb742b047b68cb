"""What has every operation of a probe in common, and how does it touch what was picked?"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.measuring import Angle, Axis, Finds, Touch
from pelvrak.core.cutting.operation import OperationKind
from pelvrak.core.cutting.tools import Tool, ToolKind
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face, FaceRef, Part, as_vector, face_of
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.stock.touch import touched

Reach = Annotated[float, Field(gt=0, le=100)]
# How many faces are picked for each.
FACES = {"face": 1, "walls": 2, "web": 2, "corner": 2, "bore": 1, "boss": 1, "top": 1, "angle": 1}
CALLED = {
    "face": "one face",
    "walls": "between two walls",
    "web": "a web",
    "corner": "a corner",
    "bore": "a bore",
    "boss": "a boss",
    "top": "a top",
    "angle": "the turn of a wall",
}
# What a ball has to be narrower than where it goes in, mm; how deep it touches and how big it is where
# nothing says: common practice, no source.
ROOM_MM, USUAL_DEPTH_MM, USUAL_BALL_MM = 0.1, 5.0, 6.0
# Of a wall, this share lies between the two places where its turn is measured.
USUAL_APART = 2 / 3
# An axis is met square within this, as a share.
SQUARE = 1e-6
# How far the stock may lie off its face before a touch there says something else, mm: rays and drawn surface.
NEAR_MM = 0.05


@dataclass(frozen=True)
class Spot:
    """Where the ball's centre touches, and the way it comes, an axis and its sign; starts: where the touch
    begins, which like ones share.
    """

    at: Floats
    axis: int
    way: int
    starts: Floats


class Touching(OperationKind):
    """What is told to every operation of a probe. It runs in a register that is known, and cuts nothing."""

    pick_first: ClassVar[str] = "Pick what is to be touched"
    touches_stock: ClassVar[bool] = True
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {"": ("probe",)}

    # Each kind has its own of those in CALLED.
    what: str
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1, max_length=2)] = asked(
        title="Faces",
        help="one face, two walls that look at or away from each other, the wall of a bore or boss",
        widget="faces",
        pick="Pick what is touched",
        place="what",
    )
    points: Literal["four", "three", "two"] = asked(
        "four",
        title="Points",
        help="in a bore or on a boss: two on each axis, two and one square to them, or two on one axis alone",
        place="what",
        when={"what": ["bore", "boss"]},
    )
    across: Literal["X", "Y"] = asked(
        "X", title="Across", help="the axis its two points lie on", place="what", when={"points": ["two"]}
    )
    depth: Reach | None = asked(
        None,
        title="Depth",
        help="of the ball’s middle under the edge of what it touches",
        unit="mm",
        empty="halfway, 5 at most",
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

    def places_apart(self) -> float | None:
        """How far its two places on one wall lie from each other, where that is told, mm."""
        return None

    def faces_told(self) -> tuple[FaceRef, ...]:
        """It cuts none."""
        return ()

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """One's own ball does, as far as it has room in a bore; a big one is the stiffer."""
        face = next((f for f in part.faces if f.number == self.faces[0].face), None) if part else None
        if face is not None and face.kind == "cylinder" and face.hollow and face.radius is not None:
            if 2 * face.radius <= tool.DC + ROOM_MM:
                return math.inf
        return max(0.0, tool.DC - USUAL_BALL_MM)

    def under(self, corners: Floats) -> float:
        """How far the ball's middle goes under the edge of a face, mm. corners: of it, as it lies."""
        if self.depth is not None:
            return self.depth
        heights = corners[:, 2]
        return min(USUAL_DEPTH_MM, float(heights.max() - heights.min()) / 2)


def touch(operation: Touching, job: Job) -> tuple[list[Spot], list[Finds], tuple[Touch, ...]]:
    """Fill the path with what is touched: the spots, what is found of axes, and the touches. Raises BadInput
    for faces that cannot be touched so.
    """
    what = operation.what
    if len(operation.faces) != FACES[what]:
        raise BadInput(
            "probe.faces",
            operation.name,
            f"{len(operation.faces)} faces are picked, and {CALLED[what]} has {FACES[what]}",
            "pick as many",
        )
    faces = [face_of(job.part.part, ref, operation.name) for ref in operation.faces]
    if what in ("bore", "boss"):
        spots, finds = _round(operation, job, faces[0])
    elif what == "top":
        spots, finds = _top(operation, job, faces[0])
    else:
        spots, finds = _walls(operation, job, faces)
    return spots, finds, _touch_all(operation, job, spots)


def _letter(axis: int) -> Axis:
    letters: tuple[Axis, Axis, Axis] = ("X", "Y", "Z")
    return letters[axis]


def _normal(operation: Touching, job: Job, face: Face) -> tuple[int, int]:
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


def _walls(operation: Touching, job: Job, faces: list[Face]) -> tuple[list[Spot], list[Finds]]:
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
        at[2] = high[2] - operation.under(corners)
        at[axis] += looks * r
        for aside in _aside(operation, float(high[1 - axis] - low[1 - axis])):
            there = at.copy()
            there[1 - axis] += aside
            starts = there.copy()
            starts[axis] += looks * operation.approach
            spots.append(Spot(there, axis, -looks, starts))
    if operation.what == "angle":
        return spots, []
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


def _aside(operation: Touching, wide: float) -> tuple[float, ...]:
    """Where a wall is touched, from the middle of what is touched of it, mm. wide: the wall."""
    if operation.what != "angle":
        return (0.0,)
    half = (operation.places_apart() or USUAL_APART * wide) / 2
    return -half, half


def _from_between(operation: Touching, spots: list[Spot], wide: float, r: float) -> list[Spot]:
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
        out.append(Spot(at, spot.axis, spot.way, starts))
    return out


def _room(operation: Touching, wide: float, r: float) -> None:
    if wide <= 2 * r + ROOM_MM:
        raise BadInput(
            "probe.ball_too_big",
            operation.name,
            f"a ball of Ø{2 * r:g} has no room where {wide:g} mm are open",
            "take a smaller ball",
        )


def _round(operation: Touching, job: Job, face: Face) -> tuple[list[Spot], list[Finds]]:
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
    corners = _corners(job, face)
    middle[2] = corners[:, 2].max() - operation.under(corners)
    spots, finds = [], []
    for at_axis in ("XY".index(operation.across),) if operation.points == "two" else (0, 1):
        third = operation.points == "three" and at_axis == 1
        for way in (1,) if third else (-1, 1):
            at, starts = middle.copy(), middle.copy()
            away = radius - r if hollow else radius + r
            side = way if hollow else -way
            at[at_axis] += side * away
            begins = max(0.0, away - operation.approach) if hollow else away + operation.approach
            starts[at_axis] += side * begins
            spots.append(Spot(at, at_axis, way, starts))
        last = len(spots) - 1
        if third:
            finds.append(Finds("Y", (0, 1, 2), float(middle[1]), (float(middle[0]), float(middle[1]))))
        else:
            finds.append(Finds(_letter(at_axis), (last - 1, last), float(middle[at_axis])))
    return spots, finds


def _top(operation: Touching, job: Job, face: Face) -> tuple[list[Spot], list[Finds]]:
    """A face that looks up, touched from above where it was picked."""
    if _normal(operation, job, face) != (2, 1):
        raise BadInput("probe.not_up", operation.name, "the face does not look up", "pick one that does")
    at = moved(job.zero_from_work, np.array(face.centre))
    at[0] += operation.along
    surface = float(at[2])
    at[2] += job.radius
    starts = at + np.array([0.0, 0.0, operation.approach])
    return [Spot(at, 2, -1, starts)], [Finds("Z", (0,), surface)]


def _touch_all(operation: Touching, job: Job, spots: list[Spot]) -> tuple[Touch, ...]:
    """The way from touch to touch: over what stands wherever it does not begin where the one before did. The
    touches, each with its move.
    """
    path, over, last = job.path, job.top + operation.clearance, None
    down = np.array([0.0, 0.0, job.radius])  # the path is of the ball's lowest point
    out = []
    for spot in spots:
        starts, at = spot.starts - down, spot.at - down
        if last is None:
            # Over the first place the program comes in rapid.
            path.rapid(starts[0], starts[1], over)
        elif not _same_hollow(last, spot):
            path.feed(path.at[0], path.at[1], over, operation.guard_feed)
            path.feed(starts[0], starts[1], over, operation.guard_feed)
        path.feed(*as_vector(starts), operation.guard_feed)
        path.feed(*as_vector(at), operation.touch_feed)
        out.append(Touch(len(path.moves) - 1, _letter(spot.axis), spot.way, operation.beyond))
        path.feed(*as_vector(starts), operation.guard_feed)
        last = spot
    path.rapid(path.at[0], path.at[1], over)
    return tuple(out)


def _same_hollow(one: Spot, two: Spot) -> bool:
    """Whether the way from where one touch begins to where the next does stays between them, at their
    height.
    """
    return (
        bool(one.starts[2] == two.starts[2])
        and bool(np.dot(one.at - one.starts, two.starts - one.starts) <= 1e-9)
        and bool(np.dot(two.at - two.starts, one.starts - two.starts) <= 1e-9)
    )


def ask_the_stock(operation: Touching, job: Job, spots: list[Spot], finds: list[Finds]) -> list[float | None]:
    """Whether the stock as it comes in has the faces there, no hole in their place and nothing before them:
    of one face where it is, of two where their middle is. How far past where it should each is met, mm.
    """
    assert job.surface is not None
    offs = [_off(job, spot, operation.beyond) for spot in spots]
    for found in finds:
        absent = [n for n in found.touches if offs[n] is None]
        for n in absent:
            _nothing_there(operation, job, spots, n)
        if absent:
            continue
        # Of a circle's three the first two only say how wide it is.
        said = found.touches[-1:] if len(found.touches) == 3 else found.touches
        wide = sum(offs[n] or 0.0 for n in found.touches[:2]) / 2 if len(found.touches) == 3 else 0.0
        off = sum(spots[n].way * (offs[n] or 0.0) - wide for n in said) / len(said)
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
    return offs


def _nothing_there(operation: Touching, job: Job, spots: list[Spot], n: int) -> None:
    job.note(
        "probe.nothing_there",
        "error",
        f"The ball goes {operation.beyond:g} mm past where touch {n + 1} of {operation.name} should"
        f" meet the stock along {_signed(spots[n])}, and meets nothing: there is a hole or an edge,"
        " or the face is not there yet.",
        spots[n].at,
    )


def depth_of(operation: Touching, job: Job) -> float | None:
    """How deep it touches, mm; None from above."""
    if operation.what == "top":
        return None
    return operation.under(_corners(job, face_of(job.part.part, operation.faces[0], operation.name)))


def turned_by(operation: Touching, job: Job, spots: list[Spot]) -> Angle:
    """What the two touches of a wall say of how the work is turned; that the stock has the wall at both, and
    along the axis, is asked of it as it comes in.
    """
    offs = ask_the_stock(operation, job, spots, [])
    known = [off for off in offs if off is not None]
    for n in (n for n, off in enumerate(offs) if off is None):
        _nothing_there(operation, job, spots, n)
    if len(known) == 2 and abs(known[1] - known[0]) > NEAR_MM:
        job.note(
            "probe.elsewhere",
            "error",
            f"In {operation.name} one touch lies {abs(known[1] - known[0]):.2f} mm deeper than the other: the"
            " wall is cut later, or a hole or an edge is there.",
            spots[1].at,
            measured=round(abs(known[1] - known[0]), 3),
            limit=NEAR_MM,
            unit="mm",
        )
    one, two = spots
    return Angle((0, 1), _letter(one.axis), float(two.at[1 - one.axis] - one.at[1 - one.axis]))


def _signed(spot: Spot) -> str:
    return f"{'+' if spot.way > 0 else '-'}{_letter(spot.axis)}"


def _off(job: Job, spot: Spot, beyond: float) -> float | None:
    """How far past where it should the ball meets the stock, mm; None where it meets none."""
    assert job.surface is not None
    ends = spot.at.copy()
    ends[spot.axis] += spot.way * beyond
    share = touched(job.surface, spot.starts, ends, job.radius)
    if share is None:
        return None
    met = spot.starts[spot.axis] + share * (ends - spot.starts)[spot.axis]
    return float((met - spot.at[spot.axis]) * spot.way)
