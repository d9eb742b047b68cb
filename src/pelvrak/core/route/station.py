"""Where is an operation run, and what stands round the work there?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from shapely.geometry.base import BaseGeometry

from pelvrak.core.engine.step import Content, Reader
from pelvrak.core.geometry.mesh import Floats, Mesh, box_corners, joined, transformed, with_label
from pelvrak.core.geometry.part import Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, moved, rigid
from pelvrak.core.holding.facts import HoldFacts, PieceFact
from pelvrak.core.holding.holding import united
from pelvrak.core.machine.index import Turned
from pelvrak.core.machine.kinematics import moved_by, pose
from pelvrak.core.machine.machine import Machine
from pelvrak.core.machine.slides import solid_mesh, stands_by_the_work
from pelvrak.core.route.naming import SETUP
from pelvrak.core.route.pieces import SURFACE
from pelvrak.core.stock.field import RayField, grid_around
from pelvrak.core.stock.shapes import field_of_mesh

HOLDING_CELL_MM = 1.0


@dataclass(frozen=True)
class Station:
    """Where an operation is run: the setup it stands in, with everything known of it.

    zero_from_work: of the plane it is cut in: the setup's zero, turned at an index position. zero_on_table:
    of the setup's zero. holding: the holding as a field in that frame, made when first asked for; None for
    nothing. solids: the same as a mesh labelled by piece. nest: rooms of the nest that this setup cuts. at:
    how the work is turned.
    """

    setup: str
    machine: Machine
    zero_from_work: Floats
    hold: HoldFacts
    zero_on_table: Vector | None
    at: Turned
    holding: Callable[[], RayField | None]
    solids: Callable[[], Mesh | None]
    nest: Callable[[], dict[str, tuple[BaseGeometry, float]]] = dict


def station_at(
    setup: str,
    machine: Machine,
    zero_from_work: Floats,
    hold: HoldFacts,
    holding: Callable[[], Mesh | None],
    nest: dict[str, tuple[BaseGeometry, float]],
    at: Turned,
) -> Station:
    """What stands round the work at a position. zero_from_work: of the setup's zero; holding: all its solids
    in the zero frame.
    """
    here, solids = round_the_work(machine, hold, holding, at)
    return Station(
        setup,
        machine,
        np.asarray(at.local_from_zero @ zero_from_work),
        here,
        hold.zero_on_table,
        at,
        cache(lambda: holding_field(solids())),
        solids,
        lambda: nest,
    )


def held_solids(reader: Reader, solids: Content, shift: Vector) -> Mesh:
    """All solids of a holding in the zero frame, labelled by piece. shift: of the frame they are kept in."""
    return transformed(reader.read(solids, SURFACE), rigid(np.eye(3), np.array(shift)))


def station_from(
    reader: Reader,
    machine: Machine,
    zero_from_work: Floats,
    hold: HoldFacts,
    solids: Content | None,
    at: Turned,
) -> Station:
    """The same from what a step's input names, without names. solids: of the holding; None for nothing."""
    return station_at(
        SETUP,
        machine,
        zero_from_work,
        hold,
        lambda: None if solids is None else held_solids(reader, solids, hold.shift),
        {},
        at,
    )


def round_the_work(
    machine: Machine, hold: HoldFacts, holding: Callable[[], Mesh | None], at: Turned
) -> tuple[HoldFacts, Callable[[], Mesh | None]]:
    """The holding as it stands at a position, in its plane, and its solids, labelled by piece; the machine's
    own where they turn the work.
    """
    if not machine.rotary or hold.key is None or hold.zero_on_table is None:
        return hold, cache(holding)
    local = at.local_from_zero
    # The table itself and what turns it are known solids; the flat that stood for them goes.
    kept = [i for i, piece in enumerate(hold.pieces) if piece.item != "table"]
    around = bodies(machine, at, hold.zero_on_table)
    here = hold.model_copy(
        update={
            "pieces": (
                *(_boxed(hold.pieces[i], local) for i in kept),
                *(
                    PieceFact(
                        name=name,
                        item="machine",
                        role="body",
                        low=as_vector(m.vertices.min(axis=0)),
                        high=as_vector(m.vertices.max(axis=0)),
                    )
                    for name, m in around
                ),
            )
        }
    )

    def solids() -> Mesh | None:
        whole = holding()
        if whole is None:
            return None
        lying = transformed(whole, local)
        found = [compact(with_label(lying, i), k) for k, i in enumerate(kept)]
        return joined([*found, *(compact(m, len(kept) + k) for k, (_, m) in enumerate(around))])

    return here, cache(solids)


def solids_of(station: Station) -> list[tuple[int, PieceFact, Mesh]]:
    """Every solid that stands round the work, with its number and what it is."""
    mesh = station.solids()
    if mesh is None:
        return []
    return [(i, piece, with_label(mesh, i)) for i, piece in enumerate(station.hold.pieces)]


def compact(mesh: Mesh, label: int) -> Mesh:
    """Only the corners its triangles have, under one label."""
    used, corners = np.unique(mesh.triangles, return_inverse=True)
    return Mesh(
        mesh.vertices[used],
        corners.reshape(-1, 3).astype(np.int64),
        np.full(len(mesh.triangles), label, np.int64),
    )


def _boxed(piece: PieceFact, local: Floats) -> PieceFact:
    ends = moved(local, box_corners(piece.low, piece.high))
    return piece.model_copy(update={"low": as_vector(ends.min(axis=0)), "high": as_vector(ends.max(axis=0))})


def bodies(machine: Machine, at: Turned, zero_on_table: Vector) -> list[tuple[str, Mesh]]:
    """Solids of the machine that stand by the work whatever X, Y and Z do; local plane of a position."""
    base_from_table = pose(machine, at.angles).base_from_table
    local_from_base = (
        at.local_from_zero @ rigid(np.eye(3), -np.array(zero_on_table)) @ inverse(base_from_table)
    )
    return [
        (one.name, transformed(solid_mesh(one), local_from_base @ moved_by(machine, one.rides, at.angles)))
        for one in machine.solids
        if stands_by_the_work(machine, one)
    ]


def holding_field(mesh: Mesh | None) -> RayField | None:
    """The same as a field for testing tools against."""
    if mesh is None:
        return None
    solid = united(mesh)
    return field_of_mesh(
        grid_around(solid.vertices.min(axis=0), solid.vertices.max(axis=0), HOLDING_CELL_MM), solid
    )
