"""Writes the third demo plan: the gate-latch plate, its second side found by a probe.

The fixed jaw and the parallels say where Y and Z are; nothing stops the work along X. So the second side is
faced from the jaw, the middle of its end walls is found from there, its bore from that, and the rest is cut
from the bore. Faces are found by their geometry in the STEP file beside this script. Run: python
build_plan.py
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from pelvrak.core.billet.block import Block, BySize
from pelvrak.core.cutting.operations import Drilling, Facing, Helical, Outline, Pocket, Probing
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.part import Face, FaceRef, Part, ref_to
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.holding.hold import vise_hold
from pelvrak.core.machine.machine import machine_of
from pelvrak.core.program.dialects import Extended
from pelvrak.core.route.plan import PartFile, Plan, Setup
from pelvrak.core.seat.seating import NamedZero, Seat, Zero

HERE = Path(__file__).parent
STEP = HERE / "latch-plate.step"
TOOLS = ("fm50", "em16", "em10", "sd10", "dr7", "pr6")


# How its machine's control is asked to touch: our own cycles, whose programs stand beside this script.
ALONG = "X{X} Y{Y} Z{Z} I{WX} J{WY}"
SAID = "B{BALL} R{APPROACH} Q{BEYOND} F{FEED} H{WAYFEED} K{OVER} A{STOPS} S{L} T{P} E{V} U{SX} V{SY}"
CALLS = (
    f"WALLS: G65 P9711 {ALONG} D{{SIZE}} {SAID}",
    f"WEB: G65 P9712 {ALONG} D{{SIZE}} {SAID}",
    f"BORE: G65 P9713 X{{X}} Y{{Y}} Z{{Z}} D{{SIZE}} {SAID}",
    f"BOSS: G65 P9714 X{{X}} Y{{Y}} Z{{Z}} D{{SIZE}} {SAID}",
    f"FACE: G65 P9715 {ALONG} D{{AT}} {SAID}",
    f"TOP: G65 P9716 Z{{Z}} D{{AT}} {SAID} W{{SZ}}",
)


def touching() -> Extended:
    """The dialect of its machine: the extended one, that calls cycles where something is touched."""
    text = (HERE / "touching-cycles.nc").read_text(encoding="utf-8")
    programs = tuple(line for line in text.splitlines() if line != "%")
    return Extended(id="touching", name="Extended, with touching cycles", calls=CALLS, programs=programs)


def plane(part: Part, axis: int, at: float, looking: float) -> FaceRef:
    """The largest plane face square to an axis at a coordinate, that looks to one side."""
    faces = [
        f
        for f in part.faces
        if f.normal and f.normal[axis] * looking > 0.999 and abs(f.centre[axis] - at) < 1e-6
    ]
    return ref_to(max(faces, key=lambda f: f.area))


def wall(part: Part, radius: float) -> list[FaceRef]:
    """The upright hollow walls of a radius."""

    def is_it(f: Face) -> bool:
        return f.kind == "cylinder" and f.hollow and f.radius is not None and abs(f.radius - radius) < 1e-6

    return [ref_to(f) for f in part.faces if is_it(f)]


def build() -> Plan:
    """The plan document."""
    data = STEP.read_bytes()
    part = read_step(data, STEP.name).part
    (bore,), holes = wall(part, 13.0), tuple(wall(part, 3.5))
    under, recess, step = plane(part, 2, 0.0, -1), plane(part, 2, 5.0, -1), plane(part, 2, 4.0, -1)
    ends = plane(part, 0, 0.0, -1), plane(part, 0, 80.0, 1)
    first = Setup(
        name="OP10",
        title="Top",
        seat=Seat(zero=Zero(of="incoming", x=0, y=0, z=1, offset=(0, 0, -1))),
        hold=vise_hold(height=42.0, at=(450, 402)),
        operations=(
            Facing(id="face", name="Face top", tool="fm50"),
            Outline(
                id="rough", name="Rough outline", tool="em16", bottom=under, below=0.6, step_down=7, leave=0.3
            ),
            Outline(
                id="outline",
                name="Outline",
                tool="em16",
                bottom=under,
                below=0.5,
                step_down=20,
                feed_mm_min=900,
            ),
            Helical(id="bore", name="Bore", tool="em16", faces=(bore,), below=5.6),
            Drilling(id="spot", name="Spot", tool="sd10", cycle="spot", faces=holes, chamfer=6.8),
            Drilling(id="drill", name="Drill 7", tool="dr7", cycle="peck", faces=holes, peck=6, below=0.5),
        ),
    )
    second = Setup(
        name="OP20",
        title="Underneath",
        seat=Seat(
            flip=True,
            zero=Zero(of="holding", x=0, y=1, z=-1),
            zeros=(
                NamedZero(
                    name="between the ends", offset_register="G55", zero=Zero(of="part", x=0, y=0, z=-1)
                ),
                NamedZero(name="bore", offset_register="G56", zero=Zero(of="hole", hole=bore, z=-1)),
            ),
        ),
        hold=vise_hold(height=42.0, at=(450, 402)),
        operations=(
            Facing(id="face", name="Face underside", tool="fm50"),
            Probing(
                id="find-ends", name="Find the ends", tool="pr6", what="web", faces=ends, sets="G55", depth=6
            ),
            Probing(
                id="find-bore",
                name="Find the bore",
                tool="pr6",
                what="bore",
                faces=(bore,),
                sets="G56",
                depth=6,
                offset_register="G55",
            ),
            Pocket(
                id="recess", name="Recess", tool="em16", faces=(recess,), step_down=2.5, offset_register="G56"
            ),
            Pocket(id="step", name="Step", tool="em16", faces=(step,), step_down=4, offset_register="G55"),
        ),
    )
    shelf = tool_shelf()
    places = {"dr7": 20, "pr6": 24}
    tools = tuple(
        shelf[name].model_copy(update={"place": places.get(name, shelf[name].place)}) for name in TOOLS
    )
    machine = machine_of(first.machine)
    control = machine.control.model_copy(update={"dialect": "touching"})
    return Plan(
        name="Gate-latch plate",
        machines=(machine.model_copy(update={"control": control}),),
        dialects=(touching(),),
        part=PartFile(file=STEP.name, sha256=hashlib.sha256(data).hexdigest(), revision="A"),
        billet=Block(material="EN AW-6082", sizing=BySize(size=(84, 54, 30), place=(0.5, 0.5, 0.9))),
        tools=tools,
        setups=(first, second),
    )


if __name__ == "__main__":
    (HERE / "plan.json").write_text(build().model_dump_json(indent=2) + "\n", encoding="utf-8")
