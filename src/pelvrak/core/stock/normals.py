"""How is a direction kept in four bytes? By the octahedral map (Cigolle et al., JCGT 3(2), 2014)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
_CODE = 32767.0


def decoded(codes: NDArray[np.int16]) -> Floats:
    """Octahedral int16 pairs (n, 2) as unit vectors (n, 3), as `decode_normal` does."""
    a, b = codes[:, 0] / _CODE, codes[:, 1] / _CODE
    z = 1 - np.abs(a) - np.abs(b)
    under = z < 0
    first = np.where(under, (1 - np.abs(b)) * np.where(a >= 0, 1.0, -1.0), a)
    second = np.where(under, (1 - np.abs(a)) * np.where(b >= 0, 1.0, -1.0), b)
    out = np.column_stack([first, second, z])
    unit: Floats = out / np.linalg.norm(out, axis=1, keepdims=True)
    return unit


def encoded(ways: Floats) -> NDArray[np.int16]:
    """Unit vectors (n, 3) as octahedral int16 pairs (n, 2), as `encode_normal` does; none stays none."""
    total = np.abs(ways).sum(axis=1)
    a, b = (ways[:, k] / np.where(total > 0, total, 1.0) for k in (0, 1))
    under = ways[:, 2] < 0
    first = np.where(under, (1 - np.abs(b)) * np.where(a >= 0, 1.0, -1.0), a)
    second = np.where(under, (1 - np.abs(a)) * np.where(b >= 0, 1.0, -1.0), b)
    return np.rint(np.column_stack([first, second]) * _CODE).astype(np.int16)
