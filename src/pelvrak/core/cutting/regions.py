"""Which plane region does an operation work on, from picked faces and from the stock?"""

from __future__ import annotations

import math

import manifold3d
import numpy as np
from shapely import Point, Polygon, unary_union
from shapely.geometry.base import BaseGeometry

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, box_corners, corners_of, to_solid, transformed
from pelvrak.core.geometry.part import Face, FaceRef, Part, PartModel, edge_number, face_of
from pelvrak.core.geometry.planar import pieces, region_of, ring_area
from pelvrak.core.geometry.rigid import moved, turned
from pelvrak.core.geometry.several import piece_mesh

SQUARE_COS = 1 - 1e-6
ROUND_STEPS = 48
# A wall's middle lies this near to the section through it, mm: what the part's mesh is off.
ON_WALL_MM = 0.05
# Slivers of a region thinner than twice this are none, mm.
CRACK_MM = 0.002


def loop_points(part: Part, loop: tuple[int, ...], zero_from_work: Floats) -> Floats:
    """Points of one boundary of a face, (n, 3) in the zero frame, each edge walked its way round."""
    points: list[Floats] = []
    for number in loop:
        edge = part.edges[edge_number(number)]
        if not edge.points:
            continue
        walked = np.array(edge.points if number >= 0 else edge.points[::-1])
        points.append(walked[:-1])
    return moved(zero_from_work, np.concatenate(points))


def floor_region(part: Part, face: Face, zero_from_work: Floats, where: str) -> tuple[Polygon, float]:
    """Region of a plane floor and its height. Holes in the floor that go down belong to the region, islands
    do not.

    Raises BadInput when the face is not plane or does not look up.
    """
    if face.normal is None:
        raise BadInput(
            "cut.not_plane", where, f"face {face.number} is not plane", "pick a plane floor or a round wall"
        )
    up = turned(zero_from_work, np.array(face.normal))
    if up[2] < SQUARE_COS:
        raise BadInput(
            "cut.not_square",
            where,
            f"face {face.number} does not look up in this setup",
            "pick a face square to the spindle",
        )
    height = float(moved(zero_from_work, np.array(face.centre))[2])
    outer = loop_points(part, face.loops[0], zero_from_work)
    islands = []
    for loop in face.loops[1:]:
        if _rises(part, face, loop, zero_from_work, height):
            islands.append(loop_points(part, loop, zero_from_work)[:, :2])
    region = Polygon(outer[:, :2], islands)
    if not region.is_valid:
        region = region.buffer(0)
    return region, height


def heights_of(part: Part, face: Face, zero_from_work: Floats) -> tuple[float, float]:
    """Lowest and highest point of a face as the part lies, mm; of balls and rings, of the box they fill."""
    if face.kind not in ("plane", "cylinder", "cone"):
        corners = moved(zero_from_work, box_corners(face.low, face.high))[:, 2]
        return float(corners.min()), float(corners.max())
    points = [np.array(part.edges[number].points) for number in face.edges]
    points = [own for own in points if len(own)]
    if (
        face.kind == "cone"
        and face.axis
        and face.axis_point
        and face.radius is not None
        and face.half_angle_deg
    ):
        tip = np.array(face.axis_point) - np.array(face.axis) * face.radius / np.tan(
            np.radians(face.half_angle_deg)
        )
        inside = np.minimum(tip - face.low, np.array(face.high) - tip).min()
        if inside > -1e-3:
            points.append(tip[None])
    seen = moved(zero_from_work, np.concatenate(points or [np.array([face.low, face.high])]))[:, 2]
    return float(seen.min()), float(seen.max())


def _rises(part: Part, face: Face, loop: tuple[int, ...], zero_from_work: Floats, height: float) -> bool:
    """Whether the wall on this boundary goes up from the floor."""
    edges = {edge_number(walked) for walked in loop}
    for other in part.faces:
        if other.number == face.number:
            continue
        if not edges.isdisjoint(other.edges):
            return heights_of(part, other, zero_from_work)[1] > height + 0.01
    return False


def upright_wall(face: Face, zero_from_work: Floats) -> bool:
    """Whether a face is a plane or hollow round wall that stands upright."""
    if face.normal is not None:
        return bool(abs(turned(zero_from_work, np.array(face.normal))[2]) < 1e-6)
    return bool(
        face.kind == "cylinder"
        and face.axis is not None
        and abs(turned(zero_from_work, np.array(face.axis))[2]) > SQUARE_COS
    )


def bore_region(part: Part, face: Face, zero_from_work: Floats, where: str) -> tuple[Polygon, float, float]:
    """Disc of a hollow cylinder standing upright that goes all the way round, with its bottom and top height.

    Raises BadInput for anything else: a rounded corner is a cylinder too, and no bore.
    """
    if (
        face.kind != "cylinder"
        or not face.hollow
        or face.axis is None
        or face.axis_point is None
        or face.radius is None
    ):
        raise BadInput(
            "cut.not_a_bore", where, f"face {face.number} is not the wall of a bore", "pick a floor or a bore"
        )
    if abs(turned(zero_from_work, np.array(face.axis))[2]) < SQUARE_COS:
        raise BadInput(
            "cut.not_square", where, f"bore {face.number} does not stand upright here", "pick an upright bore"
        )
    if not any(face.number in hole.faces for hole in part.holes):
        goes = "" if face.turn_deg is None else f" of {face.turn_deg:.0f}°"
        raise BadInput(
            "cut.not_a_bore",
            where,
            f"face {face.number} is a rounded corner{goes}, R{face.radius:g}, and no bore",
            "pick the floor, or for a through opening a wall of it with a pocket or an inside outline",
        )
    centre = moved(zero_from_work, np.array(face.axis_point))
    angles = np.linspace(0, 2 * np.pi, max(64, int(face.radius * 24)), endpoint=False)
    ring = centre[:2] + face.radius * np.column_stack([np.cos(angles), np.sin(angles)])
    return Polygon(ring), *heights_of(part, face, zero_from_work)


def opening_region(
    model: PartModel, face: Face, zero_from_work: Floats, where: str
) -> tuple[Polygon, float, float]:
    """The opening that an upright wall is one of: its outline half-way up the wall, with the wall's bottom
    and top height.

    A bore is its own. Raises BadInput where the wall closes nothing in: it is open to a side.
    """
    if face.kind == "cylinder" and any(face.number in hole.faces for hole in model.part.holes):
        return bore_region(model.part, face, zero_from_work, where)
    if not upright_wall(face, zero_from_work):
        raise BadInput(
            "cut.not_square",
            where,
            f"face {face.number} does not stand upright here",
            "pick a floor, or an upright wall",
        )
    low, high = heights_of(model.part, face, zero_from_work)
    rings = to_solid(transformed(model.mesh, zero_from_work)).slice((low + high) / 2).to_polygons()
    # Rings round air go the other way round.
    holes = [Polygon(ring) for ring in rings if len(ring) > 2 and ring_area(ring) < -1e-6]
    middle = moved(
        zero_from_work,
        corners_of(model.mesh, face.number).reshape(-1, 3).mean(axis=0)
        if face.normal is not None
        else _on_wall(model, face),
    )
    near = [(ring.exterior.distance(Point(middle[:2])), ring) for ring in holes]
    closest = min(near, key=lambda one: one[0], default=None)
    if closest is None or closest[0] > ON_WALL_MM:
        raise BadInput(
            "cut.open_side",
            where,
            f"the walls round face {face.number} are open to a side",
            "pick its floor, or an outside outline",
        )
    return closest[1], low, high


def _on_wall(model: PartModel, face: Face) -> Floats:
    """A place on a face's own mesh: the corner nearest to its middle."""
    corners = corners_of(model.mesh, face.number).reshape(-1, 3)
    nearest: Floats = corners[int(np.argmin(np.linalg.norm(corners - corners.mean(axis=0), axis=1)))]
    return nearest


def shadow(solid: manifold3d.Manifold, low: float, high: float = math.inf) -> BaseGeometry:
    """What of a solid lies between two heights, seen along z."""
    between = solid.trim_by_plane([0.0, 0.0, 1.0], low)
    if math.isfinite(high):
        between = between.trim_by_plane([0.0, 0.0, -1.0], -high)
    return region_of(between.project().to_polygons())


def without_cracks(region: BaseGeometry) -> BaseGeometry:
    """A region without slivers of reckoning."""
    return region.buffer(-CRACK_MM).buffer(CRACK_MM)


def is_through(part: Part, face: Face) -> bool:
    """Whether a face is of a hole that goes through."""
    return any(face.number in hole.faces and hole.through for hole in part.holes)


def lowest_of(part: Part, refs: tuple[FaceRef, ...], zero_from_work: Floats, where: str) -> float:
    """The lowest point of some faces, mm. Raises BadInput for one that is not there."""
    return min(heights_of(part, face_of(part, ref, where), zero_from_work)[0] for ref in refs)


def open_round(
    model: PartModel, region: Polygon, bottom: float, zero_from_work: Floats, room: float
) -> BaseGeometry:
    """A floor's region grown by `room` over the sides where no wall of the part stands: there a tool may run
    out, mm.
    """
    solid = to_solid(transformed(model.mesh, zero_from_work))
    stands = without_cracks(shadow(solid, bottom + 0.01))
    grown = region.buffer(room, quad_segs=ROUND_STEPS).difference(stands)
    # Only what hangs together with the floor itself.
    kept = [piece for piece in pieces(grown) if piece.intersection(region).area > 1e-3]
    return unary_union([region, *kept])


def silhouette(mesh: Mesh, zero_from_work: Floats) -> Polygon:
    """Outline of the part seen along the spindle, without its holes; the largest piece."""
    solid = to_solid(transformed(mesh, zero_from_work))
    outline = unary_union(
        [Polygon(p) for p in solid.project().to_polygons() if len(p) > 2 and ring_area(p) > 0]
    )
    largest = max(pieces(outline), key=lambda p: p.area)
    return Polygon(largest.exterior)


def silhouettes(model: PartModel, zero_from_work: Floats, without: tuple[str, ...] = ()) -> list[Polygon]:
    """The outline of the part, or of each of the pieces it consists of. without: pieces left out."""
    if not model.part.pieces:
        return [silhouette(model.mesh, zero_from_work)]
    return [
        silhouette(piece_mesh(model, name), zero_from_work)
        for name in model.part.pieces
        if name not in without
    ]


def offset(shape: BaseGeometry, distance: float) -> BaseGeometry:
    """The shape grown (or, negative, shrunk) by a distance with round corners, mm."""
    return shape.buffer(distance, quad_segs=ROUND_STEPS).simplify(0.0004)


def smallest_inner_radius(region: Polygon) -> float:
    """Largest cutter radius that reaches every corner of the region, mm, to 0.05 mm; by opening."""
    low, high = 0.0, float(np.sqrt(region.area))
    while high - low > 0.05:
        middle = (low + high) / 2
        opened = region.buffer(-middle, quad_segs=16).buffer(middle, quad_segs=16)
        if region.area - opened.area < 0.02 + 0.002 * middle * middle:
            low = middle
        else:
            high = middle
    return low
