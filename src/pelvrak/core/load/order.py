"""In which order is a load cut? Each place keeps the order of its own operations, so that what comes first
stays first; how they follow one another over the places is what is chosen.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Vector

# More ways through the tools than this are not looked at: the first place's own order then leads.
MOST_STATES = 200_000
# More states times places than this are not looked at for the fastest order of all.
MOST_WAYS = 3_000_000
# So many places are put in their best order exactly, more by the next nearest.
EXACT_PLACES = 9


@dataclass(frozen=True)
class Cut:
    """One operation at a place. tool: its place in the changer; seconds: it takes; begins, ends: where the
    slides stand then, X, Y and Z of the machine, mm; over: Z of the slides with its tool just over all that
    stands, 0 where only the top of Z is; lies: how the rotary axes stand.
    """

    tool: int
    seconds: float
    begins: Vector
    ends: Vector
    over: float = 0.0
    lies: tuple[float, ...] = ()


@dataclass(frozen=True)
class Machine:
    """What stands between cuts. change_s: to change a tool; rapid_mm_min: of the slides; over: they go just
    over all that stands from place to place where nothing is changed or turned, else up to Z 0.
    """

    change_s: float
    rapid_mm_min: float
    over: bool = False

    def level(self, one: Cut, two: Cut) -> float:
        """At which Z of the slides they go from one cut to another, mm."""
        if not self.over or one.tool != two.tool or one.lies != two.lies:
            return 0.0
        return max(one.over, two.over, one.ends[2])

    def between(self, one: Cut, two: Cut) -> float:
        """From the end of one cut to the beginning of another at another place, or with another tool, s."""
        level = self.level(one, two)
        up, down = abs(level - one.ends[2]), abs(level - two.begins[2])
        return (up + math.dist(one.ends[:2], two.begins[:2]) + down) / self.rapid_mm_min * 60


# A step of an order: number of the place, and of its operation.
Step = tuple[int, int]


def by_places(places: Sequence[Sequence[Cut]]) -> list[Step]:
    """All operations of a place, then of the next."""
    return [(p, n) for p, own in enumerate(places) for n in range(len(own))]


def by_tools(places: Sequence[Sequence[Cut]], machine: Machine) -> list[Step]:
    """Each tool at all places before the next, with as few changes as there can be, and over the places by
    the least way.
    """
    done = [0] * len(places)
    out: list[Step] = []
    for tool in fewest_tools([[cut.tool for cut in own] for own in places]):
        group = []
        for p, own in enumerate(places):
            first = done[p]
            while done[p] < len(own) and own[done[p]].tool == tool:
                done[p] += 1
            if done[p] > first:
                group.append((p, first, done[p]))
        for g in _least_way(group, places, machine, out):
            p, first, past = group[g]
            out += [(p, n) for n in range(first, past)]
    return out


def fastest(places: Sequence[Sequence[Cut]], machine: Machine) -> list[Step] | None:
    """The order that takes the least time of all: by how far each place has come and which was cut last. What
    a place cuts with one tool on end stays together. None where there are too many ways to look at.
    """
    parts = [_on_end(own) for own in places]
    counts = [len(own) for own in parts]
    states = math.prod(count + 1 for count in counts)
    if not any(counts) or states * len(parts) > MOST_WAYS:
        return None
    cost, came = _least_times(places, parts, machine)
    state, last = states - 1, int(cost[states - 1].argmin())
    strides = _strides(counts)
    out: list[Step] = []
    while state:
        at = state // strides[last] % (counts[last] + 1) - 1
        first, past = parts[last][at]
        out = [(last, n) for n in range(first, past)] + out
        state, last = state - strides[last], int(came[state, last])
    return out


def _on_end(own: Sequence[Cut]) -> list[tuple[int, int]]:
    """Stretches of a place's operations with one tool: the first of each, and the one after its last."""
    starts = [n for n, cut in enumerate(own) if n == 0 or own[n - 1].tool != cut.tool]
    return list(zip(starts, [*starts[1:], len(own)][: len(starts)], strict=True))


def _strides(counts: Sequence[int]) -> list[int]:
    """How far states lie apart that differ in one place by one stretch."""
    return [math.prod(count + 1 for count in counts[p + 1 :]) for p in range(len(counts))]


def _least_times(
    places: Sequence[Sequence[Cut]], parts: Sequence[Sequence[tuple[int, int]]], machine: Machine
) -> tuple[Floats, NDArray[np.int16]]:
    """The least time to each state by the place that was cut last (states, places), s, and which was cut
    before that.
    """
    counts = [len(own) for own in parts]
    strides, total = _strides(counts), math.prod(count + 1 for count in counts)
    progress = np.array(np.unravel_index(np.arange(total), [count + 1 for count in counts]))
    cost = np.full((total, len(parts)), np.inf)
    came = np.full((total, len(parts)), -1, np.int16)
    steps = progress.sum(axis=0)
    takes = {
        (q, p): np.array([[_from_to(places, (q, a), (p, b), machine) for b in own] for a in other])
        for q, other in enumerate(parts)
        for p, own in enumerate(parts)
        if own and other
    }
    for level in range(int(steps.max())):
        here = np.flatnonzero(steps == level)
        for p, own in enumerate(parts):
            going = here[progress[p, here] < counts[p]]
            if not len(going):
                continue
            next_part = progress[p, going]
            after = going + strides[p]
            if level == 0:
                cost[after, p] = machine.change_s + _time_of(places[p], own[0])
                continue
            for q, other in enumerate(parts):
                if not other:
                    continue
                before = progress[q, going] - 1
                known = before >= 0
                new = np.full(len(going), np.inf)
                new[known] = cost[going[known], q] + takes[q, p][before[known], next_part[known]]
                better = new < cost[after, p] - 1e-12
                cost[after[better], p] = new[better]
                came[after[better], p] = q
    return cost, came


def _time_of(own: Sequence[Cut], part: tuple[int, int]) -> float:
    return sum(cut.seconds for cut in own[slice(*part)])


def _from_to(
    places: Sequence[Sequence[Cut]],
    one: tuple[int, tuple[int, int]],
    two: tuple[int, tuple[int, int]],
    machine: Machine,
) -> float:
    """From the end of one stretch to the end of another, s."""
    before, after = places[one[0]][one[1][1] - 1], places[two[0]][two[1][0]]
    changed = before.tool != after.tool
    way = machine.between(before, after) if changed or one[0] != two[0] else 0.0
    return (machine.change_s if changed else 0.0) + way + _time_of(places[two[0]], two[1])


def fewest_tools(sequences: Sequence[Sequence[int]]) -> list[int]:
    """The shortest order of tools in which every place finds its own, in its order: a shortest common
    supersequence, by breadth first over how far each place has come. With a tool in the spindle every place
    goes on as far as it can: waiting gains nothing.
    """
    # Like places go alike.
    alike = list(dict.fromkeys(tuple(_without_repeats(one)) for one in sequences if one))
    if not alike:
        return []
    goal = tuple(len(one) for one in alike)
    start = tuple(0 for _ in alike)
    came: dict[tuple[int, ...], tuple[tuple[int, ...], int]] = {}
    waiting = deque([start])
    while waiting:
        state = waiting.popleft()
        if state == goal:
            return _walked(came, state)
        if len(came) > MOST_STATES:
            break
        for tool in dict.fromkeys(one[at] for one, at in zip(alike, state, strict=True) if at < len(one)):
            after = tuple(
                at + (at < len(one) and one[at] == tool) for one, at in zip(alike, state, strict=True)
            )
            if after not in came and after != start:
                came[after] = state, tool
                waiting.append(after)
    return [tool for one in alike for tool in one]


def _without_repeats(tools: Sequence[int]) -> list[int]:
    return [tool for n, tool in enumerate(tools) if n == 0 or tools[n - 1] != tool]


def _walked(came: dict[tuple[int, ...], tuple[tuple[int, ...], int]], state: tuple[int, ...]) -> list[int]:
    out = []
    while state in came:
        state, tool = came[state]
        out.append(tool)
    return out[::-1]


def _least_way(
    group: list[tuple[int, int, int]],
    places: Sequence[Sequence[Cut]],
    machine: Machine,
    before: list[Step],
) -> list[int]:
    """The order of a tool's places by the least way between them, from where the one before has ended."""

    def way(a: int | None, b: int) -> float:
        last = before[-1] if a is None and before else None
        if a is None and last is None:
            return 0.0
        p, _, past = group[a] if a is not None else (last[0], 0, last[1] + 1) if last else (0, 0, 1)
        return machine.between(places[p][past - 1], places[group[b][0]][group[b][1]])

    count = len(group)
    if count > EXACT_PLACES:
        return _nearest(count, way)
    # Held and Karp: the least way through a set that ends at each of it.
    best: dict[tuple[int, int], tuple[float, int]] = {(1 << b, b): (way(None, b), -1) for b in range(count)}
    for chosen in range(1, 1 << count):
        for b in range(count):
            if not chosen >> b & 1 or (chosen, b) not in best:
                continue
            so_far = best[chosen, b][0]
            for c in range(count):
                if chosen >> c & 1:
                    continue
                key, total = (chosen | 1 << c, c), so_far + way(b, c)
                if key not in best or total < best[key][0] - 1e-12:
                    best[key] = total, b
    chosen = (1 << count) - 1
    at = min(range(count), key=lambda b: best[chosen, b][0])
    out = []
    while at >= 0:
        out.append(at)
        at, chosen = best[chosen, at][1], chosen & ~(1 << at)
    return out[::-1]


def _nearest(count: int, way) -> list[int]:  # type: ignore[no-untyped-def]
    out: list[int] = []
    while len(out) < count:
        here = out[-1] if out else None
        out.append(min((b for b in range(count) if b not in out), key=lambda b: way(here, b)))
    return out


def kept_in_order(order: Sequence[Step], places: Sequence[Sequence[Cut]]) -> str | None:
    """What is wrong with an order that was put together by hand; None where nothing is."""
    for p, own in enumerate(places):
        mine = [n for q, n in order if q == p]
        if sorted(mine) != list(range(len(own))):
            return f"place {p + 1} is not cut whole, or something of it twice"
        late = next((b for a, b in pairwise(mine) if b < a), None)
        if late is not None:
            return f"at place {p + 1} operation {late + 1} comes after what has to follow it"
    return None


def spans_of(
    order: Sequence[Step], places: Sequence[Sequence[Cut]], machine: Machine
) -> list[tuple[float, float]]:
    """When each step of an order begins and ends, s from the first tool change."""
    out: list[tuple[float, float]] = []
    seconds, last = 0.0, None
    for step in order:
        cut = places[step[0]][step[1]]
        before = None if last is None else places[last[0]][last[1]]
        changed = before is None or before.tool != cut.tool
        seconds += machine.change_s if changed else 0.0
        if before is not None and last is not None and (changed or last[0] != step[0]):
            seconds += machine.between(before, cut)
        out.append((seconds, seconds + cut.seconds))
        seconds, last = out[-1][1], step
    return out


def time_of(order: Sequence[Step], places: Sequence[Sequence[Cut]], machine: Machine) -> tuple[float, int]:
    """How long an order takes, s, and how often a tool is changed, the first one with it."""
    spans = spans_of(order, places, machine)
    changes = len(_without_repeats([places[p][n].tool for p, n in order]))
    return (spans[-1][1] if spans else 0.0), changes
