"""What of the part is cut by whom, by nobody yet, or twice?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from pelvrak.core.geometry.callout import tolerances
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.mesh import Mesh
from pelvrak.core.geometry.part import FaceRef, Frozen, PartModel, ref_to
from pelvrak.core.proposals.cuttable import recess_called, recess_faces
from pelvrak.core.proposals.holes import hole_called, hole_faces
from pelvrak.core.route.plan import Plan
from pelvrak.core.seat.resting import State, on_faces, states_of


class Cutter(Frozen):
    """An operation that cuts something. setup: by its name; operation: by its id; told: names its faces."""

    setup: str
    operation: str
    name: str
    told: bool


class CutFeature(Frozen):
    """Something of the part, and who cuts it; several that are alike and cut alike stand together.

    what: in words; count: how many of it; faces: their own; by: those told of these, and those whose surface
    it is now; state: of the faces in the stock of the last setup, None while that is not computed; twice:
    names of those that do the same to it.
    """

    what: str
    count: int = 1
    faces: tuple[FaceRef, ...]
    by: tuple[Cutter, ...]
    state: State | None
    twice: tuple[str, ...]


def cut_features(
    plan: Plan,
    model: PartModel,
    features: Features,
    outcome: Mesh | None,
    makers: Mapping[int, tuple[str, str]],
) -> tuple[CutFeature, ...]:
    """Holes, recesses and what else the part has, each with its operations.

    outcome: surface of the stock after the last setup; makers: setup and operation (by name) of the numbers
    on it.
    """
    told, named = _told(plan), tolerances(model.part, plan.part.callouts)
    states = _states(model, outcome, makers)
    out: list[CutFeature] = []
    seen: set[int] = set()
    for hole in features.holes:
        faces = hole_faces(hole)
        meant = next((named[face] for face in faces if face in named), None)
        out.append(_feature(plan, model, hole_called(hole, meant), faces, told, states))
        seen |= set(faces)
    for recess in features.recesses:
        faces = tuple(face for face in recess_faces(recess) if face not in seen)
        if faces:
            out.append(_feature(plan, model, recess_called(recess), faces, told, states))
            seen |= set(faces)
    # Faces of no feature: those cut by the same, together.
    rest: dict[tuple[object, ...], list[int]] = {}
    for face in model.part.faces:
        if face.number not in seen:
            key = (states[face.number], tuple(told.get(face.number, ())))
            rest.setdefault(key, []).append(face.number)
    for numbers in rest.values():
        what = f"face {numbers[0]}" if len(numbers) == 1 else f"{len(numbers)} other faces"
        out.append(_feature(plan, model, what, tuple(numbers), told, states))
    return _together(out)


def _together(features: Iterable[CutFeature]) -> tuple[CutFeature, ...]:
    """Features that are alike and cut alike as one row."""
    out: dict[CutFeature, CutFeature] = {}
    for one in features:
        alike = one.model_copy(update={"faces": ()})
        row = out.get(alike)
        more = {} if row is None else {"count": row.count + 1, "faces": (*row.faces, *one.faces)}
        out[alike] = one.model_copy(update=more)
    return tuple(out.values())


_States = Mapping[int, tuple[State | None, tuple[Cutter, ...]]]


def _told(plan: Plan) -> dict[int, list[Cutter]]:
    """The operations that are told to cut a face and are not switched off, by face."""
    out: dict[int, list[Cutter]] = {}
    for setup in plan.settled().setups:
        for one in setup.operations:
            if setup.makes is None:
                for ref in one.faces_told():
                    cutter = Cutter(setup=setup.name, operation=one.id, name=one.name, told=True)
                    out.setdefault(ref.face, []).append(cutter)
    return out


def _states(model: PartModel, outcome: Mesh | None, makers: Mapping[int, tuple[str, str]]) -> _States:
    """In which state every face is, and whose surface it is."""
    faces = [face.number for face in model.part.faces]
    if outcome is None:
        return dict.fromkeys(faces, (None, ()))
    places = [on_faces(model.mesh, [number]) for number in faces]
    known = [number for number, own in zip(faces, places, strict=True) if len(own)]
    names = {number: f"{number}" for number in makers}
    found = states_of([own for own in places if len(own)], outcome, names)
    out: dict[int, tuple[State | None, tuple[Cutter, ...]]] = dict.fromkeys(faces, (None, ()))
    for number, (state, by) in zip(known, found, strict=True):
        own = [makers[int(name)] for name in by]
        out[number] = (state, tuple(Cutter(setup=s, operation=o, name="", told=False) for s, o in own))
    return out


def _feature(
    plan: Plan,
    model: PartModel,
    what: str,
    faces: tuple[int, ...],
    told: Mapping[int, Iterable[Cutter]],
    states: _States,
) -> CutFeature:
    names = {(s.name, o.id): o for s in plan.setups for o in s.operations}
    by: dict[tuple[str, str], Cutter] = {}
    for cutter in (*(c for f in faces for c in told.get(f, ())), *(c for f in faces for c in states[f][1])):
        key = (cutter.setup, cutter.operation)
        if key in names:
            by.setdefault(key, cutter.model_copy(update={"name": names[key].name}))
    found = [states[face][0] for face in faces]
    worst: State | None = next((one for one in _WORST if one in found), None)
    same: dict[object, list[str]] = {}
    for key, cutter in by.items():
        if cutter.told:
            one = names[key]
            does = (one.kind, getattr(one, "cycle", None), one.finish, one.tool)
            same.setdefault(does, []).append(f"{cutter.setup} {cutter.name}")
    return CutFeature(
        what=what,
        faces=tuple(ref_to(model.part.faces[face]) for face in faces),
        by=tuple(by.values()),
        state=worst,
        twice=tuple(name for own in same.values() if len(own) > 1 for name in own),
    )


# What of several faces is told: the first that one of them is.
_WORST: tuple[State, ...] = ("gone", "not yet there", "raw", "raw and cut", "cut")
