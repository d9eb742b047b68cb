"""What is to be made of a part: pockets, slots, steps, openings, bosses, fillets, chamfers, and from where is
each reached?
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from pelvrak.core.geometry.adjacency import Adjacent, adjacency
from pelvrak.core.geometry.holes import HoleFeature, hole_features, smallest_inner_radius
from pelvrak.core.geometry.mesh import Floats, corners_by_label
from pelvrak.core.geometry.part import Face, Frozen, PartModel, Vector, as_vector, edge_number
from pelvrak.core.geometry.visibility import REACHED, Caster, tool_directions, visible

RecessKind = Literal["pocket", "slot", "open pocket", "open slot", "step", "opening", "through slot"]
# Directions within this (cosine of the angle to square) are square to each other.
SQUARE = 0.02
SAME_MM = 1e-3
# What leans more than this (sine) from upright is no wall.
STEEP = 0.71
SAME_PLANE_DEG = 0.01
CHAMFER_DEG = (20.0, 70.0)
# A chamfer is narrower than this share of its length.
NARROW = 0.34


class Recess(Frozen):
    """Something cut into the part along a direction.

    floor: its plane face, None where it goes through. walls: the faces round it. opens: from the floor out
    (towards the spindle). depth: floor to the top of its highest wall, mm. width: between its facing walls,
    or its slot's, mm. corner_radius: tightest upright hollow corner, mm; 0 where two walls meet sharp, so
    that no turning tool gets in. floor_radius: tightest fillet between floor and walls, mm, None without one.
    islands: bosses on its floor. sides: directions that reach all of it.
    """

    kind: RecessKind
    floor: int | None
    walls: tuple[int, ...]
    fillets: tuple[int, ...]
    opens: Vector
    depth: float
    width: float | None
    corner_radius: float | None
    floor_radius: float | None
    islands: int
    sides: tuple[Vector, ...]


class Boss(Frozen):
    """Something that stands on a face. diameter: of a round one, mm."""

    walls: tuple[int, ...]
    stands_on: int
    height: float
    diameter: float | None
    sides: tuple[Vector, ...]


class Fillet(Frozen):
    """Faces that round an edge with one radius; hollow: an inner corner, which the tool must get into."""

    radius: float
    hollow: bool
    faces: tuple[int, ...]
    sides: tuple[Vector, ...]


class Chamfer(Frozen):
    """A narrow sloping face along an edge; width across it, mm; angle to the wider of its neighbours."""

    face: int
    width: float
    angle_deg: float
    sides: tuple[Vector, ...]


class Features(Frozen):
    """All of a part. directions: those that were asked; reach: for each face, which of them (by number) reach
    all of it.

    hidden: faces with a place that no direction reaches, and the share of each that some direction does.
    """

    holes: tuple[HoleFeature, ...]
    recesses: tuple[Recess, ...]
    bosses: tuple[Boss, ...]
    fillets: tuple[Fillet, ...]
    chamfers: tuple[Chamfer, ...]
    directions: tuple[Vector, ...]
    reach: tuple[tuple[int, ...], ...]
    hidden: tuple[tuple[int, float], ...]


@dataclass
class _Walk:
    """The part with its folds, as the feature rules ask for it."""

    model: PartModel
    folds_of: dict[int, list[Adjacent]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.faces = self.model.part.faces
        self.by_edge: dict[int, Adjacent] = {}
        for fold in adjacency(self.model):
            self.by_edge[fold.edge] = fold
            self.folds_of.setdefault(fold.one, []).append(fold)
            self.folds_of.setdefault(fold.two, []).append(fold)
        caster = Caster(self.model.mesh)
        self.holes = hole_features(self.model, caster)
        self.hole_faces = {f for hole in self.holes for stage in hole.stages for f in stage.faces}
        self.directions = tool_directions(self.model.part)
        self.share, self.any = visible(self.model, self.directions, caster)

    @cached_property
    def corners(self) -> list[Floats]:
        """Mesh vertices of each face."""
        return corners_by_label(self.model.mesh, len(self.faces))

    def span(self, faces: Iterable[int], way: Floats) -> tuple[float, float]:
        """Least and greatest place of faces along a direction."""
        along = np.concatenate([self.corners[f] @ way for f in faces])
        return float(along.min()), float(along.max())

    def sides(self, faces: Iterable[int]) -> tuple[Vector, ...]:
        """Directions that reach all of the faces."""
        rows = self.share[list(faces)]
        return tuple(d for i, d in enumerate(self.directions) if (rows[:, i] >= REACHED).all())

    def neighbours(self, number: int) -> set[int]:
        """The two faces that meet in an edge of a loop."""
        fold = self.by_edge.get(edge_number(number))
        return {fold.one, fold.two} if fold else set()

    def floors(self) -> list[list[Face]]:
        """Plane faces, those that go on in one plane taken together."""
        planes = [face for face in self.faces if face.normal is not None and face.loops]
        place = {face.number: i for i, face in enumerate(planes)}
        pairs = [
            (place[fold.one], place[fold.two])
            for fold in self.by_edge.values()
            if fold.kind == "smooth"
            and abs(fold.angle_deg) < SAME_PLANE_DEG
            and fold.one in place
            and fold.two in place
        ]
        if not planes:
            return []
        a, b = (np.array([pair[i] for pair in pairs], int) for i in (0, 1))
        count, group = connected_components(
            coo_matrix((np.ones(len(a)), (a, b)), (len(planes), len(planes))), directed=False
        )
        out: list[list[Face]] = [[] for _ in range(count)]
        for face, g in zip(planes, group.tolist(), strict=True):
            out[g].append(face)
        return out

    def seen_from(self, face: int, way: Floats) -> bool:
        """Whether most of a face is seen along a direction, one of those asked."""
        return any(
            np.dot(d, way) > 0.9999 and self.share[face, i] > 0.5 for i, d in enumerate(self.directions)
        )

    def from_beside(self, fold: Adjacent) -> bool:
        """Whether a tool square to one of two faces makes the sharp inner edge between them, as floor and
        wall.
        """
        for floor, wall in ((fold.one, fold.two), (fold.two, fold.one)):
            up = self.faces[floor].normal
            if up is None or not self.upright(self.faces[wall], np.array(up)):
                continue
            for i, way in enumerate(self.directions):
                if (
                    np.dot(way, up) > 0.9999
                    and self.share[floor, i] >= REACHED
                    and self.share[wall, i] >= REACHED
                ):
                    return True
        return False

    def upright(self, face: Face, way: Floats) -> bool:
        """Whether a wall runs along a direction."""
        if face.normal is not None:
            return bool(abs(np.dot(face.normal, way)) < SQUARE)
        return face.kind == "cylinder" and bool(abs(abs(np.dot(face.axis or (0, 0, 0), way)) - 1) < SQUARE**2)

    def is_fillet(self, face: Face) -> bool:
        """Whether a face rounds an edge: a part of a cylinder, torus or ball that runs on smoothly on two
        sides.
        """
        if face.kind not in ("cylinder", "torus", "sphere") or face.number in self.hole_faces:
            return False
        if face.kind == "cylinder" and (face.turn_deg or 0) > 181:
            return False
        smooth = {
            fold.other(face.number) for fold in self.folds_of.get(face.number, []) if fold.kind == "smooth"
        }
        return len(smooth) >= 2


def features_of(model: PartModel) -> Features:
    """Holes, recesses, bosses, fillets and chamfers of a part, each with the directions it is reached
    from.
    """
    walk = _Walk(model)
    recesses, bosses = _on_floors(walk)
    openings = _openings(walk, recesses)
    through = {wall for opening in openings for wall in opening.walls}
    recesses = [recess for recess in recesses if recess.floor not in through] + openings
    reach = tuple(tuple(np.flatnonzero(row >= REACHED).tolist()) for row in walk.share)
    return Features(
        holes=tuple(walk.holes),
        recesses=tuple(sorted(recesses, key=lambda r: (r.opens, r.depth, r.walls))),
        bosses=tuple(bosses),
        fillets=tuple(_fillets(walk, {w for r in recesses for w in r.walls})),
        chamfers=tuple(_chamfers(walk)),
        directions=tuple(walk.directions),
        reach=reach,
        hidden=tuple(
            (f.number, round(float(walk.any[f.number]), 3))
            for f in model.part.faces
            if walk.any[f.number] < REACHED
        ),
    )


def _risen(
    walk: _Walk, floor: Face, loop: tuple[int, ...], floors: frozenset[int] | set[int] = frozenset()
) -> tuple[list[int], list[int], float]:
    """What rises from a floor along one of its boundaries: (walls, fillets at its foot, share of the
    boundary's length).
    """
    assert floor.normal
    up = np.array(floor.normal)
    level = walk.span([floor.number], up)[1]
    walls: list[int] = []
    fillets: list[int] = []
    along = total = 0.0
    for number in loop:
        edge = edge_number(number)
        length = walk.model.part.edges[edge].length
        total += length
        fold = walk.by_edge.get(edge)
        if fold is None:
            continue
        beyond = walk.faces[fold.two if fold.one == floor.number or fold.one in floors else fold.one]
        leans = beyond.normal is not None and abs(float(np.dot(beyond.normal, up))) > STEEP
        if leans or walk.span([beyond.number], up)[1] < level + SAME_MM:
            continue
        if fold.kind == "smooth" and beyond.hollow and walk.is_fillet(beyond):
            along += length
            fillets.append(beyond.number)
            for onward in walk.folds_of.get(beyond.number, []):
                wall = walk.faces[onward.other(beyond.number)]
                if onward.kind == "smooth" and walk.upright(wall, up):
                    walls.append(wall.number)
        elif fold.kind == "concave":
            along += length
            walls.append(beyond.number)
    return list(dict.fromkeys(walls)), list(dict.fromkeys(fillets)), along / total if total else 0.0


def _on_floors(walk: _Walk) -> tuple[list[Recess], list[Boss]]:
    recesses, bosses = [], []
    for members in walk.floors():
        floor = max(members, key=lambda face: face.area)
        assert floor.normal
        up = np.array(floor.normal)
        level = walk.span([floor.number], up)[1]
        own = {face.number for face in members}
        islands = 0
        for loop in (loop for face in members for loop in face.loops[1:]):
            walls, fillets, share = _risen(walk, floor, loop)
            if share > 0.98 and walls:
                islands += 1
                height = walk.span(walls, up)[1] - level
                bosses.append(
                    Boss(
                        walls=tuple(walls),
                        stands_on=floor.number,
                        height=round(height, 6),
                        diameter=_round_diameter(walk, walls),
                        sides=walk.sides([*walls, *fillets]),
                    )
                )
        rim = tuple(
            number
            for face in members
            for number in face.loops[0]
            if not walk.neighbours(number) or walk.neighbours(number) - own
        )
        walls, fillets, share = _risen(walk, floor, rim, own)
        walls = [w for w in walls if w not in own]
        if not walls or set(walls) <= walk.hole_faces or not walk.seen_from(floor.number, up):
            continue
        depth = walk.span(walls, up)[1] - level
        width = _facing(walk, walls, up)
        kind: RecessKind
        if share > 0.98:
            kind = "slot" if _is_slot(walk, walls, up, width) else "pocket"
        elif width is not None:
            kind = "open slot" if len(walls) == 2 else "open pocket"
        else:
            kind = "step" if _one_way(walk, walls) else "open pocket"
        radii = [_tube(walk.faces[f]) for f in fillets]
        recesses.append(
            Recess(
                kind=kind,
                floor=floor.number,
                walls=tuple(walls),
                fillets=tuple(fillets),
                opens=as_vector(up),
                depth=round(depth, 6),
                width=width,
                corner_radius=_corner(walk, walls, up),
                floor_radius=round(min(radii), 6) if radii else None,
                islands=islands,
                sides=walk.sides([floor.number, *walls, *fillets]),
            )
        )
    return _seen_once(walk, recesses), bosses


def _seen_once(walk: _Walk, recesses: list[Recess]) -> list[Recess]:
    """A ledge is a floor with a wall from above and the same from beside: it is told with its larger face as
    floor.
    """
    out: list[Recess] = []
    for recess in sorted(recesses, key=lambda r: -walk.faces[r.floor or 0].area):
        if not recess.kind.startswith(("open", "step")) or not any(
            recess.floor in other.walls and other.floor in recess.walls for other in out
        ):
            out.append(recess)
    return out


def _openings(walk: _Walk, known: list[Recess]) -> list[Recess]:
    """Recesses that go through: rings of walls along one direction round an inner boundary of a face."""
    out: list[Recess] = []
    closed = [recess for recess in known if not recess.kind.startswith(("open", "step"))]
    taken = {wall for recess in closed for wall in (*recess.walls, *recess.fillets)} | walk.hole_faces
    for face in walk.faces:
        for loop in face.loops[1:]:
            folds_here = [walk.by_edge.get(edge_number(number)) for number in loop]
            if not all(fold is not None and fold.kind == "convex" for fold in folds_here):
                continue
            walls = list(dict.fromkeys(fold.other(face.number) for fold in folds_here if fold is not None))
            up = _along_all(walk, face, walls)
            if up is None or set(walls) & taken:
                continue
            taken |= set(walls)
            low, high = walk.span(walls, up)
            width = _facing(walk, walls, up)
            out.append(
                Recess(
                    kind="through slot" if _is_slot(walk, walls, up, width) else "opening",
                    floor=None,
                    walls=tuple(walls),
                    fillets=(),
                    opens=as_vector(up),
                    depth=round(high - low, 6),
                    width=width,
                    corner_radius=_corner(walk, walls, up),
                    floor_radius=None,
                    islands=0,
                    sides=walk.sides(walls),
                )
            )
    return out


def _along_all(walk: _Walk, mouth: Face, walls: list[int]) -> Floats | None:
    """The direction all walls run along: square to a plane mouth, else where two of the walls cross."""
    faces = [walk.faces[wall] for wall in walls]
    if mouth.normal is not None:
        up = np.array(mouth.normal)
    else:
        planes = [np.array(face.normal) for face in faces if face.normal is not None]
        crossed = [np.cross(planes[0], other) for other in planes[1:] if abs(planes[0] @ other) < 0.99]
        if len(walls) < 3 or not crossed:
            return None
        up = crossed[0] / np.linalg.norm(crossed[0])
    return up if all(walk.upright(face, up) for face in faces) else None


def _round_diameter(walk: _Walk, walls: list[int]) -> float | None:
    faces = [walk.faces[w] for w in walls]
    first = faces[0]
    if (
        all(f.kind == "cylinder" and not f.hollow and f.radius == first.radius for f in faces)
        and first.radius
    ):
        return round(2 * first.radius, 6) if sum(f.turn_deg or 0 for f in faces) > 359.9 else None
    return None


def _facing(walk: _Walk, walls: list[int], up: Floats) -> float | None:
    """Least distance between two plane walls that look at each other, mm."""
    planes = [walk.faces[w] for w in walls if walk.faces[w].normal is not None]
    best: float | None = None
    for i, one in enumerate(planes):
        for two in planes[i + 1 :]:
            if np.dot(one.normal or (), two.normal or ()) > -0.9999:
                continue
            gap = float(np.dot(np.subtract(two.centre, one.centre), one.normal or ()))
            if gap > SAME_MM and (best is None or gap < best):
                best = gap
    return None if best is None else round(best, 6)


def _is_slot(walk: _Walk, walls: list[int], up: Floats, width: float | None) -> bool:
    """Two facing walls closed by two round ends as wide as they are apart."""
    if width is None:
        return False
    faces = [walk.faces[w] for w in walls]
    planes = [f for f in faces if f.normal is not None]
    ends = [f for f in faces if f.kind == "cylinder" and f.hollow and f.radius is not None]
    wide = all(abs(2 * (f.radius or 0) - width) < 0.01 for f in ends)
    return len(planes) == 2 and len(ends) >= 2 and len(ends) + 2 == len(faces) and wide


def _one_way(walk: _Walk, walls: list[int]) -> bool:
    """Whether all walls look the same way."""
    normals = [np.array(walk.faces[w].normal) for w in walls if walk.faces[w].normal is not None]
    return len(normals) == len(walls) and all(n @ normals[0] > 0.999 for n in normals)


def _corner(walk: _Walk, walls: list[int], up: Floats) -> float | None:
    """The tightest hollow upright corner among walls: radius, 0 where two meet sharp, None without
    corners.
    """
    radii = [
        walk.faces[w].radius or 0.0
        for w in walls
        if walk.faces[w].kind == "cylinder" and walk.faces[w].hollow and (walk.faces[w].turn_deg or 0) < 359
    ]
    own = set(walls)
    for wall in walls:
        for fold in walk.folds_of.get(wall, []):
            if fold.kind == "concave" and fold.other(wall) in own:
                points = np.array(walk.model.part.edges[fold.edge].points)
                way = points[-1] - points[0]
                if abs(way @ up) > 0.999 * np.linalg.norm(way) > 0 and not walk.from_beside(fold):
                    radii.append(0.0)
    return round(min(radii), 6) if radii else None


def _tube(face: Face) -> float:
    """Radius with which a fillet rounds its edge, mm."""
    return float((face.minor_radius if face.kind == "torus" else face.radius) or 0.0)


def _fillets(walk: _Walk, walls: set[int]) -> list[Fillet]:
    """Rounded edges; the upright corners of a recess are told with it."""
    chosen = [
        face for face in walk.faces if walk.is_fillet(face) and not (face.hollow and face.number in walls)
    ]
    number = {face.number: i for i, face in enumerate(chosen)}
    pairs = [
        (number[fold.one], number[fold.two])
        for fold in walk.by_edge.values()
        if fold.kind == "smooth"
        and fold.one in number
        and fold.two in number
        and _alike(walk.faces[fold.one], walk.faces[fold.two])
    ]
    if not chosen:
        return []
    a, b = (np.array([p[i] for p in pairs], int) for i in (0, 1))
    _, group = connected_components(
        coo_matrix((np.ones(len(a)), (a, b)), (len(chosen), len(chosen))), directed=False
    )
    out = []
    for g in range(group.max() + 1):
        faces = [chosen[i] for i in np.flatnonzero(group == g)]
        numbers = tuple(face.number for face in faces)
        out.append(
            Fillet(
                radius=round(_tube(faces[0]), 6),
                hollow=faces[0].hollow,
                faces=numbers,
                sides=walk.sides(numbers),
            )
        )
    return sorted(out, key=lambda f: (not f.hollow, f.radius, f.faces))


def _alike(one: Face, two: Face) -> bool:
    return abs(_tube(one) - _tube(two)) < SAME_MM and (
        one.hollow == two.hollow or "torus" in (one.kind, two.kind)
    )


def _chamfers(walk: _Walk) -> list[Chamfer]:
    out = []
    for face in walk.faces:
        cone = face.kind == "cone" and face.number not in walk.hole_faces
        if not (cone or face.normal is not None) or not face.loops or len(face.loops[0]) > 4:
            continue
        leaning = [
            fold
            for fold in walk.folds_of.get(face.number, [])
            if fold.kind == "convex" and CHAMFER_DEG[0] < fold.angle_deg < CHAMFER_DEG[1]
        ]
        if len(leaning) != 2:
            continue
        length = min(fold.length for fold in leaning)
        width = face.area / max(max(fold.length for fold in leaning), 1e-9)
        if width < NARROW * length:
            wider = max(leaning, key=lambda fold: walk.faces[fold.other(face.number)].area)
            out.append(
                Chamfer(
                    face=face.number,
                    width=round(width, 4),
                    angle_deg=round(wider.angle_deg, 3),
                    sides=walk.sides([face.number]),
                )
            )
    return out


def _a(kind: str) -> str:
    return f"An {kind}" if kind.startswith("o") else f"A {kind}"


def part_facts(model: PartModel) -> dict[str, Any]:
    """What a part is, in plain values: unit, box, volume, area, faces by kind, features, problems; mm."""
    part = model.part
    kinds = sorted({face.kind for face in part.faces})
    found = features_of(model)
    return {
        "unit": part.unit,
        "low": part.low,
        "high": part.high,
        "size": part.size,
        "volume_mm3": part.volume_mm3,
        "area_mm2": part.area_mm2,
        "faces": {kind: sum(face.kind == kind for face in part.faces) for kind in kinds},
        "holes": [hole.model_dump(mode="json") for hole in found.holes],
        "pockets": [recess.model_dump(mode="json") for recess in found.recesses],
        "bosses": [boss.model_dump(mode="json") for boss in found.bosses],
        "fillets": [fillet.model_dump(mode="json") for fillet in found.fillets],
        "chamfers": [chamfer.model_dump(mode="json") for chamfer in found.chamfers],
        "directions": list(found.directions),
        "smallest_inner_radius_mm": smallest_inner_radius(part),
        "problems": problems(model, found),
    }


def problems(model: PartModel, found: Features) -> list[dict[str, Any]]:
    """What will trouble whoever makes the part: {code, sentence, faces}."""
    out: list[dict[str, Any]] = []
    for recess in found.recesses:
        if recess.corner_radius == 0.0:
            out.append(
                {
                    "code": "part.sharp_corner",
                    "faces": list(recess.walls),
                    "sentence": (
                        f"{_a(recess.kind)} {recess.depth:.2f} mm deep has walls that meet sharp: no turning"
                        " tool makes that corner."
                    ),
                }
            )
    if found.hidden:
        out.append(
            {
                "code": "part.hidden",
                "faces": [face for face, _ in found.hidden],
                "sentence": (
                    f"{len(found.hidden)} faces have places that no straight tool reaches from any of the"
                    f" {len(found.directions)} directions asked."
                ),
            }
        )
    for hole in found.holes:
        if not hole.sides:
            out.append(
                {
                    "code": "part.hole_unreached",
                    "faces": [f for stage in hole.stages for f in stage.faces],
                    "sentence": (
                        f"A hole Ø{hole.diameter:.3g} cannot be drilled from either end: a stage inside is"
                        " wider, or nothing leads to it straight."
                    ),
                }
            )
    worst = max((face.fit_error_mm or 0.0 for face in model.part.faces), default=0.0)
    if worst > 0.05:
        out.append(
            {
                "code": "part.coarse",
                "faces": [],
                "sentence": (
                    f"The mesh lies up to {worst:.3f} mm from the forms found in it: export it finer."
                ),
            }
        )
    return out
