"""Programs with a few characters, words and lines changed, lost or doubled."""

from __future__ import annotations

import random
from collections.abc import Iterator

from pelvrak.core.errors import BadInput
from pelvrak.core.machine.machine import Machine
from pelvrak.core.program.control import Control
from pelvrak.core.program.held import Event, Held

SEEDS = (
    # Contours with the radius corrected, cycles, a register set, a subprogram.
    """%
O1 (PLATE)
N10 G21 G17 G90 G40 G49 G80 G94
N20 G53 G0 Z0.
N30 T1 M6
N40 G54
N50 S5000 M3
N60 G0 X-20. Y0.
N70 G43 H1 Z5. M8
N80 G1 Z-4. F300
N90 G41 D1 X0. F800
N100 Y40.
N110 G2 X10. Y50. I10. J0.
N120 G1 X60.
N130 G3 X70. Y60. R10.
N140 G1 G40 X90.
N150 G0 Z5.
N160 G98 G83 X10. Y10. Z-20. R2. Q4. F120
N170 X20. Y20.
N180 G80
N190 M98 P7 L2
N200 G10 L2 P2 X1. Y2. Z-3.
N210 G55 G0 X0 Y0
N220 M30
O7
G91 G0 X1. Y1.
G90
M99
%
""",
    # Variables, loops, conditions, expressions.
    """#1=0
G90 G54 G21 T2 M6
WHILE [#1 LT 6] DO1
#2=[10 * COS[#1 * 60]]
G1 X#2 Y[10*SIN[#1*60]] F[200 + #1]
IF [#1 EQ 3] GOTO 90
#1=[#1+1]
END1
N90 G0 Z[ABS[-5] + SQRT[16]]
/2 G4 P1.5
M30
""",
    # Planes turned and left, inverse time, axes that turn, other planes, inches.
    """G90 G21 G54
T1 M6
S100 M3
G68.2 X5 Y-3 Z2 I0 J30 K0
G53.1
G0 X1 Y2
G43 H1 Z9
G1 Z-1 F100
G2 X3 Y2 I1 J0
G69
G53 G0 Z0
G0 A30. C-20.
G93 G1 X5. A10. F2.
G94
G0 X0 Z0
G18 G2 X10 Z0 I5 K0 F50
G17 G20
G28 G91 Z0
G90 M2
""",
)
CHARACTERS = "GXYZIJKRPQFSTMHDNLO0123456789.-+/[]#=*() %;\n"


def changed(dice: random.Random) -> str:
    """One of the programs, changed in up to six places."""
    lines = dice.choice(SEEDS).split("\n")
    for _ in range(dice.randint(1, 6)):
        at = dice.randrange(len(lines))
        what = dice.randrange(5)
        if what == 0:
            lines[at : at + 1] = []
        elif what == 1:
            lines.insert(at, dice.choice(lines))
        else:
            line = list(lines[at])
            place = dice.randrange(len(line) + 1)
            line[place : place + dice.randrange(2)] = dice.choice([[], [dice.choice(CHARACTERS)]] * 2)
            lines[at] = "".join(line)
        if not lines:
            return ""
    return "\n".join(lines)


def run_changed(count: int, seed: int, machine: Machine) -> Iterator[tuple[str, list[Event] | BadInput]]:
    """Changed programs, and what the control made of each or why it would not. Whatever else it raises is a
    defect.
    """
    dice = random.Random(seed)
    registers = {"G54": {"X": 1.0, "Y": 2.0, "Z": -300.0}, "G55": {}}
    for _ in range(count):
        text = changed(dice)
        held = Held(registers, {1: 120.0, 2: 80.0}, {1: 3.0})
        try:
            yield text, Control(held, most_steps=5000, unknown=True, machine=machine).run(text)
        except BadInput as refused:
            yield text, refused
