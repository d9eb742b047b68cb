"""How does a stock leave: in open formats, and in our own with what it is of?"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
import trimesh

from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import crease_lines, to_stl
from pelvrak.core.geometry.protected import protected
from pelvrak.core.route.pictures import piece_of
from pelvrak.core.route.pieces import FIELD, SURFACE, mesh_from_bytes
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import OperationReport, SetupReport, last_cut
from pelvrak.core.stock.field import loaded
from pelvrak.core.stock.kept import StockNote, saved_with

StockKind = Literal["step", "stl", "3mf", "glb", "rays"]
STOCK_KINDS: dict[StockKind, str] = {
    "step": "model/step",
    "stl": "model/stl",
    "3mf": "model/3mf",
    "glb": "model/gltf-binary",
    "rays": "application/octet-stream",
}
WRITER = "pelvrak.core.route.stock_solids"
BEFORE = "before"
# glTF 2.0, section 3.4: metres, y up.
GLTF_FROM_HERE = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]) / 1000


def stock_at_moment(setup: SetupReport, after: str | None) -> tuple[str | None, OperationReport | None]:
    """The key of a setup's stock after an operation (by its id), before the first cut ("before"), or at the
    end (None); and that operation. Raises BadInput for one that is not there.
    """
    if after is None:
        return setup.outgoing_key, None
    if after == BEFORE:
        return setup.incoming_key, None
    cut = last_cut(setup, after)
    return cut.key, cut


def note_on(plan: Plan, setup: SetupReport, after: str | None) -> StockNote:
    """What a stock of a setup is, told in its file."""
    _, operation = stock_at_moment(setup, after)
    moment = operation.name if operation else ("before its first cut" if after == BEFORE else "")
    rows = setup.zero_from_work
    return StockNote(
        name=f"{plan.name}: {setup.name} {moment or 'outgoing'}"[:300],
        part_file=plan.part.file,
        part_sha256=plan.part.sha256 or "",
        revision=plan.part.revision,
        setup=setup.name,
        after=operation.id if operation else "",
        register_name=setup.offset_register,
        zero_from_part=None if rows is None else tuple(tuple(row) for row in rows),
    )


def stock_file(store: Store, key: str, kind: StockKind, note: StockNote) -> bytes:
    """A stock in a format; mm, in the part's frame. Raises BadInput when nothing is kept under the key, or it
    does not go into the format.
    """
    if kind == "rays":
        return saved_with(loaded(_piece(store, key, FIELD.name)), note)
    surface = _piece(store, key, SURFACE.name)
    if kind == "step":
        return protected(WRITER, ["step"], surface, note.name)
    mesh = mesh_from_bytes(surface)
    if kind == "stl":
        return to_stl(mesh, note.name)
    if kind == "glb":
        stood = replace(mesh, vertices=mesh.vertices @ GLTF_FROM_HERE.T)
        return to_glb(stood, crease_lines(stood, by_label=False))
    made = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    made.metadata["name"] = note.name
    written = made.export(file_type="3mf")
    assert isinstance(written, bytes)
    return written


def _piece(store: Store, key: str, name: str) -> bytes:
    data = piece_of(store, key, name)
    if data is None:
        raise BadInput("stock.none", "stock", "this stock is not kept any more", "run the plan again")
    return data
