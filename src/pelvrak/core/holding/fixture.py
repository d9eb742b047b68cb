"""What is there to hold work with: kinds of fixture, their sizes, and the solids they are made of?

Every fixture stands in a frame of its own: z up, origin in the middle of its bottom unless its kind says
otherwise. Sizes are ours; those of threads, bolts and tee slots are named beside them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import manifold3d
import numpy as np
from pydantic import Field, TypeAdapter, ValidationError, model_validator

from pelvrak.core.errors import BadInput, json_from, plain, refuse_unkept
from pelvrak.core.geometry.iso286 import limits
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.shelf import shelf

Size = Annotated[float, Field(gt=0, le=3000)]
Ident = Annotated[str, Field(pattern="^[A-Za-z0-9_.-]{1,40}$")]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Role = Literal["rests", "locates", "clamps", "body"]
ROUND = 64
# Room that a vee's relief leaves under a sharp edge lying in it.
RELIEF_SPARE_MM = 1.0

# ISO 4762 cap screws: head diameter and height, mm, and coarse pitch (ISO 261), from memory.
SCREWS: dict[str, tuple[float, float, float, float]] = {
    "M4": (4, 7.0, 4, 0.7),
    "M5": (5, 8.5, 5, 0.8),
    "M6": (6, 10.0, 6, 1.0),
    "M8": (8, 13.0, 8, 1.25),
    "M10": (10, 16.0, 10, 1.5),
    "M12": (12, 18.0, 12, 1.75),
    "M16": (16, 24.0, 16, 2.0),
}
Thread = Literal["M4", "M5", "M6", "M8", "M10", "M12", "M16"]


def core_diameter(thread: str) -> float:
    """Diameter of a screw at the root of its thread, mm: d - 1.2269·P (ISO 724 profile, from memory)."""
    d, _, _, pitch = SCREWS[thread]
    return d - 1.2269 * pitch


class _Fixture(Frozen):
    """What every fixture has.

    id: never changes; name: what it is called; maker: who makes it, where it is bought.
    """

    id: Ident
    name: Name
    maker: Annotated[str, Field(max_length=60)] = ""


class Vise(_Fixture):
    """A machine vise; force kN.

    Frame: x along the jaws, y 0 in the fixed jaw's mounting face (the jaws close towards +y). bed_height: bottom
    to bed; jaw_height: of the mounting faces above the bed; opening_max: between mounting faces.
    jaw_width: of the mounting faces, mm; body_length, body_width: of what stands on the table, mm; force_kn:
    it closes with.
    """

    kind: Literal["vise"] = "vise"
    jaw_width: Size
    jaw_height: Size
    opening_max: Size
    bed_height: Size
    body_length: Size
    body_width: Size
    force_kn: Size


class Jaws(_Fixture):
    """A pair of jaws for a vise: hard, stepped (work rests on the step), or soft blanks to be cut.

    style: hard, stepped or soft; width, height, thickness: of one jaw, mm; step_depth, step_below_top: of the
    step the work rests on, mm; material: of soft ones.
    """

    kind: Literal["jaws"] = "jaws"
    style: Literal["hard", "stepped", "soft"] = "hard"
    width: Size
    height: Size
    thickness: Size
    step_depth: Annotated[float, Field(ge=0, le=200)] = 0.0
    step_below_top: Annotated[float, Field(ge=0, le=200)] = 0.0
    material: Annotated[str, Field(max_length=60)] = ""

    @model_validator(mode="after")
    def _step_lies_within(self) -> Jaws:
        if self.style == "stepped" and not (
            0 < self.step_depth < self.thickness and 0 < self.step_below_top < self.height
        ):
            raise ValueError(
                "a stepped jaw needs a step less deep than it is thick, and less low than it is high"
            )
        return self


class Parallels(_Fixture):
    """A set of pairs of parallels: one length and thickness, several heights.

    length, thickness: of each, mm; heights: those in the set, mm.
    """

    kind: Literal["parallels"] = "parallels"
    length: Size
    thickness: Size
    heights: Annotated[tuple[Size, ...], Field(min_length=1, max_length=60)]


class Stop(_Fixture):
    """A work stop on the end of a vise's fixed jaw: a rod whose tip, of a diameter, faces along the jaws.

    reach: from the jaw's end to the tip, mm; tip_diameter: of the rod, mm.
    """

    kind: Literal["stop"] = "stop"
    reach: Size
    tip_diameter: Size


class VBlock(_Fixture):
    """A block with a vee along x; angle of the vee, width of its mouth and of the relief at its root.

    angle_deg: of the vee; length, width, height: of the block, mm; mouth: width of the vee at the top, mm;
    relief: width of the slot at its root, mm.
    """

    kind: Literal["v_block"] = "v_block"
    angle_deg: Annotated[float, Field(ge=60, le=150)]
    length: Size
    width: Size
    height: Size
    mouth: Size
    relief: Annotated[float, Field(ge=0, le=100)] = 2.0

    @model_validator(mode="after")
    def _vee_lies_within(self) -> VBlock:
        deep = self.mouth / 2 / np.tan(np.radians(self.angle_deg / 2)) + RELIEF_SPARE_MM
        if not self.relief < self.mouth < self.width or deep >= self.height - 2:
            raise ValueError("the vee is wider than the block or goes through it")
        return self


class AnglePlate(_Fixture):
    """An angle plate; its upright face looks along -y and stands in y 0.

    width, height: of the upright face, mm; depth: of the foot, mm; thickness: of both walls, mm.
    """

    kind: Literal["angle_plate"] = "angle_plate"
    width: Size
    height: Size
    depth: Size
    thickness: Size


class Plate(_Fixture):
    """A base plate with holes in a grid: tapped and dowel holes take turns, the first tapped, at the front left.

    length, width, thickness: of the plate, mm; pitch: from hole to hole, mm; edge: from the edge to the first
    row, mm; thread: of the tapped holes; dowel: diameter of the dowel holes, mm.
    """

    kind: Literal["plate"] = "plate"
    length: Size
    width: Size
    thickness: Size
    pitch: Annotated[float, Field(ge=10, le=500)]
    edge: Size
    thread: Thread = "M12"
    dowel: Size = 12.0

    @model_validator(mode="after")
    def _holes_lie_within(self) -> Plate:
        if 2 * self.edge >= min(self.length, self.width) or self.dowel >= self.pitch:
            raise ValueError("the holes do not fit into the plate")
        return self


class Clamp(_Fixture):
    """A strap (on top of the work) or toe (against its side) clamp; force on its bolt, kN.

    Frame: the arm lies along y and its nose looks to +y, with the tip in y 0, z 0 under the nose.
    bolt_from_nose, heel_from_nose: from the tip, mm; they share the bolt's force: the nose gets bolt·(heel - bolt distance)/heel.
    style: strap or toe; length, width, thickness: of the arm, mm; nose: length of the tip that presses, mm;
    thread: of its bolt; force_kn: on the bolt; rise_min, rise_max: heights the nose can stand at over what
    carries the clamp, mm.
    """

    kind: Literal["clamp"] = "clamp"
    style: Literal["strap", "toe"] = "strap"
    length: Size
    width: Size
    thickness: Size
    nose: Size
    bolt_from_nose: Size
    heel_from_nose: Size
    thread: Thread = "M12"
    force_kn: Size
    rise_min: Annotated[float, Field(ge=0, le=1000)] = 0.0
    rise_max: Size = 120.0

    @model_validator(mode="after")
    def _bolt_stands_between(self) -> Clamp:
        if not self.nose <= self.bolt_from_nose < self.heel_from_nose <= self.length:
            raise ValueError("the bolt stands between nose and heel, and the heel within the arm")
        return self


class Riser(_Fixture):
    """Something to stand work on: a step block or rest pad with heights it can take.

    length, width: of its top, mm; heights: those it can take, mm.
    """

    kind: Literal["riser"] = "riser"
    length: Size
    width: Size
    heights: Annotated[tuple[Size, ...], Field(min_length=1, max_length=60)]


class Bolt(_Fixture):
    """A cap screw by ISO 4762: thread and length under the head.

    thread: metric coarse, such as M8; length: under the head, mm.
    """

    kind: Literal["bolt"] = "bolt"
    thread: Thread
    length: Size


class Pin(_Fixture):
    """A locating pin: round, or relieved so that it locates across x only (diamond).

    fit: tolerance class of its diameter by ISO 286. g6 goes into a reamed H7 hole by hand and locates to a few hundredths.
    diameter: nominal, mm; height: over what it stands on, mm; relieved: it locates across x only.
    """

    kind: Literal["pin"] = "pin"
    diameter: Annotated[float, Field(gt=0, le=500)]
    height: Size
    relieved: bool = False
    fit: Annotated[str, Field(max_length=5)] = "g6"

    @model_validator(mode="after")
    def _fit_is_known(self) -> Pin:
        try:
            limits(self.diameter, self.fit)
        except BadInput as bad:
            raise ValueError(f"{bad.what}: {bad.mend}") from bad
        return self


class Chuck(_Fixture):
    """A chuck standing on the table with its axis upright: jaws close on round or square work; force per jaw kN.

    jaws: how many; diameter, height: of the body, mm; bore: through it, mm; jaw_width, jaw_height,
    jaw_length: of one jaw, mm; force_kn: of each jaw.
    """

    kind: Literal["chuck"] = "chuck"
    jaws: Literal[3, 4]
    diameter: Size
    height: Size
    bore: Annotated[float, Field(ge=0, le=1000)]
    jaw_width: Size
    jaw_height: Size
    jaw_length: Size
    force_kn: Size


class ColletBlock(_Fixture):
    """A square or six-sided block with a collet along x for round work, its axis half of `across` up.

    A collet of the work's own size closes on it from all sides; force kN, towards the axis, of all of it together.
    sides: four or six; across: flats of the block, mm; length: along its axis, mm; bore_max: the largest
    work, mm; force_kn: of the whole collet towards the axis.
    """

    kind: Literal["collet_block"] = "collet_block"
    sides: Literal[4, 6]
    across: Size
    length: Size
    bore_max: Size
    force_kn: Size

    @model_validator(mode="after")
    def _collet_lies_within(self) -> ColletBlock:
        if collet_bore(self) >= self.across - 2:
            raise ValueError("the collet is as wide as the block")
        return self


def collet_bore(one: ColletBlock) -> float:
    """Diameter of the hole in a collet block, into which the collet goes, mm; a collet's wall 4 mm: ours."""
    return one.bore_max + 8.0


class Block(_Fixture):
    """A plain block: a custom nest or vee is cut into it.

    length, width, height: of the block, mm; material: what it is made of.
    """

    kind: Literal["block"] = "block"
    length: Size
    width: Size
    height: Size
    material: Annotated[str, Field(max_length=60)] = ""


class Own(_Fixture):
    """The shop's own solid from a STEP or STL file, in the file's own frame.

    file: of the solid; sha256: of its bytes, once known.
    """

    kind: Literal["own"] = "own"
    file: Annotated[str, Field(min_length=1, max_length=200)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None


Fixture = Annotated[
    Vise
    | Jaws
    | Parallels
    | Stop
    | VBlock
    | AnglePlate
    | Plate
    | Clamp
    | Riser
    | Bolt
    | Pin
    | Chuck
    | ColletBlock
    | Block
    | Own,
    Field(discriminator="kind"),
]
_FIXTURES: TypeAdapter[list[Fixture]] = TypeAdapter(list[Fixture])
KIND_NAMES = {
    "vise": "vise",
    "jaws": "jaws",
    "parallels": "parallels",
    "stop": "work stop",
    "v_block": "V-block",
    "angle_plate": "angle plate",
    "plate": "base plate",
    "clamp": "clamp",
    "riser": "step block",
    "bolt": "bolt",
    "pin": "pin",
    "chuck": "chuck",
    "collet_block": "collet block",
    "block": "nest block",
    "own": "own solid",
}


def fixtures_shipped() -> dict[str, Fixture]:
    """The shipped fixtures by id; sizes ours."""
    return {one.id: one for one in _FIXTURES.validate_python(shelf("holding", "fixtures.json"))}


def fixtures_from(rows: Any, where: str = "fixtures") -> list[Fixture]:
    """Fixtures from JSON values. Raises BadInput naming the first field that is wrong."""
    refuse_unkept(rows, where, "hold.library")
    try:
        found = _FIXTURES.validate_python(rows)
    except ValidationError as wrong:
        first = wrong.errors(include_url=False)[0]
        field = "/".join(str(step) for step in first["loc"])
        what, mend = plain(first)
        raise BadInput("hold.library", f"{where}/{field}", what, mend) from wrong
    twice = {one.id for one in found if sum(other.id == one.id for other in found) > 1}
    if twice:
        raise BadInput("hold.library", where, f"two fixtures are called {min(twice)}", "give each its own id")
    return found


def fixtures_from_json(text: bytes, where: str) -> list[Fixture]:
    """Fixtures of a library file. Raises BadInput with the line where the JSON breaks, or the field that is wrong."""
    rows = json_from(text, where, "hold.library")
    return fixtures_from(rows["fixtures"] if isinstance(rows, dict) and "fixtures" in rows else rows, where)


@dataclass(frozen=True)
class Solid:
    """One solid of a fixture in its own frame. name: what a machinist calls it."""

    name: str
    role: Role
    body: manifold3d.Manifold


def cuboid(low: tuple[float, float, float], high: tuple[float, float, float]) -> manifold3d.Manifold:
    """A block low … high, mm."""
    return manifold3d.Manifold.cube([float(b - a) for a, b in zip(low, high, strict=True)]).translate(
        [float(a) for a in low]
    )


def rod(diameter: float, low: float, high: float, x: float = 0.0, y: float = 0.0) -> manifold3d.Manifold:
    """An upright cylinder; its corners lie on the circle, mm."""
    return manifold3d.Manifold.cylinder(high - low, diameter / 2, diameter / 2, ROUND).translate([x, y, low])


def prism(section: list[tuple[float, float]], low: float, high: float) -> manifold3d.Manifold:
    """A section in (y, z), counter-clockwise seen from +x, drawn along x from low to high."""
    upright = manifold3d.CrossSection([section]).extrude(high - low)
    # x, y, z of the drawing become y, z, x.
    return upright.transform(np.array([[0.0, 0, 1, low], [1, 0, 0, 0], [0, 1, 0, 0]]))


def _vise(one: Vise) -> list[Solid]:
    half, back = one.body_width / 2, 0.55 * one.jaw_height
    bed = one.bed_height
    return [
        Solid("fixed block", "body", cuboid((-half, 0, bed), (half, back, bed + one.jaw_height - 3))),
        Solid("vise body", "body", cuboid((-half, back - one.body_length, 0), (half, back, bed))),
    ]


def vise_slide(one: Vise) -> manifold3d.Manifold:
    """The moving block of a vise, its mounting face in y 0, closing towards +y."""
    half, bed = one.body_width / 2, one.bed_height
    return cuboid((-half, -0.7 * one.jaw_height, bed), (half, 0, bed + one.jaw_height - 3))


def jaw(one: Jaws) -> manifold3d.Manifold:
    """One jaw, its back in y 0, its bottom in z 0, gripping face towards -y: the fixed one as it stands."""
    body = cuboid((-one.width / 2, -one.thickness, 0), (one.width / 2, 0, one.height))
    if one.style == "stepped":
        step = cuboid(
            (-one.width, -one.thickness - 1, one.height - one.step_below_top),
            (one.width, -one.thickness + one.step_depth, one.height + 1),
        )
        body -= step
    return body


def _v_block(one: VBlock) -> list[Solid]:
    slope = 1 / np.tan(np.radians(one.angle_deg / 2))
    w, m, r = one.width / 2, one.mouth / 2, one.relief / 2
    root = one.height - (m - r) * slope
    # Deep enough for a sharp edge that lies in the vee.
    deep = root - r * slope - RELIEF_SPARE_MM
    section = [(-w, 0), (w, 0), (w, one.height), (m, one.height), (r, root)]
    section += [(r, deep), (-r, deep)] if r > 0 else []
    section += [(-r, root), (-m, one.height), (-w, one.height)]
    if r == 0:
        section = [
            (-w, 0),
            (w, 0),
            (w, one.height),
            (m, one.height),
            (0.0, root),
            (-m, one.height),
            (-w, one.height),
        ]
    return [
        Solid(
            "V-block",
            "locates",
            prism([(float(a), float(b)) for a, b in section], -one.length / 2, one.length / 2),
        )
    ]


def _angle_plate(one: AnglePlate) -> list[Solid]:
    half = one.width / 2
    upright = cuboid((-half, 0, 0), (half, one.thickness, one.height))
    foot = cuboid((-half, 0, 0), (half, one.depth, one.thickness))
    return [Solid("angle plate", "locates", upright + foot)]


def plate_holes(one: Plate) -> Floats:
    """Places of a plate's holes in its frame, (columns, rows, 2): tapped where column + row is even."""
    columns = int((one.length - 2 * one.edge) / one.pitch + 1e-9) + 1
    rows = int((one.width - 2 * one.edge) / one.pitch + 1e-9) + 1
    x = -one.length / 2 + one.edge + one.pitch * np.arange(columns)
    y = -one.width / 2 + one.edge + one.pitch * np.arange(rows)
    return np.stack(np.meshgrid(x, y, indexing="ij"), axis=-1)


def _plate(one: Plate) -> list[Solid]:
    body = cuboid((-one.length / 2, -one.width / 2, 0), (one.length / 2, one.width / 2, one.thickness))
    drill = SCREWS[one.thread][0] - SCREWS[one.thread][3]
    holes = plate_holes(one)
    tools = [
        manifold3d.Manifold.cylinder(one.thickness + 2, size / 2, size / 2, 24).translate(
            [*map(float, holes[i, j]), -1.0]
        )
        for i in range(holes.shape[0])
        for j in range(holes.shape[1])
        for size in [drill if (i + j) % 2 == 0 else one.dowel]
    ]
    return [
        Solid("base plate", "rests", body - manifold3d.Manifold.batch_boolean(tools, manifold3d.OpType.Add))
    ]


def clamp_arm(one: Clamp) -> manifold3d.Manifold:
    """The arm of a clamp in its frame, without heel and bolt."""
    half, t = one.width / 2, one.thickness
    if one.style == "toe":
        return cuboid((-half, -one.length, 0), (half, 0, t))
    nose = [
        (0.0, 0.0),
        (0.0, 0.5 * t),
        (-one.nose, t),
        (-one.length, t),
        (-one.length, 0.25 * t),
        (-one.nose, 0.25 * t),
        (-one.nose, 0.0),
    ]
    return prism(nose, -half, half)


def _bolt(one: Bolt) -> list[Solid]:
    d, head, height, _ = SCREWS[one.thread]
    return [Solid("bolt", "clamps", rod(d, -one.length, 0) + rod(head, 0, height))]


def _pin(one: Pin) -> list[Solid]:
    body = rod(one.diameter, 0, one.height)
    if one.relieved:
        body ^= cuboid((-one.diameter, -one.diameter / 6, 0), (one.diameter, one.diameter / 6, one.height))
    return [Solid("pin", "locates", body)]


def _chuck(one: Chuck) -> list[Solid]:
    body = rod(one.diameter, 0, one.height)
    return [Solid("chuck body", "rests", body - rod(one.bore, -1, one.height + 1) if one.bore > 0 else body)]


def chuck_jaw(one: Chuck) -> manifold3d.Manifold:
    """One jaw of a chuck: its gripping face in y 0 looking to -y, standing on the body's top."""
    return cuboid(
        (-one.jaw_width / 2, 0, one.height), (one.jaw_width / 2, one.jaw_length, one.height + one.jaw_height)
    )


def _collet_block(one: ColletBlock) -> list[Solid]:
    if one.sides == 4:
        body = cuboid((-one.length / 2, -one.across / 2, 0), (one.length / 2, one.across / 2, one.across))
    else:
        r = one.across / 2 / np.cos(np.radians(30))
        ring = [
            (float(r * np.cos(a)), float(one.across / 2 + r * np.sin(a)))
            for a in np.radians(np.arange(0, 360, 60))
        ]
        body = prism(ring, -one.length / 2, one.length / 2)
    return [Solid("collet block", "body", body - _along_x(one, collet_bore(one), 1.0))]


def _along_x(one: ColletBlock, diameter: float, longer: float) -> manifold3d.Manifold:
    """A rod in the axis of a collet block, longer than it at both ends."""
    body = rod(diameter, -one.length / 2 - longer, one.length / 2 + longer).rotate([0.0, 90.0, 0.0])
    return body.translate([0.0, 0.0, one.across / 2])


def collet_quarters(one: ColletBlock, work: manifold3d.Manifold) -> list[tuple[manifold3d.Manifold, Floats]]:
    """A collet closed on work (block's frame), slit in four; each quarter with the way it presses."""
    ring = _along_x(one, collet_bore(one), 0.0) - work
    middle, half = one.across / 2, collet_bore(one)
    for turn in (45.0, 135.0):
        slit = cuboid((-one.length, -half, -0.5), (one.length, half, 0.5)).rotate([turn, 0.0, 0.0])
        ring -= slit.translate([0.0, 0.0, middle])
    out = []
    for piece in sorted(ring.decompose(), key=lambda p: -p.volume())[:4]:
        box = piece.bounding_box()
        at = np.array([0.0, (box[1] + box[4]) / 2, (box[2] + box[5]) / 2 - middle])
        way = np.zeros(3)
        way[int(np.argmax(np.abs(at)))] = -np.sign(at[int(np.argmax(np.abs(at)))])
        out.append((piece, way))
    return out


_SOLIDS: dict[type, Callable[[Any], list[Solid]]] = {
    Vise: _vise,
    VBlock: _v_block,
    AnglePlate: _angle_plate,
    Plate: _plate,
    Bolt: _bolt,
    Pin: _pin,
    Chuck: _chuck,
    ColletBlock: _collet_block,
}


def solids(one: Fixture, height: float | None = None) -> list[Solid]:
    """The solids of a fixture that stand by themselves. height: of a riser or parallel, which have several."""
    if isinstance(one, (Parallels, Riser)):
        tall = one.heights[0] if height is None else height
        wide = one.thickness if isinstance(one, Parallels) else one.width
        body = cuboid((-one.length / 2, -wide / 2, 0), (one.length / 2, wide / 2, tall))
        return [Solid("parallel" if isinstance(one, Parallels) else "step block", "rests", body)]
    if isinstance(one, Jaws):
        return [Solid("jaw", "locates", jaw(one))]
    if isinstance(one, Clamp):
        return [Solid("clamp", "clamps", clamp_arm(one))]
    if isinstance(one, Stop):
        return [Solid("stop", "locates", stop_rod(one))]
    if isinstance(one, Block):
        return [
            Solid(
                "nest",
                "locates",
                cuboid((-one.length / 2, -one.width / 2, 0), (one.length / 2, one.width / 2, one.height)),
            )
        ]
    return _SOLIDS[type(one)](one) if type(one) in _SOLIDS else []


def stop_rod(one: Stop) -> manifold3d.Manifold:
    """The rod of a stop, its tip in x 0 looking to -x, its axis along x in y = z = 0."""
    bar = manifold3d.Manifold.cylinder(one.reach, one.tip_diameter / 2, one.tip_diameter / 2, ROUND)
    return bar.rotate([0.0, 90.0, 0.0])


def picture_solids(one: Fixture) -> list[Solid]:
    """The whole fixture for its picture in the library: a vise with its moving block, a chuck with its jaws."""
    out = solids(one)
    if isinstance(one, Vise):
        out.append(
            Solid("moving block", "body", vise_slide(one).translate([0.0, -0.45 * one.opening_max, 0.0]))
        )
    if isinstance(one, Chuck):
        for k in range(one.jaws):
            turned = (
                chuck_jaw(one)
                .translate([0.0, max(one.bore / 2, 6.0), 0.0])
                .rotate([0.0, 0.0, 360.0 * k / one.jaws])
            )
            out.append(Solid("jaw", "clamps", turned))
    if isinstance(one, Jaws):
        out.append(
            Solid(
                "jaw",
                "clamps",
                jaw(one).rotate([0.0, 0.0, 180.0]).translate([0.0, -2 * one.thickness - 40.0, 0.0]),
            )
        )
    if isinstance(one, ColletBlock):
        bar = _along_x(one, 0.6 * one.bore_max, 5.0)
        out += [Solid("collet", "clamps", quarter) for quarter, _ in collet_quarters(one, bar)]
    if isinstance(one, Parallels):
        out = [
            Solid("parallel", "rests", s.body.translate([0.0, 2.2 * one.thickness * i, 0.0]))
            for i, tall in enumerate(one.heights)
            for s in solids(one, tall)
        ]
    return out
