"""Writes the second demo plan: the float-arm carrier, its second side held in a drop-in nest by a bolt from
below.

Faces are found by their geometry in the STEP file beside this script. Run: python build_plan.py
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from pelvrak.core.billet.block import Block, BySize
from pelvrak.core.cutting.operations import Drilling, Facing, Outline, Pocket
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.part import Face, FaceRef, Part, ref_to
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.holding.hold import Hold, Item, SoftCut, vise_hold
from pelvrak.core.route.plan import Makes, PartFile, Plan, Setup
from pelvrak.core.seat.seating import Seat, Zero

HERE = Path(__file__).parent
STEP = HERE / "float-carrier.step"
TOOLS = ("fm50", "em16", "em12", "em10", "em8", "em3", "sd10", "dr5", "tpM6", "dr7_8")


def floor_at(part: Part, height: float, looking: float) -> Face:
    """The plane face at a height that looks up (1) or down (-1); the largest one."""
    faces = [
        f
        for f in part.faces
        if f.normal and f.normal[2] * looking > 0.999 and abs(f.centre[2] - height) < 1e-6
    ]
    return max(faces, key=lambda f: f.area)


def wall(part: Part, radius: float, x: float, low: float) -> FaceRef:
    """The upright round wall of a radius about x, y 0 that begins at a height."""
    return ref_to(
        next(
            f
            for f in part.faces
            if f.kind == "cylinder"
            and f.radius
            and abs(f.radius - radius) < 1e-6
            and f.axis_point
            and abs(f.axis_point[0] - x) < 1e-6
            and abs(f.low[2] - low) < 1e-6
        )
    )


def build() -> Plan:
    """The plan document."""
    data = STEP.read_bytes()
    part = read_step(data, STEP.name).part
    boss, under = ref_to(floor_at(part, 0.0, -1)), ref_to(floor_at(part, 12.0, -1))
    shank, over = ref_to(floor_at(part, 50.0, 1)), ref_to(floor_at(part, 26.0, 1))
    thread, bore = wall(part, 2.5, -8.0, 0.0), wall(part, 6.0, -8.0, 34.0)
    big, small = wall(part, 4.0, 25.0, 12.0), wall(part, 2.5, -29.0, 12.0)
    first = Setup(
        name="OP10",
        title="Boss side",
        offset_register="G54",
        seat=Seat(flip=True, zero=Zero(of="incoming", x=0, y=0, z=1, offset=(0, 0, -2))),
        hold=vise_hold(height=42.0, at=(450, 402)),
        operations=(
            Facing(id="face", name="Face boss side", tool="fm50", step_down=2),
            Outline(
                id="boss-rough",
                name="Rough boss",
                tool="em16",
                faces=(boss,),
                bottom=under,
                step_down=4,
                leave=0.3,
                below=-0.1,
            ),
            Outline(
                id="boss",
                name="Finish boss",
                tool="em16",
                faces=(boss,),
                bottom=under,
                step_down=12,
                feed_mm_min=900,
            ),
            Outline(
                id="flange-rough",
                name="Rough flange",
                tool="em16",
                bottom=over,
                below=0.5,
                step_down=8,
                leave=0.3,
            ),
            Outline(
                id="flange",
                name="Finish flange",
                tool="em16",
                bottom=over,
                below=0.5,
                step_down=30,
                feed_mm_min=900,
            ),
            Drilling(
                id="spot", name="Spot", tool="sd10", cycle="spot", faces=(thread, big, small), chamfer=4.9
            ),
            Drilling(id="drill-m6", name="Drill M6", tool="dr5", cycle="peck", faces=(thread, small), peck=5),
            Drilling(id="drill-8", name="Drill 7.8", tool="dr7_8", cycle="peck", faces=(big,), peck=8),
            Drilling(id="tap-m6", name="Tap M6", tool="tpM6", cycle="tap", faces=(thread,), short=3),
        ),
    )
    nest = Setup(
        name="OP20-NEST",
        title="Nest for OP20",
        offset_register="G55",
        makes=Makes(setup="OP20", item="nest"),
        operations=(
            Pocket(
                id="floor-rough", name="Clear nest", tool="em8", nest="floor", step_down=3, leave_side=0.2
            ),
            Pocket(id="boss-room", name="Room for the boss", tool="em8", nest="boss", step_down=3),
            Outline(id="wall", name="Finish nest wall", tool="em8", nest=True, step_down=10, feed_mm_min=700),
        ),
    )
    second = Setup(
        name="OP20",
        title="Shank side",
        offset_register="G55",
        seat=Seat(zero=Zero(of="hole", hole=thread, z=-1)),
        hold=Hold(
            items=(
                Item(id="plate", fixture="grid-250", x=450, y=220),
                Item(
                    id="nest",
                    fixture="nest-120",
                    on="plate",
                    cut=SoftCut(cutter=8, edge_break=0, clearance=0.3, screwed=True),
                ),
                Item(id="bolt", fixture="m6x40", on="nest", z=7.2, into=thread),
            )
        ),
        operations=(
            Facing(id="face", name="Face shank", tool="fm50", step_down=2),
            Outline(
                id="shank-rough",
                name="Rough shank",
                tool="em16",
                faces=(shank,),
                bottom=over,
                step_down=4,
                leave=0.3,
                below=-0.1,
            ),
            Outline(
                id="shank",
                name="Finish shank",
                tool="em16",
                faces=(shank,),
                bottom=over,
                step_down=26,
                feed_mm_min=900,
            ),
            Pocket(id="bore", name="Bore out", tool="em8", faces=(bore,), step_down=3),
        ),
    )
    shelf = tool_shelf()
    return Plan(
        name="Float-arm carrier",
        part=PartFile(file=STEP.name, sha256=hashlib.sha256(data).hexdigest(), revision="A"),
        billet=Block(material="EN AW-6082", sizing=BySize(size=(80, 60, 60), place=(0.5, 0.5, 0.2))),
        tools=tuple(shelf[name] for name in TOOLS),
        setups=(first, nest, second),
    )


if __name__ == "__main__":
    (HERE / "plan.json").write_text(build().model_dump_json(indent=2) + "\n", encoding="utf-8")
