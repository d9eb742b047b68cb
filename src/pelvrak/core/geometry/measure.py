"""How far apart are two things picked on a part, and at which angle?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen, Part, Vector, as_vector

PARALLEL = 1e-6
Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]


class Target(Frozen):
    """Something picked: a face or an edge by its number, or a point (mm, the part's frame)."""

    kind: Literal["face", "edge", "point"]
    number: Annotated[int, Field(ge=0)] | None = None
    at: tuple[Coordinate, Coordinate, Coordinate] | None = None


class Value(Frozen):
    """One measured value. ends: the two places it lies between, mm."""

    name: str
    value: float
    unit: Literal["mm", "°", "mm²"]
    ends: tuple[Vector, Vector] | None = None


@dataclass(frozen=True)
class _Seen:
    """A target as a point, a line (point and way) or a plane (point and normal)."""

    form: Literal["point", "line", "plane"]
    at: Floats
    way: Floats
    own: list[Value]


def _seen(part: Part, target: Target, where: str) -> _Seen:
    none = np.zeros(3)
    if target.kind == "point":
        if target.at is None:
            raise BadInput("measure.no_point", where, "a point needs its place", "pick it again")
        return _Seen("point", np.array(target.at), none, [])
    number = target.number if target.number is not None else -1
    if target.kind == "face":
        if number >= len(part.faces):
            raise BadInput("measure.no_face", where, f"there is no face {number}", "pick it again")
        face = part.faces[number]
        own = [Value(name="area", value=round(face.area, 4), unit="mm²")]
        if face.radius is not None and face.kind in ("cylinder", "sphere"):
            own.insert(0, Value(name="diameter", value=round(2 * face.radius, 6), unit="mm"))
        if face.kind == "cone" and face.half_angle_deg is not None:
            own.insert(
                0, Value(name="included angle", value=round(2 * abs(face.half_angle_deg), 6), unit="°")
            )
        if face.normal is not None:
            return _Seen("plane", np.array(face.centre), np.array(face.normal), own)
        if face.axis is not None and face.axis_point is not None:
            return _Seen("line", np.array(face.axis_point), np.array(face.axis), own)
        if face.axis_point is not None:
            return _Seen("point", np.array(face.axis_point), none, own)
        raise BadInput(
            "measure.no_form",
            where,
            f"face {number} ({face.kind}) has no plane, axis or centre to measure to",
            "pick a point on it",
        )
    if number >= len(part.edges):
        raise BadInput("measure.no_edge", where, f"there is no edge {number}", "pick it again")
    edge = part.edges[number]
    own = [Value(name="length", value=round(edge.length, 6), unit="mm")]
    if edge.direction is not None:
        return _Seen("line", np.array(edge.points[0]), np.array(edge.direction), own)
    if edge.centre is not None and edge.radius is not None:
        own.insert(0, Value(name="diameter", value=round(2 * edge.radius, 6), unit="mm"))
        return _Seen("point", np.array(edge.centre), none, own)
    return _Seen("point", np.mean(np.array(edge.points), axis=0), none, own)


def measured(part: Part, first: Target, second: Target | None = None) -> list[Value]:
    """What one target is, or how two lie to each other: distance first, then angle and its parts along x, y,
    z.

    Raises BadInput for a target that is not there or has nothing to measure to.
    """
    one = _seen(part, first, "first")
    if second is None:
        return one.own
    two = _seen(part, second, "second")
    order = {"point": 0, "line": 1, "plane": 2}
    if order[one.form] > order[two.form]:
        one, two = two, one
    return _between(one, two)


def _between(one: _Seen, two: _Seen) -> list[Value]:
    """One is no richer a form than two."""
    if one.form == "point":
        foot = two.at
        if two.form == "line":
            foot = two.at + ((one.at - two.at) @ two.way) * two.way
        elif two.form == "plane":
            foot = one.at - ((one.at - two.at) @ two.way) * two.way
        return _distance(one.at, foot)
    cosine = min(1.0, abs(float(one.way @ two.way)))
    if one.form == "line" and two.form == "plane":
        angle = float(np.degrees(np.arcsin(cosine)))
        if cosine > PARALLEL:
            return [Value(name="angle", value=round(angle, 6), unit="°")]
        return [
            *_distance(one.at, one.at - ((one.at - two.at) @ two.way) * two.way),
            Value(name="angle", value=0.0, unit="°"),
        ]
    angle = float(np.degrees(np.arccos(cosine)))
    crossed = np.cross(one.way, two.way)
    if float(np.linalg.norm(crossed)) < PARALLEL:
        if one.form == "plane":
            return [
                *_distance(one.at, one.at - ((one.at - two.at) @ two.way) * two.way),
                Value(name="angle", value=0.0, unit="°"),
            ]
        return [
            *_distance(one.at, two.at + ((one.at - two.at) @ two.way) * two.way),
            Value(name="angle", value=0.0, unit="°"),
        ]
    if one.form == "plane":
        return [Value(name="angle", value=round(angle, 6), unit="°")]
    # Two lines across each other: the feet of their common perpendicular.
    s, t, _ = np.linalg.solve(np.stack([one.way, -two.way, crossed], axis=1), two.at - one.at)
    return [
        *_distance(one.at + s * one.way, two.at + t * two.way),
        Value(name="angle", value=round(angle, 6), unit="°"),
    ]


def _distance(a: Floats, b: Floats) -> list[Value]:
    ends = (as_vector(a), as_vector(b))
    along = np.abs(b - a)
    out = [Value(name="distance", value=round(float(np.linalg.norm(b - a)), 6), unit="mm", ends=ends)]
    return out + [
        Value(name=f"along {name}", value=round(float(d), 6), unit="mm")
        for name, d in zip("xyz", along, strict=True)
    ]
