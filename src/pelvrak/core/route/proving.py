"""Does a setup's program leave what was planned? Its text is read back, run by a simulated control with the
registers and tools as told, and cut again from the stock that comes in.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from pelvrak.core.cures import Element, put
from pelvrak.core.cutting.toolpath import TILTED_MM
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Alarm, Event, Standing
from pelvrak.core.route.feeling import Feeling, probes
from pelvrak.core.route.pictures import drawn
from pelvrak.core.route.pieces import FIELD, PROGRAM, PROOF, SIMPLIFY_MM, TRACE
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import Proof, SetupReport
from pelvrak.core.route.running import Stretch, TextGiven, control_for, given_for, moves_of, stretches_of
from pelvrak.core.stock.compare import signed_distance
from pelvrak.core.stock.cut import Hits, cut
from pelvrak.core.stock.field import RayField, error_of
from pelvrak.core.stock.shapes import minus, volume_without
from pelvrak.core.stock.thin import thicknesses

# A program is written to a thousandth, and a chord lies so near to its arc: two stocks this near are equal,
# mm, and where the work turns while it is cut, each as near as its tilted chords; less than this of a ray is
# no difference, mm.
EQUAL_MM, LEAST_MM = 0.01, 0.005
# A longer program is proved, and not run in step on the page.
MOST_TRACED = 400_000


@dataclass(frozen=True)
class ProofGiven:
    """A text and the stock it is run on. stock: that comes in; wanted: that is to be left, None where nothing
    was planned.
    """

    text: TextGiven
    stock: Content
    wanted: Content | None


def _prove(given: ProofGiven, reads: Reads) -> Pieces:
    """What comes of a text: what `Proof` tells of it, and how it runs, event by event."""
    control, seen = control_for(given.text), Seen()
    try:
        told, after, ends_s = run_and_cut(given, reads, control, seen)
    except BadInput as bad:
        line = bad.line if isinstance(bad, Alarm) else None
        told = {"lines": lines_in(given), "moves": seen.moves, "alarm": str(bad), "alarm_line": line}
        return {PROOF: told, TRACE: _trace(given.text, [], np.zeros(0), [])}
    if given.wanted is not None:
        within = EQUAL_MM + (2 * TILTED_MM if seen.turned else 0.0)
        told |= compared(after, reads.read(given.wanted, FIELD), within)
    return {PROOF: told, TRACE: _trace(given.text, seen.kept, ends_s, control.stood)}


def lines_in(given: ProofGiven) -> int:
    """How many lines a text has."""
    return given.text.text.count("\n")


def run_and_cut(
    given: ProofGiven, reads: Reads, control: Control, seen: Seen
) -> tuple[dict[str, Any], RayField, Floats]:
    """A text run and, where something is wanted of it, cut: what is told of it, what it leaves, and when each
    event ends, s. Raises BadInput, the control's alarms included.
    """
    lines = lines_in(given)
    control.touch = feeling = Feeling(given.text, reads.read(given.stock, FIELD))
    after, ends_s, met = cut_by(
        seen.of(control.steps(given.text.text)),
        feeling,
        lambda line: reads.tell(min(1.0, line / max(1, lines))),
        given.wanted is not None or probes(given.text),
    )
    time_s = round(float(ends_s[-1]), 2) if len(ends_s) else 0.0
    told = {"lines": lines, "moves": seen.moves, "time_s": time_s}
    told |= {"stops": seen.stops, "optional_stops": seen.optional_stops}
    if met is not None:
        told |= {"met_mm": round(met[0], 3), "met_line": met[1]}
    return told, after, ends_s


class Seen:
    """What is remembered of events that pass: the first ones, how many moves and stops there are, whether
    anything is cut while the work turns.
    """

    def __init__(self) -> None:
        self.kept: list[Event] = []
        self.moves, self.count, self.turned = 0, 0, False
        self.stops, self.optional_stops = 0, 0

    def of(self, events: Iterable[Event]) -> Iterator[Event]:
        """The same events."""
        angles: tuple[float, ...] | None = None
        for one in events:
            self.count += 1
            if self.count <= MOST_TRACED:
                self.kept.append(one)
            self.moves += moves_of(one)
            self.stops += one.kind == "stop" and not one.optional
            self.optional_stops += one.optional
            self.turned |= angles is not None and one.end[3:] != angles and one.kind != "rapid"
            angles = one.end[3:]
            yield one
        if self.count > MOST_TRACED:
            self.kept.clear()


PROVE = Step("prove", 6, ProofGiven, _prove)


def compared(after: RayField, wanted: RayField, within: float) -> dict[str, Any]:
    """How far a stock is from the one wanted, as a proof tells it. within: mm, up to which they are equal."""
    most, place = apart(after, wanted)
    return {
        "equal": most <= within,
        "within_mm": within,
        "most_mm": round(most, 4),
        "place": as_vector(np.round(place, 3)),
        "left_mm3": round(volume_without(after, wanted, LEAST_MM), 3),
        "gouged_mm3": round(volume_without(wanted, after, LEAST_MM), 3),
    }


def _trace(
    given: TextGiven, events: list[Event], ends_s: Floats, stood: list[tuple[int, Standing]]
) -> dict[str, Any]:
    """How a text runs, for the page. events: line, kind, X, Y and Z as the program counts, the rotary angles,
    when it ends (s from the program's start), and of an arc its middle; stood: line, and how the control
    stands after it; what its tables held as it began.
    """
    held = given.held()
    return {
        "events": [_row(one, end) for one, end in zip(events, ends_s.tolist(), strict=False)],
        "stood": [[line, now._asdict()] for line, now in stood],
        "registers": held.registers,
        "lengths": held.lengths,
        "radii": held.radii,
    }


def _row(one: Event, end_s: float) -> list[Any]:
    told = [one.line, one.kind, *(round(v, 4) + 0.0 for v in (*one.told, *one.end[3:])), round(end_s, 3)]
    if one.centre is None:
        return told
    return told + [round(c + one.told[i] - one.end[i], 4) + 0.0 for i, c in enumerate(one.centre)]


def proof_given(plan: Plan, told: SetupReport, engine: Engine, text: str | None = None) -> ProofGiven:
    """What a setup's program is proved from, or a text in its place. Raises BadInput."""
    if told.program_key is None or told.incoming_key is None or told.outgoing_key is None:
        raise BadInput("program.none", told.name, "the setup has no program", "give it something to cut")
    text = Result(told.program_key, engine).value(PROGRAM) if text is None else text
    own = next(one for one in plan.setups if one.name == told.name).text
    given = given_for(plan, told, text, () if own is None else own.called_texts(engine.files))
    wanted = told.planned_key or (told.outgoing_key if own is None else None)
    return ProofGiven(
        given,
        Result(told.incoming_key, engine).content(FIELD),
        None if wanted is None else Result(wanted, engine).content(FIELD),
    )


def proved(plan: Plan, told: SetupReport, store: Store, text: str | None = None) -> Proof:
    """What a setup's program comes to, or a text in its place."""
    return _proved(plan, told, Engine(store), text)


def _proved(plan: Plan, told: SetupReport, engine: Engine, text: str | None = None) -> Proof:
    try:
        made = engine.run(PROVE, proof_given(plan, told, engine, text), f"{told.name}: its program proved")
    except BadInput as bad:
        return _planned(told).model_copy(update={"unproved": str(bad)})
    return proof_of(told, made)


def _planned(told: SetupReport) -> Proof:
    return Proof(setup=told.name, planned_s=told.time_s if told.planned_s is None else told.planned_s)


def proof_of(told: SetupReport, made: Result) -> Proof:
    """A setup's proof from the result it is kept in."""
    found = made.value(PROOF)
    return Proof.model_validate({**_planned(told).model_dump(), "key": made.key, **found})


def proof_findings(told: SetupReport, proof: Proof) -> list[Finding]:
    """What is wrong with a program that was proved."""
    if told.written_key is not None:
        return _changed(told, proof)
    if proof.alarm is not None:
        return [
            Finding(
                code="program.stops",
                severity="error",
                setup=told.name,
                stage="prove",
                sentence=f"The control would not run the program of {told.name}: {proof.alarm}.",
            )
        ]
    if proof.equal is not False or proof.most_mm is None or proof.place is None:
        return []
    ways = [
        f"{amount / 1000:.3f} cm³ {word}"
        for word, amount in (("are left standing", proof.left_mm3), ("are cut away", proof.gouged_mm3))
        if amount
    ]
    return [
        Finding(
            code="program.apart",
            severity="error",
            setup=told.name,
            stage="prove",
            sentence=(
                f"The program of {told.name} does not leave what was planned: {proof.most_mm:.3f} mm apart at"
                f" most{''.join(f', {way}' for way in ways)}."
            ),
            measured=proof.most_mm,
            limit=proof.within_mm,
            unit="mm",
            place=(proof.place,),
        )
    ]


def _changed(told: SetupReport, proof: Proof) -> list[Finding]:
    """That a text changed by hand leaves another stock than the operations; why it does not run is told with
    its cuts.
    """
    if proof.equal is not False or proof.most_mm is None or proof.place is None:
        return []
    carried = told.outgoing_key != told.planned_key
    of = Element(setup=told.name)
    said = "the next setup begins with that" if carried else "the next setup begins with what was planned"
    other = "Carry on what was planned" if carried else "Carry on what the text leaves"
    return [
        Finding(
            code="program.changed",
            severity="note" if carried else "warning",
            setup=told.name,
            stage="prove",
            sentence=(
                f"The text of {told.name}, changed by hand, leaves another stock than its operations:"
                f" {proof.most_mm:.3f} mm apart at most; {said}."
            ),
            measured=proof.most_mm,
            limit=proof.within_mm,
            unit="mm",
            place=(proof.place,),
            cures=(
                put(other, of, "text/carried", not carried),
                put("Take the written program", of, "text", None),
            ),
        )
    ]


def with_proof(plan: Plan, told: SetupReport, engine: Engine) -> SetupReport:
    """A setup with its program proved, where it has one."""
    if told.program_key is None or told.incoming_key is None or not told.operations:
        return told
    proof = _proved(plan, told, engine)
    found = proof_findings(told, proof)
    return told.model_copy(update={"proof": proof, "findings": (*told.findings, *found)})


def cut_by(
    events: Iterable[Event], feeling: Feeling, tell: Callable[[float], None], cutting: bool = True
) -> tuple[RayField, Floats, tuple[float, int] | None]:
    """The stock that what the control did leaves, when each event ended, s, and where a rapid, or what does
    not cut of a tool, comes deepest into it: mm and line. feeling: the stock that comes in, which the
    control's probe meets as it is cut; tell: of each line it comes to; cutting: or only the times. Raises
    BadInput.
    """
    seconds, ends, met = 0.0, [np.zeros(0)], None
    grid, given = feeling.stock.grid, feeling.given
    for one in stretches_of(events, given, grid.box):
        seconds += one.before_s
        ends.append(seconds + one.ends_s)
        seconds = float(ends[-1][-1])
        if cutting and one.sweep is not None:
            after, hits = cut(feeling.stock, one.sweep, 1)
            found = _met(one, hits, error_of(grid.cell))
            if found is not None and (met is None or found[0] > met[0]):
                met = found
            feeling.now(after)
        tell(float(one.events[-1].line))
    return feeling.stock, np.concatenate(ends), met


def _met(one: Stretch, hits: Hits, known: float) -> tuple[float, int] | None:
    """How deep a rapid or a body of its tool comes into what stands, mm, and at which line; None where that
    is no more than is known.
    """
    deep = hits.deepest
    at = int(np.argmax(deep))
    if deep[at] <= known or (one.tool is not None and one.tool.kind == "probe"):
        return None
    # While axes turn, a move becomes as many chords as it takes.
    return float(deep[at]), one.lines[0 if one.turns else int(one.flat.move[at])]


def apart(one: RayField, two: RayField) -> tuple[float, Floats]:
    """How far the surfaces of two stocks on the same rays lie apart at most, mm, and where: of each stretch
    that one has and the other has not, its length square to the steeper of the surfaces it lies between. A
    ray that runs within a wall, where the two differ by nothing, is long for nothing: what seems far apart is
    so only as far as the drawn surfaces are.
    """
    depths, places = [np.zeros(1)], [np.zeros((1, 3))]
    for first, second in ((one, two), (two, one)):
        for _, _, thick, middle in thicknesses(minus(first, second)):
            depths.append(thick)
            places.append(middle)
    deep, at = np.concatenate(depths), np.concatenate(places)
    known = 2 * SIMPLIFY_MM
    far = np.flatnonzero(deep > known + EQUAL_MM)
    if len(far):
        seen = sum(np.abs(signed_distance(at[far], drawn(field))) for field in (one, two))
        # Within a wall the rays across it say how far apart the two are.
        within = np.where(seen <= known, 0.0, seen)
        deep[far] = np.where(deep[far] > seen + known, within, deep[far])
    worst = int(np.argmax(deep))
    return float(deep[worst]), at[worst]
