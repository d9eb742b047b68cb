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


class AgainstAll(unittest.TestCase):
    def test_no_order_takes_less(self):
        """Three places of three tools, 1680 orders; four of two, 2520: none is quicker than the better of the
        two that are offered by more than a rapid between places.
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
