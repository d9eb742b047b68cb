"""One evaluation under way: what it computes from, what it keeps, how far it is."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import numpy as np

from pelvrak.core.billet.forms import Files, Raw
from pelvrak.core.cutting.feeds import Material
from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Kind, Pieces, Step
from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import Floats, Mesh
from pelvrak.core.geometry.part import PartModel, as_vector
from pelvrak.core.geometry.part_file import read_part
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.load.load import Guest
from pelvrak.core.route.meant import MeantGiven
from pelvrak.core.route.pictures import surface_of
from pelvrak.core.route.pieces import FACTS, FEATURES, PART, PICTURE, SURFACE
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport

G = TypeVar("G")

# Told with every report: raised when what a report says, and no step, has changed.
REPORT_VERSION = 20

Progress = Callable[[float, str], bool]


@dataclass(frozen=True)
class Visitor:
    """A setup of another plan, as it is cut there. cut: None where it is not; report: of it; plan:
    settled.
    """

    cut: Any
    report: SetupReport
    plan: Plan


@dataclass
class Run:
    """One evaluation under way. progress(share, what) returns False to stop. nests: solved in it, by key;
    loads: registers given out in it, by the load; meant: cuts into the part that are wanted; in_cut: how long
    each tool has cut, s, by its id; cuts: setups as they were cut, by name, for the loads they stand in;
    ends: what is told of how faces end, by setup and operation; begun: told of a setup whose seat, holding
    and reach are known before it is cut; piece_of_it: key and volume of a piece of a divided
    billet, by its name; None: it is not divided; visit: a setup of another plan in a load of this, None where
    no other plan is at hand.
    """

    plan: Plan
    engine: Engine
    progress: Progress
    part: PartModel
    read: Result
    material: Material
    raw: Raw | BadInput
    files: Files
    steps: int = 1
    done: int = 0
    nests: dict[str, Any] = field(default_factory=dict)
    loads: dict[str, Any] = field(default_factory=dict)
    meant: list[MeantGiven] = field(default_factory=list)
    in_cut: dict[str, float] = field(default_factory=dict)
    cuts: dict[str, Any] = field(default_factory=dict)
    ends: dict[tuple[str, str], tuple[Finding, ...]] = field(default_factory=dict)
    begun: Callable[[SetupReport], None] = lambda report: None
    piece_of_it: Callable[[str], tuple[str, float]] | None = None
    visit: Callable[[Guest, str], Visitor] | None = None

    def __post_init__(self) -> None:
        self.engine.tell = self._heard

    @contextmanager
    def aside(self) -> Iterator[Run]:
        """An evaluation beside this one, on the same steps: it gives out registers, and tells and counts, by
        itself.
        """
        beside = {"loads": {}, "meant": [], "cuts": {}, "in_cut": dict(self.in_cut)}
        try:
            yield replace(self, **beside, begun=lambda report: None)  # type: ignore[arg-type]
        finally:
            self.engine.tell = self._heard

    def _heard(self, called: str, share: float) -> None:
        self.tell(called, share)

    def tell(self, what: str, within: float = 0.0) -> None:
        if not self.progress(min(1.0, (self.done + within) / self.steps), what):
            raise Stopped

    def step(self, step: Step[G], given: G, called: str) -> Result:
        """One of the route's larger steps, which counts as progress."""
        result = self.engine.run(step, given, called)
        self.done += 1
        return result

    def surface(self, key: str) -> Mesh:
        """The surface of a stock by the key of its result."""
        return surface_of(self.engine, key).value(SURFACE)

    @property
    def part_content(self) -> Content:
        return self.read.content(PART)


@dataclass(frozen=True)
class FileGiven:
    """A part file, by the SHA-256 of its bytes."""

    sha256: str


READ_PART = Kind("part", 3, FileGiven)


def part_key(sha256: str) -> str:
    """The key of what was read from a part file."""
    return READ_PART.key(FileGiven(sha256))


def part_result(data: bytes, name: str, engine: Engine) -> Result:
    """The part in a part file, read once: pieces part.npz, surface.glb, facts.json, features.json. Raises
    BadInput.
    """

    def read() -> Pieces:
        model = read_part(data, name)
        lines = np.array(
            [[a, b] for e in model.part.edges for a, b in zip(e.points, e.points[1:], strict=False)]
        )
        return {
            PART: model,
            PICTURE: to_glb(model.mesh, lines.reshape(-1, 2, 3)),
            FACTS: model.part.model_dump(mode="json"),
            FEATURES: features_of(model).model_dump(mode="json"),
        }

    return engine.keep(READ_PART, FileGiven(hashlib.sha256(data).hexdigest()), read)


def as_came(run: Run) -> tuple[int, ...]:
    """Numbers of the faces that stay as they came, on every piece of a billet that holds several."""
    part = run.part.part
    pieces = max(1, len(part.pieces))
    each = len(part.faces) // pieces
    first = {ref.face for ref in run.plan.part.as_came if ref.face < each}
    return tuple(sorted(face + k * each for face in first for k in range(pieces)))


def mesh_in(data: bytes, name: str, engine: Engine) -> Mesh:
    """The surface of what a model file holds."""
    return part_result(data, name, engine).value(PART).mesh


def matrix(a: Floats) -> tuple[tuple[float, ...], ...]:
    """A transform as plain rows."""
    return tuple(tuple(float(x) for x in row) for row in a)


def in_work_frame(finding: Finding, here_from_work: Floats) -> Finding:
    """A finding whose places are of some frame, with them in the work frame."""
    if not finding.place:
        return finding
    back = moved(inverse(here_from_work), np.array(finding.place))
    return finding.model_copy(update={"place": tuple(as_vector(point) for point in back)})
