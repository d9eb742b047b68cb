"""A base plate with holes in a grid."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import manifold3d
import numpy as np
from pydantic import Field, model_validator

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.holding.fixture import SCREWS, FixtureKind, Size, Solid, Thread, standing_block


class Plate(FixtureKind):
    """A base plate with holes in a grid: tapped and dowel holes take turns, the first tapped, at the front
    left.

    length, width, thickness: of the plate, mm; pitch: from hole to hole, mm; edge: from the edge to the first
    row, mm; thread: of the tapped holes; dowel: diameter of the dowel holes, mm.
    """

    called: ClassVar[str] = "base plate"
    several: ClassVar[str] = "base plates"
    sizes: ClassVar[str] = "{length} × {width} × {thickness} · {thread} and Ø{dowel} every {pitch}"

    kind: Literal["plate"] = "plate"
    length: Size
    width: Size
    thickness: Size
    pitch: Annotated[float, Field(ge=10, le=500)]
    edge: Size
    thread: Thread = "M12"
    dowel: Size = 12.0

    @model_validator(mode="after")
    def _holes_lie_within(self) -> Plate:
        if 2 * self.edge >= min(self.length, self.width) or self.dowel >= self.pitch:
            raise ValueError("the holes do not fit into the plate")
        return self

    def solids(self, height: float | None = None) -> list[Solid]:
        body = standing_block(self.length, self.width, self.thickness)
        drill = SCREWS[self.thread][0] - SCREWS[self.thread][3]
        holes = plate_holes(self)
        tools = [
            manifold3d.Manifold.cylinder(self.thickness + 2, size / 2, size / 2, 24).translate(
                [*map(float, holes[i, j]), -1.0]
            )
            for i in range(holes.shape[0])
            for j in range(holes.shape[1])
            for size in [drill if (i + j) % 2 == 0 else self.dowel]
        ]
        return [
            Solid(
                "base plate", "rests", body - manifold3d.Manifold.batch_boolean(tools, manifold3d.OpType.Add)
            )
        ]


def plate_holes(one: Plate) -> Floats:
    """Places of a plate's holes in its frame, (columns, rows, 2): tapped where column + row is even."""
    columns = int((one.length - 2 * one.edge) / one.pitch + 1e-9) + 1
    rows = int((one.width - 2 * one.edge) / one.pitch + 1e-9) + 1
    x = -one.length / 2 + one.edge + one.pitch * np.arange(columns)
    y = -one.width / 2 + one.edge + one.pitch * np.arange(rows)
    return np.stack(np.meshgrid(x, y, indexing="ij"), axis=-1)
