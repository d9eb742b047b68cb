"""Work held by its area: vacuum, magnet and tape against pressure times area by hand."""

from __future__ import annotations

import math
import unittest

import numpy as np

from pelvrak.core.geometry.mesh import Mesh, box, mesh_of, volume
from pelvrak.core.holding.clamping import FRICTION, GRAVITY, Load, programme, safety
from pelvrak.core.holding.hold import Hold, Item, WorkPlace, fixtures_of
from pelvrak.core.holding.holding import Held, Metal, hold_work
from pelvrak.core.holding.kinds import Magnet, Tape, VacuumPlate, cuboid, rod

SHOP = fixtures_of(())
STEEL = Metal(7.85e-6, "C45", True)
LENGTH, WIDTH, HIGH = 100.0, 80.0, 40.0


def held(fixture: str, work: Mesh, metal: Metal = Metal(), x: float = 400.0) -> Held:
    hold = Hold(items=(Item(id="it", fixture=fixture, x=x, y=300.0),), work=WorkPlace(on="it"))
    return hold_work(hold, SHOP, work, "OP10", metal=metal)


def stands(found: Held, across: float = 0.0, along: float = 0.0, at=(0.0, 0.0, HIGH)) -> float:
    """How often a force can be had before the work moves."""
    problem = programme(found.problem)
    load = Load("op", "op", across, along, 0.0, np.array([at]))
    return safety(problem, [load])[0].factor


def codes(found: Held) -> set[str]:
    return {one.code for one in found.findings}


BLOCK = box(np.array([-LENGTH / 2, -WIDTH / 2, 0.0]), np.array([LENGTH / 2, WIDTH / 2, HIGH]))


class Vacuum(unittest.TestCase):
    """F = p · A: the plate draws 80 kPa over 0.85 of the area within its seal."""

    def setUp(self):
        plate = SHOP["vacuum-300"]
        assert isinstance(plate, VacuumPlate)
        self.kpa = plate.below_kpa * plate.used

    def test_pressure_times_area(self):
        found = held("vacuum-300", BLOCK)
        [contact] = found.facts.contacts
        pull = self.kpa * 1e-3 * LENGTH * WIDTH
        self.assertAlmostEqual(contact.drawn, pull, delta=0.1)
        weight = volume(BLOCK) * Metal().density * GRAVITY
        # Straight up it stands what draws it and its weight.
        self.assertAlmostEqual(stands(found, along=-100.0), (pull + weight) / 100, delta=1e-3)
        # Low down it slips; the friction is that of metal on metal, at worst over the corner of its pyramid.
        slips = FRICTION * (pull + weight) / math.sqrt(2)
        self.assertAlmostEqual(stands(found, across=100.0, at=(0, 0, 0.01)), slips / 100, delta=0.01)
        self.assertNotIn("hold.not_clamped", codes(found))
        self.assertNotIn("hold.leaks", codes(found))
        self.assertNotIn("hold.clamp_tips", codes(found))

    def test_tall_work_tips_before_it_slips(self):
        """Over the edge it tips about: force · height = (pull + weight) · half the width."""
        tall = box(np.array([-LENGTH / 2, -20.0, 0.0]), np.array([LENGTH / 2, 20.0, 200.0]))
        found = held("vacuum-300", tall)
        pull = self.kpa * 1e-3 * LENGTH * 40
        weight = volume(tall) * Metal().density * GRAVITY
        self.assertAlmostEqual(
            stands(found, across=10.0, at=(0, 0, 200.0)), (pull + weight) * 20 / 200 / 10, delta=0.02
        )

    def test_a_closed_dent_is_drawn_on_and_an_opening_lets_air_in(self):
        whole = cuboid((-50, -40, 0), (50, 40, 40))
        dent, hole = rod(20.0, -1, 10, 20, 5), rod(12.0, -1, 50, -20, 0)
        found = held("vacuum-300", mesh_of(whole - dent))
        self.assertAlmostEqual(found.facts.contacts[0].drawn, self.kpa * 1e-3 * 8000, delta=0.5)
        self.assertNotIn("hold.leaks", codes(found))
        found = held("vacuum-300", mesh_of(whole - hole))
        [leak] = [one for one in found.findings if one.code == "hold.leaks"]
        self.assertEqual((leak.measured, leak.severity), (1.0, "error"))
        self.assertLess(math.dist(leak.place[0][:2], (-20, 0)), 6.0)
        # Drawn as a circle of 64 corners.
        circle = 64 / 2 * 36 * math.sin(2 * math.pi / 64)
        self.assertAlmostEqual(found.facts.contacts[0].drawn, self.kpa * 1e-3 * (8000 - circle), delta=0.5)

    def test_no_plate_draws_more_than_the_air_has(self):
        with self.assertRaises(ValueError):
            VacuumPlate(id="v", name="v", length=100, width=100, height=20, below_kpa=110)


class Magnets(unittest.TestCase):
    def test_steel_is_drawn_and_aluminium_is_not(self):
        magnet = SHOP["magnet-300"]
        assert isinstance(magnet, Magnet)
        found = held("magnet-300", BLOCK, STEEL)
        self.assertAlmostEqual(found.facts.contacts[0].drawn, magnet.pull_kpa * 1e-3 * 8000, delta=0.5)
        self.assertFalse({"hold.not_magnetic", "hold.not_clamped"} & codes(found))
        found = held("magnet-300", BLOCK)
        self.assertIsNone(found.facts.contacts[0].drawn)
        self.assertLessEqual({"hold.not_magnetic", "hold.not_clamped"}, codes(found))

    def test_half_off_the_magnet_half_is_drawn(self):
        """150 deep: work standing 40 mm over its edge is drawn by what lies on it, at the middle of that."""
        hold = Hold(
            items=(Item(id="it", fixture="magnet-300", x=400, y=300),), work=WorkPlace(on="it", y=75.0)
        )
        found = hold_work(hold, SHOP, BLOCK, "OP10", metal=STEEL)
        [contact] = found.facts.contacts
        self.assertAlmostEqual(contact.area, LENGTH * WIDTH / 2, delta=0.5)
        self.assertAlmostEqual(contact.drawn, 600e-3 * LENGTH * WIDTH / 2, delta=0.5)


class Taped(unittest.TestCase):
    def test_tape_stands_its_shear(self):
        tape = SHOP["tape-50"]
        assert isinstance(tape, Tape)
        work = box(np.array([-60.0, -20.0, 0.0]), np.array([60.0, 20.0, 10.0]))
        found = held("tape-50", work)
        area = 120 * 40
        [contact] = found.facts.contacts
        self.assertAlmostEqual(contact.area, area, delta=0.5)
        weight = volume(work) * Metal().density * GRAVITY
        pull = tape.pull_kpa * 1e-3 * area
        shear = tape.shear_kpa / tape.pull_kpa * (pull + weight) / math.sqrt(2)
        self.assertAlmostEqual(stands(found, across=100.0, at=(0, 0, 0.2)), shear / 100, delta=0.05)
        self.assertAlmostEqual(stands(found, along=-100.0, at=(0, 0, 10)), (pull + weight) / 100, delta=0.01)
        self.assertEqual(found.facts.rest, 0.0)
        # The work stands on the tape: 0.2 mm over the table.
        self.assertAlmostEqual(found.facts.zero_on_table[2], 0.2, delta=1e-6)
