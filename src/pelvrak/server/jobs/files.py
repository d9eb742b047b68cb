"""What is an uploaded file? Read by a process of its own, and what was found kept. Loading it takes seconds;
the workers of routes do without.
"""

from __future__ import annotations

from typing import Any

from pelvrak.core.billet.forms import looks_like_stock
from pelvrak.core.engine.engine import Engine
from pelvrak.core.geometry.outline import looks_like_dxf
from pelvrak.core.geometry.protected import protected
from pelvrak.core.route.run import part_result
from pelvrak.server.db.store import DatabaseStore

BILLET_READER = "pelvrak.core.billet.billet_reader"


def read_file(body: bytes, name: str) -> dict[str, Any]:
    """The columns that say what a file is. Raises BadInput and SeveralSolids."""
    outcome: dict[str, Any] = {"status": "ready", "problem": None}
    if looks_like_dxf(body):
        protected(BILLET_READER, ["outline"], body, name)
        outcome["kind"] = "outline"
    elif looks_like_stock(body):
        protected(BILLET_READER, ["stock"], body, name)
        outcome["kind"] = "stock"
    else:
        outcome["key"] = part_result(body, name, Engine(DatabaseStore())).key
    return outcome
