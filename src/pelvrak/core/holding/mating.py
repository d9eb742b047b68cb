"""Where does a fixture stand that is put face on face, axis on axis, or edge on edge, with others?"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field
from scipy.optimize import least_squares
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial.transform import Rotation

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.fitting import across, circle_through
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, edge_triangles, triangle_normals
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import moved, rigid, snapped, turned
from pelvrak.core.holding.fixture import Ident

Offset = Annotated[float, Field(ge=-3000, le=3000)]
# What mates may be off at the end, mm and as a share of a right angle; how little it matters where a fixture
# stands along what they leave free.
MET_MM, FREE_SHARE = 1e-4, 1e-4
# A search goes the nearest way: it is begun from several turns about the first way, degrees, and gone on with
# where little is missing.
STARTS_DEG, WORTH_IT = (0.0, 90.0, -90.0, 180.0, 45.0, -45.0, 135.0, -135.0), 0.5
# Facets that fold by less than this are one round wall; a wall is round when its normals stray by more.
SMOOTH_COS, PLANE_COS = float(np.cos(np.radians(15.0))), float(np.cos(np.radians(1.0)))
NAMED = {"plane": "a plane", "axis": "a round wall", "edge": "an edge"}
# Of an edge its end is meant where it was picked in the outer quarter of its length; it is picked from within
# so far, and its pieces join, mm.
END_SHARE, EDGE_MM, JOINS_MM = 0.25, 15.0, 1e-3
# A picked place lies on the solid to within this, mm.
PICKED_MM = 0.5


class Feature(Frozen):
    """A plane, an axis or a straight edge of a fixture, in its own frame, mm.

    kind: plane, axis or edge; at: a point of it; way: unit, out of the plane, along the axis or the edge;
    radius: of the round wall the axis is of, mm; hollow: whether that is a hole.
    """

    kind: Literal["plane", "axis", "edge"]
    at: Vector
    way: Vector
    radius: Annotated[float, Field(ge=0, le=3000)] = 0.0
    hollow: bool = False


class Mate(Frozen):
    """One fixture on another: two planes face to face, or two axes or two edges in one line.

    mine: of the fixture that is placed; item: the other, or the table; theirs: of that. offset: between the
    planes, or along the line, mm; turn_deg: about it, where no other mate says.
    """

    mine: Feature
    item: Ident = "table"
    theirs: Feature
    offset: Offset = 0.0
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


def placed(mates: tuple[Mate, ...], frames: dict[str, Floats], called: str) -> Floats:
    """layout_from_item, 4×4: the first mate's points meet, all others are met as well.

    frames: layout_from_item of the others; called: the item, for what is said. Raises BadInput "hold.mate"
    where they contradict each other, or a plane is to meet an axis.
    """
    there = [_there(mate, frames, called) for mate in mates]
    first, (at, way) = mates[0], there[0]
    mine = np.array(first.mine.way)
    target = -way if first.mine.kind == "plane" else way * (1.0 if mine @ way >= 0 else -1.0)
    turn = Rotation.from_rotvec(np.radians(first.turn_deg) * way).as_matrix() @ _aligned(mine, target)
    start = rigid(turn, at + first.offset * way - turn @ np.array(first.mine.at))
    if len(mates) == 1:
        return rigid(snapped(turn), start[:3, 3])

    best, off = start, np.inf
    for about in STARTS_DEG:
        spun = Rotation.from_rotvec(np.radians(about) * way).as_matrix()
        pose, missed = _met(mates, there, rigid(spun @ turn, at + spun @ (start[:3, 3] - at)))
        if missed < off:
            best, off = pose, missed
        if off <= MET_MM:
            return rigid(snapped(best[:3, :3]), best[:3, 3])
    raise BadInput(
        "hold.mate",
        "hold.items",
        f"{called} cannot be put against all that was picked: {off:.3f} mm are missing",
        "take one of the faces back, or give it an offset",
    )


def _met(mates: tuple[Mate, ...], there: list[tuple[Floats, Floats]], start: Floats) -> tuple[Floats, float]:
    """The pose near a first one that meets all mates best, and what it is off by, mm."""

    def pose_of(step: Floats) -> Floats:
        return rigid(Rotation.from_rotvec(step[:3]).as_matrix() @ start[:3, :3], start[:3, 3] + step[3:])

    def missing(step: Floats) -> Floats:
        pose = pose_of(step)
        return np.concatenate([_missing(mate, pose, *one) for mate, one in zip(mates, there, strict=True)])

    def held_back(step: Floats) -> Floats:
        return np.concatenate([missing(step), FREE_SHARE * step])

    exact: dict[str, Any] = {"xtol": 1e-13, "ftol": 1e-13, "gtol": 1e-13, "method": "lm", "max_nfev": 400}
    found = least_squares(held_back, np.zeros(6), **exact)
    # Once more without what held it back along what is free.
    last = least_squares(missing, found.x, **exact).x if found.cost < WORTH_IT else found.x
    return pose_of(last), float(np.abs(missing(last)).max())


def _there(mate: Mate, frames: dict[str, Floats], called: str) -> tuple[Floats, Floats]:
    """Point and way of the other's feature in the layout."""
    if mate.mine.kind != mate.theirs.kind:
        raise BadInput(
            "hold.mate",
            "hold.items",
            f"{called}: {NAMED[mate.mine.kind]} was picked on one, {NAMED[mate.theirs.kind]} on the other",
            "pick two planes, two round walls, or two edges",
        )
    frame = np.eye(4) if mate.item == "table" else frames[mate.item]
    return moved(frame, np.array(mate.theirs.at)), turned(frame, np.array(mate.theirs.way))


def _aligned(one: Floats, other: Floats) -> Floats:
    """The least rotation that takes one unit way to another."""
    axis, cosine = np.cross(one, other), float(one @ other)
    sine = float(np.linalg.norm(axis))
    if sine < 1e-12:
        if cosine > 0:
            return np.eye(3)
        # Half a turn, about whatever lies square to it, upright where it can.
        up = np.array([0.0, 0, 1]) if abs(one[2]) < 0.9 else np.array([1.0, 0, 0])
        square = up - (up @ one) * one
        axis, sine = square / np.linalg.norm(square), 1.0
        return np.asarray(Rotation.from_rotvec(np.pi * axis).as_matrix())
    return np.asarray(Rotation.from_rotvec(np.arctan2(sine, cosine) * axis / sine).as_matrix())


def _missing(mate: Mate, pose: Floats, at: Floats, way: Floats) -> Floats:
    """What a mate is off by: ways as shares, places in mm."""
    looks, point = turned(pose, np.array(mate.mine.way)), moved(pose, np.array(mate.mine.at))
    if mate.mine.kind == "plane":
        return np.array([*(looks + way), (point - at) @ way - mate.offset])
    off = point - at
    return np.concatenate([np.cross(looks, way), off - (off @ way) * way])


def feature_at(mesh: Mesh, at: Floats, way: Floats) -> Feature:
    """The plane or round wall of a solid at a picked place; way: the normal of the facet that was met.

    Raises BadInput "hold.no_feature" where there is neither.
    """
    normals = triangle_normals(mesh)
    corners = mesh.vertices[mesh.triangles]
    off = np.abs(np.einsum("ij,ij->i", at - corners[:, 0], normals))
    facing = (normals @ way > PLANE_COS) & (off < PICKED_MM)
    inside = facing & _over(corners, normals, at)
    if not inside.any():
        raise BadInput("hold.no_feature", "at", "nothing of it is there", "pick a face in the picture")
    seed = int(np.flatnonzero(inside)[np.argmin(off[inside])])
    region = _smooth(mesh, normals, seed)
    looks = normals[region]
    if (looks @ normals[seed] > PLANE_COS).all():
        return Feature(
            kind="plane", at=_told(at - ((at - corners[seed, 0]) @ looks[0]) * looks[0]), way=_told(looks[0])
        )
    return _round(mesh, region, looks, at)


def edge_at(mesh: Mesh, at: Floats) -> Feature:
    """The straight edge of a solid nearest to a picked place; its point is the end near it, or its middle.

    Raises BadInput "hold.no_feature" where there is none near.
    """
    pairs, one, two = edge_triangles(mesh)
    normals = triangle_normals(mesh)
    folds = np.einsum("ij,ij->i", normals[one], normals[two]) < SMOOTH_COS
    ends = mesh.vertices[pairs[folds]]
    if len(ends):
        start, along = ends[:, 0], ends[:, 1] - ends[:, 0]
        share = np.einsum("ij,ij->i", at - start, along) / np.maximum((along**2).sum(axis=1), 1e-12)
        away = np.linalg.norm(start + np.clip(share, 0, 1)[:, None] * along - at, axis=1)
        near = int(np.argmin(away))
    if not len(ends) or away[near] > EDGE_MM:
        raise BadInput("hold.no_feature", "at", "no straight edge is near", "pick closer to an edge")
    way = along[near] / np.linalg.norm(along[near])
    # All of it: what goes on straight at either end.
    offs = ends - start[near]
    line = (np.linalg.norm(offs - (offs @ way)[:, :, None] * way, axis=2) < MET_MM * 10).all(axis=1)
    spans = np.sort((offs @ way)[line], axis=1)
    low, high = 0.0, float(np.linalg.norm(along[near]))
    for _ in range(len(spans)):
        joins = (spans[:, 0] <= high + JOINS_MM) & (spans[:, 1] >= low - JOINS_MM)
        wider = float(spans[joins, 0].min(initial=low)), float(spans[joins, 1].max(initial=high))
        if wider == (low, high):
            break
        low, high = wider
    where = ((at - start[near]) @ way - low) / (high - low)
    point = low if where < END_SHARE else high if where > 1 - END_SHARE else (low + high) / 2
    return Feature(kind="edge", at=_told(start[near] + point * way), way=_told(way))


def _told(values: Floats) -> Vector:
    return as_vector(np.round(values, 9) + 0.0)


def _over(corners: Floats, normals: Floats, at: Floats) -> np.ndarray:
    """Triangles (n, 3, 3) that a place lies within, seen square to them, with a little to spare."""
    out = np.ones(len(corners), bool)
    for i in range(3):
        edge = corners[:, (i + 1) % 3] - corners[:, i]
        inward = np.cross(normals, edge)
        length = np.maximum(np.linalg.norm(inward, axis=1), 1e-12)
        out &= np.einsum("ij,ij->i", at - corners[:, i], inward) / length > -PICKED_MM
    return out


def _smooth(mesh: Mesh, normals: Floats, seed: int) -> Ints:
    """Triangles that go on from one without a fold: plane, or as long as they turn about one axis."""
    _, one, two = edge_triangles(mesh)
    on = np.einsum("ij,ij->i", normals[one], normals[two]) > SMOOTH_COS
    size = len(normals)
    _, piece = connected_components(
        coo_matrix((np.ones(int(on.sum()), np.int8), (one[on], two[on])), (size, size)), directed=False
    )
    return np.flatnonzero(piece == piece[seed])


def _round(mesh: Mesh, region: Ints, looks: Floats, at: Floats) -> Feature:
    """The axis that all normals of a wall are square to, through the middle of its circle."""
    _, sizes, ways = np.linalg.svd(looks)
    axis = ways[2]
    if sizes[2] > 0.02 * sizes[0]:
        raise BadInput(
            "hold.no_feature",
            "at",
            "this face is neither plane nor a round wall",
            "pick a plane face, a hole or a pin",
        )
    near = np.rint(axis)
    axis = near if np.abs(axis - near).max() < 1e-6 else axis
    one, two = sides = across(axis)
    middle, radius = circle_through(mesh.vertices[np.unique(mesh.triangles[region])] @ sides.T)
    foot = middle[0] * one + middle[1] * two + (at @ axis) * axis
    inward = float(np.einsum("ij,ij->i", looks, mesh.vertices[mesh.triangles[region, 0]] - foot).sum()) < 0
    return Feature(kind="axis", at=_told(foot), way=_told(axis), radius=round(radius, 6), hollow=inward)
