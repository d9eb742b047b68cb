"""What does an STL or 3MF file hold? Reading by trimesh, mending, and finding its faces."""

from __future__ import annotations

import hashlib
import io
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import trimesh

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.bores import bores
from pelvrak.core.geometry.fitting import faces_of, labelled
from pelvrak.core.geometry.mending import mended
from pelvrak.core.geometry.mesh import Floats, Mesh, volume
from pelvrak.core.geometry.part import Part, PartModel, as_vector

# ISO/IEC 25422 (3MF core), section 3.4.1: the units a model may state; millimetre when it states none.
UNITS_3MF = {
    "micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0,
}  # fmt: skip
LengthUnit = Literal["mm", "cm", "m", "in", "ft"]
UNITS: dict[LengthUnit, float] = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}
MOST_TRIANGLES = 2_000_000


@dataclass(frozen=True)
class Body:
    """A closed mesh of a file, in mm. unit: as the file states it, or what it was read as."""

    name: str
    mesh: Mesh
    unit: str
    repairs: str


def looks_like_stl(data: bytes) -> bool:
    """Whether bytes are an STL file, binary or text."""
    if len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little"):
        return True
    return data[:5].lower() == b"solid" and b"facet" in data[:2000]


def looks_like_3mf(data: bytes) -> bool:
    """Whether bytes are a 3MF package."""
    return data[:4] == b"PK\x03\x04" and b"3D/" in data


def bodies_in(data: bytes, name: str, unit: LengthUnit | None = None) -> list[Body]:
    """The closed bodies of an STL or 3MF file, in mm. unit: what an STL, which states none, was written in.

    Raises BadInput "mesh.unreadable", "mesh.too_many", or what `mended` refuses.
    """
    kind = "stl" if looks_like_stl(data) else "3mf"
    try:
        loaded = trimesh.load_scene(io.BytesIO(data), file_type=kind, process=False)
        units = "millimeter" if kind == "3mf" else None
        if kind == "3mf":
            units = str(loaded.units or "millimeter")
        dumped = loaded.dump()
    except Exception as broken:
        raise BadInput(
            "mesh.unreadable",
            name,
            f"the {kind.upper()} file is damaged or cut short ({type(broken).__name__})",
            "export it again",
        ) from broken
    scale = UNITS_3MF.get(units, 1.0) if units else UNITS[unit or "mm"]
    stated = units or (f"{unit} (chosen)" if unit else "none stated, read as mm")
    meshes = [one for one in dumped if isinstance(one, trimesh.Trimesh) and len(one.faces)]
    if not meshes:
        raise BadInput(
            "mesh.unreadable", name, f"there are no triangles in the {kind.upper()} file", "export the solid again"
        )
    if sum(len(one.faces) for one in meshes) > MOST_TRIANGLES:
        raise BadInput(
            "mesh.too_many",
            name,
            f"the file has over {MOST_TRIANGLES:,} triangles",
            "export it coarser: 0.01 mm is enough",
        )
    out = []
    for number, one in enumerate(meshes):
        own = Mesh(
            np.asarray(one.vertices, float) * scale, np.asarray(one.faces, np.int64), np.zeros(len(one.faces), np.int64)
        )
        for piece, closed, repairs in _closed(own, name):
            called = str(one.metadata.get("name") or one.metadata.get("node") or f"body {number + 1}")
            out.append(Body(called if piece == 0 else f"{called} ({piece + 1})", closed, stated, repairs))
    return out


def _closed(mesh: Mesh, name: str) -> list[tuple[int, Mesh, str]]:
    """The mesh mended, and each of its outer shells, with the hollows in it, by itself."""
    done = mended(mesh, name)
    told = [
        f"{count} {what}" for count, what in (
            (done.dropped, "empty or double triangles dropped"), (done.turned, "triangles turned"), (done.filled, "holes filled"),
        ) if count
    ]  # fmt: skip
    shells = trimesh.Trimesh(done.mesh.vertices, done.mesh.triangles, process=False).split(only_watertight=False)
    parts = [
        Mesh(np.asarray(s.vertices, float), np.asarray(s.faces, np.int64), np.zeros(len(s.faces), np.int64))
        for s in shells
    ]
    solids = [one for one in parts if volume(one) > 0]
    if len(solids) <= 1:
        return [(0, done.mesh, ", ".join(told))]
    hollows = [one for one in parts if volume(one) <= 0]
    out = []
    for i, solid in enumerate(sorted(solids, key=volume, reverse=True)):
        inside = [h for h in hollows if _within(h, solid)]
        whole = solid
        for hollow in inside:
            whole = Mesh(
                np.concatenate([whole.vertices, hollow.vertices]),
                np.concatenate([whole.triangles, hollow.triangles + len(whole.vertices)]),
                np.concatenate([whole.label, hollow.label]),
            )
        out.append((i, whole, ", ".join(told)))
    return out


def _within(inner: Mesh, outer: Mesh) -> bool:
    return bool((inner.vertices.min(axis=0) >= outer.vertices.min(axis=0)).all() and
                (inner.vertices.max(axis=0) <= outer.vertices.max(axis=0)).all())  # fmt: skip


def model_of_mesh(mesh: Mesh, sha256: str, unit: str) -> PartModel:
    """Faces, edges and holes of a closed mesh, mm."""
    named, forms = labelled(mesh)
    faces, edges = faces_of(named, forms)
    corners = named.vertices[named.triangles]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
    used: Floats = corners.reshape(-1, 3)
    part = Part(
        sha256=sha256, unit=unit, low=as_vector(used.min(axis=0)), high=as_vector(used.max(axis=0)), volume_mm3=volume(named),
        area_mm2=float(area), faces=tuple(faces), edges=tuple(edges), holes=tuple(bores(faces, named)),
    )  # fmt: skip
    return PartModel(part, named)


def read_mesh(data: bytes, name: str, unit: LengthUnit | None = None) -> PartModel:
    """The one part in an STL or 3MF file. Raises BadInput as `bodies_in`, and SeveralSolids."""
    bodies = bodies_in(data, name, unit)
    if len(bodies) > 1:
        raise SeveralSolids(name, [_line(number, body) for number, body in enumerate(bodies)])
    return model_of_mesh(bodies[0].mesh, hashlib.sha256(data).hexdigest(), bodies[0].unit)


def _line(number: int, body: Body) -> dict[str, Any]:
    used = body.mesh.vertices[body.mesh.triangles].reshape(-1, 3)
    return {
        "number": number, "name": body.name, "size": np.round(np.ptp(used, axis=0), 3).tolist(),
        "volume_mm3": round(volume(body.mesh), 3),
    }  # fmt: skip
