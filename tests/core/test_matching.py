"""A new revision of the part: what is matched, and what becomes of a plan."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from pelvrak.core.billet.block import Block
from pelvrak.core.geometry.matching import match_edges, match_faces, matching_facts
from pelvrak.core.geometry.part import EdgeRef, middle_of, ref_to
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.route.plan import PartFile, Plan, Setup
from pelvrak.core.route.revising import revised, revising
from pelvrak.core.seat.seating import Seat, UpByFace, XByEdge, Zero
from tests import solids


def part(width=60.0, hole=4.0, at=(20.0, 20.0), second=True, sha="a" * 64):
    shape = solids.minus(solids.box((0, 0, 0), (width, 40, 20)), solids.cylinder((*at, -1), hole, 30))
    if second:
        shape = solids.minus(shape, solids.cylinder((45, 20, 8), 5, 30))
    return model_of_solid(shape, sha, "MM").part


def face(of, kind, **near):
    return next(
        f
        for f in of.faces
        if f.kind == kind
        and all(abs(f.centre["xyz".index(axis)] - value) < 1e-6 for axis, value in near.items())
    )


class Faces(unittest.TestCase):
    def state(self, old, new, number: int):
        match = match_faces(old, new)[number]
        return match.state, match

    def test_the_same_file_is_kept_whole(self):
        old = part()
        self.assertEqual({match.state for match in match_faces(old, part())}, {"kept"})
        self.assertEqual({match.state for match in match_edges(old, part())}, {"kept"})
        facts = matching_facts(old, part())
        self.assertEqual((facts["changed"], facts["new_faces"]), ([], []))

    def test_moved_hole(self):
        old, new = part(), part(at=(23.0, 20.0))
        state, match = self.state(old, new, face(old, "cylinder", x=20.0).number)
        self.assertEqual(state, "moved")
        self.assertTrue(np.allclose(match.moved, [3, 0, 0]))

    def test_larger_hole(self):
        old, new = part(), part(hole=4.25)
        state, match = self.state(old, new, face(old, "cylinder", x=20.0).number)
        self.assertEqual((state, match.size), ("resized", (8.0, 8.5)))

    def test_moved_end_and_resized_top(self):
        old, new = part(), part(width=64.0)
        state, match = self.state(old, new, face(old, "plane", x=60.0).number)
        self.assertEqual(state, "moved")
        self.assertTrue(np.allclose(match.moved, [4, 0, 0]))
        top = max((f for f in old.faces if f.normal and f.normal[2] > 0.9), key=lambda f: f.centre[2])
        self.assertEqual(self.state(old, new, top.number)[0], "resized")
        left = face(old, "plane", x=0.0)
        self.assertEqual(self.state(old, new, left.number)[0], "kept")

    def test_lost_hole(self):
        old, new = part(), part(second=False)
        state, match = self.state(old, new, face(old, "cylinder", x=45.0).number)
        self.assertEqual((state, match.new), ("lost", None))

    def test_two_as_near_are_unsure(self):
        old = part(at=(20.0, 20.0), second=False)
        shape = solids.minus(
            solids.box((0, 0, 0), (60, 40, 20)),
            solids.cylinder((14, 20, -1), 4, 30),
            solids.cylinder((26, 20, -1), 4, 30),
        )
        new = model_of_solid(shape, "b" * 64, "MM").part
        self.assertEqual(self.state(old, new, face(old, "cylinder", x=20.0).number)[0], "unsure")


class Plans(unittest.TestCase):
    def setUp(self):
        self.old = part()
        top = max((f for f in self.old.faces if f.normal and f.normal[2] > 0.9), key=lambda f: f.centre[2])
        edge = next(e for e in self.old.edges if e.direction and abs(e.direction[0]) > 0.99)
        seat = Seat(
            up=UpByFace(face=ref_to(top)),
            x=XByEdge(edge=EdgeRef(edge=edge.number, at=middle_of(edge))),
            zero=Zero(of="hole", hole=ref_to(face(self.old, "cylinder", x=45.0))),
        )
        self.plan = Plan(
            name="x",
            part=PartFile(file="a.step", sha256="a" * 64),
            billet=Block(),
            setups=(Setup(name="OP10", seat=seat),),
        )

    def test_every_reference_is_told_in_words(self):
        rows = revising(self.plan, self.old, part()).references
        self.assertEqual(
            [row.what for row in rows], ["OP10 seat up face", "OP10 seat X edge", "OP10 seat work zero hole"]
        )
        self.assertEqual({row.match.state for row in rows}, {"kept"})

    def test_only_kept_ones_follow_by_themselves(self):
        new = part(width=64.0, second=False, sha="b" * 64)
        rows = {row.path: row.match.state for row in revising(self.plan, self.old, new).references}
        self.assertEqual(rows["/setups/0/seat/up/face"], "resized")
        self.assertEqual(rows["/setups/0/seat/zero/hole"], "lost")
        untouched = revised(self.plan, self.old, new, "b.step", "B", frozenset())
        self.assertEqual(untouched.setups[0].seat.up, self.plan.setups[0].seat.up)
        taken = revised(
            self.plan,
            self.old,
            new,
            "b.step",
            "B",
            frozenset(["/setups/0/seat/up/face", "/setups/0/seat/zero/hole"]),
        )
        at = new.faces[taken.setups[0].seat.up.face.face]
        self.assertEqual(taken.setups[0].seat.up.face.at, at.centre)
        self.assertGreater(at.normal[2], 0.9)
        # What is lost cannot be taken: it stays, and its check will say so.
        self.assertEqual(taken.setups[0].seat.zero, self.plan.setups[0].seat.zero)
        self.assertEqual((taken.part.file, taken.part.sha256, taken.part.revision), ("b.step", "b" * 64, "B"))


class Headless(unittest.TestCase):
    def test_matching_as_json(self):
        with tempfile.TemporaryDirectory() as folder:
            old, new = Path(folder) / "a.step", Path(folder) / "b.step"
            old.write_bytes(
                solids.step_bytes(
                    solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((20, 20, -1), 4, 30))
                )
            )
            new.write_bytes(
                solids.step_bytes(
                    solids.minus(solids.box((0, 0, 0), (60, 40, 20)), solids.cylinder((22, 20, -1), 4, 30))
                )
            )
            done = subprocess.run(
                [sys.executable, "-m", "pelvrak.cli", "part", str(old), str(new), "--json"],
                capture_output=True,
                text=True,
                check=True,
            )
        told = json.loads(done.stdout)
        self.assertEqual(told["faces"]["lost"], 0)
        (hole,) = [one for one in told["changed"] if one["kind"] == "cylinder"]
        self.assertEqual((hole["state"], hole["moved"]), ("moved", [2.0, 0.0, 0.0]))
