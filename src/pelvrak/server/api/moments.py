"""The stock at any moment of an operation."""

from __future__ import annotations

import threading
from functools import lru_cache
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response

from pelvrak.core.route.moment import picture_at
from pelvrak.core.stock.field import RayField, loaded
from pelvrak.core.stock.moments import Moments, moments_loaded
from pelvrak.server.api.problems import Refused
from pelvrak.server.db.session import DatabaseStore

router = APIRouter(prefix="/api/results", tags=["results"])
# The kernels share one pool of threads, and the few that are looked at now stay at hand.
_kernels = threading.Lock()
KEPT_FIELDS, KEPT_MOMENTS, KEPT_PICTURES = 6, 24, 64


def _piece(key: str, name: str) -> bytes:
    data = DatabaseStore().get(key, name)
    if data is None:
        raise Refused(404, "result.unknown", "key", "this result is not kept", "run the plan again")
    return data


@lru_cache(maxsize=KEPT_FIELDS)
def _field(key: str) -> RayField:
    return loaded(_piece(key, "field"))


@lru_cache(maxsize=KEPT_MOMENTS)
def _moments(key: str) -> tuple[str, Moments]:
    return _piece(key, "incoming").decode(), moments_loaded(_piece(key, "moments"))


@lru_cache(maxsize=KEPT_PICTURES)
def _picture(key: str, seconds: float) -> bytes:
    incoming, moments = _moments(key)
    return picture_at(_field(incoming), moments, seconds)


@router.get("/{key}/moment")
def moment(key: str, seconds: Annotated[float, Query(ge=0, le=1e7, allow_inf_nan=False)]) -> Response:
    """The stock so many seconds into the operation whose result this is, as glTF binary; it never changes."""
    with _kernels:
        data = _picture(key, round(seconds, 2))
    return Response(
        data, media_type="model/gltf-binary", headers={"Cache-Control": "public, max-age=31536000, immutable"}
    )
