"""What is known of a holding once everything stands: contacts, grip, locating, ways out?"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    joined,
)
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.holding.build import Assembly, Jaw, Piece
from pelvrak.core.holding.clamping import (
    Holding,
    Programme,
    shares,
)
from pelvrak.core.holding.contact import Patch, patches
from pelvrak.core.holding.drawing import Pull
from pelvrak.core.holding.facts import (
    Contact,
    HoldFacts,
    LocatingFact,
    PieceFact,
    PinFact,
    ThinFact,
    WayFact,
)
from pelvrak.core.holding.hold import Hold
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.holding.loading import WayOut, ways_out
from pelvrak.core.holding.locating import Locating, locating
from pelvrak.core.holding.pins import turns_by
from pelvrak.core.holding.squeeze import MODULUS, thin_wall
from pelvrak.core.holding.stack import StackFact, stack_under

# How the jaws of a chuck are called, before their number.
CHUCK_JAW = "jaw "
# A push this much downwards, or a face this level, is of the vertical.
UPRIGHT = 0.5


@dataclass
class Known:
    """A holding while it is looked at; everything in the stock's frame but the assembly. material, magnetic:
    of the work; pulls: what draws it, by area; finished: faces of the part that are to be as drawn.
    """

    hold: Hold
    fixtures: dict[str, Fixture]
    stock: Mesh
    setup: str
    assembly: Assembly
    pieces: list[Piece]
    found: list[Patch]
    centre: Floats
    material: str
    magnetic: bool
    pulls: list[Pull]
    finished: Mesh | None = None

    def of(self, jaw: Jaw) -> list[Patch]:
        return [patch for patch in self.found if self.pieces[patch.piece].jaw == jaw]

    def _gripping(self, found: list[Patch]) -> list[Patch]:
        """Those that the jaws press on, not what the work stands on."""
        way = self.assembly.closing
        return [] if way is None else [patch for patch in found if abs(patch.normal @ way) > 0.5]

    def _on_jaw(self, jaw: Jaw) -> list[Patch]:
        """What a jaw bears on: the work, or what carries it."""
        if self.assembly.carrier is None:
            return self.of(jaw)
        return [p for p in self._on_carrier if self.pieces[p.piece].jaw == jaw]

    def jaw_name(self, jaw: Jaw) -> str:
        """What a jaw is called on this vise."""
        return next((p.name for p in self.pieces if p.jaw == jaw), f"{jaw} jaw")

    @cached_property
    def _on_carrier(self) -> list[Patch]:
        holder = joined([p.mesh for p in self.pieces if p.item == self.assembly.carrier])
        jaws = [p if p.jaw else replace(p, mesh=joined([])) for p in self.pieces]
        return patches(holder, [p.mesh for p in jaws])

    @property
    def _gripped_name(self) -> str:
        """What the jaws close on, as it is called."""
        piece = next((p for p in self.pieces if p.item == self.assembly.carrier), None)
        return "work" if piece is None else piece.name

    # ---- facts

    def facts(self, set_up: Programme | None, problem: Holding) -> HoldFacts:
        a, shift = self.assembly, self.assembly.shift
        low, high = self.stock.vertices.min(axis=0), self.stock.vertices.max(axis=0)
        fixed, moving = self._gripping(self._on_jaw("fixed")), self._gripping(self._on_jaw("moving"))
        span = None if a.jaw_span is None else (a.jaw_span[0] - shift, a.jaw_span[1] - shift)
        rest = self._rest(low)
        out: dict[str, Any] = {}
        if a.jaw_top is not None:
            out["jaw_top"] = round(a.jaw_top - shift[2], 4)
            out["stands_above"] = round(float(high[2] - (a.jaw_top - shift[2])), 4)
        if span is not None and a.closing is not None:
            along = 0 if abs(a.closing[1]) > 0.5 else 1
            out["sticks_out_left"] = round(max(0.0, float(span[0][along] - low[along])), 4)
            out["sticks_out_right"] = round(max(0.0, float(high[along] - span[1][along])), 4)
            face_low = span[0].copy()
            face_low[2] = max(rest, face_low[2])
            out["jaw"] = (as_vector(np.round(face_low, 6)), as_vector(np.round(span[1], 6)))
        if fixed and moving:
            out["grip_depth"], out["grip_length"] = _grip(fixed, moving, a.closing)
        if a.chuck is not None:
            out["grip_depth"] = self._chucked()
        clamps = [p for p in self.pieces if p.push is not None]
        forces = None if set_up is None else np.bincount(problem.patch, shares(set_up), len(self.found))
        drawn = {pull.patch: pull for pull in self.pulls}
        return HoldFacts(
            opening=None if a.opening is None else round(a.opening[0] - a.jaws_thick, 4),
            opening_max=None if a.opening is None else round(a.opening[1] - a.jaws_thick, 4),
            contact_fixed=round(sum(p.area for p in fixed), 2),
            contact_moving=round(sum(p.area for p in moving), 2),
            rest=round(rest, 4),
            zero_on_table=as_vector(np.round(shift, 3) + 0.0),
            pieces=tuple(
                PieceFact(
                    name=p.name,
                    item=p.item,
                    role=p.role,
                    jaw=p.jaw,
                    moves=p.moves,
                    low=as_vector(np.round(p.mesh.vertices.min(axis=0), 4)),
                    high=as_vector(np.round(p.mesh.vertices.max(axis=0), 4)),
                )
                for p in self.pieces
            ),
            contacts=tuple(
                self._contact(patch, clamps, None if forces is None else float(forces[i]), drawn.get(i))
                for i, patch in enumerate(self.found)
            ),
            locating=self._locating(),
            ways=tuple(_way(w) for w in self._ways()),
            thin=self._thin(),
            screws=tuple(a.screws),
            pins=self._pins(),
            sequence=tuple(self._sequence()),
            stack=self._stack(rest),
            **out,
        )

    def _stack(self, rest: float) -> StackFact | None:
        """What is under the work, where it rests most."""
        resting = [p for p in self.found if p.normal[2] > UPRIGHT and p.kind == "face"]
        if not resting:
            return None
        item = self.pieces[max(resting, key=lambda p: p.area).piece].item
        return stack_under(self.hold, item, self.pieces, rest)

    def _chucked(self) -> float:
        """How deep a chuck grips: as deep as the jaw that touches over the least height, mm."""
        depths = []
        for number, piece in enumerate(self.pieces):
            if not piece.name.startswith(CHUCK_JAW):
                continue
            own = [p.hull[:, 2] for p in self.found if p.piece == number and abs(p.normal[2]) < UPRIGHT]
            depths.append(float(np.ptp(np.concatenate(own))) if own else 0.0)
        return round(min(depths, default=0.0), 4)

    def _pins(self) -> tuple[PinFact, ...]:
        """Play of the pins that stand in holes, and how far the work comes off them."""
        fits = self.assembly.pins
        return tuple(
            PinFact(
                item=fit.pin,
                said=fit.said,
                least=round(fit.least, 4),
                most=round(fit.most, 4),
                lifts_off=round(fit.depth, 3),
                turns_deg=None if i == 0 or (turn := turns_by(fits[i - 1], fit)) is None else round(turn, 5),
            )
            for i, fit in enumerate(fits)
        )

    def _sequence(self) -> list[str]:
        """In which order people tighten: down on what it rests on, towards the locators, then down: common
        practice, no source.
        """
        resting = {self.pieces[p.piece].name for p in self._locators() if p.normal[2] > UPRIGHT}
        against = {self.pieces[p.piece].name for p in self._locators() if abs(p.normal[2]) <= UPRIGHT}
        pressing = [piece for piece in self.pieces if piece.push is not None]
        down = [one.name for one in pressing if one.push is not None and one.push[2] < -UPRIGHT]
        side = [one.name for one in pressing if one.push is not None and one.push[2] >= -UPRIGHT]
        if self.assembly.chuck is not None:
            # Its jaws go together, whatever each of them counts as.
            against = {name for name in against if not name.startswith(CHUCK_JAW)}
            side = [name for name in side if not name.startswith(CHUCK_JAW)] + ["chuck"]
        drawn = sorted({self.pieces[self.found[pull.patch].piece].name for pull in self.pulls})
        over = sorted(fit.pin for fit in self.assembly.pins)
        against -= {"pin"} if over else set()
        onto = f", over {_counted('pin', over)}" if over else ""
        steps = [f"Lay the work down on {_listed(resting)}{onto}." if resting else ""]
        steps += [f"Push it against {_listed(against)}." if against else ""]
        steps += [f"Draw it down by {_listed(drawn)}." if drawn else ""]
        if side:
            hold = "tap the work down and tighten" if self.jaw_name("moving") in side else "tighten"
            steps.append(f"Close {_listed(side)} by hand, {hold}.")
        if down:
            items: dict[str, list[str]] = {}
            for one in pressing:
                if one.name in down:
                    items.setdefault(one.name, []).append(one.item)
            told = " and ".join(_counted(name, which) for name, which in items.items())
            turns = " in turn, a little more each time" if len(down) > 1 else ""
            steps.append(f"Tighten {told}{turns}.")
        return [step for step in steps if step]

    def _rest(self, low: Floats) -> float:
        resting = [p for p in self.found if p.normal[2] > 0.9]
        return float(max(resting, key=lambda p: p.area).centre[2]) if resting else float(low[2])

    def _contact(self, patch: Patch, clamps: list[Piece], force: float | None, pull: Pull | None) -> Contact:
        piece = self.pieces[patch.piece]
        pushes = [piece.push] if piece.push is not None else [c.push for c in clamps]
        push = next((p for p in pushes if p is not None and abs(p @ patch.normal) > 0.5), None)
        angle = (
            None if push is None else float(np.degrees(np.arccos(np.clip(abs(push @ patch.normal), -1, 1))))
        )
        return Contact(
            piece=patch.piece,
            name=piece.name,
            item=piece.item,
            kind=patch.kind,
            area=round(patch.area, 2),
            length=round(patch.length, 2),
            width=round(patch.width, 2),
            centre=as_vector(np.round(patch.centre, 4) + 0.0),
            normal=as_vector(np.round(patch.normal, 6) + 0.0),
            angle_deg=None if angle is None else round(angle, 3),
            force=None if force is None else round(force, 1),
            drawn=None if pull is None else round(pull.force, 1),
        )

    def _locators(self) -> list[Patch]:
        return [p for p in self.found if self.pieces[p.piece].push is None]

    def _length(self) -> float:
        return float(np.linalg.norm(self.stock.vertices.max(axis=0) - self.stock.vertices.min(axis=0))) / 2

    @cached_property
    def _located(self) -> Locating:
        return locating(self._locators(), lambda p: self.pieces[p.piece].item, self.centre, self._length())

    def _locating(self) -> LocatingFact:
        found = self._located
        return LocatingFact(
            rank=found.rank,
            condition=round(found.condition, 2) if np.isfinite(found.condition) else None,
            free=tuple(m.told for m in found.free),
            fought=found.fought,
        )

    def _ways(self) -> list[WayOut]:
        shifted = replace(self.assembly, pieces=self.pieces)
        return ways_out(self.stock, shifted)

    def _thin(self) -> ThinFact | None:
        modulus = MODULUS.get(self.material)
        worst: ThinFact | None = None
        for patch in self.found:
            piece = self.pieces[patch.piece]
            opposite = next(
                (c for c in self.pieces if c.push is not None and c.push @ patch.normal < -0.9), None
            )
            force = piece.force if piece.push is not None else opposite.force if opposite is not None else 0.0
            if modulus is None or force <= 0 or patch.kind != "face":
                continue
            wall = thin_wall(self.stock, patch, force, modulus)
            if wall is not None and (worst is None or wall.bends > worst.bends):
                worst = ThinFact(
                    piece=piece.name,
                    thickness=round(wall.thickness, 3),
                    span=round(wall.span, 2),
                    height=round(wall.height, 2),
                    bends=round(wall.bends, 5),
                    how=wall.how,
                )
        return worst

    # ---- findings


def _listed(names: Iterable[str]) -> str:
    """Names as people list them, each once."""
    told = [f"the {name}" for name in dict.fromkeys(sorted(names))]
    return told[0] if len(told) == 1 else ", ".join(told[:-1]) + f" and {told[-1]}"


def _counted(name: str, items: list[str]) -> str:
    """One thing by its name, several of them with what each is called."""
    return f"the {name}" if len(items) == 1 else f"the {name}s {', '.join(items)}"


def _grip(fixed: list[Patch], moving: list[Patch], closing: Floats | None) -> tuple[float, float]:
    """Depth and length over which both jaws bear: where their areas face each other, mm."""
    assert closing is not None
    along = np.cross(closing, [0.0, 0.0, 1.0])

    def spans(patches_: list[Patch], way: Floats) -> tuple[float, float]:
        ends = np.concatenate([p.hull for p in patches_]) @ way
        return float(ends.min()), float(ends.max())

    out = []
    for way in (np.array([0.0, 0.0, 1.0]), along):
        a, b = spans(fixed, way), spans(moving, way)
        out.append(round(max(0.0, min(a[1], b[1]) - max(a[0], b[0])), 4))
    return out[0], out[1]


def _way(found: WayOut) -> WayFact:
    return WayFact(way=found.way, free=found.free, blocked_by=found.blocked_by, opening=found.opening)
