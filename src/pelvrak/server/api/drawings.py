"""Drawings: the lines of a DXF file, to be engraved."""

from __future__ import annotations

from fastapi import APIRouter, UploadFile
from pydantic import BaseModel, Field

from pelvrak.core.geometry.outline import read_lines
from pelvrak.server.api.problems import Refused

router = APIRouter(prefix="/api", tags=["drawings"])
MOST_BYTES = 20_000_000
# Points are told to this many digits of a millimetre.
DIGITS = 4


class Drawing(BaseModel):
    """The lines of a drawing."""

    lines: list[list[tuple[float, float]]] = Field(
        description="each as its points, mm; a closed one ends where it begins"
    )
    unit: str = Field(description="of the drawing, as it states it")


@router.post("/drawings/read")
def read_drawing(file: UploadFile) -> Drawing:
    """The lines in the model space of a DXF drawing. Nothing is kept: an operation takes them by its edit."""
    body, name = file.file.read(MOST_BYTES + 1), (file.filename or "drawing.dxf")[-200:]
    if len(body) > MOST_BYTES:
        raise Refused(
            413,
            "drawing.too_large",
            name,
            f"the file is over {MOST_BYTES // 1_000_000} MB",
            "export only the lines to be engraved",
        )
    found = read_lines(body, name)
    rounded = [[(round(float(x), DIGITS), round(float(y), DIGITS)) for x, y in line] for line in found.lines]
    return Drawing(lines=rounded, unit=found.unit)
