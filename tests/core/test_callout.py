"""Tolerances and threads typed on holes: the standard's own numbers."""

from __future__ import annotations

import unittest

import numpy as np

from pelvrak.core.cutting.operations.surfacing import scallop_height
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.callout import SCALLOP_RA, Callout, check_callout, understood
from pelvrak.core.geometry.part import ref_to
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids


class Callouts(unittest.TestCase):
    def test_classes_of_iso_286_2(self):
        # ISO 286-2:2010, tables of holes: 8 H7 +15/0, 35 H7 +25/0, 20 P9 -22/-74, 50 js... (µm), from memory.
        for text, nominal, low, high in (
            ("H7", 8, 8.0, 8.015),
            ("H7", 35, 35.0, 35.025),
            ("P9", 20, 19.926, 19.978),
            ("g6", 20, 19.98, 19.993),
        ):
            found = understood(text, nominal)
            self.assertEqual((found.low, found.high), (low, high))

    def test_deviations_as_typed(self):
        for text, low, high in (
            ("±0.05", 9.95, 10.05),
            ("+/-0.1", 9.9, 10.1),
            ("+0.1 -0.2", 9.8, 10.1),
            ("+0,02/0", 10.0, 10.02),
            ("−0.1 −0.3", 9.7, 9.9),
        ):
            found = understood(text, 10.0)
            self.assertEqual((found.low, found.high), (low, high), text)

    def test_the_size_first(self):
        """As people write them on a drawing; `8 +0.015` on Ø8 once became 8.015 … 16."""
        for text, low, high in (
            ("8 +0.015", 8.0, 8.015),
            ("8 +0.015/0", 8.0, 8.015),
            ("8.000-8.015", 8.0, 8.015),
            ("8.000 - 8.015", 8.0, 8.015),
            ("8 H7", 8.0, 8.015),
            ("Ø8 H7", 8.0, 8.015),
            ("8 ±0.02", 7.98, 8.02),
            ("8 -0.01 -0.02", 7.98, 7.99),
            ("+0.015", 8.0, 8.015),
            ("-0.02", 7.98, 8.0),
            ("8.015 to 8.000", 8.0, 8.015),
        ):
            found = understood(text, 8.0)
            self.assertEqual((found.low, found.high), (low, high), text)
        for text in ("10 +0.015", "8 16", "8 0.015 16", "10.000-10.015", "8 +4", "8 8", "12 H7"):
            with self.assertRaises(BadInput, msg=text):
                understood(text, 8.0)

    def test_threads_of_asme_b1_1(self):
        """1/4-20 UNC: 6.35 mm, 20 turns to the inch; drill 6.35 - 1.27 = 5.08 mm (trade: number 7, 5.1
        mm).
        """
        self.assertEqual(understood("1/4-20 UNC", 5.1).low, 5.08)
        self.assertEqual(understood("1/2-13", 10.8).kind, "thread")
        with self.assertRaises(BadInput):
            understood("1/4-20 UNC", 8.0)

    def test_threads_of_iso_2306(self):
        # ISO 2306: tapping drills M6 5.0, M8 6.8 (size - pitch 6.75), M10 8.5, M16×1.5 14.5; from memory.
        for text, drill in (
            ("M6", 5.0),
            ("M8", 6.75),
            ("M10", 8.5),
            ("M16x1.5", 14.5),
            ("m16 × 1.5", 14.5),
            ("M6-6H", 5.0),
        ):
            found = understood(text, drill)
            self.assertEqual((found.kind, found.low), ("thread", drill))
        self.assertEqual(understood("M8", 6.8).low, 6.75)  # the standard's drill is the pitch's, rounded

    def test_refused(self):
        for text, nominal in (
            ("Z99", 10),
            ("H7", 900),
            ("M6", 8.0),
            ("M7", 6.0),
            ("M6x4", 5.0),
            ("+20 -30", 10),
            ("", 10),
        ):
            with self.assertRaises(BadInput, msg=text):
                understood(text, nominal)

    def test_what_means_two_things_is_asked_back(self):
        for text, nominal, said in (
            ("12-0.05", 12.0, "limits from 0.05 to 12, or 12 with -0.05"),
            ("8 0.015", 8.0, "±0.015, or +0.015 alone"),
            (".02", 8.0, "±.02, or +.02 alone"),
        ):
            with self.assertRaises(BadInput) as refused:
                understood(text, nominal)
            self.assertEqual(refused.exception.code, "tolerance.two_meanings")
            self.assertIn(said, refused.exception.what)
        self.assertEqual(understood("12 0/-0.05", 12.0).low, 11.95)
        self.assertEqual(understood("11.95-12", 12.0).low, 11.95)

    def test_roughness(self):
        """Grades of ISO 1302:1992 (from memory); Ra of a parabola by numbers, of an arc as near as its
        scallop is shallow.
        """
        for text, nominal, ra in (
            ("Ra 1.6", None, 1.6),
            ("Ra0,8 µm", 8.0, 0.8),
            ("N7", None, 1.6),
            ("8 H7 Ra 0.8", 8.0, 0.8),
            ("M6 Rz 12.5", 5.0, 3.2075),
        ):
            self.assertAlmostEqual(understood(text, nominal).ra_um, ra, places=4, msg=text)
        self.assertEqual(understood("Ra 1.6", 8.0).kind, "surface")
        self.assertEqual(understood("8 H7 Ra 0.8", 8.0).high, 8.015)
        # On a size N7 is a class of ISO 286-2: 8 N7 is 7.981 … 7.996 (from memory).
        for text in ("N7", "8 N7"):
            self.assertEqual((understood(text, 8.0).low, understood(text, 8.0).high), (7.981, 7.996))
        x = np.linspace(-0.5, 0.5, 200_001)
        for profile in (4 * x**2, (5.0 - np.sqrt(25.0 - (x * 0.3) ** 2)) / scallop_height(5.0, 0.3)):
            own = np.abs(profile - profile.mean()).mean()
            self.assertAlmostEqual(1 / own, SCALLOP_RA, delta=0.002)
        for text, nominal, code in (
            ("Ra 900", None, "tolerance.roughness"),
            ("N13", None, "tolerance.roughness"),
            ("H7", None, "tolerance.no_size"),
            ("H7 Ra 0.8", None, "tolerance.no_size"),
        ):
            with self.assertRaises(BadInput) as refused:
                understood(text, nominal)
            self.assertEqual(refused.exception.code, code)

    def test_on_a_face(self):
        part = model_of_solid(
            solids.minus(solids.box((0, 0, 0), (40, 30, 20)), solids.cylinder((12, 15, -1), 4, 30)), "", "MM"
        ).part
        hole = next(f for f in part.faces if f.kind == "cylinder")
        self.assertEqual(check_callout(part, Callout(face=ref_to(hole), text="H7")).high, 8.015)
        plane = next(f for f in part.faces if f.kind == "plane")
        with self.assertRaises(BadInput) as refused:
            check_callout(part, Callout(face=ref_to(plane), text="H7"))
        self.assertEqual(refused.exception.code, "tolerance.no_size")
