"""What did the stock look like at any moment of an operation?

While an operation is cut, the rays that changed are kept from time to time. The stock at a moment
is the incoming stock with the changes up to there put back, and the few moves since then cut again.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, field

import numpy as np
import zstandard
from numpy.typing import NDArray

from pelvrak.core.stock.cut import CUT, Profile, Sweep, Touched, cut
from pelvrak.core.stock.field import Bundle, Floats, RayField, copied, grown
from pelvrak.core.stock.shapes_kernel import put_rays, taken_rays

# Places along a move that are looked at for what it cut.
ALONG_MOVE = 17


@dataclass(frozen=True)
class Changed:
    """Rays of one bundle as they stand: index (k,), count (k,), and all their ends in a row, at the
    checkpoint.
    """

    index: NDArray[np.int64]
    count: NDArray[np.int32]
    position: NDArray[np.float32]
    normal: NDArray[np.int16]
    maker: NDArray[np.uint16]


@dataclass(frozen=True)
class Checkpoint:
    """What changed since the checkpoint before, after so many moves."""

    moves: int
    bundles: tuple[Changed, Changed, Changed]


@dataclass(frozen=True)
class Moments:
    """An operation that can be looked at anywhere: its moves, when each ends (s, (n,)), its maker, its
    checkpoints.
    """

    sweep: Sweep
    ends_at: Floats
    maker: int
    checkpoints: tuple[Checkpoint, ...]


@dataclass
class Recorder:
    """Keeps checkpoints while `cut` runs; hand it over as `record`."""

    kept: list[Checkpoint] = field(default_factory=list)

    def __call__(self, moves: int, stock: RayField, touched: Touched) -> None:
        bundles = [_changed(bundle, flags) for bundle, flags in zip(stock.bundles, touched, strict=True)]
        self.kept.append(Checkpoint(moves, (bundles[0], bundles[1], bundles[2])))


def _changed(bundle: Bundle, flags: NDArray[np.uint8]) -> Changed:
    index = np.flatnonzero(flags)
    count = bundle.count.reshape(-1)[index]
    return Changed(index, count, *taken_rays(index, count, bundle.position, bundle.normal, bundle.maker))


def move_at(moments: Moments, seconds: float) -> float:
    """How many moves are done after so many seconds of the operation, the last one in part."""
    ends = moments.ends_at
    at = int(np.searchsorted(ends, seconds, side="right"))
    if at >= len(ends):
        return float(len(ends))
    began = float(ends[at - 1]) if at else 0.0
    span = float(ends[at]) - began
    return at + (max(0.0, seconds - began) / span if span > 0 else 0.0)


def tip_at(moments: Moments, moves: float) -> Floats:
    """Where the tool's tip is after so many moves, mm, work frame."""
    sweep = moments.sweep
    at = min(int(moves), len(sweep.what) - 1)
    share = moves - at
    tip: Floats = sweep.starts[at] + share * (sweep.ends[at] - sweep.starts[at])
    return tip


def cut_at(moments: Moments, place: Floats) -> float | None:
    """When a place was cut away, s from the operation's start: by the first of its moves whose cutter comes
    over it; None where none does. place: work frame, mm, a little outside what stands now.
    """
    sweep = moments.sweep
    feeds = np.flatnonzero(sweep.what == CUT)
    axis = sweep.axis if sweep.axis.ndim == 1 else sweep.axis[feeds]
    starts, way = sweep.starts[feeds], sweep.ends[feeds] - sweep.starts[feeds]
    over = np.zeros(len(feeds), bool)
    # Where the cutter comes nearest, and evenly on the way there and on: a ramp may reach it elsewhere.
    length2 = np.maximum(np.sum(way * way, axis=1), 1e-18)
    nearest = np.clip(np.sum((place - starts) * way, axis=1) / length2, 0.0, 1.0)
    for share in (nearest, *(np.full(len(feeds), s) for s in np.linspace(0, 1, ALONG_MOVE))):
        off = place - starts - share[:, None] * way
        height = np.sum(off * axis, axis=1)
        away = np.linalg.norm(off - height[:, None] * axis, axis=1)
        over |= away <= sweep.cutter.radius_at(height)
    first = np.flatnonzero(over)
    return None if not len(first) else float(moments.ends_at[feeds[first[0]]])


def stock_at(incoming: RayField, moments: Moments, moves: float) -> RayField:
    """The stock after so many moves (the last one in part) of an operation that found `incoming`."""
    bundles = [copied(bundle) for bundle in incoming.bundles]
    done = 0
    for checkpoint in moments.checkpoints:
        if checkpoint.moves > moves:
            break
        done = checkpoint.moves
        for axis, changed in enumerate(checkpoint.bundles):
            bundles[axis] = grown(bundles[axis], int(changed.count.max(initial=0)))
            bundle = bundles[axis]
            put_rays(
                changed.index,
                changed.count,
                changed.position,
                changed.normal,
                changed.maker,
                bundle.count.reshape(-1),
                bundle.position,
                bundle.normal,
                bundle.maker,
            )
    stock = RayField(incoming.grid, (bundles[0], bundles[1], bundles[2]))
    rest = moments.sweep.part(slice(done, int(np.ceil(moves))))
    if len(rest.what) == 0:
        return stock
    ends = rest.ends.copy()
    ends[-1] = tip_at(moments, moves)
    rest = Sweep(rest.starts, ends, rest.what, rest.axis, rest.cutter)
    return cut(stock, rest, moments.maker)[0]


def moments_saved(moments: Moments) -> bytes:
    """Moments as one compressed block of bytes; `moments_loaded` gives them back."""
    sweep = moments.sweep
    arrays: dict[str, NDArray[np.generic]] = {
        "starts": sweep.starts,
        "ends": sweep.ends,
        "what": sweep.what,
        "axis": sweep.axis,
        "heights": np.array(sweep.cutter.heights),
        "radii": np.array(sweep.cutter.radii),
        "ball": np.array(sweep.cutter.ball or ()),
        "ends_at": moments.ends_at,
        "maker": np.array(moments.maker),
        "moves": np.array([c.moves for c in moments.checkpoints], np.int64),
    }
    for axis in range(3):
        parts = [c.bundles[axis] for c in moments.checkpoints]
        arrays[f"rays{axis}"] = np.array([len(p.index) for p in parts], np.int64)
        arrays[f"ends{axis}"] = np.array([len(p.position) for p in parts], np.int64)
        for name in ("index", "count", "position", "normal", "maker"):
            if parts:
                arrays[f"{name}{axis}"] = np.concatenate([getattr(p, name) for p in parts])
    out = io.BytesIO()
    np.savez(out, allow_pickle=False, **arrays)
    return zstandard.ZstdCompressor(level=1).compress(out.getvalue())


def moments_loaded(data: bytes) -> Moments:
    """The moments that `moments_saved` wrote."""
    with np.load(io.BytesIO(zstandard.ZstdDecompressor().decompress(data))) as arrays:
        kept = {name: arrays[name] for name in arrays.files}
    ball = tuple(kept["ball"].tolist())
    cutter = Profile(
        tuple(kept["heights"].tolist()), tuple(kept["radii"].tolist()), (ball[0], ball[1]) if ball else None
    )
    limits = {
        axis: [np.concatenate([[0], np.cumsum(kept[f"{name}{axis}"])]) for name in ("rays", "ends")]
        for axis in range(3)
    }

    def changed(i: int, axis: int) -> Changed:
        rays, ends = (slice(int(limit[i]), int(limit[i + 1])) for limit in limits[axis])
        return Changed(
            kept[f"index{axis}"][rays],
            kept[f"count{axis}"][rays],
            kept[f"position{axis}"][ends],
            kept[f"normal{axis}"][ends],
            kept[f"maker{axis}"][ends],
        )

    checkpoints = tuple(
        Checkpoint(int(moves), (changed(i, 0), changed(i, 1), changed(i, 2)))
        for i, moves in enumerate(kept["moves"])
    )
    sweep = Sweep(kept["starts"], kept["ends"], kept["what"], kept["axis"], cutter)
    return Moments(sweep, kept["ends_at"], int(kept["maker"]), checkpoints)
