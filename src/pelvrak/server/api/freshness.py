"""What of an older report still holds for a plan that was edited, and how is it shown until it is computed
again?
"""

from __future__ import annotations

from typing import Any

from pelvrak.core.route.report import Report

# What cutting alone tells of a setup.
OF_CUTTING = (
    "outgoing_key",
    "outgoing_volume_mm3",
    "removed_volume_mm3",
    "outgoing_mass_kg",
    "time_s",
    "cut_z",
    "cut_z_of",
    "below_rest",
    "operations",
    "program_key",
    "written_key",
    "written_as",
    "planned_key",
    "planned_s",
    "proof",
)
# What is told in a program's words and changes nothing that is cut or held.
SAID = {
    "setup": ("name", "title", "program_number"),
    "operation": ("name", "id"),
    "tool": ("name", "id", "place"),
}


def nameless(plan: dict[str, Any]) -> dict[str, Any]:
    """A plan document without names, ids, titles and changer places, and without tools that nothing uses.

    Tools and setups that others name are named by their number instead.
    """
    setups: list[dict[str, Any]] = plan["setups"]
    used = dict.fromkeys(one["tool"] for setup in setups for one in setup.get("operations", []))
    numbers = {name: f"tool {number}" for number, name in enumerate(used)}
    places = {setup["name"]: number for number, setup in enumerate(setups)}
    tools = {one["id"]: _without(one, "tool") for one in plan.get("tools", [])}

    def bare(setup: dict[str, Any]) -> dict[str, Any]:
        operations = [
            {**_without(one, "operation"), "tool": numbers[one["tool"]]}
            for one in setup.get("operations", [])
        ]
        makes, incoming = setup.get("makes"), setup.get("incoming")
        made = None if makes is None else {**makes, "setup": places.get(makes["setup"])}
        told = {**_without(setup, "setup"), "operations": operations, "makes": made}
        if incoming is not None and incoming["rule"] == "earlier":
            place = places.get(incoming["setup"])
            there = [] if place is None else [one["id"] for one in setups[place].get("operations", [])]
            after = incoming.get("after")
            number = there.index(after) if after in there else after
            told["incoming"] = {**incoming, "setup": place, "after": number}
        return told

    division = (plan.get("pieces") or {}).get("division")
    fixtures = [
        {key: value for key, value in one.items() if key != "name"} for one in plan.get("fixtures", [])
    ]
    return {
        **plan,
        "name": "",
        "tools": [tools.get(name) for name in used],
        "fixtures": fixtures,
        "setups": [bare(setup) for setup in setups],
        "layout": layout_of(plan),
        "division": None if division is None else {**division, "after": places.get(division["after"], 0)},
    }


def layout_of(plan: dict[str, Any]) -> Any:
    """How several parts lie in the billet of a plan document; None where there is one."""
    return (plan.get("pieces") or {}).get("layout")


def _comes_apart_otherwise(before: dict[str, Any] | None, now: dict[str, Any] | None) -> int | None:
    """The first setup that begins with another piece, where the billet comes apart otherwise than before."""
    if before == now:
        return None
    return 1 + min(int(one["after"]) for one in (before, now) if one is not None)


def _without(element: dict[str, Any], kind: str) -> dict[str, Any]:
    return {key: value for key, value in element.items() if key not in SAID[kind]}


def stale_from(reported: dict[str, Any], plan: dict[str, Any]) -> int | None:
    """First setup a report made for one plan is out of date for in another; None when it holds for all."""
    reported, names = nameless(reported), [one["name"] for one in plan["setups"]]
    made_by = {
        (one.get("makes") or {}).get("setup"): number
        for number, one in reversed(list(enumerate(plan["setups"])))
    }
    plan = nameless(plan)
    shared = ("part", "billet", "layout", "tools", "fixtures", "machines", "resolution_mm")
    if any(reported.get(name) != plan.get(name) for name in shared):
        return 0
    before, after = reported["setups"], plan["setups"]
    apart = _comes_apart_otherwise(reported["division"], plan["division"])
    for index in range(max(len(before), len(after))):
        if index == apart:
            return index
        if index >= len(before) or index >= len(after) or before[index] != after[index]:
            # Jaws are cut before the setup they are solved for.
            made = made_by.get(names[index]) if index < len(names) else None
            return index if made is None else min(made, index)
    # What comes apart after the last setup is told with that.
    return None if apart is None else max(len(after) - 1, 0)


def new_names(before: dict[str, Any], after: dict[str, Any]) -> dict[str, str]:
    """What setups of one plan are called in another, where they differ in nothing else; empty where there are
    more or fewer.
    """
    old, new = before["setups"], after["setups"]
    if len(old) != len(new) or nameless(before)["setups"] != nameless(after)["setups"]:
        return {}
    return {a["name"]: b["name"] for a, b in zip(old, new, strict=True) if a["name"] != b["name"]}


def called_now(report: Report, names: dict[str, str]) -> Report:
    """A report with setups called otherwise: by name, old to new. Sentences stay as they were until it is
    told anew.
    """
    if not names:
        return report
    told = _setups_called(report.model_dump(mode="json"), names)
    for one in told["setups"]:
        one |= {key: names.get(one[key], one[key]) for key in ("name", "makes")}
    if told["pieces"] is not None:
        told["pieces"]["after"] = names.get(told["pieces"]["after"], told["pieces"]["after"])
    return Report.model_validate(told)


def _setups_called(value: Any, names: dict[str, str]) -> Any:
    """Plain values with every field that names a setup as it is called now: of findings, of cures, of
    makers.
    """
    if isinstance(value, dict):
        return {
            key: names.get(one, one)
            if key == "setup" and isinstance(one, str)
            else _setups_called(one, names)
            for key, one in value.items()
        }
    return [_setups_called(one, names) for one in value] if isinstance(value, list) else value


def billet_late(reported: dict[str, Any], plan: dict[str, Any]) -> bool:
    """Whether the billet a report was made for is another than a plan's, or lies round another part."""
    return (
        any(reported.get(name) != plan.get(name) for name in ("billet", "resolution_mm"))
        or reported["part"].get("sha256") != plan["part"].get("sha256")
        or layout_of(reported) != layout_of(plan)
    )


def laid_over(
    done: Report | None, stale: int | None, so_far: Report, names: list[str]
) -> tuple[Report, int | None, int | None]:
    """What a plan being computed shows: (report, first setup out of date, setup of which all but the cutting
    is current).

    done: of an earlier plan or None, out of date from setup `stale` on; so_far: of the newest plan, as far as
    it has come; names: of its setups. What is not computed anew stays as it was until it is.
    """
    fresh = [one for one in so_far.setups if one.name != so_far.begun]
    before = {one.name: one for one in done.setups if one.name in names} if done is not None else {}
    setups = list(fresh)
    begun = next((one for one in so_far.setups if one.name == so_far.begun), None)
    if begun is not None:
        old = before.get(begun.name)
        cut = {} if old is None else {name: getattr(old, name) for name in OF_CUTTING}
        setups.append(begun.model_copy(update=cut))
    shown = {one.name for one in setups}
    setups += [one for name, one in before.items() if name not in shown]
    numbers = {one.number for one in so_far.makers}
    makers = (*so_far.makers, *(one for one in (done.makers if done else ()) if one.number not in numbers))
    report = so_far.model_copy(
        update={"setups": tuple(setups), "makers": makers, "comparison": done.comparison if done else None}
    )
    # What the edit does not touch is current although it has not been looked at again.
    late = len(fresh) if done is None or stale is None else max(len(fresh), stale)
    return report, late, None if begun is None else len(fresh)
