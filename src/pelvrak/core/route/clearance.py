"""What of the holding will the tools meet? Told from the planned moves and the stock that comes in, before
anything is cut.

Fast and careful rather than exact: every move counts, whatever the operations before it have cleared. The
simulation then tests the moves themselves.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import manifold3d
import numpy as np
import shapely
from shapely import Polygon

from pelvrak.core.cures import Cure, Element, differing, put
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.standing import Standing, standing
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid, transformed, with_label
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid, rotation_about_z
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import standing_at
from pelvrak.core.holding.facts import BesideFact, HoldFacts, Proposal
from pelvrak.core.holding.hold import Hold, Item
from pelvrak.core.holding.kinds import Fixture
from pelvrak.core.holding.nest import extruded
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.machine import Machine
from pelvrak.core.route.clamp_places import BEARING_SHARE, EVEN_MM, arm_outline, seen_from_above, tips, tops
from pelvrak.core.route.clearance_cures import LEAST_MM, raised, thinner
from pelvrak.core.route.naming import (
    SETUP,
    named,
    nameless_fixtures,
    nameless_position,
    nameless_tool,
    unregistered,
)
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, PATH, SURFACE
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.planning import PLAN_CELL_MM, PLAN_PATH, data_of, path_given
from pelvrak.core.route.run import Run, in_work_frame
from pelvrak.core.route.station import Station, station_from
from pelvrak.core.route.swept import Swept, distance, swept
from pelvrak.core.route.turning import Turning, cut_at
from pelvrak.core.stock.shapes import material_top

# Room wanted between a tool and a clamp, mm: common practice, no source.
ROOM_MM = 2.0
# Clamps further from every tool than this are not told.
FAR_MM = 60.0
OFF_MIDDLE_MM = 5.0
# How far the heel reaches behind where it carries, mm.
HEEL_MM = 12.0
# Turning a clamp counts like moving it so far.
TURNING_MM = 40.0


@dataclass(frozen=True)
class PlaceGiven:
    """What is cut at one position, without names: its angles and plane, its operations, and the planned path
    of each.
    """

    position: str
    at: Turned
    operations: tuple[Operation, ...]
    paths: tuple[Content, ...]


@dataclass(frozen=True)
class ClearanceGiven:
    """What clamps and tools are looked at with. stock: surface of what comes in; zero_from_work: of the
    setup's zero; solids, hold: what holds it; spec: its holding in the plan; tools: by the tokens the
    operations use; fixtures: the whole library, out of which things are proposed.
    """

    stock: Content
    zero_from_work: Floats
    solids: Content
    hold: HoldFacts
    spec: Hold
    machine: Machine
    places: tuple[PlaceGiven, ...]
    tools: dict[str, Tool]
    fixtures: tuple[Fixture, ...]


def clearance(
    run: Run, turning: Turning, tools: dict[str, Tool], incoming_key: str, fixtures: dict[str, Fixture]
) -> tuple[list[Finding], tuple[BesideFact, ...], tuple[Proposal, ...]]:
    """Findings (work frame), room beside each clamp, and proposals for a setup. Paths of cures start at the
    setup.
    """
    setup, stations, hold = turning.setup, turning.stations, turning.hold
    if not stations or hold.key is None or not setup.operations:
        return [], (), ()
    bare = _Nameless(setup, tools)
    shelf, names = nameless_fixtures(fixtures)
    cut = cut_at(turning, run.part)
    places = tuple(
        _place(run, name, station, bare, tools, incoming_key, cut[name]) for name, station in stations.items()
    )
    given = ClearanceGiven(
        surface_of(run.engine, incoming_key).content(SURFACE),
        turning.zero_from_work,
        Result(hold.key, run.engine).content(SURFACE),
        HoldFacts(
            key="held", shift=hold.shift, zero_on_table=hold.zero_on_table, jaw=hold.jaw, pieces=hold.pieces
        ),
        setup.hold,
        turning.machine.as_built,
        places,
        bare.tools,
        shelf,
    )
    found = run.engine.run(CLEARANCE, given, f"{setup.name} ways for the tools").value(FACTS)
    findings, beside, proposals = named(found, {**bare.names, **names})
    return (
        [Finding.model_validate(one) for one in findings],
        tuple(BesideFact.model_validate(one) for one in beside),
        tuple(Proposal.model_validate(one) for one in proposals),
    )


def _place(
    run: Run,
    name: str,
    station: Station,
    bare: _Nameless,
    tools: dict[str, Tool],
    incoming_key: str,
    cut: tuple[Operation, ...],
) -> PlaceGiven:
    """What is cut at a position, each operation's path planned on the stock that comes in."""
    operations, paths = [], []
    for operation in cut:
        tool = tools.get(operation.tool)
        if tool is None or operation.turns_work:  # the work turns under it: told when it is simulated
            continue
        try:
            data = data_of(run.plan, station.machine, operation, tool)
            plain = unregistered(operation)
            given = path_given(
                run.engine, run.part_content, Result(incoming_key, run.engine), plain, tool, data, station
            )
            planned = run.engine.run(PLAN_PATH, given, f"{station.setup} {operation.name}: path")
        except BadInput:
            continue  # told where the operation itself is computed
        operations.append(bare.operation(operation))
        paths.append(planned.content(PATH))
    return PlaceGiven(name, nameless_position(station.at), tuple(operations), tuple(paths))


class _Nameless:
    """A setup's operations and their tools without names, ids and changer places, and what each token is
    called.
    """

    def __init__(self, setup: Setup, tools: dict[str, Tool]) -> None:
        self.number = {one.id: i for i, one in enumerate(setup.operations)}
        used = [name for name in dict.fromkeys(one.tool for one in setup.operations) if name in tools]
        self.called = {name: f"tool {i}" for i, name in enumerate(used)}
        self.tools = {token: nameless_tool(tools[name], token) for name, token in self.called.items()}
        self.names = {SETUP: setup.name}
        for i, one in enumerate(setup.operations):
            self.names |= {f"⟦id {i}⟧": one.id, f"⟦operation {i}⟧": one.name}

    def operation(self, one: Operation) -> Operation:
        """An operation, or what of it is cut at a position, without names."""
        i = self.number[one.id]
        update = {"id": f"⟦id {i}⟧", "name": f"⟦operation {i}⟧", "tool": self.called.get(one.tool, "")}
        return one.model_copy(update=update)


def _looked(given: ClearanceGiven, reads: Reads) -> Pieces:
    work, fixtures = reads.read(given.stock, SURFACE), {one.id: one for one in given.fixtures}
    each: dict[str, _Clearance] = {}
    for place in given.places:
        station = station_from(reads, given.machine, given.zero_from_work, given.hold, given.solids, place.at)
        moves = [
            swept(path, operation, given.tools[operation.tool], station.machine.spindle.nose)
            for operation, content in zip(place.operations, place.paths, strict=True)
            if (path := reads.read(content, PATH).path).moves
        ]
        lying = transformed(work, station.zero_from_work)
        each[place.position] = _Clearance(station, given.spec, moves, given.tools, fixtures, lying, each)
    findings: list[Finding] = []
    beside: dict[str, BesideFact] = {}
    for one in each.values():
        found, rooms = one.told()
        findings += [in_work_frame(f, one.station.zero_from_work) for f in found]
        for room in rooms:
            if room.item not in beside or room.clearance < beside[room.item].clearance:
                beside[room.item] = room
    groups = findings, list(beside.values()), each[""].centred() if "" in each else []
    return {FACTS: [[one.model_dump(mode="json") for one in group] for group in groups]}


CLEARANCE = Step("ways for the tools", 2, ClearanceGiven, _looked)


@dataclass
class _Clearance:
    """One index position of a setup looked at. spec: its holding in the plan; swept: the moves of its
    operations; each: all of them by name, "" the work as it is seated.
    """

    station: Station
    spec: Hold
    swept: list[Swept]
    tools: dict[str, Tool]
    fixtures: dict[str, Fixture]
    lying: Mesh
    each: dict[str, _Clearance]

    @property
    def hold(self) -> HoldFacts:
        return self.station.hold

    @cached_property
    def here(self) -> Standing | None:
        return standing(self.lying, PLAN_CELL_MM)

    def told(self) -> tuple[list[Finding], list[BesideFact]]:
        solids = self.station.solids()
        findings: list[Finding] = []
        beside: dict[str, BesideFact] = {}
        if solids is not None:
            for number, piece in enumerate(self.hold.pieces):
                item = next((i for i in self.spec.items if i.id == piece.item), None)
                clamp = item is not None and isinstance(
                    self.fixtures.get(item.fixture), (kinds.Clamp, kinds.Bolt)
                )
                body = to_solid(with_label(solids, number))
                if clamp and not piece.name.endswith("from below"):
                    self._beside(body, piece.item, piece.name, beside)
                else:
                    findings += self._under(body, piece.name)
        findings += [self._in_the_way(one) for one in beside.values() if one.clearance < ROOM_MM]
        return findings, list(beside.values())

    def _beside(self, body: manifold3d.Manifold, item: str, name: str, beside: dict[str, BesideFact]) -> None:
        """The least room between a clamp's piece and any tool, kept when it is less than what is known of the
        item.
        """
        for one in self.swept:
            room = self._room(body, one, FAR_MM)
            if room is not None and (item not in beside or room < beside[item].clearance):
                beside[item] = BesideFact(
                    item=item,
                    name=name,
                    operation=one.operation.id,
                    operation_name=one.operation.name,
                    clearance=round(room, 3),
                )

    def _room(self, body: manifold3d.Manifold, one: Swept, far: float) -> float | None:
        """How far the tool stays away sideways, mm; below 0 in it; None when further than `far`."""
        x0, y0, z0, x1, y1, z1 = body.bounding_box()
        best: float | None = None
        for z, lines, points in one.levels:
            if z >= z1:
                continue
            away = np.maximum(
                np.maximum(np.array([x0, y0]) - points.max(axis=0), points.min(axis=0) - np.array([x1, y1])),
                0,
            )
            for low, high, radius in one.bands:
                if (
                    z + low >= z1
                    or z + high <= z0
                    or float(np.hypot(*away)) - radius > (far if best is None else best)
                ):
                    continue
                region = seen_from_above(body, z + low, z + high)
                if region.is_empty:
                    continue
                gap = distance(lines, region) - radius
                if gap < far and (best is None or gap < best):
                    best = gap
        return best

    def _under(self, body: manifold3d.Manifold, name: str) -> list[Finding]:
        """Moves that go through the work into what it stands on or between."""
        out = []
        x0, y0, _, x1, y1, z1 = body.bounding_box()
        for one in self.swept:
            worst: tuple[float, Vector, Floats, bool] | None = None
            for z, lines, points in one.levels:
                if z >= z1 - LEAST_MM:
                    continue
                for low, high, radius in one.bands:
                    near = (points.max(axis=0) > np.array([x0, y0]) - radius).all() and (
                        points.min(axis=0) < np.array([x1, y1]) + radius
                    ).all()
                    if not near or z + low >= z1:
                        continue
                    region = seen_from_above(body, z + low, z + high)
                    if region.is_empty:
                        continue
                    close = lines.query(region, "dwithin", radius - LEAST_MM)
                    if len(close) == 0:
                        continue
                    swath = shapely.unary_union(
                        shapely.buffer(lines.geometries[close], radius - LEAST_MM / 2, quad_segs=8)
                    )
                    both = body ^ extruded(swath, z + low, z + high)
                    if both.is_empty() or both.volume() < 1e-3:
                        continue
                    box = both.bounding_box()
                    depth = box[5] - (z + low)
                    if depth > LEAST_MM and (worst is None or depth > worst[0]):
                        top = mesh_of(both).vertices
                        at = top[int(np.argmax(top[:, 2]))]
                        nearest = points[int(np.argmin(np.linalg.norm(points - at[:2], axis=1)))]
                        worst = (depth, as_vector(np.round(at, 4)), nearest, low > 0)
            if worst is not None:
                out.append(self._meets(one.operation, name, *worst))
        return out

    def _meets(
        self, operation: Operation, name: str, depth: float, at: Vector, tip: Floats, holder: bool
    ) -> Finding:
        if holder:
            return Finding(
                code="hold.under_the_holder",
                severity="error",
                setup=SETUP,
                operation=operation.id,
                stage="hold",
                sentence=f"What holds the cutter of {operation.name} comes {depth:.2f} mm into the {name}.",
                measured=round(depth, 3),
                limit=0.0,
                unit="mm",
                place=(at,),
            )
        drilled = bool(operation.canned_cycle())
        said = "comes out of the work over" if drilled else "goes lower than the top of"
        return Finding(
            code="hold.under_the_drill" if drilled else "hold.under_the_cut",
            severity="error",
            setup=SETUP,
            operation=operation.id,
            stage="hold",
            sentence=f"{operation.name} {said} the {name} and runs {depth:.2f} mm into it.",
            measured=round(depth, 3),
            limit=0.0,
            unit="mm",
            place=(at,),
            cures=(
                thinner(self.spec, self.hold, name, tip, self.tools[operation.tool].DC, self.fixtures)
                if drilled
                else raised(self.spec, self.fixtures, name, depth)
            ),
        )

    def _in_the_way(self, one: BesideFact) -> Finding:
        item = next(item for item in self.spec.items if item.id == one.item)
        better = self._off_the_cut(item)
        cures = (
            ()
            if better is None
            else (
                Cure(
                    label=f"Move {item.id} off the cut",
                    edits=differing(Element(setup=SETUP, item=item.id), item, better),
                ),
            )
        )
        said = (
            f"{one.operation_name} runs {-one.clearance:.1f} mm into the {one.name} ({one.item})"
            if one.clearance < 0
            else (
                f"{one.operation_name} passes the {one.name} ({one.item}) with only {one.clearance:.1f} mm"
                " beside it"
            )
        )
        return Finding(
            code="hold.clamp_in_the_way",
            severity="error" if one.clearance < 0 else "warning",
            setup=SETUP,
            operation=one.operation,
            stage="hold",
            sentence=f"{said}: no way for the tool.",
            measured=one.clearance,
            limit=ROOM_MM,
            unit="mm",
            cures=cures,
        )

    # ---- proposals

    def _off_the_cut(self, item: Item) -> Item | None:
        """The nearest place of a strap clamp on the work's edge that keeps clear of every tool and of the
        other fixtures.
        """
        clamp, home = self.fixtures.get(item.fixture), self.each.get("")
        if not isinstance(clamp, kinds.Clamp) or clamp.style != "strap" or home is None or home.here is None:
            return None
        if home.hold.zero_on_table is None:
            return None
        zero = np.array(home.hold.zero_on_table)
        now = standing_at(self.spec, self.fixtures, item.id)
        on = now @ inverse(rigid(rotation_about_z(item.turn_deg), np.array([item.x, item.y, item.z])))
        facing = float(np.degrees(np.arctan2(now[1, 0], now[0, 0])))
        *here, base = moved(rigid(np.eye(3), -zero), now[:3, 3])
        # Its heel stands a little behind the arm.
        whole = max(clamp.length, clamp.heel_from_nose + HEEL_MM)
        outline = seen_from_above(to_solid(home.lying), -1e6, 1e6)
        top = material_top(home.here.field, 2, 1).astype(np.float64)
        nodes = (home.here.field.grid.nodes(0), home.here.field.grid.nodes(1))
        tried = [
            (float(np.hypot(*(tip - np.array(here)))) + (0.0 if turn == 0 else TURNING_MM), turn, tip)
            for turn in (0.0, 90.0, -90.0, 180.0)
            for tip in tips(outline, facing + turn, clamp.nose)
        ]
        tried.sort(key=lambda one: one[0])
        for _, turn, tip in tried:
            pose = rigid(rotation_about_z(facing + turn), np.array([*tip, 0.0]))
            nose, arm = (arm_outline(pose, clamp.width, long) for long in (clamp.nose, whole))
            heights = tops(top, nodes, nose)
            if len(heights) == 0 or not np.isfinite(heights).any():
                continue
            z = float(heights[np.isfinite(heights)].max())
            # A hole or a rounded corner under part of the nose does no harm.
            if (heights > z - EVEN_MM).mean() < BEARING_SHARE:
                continue
            under = tops(top, nodes, arm)
            if (under[np.isfinite(under)] > z + EVEN_MM).any() or not home.beside_others(arm, z, item.id):
                continue
            high = z + clamp.thickness + kinds.SCREWS[clamp.thread][2]
            # The arm, and what carries it behind: its bolt and heel, down to what they stand on.
            behind = arm_outline(
                pose @ rigid(np.eye(3), np.array([0.0, -clamp.nose, 0.0])), clamp.width, whole - clamp.nose
            )
            bodies = [(arm, z, high), (behind, base, high)]
            if not all(one.keeps_clear(*body) for one in self.each.values() for body in bodies):
                continue
            at = moved(inverse(on), moved(rigid(np.eye(3), zero), np.array([*tip, 0.0])))
            turned = (item.turn_deg + turn + 180) % 360 - 180
            return item.model_copy(
                update={"x": round(float(at[0]), 1), "y": round(float(at[1]), 1), "turn_deg": turned}
            )
        return None

    def keeps_clear(self, arm: Polygon, low: float, high: float) -> bool:
        """Whether every tool of this position keeps clear of an arm (zero frame, from above, between two
        heights).
        """
        flat = np.array(arm.exterior.coords)[:-1]
        corners = np.array([[x, y, z] for x, y in flat for z in (low, high)])
        seen = moved(self.station.at.local_from_zero, corners)
        hull, top = shapely.MultiPoint(seen[:, :2]).convex_hull, float(seen[:, 2].max())
        for one in self.swept:
            for z, lines, _ in one.levels:
                radius = max((r for from_tip, _, r in one.bands if z + from_tip < top), default=None)
                if radius is not None and distance(lines, hull) - radius < ROOM_MM:
                    return False
        return True

    def beside_others(self, arm: Polygon, under: float, own: str) -> bool:
        """Whether an arm whose underside lies at a height keeps clear of the other fixtures."""
        for piece in self.hold.pieces:
            if piece.item != own and piece.high[2] > under + EVEN_MM and piece.item != "table":
                box = shapely.box(piece.low[0], piece.low[1], piece.high[0], piece.high[1])
                if arm.distance(box) < ROOM_MM:
                    return False
        return True

    def centred(self) -> list[Proposal]:
        """The middle of what is cut onto the jaws' middle, where the screw pulls straight."""
        cuts = [one.cut for one in self.swept if one.cut is not None]
        vise = next(
            (i for i in self.spec.items if isinstance(self.fixtures.get(i.fixture), kinds.Vise)), None
        )
        if self.hold.jaw is None or not cuts or vise is None or self.here is None or self.spec.work.pushed:
            return []
        if any(item.cut is not None for item in self.spec.items):
            return []
        jaw_low, jaw_high = (np.array(end) for end in self.hold.jaw)
        along = 0 if jaw_high[0] - jaw_low[0] > jaw_high[1] - jaw_low[1] else 1
        low = max(min(float(a[along]) for a, _ in cuts), float(self.here.low[along]))
        high = min(max(float(b[along]) for _, b in cuts), float(self.here.high[along]))
        off = (low + high) / 2 - float(jaw_low[along] + jaw_high[along]) / 2
        if abs(off) <= OFF_MIDDLE_MM:
            return []
        way = float(standing_at(self.spec, self.fixtures, vise.id)[along, 0])
        return [
            Proposal(
                reason=(
                    f"the middle of what is cut lies {abs(off):.1f} mm from the jaws' middle, where the screw"
                    " pulls straight"
                ),
                cure=put(
                    "Centre the cut on the jaws",
                    Element(setup=SETUP),
                    "hold/work/x",
                    round(self.spec.work.x - off * way, 2),
                ),
            )
        ]
