"""What comes of holding the last outgoing stock against the part?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pelvrak.core.engine.engine import Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import crease_lines
from pelvrak.core.route.meant import MeantGiven, meant_sweep
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, FIELD, PART, PICTURE, SIMPLIFY_MM, SURFACE
from pelvrak.core.route.report import ComparisonReport, SetupReport
from pelvrak.core.route.run import Run, as_came
from pelvrak.core.route.zeros import makers_of
from pelvrak.core.stock.compare import Meant, compare
from pelvrak.core.stock.field import error_of


@dataclass(frozen=True)
class CompareGiven:
    """A stock, its surface, and the part it is held against. meant: cuts into the part that are wanted;
    as_came: faces of the part that stay as they came.
    """

    part: Content
    stock: Content
    surface: Content
    meant: tuple[MeantGiven, ...]
    as_came: tuple[int, ...]


def _compared(given: CompareGiven, reads: Reads) -> Pieces:
    mesh = reads.read(given.surface, SURFACE)
    meant = [Meant(meant_sweep(one, reads), one.maker) for one in given.meant]
    result = compare(
        reads.read(given.stock, FIELD), mesh, reads.read(given.part, PART).mesh, meant, given.as_came
    )
    facts = {
        "left_volume_mm3": result.left_volume_mm3,
        "gouge_volume_mm3": result.gouge_volume_mm3,
        "max_left_mm": result.max_left_mm,
        "max_gouge_mm": result.max_gouge_mm,
        "left_at": result.left_at.tolist(),
        "gouge_at": result.gouge_at.tolist(),
        "as_came_mm3": result.as_came_mm3,
        "undrawn_mm": result.undrawn_mm,
        "undrawn_at": result.undrawn_at.tolist(),
        "cut_rough": [[maker, area, at.tolist()] for maker, area, at in result.cut_rough],
    }
    return {PICTURE: to_glb(result.surface, crease_lines(mesh, by_label=False), result.away), FACTS: facts}


COMPARE = Step("compare", 5, CompareGiven, _compared)


def compared(run: Run, key: str, setups: list[SetupReport]) -> ComparisonReport:
    """The comparison of the last outgoing stock, and what is left on or cut into. setups: of the route, in
    its order.
    """
    stock = Result(key, run.engine).content(FIELD)
    surface = surface_of(run.engine, key).content(SURFACE)
    given = CompareGiven(run.part_content, stock, surface, tuple(run.meant), as_came(run))
    made = run.step(COMPARE, given, "compare")
    facts = made.value(FACTS)
    stated = error_of(run.plan.resolution_mm) + SIMPLIFY_MM
    last = next(one.name for one in reversed(run.plan.setups) if one.makes is None)
    findings = []
    for code, severity, word, depth, amount, at in (
        ("compare.left", "warning", "left on", "max_left_mm", "left_volume_mm3", "left_at"),
        ("compare.gouge", "error", "cut into", "max_gouge_mm", "gouge_volume_mm3", "gouge_at"),
    ):
        if facts[depth] > stated:
            findings.append(
                Finding(
                    code=code,
                    severity=severity,
                    setup=last,
                    stage="outgoing",
                    sentence=(
                        f"After {last}, up to {facts[depth]:.2f} mm is {word} the part"
                        f" ({facts[amount]:.0f} mm³ in all)."
                    ),
                    measured=round(facts[depth], 4),
                    limit=round(stated, 4),
                    unit="mm",
                    place=(tuple(facts[at]),),
                )
            )
    findings += [*_undrawn(run, facts, last, stated), *_cut_rough(facts, setups)]
    return ComparisonReport(
        key=made.key,
        stated_error_mm=stated,
        findings=tuple(findings),
        **{
            name: facts[name]
            for name in (
                "left_volume_mm3",
                "gouge_volume_mm3",
                "max_left_mm",
                "max_gouge_mm",
                "undrawn_mm",
                "as_came_mm3",
            )
        },
    )


def _cut_rough(facts: dict[str, Any], setups: list[SetupReport]) -> list[Finding]:
    """Operations that cut faces which are to stay as they came."""
    makers, out = makers_of(setups), []
    for maker, area, at in facts["cut_rough"]:
        if maker not in makers:
            continue
        setup, operation = makers[maker]
        more: dict[str, Any] = {"measured": round(area, 1), "limit": 0.0, "unit": "mm²"}
        said = f"{operation.name} cuts {area:.0f} mm² over faces that are to stay as they came."
        more |= {"setup": setup.name, "operation": operation.id, "stage": "cut"}
        out.append(
            Finding(code="compare.cut_rough", severity="warning", sentence=said, place=(tuple(at),), **more)
        )
    return out


def _undrawn(run: Run, facts: dict[str, Any], last: str, stated: float) -> list[Finding]:
    """Edges too thin for the rays to draw. last: the setup; stated: what rays and surface know, mm."""
    if facts["undrawn_mm"] <= stated:
        return []
    return [
        Finding(
            code="compare.undrawn",
            severity="note",
            setup=last,
            stage="outgoing",
            sentence=(
                f"An edge thinner than the {run.plan.resolution_mm:g} mm between rays stands up to"
                f" {facts['undrawn_mm']:.2f} mm out of its picture; depths and volumes count it, finer"
                " rays draw more of it."
            ),
            measured=round(facts["undrawn_mm"], 4),
            limit=round(stated, 4),
            unit="mm",
            place=(tuple(facts["undrawn_at"]),),
        )
    ]
