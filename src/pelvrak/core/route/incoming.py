"""Which stock does a setup begin with: what was carried to it, or what was chosen in its place?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pelvrak.core.billet.chosen import Brought, Earlier, OtherPiece
from pelvrak.core.billet.forms import Billet, KeptStock, Raw, raw_of
from pelvrak.core.cures import Element, put
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.route.billets import cover_of, raw_stock, unit_told
from pelvrak.core.route.pictures import surface_of, volume_of
from pelvrak.core.route.pieces import FACTS, SIMPLIFY_MM, SURFACE
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import IncomingReport, SetupReport, last_cut
from pelvrak.core.route.run import Run, mesh_in
from pelvrak.core.route.several import whole_in
from pelvrak.core.stock.compare import SPACING_MM, farthest, refined, signed_distance
from pelvrak.core.stock.field import error_of, grid_around
from pelvrak.core.stock.kept import note_of
from pelvrak.core.stock.shapes import field_of_mesh, volume_without


@dataclass(frozen=True)
class ApartGiven:
    """The surfaces of two stocks; cell: distance of the rays they are compared on, mm."""

    chosen: Content
    carried: Content
    cell: float


def _apart(given: ApartGiven, reads: Reads) -> Pieces:
    """What one stock has more than another and what less: volumes, mm³, and how far at most, mm, where."""
    chosen, carried = reads.read(given.chosen, SURFACE), reads.read(given.carried, SURFACE)
    both = np.concatenate([chosen.vertices, carried.vertices])
    grid = grid_around(both.min(axis=0), both.max(axis=0), given.cell)
    there, before = field_of_mesh(grid, chosen), field_of_mesh(grid, carried)
    least = error_of(given.cell) + SIMPLIFY_MM
    facts: dict[str, object] = {}
    for name, one, other, mine, theirs in (
        ("more", there, before, chosen, carried),
        ("less", before, there, carried, chosen),
    ):
        fine = refined(mine, SPACING_MM)
        away = signed_distance(fine.vertices, theirs)
        most, place = farthest(fine, away, 1.0, theirs, lambda points, depths: depths)
        facts[f"{name}_mm3"] = float(volume_without(one, other, least))
        facts[f"{name}_mm"] = most
        facts[f"{name}_at"] = as_vector(place)
    return {FACTS: facts}


STOCKS_APART = Step("stocks apart", 1, ApartGiven, _apart)


@dataclass(frozen=True)
class ComingIn:
    """The stock a setup begins with; key: of its result, None where there is none. volume: mm³; told: how it
    was chosen; findings: of that.
    """

    key: str | None
    volume: float
    told: IncomingReport | None = None
    findings: tuple[Finding, ...] = ()


def coming_in(
    run: Run, index: int, setup: Setup, before: Sequence[SetupReport], carried: ComingIn
) -> ComingIn:
    """The stock that a setup begins with. before: the setups before it; carried: what they left."""
    choice = setup.incoming
    if choice is None:
        return carried
    findings: list[Finding] = []
    try:
        if isinstance(choice, Earlier):
            said, key, volume = _earlier(run, index, choice, before)
        elif isinstance(choice, OtherPiece):
            said, key, volume = _other_piece(run, setup, choice)
        else:
            said, key, volume, findings = _brought(run, setup, choice)
    except BadInput as bad:
        undo = put("Take what was carried", Element(setup=setup.name), "incoming", None)
        told = of_bad_input(bad, setup.name, None, "incoming").model_copy(update={"cures": (undo,)})
        return ComingIn(None, 0.0, IncomingReport(said="nothing"), (told,))
    report = IncomingReport(said=said, carried_key=carried.key, known_mm=_known(run))
    if carried.key is None or carried.key == key:
        return ComingIn(key, volume, report, tuple(findings))
    facts = _facts_apart(run, key, carried.key)
    report = report.model_copy(
        update={name: facts[name] for name in ("more_mm3", "less_mm3", "more_mm", "less_mm")}
    )
    return ComingIn(key, volume, report, (*findings, *_told_apart(run, setup, said, facts)))


def _earlier(run: Run, index: int, choice: Earlier, before: Sequence[SetupReport]) -> tuple[str, str, float]:
    """What an earlier moment is called, the key of its stock, and its volume. Raises BadInput."""
    found = next((one for one in before if one.name == choice.setup and one.makes is None), None)
    if found is None:
        own = run.plan.setups[index].name
        raise BadInput(
            "stock.no_moment",
            "incoming",
            f"{own} begins with a stock of {choice.setup}, which is no setup of the part before it",
            "choose another moment",
        )
    if run.piece_of_it is not None and found.name in whole_in(run.plan):
        raise BadInput(
            "stock.whole_billet",
            "incoming",
            f"after {found.name} the billet held all its pieces, and now it is divided",
            "choose a moment after that, or another piece",
        )
    if choice.after is None:
        key, volume, said = found.incoming_key, found.incoming_volume_mm3, f"as it came into {found.name}"
    else:
        cut = last_cut(found, choice.after)
        key, volume = cut.key, cut.outgoing_volume_mm3
        said = f"after {found.name} {cut.name}"
    if key is None:
        raise BadInput("stock.no_moment", "incoming", f"there is no stock {said}", "choose another moment")
    return said, key, volume


def _other_piece(run: Run, setup: Setup, choice: OtherPiece) -> tuple[str, str, float]:
    """What another piece of a divided billet is called, the key of its stock, and its volume. Raises
    BadInput.
    """
    if run.piece_of_it is None:
        raise BadInput(
            "pieces.not_divided",
            "incoming",
            f"no billet has come apart before {setup.name}",
            "divide it after a setup before, or take what was carried",
        )
    return f"piece {choice.piece}", *run.piece_of_it(choice.piece)


def brought_key(run: Run, choice: Brought) -> str:
    """The key of a stock brought in. Raises BadInput."""
    return raw_stock(run, choice.stock, _raw(run, choice.stock)).key


def _raw(run: Run, stock: Billet) -> Raw:
    return raw_of(stock, run.part, run.files, lambda data, name: mesh_in(data, name, run.engine))


def _brought(run: Run, setup: Setup, choice: Brought) -> tuple[str, str, float, list[Finding]]:
    """What a stock brought in is called, the key of its result, its volume, and what is wrong with it. Raises
    BadInput.
    """
    stock = choice.stock
    raw = _raw(run, stock)
    made = raw_stock(run, stock, raw)
    said = getattr(stock, "file", None) or stock.called
    findings = unit_told(run, stock, raw, Element(setup=setup.name), "incoming/stock/scale")
    if not findings:
        findings = cover_of(run, raw, made.key, "stock.too_small", f"{said}, chosen for {setup.name},")
    findings = [one.model_copy(update={"setup": setup.name}) for one in findings]
    if isinstance(stock, KeptStock):
        findings += _of_another_part(run, setup, run.files(stock.sha256, stock.file), said)
    return said, made.key, volume_of(run.engine, made.key), findings


def _of_another_part(run: Run, setup: Setup, data: bytes, said: str) -> list[Finding]:
    note, part = note_of(data), run.plan.part
    if not note.part_sha256 or part.sha256 in (None, note.part_sha256):
        return []
    return [
        Finding(
            code="stock.other_part",
            severity="warning",
            setup=setup.name,
            stage="incoming",
            sentence=f"{said} was saved round {note.part_file} rev {note.revision}, another part file than"
            f" {part.file} rev {part.revision}: it lies where that one lay.",
        )
    ]


def _facts_apart(run: Run, key: str, carried: str) -> dict[str, float]:
    chosen, before = surface_of(run.engine, key), surface_of(run.engine, carried)
    given = ApartGiven(chosen.content(SURFACE), before.content(SURFACE), run.plan.resolution_mm)
    return dict(run.engine.run(STOCKS_APART, given, "chosen and carried stock").value(FACTS))


def _known(run: Run) -> float:
    """What rays and drawn surface know, mm: two stocks no further apart are one."""
    return error_of(run.plan.resolution_mm) + SIMPLIFY_MM


def _told_apart(run: Run, setup: Setup, said: str, facts: dict[str, float]) -> list[Finding]:
    """That a stock was chosen, and what it differs from the carried one by."""
    known = _known(run)
    ways = [
        f"{facts[f'{word}_mm3'] / 1000:.2f} cm³ {word}, up to {facts[f'{word}_mm']:.2f} mm"
        for word in ("more", "less")
        if facts[f"{word}_mm"] > known
    ]
    apart = max(facts["more_mm"], facts["less_mm"])
    word = "more" if facts["more_mm"] >= facts["less_mm"] else "less"
    place = facts[f"{word}_at"]
    return [
        Finding(
            code="stock.chosen",
            severity="note",
            setup=setup.name,
            stage="incoming",
            sentence=f"{setup.name} begins with a chosen stock ({said}), not with what is carried to it: "
            + (" and ".join(ways) or "the two do not differ")
            + ".",
            measured=round(apart, 4),
            limit=round(known, 4),
            unit="mm",
            place=(tuple(place),) if ways else (),  # type: ignore[arg-type]
            cures=(put("Take what was carried", Element(setup=setup.name), "incoming", None),),
        )
    ]
