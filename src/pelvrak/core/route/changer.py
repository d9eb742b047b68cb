"""How long is each tool in cut over the route, and what is changed in the changer between its loads?"""

from __future__ import annotations

from pelvrak.core.geometry.part import Frozen
from pelvrak.core.route.plan import Plan
from pelvrak.core.route.report import SetupReport


class ToolUse(Frozen):
    """A tool over the whole route. setups: that use it; in_cut_s: how long it cuts in all of them, s; worn:
    of its life and its twins', where that is told; pieces: how many parts it lasts for.
    """

    tool: str
    setups: tuple[str, ...]
    in_cut_s: float
    worn: float | None = None
    pieces: int | None = None


class ToolChange(Frozen):
    """A place of a machine's changer before a setup. put, taken: ids of the tool that comes in and of the one
    that was there.
    """

    setup: str
    machine: str
    place: int
    put: str
    taken: str | None = None


class Tooling(Frozen):
    """What the tools do over a route. changes: of each setup, in order; the first load of a machine puts all
    in.
    """

    uses: tuple[ToolUse, ...]
    changes: tuple[ToolChange, ...]


def changer(plan: Plan, setups: tuple[SetupReport, ...]) -> Tooling:
    """Tools by how long they cut, and what is put where before each setup. setups: as computed."""
    cut: dict[str, float] = {}
    for report in setups:
        for operation in report.operations:
            cut[operation.tool] = cut.get(operation.tool, 0.0) + operation.in_cut_s
    uses, changes = [], []
    tools = {tool.id: tool for tool in plan.tools}
    settled = plan.settled().setups
    for tool in plan.tools:
        seconds = cut.get(tool.id, 0.0)
        life = None if tool.life_min is None else 60 * tool.life_min * len(tool.places)
        uses.append(
            ToolUse(
                tool=tool.id,
                setups=tuple(s.name for s in settled if any(o.tool == tool.id for o in s.operations)),
                in_cut_s=seconds,
                worn=None if life is None else seconds / life,
                pieces=None if life is None or seconds <= 0 else int(life / seconds),
            )
        )
    holds: dict[str, dict[int, str]] = {}
    for setup in settled:
        there = holds.setdefault(setup.machine, {})
        for name in dict.fromkeys(one.tool for one in setup.operations if one.tool in tools):
            for place in tools[name].places:
                before = there.get(place)
                if before != name:
                    there[place] = name
                    changes.append(
                        ToolChange(
                            setup=setup.name, machine=setup.machine, place=place, put=name, taken=before
                        )
                    )
    return Tooling(uses=tuple(uses), changes=tuple(changes))
