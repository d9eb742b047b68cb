"""Which kind of part file is this, and what is in it?"""

from __future__ import annotations

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import to_stl
from pelvrak.core.geometry.mesh_file import LengthUnit, bodies_in, looks_like_3mf, looks_like_stl, read_mesh
from pelvrak.core.geometry.part import PartModel
from pelvrak.core.geometry.step_file import SIZE_LIMIT_BYTES, read_step, step_of_solid


def is_mesh(data: bytes) -> bool:
    """Whether a part file holds triangles."""
    return looks_like_stl(data) or looks_like_3mf(data)


def read_part(data: bytes, name: str) -> PartModel:
    """The one part in a STEP, STL or 3MF file, mm.

    Raises BadInput as `read_step` and `read_mesh` do, "part.kind" for any other file, and SeveralSolids.
    """
    if len(data) > SIZE_LIMIT_BYTES:
        raise BadInput(
            "part.too_large", name, f"the file has {len(data) / 1024**2:.0f} MiB, the limit is {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )  # fmt: skip
    if not data:
        raise BadInput("part.empty", name, "the file is empty", "choose the exported file")
    if is_mesh(data):
        return read_mesh(data, name)
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

    Raises BadInput for a solid that is not there, or a unit for a file that states its own.
    """
    stem = name.rsplit(".", 1)[0]
    if not is_mesh(data):
        if unit is not None:
            raise BadInput("part.unit_stated", name, "a STEP file states its own unit", "leave the unit as it is")
        return step_of_solid(data, name, solid or 0), f"{stem} solid {(solid or 0) + 1}.step"
    if unit is not None and not looks_like_stl(data):
        raise BadInput("part.unit_stated", name, "a 3MF file states its own unit", "leave the unit as it is")
    bodies = bodies_in(data, name, unit)
    if not 0 <= (solid or 0) < len(bodies):
        raise BadInput(
            "part.no_such_solid", name, f"there is no solid {solid} of {len(bodies)}", "choose one of the list"
        )
    called = stem + (f" solid {solid + 1}" if solid is not None else "") + (f" in {unit}" if unit else "")
    mesh = bodies[solid or 0].mesh
    if solid is None and len(bodies) > 1:
        raise BadInput(
            "part.several_solids", name, f"the file holds {len(bodies)} solids", "choose the one part to be made first"
        )
    return to_stl(mesh, f"{called}, mm"), f"{called}.stl"
