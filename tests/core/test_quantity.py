"""What people type into fields."""

from __future__ import annotations

import math
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from pelvrak.core.quantity.typed import NotUnderstood, understood


class Typed(unittest.TestCase):
    def test_a_hyphen_before_a_fraction_is_no_minus(self):
        """1-1/2 in is one and a half inches, as the trade writes it; a sum with room round its sign stays a
        sum.
        """
        for text, mm in (
            ("1-1/2in", 38.1),
            ("1-1/2 in", 38.1),
            ('2-3/16"', 55.5625),
            ("10 - 1/2", 9.5),
            ("10 -1/2", 9.5),
            ("40-6/2", 37.0),
            ("(3)-1/2", 2.5),
            ("1.5-1/2", 1.0),
        ):
            self.assertAlmostEqual(understood(text, "mm").value, mm, places=9, msg=text)
        self.assertAlmostEqual(understood("30-1/2", "°").value, 29.5)

    def test_what_is_understood(self):
        # 1 in is 25.4 mm exactly (international yard and pound agreement of 1959; ISO 31-1 annex).
        for text, value in {
            "12": 12,
            "12.5": 12.5,
            "12,5": 12.5,
            ".5": 0.5,
            "-3": -3,
            "+4": 4,
            "1 in": 25.4,
            "3/16 in": 4.7625,
            '3/16"': 4.7625,
            "1 5/16 in": 33.3375,
            "2 + 3/16 in": 6.7625,
            "25 mm + 1 in": 50.4,
            "(40 - 6)/2": 17,
            "2*(3 + 4)": 14,
            "2 × 3 mm": 6,
            "1 ft - 4 mm": 300.8,
            "10 thou": 0.254,
            "150 µm": 0.15,
            "2 cm": 20,
            "10/4": 2.5,
            "8/2/2": 2,
            "-(2 + 3) mm": -5,
            "1 in / 2": 12.7,
            "100/3": 100 / 3,
            "5 in / 2 in": 2.5,
            "1/2 in + 1/4 in": 19.05,
            "3 MM": 3,
            "0.1 m": 100,
        }.items():
            with self.subTest(text):
                self.assertAlmostEqual(understood(text).value, value, places=9)

    def test_other_fields(self):
        self.assertAlmostEqual(understood("30", "°").value, 30)
        self.assertAlmostEqual(understood("3.141592653589793 rad / 2", "°").value, 90, places=9)
        self.assertAlmostEqual(understood("90°/4 + 1", "°").value, 23.5)
        self.assertAlmostEqual(understood("12000/2", "rpm").value, 6000)
        self.assertAlmostEqual(understood("1", "in").value, 1)
        self.assertAlmostEqual(understood("12.7 mm", "in").value, 0.5)

    def test_errors_point_at_the_character(self):
        for text, at in {
            "": 0,
            "12 +": 4,
            "12 ++ * 3": 6,
            "3/16 inn": 7,
            "12 x": 3,
            "(3 + 4": 6,
            "3 + 4)": 5,
            "5 mm mm": 5,
            "4 * / 2": 4,
            "2 in (3)": 5,
            "1..2": 2,
        }.items():
            with self.subTest(text), self.assertRaises(NotUnderstood) as caught:
                understood(text)
            self.assertEqual(caught.exception.at, at, text)

    def test_units_that_do_not_fit(self):
        for text, unit in (
            ("3 mm * 2 mm", "mm"),
            ("5 °", "mm"),
            ("5 mm", "°"),
            ("5 mm + 3 °", "mm"),
            ("4 mm", "rpm"),
        ):
            with self.subTest(text), self.assertRaises(NotUnderstood):
                understood(text, unit)
        for text in ("1/0", "1 in / 0", "1/(2 - 2)"):
            with self.subTest(text), self.assertRaises(NotUnderstood) as caught:
                understood(text)
            self.assertIn("zero", caught.exception.what)

    def test_nothing_is_run(self):
        for text in ("__import__('os')", "2**8", "a", "1e3", "import", "9" * 200, "((((((((((" * 9):
            with self.subTest(text[:20]), self.assertRaises(NotUnderstood):
                understood(text)

    @settings(deadline=None)
    @given(st.floats(0.001, 9999), st.floats(0.001, 9999), st.sampled_from("+-*/"))
    def test_arithmetic_is_arithmetic(self, one, two, sign):
        one, two = round(one, 4), round(two, 4)
        exact = {"+": one + two, "-": one - two, "*": one * two, "/": one / two}[sign]
        self.assertTrue(
            math.isclose(understood(f"{one:.4f} {sign} {two:.4f}").value, exact, rel_tol=1e-9, abs_tol=1e-9)
        )

    @settings(deadline=None)
    @given(st.text(max_size=30))
    def test_any_text_is_a_value_or_a_refusal(self, text):
        try:
            self.assertTrue(math.isfinite(understood(text).value))
        except NotUnderstood as no:
            self.assertTrue(0 <= no.at <= len(text))


if __name__ == "__main__":
    unittest.main()
