"""What of the part is cut by whom, by nobody yet, or twice?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from pelvrak.core.cutting.operations import Operation
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

    outcome: surface of the stock after the last setup; makers: setup (by name) and operation (by id) of the
    numbers on it.
    """
    cutting = _Cutting(
        {(setup.name, one.id): one for setup in plan.setups for one in setup.operations},
        model,
        _told(plan),
        _states(model, outcome, makers),
    )
    named = tolerances(model.part, plan.part.callouts)
    out: list[CutFeature] = []
    seen: set[int] = set()
    for hole in features.holes:
        faces = hole_faces(hole)
        meant = next((named[face] for face in faces if face in named), None)
        out.append(cutting.feature(hole_called(hole, meant), faces))
        seen |= set(faces)
    for recess in features.recesses:
        faces = tuple(face for face in recess_faces(recess) if face not in seen)
        if faces:
            out.append(cutting.feature(recess_called(recess), faces))
            seen |= set(faces)
    for chamfer in features.chamfers:
        if chamfer.face not in seen:
            out.append(cutting.feature(f"chamfer {chamfer.width:.3g} wide", (chamfer.face,)))
            seen.add(chamfer.face)
    # Faces of no feature: those cut by the same, together.
    rest: dict[tuple[object, ...], list[int]] = {}
    for face in model.part.faces:
        if face.number not in seen:
            key = (cutting.states[face.number], tuple(cutting.told.get(face.number, ())))
            rest.setdefault(key, []).append(face.number)
    for numbers in rest.values():
        what = f"face {numbers[0]}" if len(numbers) == 1 else f"{len(numbers)} other faces"
        out.append(cutting.feature(what, tuple(numbers)))
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


# An operation, by its setup's name and its id.
_Key = tuple[str, str]
# What of several faces is told: the first that one of them is.
_WORST: tuple[State, ...] = ("gone", "not yet there", "raw", "raw and cut", "cut")


def _told(plan: Plan) -> dict[int, list[_Key]]:
    """The operations that are told to cut a face and are not switched off, by face."""
    out: dict[int, list[_Key]] = {}
    for setup in plan.settled().setups:
        for one in setup.operations if setup.makes is None else ():
            for ref in one.faces_told():
                out.setdefault(ref.face, []).append((setup.name, one.id))
    return out


def _states(
    model: PartModel, outcome: Mesh | None, makers: Mapping[int, _Key]
) -> dict[int, tuple[State | None, tuple[_Key, ...]]]:
    """In which state every face is, and whose surface it is."""
    out: dict[int, tuple[State | None, tuple[_Key, ...]]] = {
        face.number: (None, ()) for face in model.part.faces
    }
    if outcome is None:
        return out
    places = {number: on_faces(model.mesh, [number]) for number in out}
    known = {number: own for number, own in places.items() if len(own)}
    return out | dict(zip(known, states_of(list(known.values()), outcome, makers), strict=True))


@dataclass(frozen=True)
class _Cutting:
    """Who cuts a part. operations: of the plan; told: by face, those that name it; states: of every face, and
    whose surface it is.
    """

    operations: Mapping[_Key, Operation]
    model: PartModel
    told: Mapping[int, list[_Key]]
    states: Mapping[int, tuple[State | None, tuple[_Key, ...]]]

    def feature(self, what: str, faces: tuple[int, ...]) -> CutFeature:
        """Some faces with their operations, those that name them first."""
        telling = dict.fromkeys(key for face in faces for key in self.told.get(face, ()))
        made = dict.fromkeys(key for face in faces for key in self.states[face][1])
        found = [self.states[face][0] for face in faces]
        same: dict[object, list[str]] = {}
        for key in telling:
            one = self.operations[key]
            does = (one.kind, getattr(one, "cycle", None), one.finish, one.tool)
            same.setdefault(does, []).append(f"{key[0]} {one.name}")
        return CutFeature(
            what=what,
            faces=tuple(ref_to(self.model.part.faces[face]) for face in faces),
            by=tuple(
                Cutter(setup=key[0], operation=key[1], name=self.operations[key].name, told=key in telling)
                for key in telling | made
                if key in self.operations
            ),
            state=next((one for one in _WORST if one in found), None),
            twice=tuple(name for own in same.values() if len(own) > 1 for name in own),
        )
