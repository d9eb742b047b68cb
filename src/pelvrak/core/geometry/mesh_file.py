"""What does an STL or 3MF file hold? Reading by trimesh, mending, and finding its faces."""

from __future__ import annotations

import hashlib
import io
import zipfile
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.bores import bores
from pelvrak.core.geometry.fitting import faces_of, labelled
from pelvrak.core.geometry.mending import mended
from pelvrak.core.geometry.mesh import Floats, Mesh, to_stl, triangle_areas, volume, welded
from pelvrak.core.geometry.part import Part, PartModel, as_vector

# ISO/IEC 25422 (3MF core), section 3.4.1: the units a model may state; millimetre when it states none.
if TYPE_CHECKING:
    # Half a second to load, and few files need it.
    import trimesh

UNITS_3MF = {
    "micron": 0.001,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}
LengthUnit = Literal["mm", "cm", "m", "in", "ft"]
UNITS: dict[LengthUnit, float] = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}
MOST_TRIANGLES = 2_000_000
# An assembly of more bodies than this is nothing one part is chosen from.
MOST_BODIES = 200
# A part is between these, mm: smaller and larger ones were written in another unit.
SMALLEST_MM, LARGEST_MM = 0.05, 20_000.0
# A 3MF package: bytes when unpacked, files in it, and how much more that is than packed.
UNPACKED_LIMIT_BYTES, MOST_FILES, MOST_RATIO = 512 * 1024**2, 1000, 200


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
    import trimesh

    kind: Literal["stl", "3mf"] = "stl" if looks_like_stl(data) else "3mf"
    loaded, units = _loaded(data, name, kind)
    scale = UNITS_3MF[units] if units else UNITS[unit or "mm"]
    stated = units or (f"{unit} (chosen)" if unit else "none stated, read as mm")
    meshes = [one for one in loaded if isinstance(one, trimesh.Trimesh) and len(one.faces)]
    _refuse_meshes(meshes, name, kind.upper())
    out = []
    for number, one in enumerate(meshes):
        own = Mesh(
            np.asarray(one.vertices, float) * scale,
            np.asarray(one.faces, np.int64),
            np.zeros(len(one.faces), np.int64),
        )
        for piece, closed, repairs in _closed(own, name):
            called = str(one.metadata.get("name") or one.metadata.get("node") or f"body {number + 1}")
            out.append(Body(called if piece == 0 else f"{called} ({piece + 1})", closed, stated, repairs))
    return out


def _loaded(data: bytes, name: str, kind: Literal["stl", "3mf"]) -> tuple[list[Any], str | None]:
    """What stands in a file, and the unit a 3MF states. Raises BadInput."""
    import trimesh

    if kind == "3mf":
        _refuse_bombs(data, name)
    elif not _is_binary_stl(data):
        # A name in another alphabet is not worth a refusal: only the numbers are read.
        data = data.decode("latin-1").encode("ascii", "replace")
    elif int.from_bytes(data[80:84], "little") > MOST_TRIANGLES:
        raise _too_many(name)
    try:
        loaded = trimesh.load_scene(io.BytesIO(data), file_type=kind, process=False)
        units = str(loaded.units or "millimeter") if kind == "3mf" else None
        dumped = list(loaded.dump())
    except MemoryError:
        raise
    except Exception as broken:
        raise BadInput(
            "mesh.unreadable", name, f"the {kind.upper()} file is damaged or cut short", "export it again"
        ) from broken
    if units is not None and units not in UNITS_3MF:
        raise BadInput(
            "mesh.unit",
            name,
            f"the file states the unit {units[:20]!r}, which 3MF does not know",
            "export it in " + ", ".join(UNITS_3MF),
        )
    return dumped, units


def _refuse_meshes(meshes: list[trimesh.Trimesh], name: str, kind: str) -> None:
    """Raises BadInput where there is nothing, or more than can be, or corners that are none."""
    if not meshes:
        raise BadInput(
            "mesh.unreadable", name, f"there are no triangles in the {kind} file", "export the solid again"
        )
    if sum(len(one.faces) for one in meshes) > MOST_TRIANGLES:
        raise _too_many(name)
    if any(
        len(one.vertices) <= int(np.max(one.faces)) or not np.isfinite(one.vertices).all() for one in meshes
    ):
        raise BadInput(
            "mesh.unreadable",
            name,
            f"the {kind} file names corners that are not there, or no numbers",
            "export it again",
        )
    bodies = sum(_pieces(one) for one in meshes)
    if bodies > MOST_BODIES:
        raise BadInput(
            "mesh.too_many_bodies",
            name,
            f"the file holds {bodies:,} bodies",
            f"export the single part: at most {MOST_BODIES} bodies",
        )


def _is_binary_stl(data: bytes) -> bool:
    return len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little")


def _too_many(name: str) -> BadInput:
    return BadInput(
        "mesh.too_many",
        name,
        f"the file has over {MOST_TRIANGLES:,} triangles",
        "export it coarser: 0.01 mm is enough",
    )


def _pieces(one: trimesh.Trimesh) -> int:
    """How many pieces of triangles that hang together by their corners' places there are."""
    _, number = welded(np.asarray(one.vertices, float), 4)
    corners = number[np.asarray(one.faces)]
    count = int(number.max()) + 1
    graph = coo_matrix(
        (np.ones(2 * len(corners), np.int8), (np.repeat(corners[:, 0], 2), corners[:, 1:].ravel())),
        (count, count),
    )
    found = connected_components(graph, directed=False)[1]
    return len(np.unique(found[np.unique(corners)]))


def _refuse_bombs(data: bytes, name: str) -> None:
    """Refuse a package that would unpack to more than it may: "mesh.unreadable", "mesh.too_large"."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            files = package.infolist()
    except (zipfile.BadZipFile, ValueError, OSError) as broken:
        raise BadInput(
            "mesh.unreadable", name, "the 3MF file is damaged or cut short", "export it again"
        ) from broken
    whole = sum(one.file_size for one in files)
    if len(files) > MOST_FILES or whole > min(UNPACKED_LIMIT_BYTES, max(MOST_RATIO * len(data), 10_000_000)):
        raise BadInput(
            "mesh.too_large",
            name,
            f"the 3MF file unpacks to {whole / 1024**2:.0f} MiB in {len(files)} files",
            "export the single part, without pictures",
        )


def _closed(mesh: Mesh, name: str) -> list[tuple[int, Mesh, str]]:
    """The mesh mended, and each of its outer shells, with the hollows in it, by itself."""
    import trimesh

    done = mended(mesh, name)
    told = [
        f"{count} {what}"
        for count, what in (
            (done.dropped, "empty or double triangles dropped"),
            (done.turned, "triangles turned"),
            (done.filled, "holes filled"),
        )
        if count
    ]
    shells = trimesh.Trimesh(done.mesh.vertices, done.mesh.triangles, process=False).split(
        only_watertight=False
    )
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
    return bool(
        (inner.vertices.min(axis=0) >= outer.vertices.min(axis=0)).all()
        and (inner.vertices.max(axis=0) <= outer.vertices.max(axis=0)).all()
    )


def model_of_mesh(mesh: Mesh, sha256: str, unit: str) -> PartModel:
    """Faces, edges and holes of a closed mesh, mm."""
    named, forms = labelled(mesh)
    faces, edges = faces_of(named, forms)
    corners = named.vertices[named.triangles]
    area = triangle_areas(corners).sum()
    used: Floats = corners.reshape(-1, 3)
    part = Part(
        sha256=sha256,
        unit=unit,
        low=as_vector(used.min(axis=0)),
        high=as_vector(used.max(axis=0)),
        volume_mm3=volume(named),
        area_mm2=float(area),
        faces=tuple(faces),
        edges=tuple(edges),
        holes=tuple(bores(faces, named)),
    )
    return PartModel(part, named)


def read_mesh(data: bytes, name: str, unit: LengthUnit | None = None) -> PartModel:
    """The one part in an STL or 3MF file. Raises BadInput as `bodies_in`, and SeveralSolids."""
    bodies = bodies_in(data, name, unit)
    if len(bodies) > 1:
        raise SeveralSolids(name, [_line(number, body) for number, body in enumerate(bodies)])
    refuse_size(bodies[0].mesh, name)
    return model_of_mesh(bodies[0].mesh, hashlib.sha256(data).hexdigest(), bodies[0].unit)


def refuse_size(mesh: Mesh, name: str) -> None:
    """Refuse what no shop makes: "mesh.size"."""
    size = float(np.ptp(mesh.vertices[mesh.triangles].reshape(-1, 3), axis=0).max())
    if not SMALLEST_MM <= size <= LARGEST_MM:
        raise BadInput(
            "mesh.size",
            name,
            f"the part would be {size:.6g} mm long; {SMALLEST_MM:g} to {LARGEST_MM:g} mm can be planned",
            "choose the unit it was written in",
        )


def taken_out_of_mesh(
    data: bytes, name: str, solid: int | None, unit: LengthUnit | None
) -> tuple[bytes, str]:
    """An STL file in mm of one body of a mesh file, or of a mesh read in another unit, and what it is
    called.
    """
    if unit is not None and not looks_like_stl(data):
        raise BadInput("part.unit_stated", name, "a 3MF file states its own unit", "leave the unit as it is")
    bodies = bodies_in(data, name, unit)
    if not 0 <= (solid or 0) < len(bodies):
        raise BadInput(
            "part.no_such_solid",
            name,
            f"there is no solid {solid} of {len(bodies)}",
            "choose one of the list",
        )
    if solid is None and len(bodies) > 1:
        raise BadInput(
            "part.several_solids",
            name,
            f"the file holds {len(bodies)} solids",
            "choose the one part to be made first",
        )
    called = (
        name.rsplit(".", 1)[0]
        + (f" solid {solid + 1}" if solid is not None else "")
        + (f" in {unit}" if unit else "")
    )
    return to_stl(bodies[solid or 0].mesh, f"{called}, mm"), f"{called}.stl"


def _line(number: int, body: Body) -> dict[str, Any]:
    used = body.mesh.vertices[body.mesh.triangles].reshape(-1, 3)
    return {
        "number": number,
        "name": body.name,
        "size": np.round(np.ptp(used, axis=0), 3).tolist(),
        "volume_mm3": round(volume(body.mesh), 3),
    }
