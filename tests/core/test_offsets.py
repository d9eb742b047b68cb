"""Registers of a load: what each holds, which operation counts from which, and whether each is known when it
is used.
"""

from __future__ import annotations

import unittest
from functools import cache
from typing import Any

import numpy as np

from pelvrak.core.cures import Element, Put
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.holding.hold import vise_hold
from pelvrak.core.route.evaluate import evaluate
from pelvrak.core.route.plan import plan_from
from pelvrak.core.route.report import Report, SetupReport
from tests import solids

STORE = MemoryStore()
TOOLS = [tool_shelf()[name].model_dump(mode="json") for name in ("em10", "fm50")]


@cache
def part() -> bytes:
    return solids.step_bytes(
        solids.minus(solids.box((0, 0, 0), (60, 40, 30)), solids.box((20, 10, 20), (40, 30, 40)))
    )


def setup(name: str = "OP10", **more: Any) -> dict[str, Any]:
    """A block in a vise: faced from its own zero, its outline from a further zero at its corner, which lies
    at (-30, -20) from the first.
    """
    corner = {"name": "corner", "offset_register": "G55", "zero": {"of": "part", "x": -1, "y": -1, "z": 1}}
    return {
        "name": name,
        "machine": "vertical-760",
        "hold": vise_hold(height=20.0, at=(450, 402)).model_dump(mode="json"),
        "seat": {"zero": {"of": "part", "x": 0, "y": 0, "z": 1}, "zeros": [corner]},
        "operations": [
            {"id": "face", "name": "Face", "kind": "facing", "tool": "fm50"},
            {
                "id": "outline",
                "name": "Outline",
                "kind": "outline",
                "tool": "em10",
                "below": -20,
                "offset_register": "G55",
            },
        ],
        **more,
    }


def computed(*setups: dict[str, Any]) -> Report:
    billet = {
        "kind": "block",
        "material": "EN AW-6082",
        "sizing": {"rule": "size", "size": [62, 42, 31], "place": [0.5, 0.5, 0]},
    }
    document = {
        "name": "offsets",
        "part": {"file": "block.step"},
        "resolution_mm": 2.0,
        "billet": billet,
        "tools": TOOLS,
        "setups": list(setups),
    }
    return evaluate(plan_from(document), part(), STORE)


def only(**more: Any) -> SetupReport:
    return computed(setup(**more)).setups[0]


def found(report: SetupReport) -> dict[str, Any]:
    return {f.code: f for f in (*report.findings, *(g for o in report.operations for g in o.findings))}


def seat(own: dict[str, Any] | None = None, corner: dict[str, Any] | None = None) -> dict[str, Any]:
    """The seat with how its two zeros are found."""
    out = setup()["seat"]
    out["found"] = own or {}
    out["zeros"][0]["found"] = corner or {}
    return out


class CountedFrom(unittest.TestCase):
    def test_an_operation_counts_from_the_register_it_is_told(self):
        """The same stock; the program's X and Y of the outline are 30 and 20 more, because the corner lies
        that much to the left and in front.
        """
        plain, other = only(operations=[o | {"offset_register": None} for o in setup()["operations"]]), only()
        self.assertEqual(plain.outgoing_key, other.outgoing_key)
        self.assertEqual([o.offset_register for o in other.operations], ["G54", "G55"])
        texts = [STORE.get(one.program_key, "program.nc").decode() for one in (plain, other)]
        words = []
        for text, register in zip(texts, ("G54", "G55"), strict=True):
            lines = text.split("(OUTLINE)")[1].splitlines()
            self.assertTrue(any(line.endswith(register) for line in lines))
            words.append(
                [word for line in lines if "G53" not in line for word in line.split() if word[0] in "XYZIJ"]
            )
        self.assertGreater(len(words[0]), 20)
        more = {"X": 30.0, "Y": 20.0, "Z": 0.0, "I": 0.0, "J": 0.0}
        for one, two in zip(*words, strict=True):
            self.assertAlmostEqual(float(two[1:]) - float(one[1:]), more[one[0]], delta=2e-3)
        self.assertIn("(G55 X", texts[1])

    def test_a_register_that_holds_nothing_here(self):
        operations = setup()["operations"]
        operations[1]["offset_register"] = "G57"
        wrong = found(only(operations=operations))["offsets.wrong_register"]
        self.assertIn("G57 holds no zero that Outline could count from", wrong.sentence)

    def test_the_table(self):
        rows = only(seat=seat({"by": "fixed point"}, {"in_register": "G54"})).offsets
        self.assertEqual(
            [(r.register_name, r.found, r.comes_from, r.state, r.operations) for r in rows],
            [
                ("G54", "fixed point", None, "known", ("Face",)),
                ("G55", "edge", "G54", "to be found", ("Outline",)),
            ],
        )
        np.testing.assert_allclose(rows[1].at, (-30, -20, 0), atol=1e-6)
        values = [[one.value for one in r.value] for r in rows]
        np.testing.assert_allclose(np.subtract(values[1], values[0]), (-30, -20, 0), atol=1e-3)


class InTime(unittest.TestCase):
    """Along the program: every register is known before it is used, and found in one that is."""

    def test_used_before_it_is_found(self):
        for own, corner, told in (
            ({"before": "outline"}, {}, "Face counts from G54 before it is found"),
            ({}, {"in_register": "G54", "before": "outline"}, None),
            (
                {"before": "outline"},
                {"in_register": "G54", "before": "face"},
                "“corner” in G55 is found in G54",
            ),
        ):
            codes = found(only(seat=seat(own, corner)))
            if told is None:
                self.assertNotIn("offsets.used_before_found", codes)
            else:
                self.assertIn("offsets.used_before_found", codes)
                report = only(seat=seat(own, corner))
                self.assertTrue(
                    any(told in f.sentence for f in report.findings), [f.sentence for f in report.findings]
                )

    def test_the_cure_finds_it_in_time(self):
        document = setup(seat=seat({"before": "outline"}))
        wrong = found(computed(document).setups[0])["offsets.used_before_found"]
        (edit,) = wrong.cures[0].edits
        self.assertEqual((edit.of, edit.field), (Element(setup=document["name"]), "seat/found/before"))
        document["seat"]["found"]["before"] = edit.value
        self.assertNotIn("offsets.used_before_found", found(computed(document).setups[0]))

    def test_a_ring_an_unknown_base_and_a_lost_operation(self):
        self.assertIn(
            "G54 in G55 in G54",
            found(only(seat=seat({"in_register": "G55"}, {"in_register": "G54"})))["offsets.ring"].sentence,
        )
        self.assertIn(
            "nothing of this load keeps",
            found(only(seat=seat(None, {"in_register": "G58"})))["offsets.unknown_base"].sentence,
        )
        self.assertIn(
            "does not have", found(only(seat=seat(None, {"before": "gone"})))["offsets.no_operation"].sentence
        )

    def test_across_the_setups_of_a_load(self):
        """A second setup in the same load finds its zero in a register the first one keeps; alone it does not
        know it.
        """
        first = setup(load="plate")
        second = setup(
            "OP20", load="plate", offset_register="G56", seat={"found": {"in_register": "G55"}}, operations=[]
        )
        self.assertNotIn("offsets.unknown_base", found(computed(first, second).setups[1]))
        alone = second | {"load": ""}
        self.assertIn("offsets.unknown_base", found(computed(first, alone).setups[1]))

    def test_two_places_on_one_register_of_a_load(self):
        first = setup(load="plate")
        second = setup(
            "OP20", load="plate", seat={"zero": {"of": "part", "x": 1, "y": 0, "z": 1}}, operations=[]
        )
        clash = found(computed(first, second).setups[1])["offsets.clash"]
        self.assertIn("OP20 and OP10 stand in one load", clash.sentence)
        self.assertEqual(
            clash.cures[0].edits, (Put(of=Element(setup="OP20"), field="offset_register", value="G56"),)
        )
        cured = second | {"offset_register": "G56"}
        self.assertNotIn("offsets.clash", found(computed(first, cured).setups[1]))
        # One place in one register is none, and two loads may use the same.
        self.assertNotIn("offsets.clash", found(computed(first, second | {"load": ""}).setups[1]))


class SetByHand(unittest.TestCase):
    def test_how_far_it_is_from_the_layout(self):
        values = [one.value for one in only().offsets[0].value]
        near = only(seat=seat({"value": [values[0] + 0.3, values[1], values[2] - 0.4]}))
        self.assertEqual((near.offsets[0].state, near.offsets[0].found), ("set by hand", "by hand"))
        self.assertAlmostEqual(near.offsets[0].off_mm, 0.5, places=3)
        self.assertNotIn("offsets.set_off", found(near))
        far = only(seat=seat({"value": [values[0] + 12, values[1], values[2]]}))
        self.assertAlmostEqual(found(far)["offsets.set_off"].measured, 12.0, places=2)


if __name__ == "__main__":
    unittest.main()
