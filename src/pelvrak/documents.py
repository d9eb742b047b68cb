"""A plan's document on disk, and everything computed from it, for the commands."""

from __future__ import annotations

import hashlib
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from pelvrak.core.errors import BadInput

if TYPE_CHECKING:
    from pelvrak.core.billet.forms import Files
    from pelvrak.core.engine.store import MemoryStore
    from pelvrak.core.route.plan import Plan
    from pelvrak.core.route.report import Report


def file_at(path: Path) -> bytes:
    """The bytes of a file. Raises BadInput where it is not there."""
    try:
        return path.read_bytes()
    except OSError as wrong:
        raise BadInput(
            "file.unreadable", str(path), wrong.strerror or str(wrong), "give the path of a file"
        ) from wrong


def computed(
    path: Path,
    quiet: bool = True,
    error: float | None = None,
    until: str | None = None,
    jaws: bool = False,
    only: Plan | None = None,
) -> tuple[Plan, MemoryStore, Report]:
    """A plan document with everything computed from it, or all up to a setup (which has to grip in solved
    jaws). only: a plan in the document's place.
    """
    from pelvrak.core.route.plan import plan_from, plan_from_json

    plan = only or plan_from_json(file_at(path), str(path))
    if until is not None:
        plan = cut_off(plan, until, jaws)
    # What computes takes seconds to load: not before the plan is known to be one.
    from pelvrak.core.engine.store import MemoryStore
    from pelvrak.core.route.evaluate import Beside, evaluate
    from pelvrak.core.route.pieces import cell_within

    if error is not None:
        plan = plan_from({**plan.model_dump(), "resolution_mm": round(cell_within(error), 4)}, "--error")
    part = part_of(path, plan)

    def progress(share: float, what: str) -> bool:
        if not quiet:
            print(f"{share:4.0%} {what}", file=sys.stderr)
        return True

    store = MemoryStore()

    def others(name: str) -> tuple[Plan, bytes, Files]:
        there = path.parent / name
        other = plan_from_json(file_at(there), str(there))
        return other, part_of(there, other), lambda _, file: file_at(there.parent / file)

    def files(_: str | None, name: str) -> bytes:
        return file_at(path.parent / name)

    report = evaluate(plan, part, store, progress, Beside(files, others))
    return plan, store, report


def part_of(path: Path, plan: Plan) -> bytes:
    """The part's file beside a plan's document. Raises BadInput where it is not the one it was made for."""
    part = file_at(path.parent / plan.part.file)
    sha256 = hashlib.sha256(part).hexdigest()
    if plan.part.sha256 not in (None, sha256):
        raise BadInput(
            "part.changed",
            plan.part.file,
            "the part file is not the one this plan was made for",
            "put the right file beside the plan, or clear part.sha256",
        )
    return part


def piece_in(store: MemoryStore, key: str, name: str) -> bytes:
    """A piece of a result, by its name."""
    from pelvrak.core.route.pictures import piece_of

    data = piece_of(store, key, name)
    assert data is not None
    return data


def cut_off(plan: Plan, name: str, jaws: bool) -> Plan:
    """The plan up to a setup."""
    for i, setup in enumerate(plan.setups):
        if setup.name == name:
            if jaws and not any(item.cut for item in setup.hold.items):
                raise BadInput(
                    "jaws.none",
                    "--setup",
                    f"{name} does not grip in solved jaws",
                    "give an item of its holding a `cut`",
                )
            return plan.model_copy(update={"setups": plan.setups[: i + 1]})
    raise BadInput(
        "hold.unknown_setup",
        "--setup",
        f"there is no setup {name!r}",
        "one of " + ", ".join(s.name for s in plan.setups),
    )
