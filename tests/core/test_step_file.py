"""Reading STEP: units by ISO 10303, facts against Open CASCADE's own, and files that cannot be used."""

from __future__ import annotations

import math
import os
import signal
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry import protected, step_file
from pelvrak.core.geometry.mesh import box, to_stl, volume
from pelvrak.core.geometry.part import FaceRef, edge_of, face_of, packed, ref_to, unpacked
from pelvrak.core.geometry.step_file import READER, read_step
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids

DEMO = Path(__file__).resolve().parents[2] / "demo" / "encoder-housing" / "encoder-housing.step"


def children(process: int) -> list[int]:
    """Numbers of the processes that a process has started and that are not over."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            state, parent = (folder / "stat").read_text().rsplit(")", 1)[1].split()[:2]
        except OSError:
            continue
        if int(parent) == process and state != "Z":
            found.append(int(folder.name))
    return found


def bracket():
    """A plate 60 × 40 × 10 with a through hole Ø8, a blind hole Ø6 × 5 and a stepped hole Ø5 in Ø10."""
    return solids.minus(
        solids.box((0, 0, 0), (60, 40, 10)),
        solids.cylinder((10, 10, -1), 4, 12),
        solids.cylinder((30, 20, 5), 3, 6),
        solids.cylinder((50, 30, -1), 2.5, 12),
        solids.cylinder((50, 30, 6), 5, 5),
    )


class Units(unittest.TestCase):
    """A length of 60 mm is 60 mm, whatever unit the file is written in (ISO 10303-41 length units)."""

    def test_mm_inch_and_metre(self):
        for unit, name in (("MM", "millimetre"), ("INCH", "inch"), ("M", "metre")):
            with self.subTest(unit):
                part = read_step(solids.step_bytes(solids.box((0, 0, 0), (60, 40, 10)), unit)).part
                self.assertEqual(part.unit.lower(), name)
                for size, wanted in zip(part.size, (60, 40, 10), strict=True):
                    self.assertAlmostEqual(size, wanted, places=6)
                self.assertAlmostEqual(part.volume_mm3, 24000, places=4)


class Facts(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shape = bracket()
        cls.model = model_of_solid(cls.shape, "0" * 64, "millimetre")
        cls.part = cls.model.part

    def test_volume_is_open_cascades(self):
        self.assertAlmostEqual(self.part.volume_mm3, solids.volume(self.shape), places=6)
        exact = 24000 - math.pi * (16 * 10 + 9 * 5 + 2.5**2 * 6 + 25 * 4)
        self.assertAlmostEqual(self.part.volume_mm3, exact, places=4)
        self.assertAlmostEqual(volume(self.model.mesh) / exact, 1.0, delta=1e-4)

    def test_holes(self):
        seen = sorted((round(h.diameter, 6), h.through) for h in self.part.holes)
        self.assertEqual(seen, [(5.0, True), (6.0, False), (8.0, True), (10.0, True)])
        blind = next(h for h in self.part.holes if abs(h.diameter - 6) < 1e-6)
        self.assertEqual(sorted(round(p[2], 6) for p in (blind.start, blind.end)), [5.0, 10.0])

    def test_faces(self):
        planes = [f for f in self.part.faces if f.kind == "plane"]
        top = max(planes, key=lambda f: f.centre[2])
        self.assertEqual([round(x, 9) for x in top.normal], [0, 0, 1])
        self.assertEqual(len(top.loops), 4)  # outside and three holes
        hollow = [f for f in self.part.faces if f.kind == "cylinder"]
        self.assertTrue(all(f.hollow for f in hollow))
        boss = model_of_solid(solids.cylinder((0, 0, 0), 5, 10), "0" * 64, "mm").part
        self.assertFalse(any(f.hollow for f in boss.faces))

    def test_edges(self):
        lines = [e for e in self.part.edges if e.kind == "line"]
        circles = [e for e in self.part.edges if e.kind == "circle"]
        self.assertAlmostEqual(max(e.length for e in lines), 60, places=9)
        for edge in circles:
            self.assertAlmostEqual(edge.length, 2 * math.pi * edge.radius, places=6)
            for point in edge.points:
                self.assertAlmostEqual(math.dist(point, edge.centre), edge.radius, places=6)

    def test_references_hold_by_place(self):
        face = self.part.faces[3]
        self.assertIs(face_of(self.part, ref_to(face), "here"), face)
        with self.assertRaises(BadInput) as caught:
            face_of(self.part, FaceRef(face=3, at=(1.0, 2.0, 3.0)), "OP10 seat")
        self.assertEqual((caught.exception.code, caught.exception.where), ("part.face_lost", "OP10 seat"))
        edge = self.part.edges[0]
        from pelvrak.core.geometry.part import EdgeRef, middle_of

        self.assertIs(edge_of(self.part, EdgeRef(edge=0, at=middle_of(edge)), "x"), edge)

    def test_packed_and_unpacked(self):
        again = unpacked(packed(self.model))
        self.assertEqual(again.part, self.part)
        self.assertEqual(again.mesh.triangles.tolist(), self.model.mesh.triangles.tolist())

    def test_demo_part(self):
        part = read_step(DEMO.read_bytes(), DEMO.name).part
        self.assertEqual([round(s) for s in part.size], [120, 80, 42])
        found = {round(h.diameter, 3): h.through for h in part.holes}
        # Ø35 bore, Ø52 seat, Ø8 dowels, Ø5 for M6 and Ø10.5 for M12×1.5: tapping drills of ISO 2306.
        for diameter, through in ((35.0, True), (52.0, True), (8.0, True), (5.0, False), (10.5, False)):
            self.assertEqual(found[diameter], through)


class Refused(unittest.TestCase):
    """Every bad file: what, where, how to mend it; nothing else happens."""

    def refused(self, data: bytes, code: str, name: str = "bad.step") -> BadInput:
        with self.assertRaises(BadInput) as caught:
            read_step(data, name)
        bad = caught.exception
        self.assertEqual(bad.code, code)
        self.assertEqual(bad.where, name)
        self.assertTrue(bad.what and bad.mend)
        return bad

    def test_empty(self):
        self.refused(b"", "part.empty")

    def test_stl_instead_of_step(self):
        self.refused(to_stl(box([0, 0, 0], [1, 1, 1]), "x"), "part.not_step", "part.stl")

    def test_random_bytes(self):
        self.refused(bytes(range(256)) * 40, "part.not_step")

    def test_cut_short(self):
        self.refused(DEMO.read_bytes()[:40000], "part.unreadable")

    def test_damaged_in_the_middle(self):
        data = DEMO.read_bytes()
        broken = data[:60000] + b"#12=NONSENSE(((;" * 50 + data[90000:]
        with self.assertRaises(BadInput):
            read_step(broken, "damaged.step")

    def test_too_large(self):
        with mock.patch.object(step_file, "SIZE_LIMIT_BYTES", 1000):
            self.assertIn("limit", self.refused(DEMO.read_bytes(), "part.too_large").what)

    def test_surface_without_solid(self):
        from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
        from OCP.gp import gp_Pln

        face = BRepBuilderAPI_MakeFace(gp_Pln(), 0, 10, 0, 10).Face()
        self.refused(solids.step_bytes(face), "part.no_solid")

    def test_two_solids(self):
        from OCP.BRep import BRep_Builder
        from OCP.TopoDS import TopoDS_Compound

        both, builder = TopoDS_Compound(), BRep_Builder()
        builder.MakeCompound(both)
        builder.Add(both, solids.box((0, 0, 0), (1, 1, 1)))
        builder.Add(both, solids.box((5, 0, 0), (6, 1, 1)))
        self.assertIn("2 solids", self.refused(solids.step_bytes(both), "part.several_solids").what)

    def test_readers_that_cannot_start(self):
        protected._readers.close()
        with mock.patch.object(protected.sys, "executable", "/bin/false"):
            self.refused(DEMO.read_bytes(), "part.crashed")
        # They are started again for the next file.
        self.assertEqual(len(step_file.read_step(DEMO.read_bytes(), "x.step").part.faces), 70)

    def reading(self) -> list[int]:
        """The processes that read a file now: started by keepers, which the process with the libraries has
        started.
        """
        keepers = children(protected._readers.process.pid)
        return [one for keeper in keepers for one in children(keeper)]

    def test_a_reader_that_crashes(self):
        protected.prepare(READER)
        with ThreadPoolExecutor(1) as pool:
            waiting = pool.submit(protected.protected, READER, ["read"], DEMO.read_bytes(), "x.step")
            while not (found := self.reading()):
                self.assertFalse(waiting.done())
            os.kill(found[0], signal.SIGSEGV)
            with self.assertRaises(BadInput) as caught:
                waiting.result()
        self.assertIn("exit -11", caught.exception.what)

    def test_who_reads_may_do_little(self):
        """As root it is nobody's process; it knows no database, and others of its user may not look into
        it.
        """
        protected.prepare(READER)
        here = Path(f"/proc/{protected._readers.process.pid}")
        status = (here / "status").read_text()
        told = (here / "environ").read_bytes()
        self.assertIn(b"OMP_NUM_THREADS=1", told)
        self.assertNotIn(b"PELVRAK", told)
        self.assertEqual((here / "environ").stat().st_uid, 0)  # what cannot be looked into belongs to root
        user = protected._unprivileged()
        self.assertIn(f"Uid:\t{os.geteuid() if user is None else user[0]}\t", status)

    def test_a_reader_that_hangs(self):
        protected.prepare(READER)
        with ThreadPoolExecutor(1) as pool:
            waiting = pool.submit(
                protected.protected, READER, ["read"], DEMO.read_bytes(), "x.step", seconds=2.0
            )
            while not (found := self.reading()):
                self.assertFalse(waiting.done())
            os.kill(found[0], signal.SIGSTOP)
            with self.assertRaises(BadInput) as caught:
                waiting.result()
        self.assertEqual(caught.exception.code, "part.too_slow")
        until = time.monotonic() + 30
        while self.reading() and time.monotonic() < until:
            time.sleep(0.02)
        self.assertEqual(self.reading(), [], "it goes on though nobody waits")

    def test_a_reader_that_takes_too_much(self):
        with self.assertRaises(BadInput) as caught:
            protected.protected(READER, ["read"], DEMO.read_bytes(), "x.step", memory=300 * 1024**2)
        self.assertIn(caught.exception.code, ("part.too_big", "part.crashed"))


if __name__ == "__main__":
    unittest.main()
