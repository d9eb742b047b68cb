"""Where do several parts lie in one billet, and how is it divided afterwards?"""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Face, FaceRef, Frozen, Part, PartModel, face_of
from pelvrak.core.geometry.rigid import moved, rigid, turned
from pelvrak.core.geometry.several import box_of, together

AXES = ("x", "y", "z")
FIRST = "1"
MOST_PIECES = 60

Length = Annotated[float, Field(ge=-5000, le=5000)]
Gap = Annotated[float, Field(ge=0, le=1000)]
Count = Annotated[int, Field(ge=1, le=40)]
PieceName = Annotated[str, Field(pattern="^[A-Za-z0-9_-]{1,12}$")]


class Rows(Frozen):
    """Rows and columns of like pieces, numbered from 1, row by row."""

    called: ClassVar[str] = "rows and columns"

    rule: Literal["rows"] = "rows"
    columns: Count = asked(2, title="Columns", help="pieces along the first axis")
    rows: Count = asked(1, title="Rows", help="pieces along the second")
    by: Literal["gap", "pitch"] = asked(
        "gap",
        title="Told by",
        help="the room between two pieces, or the way from one to the next",
        called={"gap": "the gap between them", "pitch": "their pitch"},
    )
    along_columns: Gap = asked(12.0, title="From column to column", help="gap or pitch", unit="mm")
    along_rows: Gap = asked(12.0, title="From row to row", help="gap or pitch", unit="mm")
    plane: Literal["xy", "yz", "zx"] = asked(
        "xy", title="In", help="the two axes of the part they lie along, the first for the columns"
    )

    @model_validator(mode="after")
    def _not_too_many(self) -> Rows:
        if self.columns * self.rows > MOST_PIECES:
            raise ValueError(
                f"{self.columns} × {self.rows} are more than {MOST_PIECES} pieces: take fewer in one billet"
            )
        return self


class Shifted(Frozen):
    """Moved from where the first piece lies."""

    called: ClassVar[str] = "moved"

    lies: Literal["moved"] = "moved"
    by: tuple[Length, Length, Length] = asked(
        (100.0, 0.0, 0.0),
        title="By",
        help="from the first piece, along the part's axes",
        unit="mm",
        parts=AXES,
    )


class Beside(Frozen):
    """Face to face with another piece, their boxes a gap apart."""

    called: ClassVar[str] = "face to face"

    lies: Literal["beside"] = "beside"
    of: PieceName = asked(FIRST, title="Beside", help="which piece, by its name")
    side: Literal["x-", "x+", "y-", "y+", "z-", "z+"] = asked(
        "x+", title="On its side", help="seen along the part's axes"
    )
    gap: Gap = asked(12.0, title="Gap", help="between their faces", unit="mm")
    slide: tuple[Length, Length] = asked(
        (0.0, 0.0),
        title="Slid",
        help="along the face, by the two axes that follow; 0: their first corners in line",
        unit="mm",
        parts=("first", "second"),
    )


class OnAxis(Frozen):
    """The axis of one of its bores on that of another piece's, side by side with an offset."""

    called: ClassVar[str] = "axis on axis"

    lies: Literal["axis"] = "axis"
    of: PieceName = asked(FIRST, title="On the axis of", help="which piece, by its name")
    hole: FaceRef = asked(
        title="Its bore", help="of the piece that is laid", widget="faces", pick="Pick a bore of the part"
    )
    onto: FaceRef = asked(
        title="Onto", help="a bore of the other piece", widget="faces", pick="Pick the bore it comes onto"
    )
    offset: tuple[Length, Length, Length] = asked(
        (0.0, 0.0, 0.0), title="Offset", help="from there, along the part's axes", unit="mm", parts=AXES
    )


Lies = Annotated[Shifted | Beside | OnAxis, Field(discriminator="lies")]


class Laid(Frozen):
    """One further piece, laid by hand. name: it is called by; about, turn_deg: it is turned first, about an
    axis of the part; place: how it then lies.
    """

    name: PieceName
    about: Literal["x", "y", "z"] = "z"
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    place: Lies = Shifted()


class ByHand(Frozen):
    """The first piece where the part lies, the others each as it is told. pieces: the others, each laid by
    those before it.
    """

    called: ClassVar[str] = "by hand"

    rule: Literal["by_hand"] = "by_hand"
    pieces: Annotated[tuple[Laid, ...], Field(min_length=1, max_length=MOST_PIECES - 1)]

    @model_validator(mode="after")
    def _told_apart(self) -> ByHand:
        known = [FIRST]
        for one in self.pieces:
            if one.name in known:
                raise ValueError(f"two pieces are called {one.name}: give each its own name")
            of = getattr(one.place, "of", FIRST)
            if of not in known:
                raise ValueError(f"piece {one.name} is laid by {of}, which is none of those before it")
            known.append(one.name)
        return self


class Saw(Frozen):
    """One sawn plane. axis: of the part that it lies square to; at: its middle, mm, in the part's frame."""

    axis: Literal["x", "y", "z"]
    at: Length


class Division(Frozen):
    """How the billet comes apart. after: the setup, by its name, after which it does; how: sawn along planes,
    or it has fallen apart by what was cut; kerf: of the saw, mm; saws: its planes, midway between the pieces
    where none is told; goes_on: the piece that the route goes on with, by its name.
    """

    after: Annotated[str, Field(pattern="^[A-Za-z0-9_-]{1,20}$")]
    how: Literal["sawn", "apart"] = "sawn"
    kerf: Annotated[float, Field(gt=0, le=50)] = asked(
        3.0, title="Kerf", help="what the saw takes, as wide as it cuts", unit="mm"
    )
    saws: Annotated[tuple[Saw, ...], Field(max_length=80)] = ()
    goes_on: PieceName = FIRST


class Several(Frozen):
    """Several parts in one billet, which lies round them all. layout: where they lie; division: how they come
    apart; None: they stay together.
    """

    layout: Annotated[Rows | ByHand, Field(discriminator="rule")] = Rows()
    division: Division | None = None

    def names(self) -> tuple[str, ...]:
        """What the pieces are called."""
        if isinstance(self.layout, Rows):
            return tuple(str(n + 1) for n in range(self.layout.columns * self.layout.rows))
        return (FIRST, *(one.name for one in self.layout.pieces))


def poses(several: Several, model: PartModel) -> dict[str, Floats]:
    """Where every piece lies: 4×4 from where the part lies, by its name. Raises BadInput."""
    layout = several.layout
    if isinstance(layout, Rows):
        return _in_rows(layout, model.part, several.names())
    out = {FIRST: np.eye(4)}
    for one in layout.pieces:
        out[one.name] = _laid(one, model, out)
    return out


def laid(several: Several | None, model: PartModel) -> PartModel:
    """What lies in the billet: the part, or its pieces as one. Raises BadInput."""
    return model if several is None else together(model, poses(several, model))


def _in_rows(layout: Rows, part: Part, names: tuple[str, ...]) -> dict[str, Floats]:
    u, v = ("xyz".index(axis) for axis in layout.plane)
    ways = [layout.along_columns, layout.along_rows]
    if layout.by == "gap":
        ways = [way + part.size[axis] for way, axis in zip(ways, (u, v), strict=True)]
    out = {}
    for n, name in enumerate(names):
        row, column = divmod(n, layout.columns)
        there = np.eye(4)
        there[u, 3], there[v, 3] = column * ways[0], row * ways[1]
        out[name] = there
    return out


def _laid(one: Laid, model: PartModel, others: dict[str, Floats]) -> Floats:
    """A piece laid by hand. others: those before it."""
    spin = _about(one.about, one.turn_deg)
    if isinstance(one.place, Shifted):
        return rigid(spin, np.array(one.place.by))
    mine = box_of(model, rigid(spin, np.zeros(3)))
    if isinstance(one.place, OnAxis):
        return rigid(spin, _onto(one.place, model, spin, others[one.place.of], one.name))
    theirs = box_of(model, others[one.place.of])
    axis, plus = "xyz".index(one.place.side[0]), one.place.side[1] == "+"
    shift = theirs[0] - mine[0]
    shift[axis] = (
        theirs[1][axis] + one.place.gap - mine[0][axis]
        if plus
        else theirs[0][axis] - one.place.gap - mine[1][axis]
    )
    shift[[(axis + 1) % 3, (axis + 2) % 3]] += one.place.slide
    return rigid(spin, shift)


def _onto(place: OnAxis, model: PartModel, spin: Floats, other: Floats, name: str) -> Floats:
    """The shift that brings a bore's axis onto another's. Raises BadInput where they do not lie alike."""
    mine, onto = (_bore(model.part, ref, name) for ref in (place.hole, place.onto))
    way, there = spin @ np.array(mine.axis), turned(other, np.array(onto.axis))
    if abs(way @ there) < 1 - 1e-9:
        raise BadInput(
            "pieces.not_along",
            f"piece {name}",
            "the two bores do not lie along each other once the piece is turned",
            "turn it, or take other bores",
        )
    away = moved(other, np.array(onto.axis_point)) - spin @ np.array(mine.axis_point)
    # Along the axis it stays level with the part itself.
    level = (np.array(other[:3, 3]) - away) @ there
    return np.asarray(away + level * there + np.array(place.offset))


def _bore(part: Part, ref: FaceRef, name: str) -> Face:
    face = face_of(part, ref, f"piece {name}")
    if face.axis is None or face.axis_point is None:
        raise BadInput("pieces.no_axis", f"piece {name}", f"face {face.number} has no axis", "pick a bore")
    return face


def _about(axis: str, angle_deg: float) -> Floats:
    """The turn about an axis of the part; quarters exactly."""
    c, s = np.cos(np.radians(angle_deg)), np.sin(np.radians(angle_deg))
    if abs(angle_deg / 90 - round(angle_deg / 90)) < 1e-12:
        c, s = np.round(c), np.round(s)
    d = "xyz".index(axis)
    u, v = (d + 1) % 3, (d + 2) % 3
    out = np.eye(3)
    out[u, u], out[u, v], out[v, u], out[v, v] = c, -s, s, c
    return out


LAYOUTS = (Rows, ByHand)
PLACEMENTS = (Shifted, Beside, OnAxis)
