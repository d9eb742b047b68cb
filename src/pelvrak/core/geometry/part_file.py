"""Which kind of part file is this, and what is in it?"""

from __future__ import annotations

import json

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh_file import LengthUnit, looks_like_3mf, looks_like_stl
from pelvrak.core.geometry.part import PartModel, unpacked
from pelvrak.core.geometry.protected import protected
from pelvrak.core.geometry.step_file import SIZE_LIMIT_BYTES, read_step, step_of_solid

MESH_READER = "pelvrak.core.geometry.mesh_reader"


def is_mesh(data: bytes) -> bool:
    """Whether a part file holds triangles."""
    return looks_like_stl(data) or looks_like_3mf(data)


def read_part(data: bytes, name: str) -> PartModel:
    """The one part in a STEP, STL or 3MF file, mm.

    Raises BadInput as `read_step` and `read_mesh` do, "part.kind" for any other file, and SeveralSolids.
    """
    if len(data) > SIZE_LIMIT_BYTES:
        raise BadInput(
            "part.too_large",
            name,
            f"the file has {len(data) / 1024**2:.0f} MiB, the limit is {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )
    if not data:
        raise BadInput("part.empty", name, "the file is empty", "choose the exported file")
    if is_mesh(data):
        return unpacked(protected(MESH_READER, ["read"], data, name))
    if data[:5].lower() == b"solid" or name.lower().endswith((".stl", ".3mf")):
        raise BadInput("mesh.unreadable", name, "the mesh file is damaged or cut short", "export it again")
    if b"ISO-10303-21" not in data[:1024]:
        raise BadInput(
            "part.kind",
            name,
            "this is neither STEP (begins with ISO-10303-21), nor STL, nor 3MF",
            "export the part as STEP, STL or 3MF",
        )
    return read_step(data, name)


def taken_out(data: bytes, name: str, solid: int | None, unit: LengthUnit | None) -> tuple[bytes, str]:
    """A file of one solid of a file, or of a mesh read in another unit: (bytes, name).

    Raises BadInput for a solid that is not there, a unit for a file that states its own, or no choice at all.
    """
    if solid is None and unit is None:
        raise BadInput(
            "part.no_choice",
            name,
            "neither a solid nor a unit was chosen",
            "choose one of the list, or a unit",
        )
    if not is_mesh(data):
        if unit is not None:
            raise BadInput(
                "part.unit_stated", name, "a STEP file states its own unit", "leave the unit as it is"
            )
        assert solid is not None
        return step_of_solid(data, name, solid), f"{name.rsplit('.', 1)[0]} solid {solid + 1}.step"
    called, body = protected(MESH_READER, ["take", json.dumps([solid, unit])], data, name).split(b"\n", 1)
    return body, json.loads(called)
