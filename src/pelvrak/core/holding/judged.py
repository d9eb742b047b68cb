"""What is wrong with a holding once everything stands?"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
from scipy.spatial.transform import Rotation

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.mesh import (
    Floats,
    transformed,
)
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import overlaps
from pelvrak.core.holding.better import Better
from pelvrak.core.holding.build import Jaw, sound_solid
from pelvrak.core.holding.clamping import (
    PRESSED_COS,
    Programme,
    stands,
)
from pelvrak.core.holding.contact import NEAR_MM, patches, touching_area
from pelvrak.core.holding.facts import (
    HoldFacts,
)
from pelvrak.core.holding.hold import CLOSED_MM, STAND_OUT_RATIO, STRAIGHT_WALL_MM
from pelvrak.core.holding.locating import contact_points, motions, rows_of
from pelvrak.core.holding.marks import YIELD, finished_area
from pelvrak.core.holding.screws import torque_for
from pelvrak.core.holding.squeeze import SQUEEZE_MM

# Common practice, no source.
GRIP_LEAST_MM = 2.0
# Teeth and dovetails hold by their form, on so much: common practice, no source.
BITING_MM = 3.0
# Out of a chuck with no point at the far end, in thicknesses: common practice, no source.
SLENDER = 3.0
# A jaw that touches less than this share of what lies against it touches unevenly: common practice, no
# source.
EVEN_SHARE = 0.25
# What lies within this of a jaw could touch it, mm.
MIGHT_TOUCH_MM = 1.0
# What of round work turned in its seat still touches it, mm: its facets stand that much off.
ROLLED_MM = 0.1
# Contacts that look the same way within 15° are one flank's.
SAME_FLANK_COS = 0.966
SQUARE_COS = 0.7
OWN_THREAD = "bolt from below"


@dataclass
class Judged(Better):
    """What is wrong with a holding."""

    def _finding(
        self, code: str, severity: Severity, sentence: str, place: Floats | None = None, **more: Any
    ) -> Finding:
        at = () if place is None else (as_vector(np.round(place, 4)),)
        return Finding(
            code=code, severity=severity, setup=self.setup, stage="hold", sentence=sentence, place=at, **more
        )

    def findings(self, facts: HoldFacts, set_up: Programme | None) -> list[Finding]:
        """Everything that is wrong with it."""
        out = [*self._built(), *self._overlapping(), *self._on_pins(), *self._own_threads()]
        # In a collet block the work is held by the collet; the jaws hold the block.
        blocked = any(isinstance(self.fixtures[item.fixture], kinds.ColletBlock) for item in self.hold.items)
        if self.assembly.closing is not None and self.assembly.jaw_top is not None and not blocked:
            out += self._jaws(facts) + self._through_holder()
        if self.assembly.chuck is not None and facts.grip_depth > 0:
            out += self._in_chuck(facts)
        if not self.found:
            said = (
                "No face of the holding lies against the work: it meets it at an edge or a corner, or not at"
                " all."
            )
            return [*out, self._finding("hold.no_touch", "error", said)]
        out += [*self._drawn(), *self._screws()]
        if not any(piece.push is not None for piece in self.pieces) and not self.pulls:
            names = sorted({self.pieces[p.piece].name for p in self.found} - {"table"})
            where = "against the " + ", the ".join(names) if names else "on the table"
            said = f"Nothing clamps the work: it only lies {where}."
            out.append(self._finding("hold.not_clamped", "error", said, self.centre))
        return [
            *out,
            *self._uneven(),
            *self._corners_first(),
            *self._located_findings(),
            *self._rocking(set_up),
            *self._loading(facts),
            *self._squeezed(facts),
            *self._marked(facts),
        ]

    def _drawn(self) -> list[Finding]:
        """What a magnet does not draw, and where air gets in under the work."""
        out = []
        if not self.magnetic and any(piece.draws and piece.draws.steel_only for piece in self.pieces):
            said = f"A magnet draws iron and steel only; the work is {self.material}."
            out.append(self._finding("hold.not_magnetic", "error", said, self.centre))
        for pull in self.pulls:
            if not pull.leaks:
                continue
            many = "an opening that goes" if len(pull.leaks) == 1 else f"{len(pull.leaks)} openings that go"
            said = (
                f"Air gets in under the work through {many} through it: the vacuum does not hold it unless a"
                " seal is laid round them."
            )
            more = {"measured": float(len(pull.leaks)), "limit": 0.0, "unit": "openings"}
            out.append(self._finding("hold.leaks", "error", said, pull.leaks[0], **more))
        return out

    def _screws(self) -> list[Finding]:
        """Screws tightened beyond what they stand, and clamps that press on what carries the work."""
        out = []
        for one in self.assembly.screws:
            if one.force <= one.most * 1.001:
                continue
            said = (
                f"The {one.thread} of {one.item} is tightened to {one.force / 1000:.1f} kN; one of class 8.8"
                f" that is used again stands {one.most / 1000:.1f} kN ({torque_for(one.most, one.thread):.0f}"
                " Nm)."
            )
            least = math.floor(one.most / 100) / 10
            of = Element(setup=self.setup, item=one.item)
            cures = (put(f"Tighten it to {least:g} kN", of, "force_kn", least),)
            more = {"measured": one.force / 1000, "limit": round(one.most / 1000, 3), "unit": "kN"}
            out.append(self._finding("hold.screw_overloaded", "error", said, None, cures=cures, **more))
        for item, carrier in self.assembly.beside.items():
            said = f"The clamp {item} presses on {carrier}, which carries the work, and not on the work."
            out.append(self._finding("hold.on_holder", "note", said))
        return out

    def _own_threads(self) -> list[Finding]:
        """Bolts from below into the work."""
        said = "A bolt holds the work by its own thread: light cuts only."
        return [
            self._finding("hold.own_thread", "note", said, piece.mesh.vertices.max(axis=0))
            for piece in self.pieces
            if piece.name == OWN_THREAD
        ]

    def _squeezed(self, facts: HoldFacts) -> list[Finding]:
        """A thin wall behind a clamp."""
        t = facts.thin
        if t is None or t.bends <= SQUEEZE_MM:
            return []
        said = (
            f"The {t.piece} presses on a wall {t.thickness:.1f} mm thick with a hollow behind it: it bends"
            f" about {t.bends:.3f} mm ({t.how})."
        )
        return [
            self._finding("hold.squeezed", "warning", said, measured=t.bends, limit=SQUEEZE_MM, unit="mm")
        ]

    def _marked(self, facts: HoldFacts) -> list[Finding]:
        """Teeth in a finished face, and dents."""
        out: list[Finding] = []
        for piece in self.pieces:
            if piece.bites == 0 or self.finished is None:
                continue
            area, at = finished_area(piece.mesh, self.finished, piece.bites)
            deep = f"{piece.bites:g} mm into a finished face, over {area:.0f} mm²"
            said = f"The teeth of the {piece.name} bite {deep}."
            more: dict[str, Any] = {"measured": round(area, 1), "limit": 0.0, "unit": "mm²"}
            if area > 0:
                more["cures"] = self.smooth(piece.item)
                out.append(self._finding("hold.marks", "error", said, at, **more))
        return out + self._dented(facts)

    def _dented(self, facts: HoldFacts) -> list[Finding]:
        """Where what clamps presses harder, on average over one side of one thing, than the metal stands."""
        most, sides = YIELD.get(self.material), dict[tuple[int, int], list[float]]()
        for contact, patch in zip(facts.contacts, self.found, strict=True):
            if most is not None and contact.force is not None and patch.kind == "face":
                side = int(np.argmax(np.abs(patch.normal)))
                sum_of = sides.setdefault((patch.piece, side), [0.0, 0.0])
                sum_of[0] += contact.force
                sum_of[1] += patch.area
        out = []
        for (number, _), (force, area) in sides.items():
            if most is None or area <= 0 or force / area <= most:
                continue
            name, at = self.pieces[number].name, next(p.centre for p in self.found if p.piece == number)
            said = (
                f"The {name} presses {force / 1000:.1f} kN on {area:.0f} mm²: it dents the work, which yields"
                f" at {most:g} N/mm²."
            )
            more = {"measured": round(force / area, 1), "limit": most, "unit": "N/mm²"}
            out.append(self._finding("hold.dents", "warning", said, at, **more))
        return out

    def _built(self) -> list[Finding]:
        """What went wrong while the holding was built up."""
        out = []
        severe: dict[str, Severity] = {
            "hold.height": "warning",
            "hold.nothing_to_push_at": "warning",
            "hold.pin_tight": "warning",
        }
        for t in self.assembly.trouble:
            cures: tuple[Cure, ...] = ()
            if t.cure is not None:
                label, item, field, value = t.cure
                cures = (put(label, Element(setup=self.setup, item=item), field, value),)
            out.append(
                self._finding(
                    t.code,
                    severe.get(t.code, "error"),
                    t.sentence,
                    None if t.place is None else t.place - self.assembly.shift,
                    measured=t.measured,
                    limit=t.limit,
                    unit=None if t.measured is None else "mm",
                    cures=cures,
                )
            )
        return out

    def _overlapping(self) -> list[Finding]:
        inside = overlaps(self.stock, sound_solid(self.stock, "contact cannot be computed"), self.pieces)
        names = [piece.name for piece, _, _ in inside]
        if len(inside) >= 2:
            deep = max(d for _, d, _ in inside)
            return [
                self._finding(
                    "hold.contradiction",
                    "error",
                    f"The work cannot lie against both the {names[0]} and the {names[1]}: it would stand"
                    f" {deep:.2f} mm in them.",
                    inside[0][2],
                    measured=round(deep, 4),
                    limit=NEAR_MM,
                    unit="mm",
                )
            ]
        return [
            self._finding(
                "hold.overlap",
                "error",
                f"The {piece.name} stands {deep:.2f} mm deep in the work.",
                place,
                measured=round(deep, 4),
                limit=NEAR_MM,
                unit="mm",
            )
            for piece, deep, place in inside
        ]

    def _on_pins(self) -> list[Finding]:
        """Pins that carry the work on their tops."""
        tops = {
            patch.piece: patch
            for patch in self.found
            if self.pieces[patch.piece].name == "pin" and patch.normal[2] > 0.5
        }
        return [
            self._finding(
                "hold.on_pins",
                "error",
                f"The work lies on the top of the pin {self.pieces[number].item}: it is not down on what"
                " should carry it.",
                patch.centre,
                measured=round(float(patch.centre[2] - self.pieces[number].mesh.vertices[:, 2].min()), 4),
                limit=0.0,
                unit="mm",
            )
            for number, patch in tops.items()
        ]

    def _jaws(self, facts: HoldFacts) -> list[Finding]:
        """How a vise holds: whether it opens so far, what it closes on, how deep it grips."""
        a = self.assembly
        assert facts.jaw_top is not None and facts.rest is not None
        opens, most = facts.opening, facts.opening_max
        if opens is not None and most is not None and opens > most + 1e-6:
            said = f"The work is {opens:.1f} mm across the jaws; {a.vise} opens {most:.0f} mm."
            more: dict[str, Any] = {
                "measured": opens,
                "limit": most,
                "unit": "mm",
                "cures": self.wider(opens),
            }
            return [self._finding("hold.opening", "error", said, **more)]
        high = facts.rest >= facts.jaw_top - 1e-6 and a.carrier is None
        closed_on, moving = self._gripped_name, self._jaw_place("moving")
        if a.met and closed_on not in a.met and not high:
            touches = a.met[0] if a.met[0].startswith("the") else f"the {a.met[0]}"
            said = f"The {self.jaw_name('moving')} closes on {touches}, not on the {closed_on}."
            return [self._finding("hold.closes_on_other", "error", said, moving)]
        out = []
        if a.free_gap is not None and a.free_gap < CLOSED_MM:
            said = f"The jaws meet before they grip: {max(a.free_gap, 0.0):.2f} mm are left between them."
            gap = {"measured": round(a.free_gap, 4), "limit": CLOSED_MM, "unit": "mm"}
            out.append(self._finding("hold.gap_closed", "error", said, moving, **gap))
        if facts.contact_fixed == 0 or facts.contact_moving == 0:
            return [*out, self._untouched(facts, high)]
        return out + self._grip_depth(facts)

    def _untouched(self, facts: HoldFacts, high: bool) -> Finding:
        """A jaw that does not touch. high: the work rests above the jaws."""
        fixed, moving = facts.contact_fixed, facts.contact_moving
        one = f"The {self.jaw_name('fixed' if fixed == 0 else 'moving')} does not touch"
        which = "Neither jaw touches" if fixed == moving else one
        why = "it rests above the jaws" if high else "there is no wall square to the jaws where they close"
        return self._finding(
            "hold.no_touch",
            "error",
            f"{which} the {self._gripped_name}: {why}.",
            self._jaw_place("moving"),
            measured=min(fixed, moving),
            limit=0.0,
            unit="mm²",
            cures=self.deeper(facts, STRAIGHT_WALL_MM) if high else (),
        )

    def _grip_depth(self, facts: HoldFacts) -> list[Finding]:
        """Too little wall in the jaws, or too much work above them."""
        deep, above, place = facts.grip_depth, facts.stands_above, self._jaw_place("fixed")
        wanted = BITING_MM if self._bites() else STRAIGHT_WALL_MM
        if deep < wanted - 1e-6:
            said = (
                f"Grip is shallow: {deep:.1f} mm of straight wall, {wanted:g} mm wanted; the work"
                f" stands {above:.1f} mm above the jaws."
            )
            return [self._shallow(said, deep, wanted, place, self.deeper(facts, STRAIGHT_WALL_MM + 1))]
        if above <= STAND_OUT_RATIO * deep:
            return []
        said = f"The work stands {above:.1f} mm above jaws that grip {deep:.1f} mm."
        cures = self.deeper(facts, round(deep * 1.5, 1))
        more = {"measured": round(above / deep, 2), "limit": STAND_OUT_RATIO, "unit": "grips", "cures": cures}
        return [self._finding("hold.stands_out", "warning", said, place, **more)]

    def _shallow(
        self, said: str, deep: float, wanted: float, place: Floats | None, cures: tuple[Cure, ...]
    ) -> Finding:
        """Too little wall gripped, mm."""
        severity: Severity = "error" if deep < GRIP_LEAST_MM else "warning"
        more: dict[str, Any] = {"measured": deep, "limit": wanted, "unit": "mm", "cures": cures}
        return self._finding("hold.shallow", severity, said, place, **more)

    def _bites(self) -> bool:
        """Whether jaws hold by their form: teeth, or a dovetail."""
        kinds_of = (self.fixtures[item.fixture] for item in self.hold.items)
        return any(isinstance(one, kinds.Jaws) and one.style in ("serrated", "dovetail") for one in kinds_of)

    def _in_chuck(self, facts: HoldFacts) -> list[Finding]:
        """Too little in the jaws of a chuck, or too much out of them with no point at the other end."""
        deep, above, name = facts.grip_depth, facts.stands_above, self.assembly.chuck
        if deep < STRAIGHT_WALL_MM - 1e-6:
            said = (
                f"{name} grips the work over {deep:.1f} mm only, {STRAIGHT_WALL_MM:g} mm wanted; it stands"
                f" {above:.1f} mm above the jaws."
            )
            cures = self.further_in(STRAIGHT_WALL_MM + 1 - deep)
            return [self._shallow(said, deep, STRAIGHT_WALL_MM, self.centre, cures)]
        thick = float(np.ptp(self.stock.vertices, axis=0)[:2].min())
        if self.assembly.centres or above <= SLENDER * thick:
            return []
        said = (
            f"The work stands {above:.0f} mm out of {name}, {above / thick:.1f} times its thickness of"
            f" {thick:.0f} mm, with nothing at its far end."
        )
        more = {"measured": round(above / thick, 2), "limit": SLENDER, "unit": "thicknesses"}
        return [self._finding("hold.slender", "warning", said, self.centre, **more)]

    def _through_holder(self) -> list[Finding]:
        """Work in a holder that a vise holds: whether the jaws press on the work through it."""
        a = self.assembly
        if a.carrier is None or a.closing is None:
            return []
        facing = [float(p.normal @ a.closing) for p in self.found if self.pieces[p.piece].item == a.carrier]
        if facing and max(facing) > PRESSED_COS and min(facing) < -PRESSED_COS:
            return [
                self._finding(
                    "hold.through_holder",
                    "note",
                    f"The jaws close on the {self._gripped_name} and press on the work through it: reckoned"
                    " as if it yields, as a split or a printed one does; a stiff ring keeps the force to"
                    " itself.",
                )
            ]
        if any(piece.push is not None and piece.jaw is None for piece in self.pieces):
            return []
        return [
            self._finding(
                "hold.loose",
                "error",
                f"Nothing clamps the work in the {self._gripped_name}: the jaws close on it alone.",
                self.centre,
            )
        ]

    def _jaw_place(self, jaw: Jaw) -> Floats | None:
        patch = next(iter(self.of(jaw)), None)
        if patch is not None:
            return patch.centre
        piece = next((p for p in self.pieces if p.jaw == jaw), None)
        return (
            None if piece is None else (piece.mesh.vertices.min(axis=0) + piece.mesh.vertices.max(axis=0)) / 2
        )

    def _uneven(self) -> list[Finding]:
        """Clamps that touch along a line or a small part of what lies against them."""
        out = []
        for number, piece in enumerate(self.pieces):
            own = [p for p in self.found if p.piece == number]
            if (piece.push is None and piece.jaw is None) or not own:
                continue
            if all(p.kind != "face" for p in own) and piece.jaw:
                line = max(own, key=lambda p: p.length)
                word = "at a point" if line.kind == "point" else "along a line"
                out.append(
                    self._finding(
                        "hold.line_contact",
                        "warning",
                        f"The {piece.name} touches the work only {word}, {line.length:.1f} mm long: the wall"
                        " there is raw, tapered or round.",
                        line.centre,
                        measured=round(line.area, 3),
                        limit=round(line.length * 1.0, 3),
                        unit="mm²",
                    )
                )
            elif piece.jaw:
                could = touching_area(self.stock, piece.mesh, MIGHT_TOUCH_MM)
                area = sum(p.area for p in own)
                if could > 0 and area < EVEN_SHARE * could:
                    out.append(
                        self._finding(
                            "hold.uneven",
                            "warning",
                            f"The {piece.name} bears on {area:.0f} mm² of the {could:.0f} mm² that lie"
                            " against it.",
                            own[0].centre,
                            measured=round(area, 2),
                            limit=round(EVEN_SHARE * could, 2),
                            unit="mm²",
                        )
                    )
        return out

    def _corners_first(self) -> list[Finding]:
        """Nests that meet the work on a corner or an edge while their flanks still stand off."""
        out = []
        for number, piece in enumerate(self.pieces):
            item = next((i for i in self.hold.items if i.id == piece.item), None)
            # What was solved stands off where it should; its corners are judged by the solver.
            nest = (
                item is not None
                and item.cut is None
                and isinstance(self.fixtures[item.fixture], (kinds.Block, kinds.Own))
            )
            own = [p for p in self.found if p.piece == number and abs(p.normal[2]) < 0.5]
            if not nest or not own:
                continue
            for flank in patches(self.stock, [piece.mesh], MIGHT_TOUCH_MM):
                first = [p for p in own if p.normal @ flank.normal > SAME_FLANK_COS]
                area = sum(p.area for p in first)
                if not first or any(p.kind == "face" for p in first) or area >= EVEN_SHARE * flank.area:
                    continue
                edge = max(first, key=lambda p: p.length)
                out.append(
                    self._finding(
                        "hold.corner_first",
                        "warning",
                        f"The work meets the {piece.name} on a corner or an edge, {edge.length:.1f} mm long,"
                        f" before its flank: {flank.area:.0f} mm² of it stand off.",
                        edge.centre,
                        measured=round(area, 2),
                        limit=round(EVEN_SHARE * flank.area, 2),
                        unit="mm²",
                    )
                )
                break
        return out

    def _located_findings(self) -> list[Finding]:
        out = []
        found = self._located
        if found.free:
            told = " and ".join(m.told for m in found.free)
            along_jaws = (
                len(found.free) == 1 and found.free[0].kind == "slides" and self.assembly.closing is not None
            ) or (self.assembly.chuck is not None and all(abs(m.way[2]) > 0.99 for m in found.free))
            out.append(
                self._finding(
                    "hold.not_located",
                    "note" if along_jaws else "warning",
                    f"Nothing fixes the work against {told}"
                    + (": set a stop, or find it there." if along_jaws else "."),
                    self.centre,
                    measured=float(found.rank),
                    limit=6.0,
                    unit="of 6 freedoms",
                )
            )
        out += [
            self._finding("hold.over_located", "warning", f"Over-located: {one}.") for one in found.fought
        ]
        return out

    def _rocking(self, set_up: Programme | None) -> list[Finding]:
        # What is guided keeps the work from turning; a strap, toe or bolt only presses.
        guided = [
            p for p in self.found if self.pieces[p.piece].push is None or "jaw" in self.pieces[p.piece].name
        ]
        matrix = rows_of(guided, self.centre, self._length())
        _, _, free = motions(matrix, self.centre, self._length())
        out = []
        for motion in free:
            if motion.kind != "turns":
                continue
            if self._stays_itself(motion.way, motion.through):
                out.append(
                    self._finding(
                        "hold.spins",
                        "note",
                        f"Round work: only friction keeps it from {motion.told}.",
                        motion.through,
                    )
                )
                continue
            lines = ", ".join(sorted({self.pieces[p.piece].name for p in self.found if p.kind != "face"}))
            out.append(
                self._finding(
                    "hold.rocks",
                    "error",
                    f"The work rocks: its contacts leave it free for {motion.told}"
                    + (f"; it meets {lines} on lines only." if lines else "."),
                    motion.through,
                    measured=float(6 - len(free)),
                    limit=6.0,
                    unit="of 6 freedoms",
                )
            )
        if set_up is not None and any(p.clamps for p in self.pieces) and not stands(set_up):
            pushed = " and ".join(p.name for p in self.pieces if p.clamps)
            out.append(
                self._finding(
                    "hold.clamp_tips",
                    "error",
                    f"Clamping moves the work: what the {pushed} presses with is not met by what it lies"
                    " against.",
                )
            )
        elif not self._stands_alone():
            out.append(
                self._finding(
                    "hold.tips_over",
                    "note",
                    "Laid in and not yet clamped, the work tips over: its centre of mass is beside what it"
                    " rests on.",
                    self.centre,
                )
            )
        return out

    def _stays_itself(self, way: Floats, through: Floats) -> bool:
        """Whether the work, turned a little about a line, still lies where it lay: it is round there."""
        # What lies against a face square to the line turns with it, whatever its shape.
        beside = {
            patch.piece
            for patch in self.found
            if abs(patch.normal @ way) < SQUARE_COS and patch.kind not in ("bore", "thread")
        }
        walls = [self.pieces[number].mesh for number in beside]
        before = sum(touching_area(self.stock, wall, ROLLED_MM) for wall in walls)
        for angle in (6.0, -6.0, 31.0, -31.0):
            turn = Rotation.from_rotvec(np.radians(angle) * way).as_matrix()
            turned = transformed(self.stock, rigid(turn, through - turn @ through))
            after = sum(touching_area(turned, wall, ROLLED_MM) for wall in walls)
            if not 0.5 * before < after < 2 * before:
                return False
        return True

    def _stands_alone(self) -> bool:
        resting = [contact_points(p)[:, :2] for p in self.found if p.normal[2] > 0.5]
        if not resting:
            return False
        hull = shapely.MultiPoint(np.concatenate(resting)).convex_hull
        return bool(hull.distance(shapely.Point(self.centre[:2])) < 0.5)

    def _loading(self, facts: HoldFacts) -> list[Finding]:
        free = [way for way in facts.ways if way.free]
        if free:
            return []
        up = facts.ways[0]
        return [
            self._finding(
                "hold.no_way_in",
                "error",
                "The work cannot be put in or taken out along a straight way: upwards the"
                f" {up.blocked_by} stands over it.",
            )
        ]
