"""What would hold the work better: other parallels, another vise, other jaws, a turn of what there is?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.holding import kinds
from pelvrak.core.holding.facts import HoldFacts, Proposal
from pelvrak.core.holding.hold import STRAIGHT_WALL_MM
from pelvrak.core.holding.known import Known
from pelvrak.core.holding.vee import vee_of


@dataclass
class Better(Known):
    """What would cure a holding, and what is proposed for it."""

    def _parallels(self) -> tuple[str, kinds.Parallels, float] | None:
        for item in self.hold.items:
            one = self.fixtures[item.fixture]
            if isinstance(one, kinds.Parallels):
                return item.id, one, item.height if item.height is not None else one.heights[0]
        return None

    def deeper(self, facts: HoldFacts, depth: float) -> tuple[Cure, ...]:
        """The pair of parallels from the set that gives at least this grip."""
        found = self._parallels()
        if found is None or self.assembly.jaw_top is None or self.assembly.jaw_low is None:
            return ()
        item, pair, height = found
        tall = self.assembly.jaw_top - self.assembly.jaw_low
        lost = max(0.0, tall - height - facts.grip_depth) if facts.grip_depth > 0 else 0.0
        fits = [h for h in pair.heights if h <= tall - lost - depth + 1e-9 and h != height]
        if not fits:
            return ()
        best = max(fits)
        return (
            put(
                f"Parallels {best:g} mm, grip {tall - lost - best:g} mm",
                Element(setup=self.setup, item=item),
                "height",
                best,
            ),
        )

    def wider(self, opens: float) -> tuple[Cure, ...]:
        """The library's vise that opens wide enough for these jaws, the smallest."""
        item = next((i for i in self.hold.items if isinstance(self.fixtures[i.fixture], kinds.Vise)), None)
        jaws = next(
            (j for i in self.hold.items if isinstance(j := self.fixtures[i.fixture], kinds.Jaws)), None
        )
        vise = None if item is None else self.fixtures[item.fixture]
        mine = vise.style if isinstance(vise, kinds.Vise) else ""
        fits = [
            one
            for one in self.fixtures.values()
            if isinstance(one, kinds.Vise)
            and one.style == mine
            and one.opening_max - self.assembly.jaws_thick >= opens
            and (jaws is None or jaws.width >= one.jaw_width)
        ]
        if item is None or not fits:
            return ()
        best = min(fits, key=lambda one: one.opening_max)
        of = Element(setup=self.setup, item=item.id)
        label = f"Use {best.name}: it opens {best.opening_max - self.assembly.jaws_thick:g} mm"
        return (put(label, of, "fixture", best.id),)

    def further_in(self, lacking: float) -> tuple[Cure, ...]:
        """Work set further into a chuck, where it stands off its face."""
        item = next((i for i in self.hold.items if i.stand_off >= lacking), None)
        if item is None:
            return ()
        off = round(item.stand_off - lacking, 2)
        of = Element(setup=self.setup, item=item.id)
        return (put(f"{lacking:.1f} mm further in: {off:g} mm off the face", of, "stand_off", off),)

    def smooth(self, item: str) -> tuple[Cure, ...]:
        """The library's jaws without teeth that go where the toothed ones are."""
        one = self.fixtures[next(i.fixture for i in self.hold.items if i.id == item)]
        if not isinstance(one, kinds.Jaws):
            return ()
        fits = [
            other
            for other in self.fixtures.values()
            if isinstance(other, kinds.Jaws)
            and other.style in ("hard", "stepped")
            and other.width == one.width
        ]
        of = Element(setup=self.setup, item=item)
        return tuple(put(f"Use {other.name}", of, "fixture", other.id) for other in fits[:1])

    def proposals(self, facts: HoldFacts) -> list[Proposal]:
        """What can be accepted to hold the work better."""
        out: list[Proposal] = []
        found = self._parallels()
        if found is not None and facts.grip_depth > 0 and facts.grip_depth < STRAIGHT_WALL_MM + 1:
            out += [
                Proposal(reason=f"{STRAIGHT_WALL_MM:g} mm of straight wall and a little more", cure=c)
                for c in self.deeper(facts, STRAIGHT_WALL_MM + 1)
            ]
        a = self.assembly
        if a.closing is not None and a.jaw_span is not None and not any(i.cut for i in self.hold.items):
            along = 0 if abs(a.closing[1]) > 0.5 else 1
            out += self._other_way(along)
        out += self._vees()
        return out

    def _other_way(self, along: int) -> list[Proposal]:
        """Closing the other way round when the longer sides would then be gripped."""
        size = self.stock.vertices.max(axis=0) - self.stock.vertices.min(axis=0)
        item = next((i for i in self.hold.items if isinstance(self.fixtures[i.fixture], kinds.Vise)), None)
        if item is None or size[along] >= 0.8 * size[1 - along] or self.assembly.opening is None:
            return []
        if size[along] > self.assembly.opening[1] - self.assembly.jaws_thick:
            return []
        turn = 90.0 if abs(item.turn_deg) < 45 else 0.0
        return [
            Proposal(
                reason=(
                    f"the jaws now grip sides {size[along]:.0f} mm long; the other pair is"
                    f" {size[1 - along]:.0f} mm"
                ),
                cure=put(
                    "Turn the vise a quarter", Element(setup=self.setup, item=item.id), "turn_deg", turn
                ),
            )
        ]

    def _vees(self) -> list[Proposal]:
        """V-blocks of the library that match: as angled as the work, shorter than it."""
        out = []
        for item in self.hold.items:
            one = self.fixtures[item.fixture]
            if not isinstance(one, kinds.VBlock):
                continue
            angle = vee_of(self.stock)
            size = float(
                np.ptp(self.stock.vertices[:, 0 if abs(np.cos(np.radians(item.turn_deg))) > 0.5 else 1])
            )
            fits = [
                f
                for f in self.fixtures.values()
                if isinstance(f, kinds.VBlock)
                and f.id != one.id
                and f.length < size
                and (angle is None or abs(f.angle_deg - angle) < 0.5)
            ]
            wrong = (angle is not None and abs(one.angle_deg - angle) > 0.5) or one.length >= size
            if wrong and fits:
                best = max(fits, key=lambda f: f.length)
                why = (
                    f"the work's underside has {angle:.0f}° between its flanks"
                    if angle is not None
                    else (
                        "the work is longer than it needs to be held"
                        if one.length < size
                        else "the block is as long as the work"
                    )
                )
                out.append(
                    Proposal(
                        reason=(
                            f"{why} and is {size:.0f} mm long: a block of that angle, shorter than it, its"
                            " relief free of the corner"
                        ),
                        cure=put(
                            f"Use {best.name}", Element(setup=self.setup, item=item.id), "fixture", best.id
                        ),
                    )
                )
        return out
