"""Stocks in the formats they leave in, read back by others."""

from __future__ import annotations

import io
import math
import unittest
from unittest.mock import patch

import numpy as np
import trimesh

from pelvrak.core.engine.store import MemoryStore
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Mesh, volume
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.route.pictures import drawn, piece_of
from pelvrak.core.route.pieces import FIELD, mesh_from_bytes
from pelvrak.core.route.stock_files import STOCK_KINDS, note_on, stock_at_moment, stock_file
from pelvrak.core.route.stock_solids import to_step
from pelvrak.core.stock.field import grid_around, loaded, same_field, saved
from pelvrak.core.stock.kept import StockNote, note_of
from pelvrak.core.stock.profile import Profile
from pelvrak.core.stock.shapes import field_of_block, field_of_profile, minus
from tests.core.test_route import computed, demo
from tests.solids import volumes_of_step

LOW, HIGH, UP = np.zeros(3), np.array([60.0, 40.0, 20.0]), np.array([0.0, 0.0, 1.0])


def bored(cell: float):
    """A block 60 × 40 × 20 with a hole Ø10 through it and a Ø16 one 12 deep, off the rays' grid."""
    grid = grid_around(LOW - 1, HIGH + 1, cell)
    field = field_of_block(grid, LOW, HIGH)
    for radius, at in ((5.0, (20.3, 20.1, -1.0)), (8.0, (45.0, 20.0, 8.0))):
        field = minus(field, field_of_profile(grid, Profile((0.0, 22.0), (radius,) * 2), np.array(at), UP))
    return field


class Step(unittest.TestCase):
    def test_planes_and_whole_cylinders_are_such(self):
        """Read back by Open CASCADE: the volume by closed form, and two cylinders of their own diameters."""
        exact = 60 * 40 * 20 - math.pi * 25 * 20 - math.pi * 64 * 12
        for cell, diameter_mm in ((1.0, 0.05), (0.5, 0.02), (0.25, 0.02)):
            with self.subTest(cell):
                data = to_step(drawn(bored(cell)), "bored block")
                [found] = volumes_of_step(data)
                self.assertAlmostEqual(found / exact, 1.0, delta=6e-4)
                part = read_step(data).part
                walls = sorted(2 * face.radius for face in part.faces if face.kind == "cylinder")
                self.assertEqual(len(walls), 2)
                self.assertAlmostEqual(walls[0], 10.0, delta=diameter_mm)
                self.assertAlmostEqual(walls[1], 16.0, delta=diameter_mm)
                self.assertEqual(sum(face.kind == "plane" for face in part.faces), 7)
                self.assertIn(b"bored block", data)

    def test_a_block_is_exact(self):
        mesh = drawn(field_of_block(grid_around(LOW - 1, HIGH + 1, 0.5), LOW, HIGH))
        data = to_step(mesh, "block")
        self.assertAlmostEqual(volumes_of_step(data)[0], 48000.0, delta=0.1)
        self.assertEqual(len(read_step(data).part.faces), 6)

    def test_stocks_of_the_demo(self):
        """Every moment looked at has the volume of its surface; facets where a wall is not whole."""
        store, report = computed()
        for setup, after in ((0, None), (0, "outline"), (1, None)):
            key, _ = stock_at_moment(report.setups[setup], after)
            data = stock_file(store, key, "step", note_on(demo(), report.setups[setup], after))
            mesh = mesh_from_bytes(piece_of(store, key, "surface.npz"))
            self.assertAlmostEqual(sum(volumes_of_step(data)) / volume(mesh), 1.0, delta=3e-4)

    def test_too_many_faces_are_refused(self):
        """A sphere's facets are faces each: past the limit it says what to do instead."""
        ball = trimesh.creation.icosphere(subdivisions=6, radius=30.0)
        mesh = Mesh(np.array(ball.vertices), np.array(ball.faces), np.zeros(len(ball.faces), np.int64))
        with (
            patch("pelvrak.core.route.stock_solids.MOST_FACES", len(ball.faces) - 1),
            self.assertRaises(BadInput) as refused,
        ):
            to_step(mesh, "ball")
        self.assertEqual(refused.exception.code, "stock.too_many_faces")


class Formats(unittest.TestCase):
    def test_each_format_has_the_stock(self):
        store, report = computed()
        top = report.setups[0]
        note = note_on(demo(), top, "outline")
        key, operation = stock_at_moment(top, "outline")
        assert operation is not None
        for kind in STOCK_KINDS:
            data = stock_file(store, key, kind, note)
            if kind in ("stl", "3mf", "glb"):
                mesh = trimesh.load(io.BytesIO(data), file_type=kind, force="mesh")
                mesh.merge_vertices(merge_norm=True, merge_tex=True)
                # glTF is in metres by its standard (2.0, section 3.4).
                unit = 1e9 if kind == "glb" else 1.0
                self.assertAlmostEqual(
                    abs(mesh.volume) * unit / operation.outgoing_volume_mm3, 1.0, delta=2e-3, msg=kind
                )
        kept = stock_file(store, key, "rays", note)
        own = loaded(store.get(key, FIELD.name))
        self.assertTrue(same_field(loaded(kept), own))
        told = note_of(kept)
        self.assertEqual((told.setup, told.after, told.unit), ("OP10", "outline", "mm"))
        self.assertEqual(told.register_name, top.offset_register)
        self.assertEqual(told.part_file, "encoder-housing.step")
        self.assertTrue(np.allclose(told.zero_from_part, top.zero_from_work))
        self.assertIn("Finish outline", told.name)

    def test_moments(self):
        _, report = computed()
        top = report.setups[0]
        self.assertEqual(stock_at_moment(top, None)[0], top.outgoing_key)
        self.assertEqual(stock_at_moment(top, "before")[0], top.incoming_key)
        with self.assertRaises(BadInput) as refused:
            stock_at_moment(top, "none")
        self.assertEqual(refused.exception.code, "stock.no_moment")

    def test_what_is_not_kept_is_refused(self):
        for kind in STOCK_KINDS:
            with self.assertRaises(BadInput) as refused:
                stock_file(MemoryStore(), "gone", kind, StockNote())
            self.assertEqual(refused.exception.code, "stock.none")

    def test_a_note_is_not_in_the_way_of_those_without(self):
        self.assertEqual(note_of(saved(bored(1.0))), StockNote())
