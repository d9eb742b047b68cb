"""Meshes as parts: forms found in them against the solids they were made from, and files from outside."""

from __future__ import annotations

import gzip
import io
import math
import unittest
from pathlib import Path

import numpy as np
import trimesh

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.mesh import box, to_stl, volume
from pelvrak.core.geometry.mesh_file import bodies_in
from pelvrak.core.geometry.part_file import read_part, taken_out
from pelvrak.core.geometry.step_reader import model_of_solid
from tests import solids

TOP = Path(__file__).resolve().parents[2]
DEMO = TOP / "demo" / "encoder-housing" / "encoder-housing.step"
DATA = TOP / "tests" / "data"


def outside(name: str) -> bytes:
    return gzip.decompress((DATA / f"{name}.gz").read_bytes())


def kinds(part) -> dict[str, int]:
    return {kind: sum(f.kind == kind for f in part.faces) for kind in {f.kind for f in part.faces}}


class Fitted(unittest.TestCase):
    """A solid and its own mesh: the same faces come back, each within its stated fit."""

    def both(self, shape):
        exact = model_of_solid(shape, "", "MM")
        return exact, read_part(to_stl(exact.mesh, "x"), "x.stl")

    def test_the_demo_has_the_same_faces_and_features(self):
        exact = read_part(DEMO.read_bytes(), DEMO.name)
        mesh = read_part(to_stl(exact.mesh, "demo"), "demo.stl")
        self.assertEqual(kinds(mesh.part), kinds(exact.part))
        mine, theirs = features_of(mesh), features_of(exact)
        self.assertEqual(
            [(round(h.diameter, 2), round(h.depth, 2), h.form, len(h.sides)) for h in mine.holes],
            [(round(h.diameter, 2), round(h.depth, 2), h.form, len(h.sides)) for h in theirs.holes],
        )
        self.assertEqual(
            sorted(
                (r.kind, round(r.depth, 2), None if r.corner_radius is None else round(r.corner_radius, 2))
                for r in mine.recesses
            ),
            sorted(
                (r.kind, round(r.depth, 2), None if r.corner_radius is None else round(r.corner_radius, 2))
                for r in theirs.recesses
            ),
        )
        self.assertTrue(
            all(face.fit_error_mm is not None and face.fit_error_mm < 0.005 for face in mesh.part.faces)
        )

    def test_cylinder_cone_and_ball(self):
        shape = solids.plus(solids.cylinder((0, 0, 0), 8, 20), solids.cone((0, 0, 20), 8, 3, 10))
        _, mesh = self.both(shape)
        self.assertEqual(kinds(mesh.part), {"plane": 2, "cylinder": 1, "cone": 1})
        cylinder = next(f for f in mesh.part.faces if f.kind == "cylinder")
        cone = next(f for f in mesh.part.faces if f.kind == "cone")
        self.assertAlmostEqual(cylinder.radius, 8.0, places=4)
        self.assertFalse(cylinder.hollow)
        self.assertEqual(cylinder.turn_deg, 360.0)
        self.assertAlmostEqual(abs(cone.half_angle_deg), math.degrees(math.atan(0.5)), places=3)
        ball = trimesh.creation.icosphere(subdivisions=3, radius=7.0)
        ball.apply_translation([1, 2, 3])
        (face,) = read_part(ball.export(file_type="stl"), "ball.stl").part.faces
        self.assertEqual((face.kind, round(face.radius, 4)), ("sphere", 7.0))
        self.assertTrue(np.allclose(face.axis_point, [1, 2, 3], atol=1e-4))

    def test_any_direction(self):
        shape = solids.minus(solids.box((0, 0, 0), (40, 30, 20)), solids.cylinder((12, 15, -1), 4, 30))
        for degrees, axis in ((17, (1, 2, 3)), (63, (3, -1, 1)), (120, (0.2, 0.3, -1))):
            exact, mesh = self.both(solids.turned(shape, degrees, axis))
            self.assertEqual(kinds(mesh.part), {"plane": 6, "cylinder": 1})
            (mine,), (theirs,) = mesh.part.holes, exact.part.holes
            self.assertAlmostEqual(mine.diameter, theirs.diameter, places=3)
            self.assertAlmostEqual(abs(float(np.dot(mine.axis, theirs.axis))), 1.0, places=7)
            self.assertTrue(mine.through)

    def test_plane_between_two_fillets_stays_plane(self):
        shape = solids.filleted(solids.box((0, 0, 0), (40, 30, 20)), 6, lambda m: abs(m[2] - 10) < 1e-6)
        _, mesh = self.both(shape)
        self.assertEqual(kinds(mesh.part), {"plane": 6, "cylinder": 4})
        self.assertEqual([round(f.turn_deg) for f in mesh.part.faces if f.kind == "cylinder"], [90] * 4)

    def test_edges_close_round_every_face(self):
        _, mesh = self.both(
            solids.minus(solids.box((0, 0, 0), (40, 30, 20)), solids.cylinder((12, 15, -1), 4, 30))
        )
        uses: dict[int, list[int]] = {}
        for face in mesh.part.faces:
            for loop in face.loops:
                for number in loop:
                    uses.setdefault(number if number >= 0 else -number - 1, []).append(
                        1 if number >= 0 else -1
                    )
        self.assertTrue(all(sorted(ways) == [-1, 1] for ways in uses.values()))
        self.assertEqual(sorted(e.kind for e in mesh.part.edges), ["circle"] * 2 + ["line"] * 12)


class Units(unittest.TestCase):
    def test_stl_states_none_and_another_is_chosen(self):
        data = to_stl(box([0, 0, 0], [2, 1, 0.5]), "x")
        self.assertIn("none stated", read_part(data, "x.stl").part.unit)
        inch, name = taken_out(data, "x.stl", None, "in")
        self.assertEqual(name, "x in in.stl")
        self.assertTrue(np.allclose(read_part(inch, name).part.size, [50.8, 25.4, 12.7], atol=1e-5))

    def test_3mf_states_its_own(self):
        scene = trimesh.Scene(trimesh.creation.box((2, 1, 0.5)))
        data = scene.export(file_type="3mf")
        model = read_part(data, "x.3mf")
        self.assertEqual(model.part.unit, "millimeter")
        self.assertAlmostEqual(model.part.volume_mm3, 1.0, places=6)
        # The same file said to be in inches (attribute of ISO/IEC 25422, 3.4.1).
        import zipfile

        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(data)) as source, zipfile.ZipFile(out, "w") as target:
            for item in source.namelist():
                target.writestr(item, source.read(item).replace(b'unit="millimeter"', b'unit="inch"'))
        self.assertAlmostEqual(read_part(out.getvalue(), "x.3mf").part.volume_mm3, 25.4**3, delta=0.01)
        with self.assertRaises(BadInput) as refused:
            taken_out(data, "x.3mf", None, "in")
        self.assertEqual(refused.exception.code, "part.unit_stated")


class Several(unittest.TestCase):
    def test_stl_with_two_bodies_and_a_hollow(self):
        hollow = box([2, 2, 2], [8, 8, 8])
        shell = type(hollow)(hollow.vertices, hollow.triangles[:, ::-1], hollow.label)
        from pelvrak.core.geometry.mesh import joined

        data = to_stl(joined([box([0, 0, 0], [10, 10, 10]), shell, box([20, 0, 0], [25, 5, 5])]), "x")
        with self.assertRaises(SeveralSolids) as several:
            read_part(data, "two.stl")
        self.assertEqual([round(one["volume_mm3"]) for one in several.exception.choices], [1000 - 216, 125])
        one, name = taken_out(data, "two.stl", 1, None)
        self.assertEqual(name, "two solid 2.stl")
        self.assertAlmostEqual(read_part(one, name).part.volume_mm3, 125, places=3)

    def test_step_assembly(self):
        data = solids.step_bytes(
            solids.together(solids.box((0, 0, 0), (10, 20, 30)), solids.cylinder((50, 0, 0), 5, 8))
        )
        with self.assertRaises(SeveralSolids) as several:
            read_part(data, "two.step")
        choices = several.exception.choices
        self.assertEqual([one["size"] for one in choices], [[10.0, 20.0, 30.0], [10.0, 10.0, 8.0]])
        for number, exact in enumerate((6000.0, math.pi * 25 * 8)):
            one, name = taken_out(data, "two.step", number, None)
            self.assertAlmostEqual(read_part(one, name).part.volume_mm3, exact, places=4)
        with self.assertRaises(BadInput) as refused:
            taken_out(data, "two.step", 7, None)
        self.assertEqual(refused.exception.code, "part.no_such_solid")


class Outside(unittest.TestCase):
    """Files nobody here wrote (tests/data/README.md names each): read as they are."""

    def test_bracket(self):
        model = read_part(outside("nema-17-bracket.step"), "bracket.step")
        found = features_of(model)
        # A face plate for a NEMA 17 motor: four M3 holes 31 mm apart (NEMA ICS 16, from memory), a pilot
        # bore, slots.
        holes = [h for h in found.holes if h.diameter < 5]
        self.assertEqual([(round(h.diameter, 3), h.through) for h in holes], [(3.3, True)] * 4)
        mouths = np.array([h.mouth for h in holes])
        gaps = {round(float(np.linalg.norm(a - b)), 3) for i, a in enumerate(mouths) for b in mouths[i + 1 :]}
        self.assertIn(31.0, gaps)
        self.assertEqual([r.kind for r in found.recesses].count("through slot"), 6)
        self.assertEqual(found.hidden, ())

    def test_screw(self):
        model = read_part(outside("M6-1x12-countersunk-screw.step"), "screw.step")
        self.assertAlmostEqual(model.part.size[2], 12.0, places=3)  # M6 × 12
        slots = [r for r in features_of(model).recesses if r.kind == "open slot"]
        # ISO 2009: slot of an M6 screw 1.6 mm wide (n nominal), 1.2 to 1.6 mm deep (t), from memory.
        self.assertTrue(any(1.1 < slot.depth < 1.7 and abs((slot.width or 0) - 1.6) < 0.15 for slot in slots))

    def test_tunnel_with_triangles_without_area(self):
        model = read_part(outside("cyl_w_rect_hole.stl"), "tunnel.stl")
        self.assertEqual(kinds(model.part), {"plane": 6, "cylinder": 1})
        self.assertAlmostEqual(
            next(f.radius for f in model.part.faces if f.kind == "cylinder"), 20.0, places=2
        )
        self.assertEqual([r.kind for r in features_of(model).recesses], ["opening"])

    def test_boat_has_volume_and_area_as_trimesh_says(self):
        data = outside("low_poly_benchy.stl")
        model = read_part(data, "boat.stl")
        theirs = trimesh.load_mesh(io.BytesIO(data), file_type="stl")
        self.assertAlmostEqual(model.part.volume_mm3 / float(theirs.volume), 1.0, places=6)
        self.assertAlmostEqual(model.part.area_mm2 / float(theirs.area), 1.0, places=6)
        features_of(model)


class Refused(unittest.TestCase):
    def refused(self, data: bytes, name: str, code: str) -> BadInput:
        with self.assertRaises(BadInput) as caught:
            read_part(data, name)
        self.assertEqual(caught.exception.code, code)
        self.assertTrue(caught.exception.what and caught.exception.mend)
        return caught.exception

    def test_each_bad_file(self):
        good = to_stl(box([0, 0, 0], [10, 10, 10]), "x")
        self.refused(b"", "x.stl", "part.empty")
        self.refused(good[:200], "x.stl", "mesh.unreadable")
        self.refused(b"solid x\nfacet normal 0 0 1\n", "x.stl", "mesh.unreadable")
        self.refused(b"PK\x03\x04 3D/ not really", "x.3mf", "mesh.unreadable")
        self.refused(b"GIF89a...", "x.gif", "part.kind")
        # Half an ellipsoid: its rim is flat and closed; a bowl with a torn rim is not.
        bowl = trimesh.creation.icosphere(subdivisions=2, radius=5)
        torn = bowl.submesh(
            [np.flatnonzero(bowl.triangles_center[:, 2] < 1.0 + bowl.triangles_center[:, 0] % 1.3)],
            append=True,
        )
        self.refused(torn.export(file_type="stl"), "torn.stl", "mesh.open")

    def test_a_flat_hole_is_closed_and_told(self):
        cube = box([0, 0, 0], [10, 10, 10])
        open_cube = type(cube)(cube.vertices, cube.triangles[2:], cube.label[2:])
        (body,) = bodies_in(to_stl(open_cube, "x"), "x.stl")
        self.assertIn("1 holes filled", body.repairs)
        self.assertAlmostEqual(volume(body.mesh), 1000.0, places=3)
