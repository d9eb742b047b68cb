"""What does a STEP file hold? Asked of a process of its own, so that Open CASCADE is loaded only there."""

from __future__ import annotations

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import PartModel, unpacked
from pelvrak.core.geometry.protected import protected

SIZE_LIMIT_BYTES = 64 * 1024**2
READER = "pelvrak.core.geometry.step_reader"


def read_step(data: bytes, name: str = "part.step") -> PartModel:
    """The part in a STEP file (ISO 10303-21), in mm whatever unit the file uses.

    Read by a process of its own, as `protected` says. Raises BadInput ("part.empty", "part.too_large",
    "part.not_step", "part.unreadable", "part.no_solid", and those of `protected`), and SeveralSolids.
    """
    refuse_by_look(data, name)
    return unpacked(protected(READER, ["read"], data, name))


def step_of_solid(data: bytes, name: str, solid: int) -> bytes:
    """One solid of a STEP file, by its number in the list of SeveralSolids, as a STEP file of its own (AP214;
    AP242 with its tolerances where it has some; mm).

    The same solid of the same file is the same bytes whenever it is asked for.
    """
    refuse_by_look(data, name)
    return protected(READER, [str(solid)], data, name)


def refuse_by_look(data: bytes, name: str) -> None:
    """Refuse what cannot be a STEP file of one part without reading it: "part.empty", "part.too_large",
    "part.not_step".
    """
    if not data:
        raise BadInput("part.empty", name, "the file is empty", "choose the exported STEP file")
    if len(data) > SIZE_LIMIT_BYTES:
        raise BadInput(
            "part.too_large",
            name,
            f"the file has {len(data) / 1024**2:.0f} MiB, the limit is {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )
    if b"ISO-10303-21" not in data[:1024]:
        raise BadInput(
            "part.not_step",
            name,
            "this is not a STEP file: one begins with ISO-10303-21",
            "export the part as STEP (AP203, AP214 or AP242)",
        )
