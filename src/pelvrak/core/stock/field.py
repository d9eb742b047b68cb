"""What material stands, as three bundles of parallel rays in the work frame?"""

from __future__ import annotations

import io
import math
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import zstandard
from numpy.typing import NDArray

from pelvrak.core.errors import BadInput
from pelvrak.core.stock.normals import decoded, encoded
from pelvrak.core.stock.shapes_kernel import length

Floats = NDArray[np.float64]

INITIAL_CAPACITY = 4
MEMORY_LIMIT_BYTES = 4 * 1024**3
BYTES_PER_INTERVAL = 2 * (4 + 4 + 2)
BILLET_MAKER = 0
# Rays stand a little off the cells' centres, a different share along each axis, so that none lies
# in a face drawn at a round number, where inside and outside would be a matter of rounding.
OFF_CENTRE = np.array([0.0321, 0.0457, 0.0618])


@dataclass(frozen=True)
class Grid:
    """Where the rays stand.

    origin: position of node (0, 0, 0) in the work frame, mm.
    cell: distance between neighbouring rays, mm.
    shape: number of nodes along x, y and z. A ray of the bundle along one axis
        passes through every node that shares its two other indices.
    """

    origin: tuple[float, float, float]
    cell: float
    shape: tuple[int, int, int]

    @property
    def box(self) -> tuple[Floats, Floats]:
        """First and last node, mm."""
        low = np.array(self.origin)
        return low, low + self.cell * (np.array(self.shape) - 1)

    def nodes(self, axis: int) -> Floats:
        """Node coordinates along one axis, mm, shape (n,)."""
        positions: Floats = self.origin[axis] + self.cell * np.arange(self.shape[axis], dtype=np.float64)
        return positions


@dataclass(frozen=True)
class Bundle:
    """All rays along one axis; lateral axes are u = axis+1 and v = axis+2 (mod 3).

    count: intervals held by each ray, int32 (n_v, n_u).
    position: interval ends along the axis, mm, float32 (n_v, n_u, 2*capacity),
        sorted: in, out, in, out, …
    normal: outward surface normal at each end, octahedral int16 (n_v, n_u, 2*capacity, 2).
    maker: what made each end, uint16 (n_v, n_u, 2*capacity); 0 is the billet.
    """

    axis: int
    count: NDArray[np.int32]
    position: NDArray[np.float32]
    normal: NDArray[np.int16]
    maker: NDArray[np.uint16]

    @property
    def capacity(self) -> int:
        return int(self.position.shape[2] // 2)


@dataclass(frozen=True)
class RayField:
    """One body: the same material seen along x, y and z."""

    grid: Grid
    bundles: tuple[Bundle, Bundle, Bundle]


def grid_around(low: Floats, high: Floats, cell: float) -> Grid:
    """The grid whose rays run close by the cell centres of the box low…high (mm), one node outside all round.

    Raises BadInput when the box or cell is not finite and positive, or when the field
    would need more than MEMORY_LIMIT_BYTES; the message names the cell that would fit.
    """
    size = np.asarray(high, float) - np.asarray(low, float)
    if not (np.isfinite(size).all() and (size > 0).all() and np.isfinite(cell) and cell > 0):
        raise BadInput(
            "stock.size",
            "resolution_mm",
            f"a box of {size.tolist()} mm at {cell} mm has no meaning",
            "give finite sizes above zero",
        )
    cells = np.ceil(size / cell - 1e-9).astype(int)
    needed = memory_estimate(cells + 2)
    if needed > MEMORY_LIMIT_BYTES:
        fits = math.ceil(cell * math.sqrt(needed / MEMORY_LIMIT_BYTES) * 101) / 100
        raise BadInput(
            "stock.memory",
            "resolution_mm",
            f"a field of {cell} mm cells would need {needed / 1024**3:.1f} GiB, over the limit of "
            f"{MEMORY_LIMIT_BYTES / 1024**3:.0f} GiB",
            f"use {fits:.2f} mm or coarser: round walls are then known to {error_of(fits):.3f} mm",
        )
    first = np.asarray(low, float) - cell * (0.5 - OFF_CENTRE)
    return Grid(
        (float(first[0]), float(first[1]), float(first[2])),
        float(cell),
        (int(cells[0]) + 2, int(cells[1]) + 2, int(cells[2]) + 2),
    )


def error_of(cell: float, radius: float = 1.0) -> float:
    """How far a chord across a cell from corner to corner stands off a wall of `radius`, mm: (√3·cell)² /
    (8·radius).

    Planes and their edges are exact; this is what a field of that cell knows of round walls, however they
    stand to its rays.
    """
    return 3 * cell**2 / (8 * radius)


def cell_for(error: float, radius: float = 1.0) -> float:
    """The coarsest cell that knows walls of `radius` (mm) to within `error` (mm). Raises BadInput for no
    error at all.
    """
    if not (math.isfinite(error) and error > 0 and math.isfinite(radius) and radius > 0):
        raise BadInput("stock.error", "error", f"{error:g} mm is no error to allow", "give more than 0")
    return math.sqrt(8 * error * radius / 3)


def memory_estimate(shape: NDArray[np.int_] | tuple[int, int, int]) -> int:
    """Bytes the three bundles of a fresh field take, and as much again while cutting."""
    nx, ny, nz = (int(n) for n in shape)
    return 2 * (nx * ny + ny * nz + nz * nx) * (INITIAL_CAPACITY * BYTES_PER_INTERVAL + 4)


def empty_field(grid: Grid, capacity: int = INITIAL_CAPACITY) -> RayField:
    """A field without material."""
    bundles = []
    for axis in range(3):
        shape = (grid.shape[(axis + 2) % 3], grid.shape[(axis + 1) % 3])
        bundles.append(
            Bundle(
                axis,
                np.zeros(shape, np.int32),
                np.zeros((*shape, 2 * capacity), np.float32),
                np.zeros((*shape, 2 * capacity, 2), np.int16),
                np.zeros((*shape, 2 * capacity), np.uint16),
            )
        )
    return RayField(grid, (bundles[0], bundles[1], bundles[2]))


def grown(bundle: Bundle, capacity: int) -> Bundle:
    """The same bundle with room for `capacity` intervals a ray."""
    extra = 2 * (capacity - bundle.capacity)
    if extra <= 0:
        return bundle
    return replace(
        bundle,
        position=np.pad(bundle.position, ((0, 0), (0, 0), (0, extra))),
        normal=np.pad(bundle.normal, ((0, 0), (0, 0), (0, extra), (0, 0))),
        maker=np.pad(bundle.maker, ((0, 0), (0, 0), (0, extra))),
    )


def trimmed(bundle: Bundle) -> Bundle:
    """The same bundle with no more room than it started with or its fullest ray needs."""
    ends = 2 * max(INITIAL_CAPACITY, int(bundle.count.max(initial=1)))
    if ends >= bundle.position.shape[2]:
        return bundle
    return replace(
        bundle,
        position=bundle.position[:, :, :ends].copy(),
        normal=bundle.normal[:, :, :ends].copy(),
        maker=bundle.maker[:, :, :ends].copy(),
    )


def copied(bundle: Bundle) -> Bundle:
    """A bundle that can be changed without touching the first."""
    return replace(
        bundle,
        count=bundle.count.copy(),
        position=bundle.position.copy(),
        normal=bundle.normal.copy(),
        maker=bundle.maker.copy(),
    )


def same_field(first: RayField, second: RayField) -> bool:
    """Whether two fields hold the same material from the same makers, bit for bit."""
    if first.grid != second.grid:
        return False
    for a, b in zip(first.bundles, second.bundles, strict=True):
        if not np.array_equal(a.count, b.count):
            return False
        capacity = max(a.capacity, b.capacity)
        a, b = grown(a, capacity), grown(b, capacity)
        used = np.arange(2 * capacity) < 2 * a.count[:, :, None]
        for one, two in ((a.position, b.position), (a.maker, b.maker), (a.normal, b.normal)):
            if not np.array_equal(one[used], two[used]):
                return False
    return True


def unmarked(field: RayField) -> RayField:
    """The same stock with all its surfaces the billet's."""
    x, y, z = (replace(bundle, maker=np.full_like(bundle.maker, BILLET_MAKER)) for bundle in field.bundles)
    return RayField(field.grid, (x, y, z))


def bundle_volumes(field: RayField) -> tuple[float, float, float]:
    """The body's volume as each bundle alone sees it, mm³: length of material times cell²."""
    x, y, z = (length(b.count, b.position) * field.grid.cell**2 for b in field.bundles)
    return float(x), float(y), float(z)


def extents(field: RayField) -> tuple[Floats, Floats] | None:
    """The box of the material, mm: (low, high), or None when nothing stands."""
    low, high = np.zeros(3), np.zeros(3)
    for bundle in field.bundles:
        held = bundle.count > 0
        if not held.any():
            return None
        low[bundle.axis] = bundle.position[:, :, 0][held].min()
        last = np.take_along_axis(bundle.position, np.maximum(2 * bundle.count - 1, 0)[:, :, None], axis=2)
        high[bundle.axis] = last[:, :, 0][held].max()
    return low, high


def field_turned(field: RayField, there_from_here: Floats, normals: bool = False) -> RayField:
    """The same rays in a frame whose axes lie along this one's: nothing is sampled again.

    there_from_here: 4×4. What made each end is kept; normals: they are too, else left out (zero), as where
    material stands can be asked without them.
    """
    source = np.abs(there_from_here[:3, :3]).argmax(axis=1)
    sign = np.sign(there_from_here[np.arange(3), source]).astype(int)
    grid, shift = field.grid, there_from_here[:3, 3]
    first = [
        sign[d] * (grid.origin[s] + (0.0 if sign[d] > 0 else grid.cell * (grid.shape[s] - 1))) + shift[d]
        for d, s in enumerate(source)
    ]
    turned = Grid(
        (float(first[0]), float(first[1]), float(first[2])),
        grid.cell,
        (grid.shape[source[0]], grid.shape[source[1]], grid.shape[source[2]]),
    )
    bundles = []
    for axis in range(3):
        bundle = field.bundles[source[axis]]
        if normals:
            there = decoded(bundle.normal.reshape(-1, 2)) @ there_from_here[:3, :3].T
            bundle = replace(bundle, normal=encoded(there).reshape(bundle.normal.shape))
        bundles.append(_turned(bundle, axis, source, sign, float(shift[axis]), normals))
    return RayField(turned, (bundles[0], bundles[1], bundles[2]))


def _turned(
    bundle: Bundle,
    axis: int,
    source: NDArray[np.int64],
    sign: NDArray[np.int64],
    shift: float,
    normals: bool,
) -> Bundle:
    """One bundle of `field_turned`, along its new axis."""
    u, v = (axis + 1) % 3, (axis + 2) % 3
    arrays: list[NDArray[Any]] = [bundle.count, bundle.position, bundle.maker]
    if normals:
        arrays.append(bundle.normal)
    if source[u] != (bundle.axis + 1) % 3:
        arrays = [np.swapaxes(array, 0, 1) for array in arrays]
    arrays = [np.flip(array, tuple(k for k, d in enumerate((v, u)) if sign[d] < 0)) for array in arrays]
    count, position, maker = arrays[:3]
    normal = arrays[3] if normals else np.zeros((*position.shape, 2), np.int16)
    if sign[axis] < 0:
        # The last end comes first; what lies behind the ends that are held stays where it is.
        place = np.arange(position.shape[2])
        last = 2 * count[..., None] - 1 - place
        order = np.where(last >= 0, last, place)
        position, maker = -np.take_along_axis(position, order, 2), np.take_along_axis(maker, order, 2)
        normal = np.take_along_axis(normal, order[..., None], 2)
    position = np.ascontiguousarray(position + np.float32(shift), np.float32)
    return Bundle(
        axis,
        np.ascontiguousarray(count),
        position,
        np.ascontiguousarray(normal),
        np.ascontiguousarray(maker),
    )


def saved(field: RayField, note: NDArray[np.uint8] | None = None) -> bytes:
    """The field as one compressed block of bytes; `loaded` gives it back unchanged. note: kept beside it."""
    out = io.BytesIO()
    arrays: dict[str, NDArray[np.generic]] = {
        "grid": np.array([*field.grid.origin, field.grid.cell, *field.grid.shape], np.float64)
    }
    for bundle in field.bundles:
        used = np.flatnonzero(np.arange(2 * bundle.capacity) < 2 * bundle.count[:, :, None])
        arrays[f"count{bundle.axis}"] = bundle.count
        arrays[f"position{bundle.axis}"] = bundle.position.reshape(-1)[used]
        arrays[f"normal{bundle.axis}"] = bundle.normal.reshape(-1, 2)[used]
        arrays[f"maker{bundle.axis}"] = bundle.maker.reshape(-1)[used]
    if note is not None:
        arrays["note"] = note
    np.savez(out, allow_pickle=False, **arrays)
    return zstandard.ZstdCompressor(level=1).compress(out.getvalue())


def loaded_checked(data: bytes) -> RayField:
    """The field of bytes from outside: `loaded`, if they hold one body whose rays and numbers can be.

    Raises ValueError saying what cannot be. Nothing larger than MEMORY_LIMIT_BYTES is made of them.
    """
    size = zstandard.frame_content_size(data)
    if not 0 < size <= MEMORY_LIMIT_BYTES // 4:
        raise ValueError("it does not say how large it is, or it is too large")
    plain = zstandard.ZstdDecompressor().decompress(data)
    with zipfile.ZipFile(io.BytesIO(plain)) as package:
        if sum(one.file_size for one in package.infolist()) > MEMORY_LIMIT_BYTES // 4:
            raise ValueError("it unpacks to too much")
    with np.load(io.BytesIO(plain), allow_pickle=False) as arrays:
        numbers = np.asarray(arrays["grid"], np.float64)
        if numbers.shape != (7,) or not np.isfinite(numbers).all() or not 0.01 <= numbers[3] <= 100:
            raise ValueError("its grid has no meaning")
        shape = numbers[4:]
        if (
            (shape != np.rint(shape)).any()
            or (shape < 2).any()
            or memory_estimate(shape.astype(int)) > MEMORY_LIMIT_BYTES
        ):
            raise ValueError("its grid has no meaning or is too large")
        shape = shape.astype(int)
        for axis in range(3):
            _refuse_rays(arrays, axis, numbers, (int(shape[(axis + 2) % 3]), int(shape[(axis + 1) % 3])))
    field = loaded(data)
    x, y, z = bundle_volumes(field)
    least, most = min(x, y, z), max(x, y, z)
    if least <= 0 or most - least > 0.2 * most + 50 * numbers[3] ** 3:
        raise ValueError("its three bundles of rays are not of one body")
    return field


def _refuse_rays(arrays: Mapping[str, NDArray[Any]], axis: int, grid: Floats, shape: tuple[int, int]) -> None:
    count, position = arrays[f"count{axis}"], arrays[f"position{axis}"]
    normal, maker = arrays[f"normal{axis}"], arrays[f"maker{axis}"]
    kinds = [str(one.dtype) for one in (count, position, normal, maker)]
    if kinds != ["int32", "float32", "int16", "uint16"] or count.shape != shape:
        raise ValueError("its rays are not laid out as they are saved")
    ends = 2 * int(count.sum(dtype=np.int64)) if (count >= 0).all() else -1
    if position.shape != (ends,) or normal.shape != (ends, 2) or maker.shape != (ends,):
        raise ValueError("its rays do not hold as many ends as they say")
    if int(count.max(initial=0)) * count.size * BYTES_PER_INTERVAL * 2 > MEMORY_LIMIT_BYTES:
        raise ValueError("its fullest ray holds too many ends")
    place = np.asarray(position, np.float64)
    low, high = grid[axis] - grid[3], grid[axis] + grid[3] * grid[4 + axis]
    if not np.isfinite(place).all() or (ends and (place.min() < low or place.max() > high)):
        raise ValueError("a ray ends outside its grid")
    # Within a ray every end lies behind the one before; between rays it may be anything.
    each = np.repeat(np.arange(count.size), 2 * count.ravel())
    if ends and ((np.diff(place) < 0) & (each[1:] == each[:-1])).any():
        raise ValueError("a ray's ends are not in their order")


def loaded(data: bytes) -> RayField:
    """The field that `saved` wrote."""
    with np.load(io.BytesIO(zstandard.ZstdDecompressor().decompress(data))) as arrays:
        numbers = arrays["grid"]
        grid = Grid(
            (float(numbers[0]), float(numbers[1]), float(numbers[2])),
            float(numbers[3]),
            (int(numbers[4]), int(numbers[5]), int(numbers[6])),
        )
        bundles = []
        for axis, bundle in enumerate(empty_field(grid, 1).bundles):
            count = arrays[f"count{axis}"]
            bundle = grown(bundle, max(INITIAL_CAPACITY, int(count.max(initial=1))))
            used = np.arange(2 * bundle.capacity) < 2 * count[:, :, None]
            bundle.position[used] = arrays[f"position{axis}"]
            bundle.normal[used] = arrays[f"normal{axis}"]
            bundle.maker[used] = arrays[f"maker{axis}"]
            bundles.append(replace(bundle, count=count))
    return RayField(grid, (bundles[0], bundles[1], bundles[2]))
