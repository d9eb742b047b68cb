"""What becomes of a plan? The graph of pure steps, each kept by what it was computed from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pelvrak.core.billet.chosen import Brought, Earlier, OtherPiece
from pelvrak.core.billet.forms import Files, Raw, raw_of
from pelvrak.core.cutting.feeds import material_of
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding, of_bad_input
from pelvrak.core.geometry.callout import senseless
from pelvrak.core.geometry.part import UNKNOWN_UNIT, PartModel
from pelvrak.core.load.load import Guest
from pelvrak.core.route.billets import billet_report
from pelvrak.core.route.comparing import compared
from pelvrak.core.route.ends import ends_of
from pelvrak.core.route.graph import route_version
from pelvrak.core.route.incoming import ComingIn, brought_key, coming_in
from pelvrak.core.route.jaw_setup import jaw_setup
from pelvrak.core.route.load_report import LoadReport
from pelvrak.core.route.load_told import load_reports
from pelvrak.core.route.part_setup import part_setup, stock_after
from pelvrak.core.route.pieces import PART
from pelvrak.core.route.plan import Plan, Setup
from pelvrak.core.route.proving import with_proof
from pelvrak.core.route.report import (
    ComparisonReport,
    Maker,
    Report,
    SetupReport,
    SeveralReport,
)
from pelvrak.core.route.run import Progress, Run, Visitor, mesh_in, part_result
from pelvrak.core.route.several import (
    Whole,
    after_division,
    came_apart,
    cut_in,
    divided_at,
    laid_out,
    report_of,
    spread,
)
from pelvrak.core.route.visits import visits
from pelvrak.core.route.zeros import makers_of, zeros_checked

Partly = Callable[[Report], None]
# Another plan by what a load calls it: the plan, its part's file, the other files it names. Raises BadInput.
Others = Callable[[str], tuple[Plan, bytes, Files]]


@dataclass(frozen=True)
class Beside:
    """What lies beside a plan: files it names, and other plans."""

    files: Files
    others: Others

    def __call__(self, sha256: str | None, name: str) -> bytes:
        return self.files(sha256, name)


def _raw(plan: Plan, model: PartModel, engine: Engine, files: Files) -> Raw | BadInput:
    """The billet, or why there is none."""
    try:
        return raw_of(plan.billet, model, files, lambda data, name: mesh_in(data, name, engine))
    except BadInput as bad:
        return bad


def _no_files(sha256: str | None, name: str) -> bytes:
    raise BadInput("billet.no_file", "billet", f"{name} is not here", "upload it, or put it beside the plan")


def evaluate(
    plan: Plan,
    part_bytes: bytes,
    store: Store,
    progress: Progress | None = None,
    files: Files | None = None,
    partly: Partly | None = None,
    keys: dict[str, str] | None = None,
) -> Report:
    """Compute the whole route; every step that is already in the store is taken from it.

    files gives the bytes of other files the plan names, and other plans where it is a `Beside`. partly is
    given the report as far as it has come: after the billet, when a setup's seat, holding and reach are
    known, and when it is cut. keys: filled with the key of every result that was used, and its step. Raises
    BadInput when the part cannot be read or the material is unknown, and Stopped when progress returns False.
    Anything wrong further on is a finding of the place it stands in.
    """
    begun = _run(plan, part_bytes, store, progress, files, keys)
    if isinstance(files, Beside):
        begun[0].visit = _visits(files.others, store, progress, keys)
    return _Walk(*begun).whole(partly or (lambda report: None))


def cut_ahead(
    plan: Plan,
    part_bytes: bytes,
    store: Store,
    progress: Progress | None = None,
    files: Files | None = None,
) -> None:
    """Run the steps that the next setup waits for, from the billet to the last cut, and leave out what is
    told beside them.

    For a worker that helps another who evaluates the same plan on the same store: neither computes what the
    other has begun. Raises as `evaluate`; what is wrong further on ends it, for who evaluates tells of it.
    """
    _Walk(*_run(plan, part_bytes, store, progress, files)).cut_ahead()


def _run(
    plan: Plan,
    part_bytes: bytes,
    store: Store,
    progress: Progress | None,
    files: Files | None,
    keys: dict[str, str] | None = None,
) -> tuple[Run, Result, SeveralReport | None]:
    """The evaluation, what was read from the part file, and what is told of its pieces."""
    found, plan = files or _no_files, plan.settled()
    engine = Engine(store, files=found, keys={} if keys is None else keys)
    once = part_result(part_bytes, plan.part.file, engine)
    ends = ends_of(plan, once.value(PART).part)
    read, pieces, wrong = once, None, None
    if plan.pieces is not None:
        try:
            read, there = laid_out(engine, plan.pieces, once)
            pieces = report_of(plan.pieces, there, once.value(PART))
            plan = spread(plan, read.value(PART), there)
        except BadInput as bad:
            wrong = bad
    model = read.value(PART)
    run = Run(
        plan,
        engine,
        progress or (lambda share, what: True),
        model,
        read,
        material_of(plan.billet.material, plan.materials),
        wrong or _raw(plan, model, engine, found),
        found,
        steps=3 + sum(4 + len(visits(s)) for s in plan.setups),
        ends=ends,
    )
    return run, once, pieces


def _visits(
    others: Others, store: Store, progress: Progress | None, keys: dict[str, str] | None
) -> Callable[[Guest, str], Visitor]:
    """Setups of other plans: each of those is evaluated on the same store, where most of it is known."""
    known: dict[str, tuple[Run, Report]] = {}

    def visit(guest: Guest, load: str) -> Visitor:
        if guest.plan not in known:
            plan, part, files = others(guest.plan)
            alone = tuple(one.model_copy(update={"load": f"{load}-{one.name}"}) for one in plan.setups)
            plan = plan.model_copy(update={"setups": alone, "loads": ()})
            walk = _Walk(*_run(plan, part, store, _beside(progress), files, keys))
            known[guest.plan] = walk.run, walk.whole(lambda report: None)
        run, report = known[guest.plan]
        told = next((one for one in report.setups if one.name == guest.setup), None)
        if told is None:
            raise BadInput(
                "load.no_setup", guest.called, f"{run.plan.name} has no setup {guest.setup}", "choose another"
            )
        return Visitor(run.cuts.get(guest.setup), told, run.plan)

    return visit


def _beside(progress: Progress | None) -> Progress | None:
    """How far another plan is says nothing of this one; whether it goes on is asked all the same."""
    return None if progress is None else lambda share, what: progress(1.0, what)


class _Walk:
    """The way along a route, setup after setup, and what has been told of it so far. once: what was read from
    the part file; pieces: told of several in one billet.
    """

    def __init__(self, run: Run, once: Result, pieces: SeveralReport | None) -> None:
        self.run, self.once, self.pieces = run, once, pieces
        self.divided = divided_at(run.plan)
        self.density = run.material.density_g_cm3 * 1e-6
        self.billet = billet_report(run, self.density)
        self.part_findings = tuple(_callouts(run))
        self.setups: list[SetupReport] = []
        self.loads: tuple[LoadReport, ...] = ()

    def told(self, begun: SetupReport | None = None, comparison: ComparisonReport | None = None) -> Report:
        """The report as far as it has come. begun: a setup that is known and not cut yet."""
        run, volume = self.run, self.once.value(PART).part.volume_mm3
        whole = (*self.setups, begun) if begun is not None else tuple(self.setups)
        return Report(
            version=route_version(),
            plan=run.plan.name,
            part_key=self.once.key,
            part_volume_mm3=volume,
            part_mass_kg=volume * self.density,
            billet=self.billet,
            setups=whole,
            comparison=comparison,
            makers=tuple(
                Maker(number=number, setup=setup.name, operation=one.name, tool=one.tool_name)
                for number, (setup, one) in makers_of(whole).items()
            ),
            part_findings=self.part_findings,
            pieces=self.pieces,
            loads=self.loads,
            computed=tuple(run.engine.computed),
            reused=tuple(run.engine.reused),
            begun=None if begun is None else begun.name,
        )

    def whole(self, partly: Partly) -> Report:
        """All setups and the comparison; partly hears of each as it comes."""
        self.run.begun = lambda begun: partly(self.told(begun))
        partly(self.told())
        key, stock_volume = self.billet.key, self.billet.volume_mm3
        for index, setup in enumerate(self.run.plan.setups):
            if index == self.divided and key is not None:
                key, stock_volume = self._divide(key)
            run = self.run
            if setup.makes is not None:
                # The part passes by while its jaws are cut.
                coming = self._coming_to_jaws(setup, ComingIn(key, stock_volume))
                self.setups.append(jaw_setup(run, index, setup, coming.key, self.density))
            else:
                self.setups.append(self._of_the_part(index, setup, key, stock_volume))
                key, stock_volume = self.setups[-1].outgoing_key, self.setups[-1].outgoing_volume_mm3
            partly(self.told())
        if self.divided == len(self.setups) and key is not None:
            key, stock_volume = self._divide(key)
        run = self.run
        comparison = compared(run, key, list(self.setups)) if key is not None and self.setups else None
        for index, cut in enumerate(self.setups):
            self.setups[index] = with_proof(run.plan, cut, run.engine)
            run.done += 1
        self.loads = load_reports(run, self.setups)
        run.tell("done", 1.0)
        return self.told(comparison=comparison)

    def _divide(self, key: str) -> tuple[str | None, float]:
        """The billet comes apart before a setup: the stock of one piece, and its volume. What comes after is
        of the part once.
        """
        assert self.pieces is not None
        run, billet = self.run, self.billet.key
        assert billet is not None
        whole = Whole(Result(key, run.engine), self.once, billet, cut_in(run.plan, self.setups))
        apart = came_apart(run, self.pieces, whole)
        self.pieces = apart.told
        self.run = after_division(run, apart.told, whole)
        return apart.key, apart.volume

    def cut_ahead(self) -> None:
        """Only what the next setup waits for."""
        run, key = self.run, self.billet.key
        for index, setup in enumerate(run.plan.setups):
            if key is None:
                return
            if index == self.divided:
                key, _ = self._divide(key)
                run = self.run
                if key is None:
                    return
            if setup.makes is not None:
                makes = setup.makes.setup
                if any(one.incoming is not None for one in run.plan.setups if one.name == makes):
                    return
                self.setups.append(jaw_setup(run, index, setup, key, self.density))
                continue
            # Of what the setups have cut so far only the jaws are asked for.
            jaws = [one for one in self.setups if one.makes == setup.name]
            try:
                if isinstance(setup.incoming, (Earlier, OtherPiece)) or setup.text is not None:
                    return  # what stood at a moment, and what a text leaves, is known to who evaluates
                if isinstance(setup.incoming, Brought):
                    key = brought_key(run, setup.incoming)
                key = stock_after(run, index, setup, key, self.density, jaws[-1] if jaws else None)
            except BadInput:
                return

    def _coming_to_jaws(self, setup: Setup, carried: ComingIn) -> ComingIn:
        """What the jaws that a setup cuts will grip: the stock of the setup they are for."""
        assert setup.makes is not None
        setups = self.run.plan.setups
        later = next((i for i, one in enumerate(setups) if one.name == setup.makes.setup), None)
        return carried if later is None else coming_in(self.run, later, setups[later], self.setups, carried)

    def _of_the_part(self, index: int, setup: Setup, key: str | None, stock_volume: float) -> SetupReport:
        run = self.run
        plans = zip(self.setups, run.plan.setups, strict=False)
        jaws = [one for one, of in plans if of.makes and of.makes.setup == setup.name]
        coming = coming_in(run, index, setup, self.setups, ComingIn(key, stock_volume))
        computed = part_setup(run, index, setup, coming, self.density, jaws[-1] if jaws else None)
        if computed.zero_from_work is None:
            return computed
        return zeros_checked(run, index, computed, self.setups, self.billet.key)


def _callouts(run: Run) -> list[Finding]:
    """Tolerances on faces that are lost, or that mean nothing there; those of the file that belong to no
    face; a file that says no unit.
    """
    part = run.part.part
    told = [of_bad_input(bad, None, None, "part") for bad in senseless(part, run.plan.part.callouts)]
    if part.stray_callouts:
        said = ", ".join(part.stray_callouts[:4]) + (" …" if len(part.stray_callouts) > 4 else "")
        told.append(
            Finding(
                code="part.stray_tolerance",
                severity="note",
                stage="part",
                sentence=f"The file has tolerances of no face of this part ({said}): type what matters.",
                measured=float(len(part.stray_callouts)),
                limit=0.0,
                unit="tolerances",
            )
        )
    if part.unit == UNKNOWN_UNIT:
        low, high = np.array(part.low), np.array(part.high)
        size = " × ".join(f"{side:.4g}" for side in high - low)
        told.append(
            Finding(
                code="part.no_unit",
                severity="warning",
                stage="part",
                sentence=f"The file says no unit; it is read as mm, {size}. Export it with its unit if that"
                " is wrong.",
            )
        )
    return told
