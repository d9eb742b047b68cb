"""Meshes that are not closed: mended, or refused with the place."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np
import trimesh

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mending import mended
from pelvrak.core.geometry.mesh import Mesh, box, joined, mesh_of, to_solid, volume


def soup(mesh: Mesh) -> Mesh:
    """Every triangle with corners of its own, as an STL file has them."""
    return Mesh(
        mesh.vertices[mesh.triangles].reshape(-1, 3),
        np.arange(3 * len(mesh.triangles)).reshape(-1, 3),
        mesh.label,
    )


BLOCK = box(np.zeros(3), np.array([40.0, 30, 20]))
BALL = mesh_of(manifold3d.Manifold.sphere(10, 48))


class Mending(unittest.TestCase):
    def closed(self, mesh: Mesh, exact: float):
        self.assertEqual(to_solid(mesh).status(), manifold3d.Error.NoError)
        self.assertAlmostEqual(volume(mesh) / exact, 1.0, places=6)
        # An independent library agrees.
        self.assertTrue(trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False).is_volume)

    def test_soup_is_welded(self):
        done = mended(soup(BALL))
        self.closed(done.mesh, volume(BALL))
        self.assertEqual(done.welded, 3 * len(BALL.triangles) - len(BALL.vertices))
        self.assertEqual((done.dropped, done.turned, done.filled), (0, 0, 0))

    def test_sides_are_turned(self):
        rng = np.random.default_rng(1)
        triangles = BALL.triangles.copy()
        wrong = rng.random(len(triangles)) < 0.4
        triangles[wrong] = triangles[wrong][:, ::-1]
        self.closed(mended(Mesh(BALL.vertices, triangles, BALL.label)).mesh, volume(BALL))
        inside_out = mended(Mesh(BALL.vertices, BALL.triangles[:, ::-1], BALL.label))
        self.closed(inside_out.mesh, volume(BALL))
        self.assertEqual(inside_out.turned, len(BALL.triangles))

    def test_double_and_empty_triangles_are_dropped(self):
        extra = np.concatenate([BLOCK.triangles, BLOCK.triangles[:2], [[0, 0, 1]]])
        done = mended(Mesh(BLOCK.vertices, extra, np.zeros(len(extra), np.int64)))
        self.closed(done.mesh, 24000)
        self.assertEqual(done.dropped, 3)

    def test_a_flat_hole_is_filled(self):
        normals = np.cross(
            *(BLOCK.vertices[BLOCK.triangles[:, i]] - BLOCK.vertices[BLOCK.triangles[:, 0]] for i in (1, 2))
        )
        lid = normals[:, 2] > 0
        done = mended(Mesh(BLOCK.vertices, BLOCK.triangles[~lid], BLOCK.label[~lid]))
        self.closed(done.mesh, 24000)
        self.assertEqual(done.filled, 1)

    def test_a_void_faces_inward(self):
        void = Mesh(
            BALL.vertices * 0.5 + [20, 15, 10], BALL.triangles, BALL.label
        )  # both outward: the void is wrong
        done = mended(joined([BLOCK, void]))
        self.closed(done.mesh, 24000 - volume(BALL) / 8)

    def test_a_hole_that_is_not_flat_is_refused_with_its_place(self):
        bare = BALL.vertices[BALL.triangles].mean(axis=1) @ [0.6, 0, 0.8] < 9.0
        with self.assertRaises(BadInput) as caught:
            mended(Mesh(BALL.vertices, BALL.triangles[bare], BALL.label[bare]), "casting.stl")
        self.assertEqual((caught.exception.code, caught.exception.where), ("mesh.open", "casting.stl"))
        place = np.array([float(x) for x in caught.exception.what.split("(")[1].split(")")[0].split(",")])
        self.assertLess(np.linalg.norm(place - np.array([0.6, 0, 0.8]) * 9), 1.5)

    def test_three_triangles_on_an_edge_are_refused(self):
        fin = np.concatenate([BLOCK.vertices, [[20, 15, 60]]])
        triangles = np.concatenate([BLOCK.triangles, [[BLOCK.triangles[0][0], BLOCK.triangles[0][1], 8]]])
        with self.assertRaises(BadInput) as caught:
            mended(Mesh(fin, triangles, np.zeros(len(triangles), np.int64)))
        self.assertEqual(caught.exception.code, "mesh.tangled")

    def test_a_single_triangle_encloses_nothing(self):
        flat = Mesh(
            np.array([[0.0, 0, 0], [10, 0, 0], [0, 10, 0]]), np.array([[0, 1, 2]]), np.zeros(1, np.int64)
        )
        with self.assertRaises(BadInput) as caught:
            mended(flat)
        self.assertEqual(caught.exception.code, "mesh.flat")

    def test_nothing_is_refused(self):
        for bad in (
            Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int64), np.zeros(0, np.int64)),
            Mesh(BLOCK.vertices * np.nan, BLOCK.triangles, BLOCK.label),
        ):
            with self.assertRaises(BadInput):
                mended(bad)


if __name__ == "__main__":
    unittest.main()
