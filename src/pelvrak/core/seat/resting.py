"""What does a zero rest on, and in which state is that in the stock: raw, cut, gone, not yet there?

The surface of the stock knows who made it, so nothing is guessed: places on what the zero rests on are
looked up on the incoming stock, and again on the outgoing one.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, TypeVar

import numpy as np
from vtkmodules.vtkCommonCore import reference
from vtkmodules.vtkCommonDataModel import vtkStaticCellLocator

from pelvrak.core.cures import Cure
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, triangle_areas, triangle_normals
from pelvrak.core.geometry.part import FaceRef, Frozen, Part, Vector, as_vector, edge_of, face_of
from pelvrak.core.seat.seating import Zero, axis_of
from pelvrak.core.stock.compare import poly_data, signed_distance

# Whoever made a surface, as the asker knows them.
Maker = TypeVar("Maker")
State = Literal["raw", "cut", "raw and cut", "not yet there", "gone", "holding"]
# A place lies on the stock's surface when it is this near, mm: what a resolution of half a millimetre knows.
ON_MM = 0.1
RAW = ("raw", "raw and cut")
# Triangles at a side of a box, mm, and how square to it they look (cosine).
SIDE_MM, SQUARE = 0.05, 0.99
PLACES = 60
# Middles nearer than this are one, mm: what round stock is known to from coarse rays.
CONCENTRIC_MM = 0.05
# What the sides of a box are called; those of Z are top and bottom.
SIDES = {("X", -1): "left", ("X", 1): "right", ("Y", -1): "front", ("Y", 1): "back"}
# A state is told when this share of the places has it.
SHARE = 0.05


class Rest(Frozen):
    """One surface a zero takes a coordinate from.

    axis: of the setup; on: what it is, in words; state: in the incoming stock; by: the setups and operations
    that made it; cut_away: this setup takes it off; work_axis: the axis in the work frame; place: a point of
    it there.
    """

    axis: str
    on: str
    state: State
    by: tuple[str, ...] = ()
    cut_away: bool = False
    work_axis: Vector
    place: Vector


@dataclass(frozen=True)
class Stocks:
    """What `resting` looks at, in the work frame: incoming and outgoing surface, and who the makers are."""

    incoming: Mesh
    outgoing: Mesh
    makers: dict[int, str]


def resting(
    zero: Zero, part: Part, part_mesh: Mesh, billet: Mesh, rotation: Floats, stocks: Stocks
) -> list[Rest]:
    """Every surface a zero rests on. billet: its mesh; rotation: work directions to setup directions."""
    if zero.of in ("holding", "jaws", "piece"):
        on = {"holding": "the fixed jaw", "jaws": "the middle between the jaws"}.get(zero.of, zero.item)
        nowhere: Vector = (0.0, 0.0, 0.0)
        return [
            Rest(axis=axis, on=on, state="holding", work_axis=as_vector(row), place=nowhere)
            for axis, row in zip("XYZ", rotation, strict=True)
        ]
    if zero.of == "several":
        return [
            rest
            for one in zero.parts
            for rest in resting(one.zero, part, part_mesh, billet, rotation, stocks)
            if set(rest.axis.lower().split(", ")) & set(one.axes)
        ]
    if zero.of == "rim":
        assert zero.edge is not None
        rim = np.array(edge_of(part, zero.edge, "seat.zero").points)
        rows = zip("XYZ", rotation, strict=True)
        return [
            rest for axis, row in rows for rest in _rest(axis, row, f"the rim E{zero.edge.edge}", rim, stocks)
        ]
    if zero.of == "vertex":
        assert zero.edge is not None
        edge = edge_of(part, zero.edge, "seat.zero")
        point = np.array([edge.points[-1 if zero.end else 0]])
        rows = zip("XYZ", rotation, strict=True)
        return [_vertex(axis, row, edge.number, point, stocks) for axis, row in rows]
    out: list[Rest] = []
    if zero.of == "hole":
        assert zero.hole is not None
        point = np.array(axis_of(part, zero.hole, "seat.zero").axis_point)
        about = _on_face(zero.hole, part, part_mesh, rotation, stocks, across=True)
        both = list(zip("XY", rotation[:2], strict=True))
        late = any(rest.state == "not yet there" for rest in about)
        # Round stock about the same axis: its middle is there, whatever is cut later.
        if late and all(abs(row @ point - _middle(stocks.incoming, row)) < CONCENTRIC_MM for _, row in both):
            about = [rest for axis, row in both for rest in _middle_of_stock(axis, row, stocks)]
        out += about
    if zero.of == "faces":
        for ref in zero.faces:
            out += _on_face(ref, part, part_mesh, rotation, stocks)
    taken = {axis for rest in out for axis in rest.axis.split(", ")} | (
        {"X", "Y"} if zero.of == "hole" else set()
    )
    sides = {"billet": ("billet", billet), "part": ("part", part_mesh)}
    of, mesh = sides.get(zero.of, ("incoming stock", stocks.incoming))
    for axis, row, side in zip("XYZ", rotation, (zero.x, zero.y, zero.z), strict=True):
        signs = () if axis in taken else (side,) if side else (-1, 1)
        out += _sides(axis, row, signs, (of, mesh), stocks)
    return out


def _sides(
    axis: str, row: Floats, signs: tuple[int, ...], of: tuple[str, Mesh], stocks: Stocks
) -> list[Rest]:
    """The sides of something along an axis. The middle of what is not cut yet is found on stock that lies
    about it alike. row: the axis in the work frame; of: what it is called, and its mesh.
    """
    called, mesh = of
    out: list[Rest] = []
    for sign in signs:
        word = SIDES.get((axis, sign), "top" if sign > 0 else "bottom")
        out += _rest(axis, row, f"{word} of the {called}", _on_side(mesh, row * sign), stocks)
    late = len(signs) > 1 and any(rest.state == "not yet there" for rest in out)
    if late and abs(_middle(mesh, row) - _middle(stocks.incoming, row)) < CONCENTRIC_MM:
        return _middle_of_stock(axis, row, stocks)
    return out


def _middle(mesh: Mesh, row: Floats) -> float:
    """Midway between the ends of a mesh along a direction."""
    along = mesh.vertices[np.unique(mesh.triangles)] @ row
    return float(along.min() + along.max()) / 2


def _middle_of_stock(axis: str, row: Floats, stocks: Stocks) -> list[Rest]:
    """Both sides of the incoming stock, that a middle is taken from."""
    return _sides(axis, row, (-1, 1), ("incoming stock", stocks.incoming), stocks)


def _rest(axis: str, row: Floats, on: str, points: Floats, stocks: Stocks) -> list[Rest]:
    """What a coordinate is taken from. row: the axis in the work frame; points: places on it; none where
    there are none.
    """
    if not len(points):
        return []
    state, by = state_of(points, stocks.incoming, stocks.makers)
    after, _ = state_of(points, stocks.outgoing, stocks.makers)
    return [
        Rest(
            axis=axis,
            on=on,
            state=state,
            by=by,
            cut_away=state in ("raw", "cut", "raw and cut") and after == "gone",
            work_axis=as_vector(np.round(row, 9) + 0.0),
            place=as_vector(points.mean(axis=0)),
        )
    ]


def _on_face(
    ref: FaceRef, part: Part, mesh: Mesh, rotation: Floats, stocks: Stocks, across: bool = False
) -> list[Rest]:
    """A face of the part that a zero is taken from: along where it looks, or across its axis."""
    face = face_of(part, ref, "seat.zero")
    way = np.array(face.normal or face.axis or (0, 0, 1))
    axis = "X, Y" if across else "XYZ"[int(np.argmax(np.abs(rotation @ way)))]
    kind = face.kind if face.radius is None else f"{face.kind} Ø{2 * face.radius:.4g}"
    row = rotation[0] if across else way
    return _rest(axis, row, f"face {face.number} ({kind})", on_faces(mesh, [face.number]), stocks)


def _vertex(axis: str, row: Floats, edge: int, point: Floats, stocks: Stocks) -> Rest:
    state, by = state_of(point, stocks.incoming, stocks.makers)
    after, _ = state_of(point, stocks.outgoing, stocks.makers)
    return Rest(
        axis=axis,
        on=f"the end of edge {edge}",
        state=state,
        by=by,
        cut_away=state != "gone" and after == "gone",
        work_axis=as_vector(row),
        place=as_vector(point[0]),
    )


def _spread(mesh: Mesh, rows: Ints) -> Floats:
    """Points spread by area over some triangles; the same every time."""
    corners = mesh.vertices[mesh.triangles[rows]]
    area = triangle_areas(corners)
    if area.sum() <= 0:
        return np.zeros((0, 3))
    rng = np.random.default_rng(5)
    total = np.cumsum(area)
    share = (np.arange(PLACES) + rng.random(PLACES)) / PLACES
    found = np.clip(np.searchsorted(total, share * total[-1]), 0, len(rows) - 1)
    r, s = np.sqrt(rng.random(PLACES)), rng.random(PLACES)
    weights = 0.9 * np.stack([1 - r, r * (1 - s), r * s], axis=1) + 0.1 / 3
    out: Floats = np.einsum("nk,nkd->nd", weights, corners[found])
    return out


def on_faces(mesh: Mesh, faces: list[int]) -> Floats:
    """Points spread over faces of the part, (PLACES, 3); none where they have no area."""
    return _spread(mesh, np.flatnonzero(np.isin(mesh.label, faces)))


def _on_side(mesh: Mesh, way: Floats) -> Floats:
    """Points on what is farthest along a direction: the face there, or the line or corner that sticks out."""
    along = mesh.vertices @ way
    most = along[np.unique(mesh.triangles)].max()
    near = (along[mesh.triangles] > most - SIDE_MM).all(axis=1) & (triangle_normals(mesh) @ way > SQUARE)
    if near.any():
        return _spread(mesh, np.flatnonzero(near))
    return np.asarray(
        mesh.vertices[np.unique(mesh.triangles[(along[mesh.triangles] > most - SIDE_MM).any(axis=1)])]
    )


def state_of(points: Floats, stock: Mesh, makers: dict[int, str]) -> tuple[State, tuple[str, ...]]:
    """State of places in a stock, and who made what lies there."""
    return states_of([points], stock, makers)[0]


def states_of(
    places: list[Floats], stock: Mesh, makers: Mapping[int, Maker]
) -> list[tuple[State, tuple[Maker, ...]]]:
    """The same for several groups of places at once."""
    points = np.concatenate(places)
    away = signed_distance(points, stock)
    there = np.abs(away) < ON_MM
    labels = np.zeros(len(points), np.int64)
    labels[there] = _labels(points[there], stock)
    ends = np.cumsum([len(own) for own in places])[:-1]
    groups = zip(*(np.split(all_of, ends) for all_of in (away, there, labels)), strict=True)
    return [_state(away, labels[there], float(there.mean()), makers) for away, there, labels in groups]


def _state(
    away: Floats, labels: Ints, share: float, makers: Mapping[int, Maker]
) -> tuple[State, tuple[Maker, ...]]:
    """State of one group of places. away: of each from the stock; labels: of those that lie on it, which are
    this share of them.
    """
    if share < SHARE:
        # Above 0 is outside the stock: what was to be there has been cut away.
        return ("gone" if (away > 0).mean() >= 0.5 else "not yet there"), ()
    names, counts = np.unique(labels, return_counts=True)
    real = [int(name) for name, count in zip(names, counts, strict=True) if count >= SHARE * len(labels)]
    by = tuple(makers[name] for name in real if name in makers)
    if 0 in real:  # the billet's own skin
        return ("raw and cut" if by else "raw"), by
    return "cut", by


def _labels(points: Floats, mesh: Mesh) -> Ints:
    """Label of the triangle nearest to each point."""
    locator = vtkStaticCellLocator()
    data = poly_data(mesh)
    locator.SetDataSet(data)
    locator.BuildLocator()
    closest, cell, sub, distance = [0.0, 0.0, 0.0], reference(0), reference(0), reference(0.0)
    out = []
    for point in points:
        locator.FindClosestPoint(point.tolist(), closest, cell, sub, distance)  # type: ignore[call-overload]
        out.append(mesh.label[int(cell)])
    return np.array(out, np.int64)


def resting_findings(
    rests: list[Rest],
    earlier: list[tuple[str, Rest]],
    setup: str,
    called: str,
    cures: tuple[Cure, ...],
    picked: bool,
) -> list[Finding]:
    """Zero on what is gone, not there yet, raw a second time, or cut away by this very setup.

    earlier: what the zeros of the setups before rested on, with their setups' names; called: the zero's name;
    cures: for a zero on what is not there; picked: whether its faces were picked, not a box chosen.
    """
    told = _Told(setup, called)
    gone = [rest for rest in rests if rest.state == "gone"]
    early = [rest for rest in rests if rest.state == "not yet there"]
    away = [rest for rest in rests if rest.cut_away]
    out = told.found(
        "seat.zero_gone", "error", gone, f"{_verb(gone, 'has', 'have')} been cut away before {setup}.", cures
    )
    out += told.found(
        "seat.zero_not_there",
        "error" if picked else "warning",
        early,
        f"{_verb(early, 'is', 'are')} not cut yet when {setup} begins: nothing there can be touched.",
        cures,
    )
    for name, chosen in _raw_again(rests, earlier).items():
        end = (
            f"{_verb(chosen, 'is', 'are')} raw; {name} already located from raw in that direction, so take it"
            f" from what {name} has cut."
        )
        out += told.found("seat.zero_raw_twice", "warning", chosen, end)
    end = f"{setup} itself cuts away: zero cannot be found there again afterwards."
    return [*out, *told.found("seat.zero_cut_away", "note", away, end)]


def _verb(rests: list[Rest], one: str, many: str) -> str:
    return one if len(rests) == 1 else many


def _raw_again(rests: list[Rest], earlier: list[tuple[str, Rest]]) -> dict[str, list[Rest]]:
    """What is raw where an earlier setup has located from raw already, by that setup."""
    raw: dict[str, list[Rest]] = {}
    for rest in rests:
        before = (
            name
            for name, other in earlier
            if other.state in RAW and abs(np.dot(other.work_axis, rest.work_axis)) > 0.7
        )
        if rest.state in RAW and (first := next(before, None)) is not None:
            raw.setdefault(first, []).append(rest)
    return raw


@dataclass(frozen=True)
class _Told:
    """Whose zero is told of."""

    setup: str
    called: str

    def found(
        self, code: str, severity: Severity, chosen: list[Rest], end: str, mend: tuple[Cure, ...] = ()
    ) -> list[Finding]:
        """A finding of some of what the zero rests on; none where that is nothing. end: of its sentence."""
        if not chosen:
            return []
        axes = ", ".join(sorted({axis for rest in chosen for axis in rest.axis.split(", ")}))
        surfaces = ", ".join(dict.fromkeys(rest.on for rest in chosen))
        which = "which" if len(chosen) == 1 else "all of which"
        return [
            Finding(
                code=code,
                severity=severity,
                setup=self.setup,
                stage="seat",
                sentence=f"{self.called} takes {axes} from {surfaces}, {which} {end}",
                place=tuple(rest.place for rest in chosen),
                cures=mend,
            )
        ]
