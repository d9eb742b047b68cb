"""What does a STEP file hold? Asked of a process of its own, so that Open CASCADE is loaded only there."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from pelvrak.core.errors import BadInput, SeveralSolids
from pelvrak.core.geometry.part import PartModel, unpacked

SIZE_LIMIT_BYTES = 64 * 1024**2
TIME_LIMIT_S = 120.0
REFUSED, SEVERAL = 3, 5


def read_step(data: bytes, name: str = "part.step") -> PartModel:
    """The part in a STEP file (ISO 10303-21), in mm whatever unit the file uses.

    The file is read in a process of its own: one that crashes or hangs the reader is reported and
    nothing else happens. Raises BadInput ("part.empty", "part.too_large", "part.not_step",
    "part.unreadable", "part.no_solid", "part.crashed", "part.too_slow"), and SeveralSolids.
    """
    return unpacked(_protected(data, name, "read"))


def step_of_solid(data: bytes, name: str, solid: int) -> bytes:
    """One solid of a STEP file, by its number in the list of SeveralSolids, as a STEP file of its own (AP214, mm)."""
    return _protected(data, name, str(solid))


def _protected(data: bytes, name: str, what: str) -> bytes:
    refuse_by_look(data, name)
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "part.step", Path(folder) / "out"
        source.write_bytes(data)
        command = [sys.executable, "-m", "pelvrak.core.geometry.step_reader", str(source), str(target), name, what]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=TIME_LIMIT_S, check=False)
        except subprocess.TimeoutExpired as late:
            raise BadInput(
                "part.too_slow", name, f"reading took longer than {TIME_LIMIT_S:.0f} s", "export a simpler solid"
            ) from late
        if done.returncode == SEVERAL:
            raise SeveralSolids(name, json.loads(target.read_bytes()))
        if done.returncode == REFUSED:
            code, what, mend = done.stderr.strip().splitlines()[-1].split("|")
            raise BadInput(code, name, what, mend)
        if done.returncode != 0 or not target.exists():
            raise BadInput(
                "part.crashed",
                name,
                f"the reader broke down on this file (exit {done.returncode})",
                "export the part again as STEP AP214 or AP242",
            )
        return target.read_bytes()


def refuse_by_look(data: bytes, name: str) -> None:
    """Refuse what cannot be a STEP file of one part without reading it: "part.empty", "part.too_large", "part.not_step"."""
    if not data:
        raise BadInput("part.empty", name, "the file is empty", "choose the exported STEP file")
    if len(data) > SIZE_LIMIT_BYTES:
        raise BadInput(
            "part.too_large",
            name,
            f"the file has {len(data) / 1024**2:.0f} MiB, the limit is {SIZE_LIMIT_BYTES // 1024**2} MiB",
            "export the single part, not the assembly",
        )
    if b"ISO-10303-21" not in data[:1024]:
        raise BadInput(
            "part.not_step", name, "this is not a STEP file: one begins with ISO-10303-21",
            "export the part as STEP (AP203, AP214 or AP242)",
        )  # fmt: skip
