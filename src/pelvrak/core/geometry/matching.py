"""Which face of a new revision of a part is which of the old?"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from scipy.optimize import linear_sum_assignment

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Edge, Face, Frozen, Part, Vector, as_vector, middle_of

State = Literal["kept", "moved", "resized", "unsure", "lost"]
# What counts as the same: places and sizes (mm), directions (cosine), and areas (share).
PLACE_MM, COSINE, AREA_SHARE = 0.01, 0.99999, 1e-3
# A face is not looked for farther away than this share of the part's diagonal, or with a size this much
# different.
FAR_SHARE, SIZE_SHARE = 0.2, 0.6
# A second choice nearly as good as the first makes a match unsure.
UNSURE = 1.25
IMPOSSIBLE = 1e6


class Match(Frozen):
    """What became of one face or edge of the old part.

    new: its number in the new part, None when lost. moved: how far, mm (planes along their normal,
    cylinders across their axis). size: diameter, area (mm²) or length (mm) before and after, where changed.
    """

    old: int
    new: int | None
    state: State
    moved: Vector | None = None
    size: tuple[float, float] | None = None
    sentence: str


def match_faces(old: Part, new: Part) -> list[Match]:
    """Every face of the old part with what it is in the new one; both in the same frame."""
    cost = np.full((len(old.faces), len(new.faces)), IMPOSSIBLE)
    far = FAR_SHARE * float(np.linalg.norm(old.size))
    for kind in {face.kind for face in old.faces}:
        rows = [f for f in old.faces if f.kind == kind]
        columns = [f for f in new.faces if f.kind == kind]
        if columns:
            cost[np.ix_([f.number for f in rows], [f.number for f in columns])] = _face_costs(
                rows, columns, far
            )
    return _matched(cost, lambda i, j: _judged_face(old.faces[i], new.faces[j]))


def match_edges(old: Part, new: Part) -> list[Match]:
    """Every edge of the old part with what it is in the new one."""
    cost = np.full((len(old.edges), len(new.edges)), IMPOSSIBLE)
    far = FAR_SHARE * float(np.linalg.norm(old.size))
    for kind in {edge.kind for edge in old.edges}:
        rows = [e for e in old.edges if e.kind == kind and e.points]
        columns = [e for e in new.edges if e.kind == kind and e.points]
        if rows and columns:
            cost[np.ix_([e.number for e in rows], [e.number for e in columns])] = _edge_costs(
                rows, columns, far
            )
    return _matched(cost, lambda i, j: _judged_edge(old.edges[i], new.edges[j]))


def _matched(cost: Floats, judged: Any) -> list[Match]:
    """The cheapest one-to-one assignment, each pair judged; a pair with a rival nearly as good is unsure."""
    out: dict[int, Match] = {}
    rows, columns = linear_sum_assignment(cost) if cost.size else ([], [])
    for i, j in zip(rows, columns, strict=True):
        if cost[i, j] >= 1:
            continue
        match = judged(int(i), int(j))
        rival = np.delete(cost[i], j).min(initial=IMPOSSIBLE)
        if match.state != "kept" and rival < 1 and rival < UNSURE * cost[i, j] + 0.02:
            match = match.model_copy(
                update={"state": "unsure", "sentence": f"{match.sentence}, or another just as near"}
            )
        out[int(i)] = match
    return [
        out.get(i, Match(old=i, new=None, state="lost", sentence="nothing like it in the new part"))
        for i in range(cost.shape[0])
    ]


def _directions(faces: list[Face]) -> Floats:
    return np.array([face.normal or face.axis or (0.0, 0.0, 0.0) for face in faces])


def _face_costs(old: list[Face], new: list[Face], far: float) -> Floats:
    """0 for the same, up to 1 for the farthest that may still be meant."""
    apart = np.linalg.norm(_places(old)[:, None] - _places(new)[None], axis=2) / far
    one, two = _directions(old), _directions(new)
    along = one @ two.T
    if old[0].normal is None:
        along = np.abs(along)
    directed = (np.linalg.norm(one, axis=1) > 0)[:, None] & (np.linalg.norm(two, axis=1) > 0)[None]
    turned = np.where(directed, np.degrees(np.arccos(np.clip(along, -1, 1))), 0.0) / 10
    one_size, two_size = (np.array([face.radius or 0.0 for face in faces]) for faces in (old, new))
    grown = (
        np.abs(one_size[:, None] - two_size[None])
        / np.maximum(np.maximum(one_size[:, None], two_size[None]), 1e-9)
        / SIZE_SHARE
    )
    areas = [np.sqrt([face.area for face in faces]) for faces in (old, new)]
    spread = np.abs(areas[0][:, None] - areas[1][None]) / np.maximum(areas[0][:, None], areas[1][None])
    hollow = [np.array([face.hollow for face in faces]) for faces in (old, new)]
    out: Floats = (
        apart + turned + grown + 0.4 * spread + np.where(hollow[0][:, None] != hollow[1][None], 2.0, 0.0)
    )
    return out


def _places(faces: list[Face]) -> Floats:
    return np.array([face.centre for face in faces])


def _judged_face(old: Face, new: Face) -> Match:
    shift = np.subtract(new.centre, old.centre)
    if old.normal is not None:
        moved = float(shift @ np.array(old.normal)) * np.array(old.normal)
    elif old.axis is not None and old.axis_point is not None and new.axis_point is not None:
        axis = np.array(old.axis)
        off = np.subtract(new.axis_point, old.axis_point)
        moved = off - (off @ axis) * axis
    else:
        moved = shift
    size: tuple[float, float] | None = None
    told = []
    if float(np.linalg.norm(moved)) > PLACE_MM:
        told.append(f"moved {float(np.linalg.norm(moved)):.3f} mm")
    if old.radius is not None and new.radius is not None and abs(old.radius - new.radius) > PLACE_MM / 2:
        size = (round(2 * old.radius, 6), round(2 * new.radius, 6))
        told.append(f"Ø{size[0]:g} became Ø{size[1]:g}")
    elif abs(old.area - new.area) > AREA_SHARE * old.area:
        size = (round(old.area, 4), round(new.area, 4))
        told.append(f"its area went from {size[0]:.1f} to {size[1]:.1f} mm²")
    direction = (old.normal or old.axis), (new.normal or new.axis)
    if direction[0] and direction[1] and abs(float(np.dot(direction[0], direction[1]))) < COSINE:
        angle = np.degrees(np.arccos(min(1.0, abs(float(np.dot(direction[0], direction[1]))))))
        told.append(f"turned {angle:.2f}°")
    return _told(old.number, new.number, moved, size, told)


def _told(old: int, new: int, moved: Floats, size: tuple[float, float] | None, told: list[str]) -> Match:
    away = float(np.linalg.norm(moved)) > PLACE_MM or any(word.startswith("turned") for word in told)
    state: State = "moved" if away else "resized" if size else "kept"
    return Match(
        old=old,
        new=new,
        state=state,
        moved=as_vector(np.round(moved, 6) + 0.0) if away else None,
        size=size,
        sentence=", ".join(told) or "as it was",
    )


def _edge_costs(old: list[Edge], new: list[Edge], far: float) -> Floats:
    middles = [np.array([middle_of(edge) for edge in edges]) for edges in (old, new)]
    apart = np.linalg.norm(middles[0][:, None] - middles[1][None], axis=2) / far
    ways = [np.array([edge.direction or (0.0, 0.0, 0.0) for edge in edges]) for edges in (old, new)]
    along = np.abs(ways[0] @ ways[1].T)
    turned = np.where(along > 0, np.degrees(np.arccos(np.clip(along, -1, 1))), 0.0) / 10
    lengths = [np.array([edge.length for edge in edges]) for edges in (old, new)]
    spread = np.abs(lengths[0][:, None] - lengths[1][None]) / np.maximum(
        lengths[0][:, None], lengths[1][None]
    ).clip(1e-9)
    out: Floats = apart + turned + 0.5 * spread
    return out


def _judged_edge(old: Edge, new: Edge) -> Match:
    shift = np.subtract(middle_of(new), middle_of(old))
    told = []
    if old.direction is not None:
        along = np.array(old.direction)
        shift = shift - (shift @ along) * along
    size = None
    if float(np.linalg.norm(shift)) > PLACE_MM:
        told.append(f"moved {float(np.linalg.norm(shift)):.3f} mm")
    if abs(old.length - new.length) > PLACE_MM:
        size = (round(old.length, 4), round(new.length, 4))
        told.append(f"its length went from {size[0]:.2f} to {size[1]:.2f} mm")
    if (
        old.direction is not None
        and new.direction is not None
        and abs(float(np.dot(old.direction, new.direction))) < COSINE
    ):
        told.append("turned")
    return _told(old.number, new.number, shift, size, told)


def matching_facts(old: Part, new: Part) -> dict[str, Any]:
    """The matching of a revision in plain values: counts by state, faces that are not as they were, faces
    that are new.
    """
    matches = match_faces(old, new)
    states = [match.state for match in matches]
    taken = {match.new for match in matches}
    return {
        "size": {"old": old.size, "new": new.size},
        "volume_mm3": {"old": old.volume_mm3, "new": new.volume_mm3},
        "faces": {state: states.count(state) for state in ("kept", "moved", "resized", "unsure", "lost")},
        "changed": [
            {
                **match.model_dump(mode="json"),
                "kind": old.faces[match.old].kind,
                "at": old.faces[match.old].centre,
            }
            for match in matches
            if match.state != "kept"
        ],
        "new_faces": [
            {"new": face.number, "kind": face.kind, "at": face.centre}
            for face in new.faces
            if face.number not in taken
        ],
    }
