"""How are the holes made that look to the spindle? Those alike together, by the chain of their tolerance."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from pelvrak.core.cutting.standing import touches
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.geometry.callout import Understood
from pelvrak.core.geometry.holes import HoleFeature, Stage
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import FaceRef
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.proposals import choosing
from pelvrak.core.proposals.chains import Chain, StepName
from pelvrak.core.proposals.choosing import Missing
from pelvrak.core.proposals.steps import (
    PAST_MM,
    STANDS_MM,
    Cuttable,
    Passed,
    Plane,
    ProposedStep,
    Shop,
    told_faces,
)
from pelvrak.core.stock.profile import flat

# Where the part has no countersink a spot stays within its hole, a share of it: common practice, no source.
SPOT_SHARE = 0.8
# The first threads a tap cuts are not whole: it stops so many pitches above a drilled bottom.
TAP_LEAD = 3.0


def holes_in(plane: Plane, shop: Shop) -> Iterator[Cuttable | Passed]:
    """Holes that look to the spindle and still stand in the stock; the others with why they are passed by."""
    alike: dict[tuple[Any, ...], list[HoleFeature]] = {}
    for hole in plane.features.holes:
        if plane.looks_up(hole.sides):
            alike.setdefault(_form(hole, _meant(plane, hole)), []).append(hole)
    for holes in alike.values():
        meant = _meant(plane, holes[0])
        what, left = hole_called(holes[0], meant), []
        for hole in holes:
            faces = hole_faces(hole)
            cutter = flat(hole.diameter - 2 * STANDS_MM, hole.depth + 1)
            if (by := plane.cut_already(faces)) is not None:
                yield Passed(what=what, why=f"cut by {by}", faces=faces)
            elif not touches(plane.stock, _axis(plane, hole), cutter):
                yield Passed(what=what, why="already there", faces=faces)
            else:
                left.append(hole)
        if left:
            yield _offered(plane, shop, left, meant)


def _form(hole: HoleFeature, meant: Understood | None) -> tuple[Any, ...]:
    """What is the same of holes that are made alike."""
    stages = tuple((s.kind, round(s.start_diameter, 3), round(s.end_diameter, 3)) for s in hole.stages)
    return stages, round(hole.depth, 2), hole.through, None if meant is None else meant.said


def _meant(plane: Plane, hole: HoleFeature) -> Understood | None:
    """What a callout on one of its faces says."""
    return next((plane.meant[face] for face in hole_faces(hole) if face in plane.meant), None)


def hole_faces(hole: HoleFeature) -> tuple[int, ...]:
    """All faces of a hole."""
    return tuple(face for stage in hole.stages for face in stage.faces)


def hole_called(hole: HoleFeature, meant: Understood | None) -> str:
    """A hole in words. meant: by what is written at it."""
    tolerance = "" if meant is None else f" ({meant.said.removesuffix(' mm')})"
    form = "" if hole.form == "plain" else f", {hole.form}"
    depth = f"{hole.depth:.4g} {'through' if hole.through else 'deep'}"
    return f"hole Ø{hole.diameter:.4g}{tolerance}, {depth}{form}"


def _axis(plane: Plane, hole: HoleFeature) -> Floats:
    """The hole's axis in the plane, (2, 3), from its mouth down to where its walls end, mm."""
    walls = [stage for stage in hole.stages if stage.kind == "cylinder"]
    ends = moved(plane.zero_from_work, np.array([hole.stages[0].start, walls[-1].end]))
    down: Floats = np.array(ends if ends[0, 2] > ends[1, 2] else ends[::-1])
    down[1, 2] += STANDS_MM
    return down


def _mouth(plane: Plane, hole: HoleFeature) -> tuple[float, float, float]:
    """The stage that the tool comes to first: its diameter at the top and below, and its height, mm; a
    through hole has a mouth on either side.
    """
    into = float(np.dot(hole.axis, plane.up)) < 0
    stage = hole.stages[0 if into else -1]
    deep = float(np.linalg.norm(np.subtract(stage.end, stage.start)))
    wide = stage.start_diameter, stage.end_diameter
    return (*(wide if into else wide[::-1]), deep)


def _narrowest(hole: HoleFeature) -> Stage:
    return min((s for s in hole.stages if s.kind == "cylinder"), key=lambda s: s.start_diameter)


def _offered(plane: Plane, shop: Shop, holes: list[HoleFeature], meant: Understood | None) -> Cuttable:
    """The first chain for holes that are alike that there are tools for; else the tool the first lacks."""
    diameter = holes[0].diameter
    faces = plane.refs(tuple(_narrowest(hole).faces[0] for hole in holes))
    base = Cuttable(
        what=hole_called(holes[0], meant),
        kind="hole",
        count=len(holes),
        faces=faces,
        all_faces=tuple(face for hole in holes for face in hole_faces(hole)),
        position=plane.position,
    )
    lacks = ""
    for chain in shop.rules.chains_for(diameter, holes[0].depth, meant):
        try:
            steps = tuple(_Making(plane, shop, holes, meant, faces).steps(chain))
        except Missing as missing:
            lacks = lacks or missing.wanted
            continue
        return base.model_copy(update={"chain": chain.called, "source": chain.source, "steps": steps})
    return base.model_copy(update={"wanted": lacks or f"another way: no chain is for Ø{diameter:.4g}"})


@dataclass(frozen=True)
class _Making:
    """Holes that are alike, being made. faces: the walls of their narrowest stages."""

    plane: Plane
    shop: Shop
    holes: list[HoleFeature]
    meant: Understood | None
    faces: tuple[FaceRef, ...]

    @property
    def hole(self) -> HoleFeature:
        return self.holes[0]

    @property
    def name(self) -> str:
        """Of the hole, in the names of its operations."""
        thread = self.meant is not None and self.meant.kind == "thread"
        return self.meant.said.split(",")[0] if self.meant and thread else f"Ø{self.hole.diameter:.4g}"

    def steps(self, chain: Chain) -> Iterator[ProposedStep]:
        """The steps of a chain, then the wider stages of the holes, and their countersinks where nothing has
        spotted them. Raises Missing.
        """
        for step in chain.steps:
            yield self.step(chain, step)
        yield from self.wider()
        top, below, _ = _mouth(self.plane, self.hole)
        if "spot" not in chain.steps and top > below + 1e-3:
            yield self.spot()

    def step(self, chain: Chain, step: StepName) -> ProposedStep:
        """One step of a chain. Raises Missing."""
        match step:
            case "spot":
                return self.spot()
            case "pilot":
                return self.pilot(chain)
            case "drill":
                return self.drill(chain)
            case "ream" | "tap":
                return self.finished_round(step)
            case "mill" | "finish":
                return self.milled(chain, step)
            case "thread_mill":
                return self.thread_milled()
            case "bore":
                return self.bored()

    def drilling(self, cycle: str, verb: str) -> dict[str, Any]:
        return {
            "kind": "drilling",
            "cycle": cycle,
            "name": f"{verb} {self.name}",
            "faces": told_faces(self.faces),
        }

    def spot(self) -> ProposedStep:
        """As wide as the part's own countersink; where it has none, within the hole."""
        wide, cone = SPOT_SHARE * self.hole.diameter, None
        top, below, deep = _mouth(self.plane, self.hole)
        if top > below + 1e-3:
            wide, cone = top, 2 * math.degrees(math.atan((top - below) / 2 / deep))
        tool = choosing.spot_drill(self.shop.tools, wide, cone)
        told = self.drilling("spot", "Spot") | {"chamfer": round(wide, 4)}
        return self.shop.step(tool, "finish", told)

    def drill_of(self, chain: Chain) -> Tool:
        """The drill that opens the hole, of its size or under that of what comes after. Raises Missing."""
        rules, tools, hole = self.shop.rules, self.shop.tools, self.hole
        if chain.steps[-1] in ("ream", "tap", "thread_mill") and self.meant is not None:
            tapped = chain.steps[-1] != "ream"
            return choosing.drill_before(tools, rules, tapped, hole.diameter, self.meant, hole.depth)
        least = hole.diameter - rules.plain_under_mm
        return choosing.drill(tools, least, hole.diameter, hole.diameter, hole.depth)

    def pilot(self, chain: Chain) -> ProposedStep:
        """The beginning of a deep hole by a short drill, which the long one after it follows."""
        rules, after = self.shop.rules, self.drill_of(chain)
        deep = round(rules.pilot_share * after.DC, 2)
        most = min(after.DC + rules.pilot_wider_mm, self.hole.diameter)
        tool = choosing.pilot_drill(self.shop.tools, after, most, deep)
        told = self.drilling("drill", "Pilot") | {"depth": deep}
        return self.shop.step(tool, "rough", told)

    def drill(self, chain: Chain) -> ProposedStep:
        """To size, or under the size of what comes after."""
        rules, hole, tool = self.shop.rules, self.hole, self.drill_of(chain)
        deep = hole.depth > rules.peck_over * tool.DC
        told = self.drilling("peck" if deep else "drill", "Drill")
        if deep:
            told["peck"] = round(rules.peck_share * tool.DC, 3)
        return self.shop.step(tool, "rough" if len(chain.steps) > 2 else "finish", told)

    def finished_round(self, cycle: str) -> ProposedStep:
        """Reamed or tapped."""
        assert self.meant is not None
        hole, tools = self.hole, self.shop.tools
        tapped = cycle == "tap"
        tool = (choosing.tap if tapped else choosing.reamer)(tools, self.meant, hole.depth)
        told = self.drilling(cycle, "Tap" if tapped else "Ream")
        if tapped and not hole.through:
            told["short"] = round(TAP_LEAD * (self.meant.pitch or 0.0), 3)
        return self.shop.step(tool, "finish", told)

    def thread_milled(self) -> ProposedStep:
        """Up a thread, a pitch a turn."""
        assert self.meant is not None
        hole = self.hole
        tool = choosing.thread_mill(self.shop.tools, self.meant, hole.diameter, hole.depth)
        told = {
            "kind": "threading",
            "name": f"Mill {self.name}",
            "faces": told_faces(self.faces),
            "size": self.meant.size,
            "short": 0.0 if hole.through else round(TAP_LEAD * (self.meant.pitch or 0.0), 3),
        }
        return self.shop.step(tool, "finish", told)

    def bored(self) -> ProposedStep:
        """To size by a boring head, fed out again."""
        hole = self.hole
        size = hole.diameter if self.meant is None else (self.meant.low + self.meant.high) / 2
        tool = choosing.boring_head(self.shop.tools, size, hole.depth + PAST_MM)
        told = self.drilling("bore", "Bore")
        return self.shop.step(tool, "finish", told)

    def milled(self, chain: Chain, step: str) -> ProposedStep:
        """Cleared by an end mill, or its wall finished with one."""
        shop, hole, name = self.shop, self.hole, self.name
        below = PAST_MM if hole.through else 0.0
        tool = choosing.end_mill(shop.tools, hole.diameter, hole.depth)
        if step == "finish":
            return shop.walled(tool, self.faces, f"Finish {name}", hole.depth, below)
        leave = 0.0 if chain.steps[-1] == "mill" else shop.rules.leave_mm
        verb = "Rough" if leave else "Mill"
        return shop.milled(tool, self.faces, f"{verb} {name}", leave, below)

    def wider(self) -> Iterator[ProposedStep]:
        """Stages wider than the hole itself, milled. Raises Missing."""
        for number, stage in enumerate(self.hole.stages):
            wide = stage.start_diameter
            if stage.kind != "cylinder" or wide < self.hole.diameter + 1e-3:
                continue
            faces = self.plane.refs(tuple(one.stages[number].faces[0] for one in self.holes))
            deep = float(np.linalg.norm(np.subtract(stage.end, stage.start)))
            tool = choosing.end_mill(self.shop.tools, wide, deep)
            yield self.shop.milled(tool, faces, f"Counterbore Ø{wide:.4g}", 0.0, 0.0)
