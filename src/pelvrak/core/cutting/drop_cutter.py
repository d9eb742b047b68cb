"""How low can a cutter go over a part, exactly on its mesh?

The cutter is dropped along its axis until it rests on a facet, an edge or a corner; of all that lie under it
the highest counts. Its surface is a flat of radius R − r and a corner of radius r round it: a ball mill has
no flat, an end mill no corner.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.cutting import drop_kernel as kernel
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Ints, Mesh, edge_triangles, triangle_normals

# Facets that fold by less than this lie in one plane, rad.
FOLD_RAD = 1e-6
# Bins of the plane hold so many triangles on average.
A_BIN = 4.0
# Along a line a place is looked at this often, and between two wherever it bends, mm.
LOOK_MM = 0.5


class Laid(NamedTuple):
    """A mesh laid out for the kernels, as they are told it."""

    corners: Floats
    normals: Floats
    tops: Floats
    convex: NDArray[np.bool_]
    bins: Ints
    starts: Ints
    left: float
    low: float
    cell: float


@dataclass(frozen=True)
class Rounded:
    """A cutter as it rests: radius of its flat and of its corner, mm."""

    flat: float
    corner: float

    @property
    def radius(self) -> float:
        return self.flat + self.corner

    def thicker(self, leave: float) -> Rounded:
        """The cutter with what it leaves all round it; its tip then lies that much lower."""
        return Rounded(self.flat, self.corner + leave)


def rounded(tool: Tool, where: str) -> Rounded:
    """The shape in which a tool rests. Raises BadInput for one that has none of these."""
    match tool.kind:
        case "end_mill":
            return Rounded(tool.DC / 2, 0.0)
        case "ball_mill":
            return Rounded(0.0, tool.DC / 2)
        case "corner_mill":
            assert tool.RE is not None
            return Rounded(tool.DC / 2 - tool.RE, tool.RE)
        case _:
            raise BadInput(
                "cut.wrong_tool",
                where,
                f"a {tool.kind.replace('_', ' ')} has no rounded or flat end to follow a surface with",
                "choose a ball mill, a corner mill or an end mill",
            )


def laid_out(mesh: Mesh, radius: float) -> Laid:
    """A closed mesh laid out for cutters of about a radius, mm."""
    corners = mesh.vertices[mesh.triangles]
    normals = triangle_normals(mesh)
    tops = corners[:, :, 2].max(axis=1)
    low, high = corners[:, :, :2].min(axis=1), corners[:, :, :2].max(axis=1)
    size = high.max(axis=0) - low.min(axis=0)
    cell = float(max(np.sqrt(A_BIN * size.prod() / max(len(corners), 1)), radius / 4, 1e-3))
    left, bottom = low.min(axis=0)
    columns, rows = (int(count) for count in np.floor(size / cell).astype(int) + 1)
    # From the top down, so that a bin can be left as soon as nothing higher is in it.
    order = np.argsort(-tops, kind="stable")
    first, last = (
        np.clip(np.floor((ends[order] - [left, bottom]) / cell).astype(int), 0, [columns - 1, rows - 1])
        for ends in (low, high)
    )
    held = [
        (j * columns + i, m)
        for m, (i0, j0), (i1, j1) in zip(order, first, last, strict=True)
        for j in range(j0, j1 + 1)
        for i in range(i0, i1 + 1)
    ]
    places = np.array(held, np.int64).reshape(-1, 2)
    places = places[np.argsort(places[:, 0], kind="stable")]
    ends = np.searchsorted(places[:, 0], np.arange(rows * columns + 1))
    starts = np.concatenate(
        [ends[:-1].reshape(rows, columns), ends[columns::columns].reshape(rows, 1)], axis=1
    )
    return Laid(
        corners, normals, tops, _convex(mesh, normals), places[:, 1].copy(), starts, left, bottom, cell
    )


def _convex(mesh: Mesh, normals: Floats) -> NDArray[np.bool_]:
    """Which sides of triangles a cutter can be met by, each at one of its two triangles, (m, 3)."""
    pairs, one, two = edge_triangles(mesh)
    out = np.zeros((len(mesh.triangles), 3), np.bool_)
    ends = mesh.vertices[pairs]
    # The side as the first triangle goes along it.
    along = ends[:, 1] - ends[:, 0]
    rows = mesh.triangles[one]
    side = np.argmax(rows == pairs[:, :1], axis=1)
    forward = rows[np.arange(len(rows)), (side + 1) % 3] == pairs[:, 1]
    along = np.where(forward[:, None], along, -along)
    fold = np.einsum("ij,ij->i", np.cross(normals[one], normals[two]), along)
    convex = fold > FOLD_RAD * np.linalg.norm(along, axis=1)
    out[one[convex], np.where(forward, side, (side + 2) % 3)[convex]] = True
    return out


def drop(laid: Laid, cutter: Rounded, places: Floats) -> tuple[Floats, Ints]:
    """Lowest heights of the tip at places (n, 2), and triangles it rests on; beside the mesh -inf and -1."""
    heights, which = kernel.drop_all(
        np.ascontiguousarray(places[:, 0]),
        np.ascontiguousarray(places[:, 1]),
        *laid,
        cutter.flat,
        cutter.corner,
    )
    return heights, which


def follow(
    laid: Laid, cutter: Rounded, start: Floats, end: Floats, error: float, look: float = LOOK_MM
) -> tuple[Floats, Ints]:
    """The tip along a line between two places (2,): points (n, 3), mm, and the triangles it rests on.

    Straight from one point to the next it is off by no more than `error`, mm, but for what is narrower than
    the places looked at.
    """
    made = kernel.follow(*start, *end, look, error, *laid, cutter.flat, cutter.corner)
    return made[:, :3], made[:, 3].astype(np.int64)
