"""How fast does a tool turn and feed in a material, and what power does it take?

Formulas: ISO 3002-1 and -3 quantities as every machining handbook writes them. Starting values by
material are from memory, of the size handbooks give; they are starting points, not recommendations.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Annotated

from pydantic import Field

from pelvrak.core.cutting.tools import Tool
from pelvrak.core.errors import BadInput
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Frozen
from pelvrak.core.geometry.reckoned import Reckoned
from pelvrak.core.geometry.shelf import shelf
from pelvrak.core.machine.machine import Machine

# Between two passes, over ground that is clear, no faster than this: common practice, no source.
LINK_MM_MIN = 5000.0
SOURCE = "n = 1000·vc / (π·DC), vf = n·fz·z: ISO 3002 quantities; vc and fz starting values from memory"


class Material(Frozen):
    """A work material: density g/cm³; kc11 N/mm² and mc of the specific cutting force; vc m/min; fz as a
    share of DC.

    source: where its values are from.
    """

    name: Annotated[str, Field(min_length=1, max_length=40)] = asked(
        title="Name", help="what it is called", place="what"
    )
    density_g_cm3: Annotated[float, Field(gt=0.1, lt=25)] = asked(title="Density", help="g/cm³", place="what")
    kc11: Annotated[float, Field(gt=10, lt=10_000)] = asked(
        title="kc1.1", help="specific cutting force at 1 mm of chip, N/mm²", place="what"
    )
    mc: Annotated[float, Field(ge=0, lt=1)] = asked(
        title="mc", help="how it grows as the chip gets thinner", place="what"
    )
    vc_carbide: Annotated[float, Field(gt=0, lt=5000)] = asked(
        title="vc, carbide", help="cutting speed of carbide, m/min", place="what"
    )
    vc_hss: Annotated[float, Field(gt=0, lt=5000)] = asked(
        title="vc, HSS", help="cutting speed of high-speed steel, m/min", place="what"
    )
    fz_share: Annotated[float, Field(gt=0, lt=0.2)] = asked(
        title="fz", help="feed of a tooth, as a share of DC", unit="× DC", place="what"
    )
    magnetic: bool = asked(
        False, title="Magnetic", help="whether a magnet chuck draws it: iron and most steels", place="what"
    )
    source: Annotated[str, Field(max_length=200)] = asked(
        "", title="Source", help="the table its values are from", place="what"
    )


class CuttingData(Frozen):
    """Spindle speed, feed and plunge feed of one operation, each with its reckoning; link_mm_min: where
    nothing is cut.
    """

    speed_rpm: Reckoned
    feed_mm_min: Reckoned
    plunge_mm_min: float
    link_mm_min: float


def materials() -> dict[str, Material]:
    """The shipped materials by name."""
    return {row["name"]: Material.model_validate(row) for row in shelf("cutting", "materials.json")}


def material_of(name: str, own: Iterable[Material] = ()) -> Material:
    """A material by its name. own: of a plan, before those that ship. Raises BadInput when there is none."""
    material = next((one for one in own if one.name == name), materials().get(name))
    if material is None:
        raise BadInput(
            "billet.unknown_material",
            "billet.material",
            f"there is no material {name!r}",
            "choose one from the list",
        )
    return material


def spindle_speed(vc_m_min: float, diameter_mm: float) -> float:
    """N = 1000 vc / (π D), rpm."""
    return 1000.0 * vc_m_min / (math.pi * diameter_mm)


def table_feed(n_rpm: float, fz_mm: float, teeth: int) -> float:
    """Vf = n fz z, mm/min."""
    return n_rpm * fz_mm * teeth


def removal_rate(ap_mm: float, ae_mm: float, vf_mm_min: float) -> float:
    """Q = ap ae vf / 1000, cm³/min."""
    return ap_mm * ae_mm * vf_mm_min / 1000.0


def specific_force(material: Material, thickness_mm: float) -> float:
    """Kc = kc1.1 h^-mc, N/mm² (Kienzle)."""
    return float(material.kc11 * thickness_mm**-material.mc)


def cutting_power(ap_mm: float, ae_mm: float, vf_mm_min: float, kc_n_mm2: float) -> float:
    """Pc = ap ae vf kc / (60·10⁶), kW."""
    return ap_mm * ae_mm * vf_mm_min * kc_n_mm2 / 60e6


def mean_force(removal_cm3_min: float, kc_n_mm2: float, vc_m_min: float) -> float:
    """Mean tangential force of a cutter, N: Fc = Pc / vc = Q·kc / vc."""
    return removal_cm3_min * kc_n_mm2 / vc_m_min


def drill_thrust(diameter_mm: float, feed_mm: float, kc_n_mm2: float, point_deg: float) -> float:
    """Feed force of a drill, N: Ff = 0.5·kc·(D/2)·f·sin(SIG/2), as handbooks of drilling write it (from
    memory).
    """
    return 0.5 * kc_n_mm2 * diameter_mm / 2 * feed_mm * math.sin(math.radians(point_deg / 2))


def drill_torque(diameter_mm: float, feed_mm: float, kc_n_mm2: float) -> float:
    """Torque of a drill, N·mm: Mc = kc·f·D²/8."""
    return kc_n_mm2 * feed_mm * diameter_mm**2 / 8


def tap_torque(diameter_mm: float, pitch_mm: float, kc_n_mm2: float) -> float:
    """Torque of a tap, N·mm: M = kc·P²·D/8, as handbooks of threading write it (from memory)."""
    return kc_n_mm2 * pitch_mm**2 * diameter_mm / 8


def reamer_torque(diameter_mm: float, allowance_mm: float, feed_mm: float, kc_n_mm2: float) -> float:
    """Torque of a reamer, N·mm: the force kc·ap·f on the allowance left on the radius, half a diameter from
    the axis.
    """
    return kc_n_mm2 * allowance_mm * feed_mm * diameter_mm / 2


def cutting_data(
    tool: Tool,
    material: Material,
    machine: Machine,
    speed_rpm: float | None = None,
    feed_mm_min: float | None = None,
    shares: tuple[float, float] = (1.0, 1.0),
) -> CuttingData:
    """Speed and feed for a tool in a material on a machine; typed values win and are checked. shares: of the
    computed speed and feed that the operation's finish takes.

    Raises BadInput when a typed speed or feed is beyond the machine.
    """
    if tool.kind == "probe":
        return _touching(feed_mm_min)
    speed = _speed(tool, material, machine, speed_rpm, shares[0])
    n, link = speed.value, min(LINK_MM_MIN, machine.feed_max_mm_min)
    if tool.kind == "tap":
        assert tool.TP is not None
        feed = n * tool.TP
        told = Reckoned(
            value=feed, unit="mm/min", formula="vf = n·TP", with_values=f"{n:.0f}·{tool.TP:g}", source=SOURCE
        )
        return CuttingData(speed_rpm=speed, feed_mm_min=told, plunge_mm_min=feed, link_mm_min=link)
    share = (
        material.fz_share
        * (1.6 if tool.kind in ("drill", "reamer") else 1.0)
        * (0.7 if tool.kind == "spot_drill" else 1.0)
    )
    fz = round(min(0.16, share * tool.DC) * shares[1], 4)
    if feed_mm_min is not None:
        if feed_mm_min > machine.feed_max_mm_min:
            raise BadInput(
                "cut.feed",
                "feed_mm_min",
                f"{feed_mm_min:.0f} mm/min is beyond {machine.name} ({machine.feed_max_mm_min:.0f})",
                "type a feed within its range",
            )
        feed, formula, values = feed_mm_min, "vf as typed", f"fz = {feed_mm_min / n / tool.NOF:.3f} mm"
    else:
        feed = float(round(min(table_feed(n, fz, tool.NOF), machine.feed_max_mm_min), -1))
        formula, values = "vf = n·fz·z", f"{n:.0f}·{fz:g}·{tool.NOF} = {table_feed(n, fz, tool.NOF):.0f}"
    told = Reckoned(value=feed, unit="mm/min", formula=formula, with_values=values, source=SOURCE)
    plunge = (
        feed if tool.kind in ("drill", "reamer", "boring_bar", "spot_drill") else float(round(feed * 0.4, -1))
    )
    return CuttingData(speed_rpm=speed, feed_mm_min=told, plunge_mm_min=max(plunge, 10.0), link_mm_min=link)


def _touching(feed_mm_min: float | None) -> CuttingData:
    """Of a probe: its spindle stands, and it goes as its operation says."""
    stands = Reckoned(value=0.0, unit="rpm", formula="a probe stands", with_values="n = 0", source=SOURCE)
    feed = feed_mm_min or LINK_MM_MIN
    told = Reckoned(value=feed, unit="mm/min", formula="as its operation says", with_values="", source=SOURCE)
    return CuttingData(speed_rpm=stands, feed_mm_min=told, plunge_mm_min=feed, link_mm_min=feed)


def _speed(tool: Tool, material: Material, machine: Machine, typed: float | None, share: float) -> Reckoned:
    """Spindle speed, rpm. Raises BadInput when a typed one is beyond the machine."""
    spindle = machine.spindle
    if typed is not None:
        if not spindle.min_rpm <= typed <= spindle.max_rpm:
            raise BadInput(
                "cut.speed",
                "speed_rpm",
                f"{typed:.0f} rpm is beyond {machine.name} ({spindle.min_rpm:.0f} to {spindle.max_rpm:.0f})",
                "type a speed within its range",
            )
        return Reckoned(
            value=typed, unit="rpm", formula="n as typed", with_values=f"n = {typed:.0f}", source=SOURCE
        )
    vc = material.vc_hss if tool.material == "hss" else material.vc_carbide
    if tool.kind in ("reamer", "tap"):
        vc /= 5
    vc *= share
    wanted = spindle_speed(vc, tool.DC)
    values = f"1000·{vc:g} / (π·{tool.DC:g}) = {wanted:.0f}"
    if wanted > spindle.max_rpm:
        values += f", held at the machine's {spindle.max_rpm:.0f}"
    return Reckoned(
        value=float(round(min(max(wanted, spindle.min_rpm), spindle.max_rpm), -1)),
        unit="rpm",
        formula="n = 1000·vc / (π·DC)",
        with_values=values,
        source=SOURCE,
    )
