"""Drilling round an axis: holes that look away from a rotary axis, which brings each under the tool."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np

from pelvrak.core.cutting.job import Hole, Job
from pelvrak.core.cutting.operations.drilling import Drilling, drill, hole_to_drill
from pelvrak.core.cutting.standing import UP, standing
from pelvrak.core.cutting.toolpath import Round
from pelvrak.core.cutting.wrapped import (
    COAXIAL_MM,
    COAXIAL_SIN,
    UNROLLED_CELL_MM,
    farthest,
    laid_round,
    within_rotary,
)
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats, transformed
from pelvrak.core.geometry.part import Face, face_of
from pelvrak.core.geometry.rigid import moved, turned

# Holes that look the same way round the axis to this are seen together, degrees.
SAME_WAY_DEG = 1e-6


class DrillingRound(Drilling):
    """Holes whose axes cross a rotary axis squarely: the work is turned to each of them."""

    called: ClassVar[str] = "Drilling round an axis"
    pick_first: ClassVar[str] = "Pick the wall of a hole that crosses the rotary axis"
    turns_work: ClassVar[bool] = True

    kind: Literal["drilling_round"] = "drilling_round"  # type: ignore[assignment]

    def plan(self, job: Job) -> None:
        """On the flat laid round the axis, each hole over the stock as it stands turned under the tool."""
        if self.cycle == "tap":
            raise BadInput(
                "cut.tap_round",
                self.name,
                "a tap needs its feed coupled to the spindle, and moves with a rotary axis are timed instead",
                "tap at an index position for each of the holes",
            )
        assert job.surface is not None
        axis = laid_round(job.turning, 1.0, self.name)
        far = farthest(job.surface, axis)
        lie = replace(axis, radius=far)
        job.top = lie.centre[2] + far
        job.path.round = lie
        drill(self, job, list(self._holes(job, lie)))
        # Written out move by move: a canned cycle knows no inverse time.
        job.holes.clear()
        job.path.moves = within_rotary(job.path, job.turning)

    def _holes(self, job: Job, lie: Round) -> Iterator[Hole]:
        """The holes on the flat."""
        assert job.surface is not None
        seen: list[tuple[float, Job]] = []
        for ref in self.faces:
            face = face_of(job.part.part, ref, self.name)
            angle, along = self._way(job, lie, face)
            here = next((one for at, one in seen if abs(at - angle) < SAME_WAY_DEG), None)
            if here is None:
                under = _brought_up(lie, angle)
                stock = standing(transformed(job.surface, under), UNROLLED_CELL_MM)
                if stock is None:
                    return
                here = replace(job, stock=stock, zero_from_work=under @ job.zero_from_work)
                seen.append((angle, here))
            hole = hole_to_drill(self, here, ref)
            if hole is not None:
                yield replace(hole, x=along, y=lie.radius * math.radians(angle))

    def _way(self, job: Job, lie: Round, face: Face) -> tuple[float, float]:
        """How far round the axis a hole looks, degrees, and how far along it lies. Raises BadInput where it
        does not cross the axis squarely.
        """
        along, centre = np.array(lie.along), np.array(lie.centre)
        way = np.zeros(3) if face.axis is None else turned(job.zero_from_work, np.array(face.axis))
        at = np.array(face.axis_point or (0.0, 0.0, 0.0))
        off = moved(job.zero_from_work, at[None])[0] - centre
        beside = abs(float(off @ np.cross(way, along)))
        lean = abs(float(way @ along))
        if face.kind != "cylinder" or not face.hollow or lean > COAXIAL_SIN or beside > COAXIAL_MM:
            why = (
                "is no hole"
                if face.kind != "cylinder" or not face.hollow
                else f"leans {math.degrees(math.asin(min(1.0, lean))):.2f}° along it"
                if lean > COAXIAL_SIN
                else f"passes {beside:.3f} mm beside it"
            )
            raise BadInput(
                "wrap.not_across",
                self.name,
                f"face {face.number} {why}: it has to cross the rotary axis {lie.axis} squarely",
                "pick holes that do, or drill it at an index position",
            )
        edges = [np.array(job.part.part.edges[number].points) for number in face.edges]
        out = (moved(job.zero_from_work, np.concatenate(edges)) - centre) @ way
        # Out of the work is where more of it lies; through the middle, the end nearer to the spindle.
        sign = np.sign(way[2] or 1.0) if out.min() < 0 < out.max() else np.sign(out.mean())
        way = way * sign
        angle = math.degrees(math.atan2(float(way @ np.cross(UP, along)), float(way[2])))
        return angle, float(off @ along)


def _brought_up(lie: Round, angle: float) -> Floats:
    """The work turned about the axis so that what lies at an angle round it comes to the top, 4×4."""
    along, centre = np.array(lie.along), np.array(lie.centre)
    c, s = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    aside = np.cross(UP, along)
    before = np.array([along, c * aside - s * UP, s * aside + c * UP])
    after = np.array([along, aside, UP])
    out = np.eye(4)
    out[:3, :3] = after.T @ before
    out[:3, 3] = centre - out[:3, :3] @ centre
    return out
