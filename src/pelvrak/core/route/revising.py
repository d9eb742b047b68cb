"""What becomes of a plan when its part gets a new revision? Every reference is matched by geometry, none in
silence.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator
from typing import Any

from pelvrak.core.geometry.matching import Match, State, match_edges, match_faces
from pelvrak.core.geometry.part import Frozen, Part, as_vector, middle_of
from pelvrak.core.route.plan import Plan, plan_from


class Reference(Frozen):
    """One place of the plan that points at the part. path: JSON pointer; what: as people say it."""

    path: str
    what: str
    kind: str
    old: int
    match: Match


class Revising(Frozen):
    """What a new revision does to a plan. faces: how many of the part's are in which state; grown: size
    before and after, mm.
    """

    references: tuple[Reference, ...]
    faces: dict[State, int]
    new_faces: int
    old_size: tuple[float, float, float]
    new_size: tuple[float, float, float]
    same: bool


def _found(value: Any, path: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Everything in a plan document that is a reference to a face or an edge."""
    if isinstance(value, dict):
        if "at" in value and ("face" in value or "edge" in value):
            yield path, value
        else:
            for key, inner in value.items():
                yield from _found(inner, f"{path}/{key}")
    elif isinstance(value, list):
        for i, inner in enumerate(value):
            yield from _found(inner, f"{path}/{i}")


_WORDS = {
    "seat": "seat",
    "up": "up",
    "x": "X",
    "zero": "work zero",
    "hole": "hole",
    "face": "face",
    "edge": "edge",
    "faces": "face",
    "from": "from",
    "to": "to",
    "floor": "floor",
    "zeros": "zero",
    "callouts": "tolerance",
    "as_came": "left as it came",
}


def _said(document: dict[str, Any], path: str) -> str:
    """A pointer as people say it: OP10 seat up."""
    words: list[str] = []
    at: Any = document
    for step in path.strip("/").split("/"):
        at = at[int(step)] if isinstance(at, list) else at[step]
        if step.isdigit():
            name = at.get("name") if isinstance(at, dict) else None
            words.append(str(name) if name else f"{int(step) + 1}")
        elif step not in ("setups", "operations"):
            words.append(_WORDS.get(step, step.replace("_", " ")))
    return " ".join(words)


def revising(plan: Plan, old: Part, new: Part) -> Revising:
    """Every reference of the plan with what it is in the new part."""
    document = plan.model_dump(mode="json")
    faces, edges = match_faces(old, new), match_edges(old, new)
    references = []
    for path, ref in _found(document, ""):
        kind = "face" if "face" in ref else "edge"
        number, matches = ref[kind], faces if kind == "face" else edges
        lost = Match(
            old=number, new=None, state="lost", sentence="the plan pointed at nothing in the old part"
        )
        match = matches[number] if 0 <= number < len(matches) else lost
        references.append(
            Reference(path=path, what=_said(document, path), kind=kind, old=number, match=match)
        )
    states = [match.state for match in faces]
    taken = {match.new for match in faces}
    return Revising(
        references=tuple(references),
        new_faces=sum(face.number not in taken for face in new.faces),
        faces={state: states.count(state) for state in ("kept", "moved", "resized", "unsure", "lost")},
        old_size=old.size,
        new_size=new.size,
        same=all(state == "kept" for state in states) and len(old.faces) == len(new.faces),
    )


def revised(plan: Plan, old: Part, new: Part, file: str, revision: str, take: frozenset[str]) -> Plan:
    """The plan on the new part: kept references follow by themselves, others only where `take` names their
    path.

    What is not taken still points at the old place, so that its check says it is lost.
    """
    document = copy.deepcopy(plan.model_dump(mode="json"))
    for reference in revising(plan, old, new).references:
        number = reference.match.new
        if number is None or (reference.match.state != "kept" and reference.path not in take):
            continue
        at: Any = document
        for step in reference.path.strip("/").split("/"):
            at = at[int(step)] if isinstance(at, list) else at[step]
        at[reference.kind] = number
        at["at"] = list(
            new.faces[number].centre if reference.kind == "face" else as_vector(middle_of(new.edges[number]))
        )
    document["part"] = {**document["part"], "file": file, "sha256": new.sha256, "revision": revision}
    return plan_from(document)
