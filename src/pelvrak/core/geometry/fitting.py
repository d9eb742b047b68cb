"""Which planes, cylinders, cones and balls is a triangle mesh made of?

Triangles in one plane are a facet. Facets that meet at small angles are grown into cylinders, cones
and balls as long as their corners lie on the form; what is left over and large is plane, the rest
has no form of its own. Corners of a mesh that CAD has written lie on the true surface, so forms are
fitted to corners, normals only give the axis.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, edge_triangles, triangle_areas, triangle_normals
from pelvrak.core.geometry.part import Edge, Face, FaceKind, as_vector
from pelvrak.core.geometry.rigid import away_from_line

FLAT_DEG = 0.1
SLIM_MM2 = 1e-9
# Facets of one curved face meet at less than this.
SMOOTH_DEG = 31.0
# Corners may lie this far off a form, of the size of the form or at least in mm.
FIT_SHARE, FIT_MM = 1e-4, 0.005
# A facet of a curved face is smaller than this many times the middle one.
PLANE_TIMES = 6.0
LEAST_FACETS = 3
# Facets of one cylinder span angles that differ by no more than this many times.
EVEN_TIMES = 5.0
ROUNDS = 8


@dataclass
class Form:
    """A fitted form. error: greatest distance of a corner from it, mm."""

    kind: FaceKind
    facts: dict[str, Any]
    error: float


class _Facets:
    """Coplanar patches of a mesh and which of them meet smoothly."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.normals = triangle_normals(mesh)
        corners = mesh.vertices[mesh.triangles]
        self.areas = triangle_areas(corners)
        pairs, one, two = edge_triangles(mesh)
        cosine = np.einsum("ij,ij->i", self.normals[one], self.normals[two])
        flat = cosine > np.cos(np.radians(FLAT_DEG))
        count = len(mesh.triangles)
        # A triangle without area has no normal: it goes with what lies across its longest side.
        slim = self.areas < SLIM_MM2
        length = np.linalg.norm(np.diff(mesh.vertices[pairs], axis=1)[:, 0], axis=1)
        for side in np.argsort(-length):
            a, b = one[side], two[side]
            if slim[a] or slim[b]:
                flat[side] = True
                slim[a if slim[a] else b] = False
        self.count, self.of = connected_components(
            coo_matrix((np.ones(flat.sum()), (one[flat], two[flat])), (count, count)), directed=False
        )
        self.area = np.bincount(self.of, weights=self.areas, minlength=self.count)
        normal = np.stack(
            [
                np.bincount(self.of, weights=self.areas * self.normals[:, d], minlength=self.count)
                for d in range(3)
            ],
            1,
        )
        self.normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
        smooth = ~flat & (cosine > np.cos(np.radians(SMOOTH_DEG)))
        joined = np.unique(np.sort(np.stack([self.of[one[smooth]], self.of[two[smooth]]], 1), axis=1), axis=0)
        self.pairs = joined[joined[:, 0] != joined[:, 1]]
        self.next: list[list[int]] = [[] for _ in range(self.count)]
        for a, b in self.pairs.tolist():
            self.next[a].append(b)
            self.next[b].append(a)
        order = np.argsort(self.of, kind="stable")
        ends = np.searchsorted(self.of[order], np.arange(self.count + 1))
        self.triangles = [order[a:b] for a, b in zip(ends, ends[1:], strict=False)]

    def rows(self, facets: list[int]) -> Ints:
        """Triangles of facets."""
        out: Ints = np.concatenate([self.triangles[f] for f in facets])
        return out

    def points(self, facets: list[int]) -> Floats:
        """Corners of facets."""
        return self.mesh.vertices[np.unique(self.mesh.triangles[self.rows(facets)])]


def labelled(mesh: Mesh) -> tuple[Mesh, list[Form]]:
    """The closed mesh with a face number for each triangle, and the form of each face."""
    facets = _Facets(mesh)
    face_of = np.full(facets.count, -1, np.int64)
    forms: list[Form] = []

    def give(members: list[int], form: Form) -> None:
        face_of[members] = len(forms)
        forms.append(form)

    for group in _connected(facets, np.arange(facets.count)):
        if len(group) == 1:
            give(group, _plane(facets, group))
            continue
        whole = _revolved(facets, group) or _ball(facets, group)
        if whole is not None:
            give(group, whole)
            continue
        for members, form in _grown(facets, group, face_of):
            give(members, form)
        left = np.array([f for f in group if face_of[f] < 0], int)
        middle = float(np.median(facets.area[left])) if len(left) else 0.0
        for f in left.tolist():
            if facets.area[f] > PLANE_TIMES * middle or all(face_of[n] >= 0 for n in facets.next[f]):
                give([f], _plane(facets, [f]))
        for rest in _connected(facets, left[face_of[left] < 0]):
            curved = _revolved(facets, rest) or _ball(facets, rest)
            if curved is None and len(rest) < 2 * LEAST_FACETS:
                for f in rest:
                    give([f], _plane(facets, [f]))
            else:
                give(rest, curved or Form("other", {}, 0.0))
    return Mesh(mesh.vertices, mesh.triangles, face_of[facets.of]), forms


def _connected(facets: _Facets, chosen: Ints) -> list[list[int]]:
    """Groups of the chosen facets joined by smooth edges, largest facet first in each."""
    place = np.full(facets.count, -1, np.int64)
    place[chosen] = np.arange(len(chosen))
    pairs = place[facets.pairs]
    pairs = pairs[(pairs >= 0).all(axis=1)]
    count, group = connected_components(
        coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(chosen), len(chosen))),
        directed=False,
    )
    order = np.lexsort((-facets.area[chosen], group))
    ends = np.searchsorted(group[order], np.arange(count + 1))
    return [chosen[order[a:b]].tolist() for a, b in zip(ends, ends[1:], strict=False)]


def _allowed(size: float) -> float:
    return max(FIT_MM, FIT_SHARE * size)


def _plane(facets: _Facets, members: list[int]) -> Form:
    rows = facets.rows(members)
    normal = (facets.areas[rows, None] * facets.normals[rows]).sum(axis=0)
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    along = facets.points(members) @ normal
    return Form("plane", {"normal": as_vector(np.round(normal, 9) + 0.0)}, float(np.ptp(along) / 2))


def _grown(facets: _Facets, group: list[int], face_of: Ints) -> list[tuple[list[int], Form]]:
    """Cylinders in a group that is no one form: grown from each facet, largest first."""
    out: list[tuple[list[int], Form]] = []
    taken = set(np.flatnonzero(face_of >= 0).tolist())
    for seed in group:
        if seed in taken:
            continue
        best: tuple[list[int], Form] | None = None
        for first in facets.next[seed]:
            if first in taken:
                continue
            axis = np.cross(facets.normal[seed], facets.normal[first])
            axis /= max(float(np.linalg.norm(axis)), 1e-30)
            for grown in (
                _grow(facets, seed, first, _snapped(axis), taken),
                _grow_cone(facets, seed, first, taken),
            ):
                if grown is not None and (best is None or len(grown[0]) > len(best[0])):
                    best = grown
        if best is not None:
            out.append(best)
            taken |= set(best[0])
    return out


def _grow(
    facets: _Facets, seed: int, first: int, axis: Floats, taken: set[int]
) -> tuple[list[int], Form] | None:
    """All facets of the cylinder along an axis that two neighbouring facets may belong to."""
    members, seen = [seed, first], {seed, first}
    waiting = [*facets.next[seed], *facets.next[first]]
    circle: tuple[Floats, float] | None = None
    usual = 0.0
    frame = across(axis)
    while waiting:
        facet = waiting.pop()
        if facet in seen or facet in taken or abs(facets.normal[facet] @ axis) > 0.01:
            continue
        tried = [*members, facet]
        if circle is None:  # the first three settle which circle
            centre, radius = circle_through(facets.points(tried) @ frame.T)
            chords = [_chord(facets, one, frame, centre, radius) for one in tried]
            # A plane between two equal strips lies on a circle too: chords of one cylinder are about alike.
            if min(chords) <= 0 or max(chords) > EVEN_TIMES * min(chords):
                continue
            circle, usual = (centre, radius), float(np.median(chords))
        elif not 0 < _chord(facets, facet, frame, *circle) < EVEN_TIMES * usual:
            continue
        seen.add(facet)
        members.append(facet)
        waiting += facets.next[facet]
    form = _cylinder(facets, members, axis) if circle is not None else None
    return (members, form) if form is not None else None


def _grow_cone(facets: _Facets, seed: int, first: int, taken: set[int]) -> tuple[list[int], Form] | None:
    """All facets whose normals lie on the circle that those of three facets in a row do, if that is a
    cone.
    """
    best: tuple[list[int], Form] | None = None
    for second in facets.next[first]:
        if second in taken or second == seed:
            continue
        a, b, c = (facets.normal[f] for f in (seed, first, second))
        axis = np.cross(b - a, c - b)
        length = float(np.linalg.norm(axis))
        if length < 1e-5:
            continue
        axis = axis / length
        lean = float(a @ axis)
        if not 0.02 < abs(lean) < 0.999:
            continue
        members: list[int] = []
        for _ in range(ROUNDS):  # three neighbours tell the axis roughly, all that follow it better
            wider = _leaning(facets, seed, axis, lean, taken)
            if len(wider) <= len(members):
                break
            members = wider
            normals, weight = (
                np.asarray(facets.normal[members], float),
                np.asarray(facets.area[members], float),
            )
            axis = _least(normals, weight, weight @ normals / weight.sum())
            lean = float(weight @ (normals @ axis) / weight.sum())
        if len(members) > LEAST_FACETS and (best is None or len(members) > len(best[0])):
            form = _revolved(facets, members)
            if form is not None:
                best = (members, form)
    return best


def _leaning(facets: _Facets, seed: int, axis: Floats, lean: float, taken: set[int]) -> list[int]:
    """Facets joined to the seed whose normals make the same angle with an axis."""
    members, seen, waiting = [seed], {seed}, list(facets.next[seed])
    while waiting:
        facet = waiting.pop()
        if facet in seen or facet in taken or abs(float(facets.normal[facet] @ axis) - lean) > 0.01:
            continue
        seen.add(facet)
        members.append(facet)
        waiting += facets.next[facet]
    return members


def _chord(facets: _Facets, facet: int, frame: Floats, centre: Floats, radius: float) -> float:
    """Degrees a facet spans as a chord of a circle: corners on it, normal halfway between their directions; 0
    if it is none.
    """
    points = facets.points([facet])
    flat = points @ frame.T - centre
    if float(np.abs(np.linalg.norm(flat, axis=1) - radius).max()) > _allowed(
        float(np.ptp(points, axis=0).max())
    ):
        return 0.0
    normal = facets.normal[facet] @ frame.T
    way = normal * np.sign(normal @ flat.mean(axis=0))
    angles = np.degrees(np.arctan2(way[0] * flat[:, 1] - way[1] * flat[:, 0], flat @ way))
    low, high = float(angles.min()), float(angles.max())
    fits = high - low < 2 * SMOOTH_DEG and abs(high + low) / 2 < 0.05 + 0.25 * (high - low)
    return high - low if fits else 0.0


def _revolved(facets: _Facets, members: list[int]) -> Form | None:
    """A cylinder or a cone through all corners: the facets' normals lie on a circle about the axis."""
    if len(members) < LEAST_FACETS:
        return None
    normals, weight = np.asarray(facets.normal[members], float), np.asarray(facets.area[members], float)
    mean = weight @ normals / weight.sum()
    flat = _cylinder(facets, members, _least(normals, weight, np.zeros(3)))
    if flat is not None or len(members) < LEAST_FACETS + 1:
        return flat
    axis = _least(normals, weight, mean)
    lean = float(weight @ (normals @ axis) / weight.sum())
    if np.abs(normals @ axis - lean).max() > 0.02 or not 0.02 < abs(lean) < 0.999:
        return None
    return _cone(facets, members, axis)


def _least(normals: Floats, weight: Floats, mean: Floats) -> Floats:
    """Direction in which normals vary least."""
    away = normals - mean
    vectors: Floats = np.linalg.eigh((away * weight[:, None]).T @ away)[1]
    return vectors[:, 0]


def across(axis: Floats) -> Floats:
    """Two unit ways square to an axis and to each other, (2, 3)."""
    one = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    one /= np.linalg.norm(one)
    return np.array([one, np.cross(axis, one)])


def circle_through(flat: Floats) -> tuple[Floats, float]:
    """Centre and radius of the circle (sphere) through points, least squares (Coope, JOTA 76, 1993)."""
    dimensions = flat.shape[1]
    mean = flat.mean(axis=0)
    away = flat - mean
    solved = np.linalg.lstsq(
        np.hstack([2 * away, np.ones((len(flat), 1))]), (away**2).sum(axis=1), rcond=None
    )[0]
    centre = solved[:dimensions]
    return centre + mean, float(np.sqrt(max(solved[dimensions] + centre @ centre, 0.0)))


def _cylinder(facets: _Facets, members: list[int], axis: Floats) -> Form | None:
    if len(members) < LEAST_FACETS or np.abs(facets.normal[members] @ axis).max() > 0.01:
        return None
    points = facets.points(members)
    axis = _snapped(axis)
    frame = across(axis)
    flat = points @ frame.T
    centre, radius = circle_through(flat)
    error = float(np.abs(np.linalg.norm(flat - centre, axis=1) - radius).max())
    if error > _allowed(float(np.ptp(points, axis=0).max())):
        return None
    chords = [_chord(facets, facet, frame, centre, radius) for facet in members]
    if min(chords) <= 0 or max(chords) > EVEN_TIMES * float(np.median(chords)):
        return None
    rows = facets.rows(members)
    middles = facets.mesh.vertices[facets.mesh.triangles[rows]].mean(axis=1) @ frame.T - centre
    outwards = np.einsum("ij,ij->i", middles, facets.normals[rows] @ frame.T)
    if outwards.min() < 0 < outwards.max():
        return None
    return Form("cylinder", _facts(facets, rows, axis, centre @ frame, radius), error)


def _facts(facets: _Facets, rows: Ints, axis: Floats, on_axis: Floats, radius: float) -> dict[str, Any]:
    """The facts of a form of revolution; the axis point is beside its middle."""
    points = facets.mesh.vertices[np.unique(facets.mesh.triangles[rows])]
    middle = on_axis + (points @ axis).mean() * axis - (on_axis @ axis) * axis
    away = facets.mesh.vertices[facets.mesh.triangles[rows]].mean(axis=1) - middle
    away -= np.outer(away @ axis, axis)
    hollow = bool(np.einsum("i,ij,ij->", facets.areas[rows], away, facets.normals[rows]) < 0)
    return {
        "axis": as_vector(axis),
        "axis_point": as_vector(middle),
        "radius": radius,
        "hollow": hollow,
        "turn_deg": _turn(facets.mesh.vertices[facets.mesh.triangles[rows]], axis, middle),
    }


def _turn(corners: Floats, axis: Floats, centre: Floats) -> float:
    """How far round an axis triangles reach, degrees; 360 when they close."""
    flat = (corners - centre) @ across(axis).T
    angle = np.degrees(np.arctan2(flat[..., 1], flat[..., 0]))
    unwound = angle[:, :1] + (angle - angle[:, :1] + 180) % 360 - 180
    low, high = unwound.min(axis=1), unwound.max(axis=1)
    low, high = low % 360, high - low + low % 360
    order = np.argsort(low)
    covered, reach, first = 0.0, low[order[0]], low[order[0]]
    for a, b in zip(low[order], high[order], strict=True):
        covered += max(0.0, b - max(a, reach))
        reach = max(reach, b)
    covered -= max(0.0, reach - 360 - first)  # what reaches over the start is there twice
    return 360.0 if covered > 359.5 else round(float(covered), 6)


def _cone(facets: _Facets, members: list[int], axis: Floats) -> Form | None:
    """Facets' planes meet in a point of the axis; the corners, which lie on the cone, give its slope."""
    rows = facets.rows(members)
    corners = facets.mesh.vertices[facets.mesh.triangles[rows, 0]]
    apex = np.linalg.lstsq(
        facets.normals[rows], np.einsum("ij,ij->i", facets.normals[rows], corners), rcond=None
    )[0]
    axis = _snapped(axis)
    points = facets.points(members) - apex
    along = points @ axis
    if along.mean() < 0:
        axis, along = -axis, -along
    away = np.linalg.norm(points - np.outer(along, axis), axis=1)
    slope, begin = np.polyfit(along, away, 1)
    error = float(np.abs(away - slope * along - begin).max() * np.cos(np.arctan(slope)))
    if error > _allowed(float(np.ptp(points, axis=0).max())) or slope < 1e-3:
        return None
    middle = float(along.mean())
    facts = _facts(facets, rows, axis, apex, slope * middle + begin)
    facts["axis_point"] = as_vector(apex + middle * axis)
    facts["half_angle_deg"] = float(np.degrees(np.arctan(slope)))
    return Form("cone", facts, error)


def _ball(facets: _Facets, members: list[int]) -> Form | None:
    if len(members) < 2 * LEAST_FACETS:
        return None
    points = facets.points(members)
    centre, radius = circle_through(points)
    error = float(np.abs(np.linalg.norm(points - centre, axis=1) - radius).max())
    if error > _allowed(radius) or radius > 50 * float(np.ptp(points, axis=0).max()):
        return None
    rows = facets.rows(members)
    middles = facets.mesh.vertices[facets.mesh.triangles[rows]].mean(axis=1) - centre
    inwards = np.einsum("ij,ij->i", middles, facets.normals[rows]) < 0
    if inwards.any() != inwards.all():
        return None
    return Form(
        "sphere", {"axis_point": as_vector(centre), "radius": radius, "hollow": bool(inwards[0])}, error
    )


def _snapped(axis: Floats) -> Floats:
    """An axis within a few seconds of arc of x, y or z is that one; pointing up its largest coordinate."""
    largest = int(np.argmax(np.abs(axis)))
    axis = axis * np.sign(axis[largest])
    exact = np.eye(3)[largest]
    return exact if float(np.linalg.norm(axis - exact)) < 2e-4 else np.asarray(axis / np.linalg.norm(axis))


def faces_of(mesh: Mesh, forms: list[Form]) -> tuple[list[Face], list[Edge]]:
    """Faces and edges of a labelled mesh."""
    corners = mesh.vertices[mesh.triangles]
    areas = triangle_areas(corners)
    edges, loops = _boundaries(mesh, len(forms))
    order = np.argsort(mesh.label, kind="stable")
    ends = np.searchsorted(mesh.label[order], np.arange(len(forms) + 1))
    faces = []
    for number, form in enumerate(forms):
        rows = order[ends[number] : ends[number + 1]]
        points = corners[rows].reshape(-1, 3)
        area = float(areas[rows].sum())
        centre = areas[rows] @ corners[rows].mean(axis=1) / max(area, 1e-30)
        faces.append(
            Face(
                number=number,
                kind=form.kind,
                area=area,
                centre=as_vector(centre),
                low=as_vector(points.min(axis=0)),
                high=as_vector(points.max(axis=0)),
                fit_error_mm=round(form.error, 6),
                loops=tuple(loops[number]),
                **form.facts,
            )
        )
    return faces, edges


def _boundaries(mesh: Mesh, count: int) -> tuple[list[Edge], list[list[tuple[int, ...]]]]:
    """Edges between faces, and each face's boundaries made of them, longest first."""
    sides = np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]], mesh.triangles[:, [2, 0]]])
    owner = np.tile(mesh.label, 3)
    across = {(a, b): int(f) for (a, b), f in zip(sides.tolist(), owner.tolist(), strict=True)}
    following: list[dict[int, list[tuple[int, int]]]] = [{} for _ in range(count)]
    for (a, b), f in across.items():
        other = across.get((b, a), -1)
        if other != f:
            following[f].setdefault(a, []).append((b, other))
    edges: list[Edge] = []
    known: dict[tuple[int, ...], int] = {}
    loops: list[list[tuple[int, ...]]] = [[] for _ in range(count)]
    for f in range(count):
        found: list[tuple[float, tuple[int, ...]]] = []
        while following[f]:
            start = min(following[f])
            walk, neighbours, at = [start], [], start
            while True:
                ways = following[f][at]
                at, other = ways.pop()
                if not ways:
                    del following[f][walk[-1]]
                walk.append(at)
                neighbours.append(other)
                if at == start or at not in following[f]:
                    break
            found.append(_loop(mesh, walk, neighbours, edges, known))
        loops[f] = [numbers for _, numbers in sorted(found, key=lambda one: -one[0])]
    return edges, loops


def _loop(
    mesh: Mesh, walk: list[int], neighbours: list[int], edges: list[Edge], known: dict[tuple[int, ...], int]
) -> tuple[float, tuple[int, ...]]:
    """One boundary as edge numbers, and its length; an edge both faces share is made once."""
    n = len(neighbours)
    breaks = [i for i in range(n) if neighbours[i] != neighbours[i - 1]]
    if breaks:
        shift = breaks[0]
    else:  # one neighbour all round: begin at the least corner, as the neighbour will
        shift = int(np.argmin(walk[:-1]))
        breaks = [shift]
    ring = walk[:-1]
    numbers, length = [], 0.0
    ends = [*breaks[1:], breaks[0] + n]
    for first, last in zip(breaks, ends, strict=True):
        run = tuple(ring[(first + i) % n] for i in range(last - first + 1))
        length += float(np.linalg.norm(np.diff(mesh.vertices[list(run)], axis=0), axis=1).sum())
        if run[::-1] in known:
            numbers.append(-known[run[::-1]] - 1)
            continue
        known[run] = len(edges)
        numbers.append(len(edges))
        edges.append(_edge(mesh.vertices[list(run)], len(edges)))
    return length, tuple(numbers)


def _edge(points: Floats, number: int) -> Edge:
    length = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum())
    told = tuple(as_vector(p) for p in points)
    way = points[-1] - points[0]
    span = float(np.linalg.norm(way))
    if span > 1e-9:
        way = way / span
        if float(away_from_line(points, points[0], way).max()) < FIT_MM / 5:
            return Edge(
                number=number,
                kind="line",
                length=length,
                points=(told[0], told[-1]),
                direction=as_vector(way),
            )
    if len(points) >= 5:
        mean = points.mean(axis=0)
        frame = np.linalg.svd(points - mean)[2]
        flat = (points - mean) @ frame.T
        centre, radius = circle_through(flat[:, :2])
        error = max(
            np.abs(np.linalg.norm(flat[:, :2] - centre, axis=1) - radius).max(), np.abs(flat[:, 2]).max()
        )
        if error < _allowed(radius):
            middle = mean + centre @ frame[:2]
            return Edge(
                number=number,
                kind="circle",
                length=length,
                points=told,
                centre=as_vector(middle),
                radius=radius,
            )
    return Edge(number=number, kind="other", length=length, points=told)
