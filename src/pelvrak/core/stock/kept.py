"""What does a saved stock say of itself, beside its rays?"""

from __future__ import annotations

import io
from typing import Annotated, Literal

import numpy as np
import zstandard
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from pelvrak.core.stock.field import RayField, saved

# Longer than any note that is written.
MOST_BYTES = 20_000
Text = Annotated[str, Field(max_length=300)]
Row = tuple[float, float, float, float]


class StockNote(BaseModel):
    """What a saved stock is of.

    name: what people call it; unit: of its lengths; part_file, part_sha256, revision: of the part whose frame
    its rays are in; setup, after: it stood there, after that operation; register: its zero was kept in;
    zero_from_part: 4×4 rows, of that zero.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    name: Text = ""
    unit: Literal["mm"] = "mm"
    part_file: Text = ""
    part_sha256: Annotated[str, Field(pattern="^([0-9a-f]{64})?$")] = ""
    revision: Text = ""
    setup: Text = ""
    after: Text = ""
    register_name: Text = ""
    zero_from_part: tuple[Row, Row, Row, Row] | None = None


def saved_with(field: RayField, note: StockNote) -> bytes:
    """A stock as a file that says what it is; `loaded` gives the rays back unchanged."""
    return saved(field, np.frombuffer(note.model_dump_json().encode(), np.uint8))


def note_of(data: bytes) -> StockNote:
    """What a saved stock says of itself; an empty note where it says nothing that can be read."""
    try:
        with np.load(io.BytesIO(zstandard.ZstdDecompressor().decompress(data)), allow_pickle=False) as arrays:
            written = arrays.get("note")
            if written is None or written.dtype != np.uint8 or written.size > MOST_BYTES:
                return StockNote()
            return StockNote.model_validate_json(written.tobytes())
    except (ValidationError, ValueError, OSError, KeyError, zstandard.ZstdError):
        return StockNote()
