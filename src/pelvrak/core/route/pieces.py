"""What is a result made of? Stocks, surfaces and paths as named pieces of bytes."""

from __future__ import annotations

import hashlib
import io
import json
from dataclasses import asdict
from typing import Any

import numpy as np

from pelvrak.core.cutting.planning import Hole
from pelvrak.core.cutting.toolpath import Move, Path, Round
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, Mesh, crease_lines, to_glb, volume
from pelvrak.core.stock.field import RayField, cell_for, saved
from pelvrak.core.stock.surface import simplified, surface

# What a surface may be off, mm: a little is spent on joining cells, which makes the rest cheap, the most on simplifying.
SIMPLIFY_MM = 0.02
JOIN_MM = 0.002


def cell_within(error: float) -> float:
    """The coarsest ray distance, mm, at which round walls of 1 mm radius are known to within `error`, picture and all.

    Raises BadInput when the picture's own tolerance is more than that.
    """
    if not error > SIMPLIFY_MM:
        raise BadInput(
            "stock.error", "error", f"{error:g} mm is less than the surface's own {SIMPLIFY_MM:g} mm",
            f"give more than {SIMPLIFY_MM:g} mm",
        )  # fmt: skip
    return cell_for(error - SIMPLIFY_MM)


def mesh_bytes(mesh: Mesh) -> bytes:
    """A mesh as a result's surface.npz piece."""
    out = io.BytesIO()
    arrays: dict[str, Any] = {
        "vertices": mesh.vertices, "triangles": mesh.triangles.astype(np.int32), "label": mesh.label.astype(np.int32),
    }  # fmt: skip
    if mesh.round is not None:
        arrays["round"] = mesh.round
    np.savez_compressed(out, **arrays)
    return out.getvalue()


def digest_of(mesh: Mesh) -> str:
    """A name for the shape of a mesh, to a nanometre."""
    points = np.rint(mesh.vertices * 1e6).astype(np.int64)
    return hashlib.blake2b(
        points.tobytes() + mesh.triangles.tobytes() + mesh.label.tobytes(), digest_size=16
    ).hexdigest()


def mesh_from_bytes(data: bytes) -> Mesh:
    """The mesh of a result's surface.npz piece."""
    with np.load(io.BytesIO(data)) as arrays:
        return Mesh(
            arrays["vertices"], arrays["triangles"].astype(np.int64), arrays["label"].astype(np.int64),
            arrays.get("round"),
        )  # fmt: skip


def stock_pieces(stock: RayField, facts: dict[str, Any]) -> dict[str, bytes]:
    """A stock as a result: its field, its surface for computing and for the picture, its volume."""
    joined = surface(stock, JOIN_MM)
    facts["volume_mm3"] = volume(joined)
    light = simplified(joined, SIMPLIFY_MM - JOIN_MM)
    return {
        "field": saved(stock),
        "surface.npz": mesh_bytes(light),
        "surface.glb": to_glb(light, crease_lines(light, by_label=False)),
        "facts.json": json.dumps(facts).encode(),
    }


def path_json(path: Path, holes: list[Hole], ends_s: Floats) -> bytes:
    """A tool path as a result's path.json piece. ends_s: when each move ends, s."""
    return json.dumps(
        {
            "start": path.start,
            "moves": [[m.kind, *m.end, m.feed, *(m.centre or ())] for m in path.moves],
            "holes": [[h.x, h.y, h.start, h.bottom] for h in holes],
            "ends_s": np.round(ends_s, 4).tolist(),
            "round": None if path.round is None else asdict(path.round),
        }
    ).encode()


def path_from_json(data: bytes) -> tuple[Path, list[Hole]]:
    """The tool path of a result's path.json piece."""
    read = json.loads(data)
    moves = [Move(m[0], (m[1], m[2], m[3]), m[4], (m[5], m[6]) if len(m) > 5 else None) for m in read["moves"]]
    lie = read["round"]
    if lie is not None:
        lie = Round(**{**lie, "along": tuple(lie["along"]), "centre": tuple(lie["centre"])})
    return Path(tuple(read["start"]), moves, lie), [Hole(*h) for h in read["holes"]]
