"""Does a changed program ever break the reader or the simulated control, or keep it running?

Run: PYTHONPATH=. python bench/fuzz_programs.py [PROGRAMS]. Programs with a few characters, words and lines
changed, lost or doubled are run; each has to end in moves that are numbers, or in an alarm.
"""

from __future__ import annotations

import math
import sys
import time

from tests.core.changed_programs import run_changed

from pelvrak.core.errors import BadInput
from pelvrak.core.machine.machine import machine_of

if __name__ == "__main__":
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    began, ran, slowest, last = time.monotonic(), 0, 0.0, time.monotonic()
    for text, came in run_changed(count, 1, machine_of("trunnion-ac")):
        now = time.monotonic()
        slowest, last = max(slowest, now - last), now
        if isinstance(came, BadInput):
            continue
        ran += 1
        if not all(math.isfinite(v) for one in came for v in (*one.end, *one.told, one.feed)):
            raise SystemExit(f"a move that is no number in\n{text}")
    took = time.monotonic() - began
    print(f"{count} programs, {ran} run to their end, {count - ran} alarms")
    print(f"{took:.0f} s, the slowest {slowest:.3f} s")
