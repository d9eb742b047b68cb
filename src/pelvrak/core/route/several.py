"""Several parts in one billet: how they stand in the route, and how they come apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any

import numpy as np

from pelvrak.core.billet.block import Block
from pelvrak.core.billet.several import Division, Saw, Several, poses
from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.mesh import Floats, box, to_solid, transformed
from pelvrak.core.geometry.part import EdgeRef, FaceRef, PartModel, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.geometry.several import box_of, together
from pelvrak.core.route.pictures import surface_of, volume_of
from pelvrak.core.route.pieces import FACTS, FIELD, MOMENTS, PART, SURFACE
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import DividedPiece, SetupReport, SeveralReport
from pelvrak.core.route.run import Run, matrix
from pelvrak.core.stock.cut import Sweep, cut
from pelvrak.core.stock.dividing import Apart, Slab, ends_of_material, place_inside, sawn
from pelvrak.core.stock.field import RayField, bundle_volumes, error_of, field_turned, grid_around
from pelvrak.core.stock.shapes import field_of_block, field_of_mesh, intersection, minus

# Two pieces share less than this where they only touch, mm³.
SHARED_MM3 = 1e-6
# Pieces of one kind differ in volume by less than this share.
ALIKE = 2e-3


@dataclass(frozen=True)
class LaidGiven:
    """A part, and where its pieces lie: names, and 4×4 of each from where the part lies."""

    part: Content
    names: tuple[str, ...]
    poses: tuple[Floats, ...]


def _laid_out(given: LaidGiven, reads: Reads) -> Pieces:
    """The pieces as one part. Raises BadInput where two stand in one place."""
    model = reads.read(given.part, PART)
    there = dict(zip(given.names, given.poses, strict=True))
    boxes = {name: box_of(model, pose) for name, pose in there.items()}
    for one, two in combinations(there, 2):
        if any(boxes[a][1][d] <= boxes[b][0][d] for a, b in ((one, two), (two, one)) for d in range(3)):
            continue
        solids = (to_solid(transformed(model.mesh, there[name])) for name in (one, two))
        shared = (next(solids) ^ next(solids)).volume()
        if shared > SHARED_MM3:
            raise BadInput(
                "pieces.overlap",
                "pieces",
                f"pieces {one} and {two} share {shared / 1000:.3g} cm³",
                "lay them further apart",
            )
    return {PART: together(model, there)}


LAY_OUT = Step("pieces", 1, LaidGiven, _laid_out)


def laid_out(engine: Engine, several: Several, read: Result) -> tuple[Result, dict[str, Floats]]:
    """The pieces as one part, and where each lies, by its name. Raises BadInput."""
    there = poses(several, read.value(PART))
    given = LaidGiven(read.content(PART), tuple(there), tuple(there.values()))
    return engine.run(LAY_OUT, given, "pieces in the billet"), there


def divided_at(plan: Plan) -> int:
    """From which setup on, by its number, the route goes on with one piece; more than there are: never."""
    division = None if plan.pieces is None else plan.pieces.division
    if division is None:
        return len(plan.setups) + 1
    # Of a plan that is cut off before, it never is.
    after = (n for n, setup in enumerate(plan.setups) if setup.name == division.after)
    return 1 + next(after, len(plan.setups))


def whole_in(plan: Plan) -> frozenset[str]:
    """The setups that cut a billet with several parts in it, before it is divided."""
    return frozenset() if plan.pieces is None else frozenset(s.name for s in plan.setups[: divided_at(plan)])


def spread(plan: Plan, whole: PartModel, there: dict[str, Floats]) -> Plan:
    """The plan with what is told of the first piece told of all, in the setups before they come apart. whole:
    the pieces as one part; there: where each lies.
    """
    until, setups = divided_at(plan), []
    for n, setup in enumerate(plan.setups):
        if n < until:
            told = tuple(
                one
                for operation in setup.operations
                if (one := _at_pieces(operation, whole, there)) is not None
            )
            setup = setup.model_copy(update={"operations": told})
        else:
            alone = tuple(one.model_copy(update={"not_at": ()}) for one in setup.operations)
            setup = setup.model_copy(update={"operations": alone})
        setups.append(setup)
    return plan.model_copy(update={"setups": tuple(setups)})


def _at_pieces(operation: Operation, whole: PartModel, there: dict[str, Floats]) -> Operation | None:
    """An operation with its faces and edges on every piece that it is cut at; None where it is cut at none. A
    probe touches the first.
    """
    names = list(there)
    own = [name for name in names if name not in operation.not_at]
    if not own:
        return None
    left_out = tuple(name for name in names if name not in own)
    told: dict[str, Any] = {"not_at": left_out}
    if not operation.touches_stock:
        part = whole.part
        each = {"faces": len(part.faces) // len(names), "edges": len(part.edges) // len(names)}
        for field, kind, number in (("faces", FaceRef, "face"), ("edges", EdgeRef, "edge")):
            refs = getattr(operation, field, ())
            if refs:
                told["not_at"] = ()
                told[field] = tuple(
                    kind(
                        **{number: getattr(ref, number) + names.index(name) * each[field]},
                        at=as_vector(moved(there[name], np.array(ref.at))),
                    )
                    for name in own
                    for ref in refs
                )
    else:
        told["not_at"] = ()
    return operation.model_copy(update=told)


@dataclass(frozen=True)
class DividedGiven:
    """A stock that comes apart: slabs that are sawn out of it, each axis, low and high, mm; the part; where
    its pieces lie; which of them, by its number, the route goes on with, None: only what is told of all.
    """

    stock: Content
    part: Content
    slabs: tuple[tuple[int, float, float], ...]
    poses: tuple[Floats, ...]
    goes_on: int | None


def _divided(given: DividedGiven, reads: Reads) -> Pieces:
    """The stock of the piece the route goes on with, where the part lies; of all pieces their volumes, mm³,
    and boxes, mm, each as if it were the first; which piece of material each is in. Raises BadInput.
    """
    field = sawn(reads.read(given.stock, FIELD), [Slab(*one) for one in given.slabs])
    inside = place_inside(reads.read(given.part, PART).mesh)
    apart = Apart(field)
    facts, goes_on = [], None
    for number, pose in enumerate(given.poses):
        which = apart.at(moved(pose, inside))
        if which is None:
            facts.append({"piece": -1, "volume": 0.0, "low": (0.0,) * 3, "high": (0.0,) * 3})
            continue
        own = apart.taken(which)
        ends = moved(inverse(pose), ends_of_material(own))
        facts.append(
            {
                "piece": which,
                "volume": float(np.mean(bundle_volumes(own))),
                "low": as_vector(ends.min(axis=0)),
                "high": as_vector(ends.max(axis=0)),
            }
        )
        if number == given.goes_on:
            goes_on = own if np.allclose(pose, np.eye(4)) else field_turned(own, inverse(pose), normals=True)
    if given.goes_on is None:
        return {FACTS: facts}
    return {FIELD: _left(goes_on), FACTS: facts}


def _left(field: RayField | None) -> RayField:
    if field is None:
        raise BadInput("pieces.gone", "pieces", "nothing is left of that piece", "go on with another")
    return field


DIVIDE = Step("divide", 2, DividedGiven, _divided)


@dataclass(frozen=True)
class TurnedGiven:
    """A piece that does not lie by quarters in the billet it comes from. billet: what that was, its box, mm,
    or its surface; cuts: moments of all that was cut in it, in order; facts: told of all pieces; number: of
    the piece; cell: distance of its rays, mm; the others as of `DividedGiven`.
    """

    billet: Content | tuple[Vector, Vector]
    cuts: tuple[Content, ...]
    part: Content
    slabs: tuple[tuple[int, float, float], ...]
    pose: Floats
    facts: Content
    number: int
    cell: float


def _turned(given: TurnedGiven, reads: Reads) -> Pieces:
    """A piece on rays of its own: the billet as the piece sees it, cut and sawn there again."""
    back = inverse(given.pose)
    facts = reads.read(given.facts, FACTS)
    told = facts[given.number]
    if told["piece"] < 0:
        _left(None)
    # What is known of it in the billet is known to its rays.
    room = 3 * given.cell
    low, high = np.array(told["low"]) - room, np.array(told["high"]) + room
    grid = grid_around(low, high, given.cell)
    if isinstance(given.billet, tuple):
        billet = box(np.array(given.billet[0]), np.array(given.billet[1]))
    else:
        billet = reads.read(given.billet, SURFACE)
    field = field_of_mesh(grid, transformed(billet, back))
    field = intersection(field, field_of_block(grid, low, high))
    for n, one in enumerate(given.cuts):
        moments = reads.read(one, MOMENTS)
        field, _ = cut(field, _as_seen(moments.sweep, back), moments.maker)
        reads.tell(0.9 * (n + 1) / len(given.cuts))
    # Far past it along the saw: its own box, wherever it is turned, ends before.
    past = float(np.linalg.norm(high - low))
    middle = moved(given.pose, (low + high)[None] / 2)[0]
    for axis, first, last in given.slabs:
        ends = np.array([middle - past, middle + past])
        ends[:, axis] = first, last
        slab = transformed(box(ends[0], ends[1]), back)
        field = minus(field, field_of_mesh(grid, slab))
    apart = Apart(field)
    which = apart.at(place_inside(reads.read(given.part, PART).mesh))
    own = _left(None if which is None else apart.taken(which))
    ends = ends_of_material(own)
    facts[given.number] = told | {
        "volume": float(np.mean(bundle_volumes(own))),
        "low": as_vector(ends.min(axis=0)),
        "high": as_vector(ends.max(axis=0)),
    }
    return {FIELD: own, FACTS: facts}


def _as_seen(sweep: Sweep, back: Floats) -> Sweep:
    """The same moves in another frame. back: 4×4 to it."""
    starts, ends = moved(back, sweep.starts), moved(back, sweep.ends)
    return replace(sweep, starts=starts, ends=ends, axis=turned(back, sweep.axis))


TURN_PIECE = Step("piece turned", 1, TurnedGiven, _turned)


def saws_of(division: Division, boxes: dict[str, tuple[Floats, Floats]]) -> tuple[Saw, ...]:
    """The planes a billet is sawn along: as told, else midway in every gap that goes through between all
    pieces. boxes: of each, mm.
    """
    if division.how == "apart":
        return ()
    if division.saws:
        return division.saws
    out = []
    for d, axis in enumerate("xyz"):
        spans = sorted((float(low[d]), float(high[d])) for low, high in boxes.values())
        reached = spans[0][1]
        for low, high in spans[1:]:
            if low >= reached:
                out.append(Saw(axis=axis, at=(low + reached) / 2))
            reached = max(reached, high)
    return tuple(out)


@dataclass(frozen=True)
class CameApart:
    """What is left after a billet came apart. key, volume: of the stock the route goes on with, mm³."""

    key: str | None
    volume: float
    told: SeveralReport


def report_of(several: Several, there: dict[str, Floats], one: PartModel) -> SeveralReport:
    """What is told of the pieces before anything is cut. one: the part, once."""
    found: tuple[Finding, ...] = ()
    saws: tuple[Saw, ...] = ()
    if several.division is not None:
        boxes = {name: box_of(one, pose) for name, pose in there.items()}
        saws = saws_of(several.division, boxes)
        found = tuple(_through_parts(several.division, saws, boxes))
    return SeveralReport(
        names=tuple(there),
        poses=tuple(matrix(pose) for pose in there.values()),
        low=one.part.low,
        high=one.part.high,
        after=None if several.division is None else several.division.after,
        saws=saws,
        findings=found,
    )


@dataclass(frozen=True)
class Whole:
    """A billet before it comes apart. stock: that the last setup before left; read: the part, once; billet:
    its key as it came; cuts: keys of all that was cut in it, in order, None where that does not tell what
    became of it.
    """

    stock: Result
    read: Result
    billet: str
    cuts: tuple[str, ...] | None


def cut_in(plan: Plan, setups: Sequence[SetupReport]) -> tuple[str, ...] | None:
    """The keys of all that was cut in a billet in its setups so far, None where one began with another
    stock.
    """
    own = [(setup, told) for setup, told in zip(plan.setups, setups, strict=False) if setup.makes is None]
    if any(setup.incoming is not None for setup, _ in own):
        return None
    return tuple(one.key for _, told in own for one in told.operations if one.key is not None and one.moves)


def came_apart(run: Run, told: SeveralReport, whole: Whole) -> CameApart:
    """The billet divided. told: of the pieces so far."""
    division, read = division_of(run.plan), whole.read
    try:
        made = piece_after(run, told, whole, division.goes_on)
    except BadInput as bad:
        wrong = of_bad_input(bad, division.after, None, "outgoing")
        return CameApart(None, 0.0, told.model_copy(update={"findings": (*told.findings, wrong)}))
    facts = made.value(FACTS)
    divided = _pieces_told(facts, told.names, read.value(PART), error_of(run.plan.resolution_mm))
    found = [*told.findings, *_joined(division, divided, facts), *_differ(division, divided)]
    told = told.model_copy(update={"divided": divided, "findings": tuple(found)})
    return CameApart(made.key, volume_of(run.engine, made.key), told)


def division_of(plan: Plan) -> Division:
    """How a plan's billet is divided. It is, or nobody would ask."""
    assert plan.pieces is not None and plan.pieces.division is not None
    return plan.pieces.division


def piece_after(run: Run, told: SeveralReport, whole: Whole, name: str) -> Result:
    """One piece of a divided billet, where the part lies, with facts of all. Raises BadInput."""
    half = division_of(run.plan).kerf / 2
    if name not in told.names:
        raise BadInput("pieces.no_such", "pieces", f"there is no piece {name} to go on with", "name another")
    poses = tuple(np.array(pose) for pose in told.poses)
    number = told.names.index(name)
    by_quarters = np.allclose(np.abs(poses[number][:3, :3]).max(axis=1), 1.0, atol=1e-9)
    slabs = tuple(("xyz".index(saw.axis), saw.at - half, saw.at + half) for saw in told.saws)
    part, called = whole.read.content(PART), f"piece {name} of the billet"
    given = DividedGiven(whole.stock.content(FIELD), part, slabs, poses, number if by_quarters else None)
    made = run.engine.run(DIVIDE, given, called)
    if by_quarters:
        return made
    if whole.cuts is None:
        raise BadInput(
            "pieces.turned",
            "pieces",
            f"piece {name} does not lie by quarters, and what it is cut from did not come from the billet",
            "go on with one that lies along the axes, or let every setup before begin with what was carried",
        )
    raw = run.raw
    assert not isinstance(raw, BadInput)
    block = isinstance(run.plan.billet, Block)
    turned_given = TurnedGiven(
        (as_vector(raw.low), as_vector(raw.high))
        if block
        else surface_of(run.engine, whole.billet).content(SURFACE),
        tuple(Result(key, run.engine).content(MOMENTS) for key in whole.cuts),
        part,
        slabs,
        poses[number],
        made.content(FACTS),
        number,
        run.plan.resolution_mm,
    )
    return run.engine.run(TURN_PIECE, turned_given, called)


def _pieces_told(
    facts: list[dict[str, Any]], names: tuple[str, ...], one: PartModel, known: float
) -> tuple[DividedPiece, ...]:
    """Each piece with what stands on its sides, and which are alike. known: what rays know, mm."""
    out: list[DividedPiece] = []
    for name, fact in zip(names, facts, strict=True):
        sides = {}
        for d, axis in enumerate("xyz"):
            sides[f"{axis}-"] = round(one.part.low[d] - fact["low"][d], 4)
            sides[f"{axis}+"] = round(fact["high"][d] - one.part.high[d], 4)
        like = next((other.like for other in out if _alike(other, sides, fact["volume"], known)), name)
        out.append(DividedPiece(name=name, volume_mm3=fact["volume"], margins=sides, like=like))
    return tuple(out)


def _alike(other: DividedPiece, sides: dict[str, float], volume: float, known: float) -> bool:
    near = all(abs(other.margins[side] - value) <= known + 1e-3 for side, value in sides.items())
    return near and abs(other.volume_mm3 - volume) <= ALIKE * max(volume, 1.0)


def _through_parts(
    division: Division, saws: tuple[Saw, ...], boxes: dict[str, tuple[Floats, Floats]]
) -> list[Finding]:
    """Saws that take something of a piece: how far its kerf reaches into the piece's box."""
    out = []
    for saw in saws:
        d, half = "xyz".index(saw.axis), division.kerf / 2
        into = {
            name: min(saw.at + half - low[d], high[d] - saw.at + half) for name, (low, high) in boxes.items()
        }
        name = max(into, key=lambda one: into[one])
        if into[name] <= 1e-6:
            continue
        low, high = boxes[name]
        place = (low + high) / 2
        place[d] = saw.at
        cures = [put("Saw midway between the pieces", Element(), "pieces/division/saws", [])]
        out.append(
            Finding(
                code="pieces.saw_through",
                severity="error",
                setup=division.after,
                stage="outgoing",
                sentence=f"The saw square to {saw.axis.upper()} at {saw.at:.2f}, {division.kerf:g} mm wide,"
                f" goes {into[name]:.2f} mm into piece {name}.",
                measured=round(into[name], 4),
                limit=0.0,
                unit="mm",
                place=(as_vector(place),),
                cures=tuple(cures) if division.saws else (),
            )
        )
    return out


def _joined(
    division: Division, divided: tuple[DividedPiece, ...], facts: list[dict[str, Any]]
) -> list[Finding]:
    """Pieces that still hang together after it."""
    out: list[Finding] = []
    seen: dict[int, str] = {}
    for piece, fact in zip(divided, facts, strict=True):
        first = seen.setdefault(fact["piece"], piece.name)
        if fact["piece"] < 0:
            said = f"Nothing is left of piece {piece.name}."
        elif first != piece.name:
            said = f"Pieces {first} and {piece.name} still hang together after {division.after}."
        else:
            continue
        out.append(
            Finding(
                code="pieces.joined", severity="error", setup=division.after, stage="outgoing", sentence=said
            )
        )
    return out


def _differ(division: Division, divided: tuple[DividedPiece, ...]) -> list[Finding]:
    """That not all pieces are like the one the route goes on with, and in what most."""
    mine = next(one for one in divided if one.name == division.goes_on)
    others = [one for one in divided if one.like != mine.like]
    if not others:
        return []
    side, by, name = max(
        ((side, one.margins[side] - mine.margins[side], one.name) for one in others for side in mine.margins),
        key=lambda told: abs(told[1]),
    )
    if abs(by) > 1e-3:
        most = f"piece {name} has {abs(by):.2f} mm {'more' if by > 0 else 'less'} on {side}"
    else:
        far = max(others, key=lambda one: abs(one.volume_mm3 - mine.volume_mm3))
        by = 0.0
        most = f"piece {far.name} has {(far.volume_mm3 - mine.volume_mm3) / 1000:+.3f} cm³"
    names = ", ".join(one.name for one in others)
    return [
        Finding(
            code="pieces.differ",
            severity="note",
            setup=division.after,
            stage="outgoing",
            sentence=f"Of {len(divided)} pieces {len(others)} are not like piece {division.goes_on}, which"
            f" the route goes on with ({names}): {most}.",
            measured=round(abs(by), 4),
            limit=0.0,
            unit="mm",
        )
    ]


def after_division(run: Run, told: SeveralReport, whole: Whole) -> Run:
    """The run of what comes after: with the part once. whole: what came apart."""
    read = whole.read

    def piece_of_it(name: str) -> tuple[str, float]:
        made = piece_after(run, told, whole, name)
        return made.key, volume_of(run.engine, made.key)

    return replace(run, part=read.value(PART), read=read, piece_of_it=piece_of_it)
