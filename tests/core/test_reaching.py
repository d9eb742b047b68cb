"""What a tool with its holder reaches of a part, against areas by hand."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from pelvrak.core.cutting.tools import Tool, tool_shelf
from pelvrak.core.geometry.mesh import Mesh, box
from pelvrak.core.geometry.step_reader import model_of_solid
from pelvrak.core.holding.facts import HoldFacts
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.route.reaching import STOPS, stops_on
from pelvrak.core.route.station import Station, holding_field
from pelvrak.core.stock.compare import refined
from tests import solids

DEEP, WIDE = 45.0, 24.0
PART = model_of_solid(
    solids.minus(
        solids.box((0, 0, 0), (60, 60, 60)), solids.box((18, 18, 60 - DEEP), (18 + WIDE, 18 + WIDE, 70))
    ),
    "",
    "MM",
)


def station(up: np.ndarray, holding: Mesh | None = None) -> Station:
    """The part under the spindle, `up` (3, 3) turning it; nothing round it but what is given."""
    plane = np.eye(4)
    plane[:3, :3] = up
    return Station(
        "OP10",
        machine_of("vertical-760"),
        plane,
        HoldFacts(),
        None,
        Turned("", {}, np.eye(4), (0.0, 0.0, 1.0)),
        lambda: holding_field(holding),
        lambda: holding,
    )


def areas(where: Station, tool: Tool) -> tuple[dict[str, float], np.ndarray, Mesh]:
    surface = refined(PART.mesh, 2.0)
    stops = stops_on(surface, PART, where, tool)
    a, b, c = (surface.vertices[surface.triangles[:, i]] for i in range(3))
    size = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    inside = np.abs(np.array([a, b, c]).mean(axis=0)[:, :2] - 30).max(axis=1) < WIDE / 2 + 0.1
    walls = inside & (np.ptp(np.array([a, b, c])[:, :, 2], axis=0) > 1e-6)
    told = {name: float(size[walls & (stops == i)].sum()) for i, name in enumerate(STOPS)}
    told["whole"] = float(size[stops == 0].sum())
    return told, stops, surface


class Pocket(unittest.TestCase):
    tool = tool_shelf()["em10"]

    def test_walls_down_to_where_the_holder_comes(self):
        """The holder is wider than the pocket: it stops on top when the tip is an overhang deep; corners stay
        as wide as the cutter.
        """
        found, _, _ = areas(station(np.eye(3)), self.tool)
        exact = 4 * (WIDE - self.tool.DC) * self.tool.overhang
        self.assertAlmostEqual(found["reached"] / exact, 1.0, delta=0.08)
        self.assertAlmostEqual(found["part"], 4 * WIDE * DEEP - found["reached"], delta=1.0)

    def test_a_longer_tool_reaches_deeper(self):
        """Held 10 mm shorter than before, the same tool reaches 10 mm less; held out past the depth, all but
        the corners.
        """
        short = self.tool.model_copy(update={"overhang": 30.0, "LCF": 20.0})
        long = self.tool.model_copy(update={"overhang": 50.0, "OAL": 90.0})
        less, more = (
            areas(station(np.eye(3)), short)[0]["reached"],
            areas(station(np.eye(3)), long)[0]["reached"],
        )
        self.assertAlmostEqual(less / (4 * (WIDE - 10) * 30), 1.0, delta=0.1)
        self.assertAlmostEqual(more / (4 * (WIDE - 10) * DEEP), 1.0, delta=0.08)

    def test_another_holder(self):
        """A holder slimmer than the pocket follows the tool in."""
        slim = self.tool.model_copy(
            update={"holder": self.tool.holder.model_copy(update={"stack": ((60.0, 12.0),)})}
        )
        self.assertGreater(areas(station(np.eye(3)), slim)[0]["reached"], 4 * (WIDE - 12.5) * DEEP * 0.9)

    def test_what_looks_away(self):
        """The bottom looks away from above, and is all that does; turned over it is all that a flat block
        shows up there.
        """
        found, stops, surface = areas(station(np.eye(3)), self.tool)
        low = np.abs(surface.vertices[surface.triangles][:, :, 2]).max(axis=1) < 1e-6
        self.assertTrue((stops[low] == STOPS.index("angle")).all())
        self.assertFalse((stops[~low] == STOPS.index("angle")).any())
        _, under, _ = areas(station(np.diag([1.0, -1.0, -1.0])), self.tool)
        self.assertTrue((under[low] == 0).all())
        self.assertGreater(found["whole"], 60 * 60 - WIDE**2)

    def test_what_holds_it_is_in_the_way(self):
        """A wall as high as the block 3 mm beside it: no Ø10 comes between. Lower than its overhang the
        holder meets the block first.
        """
        beside = box(np.array([-20.0, 0, 0]), np.array([-3.0, 60, 60]))
        _, stops, surface = areas(
            replace(station(np.eye(3)), holding=lambda: holding_field(beside)), self.tool
        )
        corners = surface.vertices[surface.triangles]
        left = np.abs(corners[:, :, 0]).max(axis=1) < 1e-6
        deep = left & (corners[:, :, 2].max(axis=1) < 58) & (corners[:, :, 2].min(axis=1) > 25)
        self.assertTrue((stops[deep] == STOPS.index("holding")).all())
        right = (np.abs(corners[:, :, 0] - 60).max(axis=1) < 1e-6) & (corners[:, :, 2].min(axis=1) > 25)
        self.assertTrue((stops[right] == 0).all())


if __name__ == "__main__":
    unittest.main()
