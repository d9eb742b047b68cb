"""The protected process that looks at DXF outlines and saved stocks before anything else does."""

from __future__ import annotations

from pelvrak.core.billet.forms import check_stock
from pelvrak.core.geometry.outline import read_outline


def read(data: bytes, name: str, words: list[str]) -> bytes:
    """Nothing: only whether it can be read."""
    if words[0] == "outline":
        read_outline(data, name)
    else:
        check_stock(data, name)
    return b"ok"
