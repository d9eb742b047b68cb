"""How does the work look at one moment of an operation, for a picture that is dragged along time?"""

from __future__ import annotations

from pelvrak.core.geometry.mesh import crease_lines, to_glb
from pelvrak.core.stock.field import RayField
from pelvrak.core.stock.moments import Moments, move_at, stock_at
from pelvrak.core.stock.surface import simplified, surface

# A picture that is gone in a moment may be coarser than one that stays.
COARSE_MM = 0.04


def picture_at(incoming: RayField, moments: Moments, seconds: float) -> bytes:
    """glTF binary of the stock so many seconds into an operation that found `incoming`."""
    stock = stock_at(incoming, moments, move_at(moments, seconds))
    mesh = simplified(surface(stock, COARSE_MM), COARSE_MM)
    return to_glb(mesh, crease_lines(mesh))
