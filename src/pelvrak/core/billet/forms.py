"""What is the part cut from, and where does it lie round the part?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import manifold3d
import numpy as np
from pydantic import Discriminator, Field, Tag
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation
from shapely import MultiPoint, minimum_bounding_circle, minimum_bounding_radius

from pelvrak.core.billet.block import AXES, MATERIAL, Block, block_of
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.mesh import Floats, Mesh, box, mesh_of
from pelvrak.core.geometry.part import FaceRef, Frozen, PartModel
from pelvrak.core.stock.field import Grid, RayField, loaded_checked, unmarked
from pelvrak.core.stock.profile import Profile
from pelvrak.core.stock.shapes import field_of_block, field_of_mesh, field_of_profile, minus
from pelvrak.core.stock.surface import surface

if TYPE_CHECKING:
    from pelvrak.core.geometry.outline import Outline

Axis = Literal["x", "y", "z"]
Allowance = Annotated[float, Field(ge=-500, le=500)]
Size = Annotated[float, Field(gt=0, le=2000)]
Sha256 = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
FileName = Annotated[str, Field(min_length=1, max_length=200)]
DRAWN_FACETS = 96
FILE: Any = asked(title="File", help="it is read from", widget="none")
SHA256: Any = asked(None, title="SHA-256", help="of the file's bytes, once known", widget="none")
# How bars and profiles lie along an axis.
LONG: Any = asked("z", title="Along", help="the part's axis it lies along")
BEFORE: Any = asked(5.0, title="Beyond −", help="length beyond the part where the axis begins", unit="mm")
BEYOND: Any = asked(2.0, title="Beyond +", help="length beyond the part where the axis ends", unit="mm")
ASIDE: Any = asked(
    (0.0, 0.0),
    title="Shift",
    help="from the part's middle, along the two axes that follow",
    unit="mm",
    parts={"x": ("y", "z"), "y": ("z", "x"), "z": ("x", "y")},
)
# Bytes of a file the plan names, by its hash and name.
Files = Callable[[str | None, str], bytes]


class Bar(Frozen):
    """A round bar, or a tube with a bore, along an axis of the part.

    Without a diameter the smallest that covers the part with `allowance` all round; shifted from the middle
    of the smallest circle round the part, in the order of the other two axes after `axis`, mm. material: by
    its name in the list of materials.
    """

    called: ClassVar[str] = "round bar or tube"
    reads: ClassVar[str] = ""
    holds: ClassVar[str] = ""

    kind: Literal["bar"] = "bar"
    material: str = MATERIAL
    diameter: Size | None = asked(
        None,
        title="Diameter",
        help="as bought; the smallest that covers the part where none is given",
        unit="mm",
        empty="smallest that covers",
    )
    allowance: Allowance = asked(
        2.0,
        title="All round",
        help="added round the part where no diameter is given",
        unit="mm",
        when={"diameter": ["none"]},
    )
    bore: Annotated[float, Field(ge=0, le=2000)] = asked(
        0.0, title="Bore", help="of a tube; 0 for a solid bar", unit="mm"
    )
    axis: Axis = LONG
    minus: Allowance = BEFORE
    plus: Allowance = BEYOND
    shift: tuple[Allowance, Allowance] = ASIDE


class Extrusion(Frozen):
    """A sawn-off length of a profile, its outline from a DXF file, along an axis of the part.

    Shifted from where `place` puts it, in the order of the other two axes after `axis`, mm. material: by its
    name in the list of materials; file: of the outline, a DXF; sha256: of its bytes, once known.
    """

    called: ClassVar[str] = "length of a profile (DXF)"
    reads: ClassVar[str] = ".dxf"
    holds: ClassVar[str] = "outline"

    kind: Literal["extrusion"] = "extrusion"
    material: str = MATERIAL
    file: FileName = FILE
    sha256: Sha256 | None = SHA256
    place: Literal["middle", "drawn"] = asked(
        "middle",
        title="Placed",
        help="the outline's middle on the part's, or the drawing's coordinates taken as the part's",
        called={"middle": "middle on the part", "drawn": "as drawn"},
    )
    axis: Axis = LONG
    minus: Allowance = BEFORE
    plus: Allowance = BEYOND
    shift: tuple[Allowance, Allowance] = ASIDE


class FaceWeight(Frozen):
    """A face that is to have more cover than others, or less.

    face: of the part; times: as much as a face that is not named.
    """

    face: FaceRef
    times: Annotated[float, Field(ge=0.1, le=20)] = 2.0


class Model(Frozen):
    """A casting, forging or printed shape from a STEP, STL or 3MF file.

    material: by its name in the list of materials; file: of the shape; sha256: of its bytes, once known;
    weights: faces whose cover counts otherwise when the best place is looked for.
    """

    called: ClassVar[str] = "casting, forging, print (STEP, STL, 3MF)"
    reads: ClassVar[str] = ".step,.stp,.stl,.3mf"
    holds: ClassVar[str] = "part"

    kind: Literal["model"] = "model"
    material: str = MATERIAL
    file: FileName = FILE
    sha256: Sha256 | None = SHA256
    turn: tuple[float, float, float] = asked(
        (0.0, 0.0, 0.0),
        title="Turn about",
        help="the part's x, then y, then z, through the file's origin",
        unit="°",
        parts=AXES,
    )
    move: tuple[Allowance, Allowance, Allowance] = asked(
        (0.0, 0.0, 0.0), title="Move along", help="afterwards", unit="mm", parts=AXES
    )
    scale: Annotated[float, Field(gt=0, le=1000)] = asked(
        1.0, title="Times", help="all its lengths, before it is turned: 25.4 for inches read as mm"
    )
    weights: Annotated[tuple[FaceWeight, ...], Field(max_length=200)] = asked(
        (), title="Faces that need more", help="cover, so many times as much as others", widget="none"
    )


class KeptStock(Frozen):
    """An in-process stock that was saved, where it was saved.

    material: by its name in the list of materials; file: of the saved stock; sha256: of its bytes, once
    known.
    """

    called: ClassVar[str] = "saved stock (.rays)"
    reads: ClassVar[str] = ".rays"
    holds: ClassVar[str] = "stock"

    kind: Literal["stock"] = "stock"
    material: str = MATERIAL
    file: FileName = FILE
    sha256: Sha256 | None = SHA256


def _kind(value: Any) -> str:
    """The kind of a billet; plans of the first form knew blocks alone and did not say so."""
    kind = value.get("kind", "block") if isinstance(value, dict) else getattr(value, "kind", "")
    return str(kind)


Billet = Annotated[
    Annotated[Block, Tag("block")]
    | Annotated[Bar, Tag("bar")]
    | Annotated[Extrusion, Tag("extrusion")]
    | Annotated[Model, Tag("model")]
    | Annotated[KeptStock, Tag("stock")],
    Discriminator(_kind),
]


BilletKind = type[Block | Bar | Extrusion | Model | KeptStock]
KINDS: tuple[BilletKind, ...] = (Block, Bar, Extrusion, Model, KeptStock)


@dataclass(frozen=True)
class Raw:
    """The billet's box in the part's frame, mm, how its field is made on a grid, and how its surface, to be
    drawn.
    """

    low: Floats
    high: Floats
    field: Callable[[Grid], RayField]
    surface: Callable[[], Mesh]


def raw_of(billet: Billet, part: PartModel, files: Files, meshes: Callable[[bytes, str], Mesh]) -> Raw:
    """The billet as it lies round the part. meshes: the mesh of a part file's bytes.

    Raises BadInput when its file or its sizes cannot be used.
    """
    if isinstance(billet, Block):
        low, high = (np.array(end) for end in block_of(billet, part.part))
        return Raw(low, high, lambda grid: field_of_block(grid, low, high), lambda: box(low, high))
    if isinstance(billet, Bar):
        return _bar(billet, part)
    data = files(billet.sha256, billet.file)
    if isinstance(billet, Extrusion):
        # What reads drawings takes a third of a second to load.
        from pelvrak.core.geometry.outline import read_outline

        return _extrusion(billet, part, read_outline(data, billet.file))
    if isinstance(billet, Model):
        return _of_mesh(placed(meshes(data, billet.file), billet))
    return _kept(data, billet.file)


def placed(mesh: Mesh, model: Model) -> Mesh:
    """A model billet's mesh where it lies round the part."""
    turn = Rotation.from_euler("xyz", model.turn, degrees=True).as_matrix()
    return Mesh(
        model.scale * mesh.vertices @ turn.T + np.array(model.move), mesh.triangles, np.zeros_like(mesh.label)
    )


def _of_mesh(mesh: Mesh) -> Raw:
    used = mesh.vertices[np.unique(mesh.triangles)]
    return Raw(used.min(axis=0), used.max(axis=0), lambda grid: field_of_mesh(grid, mesh), lambda: mesh)


def _lengthwise(
    axis: Axis, part: PartModel, minus_: float, plus: float
) -> tuple[int, int, int, float, float]:
    """Axis numbers (along, first across, second across) and the ends along it; refuses a length of
    nothing.
    """
    d = "xyz".index(axis)
    low, high = part.part.low[d] - minus_, part.part.high[d] + plus
    if high - low < 0.01:
        raise BadInput(
            "billet.no_length",
            "billet",
            f"the billet is {high - low:.3f} mm long",
            "give larger allowances at its ends",
        )
    return d, (d + 1) % 3, (d + 2) % 3, low, high


def circle_round(part: PartModel, axis: Axis) -> tuple[float, float, float]:
    """Middle (of the two axes after `axis`) and diameter of the smallest circle round the part seen along an
    axis, mm.
    """
    d = "xyz".index(axis)
    flat = part.mesh.vertices[:, [(d + 1) % 3, (d + 2) % 3]]
    points = MultiPoint(flat[ConvexHull(flat).vertices])
    middle = minimum_bounding_circle(points).centroid
    return float(middle.x), float(middle.y), 2 * float(minimum_bounding_radius(points))


def _bar(bar: Bar, part: PartModel) -> Raw:
    d, u, v, start, end = _lengthwise(bar.axis, part, bar.minus, bar.plus)
    x, y, around = circle_round(part, bar.axis)
    diameter = bar.diameter if bar.diameter is not None else around + 2 * bar.allowance
    if not diameter > 0.01:
        raise BadInput(
            "billet.no_diameter",
            "billet.diameter",
            f"a bar of {diameter:.3f} mm has no meaning",
            "give a larger allowance",
        )
    if bar.bore >= diameter:
        raise BadInput(
            "billet.no_wall",
            "billet.bore",
            f"a bore of {bar.bore:g} mm leaves nothing of a Ø{diameter:g} mm tube",
            "give a smaller bore",
        )
    low, high = np.zeros(3), np.zeros(3)
    low[[u, v]] = np.array([x, y]) + bar.shift - diameter / 2
    high[[u, v]] = low[[u, v]] + diameter
    low[d], high[d] = start, end
    tip, way = (low + high) / 2, np.eye(3)[d]
    tip[d] = start

    def field(grid: Grid) -> RayField:
        full = field_of_profile(grid, Profile((0.0, end - start), (diameter / 2,) * 2), tip, way)
        if bar.bore <= 0:
            return full
        # Longer than the tube, so that its ends are open.
        begin = tip - way
        return minus(
            full, field_of_profile(grid, Profile((0.0, end - start + 2), (bar.bore / 2,) * 2), begin, way)
        )

    def drawn() -> Mesh:
        radii = [diameter / 2] if bar.bore <= 0 else [diameter / 2, bar.bore / 2]
        rings = [manifold3d.CrossSection.circle(radius, DRAWN_FACETS) for radius in radii]
        flat = rings[0] if len(rings) == 1 else rings[0] - rings[1]
        return _stood(
            mesh_of(flat.translate(((low + high) / 2)[[u, v]]).extrude(end - start)), (u, v, d), start
        )

    return Raw(low, high, field, drawn)


def _stood(flat: Mesh, axes: tuple[int, int, int], start: float) -> Mesh:
    """What was raised along z from 0, along another axis from `start`. axes: where its x, y and z come to
    lie.
    """
    vertices = np.zeros_like(flat.vertices)
    vertices[:, list(axes)] = flat.vertices + [0, 0, start]
    return Mesh(vertices, flat.triangles, np.zeros(len(flat.triangles), np.int64))


def _extrusion(spec: Extrusion, part: PartModel, outline: Outline) -> Raw:
    d, u, v, start, end = _lengthwise(spec.axis, part, spec.minus, spec.plus)
    low, high = np.array(outline.region.bounds).reshape(2, 2)
    shift = np.array(spec.shift, float)
    if spec.place == "middle":
        across = np.array([[part.part.low[i], part.part.high[i]] for i in (u, v)])
        shift = shift + across.mean(axis=1) - (low + high) / 2
    rings = [
        np.array(ring.coords)[:-1] + shift
        for shape in outline.region.geoms
        for ring in (shape.exterior, *shape.interiors)
    ]
    solid = manifold3d.Manifold.extrude(
        manifold3d.CrossSection(rings, manifold3d.FillRule.EvenOdd), end - start
    )
    return _of_mesh(_stood(mesh_of(solid), (u, v, d), start))


def looks_like_stock(data: bytes) -> bool:
    """Whether bytes may be a saved stock (Zstandard's magic number, RFC 8878)."""
    return data[:4] == b"\x28\xb5\x2f\xfd"


def check_stock(data: bytes, name: str) -> RayField:
    """A saved stock. Raises BadInput "billet.not_stock"."""
    try:
        return loaded_checked(data)
    except MemoryError:
        raise
    except Exception as broken:
        why = f": {broken}" if type(broken) is ValueError else ""
        raise BadInput(
            "billet.not_stock",
            name,
            f"the file is not a stock that Pelvrak has saved, or it is damaged{why}",
            "choose a .rays file that an evaluation has written",
        ) from broken


def _kept(data: bytes, name: str) -> Raw:
    field = check_stock(data, name)
    mesh = surface(field)
    if not len(mesh.triangles):
        raise BadInput("billet.no_stock", name, "there is nothing left in this stock", "choose another")
    raw = _of_mesh(mesh)
    # On its own grid it is taken as it is, bit for bit; who cut it there made nothing here.
    return Raw(
        raw.low,
        raw.high,
        lambda grid: unmarked(field) if grid.cell == field.grid.cell else raw.field(grid),
        raw.surface,
    )
