"""Does the vise hold the work: what touches, how deep is the grip, what stands out?"""

from __future__ import annotations

from typing import Annotated, Literal

import manifold3d
import numpy as np
from pydantic import Field

from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Cure, Finding
from pelvrak.core.geometry.mesh import Floats, Mesh, box, joined, mesh_of, to_solid, transformed, triangle_normals
from pelvrak.core.geometry.part import Frozen, Vector, as_vector
from pelvrak.core.geometry.rigid import inverse, rigid, rotation_about_z
from pelvrak.core.geometry.shelf import shelf

# Common practice, no source: hold at least 5 mm (3/16 in) of straight wall.
GRIP_WANTED_MM = 5.0
GRIP_LEAST_MM = 2.0
# Common practice, no source: work standing more than this many grips above the jaws is at risk.
STAND_OUT_RATIO = 8.0
CONTACT_GAP_MM = 0.02
CONTACT_LEAN = float(np.cos(np.radians(0.5)))


class Vise(Frozen):
    """A machine vise with hard jaws; mm, force kN.

    bed_height: table to bed; jaw_height: bed to the top of the jaws; opening: what it can span.
    """

    id: str
    name: str
    jaw_width: float
    jaw_height: float
    jaw_thickness: float
    opening_max: float
    bed_height: float
    body_length: float
    body_width: float
    force_kn: float


class ViseHold(Frozen):
    """The work between hard jaws on a pair of parallels.

    jaws_close_along: setup axis of the jaw movement. The fixed jaw is at the back (y) or on the left (x).
    parallels: their height above the bed. along: the work's middle from the jaws' middle, mm.
    table_x, table_y: the fixed jaw's middle from the table's front left corner, mm.
    """

    kind: Literal["vise"] = "vise"
    vise: str = "bench-160"
    jaws_close_along: Literal["x", "y"] = "y"
    parallels: Annotated[float, Field(ge=0, le=300)] = 30.0
    parallel_width: Annotated[float, Field(ge=2, le=60)] = 8.0
    along: Annotated[float, Field(ge=-300, le=300)] = 0.0
    table_x: Annotated[float, Field(ge=-2000, le=2000)] = 450.0
    table_y: Annotated[float, Field(ge=-2000, le=2000)] = 260.0


class NoHold(Frozen):
    """Nothing holds the work yet."""

    kind: Literal["none"] = "none"


Hold = Annotated[ViseHold | NoHold, Field(discriminator="kind")]


class HoldFacts(Frozen):
    """What the vise does to the work, all from the incoming stock; lengths mm, areas mm².

    solids: keep-outs as (name, low, high) in the zero frame. jaw_top, rest: heights in the zero frame.
    zero_on_table: work zero from the table's front left corner. jaw: (low, high) of the fixed jaw's face
    above what the work rests on, in the zero frame.
    """

    opening: float | None = None
    opening_max: float | None = None
    grip_depth: float = 0.0
    stands_above: float = 0.0
    sticks_out_left: float = 0.0
    sticks_out_right: float = 0.0
    contact_fixed: float = 0.0
    contact_moving: float = 0.0
    jaw_top: float | None = None
    rest: float | None = None
    zero_on_table: Vector | None = None
    jaw: tuple[Vector, Vector] | None = None
    solids: tuple[tuple[str, Vector, Vector], ...] = ()


def vises() -> dict[str, Vise]:
    """The shipped vises by id; dimensions ours."""
    return {row["id"]: Vise.model_validate(row) for row in shelf("holding", "vises.json")}


def _solid(mesh: Mesh) -> manifold3d.Manifold:
    solid = to_solid(mesh)
    if solid.status() != manifold3d.Error.NoError:
        raise BadInput(
            "hold.not_computed", "hold", "the stock's surface touches itself, so contact cannot be computed",
            "choose a finer resolution",
        )  # fmt: skip
    return solid


def hold_work(hold: Hold, stock: Mesh, setup: str) -> tuple[HoldFacts, list[Finding]]:
    """Facts and findings of the holding. stock: incoming surface in the zero frame."""
    if isinstance(hold, NoHold):
        return HoldFacts(), [
            Finding(
                code="hold.nothing", severity="error", setup=setup, stage="hold",
                sentence="Nothing holds the work in this setup.",
            )
        ]  # fmt: skip
    vise = vises().get(hold.vise)
    if vise is None:
        raise BadInput("hold.unknown_vise", "hold.vise", f"there is no vise {hold.vise!r}", "choose one from the list")
    # Work in a frame where the jaws close along y and the fixed jaw is at the back.
    jaw_from_zero = rigid(rotation_about_z(0.0 if hold.jaws_close_along == "y" else -90.0), np.zeros(3))
    lying = transformed(stock, jaw_from_zero)
    low, high = lying.vertices.min(axis=0), lying.vertices.max(axis=0)
    rest = float(low[2])
    bed, top = rest - hold.parallels, rest - hold.parallels + vise.jaw_height
    jaw_middle = float((low[0] + high[0]) / 2) - hold.along
    left, right = jaw_middle - vise.jaw_width / 2, jaw_middle + vise.jaw_width / 2
    between, contact = None, (0.0, 0.0)
    grip = 0.0
    if top > rest and right > low[0] and left < high[0]:
        window = box(np.array([left, low[1] - 1, rest - 1]), np.array([right, high[1] + 1, top]))
        inside = _solid(lying) ^ _solid(window)
        if not inside.is_empty():
            between = inside.bounding_box()
            contact, grip = _contact(inside, between[1], between[4])
    fixed = between[4] if between else float(high[1])
    moving = between[1] if between else float(low[1])
    solids = _vise_solids(vise, hold, left, right, bed, top, rest, moving, fixed)
    to_zero = inverse(jaw_from_zero)
    turned = tuple(_turned_box(name, a, b, to_zero) for name, a, b in solids)
    # The fixed jaw's middle stands at (table_x, table_y) on the table, its bed at bed_height.
    fixed_in_zero = to_zero[:3, :3] @ np.array([jaw_middle, fixed, bed])
    on_table = np.array([hold.table_x, hold.table_y, vise.bed_height]) - fixed_in_zero
    facts = HoldFacts(
        opening=round(fixed - moving, 4), opening_max=vise.opening_max,
        grip_depth=round(grip, 4), stands_above=round(float(high[2]) - top, 4),
        sticks_out_left=round(max(0.0, left - float(low[0])), 4),
        sticks_out_right=round(max(0.0, float(high[0]) - right), 4),
        contact_fixed=round(contact[1], 2), contact_moving=round(contact[0], 2),
        jaw_top=round(top, 4), rest=round(rest, 4),
        jaw=_turned_box("", np.array([left, fixed, rest]), np.array([right, fixed, top]), to_zero)[1:],
        zero_on_table=(round(float(on_table[0]), 3), round(float(on_table[1]), 3), round(float(on_table[2]), 3)), solids=turned,
    )  # fmt: skip
    return facts, _check(hold, vise, facts, setup, to_zero, jaw_middle, fixed, moving, top)


def _contact(inside: manifold3d.Manifold, moving: float, fixed: float) -> tuple[tuple[float, float], float]:
    """Contact areas (moving, fixed) between the jaw planes and what lies between them, and the depth both share."""
    mesh = mesh_of(inside)
    normals = triangle_normals(mesh)
    corners = mesh.vertices[mesh.triangles]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    areas, spans = [], []
    for plane, sign in ((moving, -1.0), (fixed, 1.0)):
        touching = (normals[:, 1] * sign > CONTACT_LEAN) & (
            np.abs(corners[:, :, 1] - plane).max(axis=1) < CONTACT_GAP_MM
        )
        areas.append(float(area[touching].sum()))
        heights = corners[touching][:, :, 2]
        spans.append((heights.min(), heights.max()) if heights.size else (0.0, 0.0))
    depth = min(spans[0][1], spans[1][1]) - max(spans[0][0], spans[1][0])
    return (areas[0], areas[1]), max(0.0, float(depth))


def _vise_solids(
    vise: Vise,
    hold: ViseHold,
    left: float,
    right: float,
    bed: float,
    top: float,
    rest: float,
    moving: float,
    fixed: float,
) -> list[tuple[str, Floats, Floats]]:
    """The vise and parallels as boxes in the jaw frame."""
    middle = (left + right) / 2
    half = vise.body_width / 2
    thick = vise.jaw_thickness
    back = fixed + 2.2 * thick
    front = back - vise.body_length
    solids = [
        ("fixed jaw", [left, fixed, bed], [right, fixed + thick, top]),
        ("moving jaw", [left, moving - thick, bed], [right, moving, top]),
        ("fixed block", [middle - half, fixed + thick, bed], [middle + half, back, top - 3]),
        ("slide", [middle - half, moving - 2.4 * thick, bed], [middle + half, moving - thick, top - 3]),
        ("vise body", [middle - half, front, bed - vise.bed_height], [middle + half, back, bed]),
        ("table", [middle - 1.2 * vise.jaw_width, front - 60, bed - vise.bed_height - 12],
         [middle + 1.2 * vise.jaw_width, back + 60, bed - vise.bed_height]),
    ]  # fmt: skip
    if hold.parallels > 0 and fixed - moving > 2 * hold.parallel_width:
        w = hold.parallel_width
        solids.append(("rear parallel", [left, fixed - w, bed], [right, fixed, rest]))
        solids.append(("front parallel", [left, moving, bed], [right, moving + w, rest]))
    return [(name, np.array(a, float), np.array(b, float)) for name, a, b in solids]


def _turned_box(name: str, low: Floats, high: Floats, to: Floats) -> tuple[str, Vector, Vector]:
    ends = np.array([low, high]) @ to[:3, :3].T
    a, b = ends.min(axis=0), ends.max(axis=0)
    return name, as_vector(a), as_vector(b)


def solids_mesh(facts: HoldFacts) -> Mesh:
    """The keep-outs as one mesh in the zero frame, each box with its number as label."""
    return joined([box(np.array(a), np.array(b), i) for i, (_, a, b) in enumerate(facts.solids)])


def united(mesh: Mesh) -> Mesh:
    """Overlapping keep-out boxes as one closed solid."""
    boxes = [
        _solid(Mesh(mesh.vertices, mesh.triangles[mesh.label == i], mesh.label[mesh.label == i]))
        for i in np.unique(mesh.label)
    ]
    return mesh_of(manifold3d.Manifold.batch_boolean(boxes, manifold3d.OpType.Add))


def _check(
    hold: ViseHold, vise: Vise, facts: HoldFacts, setup: str, to_zero: Floats,
    jaw_middle: float, fixed: float, moving: float, top: float,
) -> list[Finding]:  # fmt: skip
    findings = []
    assert facts.opening is not None and facts.rest is not None

    def place(y: float) -> tuple[Vector, ...]:
        return (as_vector(to_zero[:3, :3] @ np.array([jaw_middle, y, top])),)

    def deeper(depth: float) -> tuple[Cure, ...]:
        height = round(vise.jaw_height - depth, 3)
        return (Cure(label=f"Parallels {height:g} mm, grip {depth:g} mm", path="hold/parallels", value=height),)

    if facts.opening > vise.opening_max:
        findings.append(
            Finding(
                code="hold.opening", severity="error", setup=setup, stage="hold",
                sentence=f"The work is {facts.opening:.1f} mm across the jaws; {vise.name} opens {vise.opening_max:.0f} mm.",
                measured=facts.opening, limit=vise.opening_max, unit="mm", place=place(moving),
            )
        )  # fmt: skip
    if facts.contact_fixed == 0 or facts.contact_moving == 0:
        which = (
            "Neither jaw touches"
            if facts.contact_fixed == facts.contact_moving
            else ("The fixed jaw does not touch" if facts.contact_fixed == 0 else "The moving jaw does not touch")
        )
        high = hold.parallels >= vise.jaw_height
        why = "it rests above the jaws" if high else "there is no flat wall square to the jaws where they close"
        findings.append(
            Finding(
                code="hold.no_touch", severity="error", setup=setup, stage="hold",
                sentence=f"{which} the work: {why}.",
                measured=min(facts.contact_fixed, facts.contact_moving), limit=0.0, unit="mm²",
                place=place(moving), cures=deeper(GRIP_WANTED_MM) if high else (),
            )
        )  # fmt: skip
    elif facts.grip_depth < GRIP_WANTED_MM - 1e-6:
        findings.append(
            Finding(
                code="hold.shallow", severity="error" if facts.grip_depth < GRIP_LEAST_MM else "warning",
                setup=setup, stage="hold",
                sentence=f"Grip is shallow: {facts.grip_depth:.1f} mm of straight wall, {GRIP_WANTED_MM:g} mm wanted; "
                f"the work stands {facts.stands_above:.1f} mm above the jaws.",
                measured=facts.grip_depth, limit=GRIP_WANTED_MM, unit="mm", place=place(fixed),
                cures=deeper(GRIP_WANTED_MM + 1),
            )
        )  # fmt: skip
    elif facts.stands_above > STAND_OUT_RATIO * facts.grip_depth:
        findings.append(
            Finding(
                code="hold.stands_out", severity="warning", setup=setup, stage="hold",
                sentence=f"The work stands {facts.stands_above:.1f} mm above jaws that grip {facts.grip_depth:.1f} mm.",
                measured=round(facts.stands_above / facts.grip_depth, 2), limit=STAND_OUT_RATIO, unit="grips",
                place=place(fixed), cures=deeper(round(facts.grip_depth * 1.5, 1)),
            )
        )  # fmt: skip
    return findings
