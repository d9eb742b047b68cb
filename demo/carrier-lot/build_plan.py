"""Writes the fourth demo plan: the float-arm carrier as a lot of 12. Six boss sides in one flat bar, sawn
apart; then two setups on one base plate, two of each, with one program.

The part and its operations are the second demo's. Run: python build_plan.py
"""

from __future__ import annotations

import hashlib
import importlib.util
import sys
from pathlib import Path

from pelvrak.core.billet.block import Block, ByAllowance
from pelvrak.core.billet.several import Division, Rows, Several
from pelvrak.core.cutting.operations import Operation
from pelvrak.core.cutting.tools import tool_shelf
from pelvrak.core.geometry.step_file import read_step
from pelvrak.core.holding.hold import Hold, Item, SoftCut, vise_hold
from pelvrak.core.load.load import Load, Stand
from pelvrak.core.route.plan import Makes, PartFile, Plan, Setup

HERE = Path(__file__).parent
ALONE = HERE.parent / "float-carrier" / "build_plan.py"
STEP = HERE / "float-carrier.step"
PLATE = "plate"


def second_demo() -> Plan:
    """The carrier's own plan, one at a time."""
    spec = importlib.util.spec_from_file_location("carrier_alone", ALONE)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    plan: Plan = module.build()
    return plan


def nest_for(setup: Setup, name: str, register: str, later: str) -> Setup:
    """The setup that cuts the nest of a later one."""
    return setup.model_copy(
        update={
            "name": name,
            "title": f"Nest for {later}",
            "offset_register": register,
            "makes": Makes(setup=later, item="nest"),
        }
    )


def in_nest(setup: Setup, at: tuple[float, float]) -> Hold:
    """The carrier's nest on the base plate, where it is screwed on."""
    # The larger block is higher: the bolt goes further up into it.
    bolt = next(item for item in setup.hold.items if item.id == "bolt").model_copy(update={"z": 9.8})
    return Hold(
        items=(
            Item(id=PLATE, fixture="grid-400", x=450, y=220),
            Item(
                id="nest",
                fixture="nest-160",
                on=PLATE,
                x=at[0],
                y=at[1],
                cut=SoftCut(cutter=8, edge_break=0, clearance=0.3, screwed=True),
            ),
            bolt,
        )
    )


def build() -> Plan:
    """The plan document."""
    data = STEP.read_bytes()
    read_step(data, STEP.name)
    alone = second_demo()
    first, nest, second = alone.setups
    cuts: dict[str, Operation] = {one.id: one for one in second.operations}
    bar = first.model_copy(
        update={
            "hold": vise_hold(height=30.0, at=(450, 402)),
            "title": "Six boss sides",
            "features_called": True,
        }
    )
    rough = second.model_copy(
        update={
            "title": "Rough shank",
            "load": "L1",
            "hold": in_nest(second, (-100.0, -75.0)),
            "operations": (cuts["face"], cuts["shank-rough"]),
        }
    )
    finish = second.model_copy(
        update={
            "name": "OP30",
            "title": "Finish shank",
            "load": "L1",
            "offset_register": "G57",
            "hold": in_nest(second, (-100.0, 75.0)),
            "operations": (cuts["shank"], cuts["bore"]),
        }
    )
    shelf = tool_shelf()
    return Plan(
        name="Carriers, a lot of 12",
        part=PartFile(file=STEP.name, sha256=hashlib.sha256(data).hexdigest(), revision="A"),
        billet=Block(
            material="EN AW-6082",
            sizing=ByAllowance(x_minus=5, x_plus=5, y_minus=5, y_plus=5, z_minus=2, z_plus=8),
        ),
        pieces=Several(
            layout=Rows(columns=3, rows=2, along_columns=18, along_rows=18),
            division=Division(after="OP10", kerf=3),
        ),
        tools=tuple(shelf[one.id] for one in alone.tools),
        setups=(
            bar,
            nest_for(nest, "OP20-NEST", "G55", "OP20"),
            rough,
            nest_for(nest, "OP30-NEST", "G57", "OP30"),
            finish,
        ),
        loads=(
            Load(
                name="L1",
                order="fastest",
                between="over",
                lot=12,
                setup_min=30,
                stands=(
                    Stand(setup="OP20", columns=2, pitch_x=200, stays=(PLATE,)),
                    Stand(setup="OP30", columns=2, pitch_x=200, stays=(PLATE,)),
                ),
            ),
        ),
        resolution_mm=1.0,
    )


if __name__ == "__main__":
    (HERE / "plan.json").write_text(build().model_dump_json(indent=2) + "\n", encoding="utf-8")
