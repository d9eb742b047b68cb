"""One evaluation under way: what it computes from, what it keeps, how far it is."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pelvrak.core.billet.forms import Files, Raw
from pelvrak.core.cutting.feeds import Material
from pelvrak.core.errors import BadInput, Stopped
from pelvrak.core.findings import Finding
from pelvrak.core.geometry.features import features_of
from pelvrak.core.geometry.mesh import Floats, Mesh, to_glb
from pelvrak.core.geometry.part import PartModel, as_vector, packed, unpacked
from pelvrak.core.geometry.part_file import read_part
from pelvrak.core.geometry.rigid import inverse, moved
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.store import Store, key_of

VERSION = 14

Progress = Callable[[float, str], bool]


@dataclass
class Run:
    """One evaluation under way. progress(share, what) returns False to stop. nests: solved in it, by key; loads: registers given out in it,

    by the load; begun: told of a setup whose seat, holding and reach are known before it is cut.
    """

    plan: Plan
    store: Store
    progress: Progress
    part: PartModel
    part_key: str
    material: Material
    raw: Raw | BadInput
    files: Files
    steps: int = 1
    done: int = 0
    computed: list[str] = field(default_factory=list)
    reused: list[str] = field(default_factory=list)
    nests: dict[str, Any] = field(default_factory=dict)
    loads: dict[str, Any] = field(default_factory=dict)
    begun: Callable[[SetupReport], None] = lambda report: None

    def tell(self, what: str, within: float = 0.0) -> None:
        if not self.progress(min(1.0, (self.done + within) / self.steps), what):
            raise Stopped

    def step(self, name: str, key: str, compute: Callable[[], dict[str, bytes]]) -> dict[str, Any]:
        """Facts of a step: taken from the store, or computed and kept."""
        kept = self.store.get(key, "facts.json")
        self.tell(name)
        if kept is None:
            pieces = compute()
            self.store.put(key, pieces)
            kept = pieces["facts.json"]
            self.computed.append(name)
        else:
            self.reused.append(name)
        self.done += 1
        facts: dict[str, Any] = json.loads(kept)
        return facts

    def piece(self, key: str, name: str) -> bytes:
        data = self.store.get(key, name)
        if data is None:
            raise LookupError(f"result {key} has no {name}")
        return data


def part_key(sha256: str) -> str:
    """The key of what was read from a part file."""
    return key_of("part", VERSION, sha256)


def part_result(data: bytes, name: str, sha256: str, store: Store) -> tuple[str, PartModel]:
    """The part in a part file, read once: (key, model); pieces part.npz, surface.glb, facts.json, features.json."""
    key = part_key(sha256)
    kept = store.get(key, "part.npz")
    if kept is not None:
        return key, unpacked(kept)
    model = read_part(data, name)
    lines = np.array([[a, b] for e in model.part.edges for a, b in zip(e.points, e.points[1:], strict=False)])
    store.put(
        key,
        {
            "part.npz": packed(model),
            "surface.glb": to_glb(model.mesh, lines.reshape(-1, 2, 3)),
            "facts.json": model.part.model_dump_json().encode(),
            "features.json": features_of(model).model_dump_json().encode(),
        },
    )
    return key, model


def mesh_in(data: bytes, name: str, store: Store) -> Mesh:
    """The surface of what a model file holds."""
    return part_result(data, name, hashlib.sha256(data).hexdigest(), store)[1].mesh


def matrix(a: Floats) -> tuple[tuple[float, ...], ...]:
    """A transform as plain rows."""
    return tuple(tuple(float(x) for x in row) for row in a)


def in_work_frame(finding: Finding, here_from_work: Floats) -> Finding:
    """A finding whose places are of some frame, with them in the work frame."""
    if not finding.place:
        return finding
    back = moved(inverse(here_from_work), np.array(finding.place))
    return finding.model_copy(update={"place": tuple(as_vector(point) for point in back)})
