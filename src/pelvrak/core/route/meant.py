"""Which cuts go into the part as it is drawn, and are meant to: engraving, edges broken?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pelvrak.core.cutting.standing import UP
from pelvrak.core.cutting.toolpath import chords
from pelvrak.core.cutting.tools import Tool, cutter_profile
from pelvrak.core.engine.step import Content, Reads
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.rigid import inverse, moved, turned
from pelvrak.core.route.pieces import PATH
from pelvrak.core.stock.cut import CUT, Sweep


@dataclass(frozen=True)
class MeantGiven:
    """One such cut. zero_from_work: of the plane it is cut in; maker: the number on the surfaces it makes."""

    path: Content
    zero_from_work: Floats
    tool: Tool
    maker: int


def meant_sweep(given: MeantGiven, reads: Reads) -> Sweep:
    """What it takes, in the work frame: its cutter along its feed moves."""
    lines = chords(reads.read(given.path, PATH).path)
    feeds = lines.what == CUT
    back = inverse(given.zero_from_work)
    return Sweep(
        moved(back, lines.starts[feeds]),
        moved(back, lines.ends[feeds]),
        np.full(int(feeds.sum()), CUT, np.uint8),
        turned(back, UP),
        cutter_profile(given.tool),
    )
