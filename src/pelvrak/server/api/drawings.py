"""Drawings: the lines of a DXF file, to be engraved."""

from __future__ import annotations

from fastapi import APIRouter, UploadFile
from pydantic import BaseModel, Field

from pelvrak.core.geometry.outline import read_lines

router = APIRouter(prefix="/api", tags=["drawings"])
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
    """The lines in the model space of a DXF drawing, of up to 8 MiB (the guard's limit). Nothing is kept: an
    operation takes them by its edit.
    """
    found = read_lines(file.file.read(), file.filename or "drawing.dxf")
    rounded = [[(round(float(x), DIGITS), round(float(y), DIGITS)) for x, y in line] for line in found.lines]
    return Drawing(lines=rounded, unit=found.unit)
