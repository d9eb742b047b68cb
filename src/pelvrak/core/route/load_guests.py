"""Setups of other plans that stand in a load: cut there as they are planned, read only."""

from __future__ import annotations

from dataclasses import dataclass

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.findings import Finding
from pelvrak.core.load.load import Load
from pelvrak.core.route.load_places import CutSetup, Stood, wrong_with_load
from pelvrak.core.route.load_report import GuestReport
from pelvrak.core.route.naming import TOOL, nameless_tool
from pelvrak.core.route.report import SetupReport
from pelvrak.core.route.run import Run


@dataclass(frozen=True)
class Guests:
    """Setups of other plans as they are cut, by how the load calls them; what is told of them, and what is
    wrong.
    """

    cuts: dict[str, CutSetup]
    reports: dict[str, SetupReport]
    told: tuple[GuestReport, ...] = ()
    findings: tuple[Finding, ...] = ()


def guests_in(run: Run, load: Load, machine: str) -> Guests:
    """All guests of a load that could be cut. machine: its own setups stand on, by its id."""
    cuts: dict[str, CutSetup] = {}
    reports: dict[str, SetupReport] = {}
    told: list[GuestReport] = []
    found: list[Finding] = []
    for guest in load.guests:
        if run.visit is None:
            found.append(
                wrong_with_load(None, "load.no_guest", f"No other plan is at hand for {guest.called}.")
            )
            continue
        try:
            came = run.visit(guest, load.name)
        except BadInput as bad:
            found.append(
                wrong_with_load(
                    None, "load.no_guest", f"{guest.called} of {load.name} cannot stand there: {bad}."
                )
            )
            continue
        one = came.report
        if one.machine != machine:
            said = f"{guest.called} is planned for {one.machine}, {load.name} stands on {machine}."
            found.append(wrong_with_load(None, "load.machines", said))
            continue
        wrong = [each for each in one.all_findings() if each.severity == "error"]
        if wrong or came.cut is None:
            why = wrong[0].sentence if wrong else "nothing of it is cut."
            found.append(
                wrong_with_load(None, "load.no_guest", f"{guest.called} of {load.name} is not ready: {why}")
            )
        if came.cut is None:
            continue
        cuts[guest.called], reports[guest.called] = came.cut, one
        told.append(
            GuestReport(
                called=guest.called,
                plan=came.plan.name,
                setup=guest.setup,
                zero_from_work=one.zero_from_work,
                low=one.low,
                high=one.high,
                hold=one.hold,
                incoming_key=one.incoming_key,
                outgoing_key=one.outgoing_key,
            )
        )
    return Guests(cuts, reports, tuple(told), tuple(found))


def tools_of(stood: list[Stood]) -> dict[int, Tool]:
    """The tools that a load is cut with, by their places in the changer."""
    return {planned.tool.place: planned.tool for one in stood for planned in one.cut.planned}


def changer_clashes(load: Load, stood: list[Stood]) -> list[Finding]:
    """Tools of several plans that want one place of the changer, and are not alike."""
    first: dict[int, tuple[str, Tool]] = {}
    out = []
    for one in stood:
        for tool in (planned.tool for planned in one.cut.planned):
            owner, there = first.setdefault(tool.place, (one.place.key, tool))
            if nameless_tool(there, TOOL) != nameless_tool(tool, TOOL):
                said = (
                    f"{load.name} wants {there.name} in place {tool.place} of the changer for {owner}, and"
                    f" {tool.name} for {one.place.key}."
                )
                out.append(wrong_with_load(None, "load.changer", said))
    return list({one.sentence: one for one in out}.values())
