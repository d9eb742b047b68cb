"""A work stop."""

from __future__ import annotations

from typing import ClassVar, Literal

import manifold3d

from pelvrak.core.holding.fixture import ROUND, FixtureKind, Size, Solid


class Stop(FixtureKind):
    """A work stop on the end of a vise's fixed jaw: a rod whose tip, of a diameter, faces along the jaws.

    reach: from the jaw's end to the tip, mm; tip_diameter: of the rod, mm.
    """

    called: ClassVar[str] = "work stop"
    several: ClassVar[str] = "work stops"
    sizes: ClassVar[str] = "Ø{tip_diameter} · reaches {reach}"
    stands_on: ClassVar[tuple[str, ...]] = ("vise",)
    asks: ClassVar[dict[str, str]] = {"side": "At the", "x": "X", "y": "Y", "z": "Z"}

    kind: Literal["stop"] = "stop"
    reach: Size
    tip_diameter: Size

    def solids(self, height: float | None = None) -> list[Solid]:
        return [Solid("stop", "locates", stop_rod(self))]


def stop_rod(one: Stop) -> manifold3d.Manifold:
    """The rod of a stop, its tip in x 0 looking to -x, its axis along x in y = z = 0."""
    bar = manifold3d.Manifold.cylinder(one.reach, one.tip_diameter / 2, one.tip_diameter / 2, ROUND)
    return bar.rotate([0.0, 90.0, 0.0])
