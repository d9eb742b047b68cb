"""Which steps does a route consist of? All of them, each with its version."""

from __future__ import annotations

from typing import Any

from pelvrak.core.engine.digest import digest_of
from pelvrak.core.engine.step import Kind
from pelvrak.core.route import (
    billets,
    clearance,
    comparing,
    holding,
    incoming,
    jaws,
    load_checks,
    load_neighbours,
    load_program,
    pictures,
    planning,
    programs,
    proving,
    reaching,
    run,
    setting,
    simulate,
    swinging,
    texts,
    told,
    wrongly,
)

_MODULES = (
    run,
    billets,
    pictures,
    holding,
    incoming,
    jaws,
    clearance,
    planning,
    simulate,
    setting,
    swinging,
    texts,
    told,
    wrongly,
    programs,
    proving,
    reaching,
    comparing,
    load_checks,
    load_neighbours,
    load_program,
)
STEPS: dict[str, Kind[Any]] = {
    one.name: one for module in _MODULES for one in vars(module).values() if isinstance(one, Kind)
}


def route_version() -> str:
    """One name for all versions: a report that was made by others is told anew."""
    return digest_of((run.REPORT_VERSION, sorted((one.name, one.version) for one in STEPS.values())))[:12]
