"""How do blocks become text? As a dialect says; a kind of dialect may write some in a way of its own."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass, replace

from pelvrak.core.cutting.job import Hole
from pelvrak.core.cutting.toolpath import Move
from pelvrak.core.geometry.part import Vector
from pelvrak.core.program import blocks
from pelvrak.core.program.blocks import Block, Blocks, Body
from pelvrak.core.program.dialect import NAMED, Dialect
from pelvrak.core.program.features import Feature, cut_alike
from pelvrak.core.program.variables import ALARM, TOUCHED, level_of, variable_of

# ISO 6983-1: G81 drilling, G82 with a dwell, G83 deep hole, G84 tapping, G85 boring in and out at feed, G86
# with the spindle stopped and out in rapid, G89 in, dwell and out at feed. Not in the standard, and alike
# with several makers of controls: G73 chip breaking, G76 boring with the spindle turned and lifted off.
CYCLE_CODES = {
    "spot": "G81",
    "drill": "G81",
    "peck": "G83",
    "chip_break": "G73",
    "ream": "G85",
    "bore": "G85",
    "bore_stopped": "G86",
    "bore_lifted": "G76",
    "tap": "G84",
}
DWELLING = {"G81": "G82", "G85": "G89"}
# Cycles that take a dwell as they are.
STANDING = ("G76", "G86")
NOT_STANDARD = ("G73", "G76")
# What the spindle does in these is in no moves.
BY_CYCLE_ONLY = ("tap", "bore_stopped", "bore_lifted")
# Coolant off: ISO 6983-1.
COOLANT_OFF = "M9"
SPINDLE_CODES = {"forward": "M3", "backward": "M4"}
STOP_CODES = {"stop": "M0", "optional": "M1"}
MOTION = {"rapid": "0", "line": "1", "cw": "2", "ccw": "3"}
# Variables of the program's own, of which it uses no others: where it touched, what it found, sizes, by how
# much a wear changes, and how far registers are turned.
FIRST_TOUCH, FIRST_FOUND, FIRST_SIZE, FIRST_WEAR, FIRST_TURN = 101, 121, 131, 141, 151
# Of a cycle's numbers these are written without a point.
WHOLE = ("FEED", "WAYFEED", "L", "P", "V")
# From how high over the setter a tool goes slowly, and as far past where it should touch, mm.
SETTING_MM = 5.0
# Fewer lines are no shorter as a subprogram.
LEAST_CALLED = 4


@dataclass(frozen=True)
class Program:
    """Program text, for each visit of an operation the line (from 0) that makes each of its moves, and what
    the dialect cannot say, in words.
    """

    text: str
    lines: dict[str, list[int]]
    beyond: tuple[str, ...] = ()


def plain_capitals(text: str) -> str:
    """Controls take plain capitals in comments, and no inner brackets."""
    plain = text.replace("Ø", "D").replace("°", " DEG").replace("×", "X").replace("·", "-")
    plain = re.sub(r"[();]", " ", plain).encode("ascii", "replace").decode().upper()
    return re.sub(r" +", " ", plain).strip()


class Writer:
    """Writes the blocks of one program. Its methods are called as the blocks are, in small letters, and tell
    the lines that make the block's moves.
    """

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.lines: list[str] = []
        self.blocks: list[int] = []
        self.modal: dict[str, str] = {}
        self.timed = False
        self.digits = 4
        # Told once each, in their order.
        self.beyond: dict[str, None] = {}
        # What is cut alike at several places: of each body the features that are called, each with the number
        # of its subprogram; what those are, and their lines; moves whose lines are known by then only.
        self.features: dict[str, list[tuple[Feature, int]]] = {}
        self.alike: dict[int, Feature] = {}
        self.lines_of: dict[int, list[int]] = {}
        self.later: list[tuple[int, int]] = []

    # -- the whole

    def write(self, program: Blocks) -> Program:
        """The program as text."""
        calls = self._calls(program) if self.dialect.subprograms else {}
        if self.dialect.calls_features and program.features:
            self._find_features(program, calls)
        label = self.dialect.called_by == "label"
        subprograms: dict[int, list[Body]] = {}
        for item in program.items:
            if isinstance(item, Body) and item.run in calls:
                subprograms.setdefault(calls[item.run], []).append(item)
        lines: dict[str, list[int]] = {}
        for item in program.items:
            if isinstance(item, blocks.Closing):
                self._closing({} if label else subprograms, lines)
            elif isinstance(item, blocks.Opening):
                self.say(item)
                if label:  # what is called is known before
                    self._defined(subprograms, lines)
            elif not isinstance(item, Body):
                self.say(item)
            elif item.run in calls:
                self._call(calls[item.run])
            else:
                lines[item.run] = self._body(item)
        whole = self._numbered(program.last_block)
        self._as_allowed(whole)
        known = {run: [self._known(line) for line in own] for run, own in lines.items()}
        return Program("\n".join(whole) + "\n", known, tuple(self.beyond))

    def say(self, block: Block) -> list[int]:
        """Write a block; the lines that make its moves."""
        return list(getattr(self, type(block).__name__.lower())(block) or ())

    def _called(self, body: Body) -> str | None:
        """The call of a cycle of the control's own that does all of it."""
        call = None if body.cycle is None else self.dialect.call_of(body.cycle.what)
        if call is None or body.cycle is None:
            return None
        said = {
            name: f"{value:.0f}" if name in WHOLE else self.dialect.coordinate(value)
            for name, value in body.cycle.told
        }
        lacks = [name for name in NAMED.findall(call) if name not in said]
        if lacks:
            self.beyond[f"its cycle for {body.cycle.what} asks for {lacks[0]}, which this has not"] = None
        return NAMED.sub(lambda name: said.get(name[1], "0."), call)

    def _body(self, body: Body) -> list[int]:
        call = self._called(body)
        if call is not None:
            first = self.say(body.blocks[0])
            line = self.block(*call.split())
            self.modal.clear()
            return [*first[:1], *[line] * (len(body.made) - 1)]
        said = _by_hand(body)
        if said and self.dialect.probing == "stop":
            return [self.block("M0", self.comment(said))] * len(body.made)
        made: list[list[int]] = []
        for feature, number in self.features.get(body.run, ()):
            if len(made) < feature.first:
                self._unshifted(made, body.blocks[len(made) : feature.first])
            self.shift(blocks.Shift((*feature.at, 0.0)))
            self._call(number)
            for k in range(feature.before, len(feature.told)):
                self.later.append((number, k))
                made.append([-len(self.later)])
        self._unshifted(made, body.blocks[len(made) :])
        return [made[block][within] for block, within in body.made]

    def _unshifted(self, made: list[list[int]], own: tuple[Block, ...]) -> None:
        """Blocks of a body as they are, once what came before has put its shift back."""
        if made and made[-1] and made[-1][0] < 0:
            self.shift(blocks.Shift((0.0, 0.0, 0.0)))
        made += [self.say(block) for block in own]

    def _call(self, number: int) -> None:
        if self.dialect.called_by == "label":
            self.plain(f"O{number} CALL")
        else:
            self.block("M98", f"P{number}")
        self.modal.clear()

    def _known(self, line: int) -> int:
        """A line, where one of a subprogram was not known yet."""
        if line >= 0:
            return line
        number, k = self.later[-line - 1]
        return self.lines_of[number][k]

    def _alone(self, body: Body) -> str:
        """The text of a body by itself."""
        beside = type(self)(self.dialect)
        beside._body(body)
        return "\n".join(beside.lines)

    def _calls(self, program: Blocks) -> dict[str, int]:
        """The subprogram of each run whose moves are there several times, by its number."""
        opening = next(one for one in program.items if isinstance(one, blocks.Opening))
        texts = {one.run: self._alone(one) for one in program.items if isinstance(one, Body)}
        often = [
            text
            for text, times in Counter(texts.values()).items()
            if times > 1 and text.count("\n") >= LEAST_CALLED
        ]
        numbers = dict(zip(often, self._free(opening), strict=False))
        return {run: numbers[text] for run, text in texts.items() if text in numbers}

    @staticmethod
    def _free(opening: blocks.Opening, used: Collection[int] = ()) -> list[int]:
        """Numbers for subprograms: by that of the program that calls them, in a memory that holds others."""
        tens = opening.number * (100 if opening.number * 100 + 99 < 10**opening.digits else 10)
        free = (tens + k for k in range(1, 100) if tens + k not in opening.taken and tens + k not in used)
        return [one for one in free if one < 10**opening.digits]

    def _find_features(self, program: Blocks, calls: dict[str, int]) -> None:
        """What is cut alike at several places, of what is written at all: of like bodies the first. None in a
        plane that is turned.
        """
        opening = next(one for one in program.items if isinstance(one, blocks.Opening))
        written: dict[int | str, Body] = {}
        turned, plane = set[int | str](), False
        for item in program.items:
            plane = isinstance(item, blocks.Tilt | blocks.Rotate) or (
                plane and not isinstance(item, blocks.Untilt)
            )
            if isinstance(item, Body):
                name = calls.get(item.run, item.run)
                written.setdefault(name, item)
                turned |= {name} if plane else set()
        bodies = [body for name, body in written.items() if name not in turned]
        found = cut_alike(bodies, self._of_feature, LEAST_CALLED)
        often = dict.fromkeys(text for _, _, text in found)
        numbers = dict(zip(often, self._free(opening, calls.values()), strict=False))
        for body, feature, text in found:
            if text in numbers:
                self.features.setdefault(bodies[body].run, []).append((feature, numbers[text]))
                self.alike.setdefault(numbers[text], feature)

    def _of_feature(self, feature: Feature) -> str:
        beside = type(self)(self.dialect)
        for block in feature.told:
            beside.say(block)
        return "\n".join(beside.lines)

    def _features(self, opens: str, ends: str) -> None:
        """What is cut alike at several places, each as a subprogram between two lines."""
        for number, feature in self.alike.items():
            self.plain(opens.format(number))
            self.modal.clear()
            self.lines_of[number] = [self.say(block)[-1] for block in feature.told]
            if ends == "M99":
                self.block(ends)
            else:
                self.plain(ends.format(number))

    def _defined(self, subprograms: dict[int, list[Body]], lines: dict[str, list[int]]) -> None:
        """What is called within the program itself, as RS274/NGC has grown to have it in several open
        controls.
        """
        self._features("O{} SUB", "O{} ENDSUB")
        for number, bodies in subprograms.items():
            self.plain(f"O{number} SUB")
            self.modal.clear()
            lines |= dict.fromkeys((one.run for one in bodies), self._body(bodies[0]))
            self.plain(f"O{number} ENDSUB")
        self.modal.clear()

    def _closing(self, subprograms: dict[int, list[Body]], lines: dict[str, list[int]]) -> None:
        """The end, and after it what is called."""
        self.block(self.dialect.end)
        for number, bodies in subprograms.items():
            self.plain(f"O{number:0{self.digits}d}")
            self.modal.clear()
            lines |= dict.fromkeys((one.run for one in bodies), self._body(bodies[0]))
            self.block("M99")
        if self.dialect.called_by != "label":
            self._features(f"O{{:0{self.digits}d}}", "M99")
        if self.dialect.percent:
            self.plain("%")

    def _as_allowed(self, whole: list[str]) -> None:
        """Lines and letters are as the control takes them."""
        for at, line in enumerate(whole, start=1):
            if self.dialect.longest and len(line) > self.dialect.longest:
                said = f"line {at} has {len(line)} characters, and {self.dialect.longest} are taken"
                self.beyond[said] = None
                break
        for at in self.blocks:
            words = re.sub(r"\(.*?\)|;.*", "", self.lines[at])
            if "#" in words:
                continue
            other = sorted(set(re.findall("[A-Z]", words)) - set(self.dialect.letters))
            if other:
                self.beyond[f"line {at + 1} has the letter {other[0]}, which it does not take"] = None
                break

    def _numbered(self, last: int) -> list[str]:
        """The lines with their blocks numbered by the widest step of 10, 5, 2 and 1 that ends by `last`, or
        not at all.
        """
        step = None
        if self.dialect.numbered:
            step = next((step for step in (10, 5, 2, 1) if step * len(self.blocks) <= last), None)
        lines = list(self.lines)
        for count, line in enumerate(self.blocks, start=1):
            if step is not None:
                lines[line] = f"N{step * count}{' ' if self.dialect.spaces else ''}{lines[line]}"
        return lines

    # -- lines

    def plain(self, text: str) -> None:
        """A line that is no block."""
        self.lines.append(text)

    def block(self, *words: str) -> int:
        """Write a block, to be numbered; its line."""
        self.blocks.append(len(self.lines))
        text = " ".join(word for word in words if word)
        self.lines.append(
            text if self.dialect.spaces or "(" in text or ";" in text else text.replace(" ", "")
        )
        return len(self.lines) - 1

    def changed(self, *words: tuple[str, str]) -> list[str]:
        """Words whose value differs from the last of the same address; all where every word is written."""
        out = []
        for address, value in words:
            if self.dialect.repeated or self.modal.get(address) != value:
                out.append(address + value)
                self.modal[address] = value
        return out

    def comment(self, text: str) -> str:
        """Words to the operator as the dialect has them, "" where it has none."""
        dialect = self.dialect
        said = plain_capitals(text)
        if dialect.comments == "none" or not said:
            return ""
        room = max(1, dialect.longest - 10) if dialect.longest else len(said)
        return f"({said[:room].strip()})" if dialect.comments == "brackets" else f"; {said[:room].strip()}"

    def xyz(self, at: Vector) -> tuple[str, str, str]:
        x, y, z = (self.dialect.coordinate(value) for value in at)
        return x, y, z

    def dwelling(self, seconds: float) -> str:
        """The word of a dwell."""
        if self.dialect.dwell == "P ms":
            return f"P{seconds * 1000:.0f}"
        return f"{self.dialect.dwell[0]}{self.dialect.coordinate(seconds)}"

    # -- what the program is

    def opening(self, block: blocks.Opening) -> None:
        self.digits = block.digits
        if self.dialect.percent:
            self.plain("%")
        title = self.comment(block.title)
        if self.dialect.program_name == "none":
            self.note(blocks.Note(block.title))
            return
        name = f"{self.dialect.program_name}{block.number:0{block.digits}d}"
        self.plain(f"{name} {title}".rstrip())

    def note(self, block: blocks.Note) -> None:
        said = self.comment(block.text)
        if said:
            self.plain(said)

    def safe(self, _: blocks.Safe) -> None:
        for line in self.dialect.safe:
            self.block(*line.split())

    # -- the machine

    def up(self, _: blocks.Up) -> None:
        self._away("Z")

    def over(self, block: blocks.Over) -> None:
        self.block("G0", f"Z{self.dialect.coordinate(block.z)}")
        self.modal.clear()

    def aside(self, _: blocks.Aside) -> None:
        self._away("Y")

    def _away(self, axis: str) -> None:
        zero = axis + self.dialect.coordinate(0.0)
        if self.dialect.retreat == "G53":
            self.block("G53", "G0", zero)
            return
        # Through where it stands: nothing in between.
        self.block("G91", "G28", zero)
        self.block("G90")

    def bring(self, block: blocks.Bring) -> None:
        if self.dialect.change == "together":
            self.block(f"T{block.place}", "M6")
        else:
            self.block(f"T{block.place}")
            self.block("M6")
        if self.dialect.next_tool and block.then not in (None, block.place):
            self.block(f"T{block.then}")

    def count(self, block: blocks.Count) -> None:
        if " " in block.register and not self.dialect.extended:
            self.beyond[f"it has no register {block.register}"] = None
        self.modal.clear()
        self.block(block.register)

    def shift(self, block: blocks.Shift) -> None:
        if not self.dialect.shift:
            self.beyond["it cannot shift what it counts from (G52)"] = None
        self.modal.clear()
        self.block("G52", *(a + value for a, value in zip("XYZ", self.xyz(block.by), strict=True)))

    def turn(self, block: blocks.Turn) -> None:
        self.clamp(blocks.Clamp(block.unclamp))
        self.block("G0", block.axis + self.dialect.coordinate(block.angle))
        self.clamp(blocks.Clamp(block.clamp))

    def clamp(self, block: blocks.Clamp) -> None:
        if block.code and self.dialect.clamps:
            self.block(block.code)

    def tilt(self, block: blocks.Tilt) -> None:
        if not self.dialect.tilted:
            self.beyond["it has no tilted plane"] = None
        i, j, k = self.xyz(block.angles)
        x, y, z = self.xyz(block.at)
        # A plane turned about zero by I, J, K (about Z, the new X, the new Z), and the tool set square to it.
        self.block("G68.2", f"X{x}", f"Y{y}", f"Z{z}", f"I{i}", f"J{j}", f"K{k}")
        self.block("G53.1")

    def untilt(self, _: blocks.Untilt) -> None:
        self.block("G69")

    def rotate(self, block: blocks.Rotate) -> None:
        if self.dialect.probing == "stop":
            return  # whoever touched it has turned the work
        if not self.dialect.rotation:
            self.beyond["it cannot turn what it counts as a probe has found it"] = None
        x, y = (self.dialect.coordinate(value) for value in block.about)
        # About a place of the register's, by an angle to the left: alike with several makers of controls.
        self.block("G68", f"X{x}", f"Y{y}", f"R[#{FIRST_TURN + block.number}]")

    def spin(self, block: blocks.Spin) -> None:
        self.block(f"S{block.rpm:.0f}", SPINDLE_CODES[block.way])

    def spinoff(self, _: blocks.SpinOff) -> None:
        self.block("M5")

    def cooloff(self, _: blocks.CoolOff) -> None:
        self.block(COOLANT_OFF)

    def halt(self, block: blocks.Halt) -> None:
        self.block(STOP_CODES[block.kind], self.comment(block.text))

    def counted(self, block: blocks.Counted) -> None:
        if self.dialect.probing == "stop":
            self.beyond["it has no variable that could count its cycles"] = None
            return
        self.block(f"#{block.variable}=#{block.variable}+1")

    # -- moves

    def come(self, block: blocks.Come) -> list[int]:
        self.modal.clear()
        x, y, z = self.xyz(block.at)
        turned = {name: self.dialect.coordinate(angle) for name, angle in block.turned}
        coolant = {"flood": self.dialect.flood, "mist": self.dialect.mist, "off": COOLANT_OFF}[block.coolant]
        self.block("G0", f"X{x}", f"Y{y}", *(name + angle for name, angle in turned.items()))
        again = "G0" if self.dialect.repeated else ""
        line = self.block(again, "G43", f"H{block.place}", f"Z{z}", coolant)
        self.modal.update({"G": "0", "X": x, "Y": y, "Z": z, **turned})
        return [line]

    def go(self, block: blocks.Go) -> list[int]:
        line = len(self.lines) - 1
        for move, at in self._turned_little(block.move, block.at):
            line = self._go(move, at, block.place)
        if block.move.dwell_s:
            self.block("G4", self.dwelling(block.move.dwell_s))
        return [line]

    def _turned_little(self, move: Move, at: Vector) -> list[tuple[Move, Vector]]:
        """A move as one, or an arc as several that turn no more than the dialect has it; where each
        begins.
        """
        if move.centre is None or self.dialect.arcs_most == 360:
            return [(move, at)]
        (cx, cy), way = move.centre, 1.0 if move.kind == "ccw" else -1.0
        began = math.atan2(at[1] - cy, at[0] - cx)
        turn = way * (math.atan2(move.end[1] - cy, move.end[0] - cx) - began) % math.tau
        turn = turn if turn > 1e-9 else math.tau
        radius = math.hypot(at[0] - cx, at[1] - cy)
        parts = max(1, math.ceil(math.degrees(turn) / self.dialect.arcs_most - 1e-6))
        out: list[tuple[Move, Vector]] = []
        for part in range(1, parts + 1):
            angle, share = began + way * turn * part / parts, part / parts
            end = (
                cx + radius * math.cos(angle),
                cy + radius * math.sin(angle),
                at[2] + (move.end[2] - at[2]) * share,
            )
            end = move.end if part == parts else end
            begins = out[-1][0].end if out else at
            compensation = move.compensation if part == 1 else ""
            out.append((replace(move, end=end, compensation=compensation, dwell_s=0.0), begins))
        return out

    def _go(self, move: Move, at: Vector, place: int) -> int:
        x, y, z = self.xyz(move.end)
        before = dict(self.modal)
        words = self.changed(("G", MOTION[move.kind]))
        words += {"left": ["G41", f"D{place}"], "off": ["G40"], "": []}[move.compensation]
        if move.centre is None:
            words += self.changed(("X", x), ("Y", y), ("Z", z))
        else:
            # Both ends and the centre are written, so that a full turn and a half turn stay clear.
            words += [f"X{x}", f"Y{y}", *self.changed(("Z", z)), *self.about(move.centre, at)]
            self.modal.update({"X": x, "Y": y})
        if move.feed and move.kind != "rapid":
            words += self.changed(("F", f"{move.feed:.0f}"))
        if any(word[0] in "XYZIJR" for word in words):
            return self.block(*words)
        self.modal = before  # what is not written is not in force
        return len(self.lines) - 1

    def about(self, centre: tuple[float, float], at: Vector) -> list[str]:
        """What an arc goes about."""
        if self.dialect.arcs == "radius":
            return [f"R{self.dialect.coordinate(math.hypot(at[0] - centre[0], at[1] - centre[1]))}"]
        i, j = (self.dialect.coordinate(c - a) for c, a in zip(centre, at[:2], strict=True))
        return [f"I{i}", f"J{j}"]

    def turngo(self, block: blocks.TurnGo) -> list[int]:
        if not self.dialect.inverse_time:
            self.beyond["it has no inverse time for moves in which an axis turns"] = None
        x, y, z = self.xyz(block.to)
        angle = self.dialect.coordinate(block.angle)
        words = self.changed(("X", x), ("Y", y), ("Z", z), (block.axis, angle))
        if words:
            timed = block.rate is not None
            if timed != self.timed:
                self.block("G93" if timed else "G94")
            self.timed = timed
            rate = [] if block.rate is None else [f"F{_rate(block.rate)}"]
            self.block(*self.changed(("G", "1" if timed else "0")), *words, *rate)
        if block.dwell_s:
            self.block("G4", self.dwelling(block.dwell_s))
        return [len(self.lines) - 1]

    def untimed(self, _: blocks.Untimed) -> None:
        if self.timed:
            self.block("G94")
        self.timed = False
        self.modal.clear()

    def setlength(self, block: blocks.SetLength) -> None:
        if self.dialect.probing == "stop":
            self.block("M0", self.comment(f"set H{block.place} on the setter"))
            return
        x, y, z = block.nose
        there, held = z + block.gauge, f"#{variable_of(block.register, 2)}"
        said = self.dialect.coordinate
        self.block("G53", "G0", f"X{said(x)}", f"Y{said(y)}")
        self.block("G53", "G0", f"Z{said(there + SETTING_MM)}")
        # Without a length the program counts where the nose is.
        self.block("G49")
        self.block(self.dialect.probing, f"Z[{said(there - SETTING_MM)}-{held}]", f"F{block.feed:.0f}")
        self.block("G10", "L1", f"P{block.place}", f"Z[#{TOUCHED + 2}+{held}{self.plus(-z)}]")
        self.modal.clear()

    def guard(self, block: blocks.Guard) -> list[int]:
        return self._until(block.to, block.at, block.feed, "G31" if self.dialect.probing == "G31" else "G1")

    def feel(self, block: blocks.Feel) -> list[int]:
        lines = self._until(block.to, block.at, block.feed, self.dialect.probing)
        # Where it touched, as the program counts: NIST IR 6556, table 2, and alike with several makers.
        self.block(f"#{FIRST_TOUCH + block.slot}=#{TOUCHED + 'XYZ'.index(block.axis)}")
        return lines

    def _until(self, to: Vector, at: Vector, feed: float, code: str) -> list[int]:
        """A straight move by a code that holds for its block alone."""
        words = [a + v for a, v, o in zip("XYZ", self.xyz(to), self.xyz(at), strict=True) if v != o]
        self.modal.clear()
        return [self.block(code, *words, f"F{feed:.0f}")]

    def take(self, block: blocks.Take) -> None:
        found = FIRST_FOUND + block.number
        touched = [f"#{FIRST_TOUCH + slot}" for slot in block.slots]
        if len(touched) == 3:
            middle = self._of_three(block, *touched)
        else:
            middle = f"[{'+'.join(touched)}]/2" if len(touched) > 1 else touched[0] + self.plus(block.ball)
        self.block(f"#{found}={middle}")
        off = f"ABS[#{found}{self.plus(-block.should_be)}]"
        limit = self.dialect.coordinate(block.tolerance)
        said = self.comment(f"{block.axis} of {block.said} is off")
        self.block(f"IF [{off} GT {limit}] THEN #{ALARM}=1", said)
        held = variable_of(block.register, "XYZ".index(block.axis))
        value = f"[#{held}+#{found}{self.plus(-block.counts)}]"
        level, number = level_of(block.sets)
        self.block("G10", f"L{level}", f"P{number}", f"{block.axis}{value}")

    def turned(self, block: blocks.Turned) -> None:
        one, two = (f"#{FIRST_TOUCH + slot}" for slot in block.slots)
        said = self.comment(f"{block.said} is off")
        limit = self.dialect.coordinate(block.tolerance)
        self.block(f"IF [ABS[{two}-{one}] GT {limit}] THEN #{ALARM}=1", said)
        # To the left: along X a wall then goes to +Y, along Y to -X.
        off = f"{two}-{one}" if block.axis == "Y" else f"{one}-{two}"
        self.block(f"#{FIRST_TURN + block.number}=ATAN[{off}]/[{self.dialect.coordinate(block.apart)}]")

    def _wear(self, block: blocks.Gauge, found: int) -> None:
        """The wear of a radius changed by half of what a size is off the middle of its limits, where it is
        outside them: what is cut inside is too small where the cutter is thought too thick.
        """
        middle = (block.low + block.high) / 2
        off = f"[#{found}{self.plus(-middle)}]/2"
        low, high = (self.dialect.coordinate(limit) for limit in (block.low, block.high))
        change = FIRST_WEAR + block.number
        self.block(f"#{change}=0")
        way = off if block.inside else f"-[{off}]"
        for less, limit in (("LT", low), ("GT", high)):
            self.block(f"IF [#{found} {less} {limit}] THEN #{change}={way}")
        # Added to what is held: G10 with G91, alike with several makers of controls, from memory.
        self.block("G91", "G10", "L13", f"P{block.wears}", f"R[#{change}]")
        self.block("G90")

    def _of_three(self, block: blocks.Take, one: str, two: str, third: str) -> str:
        """Y of the middle of the circle through (one, y), (two, y) and (x, third), whose X is known: from
        equal distances, yc = ((x - xc)² + third² - h² - y²) / (2 (third - y)), h half of what lies between
        one and two.
        """
        found, half = f"#{FIRST_FOUND + block.number - 1}", f"[[{two}-{one}]/2]"
        y, off = self.dialect.coordinate(block.begins[1]), f"[{found}{self.plus(-block.begins[0])}]"
        above = f"{off}*{off}+{third}*{third}-{half}*{half}-[{y}]*[{y}]"
        return f"[{above}]/[2*[{third}{self.plus(-block.begins[1])}]]"

    def gauge(self, block: blocks.Gauge) -> None:
        found, one, two = FIRST_SIZE + block.number, *(FIRST_TOUCH + slot for slot in block.slots)
        self.block(f"#{found}=ABS[#{two}-#{one}]{self.plus(block.ball)}")
        if block.then == "go on":
            return
        if block.then == "wear":
            self._wear(block, found)
            return
        said = self.comment(f"{block.said} is outside its limits")
        for less, limit in (("LT", block.low), ("GT", block.high)):
            self.block(f"IF [#{found} {less} {self.dialect.coordinate(limit)}] THEN #{ALARM}=2", said)

    def plus(self, value: float) -> str:
        """Something added within an expression, "" for nothing."""
        text = self.dialect.coordinate(abs(value))
        return "" if not float(text) else f"{'+' if value > 0 else '-'}{text}"

    def drill(self, block: blocks.Drill) -> list[int]:
        code = self.cycle(block)
        if code is None:
            return [line for move in block.moves for line in self.say(move)]
        at_hole, last = self._over_holes(block, code), len(self.lines) - 1
        self.block("G80")
        self.modal.clear()
        out, line = [], min(at_hole.values(), default=last) - 1
        for go in block.moves:
            line = at_hole.get(go.move.end[:2], line)
            out.append(line)
        return out

    def _over_holes(self, block: blocks.Drill, code: str) -> dict[tuple[float, float], int]:
        """The cycle at every hole, with the way between them at the height it came from (G98); the line of
        each.
        """
        out: dict[tuple[float, float], int] = {}
        previous: Hole | None = None
        for hole in block.holes:
            words = [f"X{self.dialect.coordinate(hole.x)}", f"Y{self.dialect.coordinate(hole.y)}"]
            same = previous is not None and (hole.bottom, hole.start) == (previous.bottom, previous.start)
            if not same or self.dialect.repeated:
                words = ["G98", code, *words]
                words += [
                    f"Z{self.dialect.coordinate(hole.bottom)}",
                    f"R{self.dialect.coordinate(hole.start)}",
                ]
                if block.peck is not None:
                    # A depth of G73 and G83, the lift off the wall of G76.
                    words.append(f"Q{self.dialect.coordinate(block.peck)}")
                if block.dwell_s:
                    words.append(self.dwelling(block.dwell_s).replace("X", "P"))
                words.append(f"F{block.feed:.0f}")
            out[hole.x, hole.y] = self.block(*words)
            previous = hole
        return out

    def cycle(self, block: blocks.Drill) -> str | None:
        """The cycle's code where there is one that does all of it, else the moves do."""
        code = CYCLE_CODES[block.cycle]
        code = DWELLING.get(code, code) if block.dwell_s else code
        has = {"all": True, "standard": code not in NOT_STANDARD, "none": False}[self.dialect.cycles]
        stands = code in DWELLING.values() or code in STANDING
        if not has and block.cycle in BY_CYCLE_ONLY:
            self.beyond[f"it has no cycle {code}, and no moves do the same"] = None
            has = True
        return code if has and (stands or not block.dwell_s) else None


def _by_hand(body: Body) -> str:
    """What an operator does in place of a probe, "" where nothing is probed."""
    takes = [one for one in body.blocks if isinstance(one, blocks.Take)]
    if takes:
        axes = " ".join(one.axis for one in takes)
        return f"probe {takes[0].said} from {takes[0].register}, set {takes[0].sets} {axes}"
    turns = [one for one in body.blocks if isinstance(one, blocks.Turned)]
    if turns:
        return f"probe {turns[0].said} in {turns[0].register}, turn the work until it is square"
    sizes = [one for one in body.blocks if isinstance(one, blocks.Gauge)]
    return f"measure {sizes[0].said}, {sizes[0].low:.3f} to {sizes[0].high:.3f}" if sizes else ""


def _rate(value: float) -> str:
    return f"{value:.4g}" if value < 1e4 else f"{value:.0f}"
