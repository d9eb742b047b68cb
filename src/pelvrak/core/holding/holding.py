"""Does the holding hold the work: what touches, how deep is the grip, is it located, does it rock, can it be loaded?"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import manifold3d
import numpy as np
import shapely
from scipy.spatial.transform import Rotation

from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding, Severity
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import (
    Floats,
    Mesh,
    box,
    joined,
    mesh_of,
    to_solid,
    transformed,
    volume,
    with_label,
)
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import Assembly, CutJaws, Piece, assemble, overlaps
from pelvrak.core.holding.clamping import (
    GRAVITY,
    PRESSED_COS,
    Holding,
    Programme,
    holding_of,
    programme,
    shares,
    stands,
)
from pelvrak.core.holding.contact import NEAR_MM, Patch, patches, touching_area
from pelvrak.core.holding.facts import (
    Contact,
    HoldFacts,
    LocatingFact,
    PieceFact,
    Proposal,
    ThinFact,
    WayFact,
)
from pelvrak.core.holding.hold import STAND_OUT_RATIO, STRAIGHT_WALL_MM, Hold
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.holding.loading import WayOut, ways_out
from pelvrak.core.holding.locating import Locating, contact_points, locating, motions, rows_of
from pelvrak.core.holding.pins import bore_patch
from pelvrak.core.holding.settling import FORM_MM
from pelvrak.core.holding.squeeze import MODULUS, SQUEEZE_MM, thin_wall
from pelvrak.core.holding.vee import vee_of
from pelvrak.core.stock.questions import centre_of_mass

# Common practice, no source.
GRIP_LEAST_MM = 2.0
# A jaw that touches less than this share of what lies against it touches unevenly: common practice, no source.
EVEN_SHARE = 0.25
# What lies within this of a jaw could touch it, mm.
MIGHT_TOUCH_MM = 1.0
# What of round work turned in its seat still touches it, mm: its facets stand that much off.
ROLLED_MM = 0.1
# Contacts that look the same way within 15° are one flank's.
SAME_FLANK_COS = 0.966
SQUARE_COS = 0.7
OWN_THREAD = "bolt from below"
TABLE_MARGIN_MM, TABLE_THICK_MM = 60.0, 12.0


@dataclass
class Held:
    """A holding computed: its facts and findings, and the pieces themselves, all in the frame of the stock that was given."""

    facts: HoldFacts
    findings: list[Finding]
    pieces: list[Piece]
    patches: list[Patch]
    problem: Holding | None


def united(mesh: Mesh) -> Mesh:
    """Solids that touch and overlap, told apart by label, as one closed solid."""
    bodies = [to_solid(with_label(mesh, i)) for i in np.unique(mesh.label)]
    return mesh_of(manifold3d.Manifold.batch_boolean(bodies, manifold3d.OpType.Add))


def work_solid(stock: Mesh) -> manifold3d.Manifold:
    """The stock for exact operations. Raises BadInput when its surface touches itself."""
    solid = to_solid(stock)
    if solid.status() != manifold3d.Error.NoError:
        raise BadInput(
            "hold.not_computed", "hold", "the stock's surface touches itself, so contact cannot be computed", "choose a finer resolution"
        )  # fmt: skip
    return solid


def hold_work(
    hold: Hold, fixtures: dict[str, Fixture], stock: Mesh, setup: str, density: float = 2.7e-6, material: str = "EN AW-6082",
    holes: dict[int, UprightHole] | None = None, own: dict[str, Mesh] | None = None,
    cut: dict[str, CutJaws] | None = None, near: float = NEAR_MM,
) -> Held:  # fmt: skip
    """Facts and findings of a holding.

    stock: what comes in, in the setup's orientation, mm; all facts are in its frame. density kg/mm³; near: what counts as touching,
    mm; the rest as in `assemble`.
    """
    if not hold.items:
        nothing = Finding(code="hold.nothing", severity="error", setup=setup, stage="hold", sentence="Nothing holds the work in this setup.")  # fmt: skip
        return Held(HoldFacts(), [nothing], [], [], None)
    assembly = assemble(hold, fixtures, stock, holes, own, cut)
    back = rigid(np.eye(3), -assembly.shift)
    # In the stock's frame from here on.
    pieces = [
        replace(piece, mesh=transformed(piece.mesh, back))
        for piece in (*assembly.pieces, _table(assembly, stock))
    ]
    formed = near + 2 * FORM_MM
    found = patches(
        stock, [p.mesh for p in pieces], [formed if p.item == assembly.carrier else near for p in pieces]
    )
    found = _with_pins(found, assembly, pieces)
    found += [_threaded(i, piece) for i, piece in enumerate(pieces) if piece.name == OWN_THREAD]
    mass = volume(stock) * density
    centre = centre_of_mass(stock)
    checked = _Checked(hold, fixtures, stock, setup, assembly, pieces, found, centre, material)
    clamps, owners = _clamps_of(assembly, pieces, found)
    problem = holding_of(
        found,
        owners,
        [(piece.push, piece.force) for piece in clamps if piece.push is not None],
        mass * GRAVITY,
        centre,
    )
    set_up = programme(problem)
    facts = checked.facts(set_up, problem)
    findings = checked.findings(facts, set_up)
    facts = facts.model_copy(update={"proposals": tuple(checked.proposals(facts))})
    return Held(facts, findings, pieces, found, problem)


def _clamps_of(assembly: Assembly, pieces: list[Piece], found: list[Patch]) -> tuple[list[Piece], list[int]]:
    """The clamps that press on the work, and which of them each contact belongs to, -1 for what only stands there.

    Jaws that close on what carries the work press through it, where it has the work between two walls; else not at all.
    """
    clamps = [piece for piece in pieces if piece.push is not None]
    through: set[int] = set()
    if assembly.carrier is not None and assembly.closing is not None:
        jaw = next((piece for piece in clamps if piece.name == "moving jaw"), None)
        own = {
            i: float(p.normal @ assembly.closing)
            for i, p in enumerate(found)
            if pieces[p.piece].item == assembly.carrier
        }
        if own and max(own.values()) > PRESSED_COS and min(own.values()) < -PRESSED_COS:
            through = {i for i, facing in own.items() if facing > PRESSED_COS}
        elif jaw is not None and not any(pieces[p.piece] is jaw for p in found):
            clamps.remove(jaw)
    numbers = {id(piece): i for i, piece in enumerate(clamps)}
    pressing = next((i for i, piece in enumerate(clamps) if piece.name == "moving jaw"), -1)
    return clamps, [
        pressing if i in through else numbers.get(id(pieces[p.piece]), -1) for i, p in enumerate(found)
    ]


def _with_pins(found: list[Patch], assembly: Assembly, pieces: list[Piece]) -> list[Patch]:
    """Contacts with each pin that stands in its hole taken from the two cylinders; its sides as drawn say nothing."""
    out = found
    for fit in assembly.pins:
        number = next(i for i, piece in enumerate(pieces) if piece.item == fit.pin)
        here = replace(
            fit,
            at=fit.at - assembly.shift,
            low=fit.low - assembly.shift[2],
            high=fit.high - assembly.shift[2],
        )
        out = [p for p in out if p.piece != number or abs(p.normal[2]) > 0.5] + [bore_patch(number, here)]
    return out


def _threaded(number: int, piece: Piece) -> Patch:
    """What a bolt that goes into the work's own thread does: it pulls there."""
    assert piece.push is not None
    low, high = piece.mesh.vertices.min(axis=0), piece.mesh.vertices.max(axis=0)
    at = np.array([*(low + high)[:2] / 2, high[2]])
    return Patch(
        number,
        0.0,
        at,
        piece.push,
        "thread",
        0.0,
        0.0,
        np.array([1.0, 0, 0]),
        at[None],
        piece.push[None],
        np.zeros((0, 3, 3)),
    )


def _table(assembly: Assembly, stock: Mesh) -> Piece:
    """The machine's table under the holding; layout frame."""
    meshes = [stock.vertices + assembly.shift, *(piece.mesh.vertices for piece in assembly.pieces)]
    low = np.min([v.min(axis=0) for v in meshes], axis=0) - TABLE_MARGIN_MM
    high = np.max([v.max(axis=0) for v in meshes], axis=0) + TABLE_MARGIN_MM
    low[2], high[2] = -TABLE_THICK_MM, 0.0
    return Piece("table", "table", "rests", box(low, high))


@dataclass
class _Checked:
    """A holding while it is looked at; everything in the stock's frame but the assembly."""

    hold: Hold
    fixtures: dict[str, Fixture]
    stock: Mesh
    setup: str
    assembly: Assembly
    pieces: list[Piece]
    found: list[Patch]
    centre: Floats
    material: str

    def of(self, *names: str) -> list[Patch]:
        return [patch for patch in self.found if self.pieces[patch.piece].name in names]

    def _gripping(self, found: list[Patch]) -> list[Patch]:
        """Those that the jaws press on, not what the work stands on."""
        way = self.assembly.closing
        return [] if way is None else [patch for patch in found if abs(patch.normal @ way) > 0.5]

    def _on_jaw(self, name: str) -> list[Patch]:
        """What a jaw bears on: the work, or what carries it."""
        if self.assembly.carrier is None:
            return self.of(name)
        return [p for p in self._on_carrier if self.pieces[p.piece].name == name]

    @cached_property
    def _on_carrier(self) -> list[Patch]:
        holder = joined([p.mesh for p in self.pieces if p.item == self.assembly.carrier])
        jaws = [p if "jaw" in p.name else replace(p, mesh=joined([])) for p in self.pieces]
        return patches(holder, [p.mesh for p in jaws])

    @property
    def _gripped_name(self) -> str:
        """What the jaws close on, as it is called."""
        piece = next((p for p in self.pieces if p.item == self.assembly.carrier), None)
        return "work" if piece is None else piece.name

    def index(self, item_id: str) -> int:
        return next(i for i, item in enumerate(self.hold.items) if item.id == item_id)

    # ---- facts

    def facts(self, set_up: Programme | None, problem: Holding) -> HoldFacts:
        a, shift = self.assembly, self.assembly.shift
        low, high = self.stock.vertices.min(axis=0), self.stock.vertices.max(axis=0)
        fixed, moving = (self._gripping(self._on_jaw(name)) for name in ("fixed jaw", "moving jaw"))
        span = None if a.jaw_span is None else (a.jaw_span[0] - shift, a.jaw_span[1] - shift)
        rest = self._rest(low)
        out: dict[str, Any] = {}
        if span is not None and a.closing is not None and a.jaw_top is not None:
            along = 0 if abs(a.closing[1]) > 0.5 else 1
            out["sticks_out_left"] = round(max(0.0, float(span[0][along] - low[along])), 4)
            out["sticks_out_right"] = round(max(0.0, float(high[along] - span[1][along])), 4)
            out["jaw_top"] = round(a.jaw_top - shift[2], 4)
            out["stands_above"] = round(float(high[2] - (a.jaw_top - shift[2])), 4)
            face_low = span[0].copy()
            face_low[2] = max(rest, face_low[2])
            out["jaw"] = (as_vector(np.round(face_low, 6)), as_vector(np.round(span[1], 6)))
        if fixed and moving:
            out["grip_depth"], out["grip_length"] = _grip(fixed, moving, a.closing)
        clamps = [p for p in self.pieces if p.push is not None]
        forces = None if set_up is None else np.bincount(problem.patch, shares(set_up), len(self.found))
        return HoldFacts(
            opening=None if a.opening is None else round(a.opening[0] - self._jaws_thick(), 4),
            opening_max=None if a.opening is None else round(a.opening[1] - self._jaws_thick(), 4),
            contact_fixed=round(sum(p.area for p in fixed), 2), contact_moving=round(sum(p.area for p in moving), 2),
            rest=round(rest, 4), zero_on_table=as_vector(np.round(shift, 3) + 0.0),
            pieces=tuple(
                PieceFact(name=p.name, item=p.item, role=p.role, low=as_vector(np.round(p.mesh.vertices.min(axis=0), 4)),
                          high=as_vector(np.round(p.mesh.vertices.max(axis=0), 4)))
                for p in self.pieces
            ),
            contacts=tuple(
                self._contact(patch, clamps, None if forces is None else float(forces[i])) for i, patch in enumerate(self.found)
            ),
            locating=self._locating(), ways=tuple(_way(w) for w in self._ways()), thin=self._thin(), **out,
        )  # fmt: skip

    def _jaws_thick(self) -> float:
        """Both jaws together, mm: an opening is between their faces, not between what they are screwed to."""
        for item in self.hold.items:
            one = self.fixtures[item.fixture]
            if isinstance(one, kinds.Jaws):
                return 2 * one.thickness
        return 0.0

    def _rest(self, low: Floats) -> float:
        resting = [p for p in self.found if p.normal[2] > 0.9]
        return float(max(resting, key=lambda p: p.area).centre[2]) if resting else float(low[2])

    def _contact(self, patch: Patch, clamps: list[Piece], force: float | None) -> Contact:
        piece = self.pieces[patch.piece]
        pushes = [piece.push] if piece.push is not None else [c.push for c in clamps]
        push = next((p for p in pushes if p is not None and abs(p @ patch.normal) > 0.5), None)
        angle = (
            None if push is None else float(np.degrees(np.arccos(np.clip(abs(push @ patch.normal), -1, 1))))
        )
        return Contact(
            piece=patch.piece, name=piece.name, item=piece.item, kind=patch.kind, area=round(patch.area, 2),
            length=round(patch.length, 2), width=round(patch.width, 2), centre=as_vector(np.round(patch.centre, 4) + 0.0),
            normal=as_vector(np.round(patch.normal, 6) + 0.0), angle_deg=None if angle is None else round(angle, 3),
            force=None if force is None else round(force, 1),
        )  # fmt: skip

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
            rank=found.rank, condition=round(found.condition, 2) if np.isfinite(found.condition) else None,
            free=tuple(m.told for m in found.free), fought=found.fought,
        )  # fmt: skip

    def _ways(self) -> list[WayOut]:
        shifted = Assembly(pieces=self.pieces, opening=self.assembly.opening, closing=self.assembly.closing)
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
                worst = ThinFact(piece=piece.name, thickness=round(wall.thickness, 3), span=round(wall.span, 2),
                                 height=round(wall.height, 2), bends=round(wall.bends, 5), how=wall.how)  # fmt: skip
        return worst

    # ---- findings

    def _finding(
        self, code: str, severity: Severity, sentence: str, place: Floats | None = None, **more: Any
    ) -> Finding:
        at = () if place is None else (as_vector(np.round(place, 4)),)
        return Finding(
            code=code, severity=severity, setup=self.setup, stage="hold", sentence=sentence, place=at, **more
        )

    def findings(self, facts: HoldFacts, set_up: Programme | None) -> list[Finding]:
        out = self._built()
        out += self._overlapping()
        out += self._on_pins()
        for piece in self.pieces:
            if piece.name == OWN_THREAD:
                out.append(self._finding("hold.own_thread", "note", "A bolt holds the work by its own thread: light cuts only.", piece.mesh.vertices.max(axis=0)))  # fmt: skip
        # In a collet block the work is held by the collet; the jaws hold the block.
        blocked = any(isinstance(self.fixtures[item.fixture], kinds.ColletBlock) for item in self.hold.items)
        jawed = self.assembly.closing is not None and self.assembly.jaw_top is not None and not blocked
        if jawed:
            out += self._jaws(facts) + self._through_holder(set_up)
        if not self.found:
            out.append(
                self._finding(
                    "hold.no_touch",
                    "error",
                    "No face of the holding lies against the work: it meets it at an edge or a corner, or not at all.",
                )
            )
            return out
        if not any(piece.push is not None for piece in self.pieces):
            names = sorted({self.pieces[p.piece].name for p in self.found} - {"table"})
            out.append(self._finding(
                "hold.not_clamped", "error",
                f"Nothing clamps the work: it only lies {'on the table' if not names else 'against the ' + ', the '.join(names)}.", self.centre,
            ))  # fmt: skip
        out += (
            self._uneven()
            + self._corners_first()
            + self._located_findings()
            + self._rocking(set_up)
            + self._loading(facts)
        )
        if facts.thin is not None and facts.thin.bends > SQUEEZE_MM:
            t = facts.thin
            out.append(self._finding(
                "hold.squeezed", "warning",
                f"The {t.piece} presses on a wall {t.thickness:.1f} mm thick with a hollow behind it: it bends about {t.bends:.3f} mm ({t.how}).",
                measured=t.bends, limit=SQUEEZE_MM, unit="mm",
            ))  # fmt: skip
        return out

    def _built(self) -> list[Finding]:
        """What went wrong while the holding was built up."""
        out = []
        severe: dict[str, Severity] = {
            "hold.height": "warning", "hold.nothing_to_push_at": "warning", "hold.pin_tight": "warning",
        }  # fmt: skip
        for t in self.assembly.trouble:
            cures: tuple[Cure, ...] = ()
            if t.cure is not None:
                label, path, value = t.cure
                _, item, name = path.split("/")
                cures = (Cure(label=label, path=f"hold/items/{self.index(item)}/{name}", value=value),)
            out.append(self._finding(
                t.code, severe.get(t.code, "error"), t.sentence, None if t.place is None else t.place - self.assembly.shift,
                measured=t.measured, limit=t.limit, unit=None if t.measured is None else "mm", cures=cures,
            ))  # fmt: skip
        return out

    def _overlapping(self) -> list[Finding]:
        inside = overlaps(self.stock, work_solid(self.stock), self.pieces)
        names = [piece.name for piece, _, _ in inside]
        if len(inside) >= 2:
            deep = max(d for _, d, _ in inside)
            return [self._finding(
                "hold.contradiction", "error", f"The work cannot lie against both the {names[0]} and the {names[1]}: it would stand {deep:.2f} mm in them.",
                inside[0][2], measured=round(deep, 4), limit=NEAR_MM, unit="mm",
            )]  # fmt: skip
        return [
            self._finding("hold.overlap", "error", f"The {piece.name} stands {deep:.2f} mm deep in the work.", place,
                          measured=round(deep, 4), limit=NEAR_MM, unit="mm")
            for piece, deep, place in inside
        ]  # fmt: skip

    def _on_pins(self) -> list[Finding]:
        """Pins that carry the work on their tops."""
        tops = {
            patch.piece: patch
            for patch in self.found
            if self.pieces[patch.piece].name == "pin" and patch.normal[2] > 0.5
        }
        return [
            self._finding(
                "hold.on_pins", "error",
                f"The work lies on the top of the pin {self.pieces[number].item}: it is not down on what should carry it.", patch.centre,
                measured=round(float(patch.centre[2] - self.pieces[number].mesh.vertices[:, 2].min()), 4), limit=0.0, unit="mm",
            )
            for number, patch in tops.items()
        ]  # fmt: skip

    def _jaws(self, facts: HoldFacts) -> list[Finding]:
        out = []
        a = self.assembly
        assert facts.jaw_top is not None
        assert facts.rest is not None
        vise = a.vise
        if (
            facts.opening is not None
            and facts.opening_max is not None
            and facts.opening > facts.opening_max + 1e-6
        ):
            out.append(self._finding(
                "hold.opening", "error", f"The work is {facts.opening:.1f} mm across the jaws; {vise} opens {facts.opening_max:.0f} mm.",
                measured=facts.opening, limit=facts.opening_max, unit="mm",
            ))  # fmt: skip
            return out
        high = facts.rest >= facts.jaw_top - 1e-6 and a.carrier is None
        closed_on = self._gripped_name
        if a.met and closed_on not in a.met and not high:
            touches = a.met[0]
            out.append(self._finding(
                "hold.closes_on_other", "error", f"The moving jaw closes on {touches if touches.startswith('the') else 'the ' + touches}, not on the {closed_on}.",
                self._jaw_place("moving jaw"),
            ))  # fmt: skip
            return out
        if a.free_gap is not None and a.free_gap < 0.5:
            out.append(self._finding(
                "hold.gap_closed", "error", f"The jaws meet before they grip: {max(a.free_gap, 0.0):.2f} mm are left between them.",
                self._jaw_place("moving jaw"), measured=round(a.free_gap, 4), limit=0.5, unit="mm",
            ))  # fmt: skip
        fixed, moving = facts.contact_fixed, facts.contact_moving
        if fixed == 0 or moving == 0:
            which = "Neither jaw touches" if fixed == moving else ("The fixed jaw does not touch" if fixed == 0 else "The moving jaw does not touch")  # fmt: skip
            why = (
                "it rests above the jaws" if high else "there is no wall square to the jaws where they close"
            )
            out.append(self._finding(
                "hold.no_touch", "error", f"{which} the {closed_on}: {why}.", self._jaw_place("moving jaw"), measured=min(fixed, moving),
                limit=0.0, unit="mm²", cures=self._deeper(facts, STRAIGHT_WALL_MM) if high else (),
            ))  # fmt: skip
        elif facts.grip_depth < STRAIGHT_WALL_MM - 1e-6:
            out.append(self._finding(
                "hold.shallow", "error" if facts.grip_depth < GRIP_LEAST_MM else "warning",
                f"Grip is shallow: {facts.grip_depth:.1f} mm of straight wall, {STRAIGHT_WALL_MM:g} mm wanted; "
                f"the work stands {facts.stands_above:.1f} mm above the jaws.",
                self._jaw_place("fixed jaw"), measured=facts.grip_depth, limit=STRAIGHT_WALL_MM, unit="mm",
                cures=self._deeper(facts, STRAIGHT_WALL_MM + 1),
            ))  # fmt: skip
        elif facts.stands_above > STAND_OUT_RATIO * facts.grip_depth:
            out.append(self._finding(
                "hold.stands_out", "warning", f"The work stands {facts.stands_above:.1f} mm above jaws that grip {facts.grip_depth:.1f} mm.",
                self._jaw_place("fixed jaw"), measured=round(facts.stands_above / facts.grip_depth, 2), limit=STAND_OUT_RATIO,
                unit="grips", cures=self._deeper(facts, round(facts.grip_depth * 1.5, 1)),
            ))  # fmt: skip
        return out

    def _through_holder(self, set_up: Programme | None) -> list[Finding]:
        """Work in a holder that a vise holds: whether the jaws press on the work through it."""
        a = self.assembly
        if a.carrier is None or a.closing is None:
            return []
        facing = [float(p.normal @ a.closing) for p in self.found if self.pieces[p.piece].item == a.carrier]
        if facing and max(facing) > PRESSED_COS and min(facing) < -PRESSED_COS:
            return [self._finding(
                "hold.through_holder", "note",
                f"The jaws close on the {self._gripped_name} and press on the work through it: reckoned as if it yields, as a split or a printed one does; a stiff ring keeps the force to itself.",
            )]  # fmt: skip
        if any(piece.push is not None and piece.name != "moving jaw" for piece in self.pieces):
            return []
        return [self._finding("hold.loose", "error", f"Nothing clamps the work in the {self._gripped_name}: the jaws close on it alone.", self.centre)]  # fmt: skip

    def _jaw_place(self, name: str) -> Floats | None:
        patch = next(iter(self.of(name)), None)
        if patch is not None:
            return patch.centre
        piece = next((p for p in self.pieces if p.name == name), None)
        return (
            None if piece is None else (piece.mesh.vertices.min(axis=0) + piece.mesh.vertices.max(axis=0)) / 2
        )

    def _parallels(self) -> tuple[int, kinds.Parallels, float] | None:
        for i, item in enumerate(self.hold.items):
            one = self.fixtures[item.fixture]
            if isinstance(one, kinds.Parallels):
                return i, one, item.height if item.height is not None else one.heights[0]
        return None

    def _deeper(self, facts: HoldFacts, depth: float) -> tuple[Cure, ...]:
        """The pair of parallels from the set that gives at least this grip."""
        found = self._parallels()
        if found is None or self.assembly.jaw_top is None or self.assembly.jaw_low is None:
            return ()
        i, pair, height = found
        tall = self.assembly.jaw_top - self.assembly.jaw_low
        lost = max(0.0, tall - height - facts.grip_depth) if facts.grip_depth > 0 else 0.0
        fits = [h for h in pair.heights if h <= tall - lost - depth + 1e-9 and h != height]
        if not fits:
            return ()
        best = max(fits)
        return (Cure(label=f"Parallels {best:g} mm, grip {tall - lost - best:g} mm", path=f"hold/items/{i}/height", value=best),)  # fmt: skip

    def _uneven(self) -> list[Finding]:
        """Clamps that touch along a line or a small part of what lies against them."""
        out = []
        for number, piece in enumerate(self.pieces):
            own = [p for p in self.found if p.piece == number]
            if (piece.push is None and piece.name != "fixed jaw") or not own:
                continue
            if all(p.kind != "face" for p in own) and piece.name in ("fixed jaw", "moving jaw"):
                line = max(own, key=lambda p: p.length)
                word = "at a point" if line.kind == "point" else "along a line"
                out.append(self._finding(
                    "hold.line_contact", "warning", f"The {piece.name} touches the work only {word}, {line.length:.1f} mm long: the wall there is raw, tapered or round.",
                    line.centre, measured=round(line.area, 3), limit=round(line.length * 1.0, 3), unit="mm²",
                ))  # fmt: skip
            elif piece.name in ("fixed jaw", "moving jaw"):
                could = touching_area(self.stock, piece.mesh, MIGHT_TOUCH_MM)
                area = sum(p.area for p in own)
                if could > 0 and area < EVEN_SHARE * could:
                    out.append(self._finding(
                        "hold.uneven", "warning", f"The {piece.name} bears on {area:.0f} mm² of the {could:.0f} mm² that lie against it.",
                        own[0].centre, measured=round(area, 2), limit=round(EVEN_SHARE * could, 2), unit="mm²",
                    ))  # fmt: skip
        return out

    def _corners_first(self) -> list[Finding]:
        """Nests that meet the work on a corner or an edge while their flanks still stand off."""
        out = []
        for number, piece in enumerate(self.pieces):
            item = next((i for i in self.hold.items if i.id == piece.item), None)
            # What was solved stands off where it should; its corners are judged by the solver.
            nest = item is not None and item.cut is None and isinstance(self.fixtures[item.fixture], (kinds.Block, kinds.Own))  # fmt: skip
            own = [p for p in self.found if p.piece == number and abs(p.normal[2]) < 0.5]
            if not nest or not own:
                continue
            for flank in patches(self.stock, [piece.mesh], MIGHT_TOUCH_MM):
                first = [p for p in own if p.normal @ flank.normal > SAME_FLANK_COS]
                area = sum(p.area for p in first)
                if not first or any(p.kind == "face" for p in first) or area >= EVEN_SHARE * flank.area:
                    continue
                edge = max(first, key=lambda p: p.length)
                out.append(self._finding(
                    "hold.corner_first", "warning",
                    f"The work meets the {piece.name} on a corner or an edge, {edge.length:.1f} mm long, before its flank: {flank.area:.0f} mm² of it stand off.",
                    edge.centre, measured=round(area, 2), limit=round(EVEN_SHARE * flank.area, 2), unit="mm²",
                ))  # fmt: skip
                break
        return out

    def _located_findings(self) -> list[Finding]:
        out = []
        found = self._located
        if found.free:
            told = " and ".join(m.told for m in found.free)
            along_jaws = (
                len(found.free) == 1 and found.free[0].kind == "slides" and self.assembly.closing is not None
            )
            out.append(self._finding(
                "hold.not_located", "note" if along_jaws else "warning",
                f"Nothing fixes the work against {told}" + (": set a stop, or find it there." if along_jaws else "."),
                self.centre, measured=float(found.rank), limit=6.0, unit="of 6 freedoms",
            ))  # fmt: skip
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
            out.append(self._finding(
                "hold.rocks", "error", f"The work rocks: its contacts leave it free for {motion.told}" + (f"; it meets {lines} on lines only." if lines else "."),
                motion.through, measured=float(6 - len(free)), limit=6.0, unit="of 6 freedoms",
            ))  # fmt: skip
        if set_up is not None and any(p.push is not None for p in self.pieces) and not stands(set_up):
            pushed = " and ".join(p.name for p in self.pieces if p.push is not None)
            out.append(self._finding("hold.clamp_tips", "error", f"Clamping moves the work: what the {pushed} presses with is not met by what it lies against."))  # fmt: skip
        elif not self._stands_alone():
            out.append(self._finding("hold.tips_over", "note", "Laid in and not yet clamped, the work tips over: its centre of mass is beside what it rests on.", self.centre))  # fmt: skip
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
        return [self._finding("hold.no_way_in", "error", f"The work cannot be put in or taken out along a straight way: upwards the {up.blocked_by} stands over it.")]  # fmt: skip

    # ---- proposals

    def proposals(self, facts: HoldFacts) -> list[Proposal]:
        out: list[Proposal] = []
        found = self._parallels()
        if found is not None and facts.grip_depth > 0 and facts.grip_depth < STRAIGHT_WALL_MM + 1:
            out += [Proposal(reason=f"{STRAIGHT_WALL_MM:g} mm of straight wall and a little more", cure=c) for c in self._deeper(facts, STRAIGHT_WALL_MM + 1)]  # fmt: skip
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
        if size[along] > self.assembly.opening[1] - self._jaws_thick():
            return []
        turn = 90.0 if abs(item.turn_deg) < 45 else 0.0
        return [Proposal(
            reason=f"the jaws now grip sides {size[along]:.0f} mm long; the other pair is {size[1 - along]:.0f} mm",
            cure=Cure(label="Turn the vise a quarter", path=f"hold/items/{self.index(item.id)}/turn_deg", value=turn),
        )]  # fmt: skip

    def _vees(self) -> list[Proposal]:
        """V-blocks of the library that match: as angled as the work, shorter than it."""
        out = []
        for i, item in enumerate(self.hold.items):
            one = self.fixtures[item.fixture]
            if not isinstance(one, kinds.VBlock):
                continue
            angle = vee_of(self.stock)
            size = float(
                np.ptp(self.stock.vertices[:, 0 if abs(np.cos(np.radians(item.turn_deg))) > 0.5 else 1])
            )
            fits = [
                f for f in self.fixtures.values()
                if isinstance(f, kinds.VBlock) and f.id != one.id and f.length < size and (angle is None or abs(f.angle_deg - angle) < 0.5)
            ]  # fmt: skip
            wrong = (angle is not None and abs(one.angle_deg - angle) > 0.5) or one.length >= size
            if wrong and fits:
                best = max(fits, key=lambda f: f.length)
                why = (
                    f"the work's underside has {angle:.0f}° between its flanks"
                    if angle is not None
                    else "the work is longer than it needs to be held"
                    if one.length < size
                    else "the block is as long as the work"
                )
                out.append(Proposal(
                    reason=f"{why} and is {size:.0f} mm long: a block of that angle, shorter than it, its relief free of the corner",
                    cure=Cure(label=f"Use {best.name}", path=f"hold/items/{i}/fixture", value=best.id),
                ))  # fmt: skip
        return out


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
