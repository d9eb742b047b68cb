"""Which cuts go into the part as it is drawn, and are meant to: engraving, edges broken?"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from pelvrak.core.engine.step import Content, Reads
from pelvrak.core.route.pieces import MOMENTS
from pelvrak.core.stock.cut import CUT, Sweep


@dataclass(frozen=True)
class MeantGiven:
    """One such cut. moments: of it; maker: the number on the surfaces it makes."""

    moments: Content
    maker: int


def meant_sweep(given: MeantGiven, reads: Reads) -> Sweep:
    """What it takes, in the work frame: its cutter along its feed moves, the work turning under it or not."""
    sweep = reads.read(given.moments, MOMENTS).sweep
    feeds = sweep.what == CUT
    return replace(
        sweep,
        starts=sweep.starts[feeds],
        ends=sweep.ends[feeds],
        what=np.full(int(feeds.sum()), CUT, np.uint8),
        axis=sweep.axis if sweep.axis.ndim == 1 else sweep.axis[feeds],
        bodies=(),
    )
