"""What is proposed: something that can be cut, with its steps and their tools."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting.feeds import Material
from pelvrak.core.cutting.standing import Standing
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.callout import Understood
from pelvrak.core.geometry.features import Features
from pelvrak.core.geometry.mesh import Floats, corners_of
from pelvrak.core.geometry.part import FaceRef, Frozen, PartModel, Vector, ref_to
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.machine.machine import Machine
from pelvrak.core.proposals.chains import Rules
from pelvrak.core.proposals.choosing import Tools
from pelvrak.core.stock.shapes import material_top

# Less than this stands nowhere: what rays know of a surface, mm.
STANDS_MM = 0.05
# Cosine of the angle within which a direction is the spindle's.
ALONG = 0.9999
# A roughing pass, as shares of the cutter's diameter: common practice, no source.
DOWN_SHARE, OVER_SHARE = 0.7, 0.45
# How far a cutter goes past the bottom of what goes through, mm.
PAST_MM = 0.5
Finish = Literal["rough", "finish"]


class ProposedStep(Frozen):
    """One operation of a chain.

    told: its kind and fields as the plan has them, its name among them; tool: it is cut with; finish: what it
    leaves.
    """

    told: dict[str, Any]
    tool: Tool
    finish: Finish


class Cuttable(Frozen):
    """Something that can be cut.

    what: in words; kind: of feature; count: how many alike; faces: the walls or floors an operation is told;
    all_faces: numbers of all faces it consists of; position: it is cut at, "" as the work is seated; chain,
    source: how, and where the rule is from; steps: one after the other; wanted: the tool that is missing, ""
    for none: then there are no steps.
    """

    what: str
    kind: Literal["top", "outside", "hole", "recess", "chamfer", "rest"]
    count: int = 1
    faces: tuple[FaceRef, ...] = ()
    all_faces: tuple[int, ...] = ()
    position: str = ""
    chain: str = ""
    source: str = ""
    steps: tuple[ProposedStep, ...] = ()
    wanted: str = ""


class Passed(Frozen):
    """Something that is not offered. what: in words; why: in words; faces: of the part."""

    what: str
    why: str
    faces: tuple[int, ...] = ()


@dataclass(frozen=True)
class Shop:
    """What there is to cut with: tools, material, machine, rules."""

    tools: Tools
    material: Material
    machine: Machine
    rules: Rules

    def step(self, tool: Tool, finish: Finish, told: dict[str, Any]) -> ProposedStep:
        """One operation with its tool."""
        return ProposedStep(told={**told, "tool": tool.id, "finish": finish}, tool=tool, finish=finish)

    def milled(
        self, tool: Tool, faces: tuple[FaceRef, ...], name: str, leave: float, below: float
    ) -> ProposedStep:
        """A pocket. leave: on its walls, below: past its bottom, mm."""
        told = {
            "kind": "pocket",
            "faces": told_faces(faces),
            "name": name,
            "leave_side": leave,
            # What comes after goes along the walls alone.
            "leave_floor": 0.0,
            "below": below,
            "step_down": round(DOWN_SHARE * tool.DC, 3),
            "step_over": OVER_SHARE,
        }
        return self.step(tool, "rough" if leave else "finish", told)

    def walled(
        self, tool: Tool, faces: tuple[FaceRef, ...], name: str, depth: float, below: float
    ) -> ProposedStep:
        """Along the walls inside, in one depth. below: past its bottom, mm."""
        told = {
            "kind": "outline",
            "side": "inside",
            "faces": told_faces(faces),
            "name": name,
            "below": below,
            "step_down": round(depth + 1.0, 3),
        }
        return self.step(tool, "finish", told)


@dataclass(frozen=True)
class Plane:
    """The part as it lies in one plane of a setup.

    position: its name, "" as the work is seated; stock: that comes in, as it lies there; meant: what the
    callouts on faces say, by face; cut_by: the operation that cuts a face, by face, of the top by TOP, of the
    outside by OUTSIDE; held_to: height up to which the holding stands beside the work, mm; rough: how rough
    faces may be, Ra, µm.
    """

    position: str
    zero_from_work: Floats
    stock: Standing
    model: PartModel
    features: Features
    meant: Mapping[int, Understood]
    cut_by: Mapping[int, str]
    held_to: float = -math.inf
    rough: Mapping[int, float] = field(default_factory=dict)

    @cached_property
    def up(self) -> Floats:
        """Towards the spindle, work frame."""
        up: Floats = self.zero_from_work[2, :3]
        return up

    @cached_property
    def heights(self) -> tuple[float, float]:
        """Lowest and highest point of the part, mm."""
        z = moved(self.zero_from_work, self.model.mesh.vertices)[:, 2]
        return float(z.min()), float(z.max())

    @cached_property
    def stock_top(self) -> NDArray[np.float32]:
        """The highest material on each upright ray of the stock, (y, x), mm."""
        return material_top(self.stock.field, 2, 1)

    def corners(self, face: int) -> Floats:
        """The triangles of a face as it lies, (n, 3, 3)."""
        own = corners_of(self.model.mesh, face)
        lying: Floats = moved(self.zero_from_work, own.reshape(-1, 3)).reshape(own.shape)
        return lying

    def looks_up(self, sides: tuple[Vector, ...]) -> bool:
        """Whether a feature can be reached from here."""
        return any(float(np.dot(side, self.up)) > ALONG for side in sides)

    def refs(self, faces: tuple[int, ...]) -> tuple[FaceRef, ...]:
        """The faces as the plan points at them."""
        return tuple(ref_to(self.model.part.faces[face]) for face in faces)

    def cut_already(self, faces: tuple[int, ...]) -> str | None:
        """The operation that cuts one of the faces."""
        return next((self.cut_by[face] for face in faces if face in self.cut_by), None)


# The top of the work and its outside have no face of their own.
TOP, OUTSIDE = -1, -2


def told_faces(faces: tuple[FaceRef, ...]) -> list[dict[str, Any]]:
    """Faces as an operation is told them."""
    return [one.model_dump(mode="json") for one in faces]
