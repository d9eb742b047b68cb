"""What does a stock look like? Its surface and its picture, made when a step needs them or somebody looks."""

from __future__ import annotations

from dataclasses import dataclass

from pelvrak.core.engine.engine import Engine, Result
from pelvrak.core.engine.step import Content, Pieces, Reads, Step
from pelvrak.core.engine.store import Store
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import Mesh, crease_lines, volume
from pelvrak.core.route.pieces import FACTS, FIELD, JOIN_MM, PICTURE, SIMPLIFY_MM, SURFACE
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.surface import simplified, surface


@dataclass(frozen=True)
class SurfaceGiven:
    """A stock on its rays."""

    stock: Content


@dataclass(frozen=True)
class PictureGiven:
    """A stock's surface."""

    surface: Content


def drawn(stock: RayField) -> Mesh:
    """The surface of a stock, simplified."""
    return simplified(surface(stock, JOIN_MM), SIMPLIFY_MM - JOIN_MM)


def _surface(given: SurfaceGiven, reads: Reads) -> Pieces:
    return {SURFACE: drawn(reads.read(given.stock, FIELD))}


def _picture(given: PictureGiven, reads: Reads) -> Pieces:
    mesh = reads.read(given.surface, SURFACE)
    return {PICTURE: to_glb(mesh, crease_lines(mesh, by_label=False))}


STOCK_SURFACE = Step("surface", 1, SurfaceGiven, _surface)
STOCK_PICTURE = Step("picture", 1, PictureGiven, _picture)


def _volume(given: SurfaceGiven, reads: Reads) -> Pieces:
    return {FACTS: {"volume_mm3": volume(surface(reads.read(given.stock, FIELD), JOIN_MM))}}


STOCK_VOLUME = Step("volume", 1, SurfaceGiven, _volume)


def volume_of(engine: Engine, key: str) -> float:
    """The volume of the stock that a result holds, mm³: of its surface before it is simplified."""
    given = SurfaceGiven(Result(key, engine).content(FIELD))
    return float(engine.run(STOCK_VOLUME, given, "volume").value(FACTS)["volume_mm3"])


def surface_of(engine: Engine, key: str) -> Result:
    """The surface of the stock that a result holds. Raises LookupError when it holds none."""
    return engine.run(STOCK_SURFACE, SurfaceGiven(Result(key, engine).content(FIELD)), "surface")


def piece_of(store: Store, key: str, name: str) -> bytes | None:
    """A piece of a result; the surface and the picture of a stock are made when they are asked for. None when
    there is none.
    """
    found = store.get(key, name)
    if found is not None or name not in (SURFACE.name, PICTURE.name) or store.digest(key, FIELD.name) is None:
        return found
    engine = Engine(store)
    made = surface_of(engine, key)
    if name == PICTURE.name:
        made = engine.run(STOCK_PICTURE, PictureGiven(made.content(SURFACE)), "picture")
    return store.get(made.key, name)
