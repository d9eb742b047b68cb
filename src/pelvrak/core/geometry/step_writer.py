"""Exact solids as a STEP file, for the protected processes that make them."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from pathlib import Path

from OCP.Interface import Interface_Static
from OCP.Message import Message
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopoDS import TopoDS_Shape


def step_bytes(solids: Iterable[TopoDS_Shape], called: str | None = None) -> bytes:
    """STEP AP214, mm. called: what the product is named."""
    for printer in list(Message.DefaultMessenger_s().Printers()):
        Message.DefaultMessenger_s().RemovePrinter(printer)
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPControl_Writer()
    if called is not None:
        Interface_Static.SetCVal_s("write.step.product.name", called)
    for solid in solids:
        writer.Transfer(solid, STEPControl_StepModelType.STEPControl_AsIs)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "solids.step"
        writer.Write(str(path))
        return path.read_bytes()
