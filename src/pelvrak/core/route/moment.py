"""How does the work look at one moment of an operation, for a picture that is dragged along time?"""

from __future__ import annotations

from cachetools import LRUCache

from pelvrak.core.engine.store import Store
from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.glb import to_glb
from pelvrak.core.geometry.mesh import crease_lines
from pelvrak.core.stock.field import Floats, RayField, loaded
from pelvrak.core.stock.moments import Moments, cut_at, moments_loaded, move_at, stock_at
from pelvrak.core.stock.surface import simplified, surface

# A picture that is gone in a moment may be coarser than one that stays.
COARSE_MM = 0.04
# Incoming stocks that are at hand, bytes in all; a larger one is loaded each time.
FIELDS_BYTES = 1024**3
MOST_OPERATIONS = 64


def _bytes_of(field: RayField) -> int:
    return sum(b.count.nbytes + b.position.nbytes + b.normal.nbytes + b.maker.nbytes for b in field.bundles)


class MomentReader:
    """Stocks at moments, out of a store of results; what was looked at last stays at hand."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.fields: LRUCache[str, RayField] = LRUCache(FIELDS_BYTES, getsizeof=_bytes_of)
        self.moments: LRUCache[str, tuple[str, Moments]] = LRUCache(MOST_OPERATIONS)

    def _piece(self, key: str, name: str) -> bytes:
        data = self.store.get(key, name)
        if data is None:
            raise LookupError(key)
        return data

    def _moments(self, key: str) -> tuple[str, Moments]:
        found = self.moments.get(key)
        if found is None:
            found = self._piece(key, "incoming").decode(), moments_loaded(self._piece(key, "moments"))
            self.moments[key] = found
        return found

    def cut_at(self, key: str, place: Floats) -> float | None:
        """When the operation whose result this is cut a place (work frame, mm) away, s; None where it did
        not. Raises LookupError for a result that is not kept.
        """
        return cut_at(self._moments(key)[1], place)

    def stock(self, key: str, seconds: float) -> RayField:
        """The stock so many seconds into the operation whose result this is. Raises LookupError for a result
        that is not kept.
        """
        incoming, moments = self._moments(key)
        field = self.fields.get(incoming)
        if field is None:
            data = self.store.content(incoming)
            if data is None:
                raise LookupError(key)
            field = loaded(data)
            if _bytes_of(field) <= FIELDS_BYTES:
                self.fields[incoming] = field
        return stock_at(field, moments, move_at(moments, seconds))

    def picture(self, key: str, seconds: float) -> bytes:
        """The same as glTF binary. Raises BadInput when nothing is left to show."""
        mesh = simplified(surface(self.stock(key, seconds), COARSE_MM), COARSE_MM)
        if len(mesh.triangles) == 0:
            raise BadInput("stock.none", "stock", "nothing stands at that moment", "look at an earlier one")
        return to_glb(mesh, crease_lines(mesh))
