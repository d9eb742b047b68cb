"""Within which boundary does an operation cut: everything, over chosen faces, or a box?"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field
from shapely import Polygon, box, union_all
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.job import Job
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef, face_of

Within = Literal["everything", "faces", "box"]
Limit = Literal["inside", "on", "past"]
Corner = Annotated[float, Field(ge=-5000, le=5000)]
Box = tuple[Corner, Corner, Corner, Corner]
# What stands at a slant or upright has no area from above, mm².
FLAT_MM2 = 1e-6


def boundary_field() -> Any:
    """The field `within` of kinds that cut within a boundary."""
    return asked(
        "everything",
        title="Within",
        help="all there is from above, what lies over chosen faces, or a box of work coordinates",
        place="what",
    )


def box_field() -> Any:
    """The field `box` beside it."""
    return asked(
        (0.0, 0.0, 0.0, 0.0),
        title="Box",
        help="least and greatest X and Y it cuts within, from work zero",
        unit="mm",
        parts=("X from", "Y from", "X to", "Y to"),
        widget="boundary",
        when={"within": ["box"]},
        place="what",
    )


def limit_field() -> Any:
    """The field `limit` beside it: how far the cutter may go."""
    return asked(
        "past",
        title="Cutter",
        help="stays inside the boundary, goes with its middle up to it, or past it by its radius",
        when={"within": ["faces", "box"]},
        place="what",
    )


def boundary(job: Job, within: Within, faces: tuple[FaceRef, ...], corners: Box) -> BaseGeometry | None:
    """The region seen along the spindle that an operation cuts within; None for everything.

    Raises BadInput for no faces or box where one is meant, for faces of which nothing is seen from above, and
    for a box without room.
    """
    where = job.operation.name
    if within == "everything":
        return None
    if within == "box":
        if corners[0] >= corners[2] or corners[1] >= corners[3]:
            raise BadInput(
                "cut.boundary",
                where,
                "its box has no room",
                "give the least X and Y, then the greatest",
            )
        return box(*corners)
    if not faces:
        raise BadInput(
            "cut.boundary", where, "it cuts over faces, and none is picked", "pick the faces it lies over"
        )
    numbers = [face_of(job.part.part, ref, where).number for ref in faces]
    mesh = job.lying
    region = silhouette_of(mesh.vertices[mesh.triangles[np.isin(mesh.label, numbers)]])
    if region.is_empty:
        raise BadInput(
            "cut.boundary",
            where,
            "of the faces picked nothing is seen from above",
            "pick faces that look to the spindle, not upright walls",
        )
    return region


def silhouette_of(corners: Floats) -> BaseGeometry:
    """What triangles (n, 3, 3) cover seen along z."""
    triangles = [Polygon(three[:, :2]) for three in corners]
    return union_all([one for one in triangles if one.area > FLAT_MM2]).buffer(1e-4)


def room_for_middle(region: BaseGeometry, limit: Limit, radius: float) -> BaseGeometry:
    """Where a cutter's middle may be for it to keep to a boundary."""
    if limit == "on":
        return region
    return region.buffer(radius if limit == "past" else -radius, quad_segs=48)
