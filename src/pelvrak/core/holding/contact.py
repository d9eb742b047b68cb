"""What touches what, over how much area, where and at which angle; and how far is it until two bodies touch?

Contact is found between surfaces, triangle on triangle: exact for plane faces, and for round ones as exact as
their triangles are. Nothing is assumed of the kind of holding.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, triangle_areas, triangle_normals
from pelvrak.core.geometry.rigid import square_to
from pelvrak.core.holding.contact_kernel import at_corners, hanging, meeting, touching, way_to

# Surfaces nearer than this touch, mm: what a hand-tightened vise takes up, and above what the stock's surface
# is off.
NEAR_MM = 0.02
# Triangles that look at each other within this take part in contact; a leaning face then touches along a
# strip. Off the 15° by which a 120° shape leans in a 90° block.
LOOKING_COS = float(np.cos(np.radians(17.0)))
# Contact narrower than this is a line, and shorter too is a point, mm.
LINE_MM = 1.0
# The same for a strip that is all of a round wall on a flat one, or whose gap opens from nothing to all that
# counts as touching and so would go on: a leaning face. A whole narrow face that stands a little off at one
# edge is a face.
WIDEST_LINE_MM, LEANS_AWAY, GOES_ON = 6.0, 0.6, 0.95
# A speck beside a face says nothing that the face does not: it lies in its plane, this near to it, mm,
# looking this alike.
BESIDE_MM, ALIKE_COS = 1.0, 0.9
# Parts of one patch look the same way: their normals rounded to 1/LOOKS, whose limits lie off the angles of
# the trade.
LOOKS = 2.7
JOIN_MM = 1e-3
# A patch is round when its normals stray from their mean by this; below it is what a plane surface is off.
ROUND_SPREAD = 0.03


@dataclass(frozen=True)
class Patch:
    """One place where the work lies against a piece of the holding; mm, mm².

    normal: into the work, where the piece pushes; centre: of the area; kind: face, line or point; length,
    width: of the patch along its own axes, `long` the direction of its length; hull (n, 3): corners of the
    area's convex hull, where contact forces act, and looks (n, 3): the normal at each, which turns where the
    face is round; triangles (t, 3, 3): the area for pictures.
    """

    piece: int
    area: float
    centre: Floats
    normal: Floats
    kind: str
    length: float
    width: float
    long: Floats
    hull: Floats
    looks: Floats
    triangles: Floats


def _corners(mesh: Mesh) -> Floats:
    corners: Floats = mesh.vertices[mesh.triangles]
    return corners


def travel(moving: Mesh, fixed: Mesh, way: Floats, least: float = -1e9) -> tuple[float, Floats] | None:
    """How far `moving` goes along a unit direction until it meets `fixed`, mm, and where on `fixed`.

    None when it passes by. It comes from far away: below 0 when it would have been stopped before where it is
    now. With `least`, what lies further behind than that is already past.
    """
    if len(moving.triangles) == 0 or len(fixed.triangles) == 0:
        return None
    turn = square_to(way)
    ahead = triangle_normals(moving) @ way > 1e-9
    facing = triangle_normals(fixed) @ way < -1e-9
    below = np.ascontiguousarray(_corners(moving)[ahead] @ turn.T)
    above = np.ascontiguousarray(_corners(fixed)[facing] @ turn.T)
    distance, place = way_to(below, above, 1e9, least)
    return None if distance >= 1e9 else (float(distance), turn.T @ place)


@dataclass(frozen=True)
class _Overlay:
    """Where the work's triangles lie on a piece's: fans of triangles (t, 3, 3), their areas, the gap
    at their corners as a share of what counts as touching, and of each what it comes from.

    polygon: number of the polygon a triangle is of; work, theirs: triangles by polygon; normals: into the
    work, by polygon, of the work's own face and of the piece's.
    """

    triangles: Floats
    areas: Floats
    gaps: Floats
    polygon: Ints
    work: Ints
    theirs: Ints
    normals: Floats
    their_normals: Floats


class _Work:
    """The work made ready for being laid against many pieces."""

    def __init__(self, mesh: Mesh) -> None:
        self.corners = _corners(mesh)
        low, high = self.corners.min(axis=1), self.corners.max(axis=1)
        self.low, self.high = low, high
        self.normals = triangle_normals(mesh)
        self.round = mesh.round

    def _near(self, low: Floats, high: Floats) -> Ints:
        """Pairs (k, 2) of a triangle of the work and one of the other whose boxes (low, high) meet."""
        if len(low) == 0 or len(self.low) == 0:
            return np.zeros((0, 2), np.int64)
        own = np.flatnonzero(_meets(self.low, self.high, low.min(axis=0), high.max(axis=0)))
        other = np.flatnonzero(_meets(low, high, self.low.min(axis=0), self.high.max(axis=0)))
        pairs = meeting(self.low[own], self.high[own], low[other], high[other])
        return np.column_stack([own[pairs[:, 0]], other[pairs[:, 1]]])

    def on(self, piece: Mesh, near: float) -> _Overlay | None:
        theirs = _corners(piece)
        pairs = self._near(theirs.min(axis=1) - near, theirs.max(axis=1) + near)
        rows, polygons, counts, gaps = touching(self.corners, theirs, pairs, near, LOOKING_COS)
        fans, owner, away = [], [], []
        for k in range(1, 8):
            more = np.flatnonzero(counts > k + 1)
            fans.append(polygons[more][:, [0, k, k + 1]])
            owner.append(more)
            away.append(gaps[more][:, [0, k, k + 1]])
        triangles, polygon = np.concatenate(fans), np.concatenate(owner)
        areas = triangle_areas(triangles)
        if areas.sum() < 1e-6:
            return None
        return _Overlay(
            triangles,
            areas,
            np.concatenate(away) / near,
            polygon,
            pairs[rows, 0],
            pairs[rows, 1],
            -self.normals[pairs[rows, 0]],
            triangle_normals(piece)[pairs[rows, 1]],
        )


def _meets(low: Floats, high: Floats, from_: Floats, to: Floats) -> NDArray[np.bool_]:
    """Which boxes meet one."""
    return np.asarray(((low <= to) & (high >= from_)).all(axis=1))


def touching_area(work: Mesh, piece: Mesh, near: float) -> float:
    """How much of the work lies within `near` of a piece, mm²."""
    overlay = _Work(work).on(piece, near)
    return 0.0 if overlay is None else float(overlay.areas.sum())


def patches(work: Mesh, pieces: list[Mesh], near: float | list[float] = NEAR_MM) -> list[Patch]:
    """Every contact between the work and the pieces, all in one frame, by piece. near: what counts as
    touching, mm, for all or each.
    """
    ready = _Work(work)
    out: list[Patch] = []
    for number, piece in enumerate(pieces):
        within = near if isinstance(near, float) else near[number]
        overlay = ready.on(piece, within)
        if overlay is not None:
            out += _without_specks(_grouped(number, overlay, ready), within)
    return out


def _without_specks(found: list[Patch], near: float) -> list[Patch]:
    """The patches of one piece but for slivers at the rim of a face, of triangles between the face and what
    it ends at, and for the second facet of a round wall beside the first.
    """
    hosts = [patch for patch in found if patch.kind != "point"]

    def beside(speck: Patch, host: Patch) -> bool:
        if (
            speck.normal @ host.normal < ALIKE_COS
            or abs((speck.centre - host.centre) @ host.normal) > 2 * near
        ):
            return False
        if host.kind == "line":
            reach = (host.hull - host.centre) @ host.long
            along = (speck.hull - host.centre) @ host.long
            if along.min() < reach.min() - BESIDE_MM or along.max() > reach.max() + BESIDE_MM:
                return False
        turn = square_to(host.normal)[:2]
        hull = shapely.MultiPoint((host.hull - host.centre) @ turn.T).convex_hull
        return bool(hull.distance(shapely.MultiPoint((speck.hull - host.centre) @ turn.T)) < BESIDE_MM)

    return [p for p in found if p.kind == "face" or not any(p.area < h.area and beside(p, h) for h in hosts)]


def _grouped(number: int, overlay: _Overlay, ready: _Work) -> list[Patch]:
    """What touches and hangs together and looks one way, as patches.

    Polygons hang together when they are of one triangle, on either side, or share a corner.
    """
    looks = np.rint(overlay.normals * LOOKS).astype(np.int64)
    corner = np.rint(overlay.triangles / JOIN_MM).astype(np.int64)
    which = hanging(overlay.work, overlay.theirs, looks, overlay.polygon, corner)[overlay.polygon]
    by_group = np.argsort(which, kind="stable")
    out = []
    for own in np.split(by_group, np.flatnonzero(np.diff(which[by_group])) + 1):
        area = float(overlay.areas[own].sum())
        if area < 1e-6:
            continue
        triangles, weights = overlay.triangles[own], overlay.areas[own] / area
        spread = float(np.ptp(overlay.gaps[own]))
        # Where one face leans away, an edge lies on a face: it is that face that pushes.
        on_edge = spread > LEANS_AWAY and _at_own_edge(overlay, own, ready.corners)
        normals = (overlay.their_normals if on_edge else overlay.normals)[overlay.polygon[own]]
        flat = float(np.ptp(overlay.their_normals[overlay.polygon[own]], axis=0).max()) < 1e-3
        rolls = (
            flat
            and ready.round is not None
            and float(weights @ ready.round[overlay.work[overlay.polygon[own]]]) > 0.5
        )
        goes_on = spread > LEANS_AWAY and float(np.abs(overlay.gaps[own]).max()) > GOES_ON
        thin = WIDEST_LINE_MM if rolls or goes_on else LINE_MM
        out.append(_patch(number, area, triangles, weights, normals, thin))
    return sorted(out, key=lambda patch: -patch.area)


def _at_own_edge(overlay: _Overlay, rows: Ints, corners: Floats) -> bool:
    """Whether a leaning contact is closest at an edge of the work's triangle, and not within it."""
    row, corner = np.unravel_index(int(np.argmin(overlay.gaps[rows])), (len(rows), 3))
    point = overlay.triangles[rows[row], corner]
    a = corners[overlay.work[overlay.polygon[rows[row]]]]
    b = np.roll(a, -1, axis=0)
    away = np.linalg.norm(np.cross(point - a, b - a), axis=1) / np.linalg.norm(b - a, axis=1)
    return bool(away.min() < 1e-4)


def _patch(
    number: int, area: float, triangles: Floats, weights: Floats, normals: Floats, thin: float
) -> Patch:
    """weights: share of each triangle in the area; normals: of each; thin: what is narrower is a line, and
    shorter too a point.
    """
    centre, normal = weights @ triangles.mean(axis=1), weights @ normals
    normal /= np.linalg.norm(normal)
    turn = square_to(normal)
    flat = (triangles.reshape(-1, 3) - centre) @ turn.T
    # A line through them has their hull, and is made at once.
    hull = shapely.LineString(flat[:, :2]).convex_hull
    rectangle = (
        np.array(hull.minimum_rotated_rectangle.exterior.coords)
        if hull.geom_type == "Polygon"
        else np.array(hull.coords)
    )
    sides = np.diff(rectangle, axis=0)[:2]
    lengths = np.append(np.linalg.norm(sides, axis=1), 0.0)
    length, width = float(lengths.max()), float(lengths[: len(sides)].min()) if len(sides) > 1 else 0.0
    along = sides[int(np.argmax(lengths))] / max(length, 1e-12)
    kind = "point" if length < thin else "line" if width < thin else "face"
    edge = (
        np.array(hull.simplify(0.02 * max(length, 0.1)).exterior.coords)[:-1]
        if hull.geom_type == "Polygon"
        else rectangle
    )
    # Each corner of the hull stands as high as the area does there, and where facets of a round face meet it
    # looks between them.
    heights, looks = at_corners(edge, flat, normals, JOIN_MM)
    looks /= np.linalg.norm(looks, axis=1, keepdims=True)
    strays = weights @ np.linalg.norm(normals - normal, axis=1)
    if strays <= ROUND_SPREAD:
        looks = np.tile(normal, (len(edge), 1))
    return Patch(
        number,
        area,
        centre,
        normal,
        kind,
        length,
        width,
        turn[:2].T @ along,
        np.column_stack([edge, heights]) @ turn + centre,
        looks,
        triangles,
    )
