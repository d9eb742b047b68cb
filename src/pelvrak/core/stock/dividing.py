"""How does a stock come apart: sawn along planes, and one of its pieces taken by itself?"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Ints, Mesh
from pelvrak.core.stock import shapes_kernel as kernel
from pelvrak.core.stock.field import Bundle, Floats, Grid, RayField, grid_around, trimmed
from pelvrak.core.stock.questions import owners
from pelvrak.core.stock.shapes import field_of_block, field_of_mesh, minus

# A place inside a part is looked for on so many rays along its longest side.
LOOKED_FOR = 40


@dataclass(frozen=True)
class Slab:
    """What a saw takes out. axis: 0 to 2; low, high: along it, mm."""

    axis: int
    low: float
    high: float


def sawn(field: RayField, slabs: list[Slab]) -> RayField:
    """The stock without what the saw took; its faces are the billet's, as sawn ones are."""
    first, last = field.grid.box
    for slab in slabs:
        low, high = first - field.grid.cell, last + field.grid.cell
        low[slab.axis], high[slab.axis] = slab.low, slab.high
        field = minus(field, field_of_block(field.grid, low, high))
    return field


def place_inside(mesh: Mesh) -> Floats:
    """A place well inside a solid, mm: the middle of the longest way through it on rays along z."""
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    field = field_of_mesh(grid_around(low, high, float((high - low).max()) / LOOKED_FOR), mesh)
    bundle = field.bundles[2]
    _, row, column, middle = kernel.longest(bundle.count, bundle.position)
    return np.array([field.grid.nodes(0)[column], field.grid.nodes(1)[row], middle])


class Apart:
    """A stock by its separate pieces, as `questions.pieces` tells them apart."""

    def __init__(self, field: RayField) -> None:
        self.field = field
        bundle = field.bundles[2]
        self.owner = np.full((*bundle.count.shape, bundle.capacity), -1, np.int64)
        self.owner[np.arange(bundle.capacity) < bundle.count[:, :, None]] = owners(field)

    def at(self, place: Floats) -> int | None:
        """The piece that stands at a place, mm; None where nothing does."""
        found = int(self._owners(place[None])[0])
        return None if found < 0 else found

    def _owners(self, places: Floats) -> NDArray[np.int64]:
        """The piece at each place (n, 3), -1 where none is: asked of the nearest ray along z."""
        grid, bundle = self.field.grid, self.field.bundles[2]
        near = np.rint((places - np.array(grid.origin)) / grid.cell).astype(int)
        column, row = (np.clip(near[:, d], 0, grid.shape[d] - 1) for d in (0, 1))
        out = np.full(len(places), -1, np.int64)
        for slot in range(bundle.capacity):
            low, high = (bundle.position[row, column, 2 * slot + k] for k in (0, 1))
            inside = (slot < bundle.count[row, column]) & (low <= places[:, 2]) & (places[:, 2] <= high)
            out[inside] = self.owner[row, column, slot][inside]
        return out

    def taken(self, piece: int) -> RayField:
        """One piece by itself, on as much of the grid as it needs."""
        bundles = [self._kept(bundle, piece) for bundle in self.field.bundles]
        return cropped(RayField(self.field.grid, (bundles[0], bundles[1], bundles[2])))

    def _kept(self, bundle: Bundle, piece: int) -> Bundle:
        if bundle.axis == 2:
            return _only(bundle, self.owner == piece)
        rows, columns, slots = np.nonzero(np.arange(bundle.capacity) < bundle.count[:, :, None])
        ends = [bundle.position[rows, columns, 2 * slots + k].astype(float) for k in (0, 1)]
        own = np.zeros(len(rows), bool)
        unknown = np.ones(len(rows), bool)
        # Asked in the middle first; a stretch shorter than a cell may have no ray along z there.
        for share in (0.5, 0.0, 1.0):
            along = ends[0] + share * (ends[1] - ends[0])
            found = self._owners(_places(self.field.grid, bundle.axis, rows, columns, along))
            own |= unknown & (found == piece)
            unknown &= found < 0
        keep = np.zeros((*bundle.count.shape, bundle.capacity), bool)
        keep[rows, columns, slots] = own
        return _only(bundle, keep)


def _places(grid: Grid, axis: int, rows: Ints, columns: Ints, along: Floats) -> Floats:
    """Places on rays along an axis, (n, 3) mm. along: by their coordinate there."""
    u, v = (axis + 1) % 3, (axis + 2) % 3
    out = np.zeros((len(rows), 3))
    out[:, axis], out[:, u], out[:, v] = along, grid.nodes(u)[columns], grid.nodes(v)[rows]
    return out


def _only(bundle: Bundle, keep: NDArray[np.bool_]) -> Bundle:
    """A bundle with some of its intervals. keep: (n_v, n_u, capacity)."""
    order = np.argsort(~keep, axis=2, kind="stable")
    ends = np.stack([2 * order, 2 * order + 1], axis=3).reshape(*order.shape[:2], -1)
    return trimmed(
        replace(
            bundle,
            count=keep.sum(axis=2).astype(np.int32),
            position=np.ascontiguousarray(np.take_along_axis(bundle.position, ends, 2)),
            normal=np.ascontiguousarray(np.take_along_axis(bundle.normal, ends[..., None], 2)),
            maker=np.ascontiguousarray(np.take_along_axis(bundle.maker, ends, 2)),
        )
    )


def cropped(field: RayField) -> RayField:
    """The same rays without those that meet nothing, one row of them left all round."""
    grid, spans = field.grid, []
    for axis in range(3):
        # The rays along the two other axes tell where along this one anything stands.
        held = np.zeros(grid.shape[axis], bool)
        for bundle in field.bundles:
            if bundle.axis != axis:
                side = 1 if (bundle.axis + 1) % 3 == axis else 0
                held |= (bundle.count > 0).any(axis=1 - side)
        found = np.flatnonzero(held)
        if not len(found):
            return field
        spans.append((max(int(found[0]) - 1, 0), min(int(found[-1]) + 2, grid.shape[axis])))
    origin = np.array(grid.origin) + grid.cell * np.array([first for first, _ in spans])
    small = Grid(
        (float(origin[0]), float(origin[1]), float(origin[2])),
        grid.cell,
        (spans[0][1] - spans[0][0], spans[1][1] - spans[1][0], spans[2][1] - spans[2][0]),
    )
    bundles = []
    for bundle in field.bundles:
        u, v = (slice(*spans[(bundle.axis + k) % 3]) for k in (1, 2))
        bundles.append(
            Bundle(
                bundle.axis,
                np.ascontiguousarray(bundle.count[v, u]),
                np.ascontiguousarray(bundle.position[v, u]),
                np.ascontiguousarray(bundle.normal[v, u]),
                np.ascontiguousarray(bundle.maker[v, u]),
            )
        )
    return RayField(small, (bundles[0], bundles[1], bundles[2]))


def ends_of_material(field: RayField) -> Floats:
    """Every place where a ray enters or leaves material, (n, 3) mm."""
    out = []
    for bundle in field.bundles:
        rows, columns, slots = np.nonzero(np.arange(2 * bundle.capacity) < 2 * bundle.count[:, :, None])
        along = bundle.position[rows, columns, slots].astype(float)
        out.append(_places(field.grid, bundle.axis, rows, columns, along))
    return np.concatenate(out)
