"""The stock at any moment of an operation."""

from __future__ import annotations

import threading
from functools import lru_cache
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict

from pelvrak.core.route.moment import MomentReader
from pelvrak.server.api.problems import Refused
from pelvrak.server.api.shapes import Length, file_of
from pelvrak.server.db.store import DatabaseStore

router = APIRouter(prefix="/api/results", tags=["results"])
# The kernels share one pool of threads.
KERNELS = threading.Lock()
_reader = MomentReader(DatabaseStore())
KEPT_PICTURES = 64


@lru_cache(maxsize=KEPT_PICTURES)
def _picture(key: str, seconds: float) -> bytes:
    return _reader.picture(key, seconds)


@router.get("/{key}/moment", **file_of("model/gltf-binary"))
def moment(key: str, seconds: Annotated[float, Query(ge=0, le=1e7, allow_inf_nan=False)]) -> Response:
    """The stock so many seconds into the operation whose result this is, as glTF binary; it never changes."""
    try:
        with KERNELS:
            data = _picture(key, round(seconds, 2))
    except LookupError as lost:
        raise Refused(404, "result.unknown", "key", "this result is not kept", "run the plan again") from lost
    return Response(
        data, media_type="model/gltf-binary", headers={"Cache-Control": "public, max-age=31536000, immutable"}
    )


class CutAt(BaseModel):
    """When an operation cut a place away, s from its start; None where it did not."""

    model_config = ConfigDict(frozen=True)
    seconds: float | None


@router.get("/{key}/cut-at")
def cut_at_place(key: str, place: Annotated[list[Length], Query(min_length=3, max_length=3)]) -> CutAt:
    """By which moment of the operation whose result this is a place (work frame, mm, a little outside what
    stands now) was cut away.
    """
    try:
        return CutAt(seconds=_reader.cut_at(key, np.array(place)))
    except LookupError as lost:
        raise Refused(404, "result.unknown", "key", "this result is not kept", "run the plan again") from lost
