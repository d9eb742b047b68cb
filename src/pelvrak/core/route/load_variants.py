"""What becomes of a work at a place of a load that is not treated like the others of its setup?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pelvrak.core.billet.chosen import Brought
from pelvrak.core.findings import Finding
from pelvrak.core.load.load import Different, Load, Place, places_of
from pelvrak.core.route.incoming import ComingIn, coming_in
from pelvrak.core.route.load_places import CutSetup, setups_in, wrong
from pelvrak.core.route.part_setup import part_setup
from pelvrak.core.route.plan import Setup
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run


@dataclass(frozen=True)
class Variants:
    """Setups as they are cut at places that differ, by the places' keys; what is wrong with them."""

    cuts: dict[str, CutSetup]
    reports: dict[str, SetupReport]
    findings: tuple[Finding, ...] = ()


def variant_of(setup: Setup, place: Different) -> Setup:
    """A setup as it is cut at a place."""
    kept = tuple(one for one in setup.operations if one.id not in place.left_out)
    return setup.model_copy(update={"operations": (*kept, *place.added), "text": None})


def cut_otherwise(run: Run, load: Load, setups: Sequence[SetupReport]) -> Variants:
    """All places of a load that differ in what is cut, each cut by itself. setups: of the route, as they
    were cut.
    """
    names = tuple(setup.name for setup in setups_in(run.plan, load))
    cuts: dict[str, CutSetup] = {}
    reports: dict[str, SetupReport] = {}
    found: list[Finding] = []
    for place in places_of(load, names):
        if place.otherwise is None:
            continue
        with run.aside() as aside:
            told = _cut(aside, place, setups)
            cut = aside.cuts.get(place.setup)
        usual = next(one for one in setups if one.name == place.setup)
        found += _told(load, place, told, usual)
        if cut is not None:
            cuts[place.key], reports[place.key] = cut, told
    return Variants(cuts, reports, tuple(found))


def _cut(run: Run, place: Place, setups: Sequence[SetupReport]) -> SetupReport:
    assert place.otherwise is not None
    index = next(n for n, setup in enumerate(run.plan.setups) if setup.name == place.setup)
    setup, usual = variant_of(run.plan.setups[index], place.otherwise), setups[index]
    coming = ComingIn(usual.incoming_key, usual.incoming_volume_mm3)
    if place.otherwise.stock is not None:
        chosen = setup.model_copy(update={"incoming": Brought(stock=place.otherwise.stock)})
        coming = coming_in(run, index, chosen, setups[:index], coming)
    jaws = [one for one in setups if one.makes == place.setup]
    density = run.material.density_g_cm3 * 1e-6
    return part_setup(run, index, setup, coming, density, jaws[-1] if jaws else None)


def _told(load: Load, place: Place, told: SetupReport, usual: SetupReport) -> list[Finding]:
    """What is wrong there and not with its setup."""
    known = {(one.code, one.operation, one.sentence) for one in usual.all_findings()}
    out = []
    for one in told.all_findings():
        if (one.code, one.operation, one.sentence) in known or one.severity == "note":
            continue
        said = f"At {place.key} of {load.name}: {one.sentence}"
        out.append(one.model_copy(update={"sentence": said, "cures": ()}))
    if not any(report.moves for report in told.operations):
        said = f"Nothing is cut at {place.key} of {load.name}."
        out.append(wrong(place, "load.nothing_cut", said, stage="cut"))
    return out
