"""What is a result made of? Stocks, surfaces and paths as named pieces of bytes."""

from __future__ import annotations

import io
import json
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.measuring import Angle, Finds, Measured, Size, Touch
from pelvrak.core.cutting.toolpath import Move, Path, Round
from pelvrak.core.engine.step import Piece
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import PartModel, packed, unpacked
from pelvrak.core.stock.field import RayField, cell_for, loaded, saved
from pelvrak.core.stock.moments import Moments, moments_loaded, moments_saved

# What a surface may be off, mm: a little is spent on joining cells, which makes the rest cheap, the most on
# simplifying.
SIMPLIFY_MM = 0.02
JOIN_MM = 0.002


def cell_within(error: float) -> float:
    """The coarsest ray distance, mm, at which round walls of 1 mm radius are known to within `error`, picture
    and all.

    Raises BadInput when the picture's own tolerance is more than that.
    """
    if not error > SIMPLIFY_MM:
        raise BadInput(
            "stock.error",
            "error",
            f"{error:g} mm is less than the surface's own {SIMPLIFY_MM:g} mm",
            f"give more than {SIMPLIFY_MM:g} mm",
        )
    return cell_for(error - SIMPLIFY_MM)


def mesh_bytes(mesh: Mesh) -> bytes:
    """A mesh as a result's surface.npz piece."""
    out = io.BytesIO()
    arrays: dict[str, Any] = {
        "vertices": mesh.vertices,
        "triangles": mesh.triangles.astype(np.int32),
        "label": mesh.label.astype(np.int32),
    }
    if mesh.round is not None:
        arrays["round"] = mesh.round
    np.savez_compressed(out, **arrays)
    return out.getvalue()


def mesh_from_bytes(data: bytes) -> Mesh:
    """The mesh of a result's surface.npz piece."""
    with np.load(io.BytesIO(data)) as arrays:
        return Mesh(
            arrays["vertices"],
            arrays["triangles"].astype(np.int64),
            arrays["label"].astype(np.int64),
            arrays.get("round"),
        )


def path_json(made: PlannedPath) -> bytes:
    """A tool path as a result's path.json piece."""
    path = made.path
    return json.dumps(
        {
            "start": path.start,
            "moves": [[m.kind, *m.end, m.feed, *(m.centre or ())] for m in path.moves],
            "holes": [[h.x, h.y, h.start, h.bottom] for h in made.holes],
            "ends_s": np.round(made.ends_s, 4).tolist(),
            "in_air": made.in_air,
            "leads": [n for n, m in enumerate(path.moves) if m.lead],
            "exact": [n for n, m in enumerate(path.moves) if m.exact],
            "compensation": [[n, m.compensation] for n, m in enumerate(path.moves) if m.compensation],
            "dwells": [[n, m.dwell_s] for n, m in enumerate(path.moves) if m.dwell_s],
            "round": None if path.round is None else asdict(path.round),
            "measured": None if made.measured is None else asdict(made.measured),
        }
    ).encode()


def path_from_json(data: bytes) -> tuple[Path, list[Hole]]:
    """The tool path of a result's path.json piece."""
    return _path(json.loads(data))


def _path(read: dict[str, Any]) -> tuple[Path, list[Hole]]:
    moves = [
        Move(m[0], (m[1], m[2], m[3]), m[4], (m[5], m[6]) if len(m) > 5 else None) for m in read["moves"]
    ]
    for number, seconds in read["dwells"]:
        moves[number] = replace(moves[number], dwell_s=seconds)
    for number in read["leads"]:
        moves[number] = replace(moves[number], lead=True)
    for number in read.get("exact", ()):
        moves[number] = replace(moves[number], exact=True)
    for number, how in read["compensation"]:
        moves[number] = replace(moves[number], compensation=how)
    lie = read["round"]
    if lie is not None:
        lie = Round(**{**lie, "along": tuple(lie["along"]), "centre": tuple(lie["centre"])})
    return Path(tuple(read["start"]), moves, lie), [Hole(*h) for h in read["holes"]]


@dataclass(frozen=True)
class PlannedPath:
    """A tool path with the holes it drills, when each of its moves ends, s, and the numbers of its feed moves
    that take nothing off, once it is cut; measured: what it touches, where it is a probe's.
    """

    path: Path
    holes: list[Hole]
    ends_s: Floats
    in_air: tuple[int, ...] = ()
    measured: Measured | None = None


def _planned(data: bytes) -> PlannedPath:
    read = json.loads(data)
    told = read["measured"]
    measured = None
    if told is not None:
        finds = tuple(
            Finds(**{**one, "touches": tuple(one["touches"]), "starts": tuple(one["starts"])})
            for one in told.pop("finds")
        )
        touches = tuple(Touch(**one) for one in told.pop("touches"))
        sizes = tuple(Size(**{**one, "touches": tuple(one["touches"])}) for one in told.pop("sizes"))
        angle = told.pop("angle", None)
        if angle is not None:
            told["angle"] = Angle(**{**angle, "touches": tuple(angle["touches"])})
        measured = Measured(touches=touches, finds=finds, sizes=sizes, **told)
    return PlannedPath(*_path(read), np.array(read["ends_s"]), tuple(read["in_air"]), measured)


def _to_json(value: Any) -> bytes:
    return json.dumps(value, allow_nan=False).encode()


def _compact(value: Any) -> bytes:
    return json.dumps(value, allow_nan=False, separators=(",", ":")).encode()


def _as_is(data: bytes) -> bytes:
    return data


PART: Piece[PartModel] = Piece("part.npz", packed, unpacked)
FIELD: Piece[RayField] = Piece("field", saved, loaded)
SURFACE: Piece[Mesh] = Piece("surface.npz", mesh_bytes, mesh_from_bytes)
PICTURE: Piece[bytes] = Piece("surface.glb", _as_is, _as_is)
PATH: Piece[PlannedPath] = Piece("path.json", path_json, _planned)
MOMENTS: Piece[Moments] = Piece("moments", moments_saved, moments_loaded)
LOAD: Piece[dict[str, Any]] = Piece("load.json", _to_json, json.loads)
CONTACTS: Piece[bytes] = Piece("contacts.glb", _as_is, _as_is)
CLAMPING: Piece[Any] = Piece("clamping.json", _to_json, json.loads)
JAW_SHAPE: Piece[bytes] = Piece("jaws.json", _as_is, _as_is)
JAW_STEP: Piece[bytes] = Piece("jaws.step", _as_is, _as_is)
JAW_STL: Piece[bytes] = Piece("jaws.stl", _as_is, _as_is)
JAW_DXF: Piece[bytes] = Piece("jaws.dxf", _as_is, _as_is)
# The stock a cut came from, by its content: for its moments.
INCOMING: Piece[str] = Piece("incoming", str.encode, bytes.decode)
FEATURES: Piece[Any] = Piece("features.json", _to_json, json.loads)
PROGRAM: Piece[str] = Piece("program.nc", str.encode, bytes.decode)
LINES: Piece[Any] = Piece("lines.json", _to_json, json.loads)
FACTS: Piece[Any] = Piece("facts.json", _to_json, json.loads)
# What came of a text, how it runs, and what each of its tools does.
PROOF: Piece[dict[str, Any]] = Piece("proof.json", _compact, json.loads)
TRACE: Piece[dict[str, Any]] = Piece("control.json", _compact, json.loads)
RUNS: Piece[dict[str, Any]] = Piece("runs.json", _compact, json.loads)
