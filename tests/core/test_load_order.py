"""The order of a load: against all that there are, for what is small enough."""

from __future__ import annotations

import itertools
import math
import random
import unittest

from pelvrak.core.load.order import (
    Cut,
    Machine,
    by_places,
    by_tools,
    fastest,
    fewest_tools,
    kept_in_order,
    time_of,
)

MACHINE = Machine(change_s=6.0, rapid_mm_min=20_000)


def places(count: int, tools: list[list[int]], pitch: float = 150.0) -> list[list[Cut]]:
    """Places in a row; what each cuts with which tools, 10 s each, at machine Z -300."""
    return [
        [
            Cut(tool, 10.0, (-pitch * p, 0.0, -300.0), (-pitch * p, 20.0, -300.0))
            for tool in tools[p % len(tools)]
        ]
        for p in range(count)
    ]


def interleavings(counts: list[int]):
    """Every order of steps that keeps each place's own."""
    whole = [p for p, count in enumerate(counts) for _ in range(count)]
    for one in set(itertools.permutations(whole)):
        done = [0] * len(counts)
        out = []
        for p in one:
            out.append((p, done[p]))
            done[p] += 1
        yield out


class Fewest(unittest.TestCase):
    def test_the_shortest_common_supersequence(self):
        """Against every word of each length over the tools, shorter ones first."""
        chance = random.Random(3)
        for _ in range(60):
            sequences = [
                [chance.randint(1, 3) for _ in range(chance.randint(1, 4))]
                for _ in range(chance.randint(1, 3))
            ]
            found = fewest_tools(sequences)
            self.assertTrue(all(_within(one, found) for one in sequences), sequences)
            least = next(
                length
                for length in range(13)
                if any(
                    all(_within(one, word) for one in sequences)
                    for word in itertools.product((1, 2, 3), repeat=length)
                )
            )
            self.assertEqual(len(found), least, (sequences, found))

    def test_eight_places_and_three_tools(self):
        """Alike they take three changes; one that begins with the last tool makes it four."""
        eight = places(8, [[1, 2, 3]])
        order = by_tools(eight, MACHINE)
        self.assertEqual(time_of(order, eight, MACHINE)[1], 3)
        self.assertIsNone(kept_in_order(order, eight))
        mixed = [*eight[:7], places(1, [[3, 1]])[0]]
        self.assertEqual(time_of(by_tools(mixed, MACHINE), mixed, MACHINE)[1], 4)


def _within(one: list[int], word) -> bool:
    """Whether a sequence is in a word, in its order; one tool twice in turn is one."""
    rest = iter(word)
    last = None
    for tool in one:
        if tool == last:
            continue
        if not any(tool == other for other in rest):
            return False
        last = tool
    return True


def _two_places(chance: random.Random) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    def one() -> tuple[float, float, float]:
        return chance.uniform(-700, 0), chance.uniform(-400, 0), chance.uniform(-400, -100)

    return one(), one()


def _by_dijkstra(here: list[list[Cut]]) -> float:
    """The least time to cut all, s, by a general-purpose library on every state and last place."""
    import numpy as np
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import dijkstra

    count, long = len(here), len(here[0])
    radix = (long + 1) ** np.arange(count)
    states = (long + 1) ** count
    rows, columns, takes = [], [], []
    progress = np.arange(states)[:, None] // radix % (long + 1)
    start = states * count
    for p in range(count):
        for b in range(long):
            ready = np.flatnonzero(progress[:, p] == b)
            if b == 0:
                rows.append(np.array([start]))
                columns.append(np.array([int(radix[p]) * count + p]))
                takes.append(np.array([MACHINE.change_s + here[p][0].seconds]))
            for q in range(count):
                for a in range(long):
                    own = ready[progress[ready, q] == a + 1]
                    one, two = here[q][a], here[p][b]
                    changed = one.tool != two.tool
                    way = MACHINE.between(one, two) if changed or p != q else 0.0
                    rows.append(own * count + q)
                    columns.append((own + radix[p]) * count + p)
                    takes.append(
                        np.full(len(own), (MACHINE.change_s if changed else 0.0) + way + two.seconds)
                    )
    graph = coo_matrix(
        (np.concatenate(takes), (np.concatenate(rows), np.concatenate(columns))), shape=(start + 1, start + 1)
    )
    away = dijkstra(graph.tocsr(), indices=start)
    return float(away[(states - 1) * count : states * count].min())


class AgainstAll(unittest.TestCase):
    def test_no_order_takes_less(self):
        """Three places of three tools, 1680 orders; four of two, 2520: none is quicker than the fastest, nor
        than the better of the two others by more than a rapid between places.
        """
        for count, tools in ((3, [[1, 2, 3]]), (4, [[1, 2]]), (3, [[1, 2], [2, 1], [1, 3]])):
            here = places(count, tools)
            best = min(time_of(one, here, MACHINE)[0] for one in interleavings([len(own) for own in here]))
            offered = min(
                time_of(one, here, MACHINE)[0] for one in (by_places(here), by_tools(here, MACHINE))
            )
            rapid = (600 + 150 * count) / 20_000 * 60
            self.assertLess(offered - best, rapid, (count, tools))
            self.assertGreaterEqual(offered, best - 1e-9)
            found = fastest(here, MACHINE)
            self.assertIsNone(kept_in_order(found, here))
            self.assertAlmostEqual(time_of(found, here, MACHINE)[0], best, places=9)

    def test_the_fastest_of_scattered_places(self):
        """Four places here and there, with one to three tools each and some of them twice on end: against
        every order.
        """
        chance = random.Random(11)
        for _ in range(12):
            here = [
                [
                    Cut(chance.randint(1, 2), chance.uniform(1, 20), *_two_places(chance))
                    for _ in range(chance.randint(1, 2))
                ]
                for _ in range(4)
            ]
            best = min(time_of(one, here, MACHINE)[0] for one in interleavings([len(own) for own in here]))
            self.assertAlmostEqual(time_of(fastest(here, MACHINE), here, MACHINE)[0], best, places=9)

    def test_eight_places_of_three_tools(self):
        """Against Dijkstra's way (scipy) through the graph of all 65536 states by the place cut last."""
        chance = random.Random(2)
        here = [[Cut(tool, 5.0, *_two_places(chance)) for tool in (1, 2, 3)] for _ in range(8)]
        found = fastest(here, MACHINE)
        self.assertIsNone(kept_in_order(found, here))
        self.assertAlmostEqual(time_of(found, here, MACHINE)[0], _by_dijkstra(here), places=6)

    def test_too_many_to_look_at(self):
        self.assertIsNone(fastest(places(20, [[1, 2, 3]]), MACHINE))
        self.assertIsNone(fastest([], MACHINE))

    def test_the_least_way_round_a_ring(self):
        """Places on a circle in any order are gone to one beside the other."""
        chance = random.Random(5)
        at = [(300 * math.cos(math.tau * k / 8), 300 * math.sin(math.tau * k / 8)) for k in range(8)]
        chance.shuffle(at)
        ring = [[Cut(1, 1.0, (x, y, -300.0), (x, y, -300.0))] for x, y in at]
        order = [p for p, _ in by_tools(ring, MACHINE)]
        side = 2 * 300 * math.sin(math.pi / 8)
        for a, b in itertools.pairwise(order):
            self.assertAlmostEqual(math.dist(at[a], at[b]), side, places=6)

    def test_times_by_hand(self):
        """Two places 150 apart of two tools. Place by place: 4 changes of 6, 40 of cutting, and between cuts
        600 up and down each; each tool round: 2 changes.
        """
        two = places(2, [[1, 2]])
        up_down = 600 / 20_000 * 60

        def across(*ways: float) -> float:
            return sum(ways) / 20_000 * 60

        seconds, changes = time_of(by_places(two), two, MACHINE)
        self.assertEqual(changes, 4)
        wanted = 40 + 24 + 3 * up_down + across(20, math.hypot(150, 20), 20)
        self.assertAlmostEqual(seconds, wanted, places=9)
        seconds, changes = time_of(by_tools(two, MACHINE), two, MACHINE)
        self.assertEqual(changes, 2)
        wanted = 40 + 12 + 3 * up_down + across(math.hypot(150, 20), 20, math.hypot(150, 20))
        self.assertAlmostEqual(seconds, wanted, places=9)

    def test_by_hand_what_must_come_first_does(self):
        two = places(2, [[1, 2]])
        for order, said in (
            ([(0, 1), (0, 0), (1, 0), (1, 1)], "comes after"),
            ([(0, 0), (0, 1), (1, 0)], "not cut whole"),
            ([(0, 0), (0, 0), (0, 1), (1, 0), (1, 1)], "twice"),
        ):
            self.assertIn(said, kept_in_order(order, two))
        self.assertIsNone(kept_in_order([(1, 0), (0, 0), (0, 1), (1, 1)], two))


if __name__ == "__main__":
    unittest.main()
