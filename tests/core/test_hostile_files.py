"""Files that were not made by a CAD program: refused by their reason, within time and memory, without a word
of Python.
"""

from __future__ import annotations

import io
import struct
import time
import unittest
import zipfile

import numpy as np
import zstandard

from pelvrak.core.billet import billet_reader
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import box, to_stl
from pelvrak.core.geometry.part_file import read_part, taken_out
from pelvrak.core.geometry.protected import protected
from pelvrak.core.stock.field import grid_around, loaded_checked, saved
from pelvrak.core.stock.shapes import field_of_block
from tests import solids

CUBE = box(np.zeros(3), np.array([20.0, 20, 20]))
MODEL = """<?xml version="1.0"?><model unit="{unit}" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">
<resources><object id="1" type="model"><mesh><vertices>{vertices}</vertices><triangles>{triangles}</triangles></mesh></object></resources>
<build><item objectid="1"/></build></model>"""
RELS = """<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">
<Relationship Id="r" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel" Target="/3D/3dmodel.model"/></Relationships>"""


def package(unit: str = "millimeter", last: int = 0, padding: int = 0) -> bytes:
    """A 3MF file of the cube; last: added to one corner number; padding: bytes of zeros beside the model."""
    vertices = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in CUBE.vertices)
    corners = CUBE.triangles.copy()
    corners[-1, -1] += last
    triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in corners)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        file.writestr("3D/3dmodel.model", MODEL.format(unit=unit, vertices=vertices, triangles=triangles))
        file.writestr("_rels/.rels", RELS)
        if padding:
            file.writestr("3D/zeros.bin", bytes(padding))
    return out.getvalue()


def drawing(radius: str) -> bytes:
    return f"0\nSECTION\n2\nENTITIES\n0\nCIRCLE\n8\n0\n10\n0.0\n20\n0.0\n40\n{radius}\n0\nENDSEC\n0\nEOF\n".encode()


def refused(case: unittest.TestCase, data: bytes, name: str, seconds: float = 20.0) -> BadInput:
    began = time.monotonic()
    with case.assertRaises(BadInput) as caught:
        if name.endswith(".dxf"):
            protected(billet_reader.__name__, ["outline"], data, name)
        else:
            read_part(data, name)
    case.assertLess(time.monotonic() - began, seconds)
    for word in ("Error", "Exception", "Traceback", "regex", "<class"):
        case.assertNotIn(word, caught.exception.what + caught.exception.mend)
    return caught.exception


class MeshFiles(unittest.TestCase):
    def test_a_good_package_is_read(self):
        self.assertAlmostEqual(read_part(package(), "cube.3mf").part.volume_mm3, 8000, places=3)

    def test_an_index_out_of_range(self):
        self.assertEqual(refused(self, package(last=1000), "cube.3mf").code, "mesh.unreadable")

    def test_a_unit_nobody_knows(self):
        bad = refused(self, package("parsec"), "cube.3mf")
        self.assertEqual(bad.code, "mesh.unit")
        self.assertIn("inch", bad.mend)

    def test_a_package_that_unpacks_to_a_gigabyte(self):
        bomb = package(padding=1024**3)
        self.assertLess(len(bomb), 2_000_000)
        self.assertEqual(refused(self, bomb, "cube.3mf").code, "mesh.too_large")

    def test_sizes_no_shop_makes(self):
        for scale in (6e5, 2e-5):
            mesh = box(np.zeros(3), np.full(3, 20.0) * scale)
            bad = refused(self, to_stl(mesh, "x"), "x.stl")
            self.assertEqual(bad.code, "mesh.size")
            self.assertIn("unit", bad.mend)

    def test_thousands_of_bodies(self):
        """4,900 cubes in 2.9 MB took minutes, and everything behind them waited."""
        one = np.frombuffer(to_stl(CUBE, "x")[84:], np.uint8).reshape(12, 50)
        facets = np.tile(one, (4900, 1))
        floats = facets[:, :48].copy().view("<f4").reshape(-1, 4, 3)
        at = np.repeat(
            np.stack(np.meshgrid(np.arange(70), np.arange(70)), -1).reshape(-1, 2) * 40.0, 12, axis=0
        )
        floats[:, 1:, :2] += at[:, None]
        facets[:, :48] = floats.reshape(-1, 12).view(np.uint8)
        data = bytes(80) + struct.pack("<I", len(facets)) + facets.tobytes()
        bad = refused(self, data, "many.stl")
        self.assertEqual(bad.code, "mesh.too_many_bodies")
        self.assertIn("4,900", bad.what)

    def test_a_text_stl_named_in_another_alphabet(self):
        rows = [
            "facet normal 0 0 0\nouter loop\n"
            + "".join("vertex {} {} {}\n".format(*p) for p in CUBE.vertices[t])
            + "endloop\nendfacet\n"
            for t in CUBE.triangles
        ]
        text = "solid Geh\xe4use \xd8 20\n" + "".join(rows) + "endsolid\n"
        self.assertAlmostEqual(read_part(text.encode("latin-1"), "x.stl").part.volume_mm3, 8000, places=3)

    def test_a_choice_of_nothing(self):
        with self.assertRaises(BadInput) as caught:
            taken_out(package(), "cube.3mf", None, None)
        self.assertEqual(caught.exception.code, "part.no_choice")

    def test_a_chosen_solid_is_the_same_part_each_time(self):
        data = solids.step_bytes(
            solids.together(solids.box((0, 0, 0), (10, 10, 10)), solids.box((30, 0, 0), (50, 10, 10)))
        )
        first = taken_out(data, "two.step", 1, None)
        time.sleep(1.1)
        self.assertEqual(first, taken_out(data, "two.step", 1, None))
        self.assertAlmostEqual(read_part(*first).part.volume_mm3, 2000, places=3)


class Drawings(unittest.TestCase):
    def test_numbers_that_are_none(self):
        for number in ("nan", "inf", "-inf"):
            self.assertEqual(refused(self, drawing(number), "circle.dxf").code, "outline.number")

    def test_a_circle_larger_than_any_stock(self):
        self.assertEqual(refused(self, drawing("1e12"), "circle.dxf").code, "outline.size")

    def test_a_circle_of_the_shop(self):
        self.assertEqual(protected(billet_reader.__name__, ["outline"], drawing("25.0"), "circle.dxf"), b"ok")


class SavedStock(unittest.TestCase):
    def parts(self) -> dict[str, np.ndarray]:
        """What a saved stock is made of."""
        low, high = np.zeros(3), np.array([12.0, 10.0, 8.0])
        data = zstandard.ZstdDecompressor().decompress(
            saved(field_of_block(grid_around(low, high, 1.0), low, high))
        )
        with np.load(io.BytesIO(data)) as arrays:
            return {name: arrays[name].copy() for name in arrays.files}

    def packed(self, parts: dict[str, np.ndarray]) -> bytes:
        out = io.BytesIO()
        np.savez(out, **parts)
        return zstandard.ZstdCompressor().compress(out.getvalue())

    def test_as_it_was_saved(self):
        self.assertEqual(loaded_checked(self.packed(self.parts())).grid.shape, (14, 12, 10))

    def test_nonsense_is_refused_by_what_it_is(self):
        def change(**changes):
            parts = self.parts()
            for name, then in changes.items():
                parts[name] = then(parts[name])
            return self.packed(parts)

        def with_nan(a):
            a[5] = np.nan
            return a

        def swapped(a):
            a[[0, 1]] = a[[1, 0]]
            return a

        def hollow(a):
            return np.zeros_like(a)

        def many(a):
            a[0, 0] = 10_000_000
            return a

        cases = {
            "outside": change(position0=with_nan),
            "order": change(position1=swapped),
            "hold as many": change(count2=many),
            "grid": change(grid=lambda g: np.array([*g[:3], 1e-9, *g[4:]])),
            "laid out": change(maker0=lambda m: m.astype(np.int64)),
            "one body": change(
                count2=hollow, position2=lambda a: a[:0], normal2=lambda a: a[:0], maker2=lambda a: a[:0]
            ),
        }
        for word, data in cases.items():
            with self.subTest(word), self.assertRaises(BadInput) as caught:
                protected(billet_reader.__name__, ["stock"], data, "x.rays", memory=3 * 1024**3)
            self.assertEqual(caught.exception.code, "billet.not_stock")
            self.assertIn(word, caught.exception.what)

    def test_a_count_of_ten_million(self):
        """895 bytes whose counts say ten million took over 8 GB."""
        grid = np.array([0.0, 0, 0, 1, 3, 3, 3])
        parts = {"grid": grid}
        for axis in range(3):
            parts |= {
                f"count{axis}": np.full((3, 3), 10_000_000, np.int32),
                f"position{axis}": np.zeros(0, np.float32),
                f"normal{axis}": np.zeros((0, 2), np.int16),
                f"maker{axis}": np.zeros(0, np.uint16),
            }
        data = self.packed(parts)
        self.assertLess(len(data), 2000)
        with self.assertRaises(BadInput):
            protected(billet_reader.__name__, ["stock"], data, "x.rays", memory=2 * 1024**3)


if __name__ == "__main__":
    unittest.main()
