"""Writes the demo plans: OP10, the soft jaws and OP20 of the sluice-gate encoder housing, complete.

Faces are found by their geometry in the STEP file beside this script. Run: python build_plan.py
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from pelvrak.core.billet.block import Block, BySize
from pelvrak.core.cutting.operations import Drilling, Facing, Operation, Outline, Pocket
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.callout import Callout
from pelvrak.core.geometry.part import Face, FaceRef, Part, ref_to
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.holding.hold import Hold, Item, Pinned, SoftCut, WorkPlace, vise_hold
from pelvrak.core.route.plan import Makes, PartFile, Plan, Setup
from pelvrak.core.route.positions import IndexPosition
from pelvrak.core.seat.seating import Seat, Zero

HERE = Path(__file__).parent
STEP = HERE / "encoder-housing.step"
TOOLS = ("fm50", "em16", "em12", "em10", "em10l", "em8", "em3", "sd10", "dr5", "tpM6", "dr7_8", "rm8")


def floor_at(part: Part, height: float, looking: float) -> Face:
    """The plane face at a height that looks up (1) or down (-1); the largest one."""
    faces = [
        f
        for f in part.faces
        if f.normal and f.normal[2] * looking > 0.999 and abs(f.centre[2] - height) < 1e-6
    ]
    return max(faces, key=lambda f: f.area)


def bores(part: Part, diameter: float) -> tuple[FaceRef, ...]:
    """Walls of all upright holes of a diameter."""
    return tuple(
        ref_to(part.faces[h.faces[0]])
        for h in part.holes
        if abs(h.diameter - diameter) < 1e-6 and abs(h.axis[2]) > 0.999
    )


def tilted(part: Part) -> tuple[Face, Face]:
    """The sensor face, 30° down, and its window's floor."""
    faces = [f for f in part.faces if f.normal and abs(f.normal[1] - 0.5) < 1e-3 and f.normal[2] > 0.8]
    return max(faces, key=lambda f: f.area), min(faces, key=lambda f: f.area)


def along_y(part: Part, diameter: float) -> tuple[FaceRef, ...]:
    """Walls of the holes of a diameter in the end face."""
    return tuple(
        ref_to(part.faces[h.faces[0]])
        for h in part.holes
        if abs(h.axis[1]) > 0.999 and abs(h.diameter - diameter) < 1e-6
    )


def at_angle(part: Part) -> tuple[FaceRef, ...]:
    """Walls of the cover's screw holes, square to the sensor face."""
    return tuple(ref_to(part.faces[h.faces[0]]) for h in part.holes if 0.4 < abs(h.axis[1]) < 0.6)


def from_the_side(part: Part) -> tuple[tuple[IndexPosition, IndexPosition], tuple[Operation, ...]]:
    """The sensor face and the end face looked at squarely, and what is cut there."""
    face, floor = (ref_to(one) for one in tilted(part))
    port = along_y(part, 10.5)
    screws = (*at_angle(part), *along_y(part, 5.0))
    everywhere = {"position": "sensor", "repeated_at": ("end",), "faces": screws}
    return (IndexPosition(name="sensor", face=face), IndexPosition(name="end", face=port[0])), (
        Facing(id="sensor-face", name="Sensor face", tool="em16", position="sensor", face=face, step_down=3),
        Pocket(
            id="window-rough",
            name="Rough sensor window",
            tool="em3",
            position="sensor",
            faces=(floor,),
            step_down=1,
            leave_side=0.1,
        ),
        Outline(
            id="window",
            name="Finish sensor window",
            tool="em3",
            position="sensor",
            side="inside",
            faces=(floor,),
            step_down=4,
            feed_mm_min=400,
        ),
        Pocket(id="port", name="Gland port", tool="em8", position="end", faces=port, below=0.5, step_down=4),
        Drilling(
            id="spot-screws", name="Spot cross holes", tool="sd10", cycle="spot", chamfer=4.6, **everywhere
        ),
        Drilling(id="drill-screws", name="Drill cross holes", tool="dr5", cycle="peck", peck=5, **everywhere),
    )


def build() -> Plan:
    """The plan document."""
    return _build()[0]


def _build() -> tuple[Plan, Plan]:
    """The route over three machines' clampings, and the one that needs fewer on a trunnion."""
    data = STEP.read_bytes()
    part = read_step(data, STEP.name).part
    bore, dowels, threads = bores(part, 35.0), bores(part, 8.0), bores(part, 5.0)
    seat, pocket = ref_to(floor_at(part, 36.0, 1)), ref_to(floor_at(part, 18.0, 1))
    relief, groove = ref_to(floor_at(part, 8.0, -1)), ref_to(floor_at(part, 3.0, -1))
    top = Setup(
        name="OP10",
        title="Top",
        offset_register="G54",
        # The saw cut is 1.5 mm above the finished top: zero lies that much below what can be touched.
        seat=Seat(zero=Zero(of="incoming", x=0, y=0, z=1, offset=(0, 0, -1.5))),
        hold=vise_hold(height=44.0, at=(450, 402)),
        operations=(
            Facing(id="face", name="Face top", tool="fm50", step_down=1.5),
            Outline(
                id="outline-rough", name="Rough outline", tool="em16", below=0.5, step_down=11, leave=0.3
            ),
            Outline(
                id="outline", name="Finish outline", tool="em16", below=0.5, step_down=43, feed_mm_min=1200
            ),
            Pocket(
                id="bore-rough",
                name="Rough bore",
                tool="em10l",
                faces=bore,
                below=0.5,
                step_down=7,
                leave_side=0.2,
            ),
            Pocket(id="seat", name="Seal seat", tool="em12", faces=(seat,), step_down=6),
            Outline(
                id="bore",
                name="Finish bore 35 H7",
                tool="em10l",
                side="inside",
                faces=bore,
                below=0.5,
                step_down=43,
                feed_mm_min=600,
            ),
            Pocket(
                id="pocket-rough",
                name="Rough electronics pocket",
                tool="em10",
                faces=(pocket,),
                step_down=8,
                leave_side=0.2,
            ),
            Outline(
                id="pocket",
                name="Finish electronics pocket",
                tool="em10",
                side="inside",
                faces=(pocket,),
                step_down=24,
                feed_mm_min=800,
            ),
            Drilling(id="spot-m6", name="Spot M6", tool="sd10", cycle="spot", faces=threads, chamfer=6.4),
            Drilling(
                id="spot-dowel", name="Spot dowels", tool="sd10", cycle="spot", faces=dowels, chamfer=8.6
            ),
            Drilling(id="drill-m6", name="Drill M6", tool="dr5", cycle="peck", faces=threads, peck=5),
            Drilling(id="drill-dowel", name="Drill dowels", tool="dr7_8", cycle="peck", faces=dowels, peck=8),
            Drilling(id="tap-m6", name="Tap M6", tool="tpM6", cycle="tap", faces=threads, short=3),
            Drilling(id="ream-dowel", name="Ream dowels 8 H7", tool="rm8", cycle="ream", faces=dowels),
        ),
    )
    under = Setup(
        name="OP20",
        title="Underneath",
        offset_register="G55",
        seat=Seat(flip=True, zero=Zero(of="hole", hole=bore[0], z=-1)),
        # The outline leans 6° in plan: soft jaws, cut to it as OP10 leaves it.
        hold=Hold(
            items=(
                Item(id="vise", fixture="bench-160", x=450, y=420),
                Item(id="jaws", fixture="soft-160x45", on="vise", cut=SoftCut()),
            )
        ),
        operations=(
            Facing(id="face", name="Face to 42", tool="fm50", step_down=3),
            Pocket(
                id="relief-rough",
                name="Rough relief pocket",
                tool="em8",
                faces=(relief,),
                step_down=4,
                leave_side=0.2,
            ),
            Outline(
                id="relief",
                name="Finish relief pocket",
                tool="em8",
                side="inside",
                faces=(relief,),
                step_down=8,
                feed_mm_min=700,
            ),
            Pocket(id="groove", name="Ring groove", tool="em3", faces=(groove,), step_down=1),
        ),
    )
    jaws = Setup(
        name="OP20-JAWS",
        title="Jaws for OP20",
        offset_register="G55",
        makes=Makes(setup="OP20", item="jaws"),
        operations=(
            Pocket(
                id="floor-rough", name="Clear nest", tool="em10", nest="floor", step_down=2, leave_side=0.2
            ),
            Outline(
                id="wall", name="Finish nest wall", tool="em10", nest=True, step_down=10, feed_mm_min=800
            ),
            Outline(id="rim", name="Break the floor's rim", tool="em3", nest=True, below=1.0, step_down=1),
        ),
    )
    positions, operations = from_the_side(part)
    side = Setup(
        name="OP30",
        title="Sensor and end face",
        machine="vertical-760-a",
        offset_register="G54",
        seat=Seat(zero=Zero(of="hole", hole=bore[0], z=1)),
        # On two pins in the reamed holes, a strap on either end.
        hold=Hold(
            items=(
                Item(id="pin", fixture="pin-8", x=108, y=120),
                Item(id="pin2", fixture="pin-8-relieved", x=174, y=120, turn_deg=90),
                Item(id="left", fixture="strap-80", x=112, y=100, turn_deg=-90),
                Item(id="right", fixture="strap-80", x=208, y=100, turn_deg=90),
            ),
            work=WorkPlace(pinned=(Pinned(hole=dowels[0], pin="pin"), Pinned(hole=dowels[1], pin="pin2"))),
        ),
        positions=positions,
        operations=operations,
    )
    merged = top.model_copy(
        update={
            "title": "Top, sensor and end face",
            "machine": "trunnion-ac",
            "hold": vise_hold("low-100", "hard-100", "par-125x5", 22.0, at=(140, 238)),
            "positions": positions,
            "operations": (*top.operations, *operations),
        }
    )
    shelf = tool_shelf()
    plan = Plan(
        name="Sluice-gate encoder housing",
        part=PartFile(
            file=STEP.name,
            sha256=hashlib.sha256(data).hexdigest(),
            revision="C",
            callouts=tuple(
                Callout(face=face, text=text)
                for text, faces in (("H7", bore), ("H7", dowels), ("M6", threads))
                for face in faces
            ),
        ),
        billet=Block(material="EN AW-6082", sizing=BySize(size=(130, 90, 52), place=(0.5, 0.5, 0.85))),
        tools=tuple(shelf[name] for name in TOOLS),
        setups=(top, jaws, under, side),
    )
    # The slanting face now lies below in the jaws: they go deeper, past what the rim's cutter reaches.
    deeper = under.model_copy(
        update={
            "hold": Hold(
                items=(
                    Item(id="vise", fixture="bench-160", x=450, y=420),
                    Item(id="jaws", fixture="soft-160x45", on="vise", cut=SoftCut(edge_break=0.0)),
                )
            )
        }
    )
    plain = jaws.model_copy(update={"operations": jaws.operations[:2]})
    return plan, plan.model_copy(
        update={"name": "Encoder housing on the trunnion", "setups": (merged, plain, deeper)}
    )


if __name__ == "__main__":
    for name, plan in zip(("plan.json", "trunnion.json"), _build(), strict=True):
        (HERE / name).write_text(plan.model_dump_json(indent=2) + "\n", encoding="utf-8")
