"""Are the fewest positions and setups the fewest, and do they cover?"""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.machine.kinematics import direction_of
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.set_cover import set_cover, smallest_cover
from tests import solids


def features(shape):
    return features_of(model_of_solid(shape, "", "MM"))


class Cover(unittest.TestCase):
    def test_against_trying_every_choice(self):
        """The number of sets is what an exhaustive search over all choices finds."""
        rng = np.random.default_rng(11)
        for _ in range(30):
            sets = rng.random((9, 14)) < 0.35
            wanted = sets.any(axis=0) & (rng.random(14) < 0.9)
            found = smallest_cover(sets, wanted)
            self.assertTrue(sets[found].any(axis=0)[wanted].all())
            least = next(
                n
                for n in range(10)
                if any(
                    sets[list(c)].any(axis=0)[wanted].all() if c else not wanted.any()
                    for c in itertools.combinations(range(9), n)
                )
            )
            self.assertEqual(len(found), least)

    def test_what_cannot_be_covered(self):
        with self.assertRaises(ValueError):
            smallest_cover(np.zeros((3, 2), bool), np.ones(2, bool))


class Parts(unittest.TestCase):
    def block(self):
        """A block with blind holes in its top and its front."""
        side = solids.placed(solids.turned(solids.cylinder((0, 0, -8), 2.5, 20), 90, (1, 0, 0)), (20, 0, 15))
        return features(
            solids.minus(solids.box((0, 0, 0), (60, 40, 30)), solids.cylinder((40, 20, 20), 4, 20), side)
        )

    def test_a_block_on_each_machine(self):
        found = self.block()
        plain = set_cover(found, machine_of("vertical-760"), np.eye(4))
        # From above: its top hole and all four walls (along which a tool goes); the front hole and the bottom
        # stay.
        self.assertEqual(len(plain.here), 1)
        self.assertEqual(len(plain.here_left), 3)  # bottom face, wall and floor of the front hole
        self.assertEqual(len(plain.setups), 2)  # from above, and from the front, which the bottom lies along
        about_x = set_cover(found, machine_of("vertical-760-a"), np.eye(4))
        self.assertEqual(len(about_x.here), 2)
        self.assertEqual(about_x.here_left, ())
        self.assertEqual(len(about_x.setups), 1)
        for way in about_x.here:
            np.testing.assert_allclose(
                direction_of(machine_of("vertical-760-a"), way.angles), way.in_setup, atol=1e-9
            )
        covered = {f for one in about_x.setups for w in one.ways for f in w.faces}
        self.assertEqual(covered, set(range(len(found.reach))) - set(about_x.never))

    def test_what_no_tool_reaches_is_never_promised(self):
        hollow = features(
            solids.minus(solids.box((0, 0, 0), (60, 40, 30)), solids.box((10, 10, 10), (50, 30, 20)))
        )
        found = set_cover(hollow, machine_of("trunnion-ac"), np.eye(4))
        self.assertEqual(len(found.never), 6)
        self.assertFalse({f for one in found.setups for f in one.faces} & set(found.never))


if __name__ == "__main__":
    unittest.main()
