"""Several parts in one billet: where they lie, cut as one, held off each other, and divided; the pieces
against Open CASCADE.
"""

from __future__ import annotations

import json
import math
import unittest
from functools import cache
from typing import Any

import numpy as np
from pydantic import ValidationError

from pelvrak.core.billet.several import Several, poses
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.mesh import volume
from pelvrak.core.geometry.rigid import moved
from pelvrak.core.geometry.several import box_of, piece_mesh, together
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.route.evaluate import cut_ahead, evaluate
from pelvrak.core.route.pieces import FIELD, SIMPLIFY_MM
from pelvrak.core.route.plan import Plan, plan_from
from pelvrak.core.route.report import Report
from pelvrak.core.stock.dividing import Apart, Slab, cropped, ends_of_material, sawn
from pelvrak.core.stock.field import bundle_volumes, error_of, extents, field_turned, same_field
from pelvrak.core.stock.shapes import minus
from pelvrak.core.stock.surface import surface
from tests import solids
from tests.core import test_removal as plate

STORE = MemoryStore()
CELL = 0.5
GAP = 14.0
# Over and round the plates of 60 × 44 × 15.
ROUND, OVER = 6.0, 1.0


def operations(*more: dict) -> list[dict]:
    """Faced once over all; the hole Ø8 and the opening of every plate."""
    return [
        {"id": "face", "name": "Face", "kind": "facing", "tool": plate.tool("face_mill", DC=50)},
        plate.drilling("drill", plate.tool("drill", DC=8), plate.face("cylinder", radius=4.0), name="Drill"),
        {
            "id": "opening",
            "name": "Opening",
            "kind": "pocket",
            "tool": plate.tool("end_mill", DC=6),
            "faces": [plate.face("cylinder", radius=5.0)],
        },
        *more,
    ]


def outline(which: str = "em10", **more: Any) -> dict:
    return {"id": "round", "name": "Round", "kind": "outline", "tool": which, **more}


def plan(layout: dict, division: dict | None = None, *, cuts: list[dict] | None = None, **more: Any) -> Plan:
    sides = dict.fromkeys(plate.SIDES, ROUND)
    setups = [{"name": "OP10", "operations": operations() if cuts is None else cuts}]
    return plan_from(
        {
            "name": "plates",
            "part": {"file": "plate.step", "sha256": "0" * 64},
            "resolution_mm": CELL,
            "tools": [tool.model_dump() for tool in tool_shelf().values()],
            "billet": {
                "kind": "block",
                "sizing": {"rule": "allowance", **sides, "z_minus": 0, "z_plus": OVER},
            },
            "pieces": {"layout": layout, "division": division},
            "setups": [*setups, *more.pop("after", [])],
            **more,
        }
    )


def rows(columns: int, of_rows: int, gap: float = GAP) -> dict:
    return {"rule": "rows", "columns": columns, "rows": of_rows, "along_columns": gap, "along_rows": gap}


@cache
def _computed(text: str) -> Report:
    return evaluate(plan_from(json.loads(text)), plate.DATA, STORE)


def computed(told: Plan) -> Report:
    return _computed(told.model_dump_json())


def found(report: Report, code: str) -> list[Finding]:
    return [one for one in report.findings() if one.code == code]


class Places(unittest.TestCase):
    """Where pieces lie, in closed form."""

    model = plate.model()

    def laid(self, *pieces: dict) -> dict[str, np.ndarray]:
        told = Several.model_validate({"layout": {"rule": "by_hand", "pieces": pieces}})
        return poses(told, self.model)

    def test_rows_and_columns_by_gap_and_by_pitch(self):
        for columns, of_rows in ((3, 3), (4, 3), (5, 4)):
            for by, pitch_x, pitch_y in (("gap", 60 + 14, 44 + 9), ("pitch", 14, 9)):
                told = rows(columns, of_rows) | {"by": by, "along_rows": 9.0}
                there = poses(Several.model_validate({"layout": told}), self.model)
                self.assertEqual(list(there), [str(n + 1) for n in range(columns * of_rows)])
                for n, pose in enumerate(there.values()):
                    wanted = np.eye(4)
                    wanted[:2, 3] = (n % columns) * pitch_x, (n // columns) * pitch_y
                    np.testing.assert_allclose(pose, wanted, atol=1e-12)

    def test_along_other_axes(self):
        told = rows(2, 2) | {"plane": "zx"}
        there = poses(Several.model_validate({"layout": told}), self.model)
        np.testing.assert_allclose(there["4"][:3, 3], (60 + GAP, 0, 15 + GAP))

    def test_face_to_face_with_a_gap(self):
        """A plate turned by a quarter about Z is 44 wide and 60 deep; 5 beside the first one's box."""
        there = self.laid(
            {"name": "B", "turn_deg": 90, "place": {"lies": "beside", "of": "1", "side": "x+", "gap": 5}},
            {"name": "C", "place": {"lies": "beside", "of": "B", "side": "y-", "gap": 7, "slide": [0, 3]}},
        )
        low, high = box_of(self.model, there["B"])
        np.testing.assert_allclose((low, high), ((65, 0, 0), (109, 60, 15)), atol=1e-9)
        # Along Y the two axes that follow are Z and X.
        np.testing.assert_allclose(box_of(self.model, there["C"]), ((68, -51, 0), (128, -7, 15)), atol=1e-9)

    def test_axis_on_axis_with_an_offset(self):
        """The bore Ø8 at (12, 26) of a piece turned round by 180° comes 30 beside the first one's Ø5."""
        hole, onto = plate.face("cylinder", radius=4.0), plate.face("cylinder", radius=2.5)
        place = {"lies": "axis", "of": "1", "hole": hole, "onto": onto, "offset": [0, 30, 0]}
        there = self.laid({"name": "B", "turn_deg": 180, "place": place})
        np.testing.assert_allclose(moved(there["B"], np.array([12.0, 26.0, 4.0])), (26, 56, 4), atol=1e-9)
        np.testing.assert_allclose(moved(there["B"], np.array([0.0, 0.0, 0.0])), (38, 82, 0), atol=1e-9)

    def test_refused(self):
        beside = {"lies": "beside", "of": "Z"}
        for pieces, said in (
            ([{"name": "1"}], "two pieces are called 1"),
            ([{"name": "B", "place": beside}], "none of those before it"),
            ([], "at least 1"),
        ):
            with self.assertRaises(ValidationError) as caught:
                self.laid(*pieces)
            self.assertIn(said, str(caught.exception))
        hole, side = plate.face("cylinder", radius=4.0), plate.face("plane", z=15)
        for place, turn, code in (
            ({"lies": "axis", "hole": hole, "onto": side}, 0, "pieces.no_axis"),
            ({"lies": "axis", "hole": hole, "onto": hole}, 45, "pieces.not_along"),
        ):
            with self.assertRaises(BadInput) as caught:
                self.laid({"name": "B", "about": "x", "turn_deg": turn, "place": place})
            self.assertEqual(caught.exception.code, code)
        with self.assertRaises(ValidationError) as caught:
            Several.model_validate({"layout": rows(9, 9)})
        self.assertIn("more than 60", str(caught.exception))
        with self.assertRaises(BadInput) as caught:
            plan(rows(2, 1), {"after": "OP77"})
        self.assertIn("divided after OP77", str(caught.exception))


class AsOnePart(unittest.TestCase):
    """Pieces as one part, against what is read of the same pieces made by Open CASCADE."""

    def test_faces_edges_holes_and_surface(self):
        quarter = np.eye(4)
        quarter[:3, :3] = [[0, -1, 0], [1, 0, 0], [0, 0, 1]]
        quarter[:3, 3] = 120, 0, 0
        whole = together(plate.model(), {"1": np.eye(4), "B": quarter})
        turned = solids.placed(solids.turned(plate.PLATE, 90), (120, 0, 0))
        other = model_of_solid(turned, "0" * 64, "millimetre")
        part, each = whole.part, len(plate.model().part.faces)
        self.assertEqual(len(part.faces), 2 * each)
        np.testing.assert_allclose(part.high, (120, 60, 15), atol=1e-6)
        for field in ("centre", "normal", "axis"):
            mine = {tuple(np.round(getattr(f, field) or (9, 9, 9), 3) + 0.0) for f in part.faces[each:]}
            theirs = {tuple(np.round(getattr(f, field) or (9, 9, 9), 3) + 0.0) for f in other.part.faces}
            if field != "axis":  # which way an axis is told is the kernel's own matter
                self.assertEqual(mine, theirs)
        self.assertEqual([face.number for face in part.faces], list(range(2 * each)))
        self.assertEqual([edge.number for edge in part.edges], list(range(len(part.edges))))
        for face in part.faces[each:]:
            ends = [np.array(part.edges[edge].points) for edge in face.edges]
            self.assertTrue(all((e >= np.array(face.low) - 1e-6).all() for e in ends))
            self.assertTrue(all((e <= np.array(face.high) + 1e-6).all() for e in ends))
        middles = sorted(tuple(np.round(hole.start, 6)[:2]) for hole in part.holes)
        self.assertEqual(middles, [(12, 26), (26, 26), (94, 12), (94, 26)])
        self.assertAlmostEqual(volume(piece_mesh(whole, "B")), volume(other.mesh), delta=0.5)


class Cut(unittest.TestCase):
    def test_a_feature_is_cut_at_every_piece_and_the_face_once(self):
        """What is taken off, in closed form: 1 mm of the billet's top, six holes Ø8 and openings 20 × 12 with
        corners R5.
        """
        report = computed(plan(rows(3, 2)))
        cuts = {one.name: one for one in report.setups[0].operations}
        area = (3 * 60 + 2 * GAP + 2 * ROUND) * (2 * 44 + GAP + 2 * ROUND)
        self.assertAlmostEqual(cuts["Face"].removed_volume_mm3, area * OVER, delta=1e-3 * area)
        wanted = 6 * 15 * math.pi * 16
        self.assertAlmostEqual(cuts["Drill"].removed_volume_mm3, wanted, delta=0.01 * wanted)
        wanted = 6 * 15 * (20 * 12 - (4 - math.pi) * 25)
        self.assertAlmostEqual(cuts["Opening"].removed_volume_mm3, wanted, delta=0.01 * wanted)
        self.assertEqual(found(report, "pieces.neighbour"), [])

    def test_counts_change_and_everything_follows(self):
        report = computed(plan(rows(2, 1)))
        self.assertEqual(report.pieces.names, ("1", "2"))
        size = np.subtract(report.billet.high, report.billet.low)
        np.testing.assert_allclose(size, (2 * 60 + GAP + 2 * ROUND, 44 + 2 * ROUND, 15 + OVER))
        larger = computed(plan(rows(3, 2)))
        size = np.subtract(larger.billet.high, larger.billet.low)
        np.testing.assert_allclose(size, (3 * 60 + 2 * GAP + 2 * ROUND, 2 * 44 + GAP + 2 * ROUND, 15 + OVER))
        self.assertAlmostEqual(larger.part_volume_mm3, report.part_volume_mm3, places=6)

    def test_left_out_at_a_piece(self):
        cuts = operations()
        cuts[1]["not_at"] = ["2"]
        report = computed(plan(rows(2, 1), cuts=cuts))
        drill = report.setups[0].operations[1]
        self.assertAlmostEqual(drill.removed_volume_mm3, 15 * math.pi * 16, delta=8)
        nowhere = operations()
        nowhere[1]["not_at"] = ["1", "2"]
        report = computed(plan(rows(2, 1), cuts=nowhere))
        self.assertEqual([one.name for one in report.setups[0].operations], ["Face", "Opening"])

    def test_what_is_cut_once_is_left_out_at_no_piece(self):
        cuts = operations()
        cuts[0]["not_at"] = ["2"]
        report = computed(plan(rows(2, 1), cuts=cuts))
        self.assertEqual([f.code for f in report.setups[0].operations[0].findings], ["pieces.as_a_whole"])

    def test_round_each_piece(self):
        """With as much room as the cutter is wide and tabs, only a slot is left between: what stands over is
        by closed form, and each plate comes out as drawn.
        """
        report = computed(plan(rows(2, 1, 10.0), cuts=[operations()[0], outline(below=0, step_down=20)]))
        self.assertEqual(found(report, "pieces.neighbour"), [])
        rest = report.setups[0].outgoing_volume_mm3
        self.assertAlmostEqual(rest, 2 * 60 * 44 * 15, delta=0.002 * rest)

    def test_a_cutter_wider_than_the_gap_runs_into_the_neighbour(self):
        """Told before anything is cut, by how much: 10 in 7."""
        report = computed(plan(rows(2, 1, 7.0), cuts=[operations()[0], outline(step_down=20)]))
        (told,) = found(report, "pieces.neighbour")
        self.assertAlmostEqual(told.measured, 3.0, delta=0.01)
        self.assertEqual(told.severity, "error")
        self.assertTrue(60 - 0.01 <= told.place[0][0] <= 67.01, told.place)
        # And it is so: a gouge of 3 mm into each.
        self.assertAlmostEqual(report.comparison.max_gouge_mm, 3.0, delta=0.05)

    def test_round_one_piece_and_not_the_other(self):
        cuts = [operations()[0], outline(step_down=20, not_at=["2"])]
        report = computed(plan(rows(2, 1, 10.0), cuts=cuts))
        self.assertEqual(found(report, "pieces.neighbour"), [])
        self.assertLess(report.comparison.max_gouge_mm, error_of(CELL) + SIMPLIFY_MM)


class Divided(unittest.TestCase):
    """The pieces of a divided billet against Open CASCADE cuts."""

    def piece(self, low: tuple[float, float], high: tuple[float, float], hole: bool = True) -> Any:
        """What Open CASCADE makes of one piece: a block with its opening and its hole; the plate at 0."""
        block = solids.box((*low, 0), (*high, 15))
        tools = [
            solids.filleted(solids.box((36, 20, -1), (56, 32, 16)), 5.0, lambda at: abs(at[2] - 7.5) < 1)
        ]
        if hole:
            tools.append(solids.cylinder((12, 26, -1), 4, 20))
        return solids.minus(block, *tools)

    def test_sawn_midway(self):
        """3 × 2, gap 14, kerf 3: between two pieces 5.5 stay on each."""
        report = computed(plan(rows(3, 2), {"after": "OP10", "kerf": 3}))
        self.assertEqual(
            [(saw.axis, saw.at) for saw in report.pieces.saws], [("x", 67.0), ("x", 141.0), ("y", 51.0)]
        )
        left = 5.5
        for n, told in enumerate(report.pieces.divided):
            row, column = divmod(n, 3)
            sides = {
                "x-": ROUND if column == 0 else left,
                "x+": ROUND if column == 2 else left,
                "y-": ROUND if row == 0 else left,
                "y+": ROUND if row == 1 else left,
            }
            for side, wanted in sides.items():
                self.assertAlmostEqual(told.margins[side], wanted, places=4, msg=(told.name, side))
            exact = self.piece((-sides["x-"], -sides["y-"]), (60 + sides["x+"], 44 + sides["y+"]))
            self.assertAlmostEqual(told.volume_mm3, solids.volume(exact), delta=2e-3 * told.volume_mm3)
        # 1 and 3 lie at ends; of each kind the first is named.
        self.assertEqual([one.like for one in report.pieces.divided], ["1", "2", "3", "4", "5", "6"])
        (told,) = found(report, "pieces.differ")
        self.assertAlmostEqual(told.measured, ROUND - left, places=4)
        known = error_of(CELL) + SIMPLIFY_MM
        self.assertLess(report.comparison.max_gouge_mm, known)

    def test_it_goes_on_with_one_piece(self):
        """What comes after is planned on the part once; another piece is the same rays, shifted."""
        step = {"id": "step", "name": "Step", "kind": "pocket", "tool": "em10"}
        after = [{"name": "OP20", "operations": [step | {"faces": [plate.face("plane", z=10)]}]}]
        base = plan(rows(3, 2), {"after": "OP10"}, after=after)
        report = computed(base)
        first = Result(report.setups[1].incoming_key, Engine(STORE)).value(FIELD)
        wanted = solids.volume(self.piece((-ROUND, -ROUND), (65.5, 49.5)))
        self.assertAlmostEqual(float(np.mean(bundle_volumes(first))), wanted, delta=2e-3 * wanted)
        billet = Result(report.billet.key, Engine(STORE)).value(FIELD)
        self.assertLess(math.prod(first.grid.shape), 0.25 * math.prod(billet.grid.shape))
        removed = report.setups[1].operations[0].removed_volume_mm3
        self.assertGreater(removed, 60 * 10 * 5)
        chosen = base.model_dump(mode="json")
        chosen["setups"][1]["incoming"] = {"rule": "piece", "piece": "6"}
        other = computed(plan_from(chosen))
        told = other.setups[1].incoming
        self.assertEqual(told.said, "piece 6")
        self.assertAlmostEqual(
            told.less_mm, math.hypot(0.5, 0.5), delta=0.02
        )  # 6 has 5.5 at a corner, 1 has 6
        field = Result(other.setups[1].incoming_key, Engine(STORE)).value(FIELD)
        low, high = extents(field)
        np.testing.assert_allclose(low, (-5.5, -5.5, 0), atol=1e-4)
        np.testing.assert_allclose(high, (66, 50, 15), atol=1e-4)

    def test_a_worker_that_helps_cuts_the_same(self):
        step = {"id": "s", "name": "S", "kind": "facing", "tool": plate.tool("face_mill", DC=50)}
        told = plan(rows(2, 1), {"after": "OP10"}, after=[{"name": "OP20", "operations": [step]}])
        store = MemoryStore()
        cut_ahead(told, plate.DATA, store)
        report = evaluate(told, plate.DATA, store)
        self.assertIn("piece 1 of the billet", report.reused)
        self.assertFalse([one for one in report.computed if "path" in one or one.startswith("cut")])

    def test_fallen_apart_and_not(self):
        cuts = [operations()[0], outline(step_down=20)]
        report = computed(plan(rows(2, 1, 10.0), {"after": "OP10", "how": "apart"}, cuts=cuts))
        self.assertEqual([one.like for one in report.pieces.divided], ["1", "1"])
        self.assertEqual(found(report, "pieces.joined"), [])
        tabs = [operations()[0], outline(step_down=20, tabs=3, tab_height=2)]
        held = computed(plan(rows(2, 1, 10.0), {"after": "OP10", "how": "apart"}, cuts=tabs))
        (told,) = found(held, "pieces.joined")
        self.assertIn("1 and 2", told.sentence)
        freed = computed(plan(rows(2, 1, 10.0), {"after": "OP10", "kerf": 3}, cuts=tabs))
        self.assertEqual(found(freed, "pieces.joined"), [])

    def test_sawing_through_a_part(self):
        saws = [{"axis": "x", "at": 58.0}]
        report = computed(plan(rows(2, 1), {"after": "OP10", "kerf": 3, "saws": saws}))
        (told,) = found(report, "pieces.saw_through")
        self.assertAlmostEqual(told.measured, 60 - 56.5, places=6)
        self.assertEqual(told.cures[0].label, "Saw midway between the pieces")
        wide = computed(plan(rows(2, 1), {"after": "OP10", "kerf": 16}))
        self.assertAlmostEqual(found(wide, "pieces.saw_through")[0].measured, 1.0, places=6)

    def test_a_piece_that_lies_by_no_quarters(self):
        """Turned by 30° beside the first, sawn off: on its own rays it is what Open CASCADE makes of it,
        a block that lies askew with the hole and the opening.
        """
        beside = {"lies": "beside", "of": "1", "side": "x+", "gap": 10}
        by_hand = {"rule": "by_hand", "pieces": [{"name": "B", "turn_deg": 30, "place": beside}]}
        report = computed(plan(by_hand, {"after": "OP10", "kerf": 3, "goes_on": "B"}))
        self.assertEqual([one for one in report.pieces.findings if one.severity == "error"], [])
        (saw,) = report.pieces.saws
        pose = np.array(report.pieces.poses[1])
        low, high = report.billet.low, report.billet.high
        block = solids.box((saw.at + 1.5, low[1], 0), (high[0], high[1], 15))
        # As the piece sees it: moved back and turned back.
        there = solids.turned(solids.placed(block, tuple(-pose[:3, 3])), -30, (0, 0, 1))
        exact = solids.minus(
            there,
            solids.filleted(solids.box((36, 20, -1), (56, 32, 16)), 5.0, lambda at: abs(at[2] - 7.5) < 1),
            solids.cylinder((12, 26, -1), 4, 20),
        )
        told = report.pieces.divided[1]
        wanted = solids.volume(exact)
        self.assertAlmostEqual(told.volume_mm3, wanted, delta=1e-3 * wanted)
        corners = np.array([[x, y, 0.0] for x in (saw.at + 1.5, high[0]) for y in (low[1], high[1])])
        seen = (corners - pose[:3, 3]) @ pose[:3, :3]
        for d, axis in enumerate("xy"):
            size = (60.0, 44.0)[d]
            self.assertAlmostEqual(told.margins[f"{axis}-"], -seen[:, d].min(), delta=CELL)
            self.assertAlmostEqual(told.margins[f"{axis}+"], seen[:, d].max() - size, delta=CELL)
        self.assertLess(report.comparison.max_gouge_mm, error_of(CELL) + SIMPLIFY_MM)

    def test_what_cannot_be(self):
        for division, code in (
            ({"after": "OP10", "goes_on": "9"}, "pieces.no_such"),
            ({"after": "OP10", "saws": [{"axis": "x", "at": 12.0}], "kerf": 50}, "pieces.gone"),
        ):
            report = computed(plan(rows(2, 1), division))
            self.assertEqual(
                [one.code for one in report.pieces.findings if one.severity == "error"][-1], code
            )
        # A turned piece is cut again as it sees the billet: not where another stock was cut.
        beside = {"lies": "beside", "of": "1", "gap": 10}
        by_hand = {"rule": "by_hand", "pieces": [{"name": "B", "turn_deg": 30, "place": beside}]}
        told = plan(
            by_hand, {"after": "OP20", "how": "apart", "goes_on": "B"}, cuts=[], after=[{"name": "OP20"}]
        )
        again = told.model_dump(mode="json")
        again["setups"][1]["incoming"] = {"rule": "earlier", "setup": "OP10"}
        self.assertEqual(found(computed(told), "pieces.turned"), [])
        self.assertEqual(found(computed(plan_from(again)), "pieces.turned")[0].severity, "error")
        alone = plan(rows(2, 1), None, after=[{"name": "OP20", "incoming": {"rule": "piece", "piece": "2"}}])
        self.assertEqual(len(found(computed(alone), "pieces.not_divided")), 1)
        earlier = [{"name": "OP20", "incoming": {"rule": "earlier", "setup": "OP10"}}]
        report = computed(plan(rows(2, 1), {"after": "OP10"}, after=earlier))
        self.assertEqual(len(found(report, "stock.whole_billet")), 1)

    def test_two_pieces_in_one_place(self):
        report = computed(plan(rows(2, 1) | {"by": "pitch", "along_columns": 50.0}))
        (told,) = found(report, "pieces.overlap")
        # 10 × 44 × 15 in common, less the step of the front and what is cut out there on both.
        self.assertIn("Pieces 1 and 2 share", told.sentence)

    def test_a_piece_that_hangs_out_of_the_billet(self):
        base = plan(rows(3, 1)).model_dump(mode="json")
        base["billet"]["sizing"] = {"rule": "corners", "low": [-5, -5, 0], "high": [200, 50, 16]}
        report = computed(plan_from(base))
        (told,) = found(report, "billet.too_small")
        self.assertIn("piece 3 on its x+ side", told.sentence)
        self.assertAlmostEqual(told.measured, 200 - (180 + 2 * GAP), places=6)


class Rays(unittest.TestCase):
    """What becomes of a stock's rays when it comes apart, and is turned."""

    def stock(self):
        whole = solids.block((0, 0, 0), (40, 20, 10), CELL)
        pocket = solids.block((25, 5, 6), (35, 12, 11), CELL)
        return minus(whole, type(whole)(whole.grid, self.on(whole.grid, pocket)))

    @staticmethod
    def on(grid, field):
        from pelvrak.core.stock.shapes import field_of_block

        low, high = extents(field)
        return field_of_block(grid, low, high).bundles

    def test_sawn_and_taken(self):
        field = sawn(self.stock(), [Slab(0, 19.0, 22.0)])
        apart = Apart(field)
        left, right = (apart.at(np.array(place)) for place in ((5.0, 10, 5), (38.0, 10, 5)))
        self.assertNotEqual(left, right)
        self.assertIsNone(apart.at(np.array((20.5, 10.0, 5.0))))
        one, two = apart.taken(left), apart.taken(right)
        for own, wanted in ((one, 19 * 200), (two, 18 * 200 - 10 * 7 * 4)):
            for seen in bundle_volumes(own):
                self.assertAlmostEqual(seen, wanted, delta=0.03 * wanted)
        np.testing.assert_allclose(extents(one), ((0, 0, 0), (19, 20, 10)), atol=1e-4)
        np.testing.assert_allclose(extents(two), ((22, 0, 0), (40, 20, 10)), atol=1e-4)
        self.assertLess(math.prod(one.grid.shape), 0.6 * math.prod(field.grid.shape))
        self.assertEqual(len(ends_of_material(one)), 2 * sum(int(b.count.sum()) for b in one.bundles))

    def test_cropped_is_the_same_stock(self):
        field = self.stock()
        self.assertTrue(same_field(cropped(cropped(field)), cropped(field)))
        self.assertEqual(bundle_volumes(cropped(field)), bundle_volumes(field))

    def test_turned_by_a_quarter_it_is_drawn_alike(self):
        """Edges sharp and volumes the same: normals are turned too."""
        field = self.stock()
        quarter = np.eye(4)
        quarter[:3, :3], quarter[:3, 3] = [[0, -1, 0], [1, 0, 0], [0, 0, 1]], (50, -3, 7)
        turned = field_turned(field, quarter, normals=True)
        np.testing.assert_allclose(sorted(bundle_volumes(turned)), sorted(bundle_volumes(field)), rtol=1e-6)
        mine, theirs = surface(turned), surface(field)
        self.assertAlmostEqual(volume(mine), volume(theirs), delta=1e-2)
        low, high = mine.vertices.min(axis=0), mine.vertices.max(axis=0)
        np.testing.assert_allclose((low, high), ((30, -3, 7), (50, 37, 17)), atol=1e-3)
        back = field_turned(turned, np.linalg.inv(quarter), normals=True)
        self.assertAlmostEqual(volume(surface(back)), volume(theirs), delta=1e-2)


if __name__ == "__main__":
    unittest.main()
