"""Which index positions do operations need whose faces do not look to the spindle: there already, or made for
them?
"""

from __future__ import annotations

from pelvrak.core.cures import Add, Cure, Edit, Element, differing
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Part
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import home_angles
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.positions import IndexPosition, turned_to
from pelvrak.core.route.turning import Turning, alike


def with_positions(
    turning: Turning, operations: list[Operation], part: Part, zero_from_work: Floats
) -> tuple[Setup, dict[str, Turned]] | None:
    """The setup with every position the faces of some operations need, the operations cut there, and how the
    work stands at each.

    None when the machine cannot turn the work so for one of them, or an operation names no faces.
    """
    setup, machine = turning.setup, turning.machine
    if not machine.rotary:
        return None
    known: dict[str, Turned] = dict(turning.turned)
    fresh: list[IndexPosition] = []
    used: dict[str, Turned] = {}
    places: dict[str, list[str]] = {}
    for operation in operations:
        faces = operation.faces_told()
        if not faces:
            return None
        for face in faces:
            names = [*(p.name for p in setup.positions), *(p.name for p in fresh)]
            made = IndexPosition(name=next(f"P{n}" for n in range(1, 999) if f"P{n}" not in names), face=face)
            try:
                at = turned_to(made, part, zero_from_work, machine, home_angles(machine), lambda _: {})
            except BadInput:
                return None
            there = next((name for name, one in known.items() if alike(one, at)), None)
            if there is None:
                fresh.append(made)
                known[made.name] = at
                there = made.name
            used[there] = known[there]
            own = places.setdefault(operation.id, [])
            if there not in own:
                # As the work is seated can only be named first.
                own.insert(0 if there == "" else len(own), there)

    def cut(operation: Operation) -> Operation:
        own = places.get(operation.id)
        if own is None:
            return operation
        return operation.model_copy(
            update={"position": own[0] or None, "repeated_at": tuple(own[1:]), "left_out": ()}
        )

    changed = setup.model_copy(
        update={
            "positions": (*setup.positions, *fresh),
            "operations": tuple(cut(one) for one in setup.operations),
        }
    )
    return changed, used


def turned_for(
    turning: Turning, operation: Operation, part: Part, zero_from_work: Floats
) -> tuple[Cure, ...]:
    """For an operation whose faces do not look to the spindle: the positions where they do."""
    found = with_positions(turning, [operation], part, zero_from_work)
    if found is None:
        return ()
    setup, used = found
    old = {position.name for position in turning.setup.positions}
    named = [
        f"{name if name in old or not name else f'a new position {name}'}, "
        + " ".join(f"{axis}{value:g}" for axis, value in at.angles.items())
        for name, at in used.items()
    ]
    return (Cure(label="Cut it at " + " and at ".join(named), edits=_turned_edits(turning.setup, setup)),)


def _turned_edits(now: Setup, then: Setup) -> tuple[Edit, ...]:
    """The edits that add the positions a setup lacks, and have its operations cut there."""
    fresh = then.positions[len(now.positions) :]
    of = Element(setup=now.name)
    return (
        *(Add(of=of, to="positions", value=position.model_dump(mode="json")) for position in fresh),
        *(
            edit
            for one, other in zip(now.operations, then.operations, strict=True)
            for edit in differing(Element(setup=now.name, operation=one.id), one, other)
        ),
    )


def positions_needed(
    turning: Turning, lying: list[Operation], part: Part, zero_from_work: Floats
) -> list[Finding]:
    """One edit for all operations of a setup whose faces do not look to the spindle (lying), where there are
    several.
    """
    found = with_positions(turning, lying, part, zero_from_work) if len(lying) > 1 else None
    if found is None:
        return []
    setup, used = found
    return [
        Finding(
            code="index.needed",
            severity="note",
            setup=turning.setup.name,
            stage="cut",
            sentence=(
                f"{len(lying)} operations need the work turned to the spindle, in {len(used)} positions."
            ),
            measured=float(len(lying)),
            limit=0.0,
            unit="operations",
            cures=(Cure(label="Make the positions they need", edits=_turned_edits(turning.setup, setup)),),
        )
    ]
