"""Do holes and surfaces of a route end as their tolerances, threads and roughness say? Told of who cuts
each last.

What is known exactly is compared: the size a tool is told to make, not the stock on its rays.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.callout import SCALLOP_RA, Understood, roughness, tolerances
from pelvrak.core.geometry.part import Face, Part
from pelvrak.core.proposals.chains import rules_shipped, tolerance_of
from pelvrak.core.route.plan import Plan

# So much off a limit is none, mm.
SAME_MM = 1e-4
# Two threads are the same so far, mm.
SAME_SIZE_MM, SAME_PITCH_MM = 0.05, 0.01
# Of a drill's nominal size; under the smallest minor diameter it may be so much, mm.
UNDER_MM = 0.02


def minor_limits(size: float, pitch: float) -> tuple[float, float]:
    """Least and greatest minor diameter of an internal thread, tolerance class 6H, mm.

    ISO 965-1: D1 = D − 1.082532·P; TD1 of grade 6 is 433·P − 190·P^1.22 µm up to P 0.8 and 230·P^0.7 from 1
    (from memory).
    """
    least = size - 1.082532 * pitch
    micron = 433 * pitch - 190 * pitch**1.22 if pitch < 0.9 else 230 * pitch**0.7
    return least, least + micron / 1000


@dataclass(frozen=True)
class _Cut:
    """An operation that is told to cut a hole."""

    setup: str
    operation: Operation
    tool: Tool
    face: Face

    @property
    def size(self) -> float | None:
        """Of the hole it makes, mm."""
        return self.operation.bore_made(self.tool, 2 * (self.face.radius or 0.0))

    @property
    def thread(self) -> tuple[float, float] | None:
        """Size and pitch of the thread it makes, mm."""
        return self.operation.thread_made(self.tool, 2 * (self.face.radius or 0.0))

    def told(self, code: str, severity: Severity, sentence: str, **more: Any) -> Finding:
        return Finding(
            code=code,
            severity=severity,
            setup=self.setup,
            operation=self.operation.id,
            stage="cut",
            sentence=sentence,
            place=(self.face.centre,),
            **more,
        )


def ends_of(plan: Plan, part: Part) -> dict[tuple[str, str], tuple[Finding, ...]]:
    """What is told of how faces end, by setup (its name) and operation (its id). plan: settled."""
    cuts = _cuts(plan, part)
    out: dict[tuple[str, str], list[Finding]] = {}
    for finding in (*_holes(plan, part, cuts), *_surfaces(plan, part, cuts)):
        rows = out.setdefault((finding.setup or "", finding.operation or ""), [])
        # Of faces alike one operation is told once, with all their places.
        same = next((n for n, one in enumerate(rows) if one.sentence == finding.sentence), None)
        if same is None:
            rows.append(finding)
        else:
            rows[same] = rows[same].model_copy(update={"place": (*rows[same].place, *finding.place)})
    return {key: tuple(rows) for key, rows in out.items()}


def _surfaces(plan: Plan, part: Part, cuts: list[_Cut]) -> Iterator[Finding]:
    """Surfaces left with higher scallops than they may have."""
    for number, ra in roughness(part, plan.part.callouts).items():
        last = next((one for one in reversed(cuts) if one.face.number == number), None)
        left = None if last is None else last.operation.scallops_left(last.tool)
        if last is None or left is None or left <= SCALLOP_RA * ra / 1000 + SAME_MM / 10:
            continue
        own = 1000 * left / SCALLOP_RA
        yield last.told(
            "cut.rougher",
            "warning",
            f"{last.operation.name} leaves scallops of {1000 * left:.3g} µm, Ra {own:.2g}; the surface may"
            f" have Ra {ra:.3g}.",
            measured=round(own, 3),
            limit=ra,
            unit="µm",
            cures=(
                put(
                    f"Scallops of {SCALLOP_RA * ra:.3g} µm",
                    Element(setup=last.setup, operation=last.operation.id),
                    "scallop",
                    round(SCALLOP_RA * ra / 1000, 5),
                ),
            ),
        )


def _holes(plan: Plan, part: Part, cuts: list[_Cut]) -> Iterator[Finding]:
    """Holes that end as they should not."""
    meant = tolerances(part, plan.part.callouts)
    faces = {face: hole.faces for hole in part.holes for face in hole.faces}
    said: set[tuple[int, ...]] = set()
    for number, understood in meant.items():
        own = faces.get(number)
        if own is None or own in said:
            continue
        said.add(own)
        done = [one for one in cuts if one.face.number in own]
        yield from _ended(understood, done)


def _cuts(plan: Plan, part: Part) -> list[_Cut]:
    """Who is told to cut which face, in the route's order."""
    tools = {tool.id: tool for tool in plan.tools}
    return [
        _Cut(setup.name, one, tools[one.tool], part.faces[ref.face])
        for setup in plan.setups
        if setup.makes is None
        for one in setup.operations
        if one.tool in tools
        for ref in one.faces_told()
        if ref.face < len(part.faces)
    ]


def _ended(meant: Understood, done: list[_Cut]) -> Iterator[Finding]:
    """What is wrong with a hole by what it was to be. done: who cuts it, in order."""
    if meant.kind == "thread":
        yield from _threaded(meant, done)
        return
    sized = [one for one in done if one.size is not None]
    if not sized:
        return
    last, size = sized[-1], sized[-1].size or 0.0
    name, limits = last.operation.name, f"{meant.low:.3f} … {meant.high:.3f}"
    if size > meant.high + SAME_MM:
        yield last.told(
            "cut.hole_too_wide",
            "error",
            f"{name} makes the hole Ø{size:.3f}; it may be {limits} mm.",
            measured=round(size, 4),
            limit=meant.high,
            unit="mm",
        )
    elif size < meant.low - SAME_MM:
        yield last.told(
            "cut.hole_too_narrow",
            "warning",
            f"{name} is the last in the hole and leaves it Ø{size:.3f}; it is to be {limits} mm.",
            measured=round(size, 4),
            limit=meant.low,
            unit="mm",
        )
    elif last.operation.is_drilled():
        grade = rules_shipped().close_to_grade
        if round(meant.high - meant.low, 6) <= tolerance_of(grade, size):
            yield last.told(
                "cut.hole_not_held",
                "warning",
                f"{name} ends a hole of {limits} mm with a drill, which holds no such limits.",
                measured=round(meant.high - meant.low, 4),
                limit=tolerance_of(grade, size),
                unit="mm",
            )


def _threaded(meant: Understood, done: list[_Cut]) -> Iterator[Finding]:
    """The thread there is to be, and the hole it is cut in."""
    size, pitch = meant.size or 0.0, meant.pitch or 0.0
    threads = [n for n, one in enumerate(done) if one.thread is not None]
    said = meant.said.split(",")[0]
    if not threads:
        if any(one.size is not None for one in done):
            yield done[-1].told(
                "cut.no_thread",
                "warning",
                f"{done[-1].operation.name} is the last in a hole for {said}: no operation cuts the thread.",
            )
        return
    cut = done[threads[-1]]
    own_size, own_pitch = cut.thread or (0.0, 0.0)
    if abs(own_size - size) > SAME_SIZE_MM or abs(own_pitch - pitch) > SAME_PITCH_MM:
        yield cut.told(
            "cut.other_thread",
            "error",
            f"{cut.operation.name} cuts a thread of {own_size:.4g} × {own_pitch:.4g} mm; the hole is for"
            f" {said}.",
            measured=round(own_pitch, 4),
            limit=round(pitch, 4),
            unit="mm",
        )
        return
    before = [one for one in done[: threads[-1]] if one.size is not None]
    if not before:
        return
    drilled = before[-1].size or 0.0
    least, most = minor_limits(size, pitch)
    if not least - UNDER_MM <= drilled <= most + SAME_MM:
        yield before[-1].told(
            "cut.tap_drill",
            "error",
            f"{before[-1].operation.name} makes the hole for {said} Ø{drilled:.4g}; its minor diameter is"
            f" {least:.3f} … {most:.3f} mm.",
            measured=round(drilled, 4),
            limit=round(most if drilled > most else least, 4),
            unit="mm",
        )
