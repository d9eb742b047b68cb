"""Billets sized by size and margins, pulled at a side, and laid another way so that the part fits."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from pelvrak.core.billet.block import (
    Block,
    ByAllowance,
    ByCorners,
    BySides,
    BySize,
    Span,
    block_of,
    check_fit,
    margins,
    turned_to_fit,
)
from pelvrak.core.billet.forms import Bar, Extrusion, Model, raw_of
from pelvrak.core.billet.pulling import pulled
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.part import as_vector
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.quantity.typed import understood
from pelvrak.core.route.edits import edited
from tests import solids

PART = model_of_solid(solids.box((0, 0, 0), (60, 40, 20)), "0" * 64, "millimetre")


def box_of(billet):
    raw = raw_of(billet, PART, lambda sha256, name: b"", lambda data, name: PART.mesh)
    return as_vector(raw.low), as_vector(raw.high)


def pull(billet, **asked):
    sides = {name.replace("_minus", "-").replace("_plus", "+"): value for name, value in asked.items()}
    return pulled(billet, PART, *box_of(billet), sides)


class Spans(unittest.TestCase):
    def test_any_two_give_the_third(self):
        """1.375 in of height with .100 on top: under the part are left, by hand, 34.925 - 20 - 2.54."""
        high, top = (understood(text, "mm").value for text in ("1.375 in", ".100 in"))
        block = Block(sizing=BySides(z=Span(size=high, above=top)))
        told = margins(PART.part, *block_of(block, PART.part))
        self.assertAlmostEqual(told["z+"], 2.54)
        self.assertAlmostEqual(told["z-"], 34.925 - 20 - 2.54)
        for span, below, above in (
            (Span(below=3, above=4), 3, 4),
            (Span(size=30, below=1), 1, 9),
            (Span(size=30, above=1), 9, 1),
            (Span(size=30), 5, 5),
            (Span(size=19, above=1), -2, 1),
        ):
            self.assertEqual(span.round_part(20), (below, above))

    def test_all_three_or_one_margin_alone_is_refused(self):
        for wrong in ({"size": 30, "below": 1, "above": 2}, {"below": 1}, {"above": 1}, {}):
            with self.assertRaises(ValueError):
                Span(**wrong)

    def test_too_small_is_cured_on_its_side(self):
        block = Block(sizing=BySides(x=Span(size=60, below=2)))
        [finding] = [one for one in check_fit(block, PART.part) if one.severity == "error"]
        self.assertEqual((finding.measured, finding.place[0][0]), (-2.0, 60.0))
        document = {"billet": block.model_dump(mode="json")}
        mended = edited(document, finding.cures[-1].edits)["billet"]
        told = margins(PART.part, *block_of(Block.model_validate(mended), PART.part))
        self.assertEqual((told["x-"], told["x+"]), (2.0, 2.0))


class Turned(unittest.TestCase):
    def test_every_way_is_tried_and_the_best_is_offered(self):
        block = Block(sizing=BySize(size=(24, 66, 46)))
        found = turned_to_fit(block, PART.part)
        self.assertEqual(found, ((66, 46, 24), 2.0))
        finding = next(one for one in check_fit(block, PART.part) if one.severity == "error")
        mended = edited({"billet": block.model_dump(mode="json")}, finding.cures[0].edits)["billet"]
        again = Block.model_validate(mended)
        self.assertEqual(min(margins(PART.part, *block_of(again, PART.part)).values()), 2.0)
        self.assertIn("66 × 46 × 24", finding.cures[0].label)
        # By size and margins too; against all 24 ways of turning the part, tried by numbers.
        sides = Block(sizing=BySides(x=Span(size=24), y=Span(size=66), z=Span(size=46)))
        self.assertEqual(turned_to_fit(sides, PART.part), found)
        best = -np.inf
        for axes in itertools.permutations(range(3)):
            for signs in itertools.product((-1, 1), repeat=3):
                turn = np.zeros((3, 3))
                turn[range(3), axes] = signs
                if np.linalg.det(turn) > 0:
                    size = np.abs(turn @ np.array(PART.part.size))
                    best = max(best, float(((np.array([24, 66, 46]) - size) / 2).min()))
        self.assertEqual(best, found[1])

    def test_what_fits_as_it_lies_or_in_no_way_is_left(self):
        for size in ((66, 46, 24), (61, 41, 19)):
            self.assertIsNone(turned_to_fit(Block(sizing=BySize(size=size)), PART.part))
        self.assertIsNone(turned_to_fit(Block(), PART.part))


class Pulled(unittest.TestCase):
    def test_a_side_goes_where_it_is_pulled_however_the_block_is_sized(self):
        """The side that is pulled has its margin, all others stay; and it is said in the block's own way."""
        for sizing in (
            ByAllowance(),
            BySize(size=(70, 50, 30), place=(0.25, 0.5, 0.0)),
            ByCorners(low=(-1, -2, -3), high=(66, 47, 28)),
            BySides(x=Span(size=70, below=2), y=Span(size=50, above=3), z=Span(size=30)),
        ):
            block = Block(sizing=sizing)
            before = margins(PART.part, *box_of(block))
            for side, asked in (("x_plus", 7.5), ("x_minus", 0.5), ("y_plus", 3.0), ("z_minus", 12.25)):
                with self.subTest(rule=sizing.rule, side=side):
                    after = pull(block, **{side: asked})
                    name = side.replace("_minus", "-").replace("_plus", "+")
                    self.assertEqual(after.sizing.rule, sizing.rule)
                    now = margins(PART.part, *box_of(after))
                    for one, value in {**before, name: asked}.items():
                        self.assertAlmostEqual(now[one], value, places=3, msg=one)

    def test_both_sides_alike(self):
        now = margins(PART.part, *box_of(pull(Block(sizing=BySize(size=(70, 50, 30))), y_minus=4, y_plus=4)))
        self.assertAlmostEqual(now["y-"], 4)
        self.assertAlmostEqual(now["y+"], 4)

    def test_into_the_part(self):
        """No share of the spare says a negative margin: it is said by size and margins then."""
        after = pull(Block(sizing=BySize(size=(70, 50, 30))), x_plus=-1.0)
        self.assertEqual(after.sizing.rule, "sides")
        self.assertAlmostEqual(margins(PART.part, *box_of(after))["x+"], -1.0)

    def test_bars(self):
        bar = Bar(axis="x", diameter=60)
        self.assertAlmostEqual(box_of(pull(bar, x_plus=11.0))[1][0], 71.0)
        self.assertEqual(pull(bar, y_minus=12.0).diameter, 64.0)
        free = Bar(axis="x", allowance=1.0)
        wide = margins(PART.part, *box_of(free))["y+"]
        after = pull(free, y_plus=wide + 2)
        self.assertAlmostEqual(after.allowance, 3.0)
        self.assertAlmostEqual(margins(PART.part, *box_of(after))["y+"], wide + 2)

    def test_what_cannot_be_pulled_is_refused(self):
        low, high = (-5.0,) * 3, (65.0, 45.0, 25.0)
        for billet, asked in (
            (Block(), {"x-": -70.0}),
            (Block(), {"w": 1.0}),
            (Model(file="a.stl"), {"x-": 1.0}),
            (Extrusion(file="a.dxf", axis="x"), {"y+": 1.0}),
            (Bar(axis="x", diameter=60), {"y+": -90.0}),
        ):
            with self.assertRaises(BadInput) as refused:
                pulled(billet, PART, low, high, asked)
            self.assertEqual(refused.exception.code, "billet.not_pulled")
        after = pulled(Extrusion(file="a.dxf", axis="x"), PART, low, high, {"x+": 3.0})
        self.assertEqual(after.plus, 3.0)
