"""Engraving: text and lines of a drawing, along the middle or cleared inside outlines, on a plane or round an
axis.
"""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
import shapely
from pydantic import Field, model_validator
from shapely import LineString, STRtree, affinity, maximum_inscribed_circle
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cutting.job import Job
from pelvrak.core.cutting.lettering import Letter, letters
from pelvrak.core.cutting.operation import Depth, OperationKind, StepOver, width_of_pass
from pelvrak.core.cutting.passes import at_height, levels, rings_of, trace
from pelvrak.core.cutting.regions import floor_region, offset
from pelvrak.core.cutting.standing import top_within, touches
from pelvrak.core.cutting.tools import Tool, ToolKind, cutter_profile
from pelvrak.core.cutting.wrapped import floor_on, off_flat, on_flat, within_rotary
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.outline import regions_within
from pelvrak.core.geometry.part import FaceRef, Part, face_of
from pelvrak.core.geometry.planar import pieces
from pelvrak.core.stock.profile import flat, outline

Place = Annotated[float, Field(ge=-2000, le=2000)]
Line = Annotated[tuple[tuple[Place, Place], ...], Field(min_length=2, max_length=20_000)]
# Of a face so much may stand over what is engraved before it is told, mm.
STANDS_MM = 0.05
# The stock is looked at so far beside what is cut: between its columns a groove would be missed, mm.
LOOK_MM = 1.0
# Strokes that end this near to each other, of the height of capitals, are meant to meet.
JOINED_SHARE = 0.02
# What is thinner than this is no gap, mm.
THIN_MM = 1e-3
WRITTEN = {"text": ["given"]}


class Engraving(OperationKind):
    """Text or lines on a plane face: along them, or cleared inside their outlines."""

    called: ClassVar[str] = "Engraving"
    pick_first: ClassVar[str] = "Pick the face to engrave"
    tools_by: ClassVar[str] = "way"
    tools: ClassVar[dict[str, tuple[ToolKind, ...]]] = {
        "middle": ("chamfer_mill", "ball_mill", "spot_drill", "taper_mill", "end_mill"),
        "cleared": ("end_mill", "taper_mill", "chamfer_mill", "ball_mill"),
    }

    kind: Literal["engraving"] = "engraving"
    faces: Annotated[tuple[FaceRef, ...], Field(min_length=1, max_length=1)] = asked(
        title="Face",
        help="that is engraved: plane and square to the spindle, its middle is where the text stands",
        widget="faces",
        pick="Pick the face to engrave",
        place="what",
    )
    text: Annotated[str, Field(max_length=400)] = asked(
        "PART 1", title="Text", help="in lines, each as it stands", widget="text", place="what"
    )
    lines: Annotated[tuple[Line, ...], Field(max_length=2000)] = asked(
        (),
        title="Drawing",
        help="lines of a DXF drawing, in place of a text",
        unit="mm",
        empty="the text",
        widget="drawing",
        place="what",
    )
    way: Literal["middle", "cleared"] = asked(
        "middle",
        title="Cut",
        help="along the lines, or all that their outlines enclose",
        called={"middle": "along the middle", "cleared": "inside outlines"},
        place="what",
    )
    height: Annotated[float, Field(ge=0.3, le=500)] = asked(
        5.0, title="Height", help="of capital letters", unit="mm", when=WRITTEN, place="what"
    )
    spacing: Annotated[float, Field(ge=-50, le=200)] = asked(
        0.0,
        title="Spacing",
        help="more between letters than the font has",
        unit="mm",
        when=WRITTEN,
        place="what",
    )
    depth: Depth = asked(0.3, title="Depth", help="below the face", unit="mm", place="what")
    step_down: Depth = asked(1.0, title="Step down", help="depth of one pass", unit="mm", place="what")
    step_over: StepOver = width_of_pass(0.45)
    at: tuple[Place, Place] = asked(
        (0.0, 0.0),
        title="Moved",
        help="its middle from the middle of the face; round an axis: along it, and round on the surface",
        unit="mm",
        parts=("x", "y"),
        place="what",
    )
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = asked(
        0.0, title="Turned", help="counter-clockwise, seen from the spindle", unit="°", place="what"
    )
    times: Annotated[int, Field(ge=1, le=200)] = asked(
        1, title="Times", help="how often it stands there", place="what"
    )
    apart: tuple[Place, Place] = asked(
        (0.0, 10.0),
        title="Apart",
        help="from one to the next",
        unit="mm",
        parts=("x", "y"),
        place="what",
    )

    @model_validator(mode="after")
    def _says_something(self) -> Engraving:
        if not self.lines and not self.text.strip():
            raise ValueError(f"{self.name} has neither a text nor a drawing: give one")
        return self

    def unsuitable(self, tool: Tool, part: Part | None) -> float:
        """The thinnest that is no thinner than a stroke of the letters, which is an eighth of their height:
        common practice, no source.
        """
        stroke = self.height / 8
        return abs(tool.DC - stroke) + (0.0 if stroke >= tool.DC or self.way == "middle" else 100.0)

    def means_to_cut_in(self) -> bool:
        return True

    def plan(self, job: Job) -> None:
        """Letter by letter, each as deep as it goes before the next."""
        for ref in self.faces:  # one in the plan, and its like on every piece of a billet
            face = face_of(job.part.part, ref, self.name)
            region, height = floor_region(job.part.part, face, job.zero_from_work, self.name)
            _Engraved(self, job, region, height).plan()


class EngravingRound(Engraving):
    """The same on a cylinder about the rotary axis, which turns the work under the tool."""

    called: ClassVar[str] = "Engraving round an axis"
    pick_first: ClassVar[str] = "Pick the outside of a cylinder about the rotary axis"
    turns_work: ClassVar[bool] = True

    kind: Literal["engraving_round"] = "engraving_round"  # type: ignore[assignment]

    def plan(self, job: Job) -> None:
        """On the flat, over the stock as it stands unrolled."""
        face = face_of(job.part.part, self.faces[0], self.name)
        lie, region = floor_on(job.part.part, face, job.zero_from_work, job.turning, self.name)
        job.path.round = lie
        laid = on_flat(job, lie, region)
        if laid is None:
            return
        whole = 2 * math.pi * lie.radius
        _Engraved(self, laid, region, lie.centre[2] + lie.radius, whole).plan()
        off_flat(job, laid)
        job.path.moves = within_rotary(job.path, job.turning)


class _Engraved:
    """What one operation engraves, being laid out, looked over and cut."""

    def __init__(
        self, operation: Engraving, job: Job, face: BaseGeometry, height: float, once: float = math.inf
    ) -> None:
        """face: its region from above; height: of the face, mm; once: round the axis, mm."""
        self.operation, self.job, self.face, self.height, self.once = operation, job, face, height, once
        self.half = outline(cutter_profile(job.tool), operation.depth)
        if self.half <= 0:
            self.half = job.radius

    def plan(self) -> None:
        """Fill the job's path. Raises BadInput."""
        signs = self._laid(self._letters())
        lines = [self._ways(letter) for letter in signs]
        cut = [shapely.union_all([LineString(way).buffer(self.half) for way in ways]) for ways in lines]
        self._fits_face(shapely.union_all(cut))
        if self.operation.way == "middle":
            self._keeps_open(signs, cut)
        whole = shapely.union_all(cut)
        if whole.is_empty:
            return
        top = top_within(self.job.stock, whole.buffer(LOOK_MM).intersection(self.face.buffer(THIN_MM)))
        if top is None or top <= self.height - self.operation.depth + 1e-6:
            self.job.note("cut.already_there", "note", f"{self.operation.name}: it is already there.")
            return
        if top > self.height + STANDS_MM:
            self.job.note(
                "cut.stands_over",
                "warning",
                f"{top - self.height:.2f} mm stands over the face that {self.operation.name} goes into.",
                measured=round(top - self.height, 3),
                limit=STANDS_MM,
                unit="mm",
            )
        cell = self.job.stock.field.grid.cell
        if 2 * self.half < 2 * cell:
            self.job.note(
                "cut.finer_than_rays",
                "note",
                f"{self.operation.name} is cut {2 * self.half:.2f} mm wide, and the stock is known every"
                f" {cell:g} mm: the picture shows it in pieces; its path is as told.",
                measured=round(2 * self.half, 3),
                limit=2 * cell,
                unit="mm",
            )
        self.job.check_reach(top, self.height - self.operation.depth)
        for ways in lines:
            self._cut(ways, top)

    def _letters(self) -> list[Letter]:
        """Text or drawing, about its own middle."""
        operation = self.operation
        inside = operation.way == "cleared"
        if operation.lines and inside:
            ways = [np.array(line) for line in operation.lines]
            found = [Letter("drawing", shape=one) for one in regions_within(ways, operation.name)]
        elif operation.lines:
            found = [Letter("drawing", strokes=(np.array(line),)) for line in operation.lines]
        else:
            found = letters(operation.text, operation.height, operation.spacing, inside, operation.name)
        if not found:
            raise BadInput(
                "cut.nothing_written", operation.name, "its text is blank", "write what is to be engraved"
            )
        bounds = np.array([_bounds(letter) for letter in found])
        middle = (bounds[:, :2].min(axis=0) + bounds[:, 2:].max(axis=0)) / 2
        return [_placed(letter, 0.0, -middle) for letter in found]

    def _laid(self, found: list[Letter]) -> list[Letter]:
        """As often as it stands on the face, each at its place."""
        operation = self.operation
        x0, y0, x1, y1 = self.face.bounds
        middle = np.array([(x0 + x1) / 2, (y0 + y1) / 2]) + operation.at
        return [
            _placed(letter, operation.turn_deg, middle + number * np.array(operation.apart))
            for number in range(operation.times)
            for letter in found
        ]

    def _ways(self, letter: Letter) -> list[Floats]:
        """What the cutter's middle follows for a letter."""
        if self.operation.way == "middle":
            return list(letter.strokes)
        inner = offset(letter.shape, -self.half)
        if not pieces(inner):
            wide = 2 * self.half
            fits = max(2 * float(maximum_inscribed_circle(one).length) for one in pieces(letter.shape))
            high = math.ceil(10 * wide / fits * self.operation.height) / 10
            self.job.note(
                "cut.tool_too_big",
                "error",
                f"{self.job.tool.name} cuts {wide:.2f} mm wide and does not fit into {letter.said!r};"
                f" Ø{fits:.2f} would, or letters {high:g} mm high.",
                measured=round(wide, 3),
                limit=round(fits, 3),
                unit="mm",
            )
            return []
        step = self.operation.step_over * 2 * self.half
        return [ring for piece in pieces(inner) for ring in rings_of(piece, step)]

    def _fits_face(self, whole: BaseGeometry) -> None:
        """Tell what would be cut beside the face."""
        if whole.is_empty:
            return
        x0, y0, x1, y1 = whole.bounds
        if y1 - y0 > self.once:
            beside = whole.area
        else:
            past = self.face
            if self.face.bounds[3] - self.face.bounds[1] > self.once - 1e-6:
                # All the way round there is no edge across.
                fx0, _, fx1, _ = self.face.bounds
                past = shapely.box(fx0, y0 - 1, fx1, y1 + 1)
            beside = whole.difference(past.buffer(THIN_MM)).area
        if beside < THIN_MM:
            return
        fx0, fy0, fx1, fy1 = self.face.bounds
        share = min((fx1 - fx0) / (x1 - x0), min(fy1 - fy0, self.once) / (y1 - y0))
        fitting = (
            f"; letters {math.floor(10 * share * self.operation.height) / 10:g} mm high would fit"
            if share < 1 and not self.operation.lines
            else ""
        )
        self.job.note(
            "cut.text_too_wide",
            "error",
            f"{self.operation.name} is {x1 - x0:.1f} × {y1 - y0:.1f} mm, and runs over the edge of its face"
            f" of {fx1 - fx0:.1f} × {fy1 - fy0:.1f} mm{fitting}.",
            measured=round(x1 - x0, 2),
            limit=round(fx1 - fx0, 2),
            unit="mm",
        )

    def _keeps_open(self, signs: list[Letter], cut: list[BaseGeometry]) -> None:
        """Tell where the cutter is wider than the gaps: letters that run into each other, eyes that close.
        Lines of a drawing may meet.
        """
        if self.operation.lines:
            return
        lines = [shapely.union_all([LineString(way) for way in letter.strokes]) for letter in signs]
        pairs = STRtree(lines).query(lines, predicate="dwithin", distance=2 * self.half).T.tolist()
        near = [(lines[one].distance(lines[two]), one, two) for one, two in pairs if one < two]
        if near:
            gap, one, two = min(near)
            said = f"{signs[one].said!r} and {signs[two].said!r} run into each other"
            self._too_wide("cut.letters_meet", said, gap)
        thin = [line.buffer(JOINED_SHARE * self.operation.height) for line in lines]
        eyes = [
            (2 * float(maximum_inscribed_circle(shapely.Polygon(hole)).length), letter.said)
            for letter, line, wide in zip(signs, thin, cut, strict=True)
            if _eyes(wide) < _eyes(line)
            for piece in pieces(line)
            for hole in piece.interiors
        ]
        if eyes:
            eye, said = min(eyes)
            self._too_wide("cut.letter_closes", f"the inside of {said!r} is cut away", eye)

    def _too_wide(self, code: str, what: str, gap: float) -> None:
        """gap: that is there, mm."""
        operation, wide = self.operation, 2 * self.half
        cure = (
            f" letters {math.ceil(10 * wide / gap * operation.height) / 10:g} mm high, or a cut"
            f" {gap:.2f} mm wide, would keep them open."
            if gap > THIN_MM
            else " more spacing would keep them open."
        )
        self.job.note(
            code,
            "warning",
            f"{operation.name} is cut {wide:.2f} mm wide, and {what}:{cure}",
            measured=round(wide, 3),
            limit=round(gap, 3),
            unit="mm",
        )

    def _cut(self, ways: list[Floats], top: float) -> None:
        """The lines of one letter, each pass of all before the next; lifted between them."""
        job, operation = self.job, self.operation
        # Between the columns of the stock a fine cut would not be seen.
        cutter = flat(max(2 * self.half, 2 * job.stock.field.grid.cell), operation.depth + LOOK_MM)
        for z in levels(top, self.height - operation.depth, operation.step_down):
            for way in ways:
                if not touches(job.stock, at_height(way, z), cutter):
                    continue
                x, y = (float(c) for c in way[0])
                if math.dist(job.path.at[:2], (x, y)) > 1e-9 or job.path.at[2] > z + 1e-9:
                    job.path.rapid(*job.path.at[:2], top + operation.retract)
                    job.path.rapid(x, y, top + operation.retract)
                job.go_down(x, y, z)
                trace(job, way, z)
        if job.path.moves and job.path.at[2] < top + operation.retract:
            job.path.rapid(*job.path.at[:2], top + operation.retract)


def _bounds(letter: Letter) -> tuple[float, float, float, float]:
    if not letter.shape.is_empty:
        x0, y0, x1, y1 = letter.shape.bounds
        return x0, y0, x1, y1
    points = np.concatenate(letter.strokes)
    (x0, y0), (x1, y1) = points.min(axis=0), points.max(axis=0)
    return float(x0), float(y0), float(x1), float(y1)


def _placed(letter: Letter, turn_deg: float, by: Floats) -> Letter:
    """A letter turned about the origin and moved."""
    c, s = math.cos(math.radians(turn_deg)), math.sin(math.radians(turn_deg))
    strokes = tuple(stroke @ np.array([[c, s], [-s, c]]) + by for stroke in letter.strokes)
    shape = affinity.affine_transform(letter.shape, [c, -s, s, c, float(by[0]), float(by[1])])
    return Letter(letter.said, strokes, shape)


def _eyes(shape: BaseGeometry) -> int:
    """How many holes a region has."""
    return sum(len(piece.interiors) for piece in pieces(shape))
