"""How the work lies, where zero is, what it rests on, and what the checks say of that."""

from __future__ import annotations

import math
import unittest

import numpy as np
from pydantic import ValidationError

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box
from pelvrak.core.geometry.part import EdgeRef, FaceRef, middle_of, ref_to
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.seat.resting import Rest, Stocks, resting, resting_findings
from pelvrak.core.seat.seating import (
    NamedZero,
    Seat,
    UpByEdge,
    UpByFace,
    XByEdge,
    XByFace,
    XByHoles,
    Zero,
    lay,
    seat_work,
    zero_place,
)
from tests import solids

# A plate 60 × 40 × 20 with two Ø8 holes and a wedge cut off its right end at 30°.
LOW, HIGH = (0.0, 0.0, 0.0), (60.0, 40.0, 20.0)


def plate():
    wedge = solids.turned(solids.box((0, -1, -40), (40, 41, 0)), 30, (0, 1, 0))
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf, gp_Vec

    shift = gp_Trsf()
    shift.SetTranslation(gp_Vec(70, 0, 20))
    wedge = BRepBuilderAPI_Transform(wedge, shift, True).Shape()
    shape = solids.minus(
        solids.box(LOW, HIGH), solids.cylinder((10, 10, -1), 4, 30), solids.cylinder((40, 30, -1), 4, 30)
    )
    return model_of_solid(solids.minus(shape, wedge), "", "MM")


MODEL = plate()
PART = MODEL.part


def face_looking(*way: float, at: float | None = None):
    way = np.array(way) / np.linalg.norm(way)
    return max(
        (
            f
            for f in PART.faces
            if f.normal
            and np.dot(f.normal, way) > 0.9999
            and (at is None or abs(np.dot(f.centre, way) - at) < 1e-6)
        ),
        key=lambda f: f.area,
    )


def wall(x: float):
    return next(
        f for f in PART.faces if f.kind == "cylinder" and f.axis_point and abs(f.axis_point[0] - x) < 1e-6
    )


def edge_ref(number: int) -> EdgeRef:
    return EdgeRef(edge=number, at=middle_of(PART.edges[number]))


BOXES = dict.fromkeys(("billet", "part", "incoming"), (LOW, HIGH))


class Lying(unittest.TestCase):
    def test_up_by_axis_of_a_hole_and_by_edges(self):
        self.assertTrue(np.allclose(lay(Seat(up=UpByFace(face=ref_to(wall(10)))), PART)[2], [0, 0, 1]))
        line = next(e for e in PART.edges if e.direction and abs(e.direction[1]) > 0.999)
        self.assertAlmostEqual(abs(lay(Seat(up=UpByEdge(edge=edge_ref(line.number))), PART)[2][1]), 1.0)
        circle = next(e for e in PART.edges if e.kind == "circle")
        self.assertAlmostEqual(
            abs(lay(Seat(up=UpByEdge(edge=edge_ref(circle.number))), PART)[2][2]), 1.0, places=9
        )

    def test_x_by_face_and_hole_to_hole(self):
        rows = lay(Seat(x=XByFace(face=ref_to(face_looking(0, 1, 0)))), PART)
        self.assertTrue(np.allclose(rows, [[0, 1, 0], [-1, 0, 0], [0, 0, 1]]))
        rows = lay(Seat(x=XByHoles(first=ref_to(wall(10)), second=ref_to(wall(40)))), PART)
        self.assertTrue(np.allclose(rows[0], np.array([30, 20, 0]) / math.hypot(30, 20)))
        with self.assertRaises(BadInput) as refused:
            lay(Seat(x=XByHoles(first=ref_to(wall(10)), second=ref_to(wall(10)))), PART)
        self.assertEqual(refused.exception.code, "seat.x_same_hole")
        with self.assertRaises(BadInput) as refused:
            lay(Seat(x=XByFace(face=ref_to(face_looking(0, 0, 1)))), PART)
        self.assertEqual(refused.exception.code, "seat.x_upright")

    def test_exact_angle_is_seen_from_above_flipped_or_not(self):
        for flip in (False, True):
            before, after = lay(Seat(flip=flip), PART), lay(Seat(flip=flip, turn_deg=30), PART)
            # A direction of the work that lay along X lies 30° on, counter-clockwise from above.
            self.assertTrue(np.allclose(after @ before[0], [math.cos(math.pi / 6), 0.5, 0]))
            self.assertTrue(np.allclose(after[2], before[2]))
        self.assertTrue((lay(Seat(turn_deg=90), PART) == np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1]])).all())

    def test_picks_that_cannot_serve(self):
        curve = next(e for e in PART.edges if e.kind == "circle")
        with self.assertRaises(BadInput) as refused:
            lay(Seat(x=XByEdge(edge=edge_ref(curve.number))), PART)
        self.assertEqual(refused.exception.code, "seat.x_not_straight")


class Places(unittest.TestCase):
    def place(self, zero: Zero, boxes=BOXES, seat: Seat | None = None):
        return zero_place(zero, PART, boxes, lay(seat or Seat(), PART))

    def test_boxes_follow_the_size(self):
        bigger = {**BOXES, "incoming": ((-5.0, -5.0, -2.0), (65.0, 45.0, 22.0))}
        self.assertTrue(np.allclose(self.place(Zero(of="incoming", x=-1, y=1, z=1), bigger), [-5, 45, 22]))
        self.assertTrue(np.allclose(self.place(Zero(of="incoming", offset=(1, 2, -3)), bigger), [31, 22, 19]))

    def test_hole_and_boss(self):
        self.assertTrue(np.allclose(self.place(Zero(of="hole", hole=ref_to(wall(40)), z=-1)), [40, 30, 0]))
        with self.assertRaises(BadInput) as refused:
            self.place(Zero(of="hole", hole=ref_to(face_looking(0, 0, 1))))
        self.assertEqual(refused.exception.code, "part.not_a_hole")
        with self.assertRaises(BadInput) as refused:
            self.place(
                Zero(of="hole", hole=ref_to(wall(40))),
                seat=Seat(up=UpByFace(face=ref_to(face_looking(-1, 0, 0)))),
            )
        self.assertEqual(refused.exception.code, "seat.hole_not_upright")

    def test_where_faces_meet(self):
        left, front, top = (ref_to(face_looking(*way)) for way in ((-1, 0, 0), (0, -1, 0), (0, 0, 1)))
        self.assertTrue(np.allclose(self.place(Zero(of="faces", faces=(left, front, top))), [0, 0, 20]))
        # One face sets one coordinate; the others stay with the stock.
        self.assertTrue(np.allclose(self.place(Zero(of="faces", faces=(left,), x=0, y=1, z=-1)), [0, 40, 0]))
        slope = next(f for f in PART.faces if f.normal and 0.1 < abs(f.normal[0]) < 0.99)
        place = self.place(Zero(of="faces", faces=(ref_to(slope), top), y=-1))
        self.assertAlmostEqual(float(np.dot(slope.normal, place - slope.centre)), 0.0)
        self.assertAlmostEqual(place[2], 20.0)
        with self.assertRaises(BadInput) as refused:
            self.place(Zero(of="faces", faces=(left, ref_to(face_looking(0, 0, -1)), top)))
        self.assertEqual(refused.exception.code, "seat.zero_parallel")

    def test_corner_and_jaw(self):
        edge = next(
            e
            for e in PART.edges
            if e.direction
            and abs(e.direction[2]) > 0.999
            and max(abs(e.points[0][0]), abs(e.points[0][1])) < 1e-6
        )
        ends = {tuple(self.place(Zero(of="vertex", edge=edge_ref(edge.number), end=end))) for end in (0, 1)}
        self.assertEqual(ends, {(0.0, 0.0, 0.0), (0.0, 0.0, 20.0)})
        jaw = {**BOXES, "jaw": ((-20.0, 40.0, 0.0), (140.0, 40.0, 12.0))}
        for low, high in (((0, 0, 0), (60, 40, 20)), ((0, 0, 0), (30, 40, 8))):
            # The jaw stays where it is, whatever the work does.
            there = {**jaw, "incoming": (low, high)}
            self.assertTrue(np.allclose(self.place(Zero(of="holding", x=-1, z=1), there), [-20, 40, 12]))
        with self.assertRaises(BadInput) as refused:
            self.place(Zero(of="holding"))
        self.assertEqual(refused.exception.code, "seat.zero_no_jaw")

    def test_a_rim_gives_all_three(self):
        """The rim of the hole at 10, 10 on top of the plate: its middle, whichever points it is drawn by."""
        rims = [
            one
            for one in PART.edges
            if one.kind == "circle" and all(abs(point[2] - 20) < 1e-6 for point in one.points)
        ]
        rim = min(rims, key=lambda one: math.dist(one.points[0], (10, 10, 20)))
        ref = EdgeRef(edge=rim.number, at=tuple(np.mean(rim.points, axis=0)))
        place = zero_place(Zero(of="rim", edge=ref), PART, BOXES, np.eye(3))
        np.testing.assert_allclose(place, [10, 10, 20], atol=1e-6)
        straight = next(one for one in PART.edges if one.kind == "line")
        wrong = EdgeRef(edge=straight.number, at=tuple(np.mean(straight.points, axis=0)))
        with self.assertRaises(BadInput) as refused:
            zero_place(Zero(of="rim", edge=wrong), PART, BOXES, np.eye(3))
        self.assertEqual(refused.exception.code, "seat.zero_not_round")

    def test_pieces_of_the_holding_and_each_axis_by_itself(self):
        boxes = {
            **BOXES,
            "jaws": ((-80.0, -3.0, 0.0), (80.0, 47.0, 12.0)),
            "piece:pin": ((4.0, 4.0, -5.0), (16.0, 16.0, 8.0)),
        }
        middle = zero_place(Zero(of="jaws", x=-1, z=1), PART, boxes, np.eye(3))
        np.testing.assert_allclose(middle, [-80, 22, 12])
        pin = zero_place(Zero(of="piece", item="pin", z=1, offset=(0, 0, 1)), PART, boxes, np.eye(3))
        np.testing.assert_allclose(pin, [10, 10, 9])
        zero = Zero.model_validate(
            {
                "of": "several",
                "parts": [
                    {"axes": ["x"], "zero": {"of": "piece", "item": "pin"}},
                    {"axes": ["y"], "zero": {"of": "jaws"}},
                    {"axes": ["z"], "zero": {"of": "part", "z": -1}},
                ],
            }
        )
        np.testing.assert_allclose(zero_place(zero, PART, boxes, np.eye(3)), [10, 22, 0])
        for missing in (Zero(of="jaws"), Zero(of="piece", item="pin")):
            with self.assertRaises(BadInput) as refused:
                zero_place(missing, PART, BOXES, np.eye(3))
            self.assertEqual(refused.exception.code, "seat.zero_no_piece")
        for wrong in (
            {"of": "several"},
            {"of": "piece"},
            {"of": "rim"},
            {"of": "several", "parts": [{"axes": ["x", "y"], "zero": {"of": "part"}}]},
            {"of": "several", "parts": [{"axes": ["x", "y", "z"], "zero": {"of": "jaws"}}] * 2},
        ):
            with self.assertRaises(ValidationError):
                Zero.model_validate(wrong)

    def test_zero_is_where_it_was_put(self):
        for flip in (False, True):
            rotation = lay(Seat(flip=flip, turn_deg=12), PART)
            zero = Zero(of="hole", hole=ref_to(wall(10)), z=0)
            seen = np.array([np.array(corner) @ rotation.T for corner in (LOW, HIGH)])
            boxes = {**BOXES, "incoming": (tuple(seen.min(axis=0)), tuple(seen.max(axis=0)))}
            zero_from_work = seat_work(zero, PART, boxes, rotation)
            self.assertTrue(np.allclose(moved(zero_from_work, np.array([10, 10, 10.0])), 0, atol=1e-9))

    def test_what_a_zero_needs(self):
        for wrong in (
            {"of": "hole"},
            {"of": "faces"},
            {"of": "vertex"},
            {"of": "part", "hole": FaceRef(face=1, at=(0, 0, 0))},
        ):
            with self.assertRaises(ValidationError):
                Zero(**wrong)
        with self.assertRaises(ValidationError):
            Seat(zeros=(NamedZero(name="a"), NamedZero(name="a")))


def stock(low, high, maker=0):
    return box(np.array(low, float), np.array(high, float), maker)


def faced(low, high, **sides: int):
    """A block whose named sides (x-, x+ …) were made by a maker."""
    out = stock(low, high)
    label = out.label.copy()
    for side, maker in sides.items():
        axis, ways = "xyz".index(side[0]), side[1:] == "plus"
        ends = out.vertices[out.triangles][:, :, axis]
        label[(np.abs(ends - (high if ways else low)[axis]) < 1e-9).all(axis=1)] = maker
    return type(out)(out.vertices, out.triangles, label)


class States(unittest.TestCase):
    """Part 60 × 40 × 20 in a block with 2 mm all round; OP10 faces the top and the left side."""

    RAW = ((-2.0, -2.0, -2.0), (62.0, 42.0, 22.0))
    MAKERS = {257: "OP10 Face", 513: "OP20 Face"}  # noqa: RUF012

    def rests(self, zero: Zero, incoming, outgoing=None):
        stocks = Stocks(incoming=incoming, outgoing=outgoing or incoming, makers=self.MAKERS)
        return resting(zero, PART, MODEL.mesh, stock(*self.RAW), np.eye(3), stocks)

    def test_raw_cut_and_by_whom(self):
        cut = faced((-2, -2, -2), (62, 42, 20), zplus=257)
        top, *_ = [rest for rest in self.rests(Zero(of="incoming", x=-1, y=-1, z=1), cut) if rest.axis == "Z"]
        self.assertEqual((top.state, top.by, top.on), ("cut", ("OP10 Face",), "top of the incoming stock"))
        left = next(
            rest for rest in self.rests(Zero(of="incoming", x=-1, y=-1, z=1), cut) if rest.axis == "X"
        )
        self.assertEqual((left.state, left.on), ("raw", "left of the incoming stock"))

    def test_not_yet_there_and_gone(self):
        states = {
            rest.axis: rest.state for rest in self.rests(Zero(of="part", x=-1, y=-1, z=1), stock(*self.RAW))
        }
        self.assertEqual(states, {"X": "not yet there", "Y": "not yet there", "Z": "not yet there"})
        cut = faced((-2, -2, -2), (62, 42, 20), zplus=257)
        gone = [rest for rest in self.rests(Zero(of="billet", x=-1, y=-1, z=1), cut) if rest.axis == "Z"]
        self.assertEqual([rest.state for rest in gone], ["gone"])
        picked = self.rests(Zero(of="faces", faces=(ref_to(face_looking(0, 0, 1)),)), cut)
        self.assertEqual(picked[0].state, "cut")
        hole = self.rests(Zero(of="hole", hole=ref_to(wall(10))), cut)
        self.assertEqual((hole[0].axis, hole[0].state), ("X, Y", "not yet there"))

    def test_the_middle_of_what_lies_concentric_is_found_on_the_stock(self):
        """Part 60 × 40 in the middle of a block: its middle is the block's, its top is not there. Off the
        middle by 1 mm it is not.
        """
        rests = self.rests(Zero(of="part", x=0, y=0, z=1), stock(*self.RAW))
        self.assertEqual(
            [(rest.axis, rest.state, rest.on) for rest in rests],
            [
                ("X", "raw", "left of the incoming stock"),
                ("X", "raw", "right of the incoming stock"),
                ("Y", "raw", "front of the incoming stock"),
                ("Y", "raw", "back of the incoming stock"),
                ("Z", "not yet there", "top of the part"),
            ],
        )
        beside = self.rests(Zero(of="part", x=0, y=0, z=1), stock((-4, -2, -2), (62, 42, 22)))
        self.assertEqual({rest.state for rest in beside if rest.axis == "X"}, {"not yet there"})

    def test_the_axis_of_a_bore_to_come_in_stock_about_it(self):
        face = wall(10)
        x, y, _ = face.axis_point
        hole = Zero(of="hole", hole=ref_to(face))
        about = self.rests(hole, stock((x - 80, y - 60, -2), (x + 80, y + 60, 22)))
        self.assertEqual(
            {(rest.axis, rest.state) for rest in about if rest.axis != "Z"}, {("X", "raw"), ("Y", "raw")}
        )
        self.assertNotIn("seat.zero_not_there", [code for code, _ in self.codes(about)])
        beside = self.rests(hole, stock((x - 82, y - 60, -2), (x + 80, y + 60, 22)))
        self.assertIn("not yet there", {rest.state for rest in beside})

    def test_middle_rests_on_both_sides(self):
        on = [
            rest.on
            for rest in self.rests(Zero(of="incoming", x=0, y=-1, z=1), stock(*self.RAW))
            if rest.axis == "X"
        ]
        self.assertEqual(on, ["left of the incoming stock", "right of the incoming stock"])

    def test_this_setup_cuts_it_away(self):
        after = faced((-2, -2, -2), (62, 42, 20), zplus=257)
        rests = self.rests(Zero(of="incoming", x=-1, y=-1, z=1), stock(*self.RAW), after)
        self.assertEqual([rest.axis for rest in rests if rest.cut_away], ["Z"])
        codes = [f.code for f in resting_findings(rests, [], "OP10", "Zero", (), False)]
        self.assertEqual(codes, ["seat.zero_cut_away"])

    def codes(self, rests: list[Rest], earlier=(), picked=False):
        return [
            (f.code, f.severity) for f in resting_findings(rests, list(earlier), "OP20", "Zero", (), picked)
        ]

    def test_raw_a_second_time(self):
        first = self.rests(Zero(of="incoming", x=-1, y=-1, z=1), stock(*self.RAW))
        self.assertEqual(self.codes(first), [])  # once is no fault
        earlier = [("OP10", rest) for rest in first]
        cut = faced((-2, -2, -2), (62, 42, 20), zplus=257)
        again = self.rests(Zero(of="incoming", x=-1, y=-1, z=1), cut)
        (finding,) = resting_findings(again, earlier, "OP20", "Zero of OP20", (), False)
        self.assertEqual((finding.code, finding.severity), ("seat.zero_raw_twice", "warning"))
        self.assertIn("X, Y", finding.sentence)
        self.assertIn("OP10", finding.sentence)

    def test_severities(self):
        cut = faced((-2, -2, -2), (62, 42, 20), zplus=257)
        self.assertIn(
            ("seat.zero_gone", "error"), self.codes(self.rests(Zero(of="billet", x=-1, y=-1, z=1), cut))
        )
        early = self.rests(Zero(of="part", x=-1, y=-1, z=1), stock(*self.RAW))
        self.assertEqual(self.codes(early), [("seat.zero_not_there", "warning")])
        self.assertEqual(self.codes(early, picked=True), [("seat.zero_not_there", "error")])
