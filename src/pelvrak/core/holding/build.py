"""What is a holding while it is built up: pieces as they stand, what went wrong, what is known beside the
work?
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

import manifold3d
import numpy as np

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.holes import UprightHole
from pelvrak.core.geometry.mesh import Floats, Mesh, mesh_of, to_solid, transformed
from pelvrak.core.geometry.rigid import rigid
from pelvrak.core.holding.fixture import Draws
from pelvrak.core.holding.hold import Hold, Item
from pelvrak.core.holding.kinds import Fixture, Role, Solid
from pelvrak.core.holding.pins import PinFit
from pelvrak.core.holding.screws import ScrewFact, force_by, screw

# The jaw at a vise's back, which most have fixed, and the one at the front, which closes.
Jaw = Literal["fixed", "moving"]


def sound_solid(stock: Mesh, so: str) -> manifold3d.Manifold:
    """The stock for exact operations. so: what cannot be done without. Raises BadInput when its surface
    touches itself.
    """
    solid = to_solid(stock)
    if solid.status() != manifold3d.Error.NoError:
        raise BadInput(
            "hold.not_computed",
            "hold",
            f"the stock's surface touches itself, so {so}",
            "choose a finer resolution",
        )
    return solid


@dataclass(frozen=True)
class Piece:
    """One solid of the holding as it stands. item: the one it belongs to; push: where a clamp drives it
    (unit), with its force in N; draws: what draws the work against it; jaw: which of a vise's it is, if any;
    bites: how deep its teeth go in, mm; friction: with the work, where it rubs otherwise than metal on metal;
    moves: it stands where the work lets it; back: where it goes for each mm that the jaws open, mm.
    """

    item: str
    name: str
    role: Role
    mesh: Mesh
    push: Floats | None = None
    force: float = 0.0
    draws: Draws | None = None
    jaw: Jaw | None = None
    bites: float = 0.0
    friction: float | None = None
    moves: bool = False
    back: Floats | None = None

    @property
    def clamps(self) -> bool:
        """Whether it presses on the work, or draws it."""
        return self.push is not None or self.draws is not None


@dataclass
class Trouble:
    """What went wrong while building up, to be told as a finding.

    cure: its label, an item of the holding, and the field that gets a value.
    """

    code: str
    sentence: str
    measured: float | None = None
    limit: float | None = None
    place: Floats | None = None
    cure: tuple[str, str, str, Any] | None = None


@dataclass
class Assembly:
    """The holding and the work as they stand; layout frame, mm.

    shift: what takes the work from where it came to where it lies. opening: between a vise's mounting faces,
    and what it can take. met: what the moving jaw met. jaw_low, jaw_top: heights of the jaws; jaw_span: low
    and high of the fixed jaw's face. closing: the way the moving jaw goes. vise: its name. jaws_thick: what
    both jaws take of the opening. free_gap: left between the jaws. pins: the holes of the work that are on
    pins. carrier: the item in the vise that carries the work, which the jaws close on. screws: how hard each
    is tightened. beside: clamps that press on what carries the work, by item, and what that is called. chuck:
    name of the one that closes on the work. centres: of points in centre holes, by item: the tip, the radius
    of the rim it lies on, mm, and half the cone's angle, radians.
    """

    pieces: list[Piece] = field(default_factory=list)
    shift: Floats = field(default_factory=lambda: np.zeros(3))
    trouble: list[Trouble] = field(default_factory=list)
    opening: tuple[float, float] | None = None
    met: list[str] = field(default_factory=list)
    jaw_top: float | None = None
    jaw_low: float | None = None
    jaw_span: tuple[Floats, Floats] | None = None
    closing: Floats | None = None
    vise: str | None = None
    jaws_thick: float = 0.0
    free_gap: float | None = None
    pins: list[PinFit] = field(default_factory=list)
    carrier: str | None = None
    screws: list[ScrewFact] = field(default_factory=list)
    beside: dict[str, str] = field(default_factory=dict)
    chuck: str | None = None
    centres: dict[str, tuple[Floats, float, float]] = field(default_factory=dict)


@dataclass(frozen=True)
class CutJaws:
    """Jaws or a nest as they have been cut: `fixed` and `moving` each in the frame of an uncut fixed jaw (the
    moving one turned half round), or one nest block in `fixed`. place: takes the setup-oriented work into the
    vise's frame over its bed (or the block's frame). opening: between the mounting faces as they were cut.
    screws: what holds a block to its plate, in its frame.
    """

    fixed: Mesh
    moving: Mesh | None
    place: Floats
    opening: float = 0.0
    screws: tuple[Mesh, ...] = ()


@dataclass(frozen=True)
class Shapes:
    """What is known beside the work's surface. holes: the part's upright holes by face number, in the setup's
    orientation; own: the shop's own solids by item; cut: soft jaws and nests by item; finished: the faces of
    the part that are to be as drawn, where the part is known, in the setup's orientation.
    """

    holes: dict[int, UprightHole] = field(default_factory=dict)
    own: dict[str, Mesh] = field(default_factory=dict)
    cut: dict[str, CutJaws] = field(default_factory=dict)
    finished: Mesh | None = None


@dataclass
class Build:
    """A holding being built up: what goes into it, what stands so far, and where each item stands (4×4)."""

    hold: Hold
    fixtures: dict[str, Fixture]
    work: Mesh
    shapes: Shapes
    out: Assembly = field(default_factory=Assembly)
    poses: dict[str, Floats] = field(default_factory=dict)

    def fixture(self, item: Item) -> Fixture:
        found = self.fixtures.get(item.fixture)
        if found is None:
            raise BadInput(
                "hold.unknown_fixture",
                "hold.items",
                f"{item.id}: there is no fixture {item.fixture!r}",
                "choose one from the library",
            )
        return found

    def lying(self, shift: Floats) -> Mesh:
        """The work moved."""
        return transformed(self.work, rigid(np.eye(3), shift))

    def base(self, item: Item) -> Item:
        return next(one for one in self.hold.items if one.id == item.on)

    def add(self, item: Item, solid: Solid, pose: Floats, **more: Any) -> None:
        self.out.pieces.append(
            Piece(item.id, solid.name, solid.role, transformed(mesh_of(solid.body), pose), **more)
        )

    def screwed(self, item: Item, thread: str, usual: float) -> float:
        """Force on a screw, N: as typed, by its torque, or as is usual for it."""
        force = usual
        if item.force_kn is not None:
            force = item.force_kn * 1000
        elif item.torque_nm is not None:
            force = force_by(item.torque_nm, thread)
        self.out.screws.append(screw(item.id, thread, force))
        return force

    def said(self, code: str, sentence: str, **more: Any) -> None:
        self.out.trouble.append(Trouble(code, sentence, **more))
