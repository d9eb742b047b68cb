"""Billet, seat, holding, machine, feeds: against published values and facts of the trade."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np

from pelvrak.core.billet.block import Block, ByAllowance, BySize, block_of, check_fit, margins
from pelvrak.core.cutting.feeds import (
    Material,
    cutting_data,
    cutting_power,
    material_of,
    materials,
    removal_rate,
    specific_force,
    spindle_speed,
    table_feed,
)
from pelvrak.core.cutting.tools import Tool, body_profiles, cutter_profile, tip_length, tool_shelf
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import EdgeRef, middle_of, ref_to
from pelvrak.core.geometry.rigid import moved, rotation_about_z
from pelvrak.core.machine.machine import machine_of, machines
from pelvrak.core.machine.travel import check_travel, register_value
from pelvrak.core.route.plan import plan_from
from pelvrak.core.seat.seating import Seat, UpByDirection, UpByFace, XByEdge, XByTurn, Zero, lay, seat_work
from tests import solids
from tests.core.planning_bench import model

# ISO 2306:1972, drills for ISO metric threads: thread → drill (values as tables print them).
ISO_2306 = {
    (3, 0.5): 2.5,
    (4, 0.7): 3.3,
    (5, 0.8): 4.2,
    (6, 1.0): 5.0,
    (8, 1.25): 6.8,
    (10, 1.5): 8.5,
    (12, 1.75): 10.2,
    (16, 2.0): 14.0,
    (16, 1.5): 14.5,
    (20, 2.5): 17.5,
}


class BilletTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.part = model(solids.box((0, 0, 0), (60, 40, 20))).part

    def test_by_allowance(self):
        sizing = ByAllowance(x_minus=1, x_plus=2, y_minus=3, y_plus=4, z_minus=5, z_plus=6)
        low, high = block_of(Block(sizing=sizing), self.part)
        np.testing.assert_allclose((low, high), ((-1, -3, -5), (62, 44, 26)), atol=1e-6)

    def test_by_size_centred_cuts_both_sides_evenly(self):
        low, high = block_of(Block(sizing=BySize(size=(65, 45, 26), place=(0.5, 0.5, 1.0))), self.part)
        seen = margins(self.part, low, high)
        np.testing.assert_allclose(
            [seen[s] for s in ("x-", "x+", "y-", "y+", "z-", "z+")], [2.5, 2.5, 2.5, 2.5, 6, 0], atol=1e-6
        )

    def test_too_small_names_side_and_amount_and_cures(self):
        found = check_fit(Block(sizing=ByAllowance(x_plus=-1.5)), self.part)
        self.assertEqual(
            [(f.code, f.severity, f.measured) for f in found], [("billet.too_small", "error", -1.5)]
        )
        self.assertIn("1.50 mm too small", found[0].sentence)
        self.assertIn("x+", found[0].sentence)
        self.assertAlmostEqual(found[0].place[0][0], 60, places=6)
        self.assertEqual(found[0].cures[0].edits[0].field, "billet/sizing/x_plus")

    def test_refuses_sizes_without_meaning(self):
        for wrong in ((float("nan"), 1, 1), (-5, 1, 1), (0, 1, 1), (1e7, 1, 1)):
            with self.assertRaises(ValueError):
                BySize(size=wrong)


class SeatTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        shape = solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((15, 10, -1), 4, 40))
        cls.part = model(shape).part
        cls.box = dict.fromkeys(("part", "billet", "incoming"), ((0.0, 0.0, 0.0), (60.0, 40.0, 20.0)))

    def face(self, direction):
        return ref_to(next(f for f in self.part.faces if f.normal and np.dot(f.normal, direction) > 0.999))

    def test_every_seat_is_a_right_handed_rotation(self):
        ups = [UpByDirection(direction=d) for d in ((0, 0, 1), (0, 0, -1), (1, 0, 0), (0, -1, 0), (1, 1, 1))]
        for up, flip, turn in itertools.product(ups, (False, True), range(4)):
            rotation = lay(Seat(up=up, flip=flip, x=XByTurn(quarter_turns=turn)), self.part)
            np.testing.assert_allclose(rotation @ rotation.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(float(np.linalg.det(rotation)), 1.0, places=12)
            direction = np.array(up.direction) / np.linalg.norm(up.direction)
            np.testing.assert_allclose(rotation @ direction, [0, 0, -1 if flip else 1], atol=1e-12)

    def test_a_flip_is_exact(self):
        rotation = lay(Seat(flip=True), self.part)
        self.assertEqual(rotation.tolist(), [[1, 0, 0], [0, -1, 0], [0, 0, -1]])

    def test_up_by_face_and_x_by_edge(self):
        rotation = lay(Seat(up=UpByFace(face=self.face((1, 0, 0)))), self.part)
        np.testing.assert_allclose(rotation @ [1, 0, 0], [0, 0, 1], atol=1e-12)
        edge = next(e for e in self.part.edges if e.direction and abs(e.direction[1]) > 0.999)
        turned = lay(Seat(x=XByEdge(edge=EdgeRef(edge=edge.number, at=middle_of(edge)))), self.part)
        self.assertAlmostEqual(abs(float((turned @ [0, 1, 0])[0])), 1.0, places=9)

    def test_wrong_picks_are_refused(self):
        gone = ref_to(self.part.faces[0]).model_copy(update={"at": (1.0, 2.0, 3.0)})
        with self.assertRaises(BadInput) as caught:
            lay(Seat(up=UpByFace(face=gone)), self.part)
        self.assertEqual(caught.exception.code, "part.face_lost")
        upright = next(e for e in self.part.edges if e.direction and abs(e.direction[2]) > 0.999)
        with self.assertRaises(BadInput):
            lay(Seat(x=XByEdge(edge=EdgeRef(edge=upright.number, at=middle_of(upright)))), self.part)
        with self.assertRaises(ValueError):
            UpByDirection(direction=(0, 0, 0))
        with self.assertRaises(ValueError):
            Zero(of="hole")

    def test_zero_on_corners_and_middles(self):
        rotation = lay(Seat(), self.part)
        for x, y, z in itertools.product((-1, 0, 1), repeat=3):
            zero = seat_work(Zero(of="part", x=x, y=y, z=z), self.part, self.box, rotation)
            wanted = [30 * (x + 1), 20 * (y + 1), 10 * (z + 1)]
            np.testing.assert_allclose(moved(zero, np.array(wanted)), 0, atol=1e-9)

    def test_zero_over_a_hole_after_a_flip(self):
        hole = ref_to(self.part.faces[self.part.holes[0].faces[0]])
        seat = Seat(flip=True, zero=Zero(of="hole", hole=hole, z=-1))
        rotation = lay(seat, self.part)
        lying = dict.fromkeys(self.box, ((0.0, -40.0, -20.0), (60.0, 0.0, 0.0)))
        zero = seat_work(seat.zero, self.part, lying, rotation)
        # The hole's axis stands over zero; the part's old top lies on height 0.
        np.testing.assert_allclose(moved(zero, np.array([15, 10, 20])), [0, 0, 0], atol=1e-9)

    def test_quarter_turns_are_exact(self):
        self.assertEqual(rotation_about_z(90).tolist(), [[0, -1, 0], [1, 0, 0], [0, 0, 1]])


class MillTest(unittest.TestCase):
    def test_register_by_hand(self):
        # Corner -830, -440, -640; zero 450, 335, 172.5 from it: added up.
        self.assertEqual(register_value(machine_of("vertical-760"), (450, 335, 172.5)), (-380, -105, -467.5))

    def test_travel(self):
        machine = machine_of("vertical-760")

        def reach(register, gauge):
            return np.add(register, [-50.0, -50, -40 + gauge]), np.add(register, [50.0, 50, 10 + gauge])

        self.assertEqual(check_travel(machine, *reach((-380, -200, -467.5), 120.0), "OP10", "face"), [])
        found = check_travel(machine, *reach((-30, -200, -467.5), 120.0), "OP10", "face")
        self.assertEqual([(f.code, f.measured, f.limit) for f in found], [("reach.travel", 20.0, 0.0)])
        below = check_travel(machine, *reach((-380, -200, -467.5), -10.0), "OP10", "face")
        self.assertIn("Z", below[0].sentence)

    def test_unknown_machine(self):
        with self.assertRaises(BadInput):
            machine_of("none")

    def test_shipped_machines_can_reach_their_table(self):
        for machine in machines().values():
            for d in range(2):
                # On a horizontal machine the table's middle is off the spindle's way in Z alone.
                middle = register_value(machine, (machine.table.length / 2, machine.table.depth / 2, 0.0))[d]
                low, high = machine.limits()
                self.assertTrue(low[d] - 120 <= middle <= high[d], (machine.id, middle))


class FeedsTest(unittest.TestCase):
    """Formulas of ISO 3002-1/-3 and Kienzle; the examples are of handbook kind, worked by hand here."""

    def test_spindle_speed(self):
        # vc = 100 m/min, D = 20 mm: 1000·100/(π·20) = 1591.5 rpm.
        self.assertAlmostEqual(spindle_speed(100, 20), 1591.549, places=3)

    def test_table_feed(self):
        self.assertAlmostEqual(table_feed(1592, 0.1, 4), 636.8, places=9)

    def test_removal_rate(self):
        # ap 5, ae 60, vf 400: 120 cm³/min.
        self.assertAlmostEqual(removal_rate(5, 60, 400), 120.0, places=9)

    def test_kienzle(self):
        # C45: kc1.1 1700, mc 0.25 at h = 0.1 mm: 1700·0.1^-0.25 = 3023 N/mm².
        self.assertAlmostEqual(specific_force(material_of("C45"), 0.1), 3023.0, delta=1)
        self.assertAlmostEqual(specific_force(material_of("C45"), 1.0), 1700)

    def test_a_material_of_ones_own(self):
        """Kienzle with values that are told: kc = kc1.1 · h^-mc; one's own goes before one that ships."""
        own = Material(
            name="C45", density_g_cm3=7.8, kc11=2000, mc=0.2, vc_carbide=100, vc_hss=20, fz_share=0.004,
            source="a table",
        )  # fmt: skip
        self.assertEqual(material_of("C45", (own,)), own)
        self.assertAlmostEqual(specific_force(material_of("C45", (own,)), 0.1), 2000 * 0.1**-0.2)
        self.assertNotEqual(material_of("C45"), own)
        with self.assertRaises(BadInput):
            material_of("own", (own,))
        plan = {"name": "p", "part": {"file": "p.step"}, "materials": [own.model_dump(), own.model_dump()]}
        with self.assertRaises(BadInput) as refused:
            plan_from(plan)
        self.assertIn("two materials are called C45", refused.exception.what)

    def test_power(self):
        # 120 cm³/min at kc 2000 N/mm²: 5·60·400·2000/60e6 = 4 kW.
        self.assertAlmostEqual(cutting_power(5, 60, 400, 2000), 4.0, places=9)

    def test_computed_and_typed(self):
        machine, tool, stuff = machine_of("vertical-760"), tool_shelf()["em10"], material_of("EN AW-6082")
        data = cutting_data(tool, stuff, machine)
        self.assertAlmostEqual(data.speed_rpm.value, spindle_speed(350, 10), delta=5)
        self.assertIn("1000·vc", data.speed_rpm.formula)
        self.assertIn("350", data.speed_rpm.with_values)
        fast = cutting_data(tool_shelf()["em3"], stuff, machine)
        self.assertEqual(fast.speed_rpm.value, machine.spindle.max_rpm)
        self.assertIn("held at", fast.speed_rpm.with_values)
        typed = cutting_data(tool, stuff, machine, 5000, 800)
        self.assertEqual((typed.speed_rpm.value, typed.feed_mm_min.value), (5000, 800))
        for speed, feed in ((50_000, None), (10, None), (None, 50_000)):
            with self.assertRaises(BadInput):
                cutting_data(tool, stuff, machine, speed, feed)

    def test_a_tap_feeds_its_pitch(self):
        data = cutting_data(tool_shelf()["tpM6"], material_of("EN AW-6082"), machine_of("vertical-760"))
        self.assertAlmostEqual(data.feed_mm_min.value, data.speed_rpm.value * 1.0)

    def test_densities(self):
        # EN 573 alloys and EN 10025/10088 steels, g/cm³, from memory of data sheets.
        known = {"EN AW-6082": 2.70, "EN AW-7075": 2.81, "C45": 7.85, "X5CrNi18-10": 7.9}
        for name, density in known.items():
            self.assertAlmostEqual(materials()[name].density_g_cm3, density, delta=0.02)


class ToolTest(unittest.TestCase):
    def test_tap_drills_of_iso_2306(self):
        """What a tap sweeps is its tapping drill: DC - TP, within 0.06 mm of the standard's drill."""
        base = tool_shelf()["tpM6"]
        for (size, pitch), drill in ISO_2306.items():
            tap = base.model_copy(update={"DC": float(size), "TP": pitch})
            self.assertAlmostEqual(2 * cutter_profile(tap).radii[-1], drill, delta=0.06)
        self.assertEqual(tool_shelf()["dr5"].DC, ISO_2306[(6, 1.0)])

    def test_tip_lengths(self):
        # 118° point: 0.3 D (common practice, no source); 90°: 0.5 D.
        self.assertAlmostEqual(tip_length(tool_shelf()["dr10"]) / 10, 0.3, delta=0.005)
        self.assertAlmostEqual(tip_length(tool_shelf()["sd10"]), 5.0, places=9)

    def test_bodies_stand_on_each_other(self):
        for tool in tool_shelf().values():
            flutes, shank, holder, nose = body_profiles(tool, (150.0, 180.0))
            cutter = cutter_profile(tool)
            cuts_to = max([*cutter.heights, *([sum(cutter.ball)] if cutter.ball else [])])
            self.assertLessEqual(shank.heights[0], cuts_to + 1e-9)
            self.assertLessEqual(max(flutes.radii), max([*cutter.radii, *(cutter.ball or (0,))[1:]]) + 1e-9)
            self.assertAlmostEqual(nose.heights[0], tool.gauge_length)
            self.assertEqual(holder.heights[0], tool.overhang)
            self.assertEqual(sorted(holder.radii), list(holder.radii))
            self.assertAlmostEqual(holder.heights[-1], tool.gauge_length)

    def test_wrong_tools(self):
        good = tool_shelf()["em10"].model_dump()
        for wrong in (
            {"LCF": 60},
            {"overhang": 90},
            {"DC": -1},
            {"DC": float("nan")},
            {"NOF": 0},
            {"kind": "drill"},
            {"kind": "tap"},
        ):
            with self.assertRaises(ValueError, msg=str(wrong)):
                Tool.model_validate({**good, **wrong})

    def test_point_angle_of_the_profile(self):
        profile = cutter_profile(tool_shelf()["dr10"])
        self.assertAlmostEqual(
            math.degrees(2 * math.atan2(profile.radii[1], profile.heights[1])), 118, places=6
        )


if __name__ == "__main__":
    unittest.main()
