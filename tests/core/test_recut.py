"""The stock a program leaves, cut by an independent cutter, against the planned one: one setup of each kind of machine and work."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np

from pelvrak.core.geometry.mesh import Mesh, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import inverse
from pelvrak.core.machine.index import centre_register
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.pieces import mesh_from_bytes
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport
from pelvrak.core.stock.compare import signed_distance
from tests.core import test_removal, test_turning, test_wrapped
from tests.recut import Cutter

MEAN_MM, MOST_MM = 0.02, 0.15


def samples(mesh: Mesh, count: int = 3000) -> np.ndarray:
    """Places spread evenly over a surface."""
    corners = mesh.vertices[mesh.triangles]
    areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rng = np.random.default_rng(4)
    which = rng.choice(len(areas), count, p=areas / areas.sum())
    a, b = np.sqrt(rng.random(count)), rng.random(count)
    weights = np.column_stack([1 - a, a * (1 - b), a * b])
    return np.einsum("ni,nij->nj", weights, corners[which])


class Recut(unittest.TestCase):
    def compared(
        self,
        store,
        plan: Plan,
        setup: SetupReport,
        exact: manifold3d.Manifold | None = None,
        turned: bool = False,
        moves: int = 20,
    ) -> None:
        """Cut a setup's program into what comes in, and lay the two stocks over each other. exact: what comes in, zero frame."""
        zero_from_work = np.array(setup.zero_from_work)
        incoming, planned = (
            transformed(mesh_from_bytes(store.get(key, "surface.npz")), zero_from_work)
            for key in (setup.incoming_key, setup.outgoing_key)
        )
        text = store.get(setup.program_key, "program.nc").decode()
        machine = machine_of(setup.machine, plan.machines)
        found = np.array([one.value for one in setup.register_value])
        centre = np.array(centre_register(machine, setup.hold.zero_on_table)) if turned else None
        cutter = Cutter(exact or to_solid(incoming), {t.place: t for t in plan.tools}, found, centre)
        left = mesh_of(cutter.run(text))
        self.assertGreater(cutter.moves, moves)
        self.assertGreater(incoming.vertices.shape[0], 0)
        removed = to_solid(incoming).volume() - to_solid(planned).volume()
        self.assertGreater(removed, 100)
        self.assertAlmostEqual(to_solid(left).volume() / to_solid(planned).volume(), 1.0, delta=2e-3)
        for one, other in ((left, planned), (planned, left)):
            away = np.abs(signed_distance(samples(one), other))
            self.assertLess(away.mean(), MEAN_MM)
            self.assertLess(away.max(), MOST_MM)
        self.assertLess(np.abs(np.linalg.det(inverse(zero_from_work)[:3, :3]) - 1), 1e-9)

    def test_three_axes(self):
        """A step open to three sides, and drilled, reamed and tapped holes."""
        t = test_removal
        wall, small = t.face("cylinder", radius=4.0), t.face("cylinder", radius=2.5)
        drill = min(
            (x for x in t.tool_shelf().values() if x.kind == "drill" and 7.4 < x.DC < 8), key=lambda x: 8 - x.DC
        )
        report = t.computed(
            {"id": "p", "name": "Step", "kind": "pocket", "tool": t.tool("end_mill", DC=16.0), "faces": [t.face("plane", z=10.0)]},
            {**t.drilling("drill", drill.id, wall), "id": "d8"}, {**t.drilling("ream", t.tool("reamer", DC=8.0), wall), "id": "r8"},
            {**t.drilling("peck", t.tool("drill", DC=5.0), small), "id": "d5"}, {**t.drilling("tap", t.tool("tap", DC=6.0), small), "id": "t6"},
        )  # fmt: skip
        self.compared(t.STORE, t.last_plan(), report.setups[0])

    def test_indexed(self):
        """A slanting face and a hole in the front, on a rotary about X, each with its register."""
        store, report = test_turning.computed("register_each")
        self.compared(store, test_turning.turned_plan(), report.setups[0], turned=True, moves=3)

    def test_wrapped(self):
        """A groove round a third of a bar, in inverse time, the work turning as it is cut."""
        arc = test_wrapped.BAR / 2 * np.radians(60)
        operation = {"tool": "em8", "line": [[0, -arc], [0, arc]], "diameter": test_wrapped.BAR, "depth": 2.0}
        report = test_wrapped.computed(operation)
        self.compared(
            test_wrapped.STORE, test_wrapped.plan_from(test_wrapped.document(operation)), report.setups[0], turned=True, moves=1
        )  # fmt: skip


if __name__ == "__main__":
    unittest.main()
