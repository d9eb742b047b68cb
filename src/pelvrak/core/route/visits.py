"""In which order does a setup come to its operations and positions, and which order would turn the work
least?
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass

from pelvrak.core.cures import Arrange, Cure, Edit, Element, Put
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.findings import Finding
from pelvrak.core.route.plan import Setup

# Up to so many positions every order is weighed (Held and Karp, "A Dynamic Programming Approach to Sequencing
# Problems", 1962); beyond, the nearest comes next.
EXACT = 11
# A better order is told of when it saves at least so much, s.
WORTH_S = 1.0

Between = Callable[[str, str], float]


@dataclass(frozen=True)
class Visit:
    """One operation cut at one position. number: of the operation in its setup; run: tells it from its other
    visits.
    """

    number: int
    operation: Operation
    position: str

    @property
    def run(self) -> str:
        return self.operation.id if not self.operation.repeated_at else f"{self.operation.id}@{self.position}"


def visits(setup: Setup, between: Between | None = None) -> list[Visit]:
    """All visits of a setup in the order the program makes them.

    By operations: each goes through all its positions, the shortest way from where the work stands (between:
    time from one position to another, s; None: in its own order). By positions: all that is cut at one before
    the work turns to the next.
    """
    if setup.order == "positions":
        names = ["", *(position.name for position in setup.positions)]
        return [
            Visit(number, operation, name)
            for name in names
            for number, operation in enumerate(setup.operations)
            if name in operation.places()
        ]
    out: list[Visit] = []
    for number, operation in enumerate(setup.operations):
        places = list(operation.places())
        if between is not None and len(places) > 1:
            places = least_turning(out[-1].position if out else "", places, between)
        out += [Visit(number, operation, name) for name in places]
    return out


def least_turning(start: str, names: list[str], between: Between) -> list[str]:
    """The order of positions that turns least from where the work stands; of equal ones the first as given.

    Exact up to EXACT of them.
    """
    if len(names) > EXACT:
        left, order, here = list(names), [], start
        while left:
            here = min(left, key=lambda name: between(here, name))
            left.remove(here)
            order.append(here)
        return order
    time = {(a, b): between(names[a], names[b]) for a, b in itertools.permutations(range(len(names)), 2)}
    # best[set of visited, last]: (time, order)
    best: dict[tuple[int, int], tuple[float, tuple[int, ...]]] = {
        (1 << i, i): (between(start, name), (i,)) for i, name in enumerate(names)
    }
    for size in range(2, len(names) + 1):
        for chosen in itertools.combinations(range(len(names)), size):
            mask = sum(1 << i for i in chosen)
            for last in chosen:
                before = mask ^ (1 << last)
                ways = [
                    (best[before, k][0] + time[k, last], (*best[before, k][1], last))
                    for k in chosen
                    if k != last
                ]
                best[mask, last] = min(ways, key=lambda way: (round(way[0], 9), way[1]))
    whole = (1 << len(names)) - 1
    if not names:
        return []
    _, order_of = min((best[whole, i] for i in range(len(names))), key=lambda way: (round(way[0], 9), way[1]))
    return [names[i] for i in order_of]


def idle_time(made: list[Visit], between: Between, change_s: float) -> float:
    """Time between cuts: turning, and changing tools, s."""
    out, tool = 0.0, None
    for before, visit in itertools.pairwise([None, *made]):
        assert visit is not None
        if before is not None:
            out += between(before.position, visit.position)
        if visit.operation.tool != tool:
            out, tool = out + change_s, visit.operation.tool
    return out


def grouped(setup: Setup, between: Between) -> Setup:
    """The setup with everything at one position cut together, its positions in the order that turns least."""
    used = list(dict.fromkeys(name for operation in setup.operations for name in operation.places() if name))
    order = least_turning("", used, between)
    rank = {name: i for i, name in enumerate(order)}
    positions = sorted(setup.positions, key=lambda position: rank.get(position.name, len(rank)))
    return setup.model_copy(update={"order": "positions", "positions": tuple(positions)})


def _regrouped(better: Setup) -> tuple[Edit, ...]:
    """The edits that group a setup's operations by its positions."""
    of = Element(setup=better.name)
    return (
        Put(of=of, field="order", value=better.order),
        Arrange(of=of, what="positions", order=tuple(position.name for position in better.positions)),
    )


def turning_words(now: int, then: int) -> str:
    """What another order spares: turns, if there are fewer, and time."""
    times = "once" if then == 1 else f"{then} times"
    return f"turn {times} instead of {now}, and take" if now != then else "take"


def order_findings(setup: Setup, between: Between, change_s: float) -> list[Finding]:
    """Whether cutting position by position would save time, and how much."""
    if not setup.positions:
        return []
    better = grouped(setup, between)
    made = [visits(one, between) for one in (setup, better)]
    now, then = (idle_time(one, between, change_s) for one in made)
    if now - then < WORTH_S:
        return []
    turns = [sum(a.position != b.position for a, b in itertools.pairwise(one)) for one in made]
    names = ", ".join(position.name for position in better.positions)
    return [
        Finding(
            code="index.order",
            severity="note",
            setup=setup.name,
            stage="reach",
            sentence=(
                f"Cut position by position ({names}), {setup.name} would"
                f" {turning_words(turns[0], turns[1])} {now - then:.1f} s less for turning and tool changes."
            ),
            measured=round(now, 2),
            limit=round(then, 2),
            unit="s",
            cures=(Cure(label="Group by position", edits=_regrouped(better)),),
        )
    ]
