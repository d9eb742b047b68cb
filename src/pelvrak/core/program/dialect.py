"""How is a program written for one control? Its numbers, its words and what it knows, as data; a kind may
write blocks in its own way.

A control that is told by data needs no file: it is one of the kinds with other values, kept in the plan or in
the shop's library.
"""

from __future__ import annotations

import re
from copy import copy
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Frozen

if TYPE_CHECKING:
    from pelvrak.core.program.writing import Writer

Code = Annotated[str, Field(pattern=r"^[A-Z][0-9]{1,3}(\.[0-9])?$")]
SafeLine = Annotated[str, Field(pattern=r"^[A-Z][0-9.]+( [A-Z][0-9.]+)*$", max_length=80)]
Cycles = Literal["all", "standard", "none"]
Arcs = Literal["centre", "radius"]
ArcsMost = Annotated[int, Field(ge=30, le=360)]
Longest = Annotated[int, Field(ge=0, le=1000)]
Letters = Annotated[str, Field(pattern="^[A-Z]+$", max_length=26)]
Retreat = Literal["G53", "G28"]
CalledBy = Literal["M98", "label"]
Change = Literal["together", "apart"]
Dwell = Literal["P s", "P ms", "X s"]
Probes = Literal["G31", "G38.2", "stop"]
# The numbers that a call of a control's own cycle may have: the middle of what is touched, or of one face
# where its touch begins, and the height of the ball's lowest point; the way of the first touch along X and
# Y; where a face lies along its axis, how wide the rest is; the ball's radius; from where it goes slowly
# and how far past; feeds; the height it comes from; how far off stops it; L and P by which G10 sets the
# register, the variable that holds X of the one it is driven in; where what it finds should be, as the set
# one counts.
CALL_NAMES = (
    *("X", "Y", "Z", "WX", "WY", "AT", "SIZE", "BALL", "APPROACH", "BEYOND", "FEED", "WAYFEED", "OVER"),
    *("STOPS", "L", "P", "V", "SX", "SY", "SZ"),
)
CallLine = Annotated[str, Field(pattern=r"^(FACE|TOP|WALLS|WEB|BORE|BOSS): [^a-z]+$", max_length=240)]
ProgramLine = Annotated[str, Field(max_length=200)]
NAMED = re.compile(r"\{(.*?)\}")
# Every letter a program may hold: ISO 6983-1, table 1.
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


class Dialect(Frozen):
    """What every dialect says of itself. A kind sets other values where its controls are alike in them.

    called: the kind's name on the page; writer: the class that writes its blocks.
    """

    called: ClassVar[str]
    writer: ClassVar[type[Writer]]

    # Each kind has its own, by which it is told from the others.
    kind: str
    id: Annotated[str, Field(pattern="^[a-z0-9-]{1,40}$")] = asked(
        title="Id", help="tells the dialect from others; never changes, never shown"
    )
    name: Annotated[str, Field(min_length=1, max_length=60)] = asked(
        title="Name", help="what the dialect is called wherever it is chosen"
    )
    percent: bool = asked(
        True, title="Percent signs", help="a line % before the program and one after it", place="where"
    )
    program_name: Literal["O", ":", "none"] = asked(
        "O",
        title="Called by",
        help="how the program's number stands at its head",
        called={"O": "O0010", ":": ":0010", "none": "not at all"},
        place="where",
    )
    comments: Literal["brackets", "semicolon", "none"] = asked(
        "brackets",
        title="Comments",
        help="how words to the operator are written",
        called={"brackets": "(IN BRACKETS)", "semicolon": "; to the end", "none": "not at all"},
        place="where",
    )
    numbered: bool = asked(
        True, title="Block numbers", help="each block has its number N, in the widest steps", place="where"
    )
    spaces: bool = asked(True, title="Spaces", help="between the words of a block", place="where")
    longest: Longest = asked(
        0,
        title="Longest line",
        help="how many characters a line may have; 0: as many as it needs",
        place="where",
    )
    letters: Letters = asked(
        LETTERS, title="Letters", help="the letters a block may begin a word with", place="where"
    )
    decimals: Annotated[int, Field(ge=2, le=5)] = asked(
        3, title="Decimals", help="of a coordinate in millimetres or degrees", place="where"
    )
    zeros: bool = asked(
        False, title="All decimals", help="10.000 for 10. ; the point is always written", place="where"
    )
    repeated: bool = asked(
        False,
        title="Every word",
        help="a word is written again where it still holds from the block before",
        place="what",
    )
    arcs: Arcs = asked(
        "centre",
        title="Arcs by",
        help="their centre from where they begin, I and J, or their radius, R",
        place="what",
    )
    arcs_most: ArcsMost = asked(
        360, title="An arc turns", help="at most in one block", unit="°", place="what"
    )
    cycles: Cycles = asked(
        "all",
        title="Cycles",
        help="of holes: those of ISO 6983 and G73, G76; those of ISO 6983 only; every move by itself",
        place="what",
    )
    subprograms: bool = asked(
        False,
        title="Subprograms",
        help="moves that are made several times alike are written once and called",
        place="what",
    )
    called_by: CalledBy = asked(
        "M98",
        title="Called by",
        help="subprograms by their own number, or in the program itself, between O… SUB and O… ENDSUB",
        called={"M98": "M98 P…", "label": "O… CALL"},
        place="what",
    )
    inverse_time: bool = asked(
        True, title="Inverse time", help="G93: feeds of moves in which an axis turns", place="what"
    )
    extended: bool = asked(
        False, title="Extended registers", help="G54.1 P1 and on, beside G54 to G59", place="program"
    )
    tilted: bool = asked(
        False,
        title="Tilted plane",
        help="G68.2 with G53.1, where the machine's control has it",
        place="program",
    )
    rotation: bool = asked(
        False,
        title="Turned about Z",
        help="G68 turns what the program counts as a probe has found it, until G69",
        place="program",
    )
    shift: bool = asked(
        False,
        title="Local shift",
        help="G52 moves what the program counts from, until G52 X0. Y0. Z0.",
        place="program",
    )
    clamps: bool = asked(
        True, title="Rotary clamps", help="the machine's codes to clamp and let go an axis", place="program"
    )
    retreat: Retreat = asked(
        "G53",
        title="Goes up by",
        help="the way to the top of Z and to the front of Y",
        called={"G53": "G53 G0 Z0.", "G28": "G91 G28 Z0."},
        place="program",
    )
    change: Change = asked(
        "together",
        title="Tool change",
        help="place and change in one block, or one after the other",
        called={"together": "T5 M6", "apart": "T5, then M6"},
        place="program",
    )
    next_tool: bool = asked(
        False,
        title="Next tool",
        help="the changer brings the next place while this tool cuts",
        place="program",
    )
    dwell: Dwell = asked(
        "P s",
        title="Dwell",
        help="how long G4 stands",
        called={"P s": "P, seconds", "P ms": "P, milliseconds", "X s": "X, seconds"},
        place="program",
    )
    probing: Probes = asked(
        "stop",
        title="Probing",
        help="moves that end at a touch, with variables that hold where; or the operator does it",
        called={"G31": "G31, #5061", "G38.2": "G38.2, #5061", "stop": "a stop, by hand"},
        place="program",
    )
    calls: Annotated[tuple[CallLine, ...], Field(max_length=6)] = asked(
        (),
        title="Touching cycles",
        help=f"calls of the control’s own, FACE, TOP, WALLS, WEB, BORE or BOSS: and the block, numbers as"
        f" {{X}}: {' '.join(CALL_NAMES)}; what has none is written move by move",
        widget="lines",
        place="program",
    )
    programs: Annotated[tuple[ProgramLine, ...], Field(max_length=5000)] = asked(
        (),
        title="Their programs",
        help="what the calls run on the control: without them nothing that calls can be proved",
        widget="programs",
        place="program",
    )
    flood: Code = asked("M8", title="Flood", help="turns the coolant on", place="program")
    mist: Code = asked("M7", title="Mist", help="turns mist on", place="program")
    safe: Annotated[tuple[SafeLine, ...], Field(min_length=1, max_length=12)] = asked(
        ("G21 G17 G90 G40 G49 G80 G94",),
        title="Safe start",
        help="the blocks every program begins with, one to a line",
        widget="lines",
        place="program",
    )
    end: Literal["M30", "M2"] = asked("M30", title="Ends with", help="the code of the end", place="program")

    @model_validator(mode="after")
    def _arcs_are_told_well(self) -> Dialect:
        if self.arcs == "radius" and self.arcs_most > 90:
            raise ValueError(
                f"an arc of {self.arcs_most}° by its radius tells its centre badly: let it turn 90° at most"
                " in one block"
            )
        return self

    @model_validator(mode="after")
    def _calls_are_told_well(self) -> Dialect:
        kinds = [line.split(":")[0] for line in self.calls]
        twice = next((kind for kind in kinds if kinds.count(kind) > 1), None)
        if twice:
            raise ValueError(f"there are two cycles for {twice}: leave one")
        for line in self.calls:
            other = sorted(set(NAMED.findall(line)) - set(CALL_NAMES))
            if other:
                raise ValueError(
                    f"{{{other[0]}}} is no number that a cycle is told: take one of {' '.join(CALL_NAMES)}"
                )
        return self

    @property
    def calls_features(self) -> bool:
        """Whether what is cut alike at several places can be called with a shift."""
        return self.subprograms and self.shift

    def call_of(self, what: str) -> str | None:
        """The block that calls the control's own cycle for what is touched, with its {names}."""
        found = (line.partition(": ") for line in self.calls)
        return next((line for kind, _, line in found if kind == what.upper()), None)

    def coordinate(self, value: float) -> str:
        """A length or an angle as it is written."""
        return number(value, self.decimals, self.zeros)


def usual(field: str, value: Any) -> Any:
    """A field of `Dialect` as a kind has it: asked for alike, with another default."""
    told = copy(Dialect.model_fields[field])
    told.default = value
    return told


def number(value: float, decimals: int = 3, zeros: bool = False) -> str:
    """A number with its point, and its decimals as far as they say something."""
    text = f"{value:.{decimals}f}"
    if not float(text):
        text = text.removeprefix("-")
    return text if zeros else text.rstrip("0")
