"""Soft jaws and nests on the route: solved for the setup that grips with them, and cut in a setup of their
own.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import manifold3d
import numpy as np
from shapely.affinity import affine_transform
from shapely.geometry.base import BaseGeometry

from pelvrak.core.cures import Add, Cure, Element, put
from pelvrak.core.cutting.operations import NestRoom, Operation, Outline, Pocket
from pelvrak.core.cutting.tools import Tool
from pelvrak.core.engine.digest import digest_of
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Kind, Pieces, Reader, Reads, Step
from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, Severity
from pelvrak.core.geometry.holes import upright_holes
from pelvrak.core.geometry.mesh import Floats, Mesh, box, joined, mesh_of, to_solid, transformed
from pelvrak.core.geometry.part import Part, Vector
from pelvrak.core.geometry.protected import protected
from pelvrak.core.geometry.rigid import inverse, moved, rigid, rotation_about_z
from pelvrak.core.holding import kinds
from pelvrak.core.holding.assemble import standing_at
from pelvrak.core.holding.build import CutJaws
from pelvrak.core.holding.everyday import everyday
from pelvrak.core.holding.facts import Proposal
from pelvrak.core.holding.hold import Hold, Item, fixtures_of
from pelvrak.core.holding.nest import RIM_CUTTER_MM, Nest, Under, as_jaws, blanks, body_of
from pelvrak.core.holding.profile_block import solve_profile
from pelvrak.core.holding.soft_jaws import solve
from pelvrak.core.holding.vises import pair_of, rear_after
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.jaw_files import shape_of, to_dxf, to_stl_of
from pelvrak.core.route.naming import nameless_fixtures
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FIELD, JAW_DXF, JAW_SHAPE, JAW_STEP, JAW_STL, PART, SURFACE
from pelvrak.core.route.plan import Makes, Plan, Setup
from pelvrak.core.route.report import NestReport, SetupReport
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.stock.field import grid_around
from pelvrak.core.stock.shapes import field_of_mesh

# Under the floor's groove, so that no cutter meets the spacer, mm.
SPACER_LOW_MM = 3.0
STEP_DOWN_MM = 2.0
WALL_STEP_MM = 15.0
# What another blank mends.
OTHER_BLANK_MENDS = (
    "jaws.thin",
    "jaws.too_short",
    "jaws.too_low",
    "jaws.longer_than_work",
    "jaws.no_screws",
)


@dataclass(frozen=True)
class NestGiven:
    """What a nest is solved from. stock: surface of what comes in; rotation: of the seat, before the nest
    turns the work; item: of the holding that is cut to the work.
    """

    part: Content
    stock: Content
    rotation: Floats
    hold: Hold
    fixtures: tuple[kinds.Fixture, ...]
    item: str


@dataclass
class Solved:
    """The nest of one item of a setup's holding.

    given: what it is solved from. part: whose holes and walls it has; work: as the seat lays it, by rotation.
    nest: made when first asked for.
    """

    setup: Setup
    given: NestGiven
    item: Item
    part: Part
    work: Mesh
    names: dict[str, str] = field(default_factory=dict)

    def called(self, one: kinds.Fixture) -> str:
        """A fixture by its name: what the nest is solved from has none."""
        return self.names.get(one.name, one.name)

    @property
    def rotation(self) -> Floats:
        return self.given.rotation

    @cached_property
    def shop(self) -> dict[str, kinds.Fixture]:
        return {one.id: one for one in self.given.fixtures}

    @property
    def blank(self) -> kinds.Jaws | kinds.Block:
        one = self.shop.get(self.item.fixture)
        if not isinstance(one, (kinds.Jaws, kinds.Block)):
            raise BadInput(
                "jaws.no_blank",
                "hold",
                f"{self.item.fixture} cannot be cut to the work",
                "choose soft blanks or a nest block",
            )
        return one

    @property
    def vise(self) -> tuple[Item, kinds.Vise] | None:
        if self.item.on == "table" or isinstance(self.blank, kinds.Block):
            return None
        base = next(item for item in self.given.hold.items if item.id == self.item.on)
        one = self.shop.get(base.fixture)
        return (base, one) if isinstance(one, kinds.Vise) else None

    @property
    def in_vise(self) -> bool:
        """Whether a vise has what is cut between its jaws."""
        base = next((item for item in self.given.hold.items if item.id == self.item.on), None)
        return base is not None and isinstance(self.shop.get(base.fixture), kinds.Vise)

    @cached_property
    def nest(self) -> Nest:
        return self.solved_in(self.blank)

    @cached_property
    def _under(self) -> Under:
        """What is screwed through the block from what it stands on."""
        base = next((one for one in self.given.hold.items if one.id == self.item.on), None)
        plate = None if base is None else self.shop.get(base.fixture)
        if base is None or not isinstance(plate, kinds.Plate):
            return Under(self._bolts())
        holes = kinds.plate_holes(plate)
        columns, rows = np.indices(holes.shape[:2])
        tapped = holes[(columns + rows) % 2 == 0]
        hold = self.given.hold
        plate_from_block = inverse(standing_at(hold, self.shop, base.id)) @ standing_at(
            hold, self.shop, self.item.id
        )
        here = moved(inverse(plate_from_block), np.column_stack([tapped, np.zeros(len(tapped))]))
        return Under(self._bolts(), here[:, :2], plate.thread, self.called(plate))

    def _bolts(self) -> tuple[tuple[Floats, float], ...]:
        """Bolts from below into the work, through the block."""
        holes = upright_holes(self.part, np.eye(4))
        bolts: list[tuple[Floats, float]] = []
        for item in self.given.hold.items:
            one = self.shop.get(item.fixture)
            if (
                isinstance(one, kinds.Bolt)
                and item.into is not None
                and item.on == self.item.id
                and item.into.face in holes
            ):
                bolts.append((self.rotation @ holes[item.into.face].axis, kinds.SCREWS[one.thread][0]))
        return tuple(bolts)

    def solved_in(self, blank: kinds.Jaws | kinds.Block) -> Nest:
        """The nest as some blank would get it."""
        assert self.item.cut is not None
        front = None if self.item.moving is None else pair_of(self.item, self.shop)
        if isinstance(blank, kinds.Block) and self.item.cut.shape != "nest":
            turn = rigid(rotation_about_z(-self.turned_deg), np.zeros(3))
            return solve_profile(transformed(self.work, turn), self.item.cut, blank)
        return solve(
            self.work,
            self.item.cut,
            blank if front is None or isinstance(blank, kinds.Block) else (blank, front.moving),
            self.vise[1] if self.vise else None,
            self.turned_deg,
            self._under,
            self._walls(),
        )

    def _walls(self) -> Floats:
        """The angles at which the part's upright plane faces look in the setup, degrees from +x."""
        planes = [face.normal for face in self.part.faces if face.normal is not None]
        looks = np.array(planes).reshape(-1, 3) @ self.rotation.T
        upright = looks[np.abs(looks[:, 2]) < 1e-9]
        return np.degrees(np.arctan2(upright[:, 1], upright[:, 0]))

    @property
    def on_plate(self) -> bool:
        """Whether it is a nest that stands on a plate with tapped holes."""
        return self.item.cut is not None and self.item.cut.shape == "nest" and len(self._under.tapped) > 0

    @property
    def screwed(self) -> bool:
        """Whether screws hold the block to its plate."""
        return self.nest.jaws is not None and bool(self.nest.jaws.screws)

    @property
    def on_end(self) -> bool:
        """Whether it is a block that is cut standing on its end."""
        return (
            self.item.cut is not None
            and self.item.cut.shape != "nest"
            and isinstance(self.blank, kinds.Block)
        )

    def layout_from_nest(self) -> Floats:
        """Where the nest's frame stands on the table, 4×4."""
        y = rear_after(self.vise[1], self.nest.opening) if self.vise else 0.0
        back = rigid(np.eye(3), np.array([0.0, y, 0.0]))
        return np.asarray(self._layout_from_blank() @ back @ self.nest.frame)

    def _layout_from_blank(self) -> Floats:
        shop = self.shop
        if self.vise is None:
            return standing_at(self.given.hold, shop, self.item.id)
        base, vise = self.vise
        bed = rigid(np.eye(3), np.array([0.0, 0.0, vise.bed_height]))
        return np.asarray(standing_at(self.given.hold, shop, base.id) @ bed)

    @property
    def turned_deg(self) -> float:
        """How the blank is turned on the table."""
        turn = self._layout_from_blank()
        return float(np.degrees(np.arctan2(turn[1, 0], turn[0, 0])))

    def report(self, cut_in: str | None, zero_from_nest: Floats | None) -> NestReport:
        """What the screen shows of it."""
        nest = self.nest

        def ring(shape: BaseGeometry) -> tuple[tuple[float, float], ...]:
            return tuple((round(x, 3), round(y, 3)) for x, y in shape.simplify(0.01).exterior.coords)

        return NestReport(
            item=self.item.id,
            setup=self.setup.name,
            cut_in=cut_in,
            turn_deg=nest.turn_deg,
            between_deg=round(nest.between_deg, 4),
            grip=nest.grip,
            edge=nest.edge,
            floor=nest.floor,
            top=nest.top,
            gap=nest.gap,
            split=nest.split,
            walls=(round(nest.walls[0], 4), round(nest.walls[1], 4)),
            blank=nest.half,
            front=nest.front if self.vise and nest.front != nest.half else None,
            blank_id=nest.blank,
            outline=ring(nest.outline),
            opening=ring(nest.left),
            seated=(round(nest.seat.back, 3), round(nest.seat.front, 3)),
            reasons=tuple(nest.reasons),
            zero_from_nest=None if zero_from_nest is None else matrix(zero_from_nest),
        )

    def findings(self) -> list[Finding]:
        """What is wrong with the solution."""
        nest, out = self.nest, []
        for code, severity, sentence, measured, limit in nest.trouble:
            cures = self.other_blanks() if code in OTHER_BLANK_MENDS else ()
            severe: Severity = "error" if severity == "error" else "warning"
            out.append(
                Finding(
                    code=code,
                    severity=severe,
                    setup=self.setup.name,
                    stage="hold",
                    sentence=sentence,
                    measured=None if measured is None else round(measured, 4),
                    limit=None if limit is None else round(limit, 4),
                    unit=None if measured is None else "mm",
                    cures=cures,
                )
            )
        return out

    def other_blanks(self) -> tuple[Cure, ...]:
        """Another blank to be cut instead, where one does."""
        other = self.other_blank()
        return () if other is None else (self.used(other),)

    def used(self, other: kinds.Jaws | kinds.Block) -> Cure:
        """The nest cut in another blank."""
        of = Element(setup=self.setup.name, item=self.item.id)
        return put(f"Use {self.called(other)}", of, "fixture", other.id)

    def other_blank(self) -> kinds.Jaws | kinds.Block | None:
        """The smallest blank that leaves enough jaw everywhere."""
        assert self.item.cut is not None
        shop = self.shop.values()
        jaws = [
            f for f in shop if isinstance(f, kinds.Jaws) and f.style == "soft" and f.id != self.item.fixture
        ]
        blocks = [f for f in shop if isinstance(f, kinds.Block) and f.id != self.item.fixture]
        sized: list[kinds.Jaws | kinds.Block] = [
            *(sorted(jaws, key=lambda f: f.width * f.height * f.thickness) if self.vise else []),
            *(sorted(blocks, key=lambda f: f.width * f.height * f.length) if not self.vise else []),
        ]
        return next((other for other in sized if not self.solved_in(other).trouble), None)


def smaller_blank(solved: Solved) -> list[Proposal]:
    """The smallest blanks that do, when those chosen are larger."""
    nest = solved.nest
    if solved.vise is None or nest.trouble or min(nest.walls) < 2 * nest.spec.least_wall:
        return []
    other = solved.other_blank()
    if not isinstance(other, kinds.Jaws) or other.thickness >= nest.half[2]:
        return []
    thick, left = f"{nest.half[2]:g} mm thick blanks leave", f"{min(nest.walls):.0f} mm behind the nest"
    return [Proposal(reason=f"{thick} {left}: thinner ones do", cure=solved.used(other))]


def solved_for(run: Run, setup: Setup, incoming_key: str, rotation: Floats) -> Solved | None:
    """The nest a setup grips in; None when it has none. rotation: of its seat, before the nest turns the
    work.
    """
    item = next((one for one in setup.hold.items if one.cut is not None), None)
    if item is None:
        return None
    stock = surface_of(run.engine, incoming_key).content(SURFACE)
    shop, names = nameless_fixtures(fixtures_of(run.plan.fixtures))
    given = NestGiven(run.part_content, stock, rotation, setup.hold, shop, item.id)
    key = digest_of(given)
    if key not in run.nests:
        run.tell(f"{setup.name} jaws")
        run.nests[key] = replace(_solved(given, run.engine, setup), names=names)
    found: Solved = run.nests[key]
    return found


def _solved(given: NestGiven, reader: Reader, setup: Setup) -> Solved:
    item = next(one for one in given.hold.items if one.id == given.item)
    work = transformed(reader.read(given.stock, SURFACE), rigid(given.rotation, np.zeros(3)))
    return Solved(setup, given, item, reader.read(given.part, PART).part, work)


def cut_jaws(run: Run, solved: Solved, made: SetupReport | None) -> CutJaws:
    """The jaws to hold with: as cut on the route, or as solved when no setup cuts them."""
    nest = solved.nest
    assert nest.jaws is not None
    if made is None or made.outgoing_key is None or made.outgoing_key == made.incoming_key:
        return nest.jaws
    mesh = run.surface(made.outgoing_key)
    if solved.vise is None:
        return replace(nest.jaws, fixed=transformed(mesh, nest.frame))
    pieces = to_solid(
        Mesh(mesh.vertices, mesh.triangles, np.zeros(len(mesh.triangles), np.int64))
    ).decompose()
    sides: dict[bool, list[manifold3d.Manifold]] = {True: [], False: []}
    for piece in pieces:
        low_high = piece.bounding_box()
        sides[(low_high[1] + low_high[4]) / 2 > nest.split].append(piece)
    if not sides[True] or not sides[False]:
        return nest.jaws
    fixed, moving = (mesh_of(max(sides[side], key=lambda p: p.volume())) for side in (True, False))
    return as_jaws(nest, fixed, moving)


JAWS = Kind("jaws", 3, NestGiven)


@dataclass(frozen=True)
class JawSolidsGiven:
    """The shape of solved jaws."""

    shape: Content


def _solids(given: JawSolidsGiven, reads: Reads) -> Pieces:
    shape = reads.read(given.shape, JAW_SHAPE)
    # Open CASCADE takes seconds to load, and what breaks it must not take this process with it.
    return {JAW_STEP: protected("pelvrak.core.route.jaw_solids", [], shape, "the jaws")}


JAW_SOLIDS = Step("jaw solids", 3, JawSolidsGiven, _solids)


def jaw_files(run: Run, solved: Solved) -> str:
    """Key of the solved jaws, by which `jaw_file` gives their files."""

    def made() -> Pieces:
        nest = solved.nest
        shape = shape_of(nest).model_dump_json().encode()
        return {JAW_SHAPE: shape, JAW_STL: to_stl_of(nest), JAW_DXF: to_dxf(nest)}

    return run.engine.keep(JAWS, solved.given, made).key


def jaw_file(store: Store, key: str, kind: str) -> bytes | None:
    """The jaws of a key as a file: step, stl or dxf. The solids are written when they are asked for. None
    when there is no such file.

    Raises BadInput when they cannot be written.
    """
    if kind != "step" or store.digest(key, JAW_SHAPE.name) is None:
        return store.get(key, f"jaws.{kind}")
    engine = Engine(store)
    shape = Result(key, engine).content(JAW_SHAPE)
    return engine.run(JAW_SOLIDS, JawSolidsGiven(shape), "jaw solids").value(JAW_STEP)


def blanks_mesh(solved: Solved) -> Mesh:
    """What the jaw-cutting setup starts from: both blanks as they grip, or the block; nest frame."""
    nest = solved.nest
    if solved.vise is None:
        return mesh_of(body_of(nest))  # of a block on its end: across, along, up
    return joined([mesh_of(blank) for blank in blanks(nest)])


@dataclass(frozen=True)
class BlanksGiven:
    """What soft jaws or a nest are cut from, in its box, mm; cell: distance of the rays."""

    blanks: Mesh
    low: Vector
    high: Vector
    cell: float


def _blanks(given: BlanksGiven, reads: Reads) -> Pieces:
    grid = grid_around(np.array(given.low), np.array(given.high), given.cell)
    return {FIELD: field_of_mesh(grid, given.blanks)}


BLANKS = Step("blanks", 1, BlanksGiven, _blanks)


def spacer(solved: Solved) -> Mesh | None:
    """What stands between the jaws while they are cut, as thick as the gap of use; nest frame."""
    nest = solved.nest
    if solved.vise is None or nest.gap <= 0:
        return None
    high = max(2.0, nest.floor - nest.spec.edge_break - 2.0 - SPACER_LOW_MM)
    half = min(30.0, nest.half[0] / 4)
    t = nest.half[2]
    return box(np.array([-half, -t - nest.gap, 0.0]), np.array([half, -t, high]))


def rooms(solved: Solved, zero_from_nest: Floats) -> dict[str, tuple[BaseGeometry, float]]:
    """What is to be cut, by name: regions and floors in the zero frame."""
    nest = solved.nest
    m = zero_from_nest

    def there(region: BaseGeometry) -> BaseGeometry:
        return affine_transform(region, [m[0, 0], m[0, 1], m[1, 0], m[1, 1], m[0, 3], m[1, 3]])

    up = float(m[2, 3])
    out = {"floor": (there(nest.left), nest.floor + up)}
    step = nest.step_region()
    if step is not None:
        out["step"] = (there(step), nest.step_floor + up)
    if nest.boss is not None:
        out["boss"] = (there(nest.boss), nest.boss_floor + up)
    return out


def maker_of(plan: Plan, index: int, item: Item) -> int | None:
    """Which setup before this one cuts an item's jaws."""
    target = plan.setups[index].name
    for i, setup in enumerate(plan.setups[:index]):
        if setup.makes is not None and setup.makes == Makes(setup=target, item=item.id):
            return i
    return None


def jaw_setup(plan: Plan, solved: Solved) -> Setup:
    """The setup that cuts the jaws, ready to be put before the one that grips with them."""
    setup, nest = solved.setup, solved.nest
    assert solved.item.cut is not None
    operations: list[Operation] = []
    tools = [tool for tool in plan.tools if tool.kind == "end_mill" and tool.cuts_at_centre]
    wide = _largest(tools, solved.item.cut.cutter)
    if wide is not None:
        down = min(STEP_DOWN_MM, nest.depth)
        room: NestRoom
        for room in rooms(solved, np.eye(4)):  # type: ignore[assignment]
            name = {"floor": "nest", "step": "inside the step", "boss": "room for the boss"}[room]
            operations.append(
                Pocket(
                    id=f"{room}-rough",
                    name=f"Clear {name}",
                    tool=wide.id,
                    nest=room,
                    step_down=down,
                    leave_side=0.2 if room == "floor" else 0.0,
                )
            )
        operations.append(
            Outline(
                id="wall",
                name="Finish nest wall",
                tool=wide.id,
                nest=True,
                step_down=min(WALL_STEP_MM if solved.on_end else 200.0, max(1.0, nest.depth)),
            )
        )
        rim = _largest(tools, RIM_CUTTER_MM)
        if rim is not None and nest.spec.edge_break > 0:
            operations.append(
                Outline(
                    id="rim",
                    name="Break the floor's rim",
                    tool=rim.id,
                    nest=True,
                    below=nest.spec.edge_break,
                    step_down=1.0,
                )
            )
        operations += _mouth(plan, nest)
    taken = {one.name for one in plan.setups}
    name = next(n for n in (f"{setup.name}-JAWS"[:20], *(f"JAWS{i}" for i in range(1, 99))) if n not in taken)
    return Setup(
        name=name,
        title=f"Jaws for {setup.name}",
        hold=_on_its_end(plan, solved) if solved.on_end else Hold(),
        machine=setup.machine,
        offset_register=setup.offset_register,
        makes=Makes(setup=setup.name, item=solved.item.id),
        operations=tuple(operations),
    )


def _on_its_end(plan: Plan, solved: Solved) -> Hold:
    """A holding for a block that is cut standing on its end: a vise turned so that its jaws are not where the
    block opens.
    """
    long, high, thick = solved.nest.half
    table = machine_of(solved.setup.machine, plan.machines).table
    whole = everyday(solved.shop, (thick, long, high), (table.length, table.depth))
    if not whole:
        return Hold()
    vise, *others = whole[0].items
    return Hold(items=(vise.model_copy(update={"turn_deg": 90.0}), *others))


def _mouth(plan: Plan, nest: Nest) -> list[Operation]:
    """What chamfers the nest's opening, with the smallest cutter of 90° that is wide enough."""
    wide = [
        tool
        for tool in plan.tools
        if tool.kind == "chamfer_mill" and tool.SIG == 90 and 2 * nest.spec.mouth + 1 < tool.DC
    ]
    if nest.spec.mouth <= 0 or not wide:
        return []
    tool = min(wide, key=lambda one: one.DC)
    return [
        Outline(
            id="mouth",
            name="Chamfer the nest's opening",
            tool=tool.id,
            nest=True,
            side="inside",
            chamfer=nest.spec.mouth,
            step_down=max(1.0, nest.spec.mouth + 1.0),
        )
    ]


def _largest(tools: list[Tool], diameter: float) -> Tool | None:
    fits = [tool for tool in tools if diameter + 1e-9 >= tool.DC]
    return max(fits, key=lambda tool: tool.DC, default=None)


def not_cut(plan: Plan, solved: Solved) -> Finding:
    """Jaws that no setup of the route cuts."""
    made = jaw_setup(plan, solved)
    return Finding(
        code="jaws.not_cut",
        severity="warning",
        setup=solved.setup.name,
        stage="hold",
        sentence=(
            f"No setup of the route cuts the jaws that {solved.setup.name} grips with: they are taken as"
            " solved."
        ),
        cures=(
            Cure(
                label=f"Put {made.name} before {solved.setup.name}",
                edits=(
                    Add(
                        of=Element(),
                        to="setups",
                        value=made.model_dump(mode="json"),
                        before=solved.setup.name,
                    ),
                ),
            ),
        ),
    )


def cutting_zero(solved: Solved, zero_on_table: Floats, apart: bool) -> Floats:
    """zero_from_nest, 4×4, while it is cut: the zero it shares with its use, or the middle of the top of a
    block that is cut somewhere else (apart), or standing on its end.
    """
    if solved.on_end or apart:
        return rigid(np.eye(3), np.array([0.0, 0.0, -solved.nest.half[1]]))
    return zero_from_nest(solved, zero_on_table)


def zero_from_nest(solved: Solved, zero_on_table: Floats) -> Floats:
    """4×4, from where zero stands on the table and the nest does."""
    return np.asarray(inverse(rigid(np.eye(3), np.asarray(zero_on_table))) @ solved.layout_from_nest())
