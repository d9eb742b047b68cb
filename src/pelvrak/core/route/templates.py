"""Operations kept for the next plan: one, or a chain with its tools, put into a setup on other faces."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from pelvrak.core.cures import Add, Cure, Edit, Element
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import FaceRef, Frozen
from pelvrak.core.route.drafting import free_number, free_place
from pelvrak.core.route.plan import Plan, Setup

# What belongs to the plan an operation was kept from, and not to the operation.
_OF_ITS_PLAN: dict[str, Any] = {
    "position": None,
    "repeated_at": [],
    "left_out": [],
    "offset_register": None,
    "group": None,
    "off": False,
}


class Template(Frozen):
    """Operations one after the other with the tools they use.

    id: never changes, never shown; name: what it is called. Faces and edges are those of the part it was kept
    from: whoever uses it names others.
    """

    id: Annotated[str, Field(min_length=1, max_length=40)]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    operations: Annotated[tuple[Operation, ...], Field(min_length=1, max_length=40)]
    tools: Annotated[tuple[Tool, ...], Field(max_length=40)]


def alike(one: Tool, other: Tool) -> bool:
    """Whether two tools are the same but for what they are called and where they stand."""
    same = {"id": "", "name": "", "place": 1, "twin_places": (), "life_min": None}
    return one.model_copy(update=same) == other.model_copy(update=same)


def from_template(plan: Plan, setup: Setup, template: Template, faces: tuple[FaceRef, ...]) -> Cure:
    """The edits that put a template into a setup. faces: that its operations are to cut, where they are told
    any.

    A tool of the plan that is like one of its own is used in its place; a finish the plan has not got is left
    out. Raises BadInput where faces are needed and none are given, or an operation's tool is not in it.
    """
    own = {tool.id: tool for tool in template.tools}
    finishes = {finish.id for finish in plan.finishes}
    places = plan.taken_places
    names, ids = {tool.id for tool in plan.tools}, {operation.id for operation in setup.operations}
    used: dict[str, str] = {}
    edits: list[Edit] = []
    for operation in template.operations:
        if operation.tool not in own:
            raise BadInput(
                "templates.no_tool", template.name, f"{operation.name} has no tool in it", "keep it anew"
            )
        if operation.tool not in used:
            tool = own[operation.tool]
            mine = next((one for one in plan.tools if alike(one, tool)), None)
            if mine is None:
                name, number = tool.id, 1
                while name in names:
                    number += 1
                    name = f"{tool.id[:36]}-{number}"
                mine = tool.model_copy(update={"id": name, "place": free_place(places), "twin_places": ()})
                names.add(name)
                places.add(mine.place)
                edits.append(Add(of=Element(), to="tools", value=mine.model_dump(mode="json")))
            used[operation.tool] = mine.id
        if operation.faces_told() and not faces:
            raise BadInput(
                "templates.no_face", operation.name, "it cuts picked faces", "pick a face it is to cut"
            )
        one = operation.of_faces(faces) if operation.faces_told() else operation
        told = one.model_dump(mode="json") | _OF_ITS_PLAN
        told["id"] = f"{operation.kind}-{free_number(ids, operation.kind)}"
        told["tool"] = used[operation.tool]
        told["finish"] = operation.finish if operation.finish in finishes else None
        ids.add(told["id"])
        edits.append(Add(of=Element(setup=setup.name), to="operations", value=told))
    return Cure(label=f"Put {template.name} in", edits=tuple(edits))
