"""Which block lies round the part, and does the part fit in it?"""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from pelvrak.core.cures import Cure, Element, put
from pelvrak.core.findings import Finding
from pelvrak.core.forms import asked
from pelvrak.core.geometry.part import Frozen, Part, Vector

SIDES = ("x-", "x+", "y-", "y+", "z-", "z+")
Allowance = Annotated[float, Field(ge=-500, le=500)]
Size = Annotated[float, Field(gt=0, le=2000)]
Place = Annotated[float, Field(ge=-5000, le=5000)]
Share = Annotated[float, Field(ge=0, le=1)]
AXES = ("x", "y", "z")
MATERIAL: Any = asked(
    "EN AW-6082", title="Material", help="by its name in the list of materials", widget="none"
)

# Spare material on a side that was too small: common practice, no source.
CLEAN_UP_MM = 2.0


class ByAllowance(Frozen):
    """Sized from the part: so much is added on each side, mm."""

    rule: Literal["allowance"] = "allowance"
    called: ClassVar[str] = "allowance"

    x_minus: Allowance = asked(5.0, title="Left x−", help="added on the left", unit="mm")
    x_plus: Allowance = asked(5.0, title="Right x+", help="added on the right", unit="mm")
    y_minus: Allowance = asked(5.0, title="Front y−", help="added in front", unit="mm")
    y_plus: Allowance = asked(5.0, title="Back y+", help="added behind", unit="mm")
    z_minus: Allowance = asked(5.0, title="Under z−", help="added underneath", unit="mm")
    z_plus: Allowance = asked(2.0, title="Top z+", help="added on top", unit="mm")


class BySize(Frozen):
    """Sized as bought: finished size along x, y, z (mm), the part placed in it."""

    rule: Literal["size"] = "size"
    called: ClassVar[str] = "finished size"

    size: tuple[Size, Size, Size] = asked(
        title="Size", help="of the finished block along x, y and z", unit="mm", parts=AXES
    )
    place: tuple[Share, Share, Share] = asked(
        (0.5, 0.5, 0.5),
        title="Spare on",
        help="of the spare material, how much lies on the minus side of each axis; half of it: the part in"
        " the middle",
        widget="share",
        parts=("x−", "y−", "z−"),
    )


class ByCorners(Frozen):
    """Sized by two opposite corners in the part's frame, mm."""

    rule: Literal["corners"] = "corners"
    called: ClassVar[str] = "corners"

    low: tuple[Place, Place, Place] = asked(
        title="From", help="the left front corner underneath, in the part's frame", unit="mm", parts=AXES
    )
    high: tuple[Place, Place, Place] = asked(
        title="To", help="the right back corner on top, in the part's frame", unit="mm", parts=AXES
    )

    @model_validator(mode="after")
    def _has_size(self) -> ByCorners:
        if any(a >= b for a, b in zip(self.low, self.high, strict=True)):
            raise ValueError("the second corner has to lie beyond the first along x, y and z")
        return self


class Block(Frozen):
    """A rectangular block.

    material: by its name in the list of materials; sizing: by allowances, by size or by corners. called,
    reads, holds (of every kind): its name, the endings of the files it is read from, and what is in them.
    """

    called: ClassVar[str] = "rectangular block"
    reads: ClassVar[str] = ""
    holds: ClassVar[str] = ""

    kind: Literal["block"] = "block"
    material: str = MATERIAL
    sizing: Annotated[ByAllowance | BySize | ByCorners, Field(discriminator="rule")] = ByAllowance()


def block_of(billet: Block, part: Part) -> tuple[Vector, Vector]:
    """The block (low, high) in the part's frame, mm."""
    sizing = billet.sizing
    if isinstance(sizing, ByCorners):
        return sizing.low, sizing.high
    if isinstance(sizing, ByAllowance):
        minus = (sizing.x_minus, sizing.y_minus, sizing.z_minus)
        plus = (sizing.x_plus, sizing.y_plus, sizing.z_plus)
    else:
        spare = [size - own for size, own in zip(sizing.size, part.size, strict=True)]
        minus = tuple(s * share for s, share in zip(spare, sizing.place, strict=True))  # type: ignore[assignment]
        plus = tuple(s * (1 - share) for s, share in zip(spare, sizing.place, strict=True))  # type: ignore[assignment]
    low = tuple(a - m for a, m in zip(part.low, minus, strict=True))
    high = tuple(a + m for a, m in zip(part.high, plus, strict=True))
    return low, high  # type: ignore[return-value]


def margins(part: Part, low: Vector, high: Vector) -> dict[str, float]:
    """Spare material on each side of the part, mm; negative where the block is too small."""
    out = {}
    for axis, name in enumerate("xyz"):
        out[f"{name}-"] = part.low[axis] - low[axis]
        out[f"{name}+"] = high[axis] - part.high[axis]
    return out


def _larger(billet: Block, part: Part, axis: int, side: str) -> tuple[Cure, ...]:
    """The edit that leaves CLEAN_UP_MM on a side, however the block is sized."""
    sizing, plus = billet.sizing, side[1] == "+"
    if isinstance(sizing, ByAllowance):
        name = f"{side[0]}_{'plus' if plus else 'minus'}"
        return (put(f"Allow {CLEAN_UP_MM:g} mm on {side}", Element(), f"billet/sizing/{name}", CLEAN_UP_MM),)
    if isinstance(sizing, ByCorners):
        value = round(part.high[axis] + CLEAN_UP_MM, 3) if plus else round(part.low[axis] - CLEAN_UP_MM, 3)
        corner = "high" if plus else "low"
        return (
            put(
                f"Put that corner at {side[0].upper()} {value:g}",
                Element(),
                f"billet/sizing/{corner}/{axis}",
                value,
            ),
        )
    share = 1 - sizing.place[axis] if plus else sizing.place[axis]
    if share < 0.05:
        return (put("Put the part in the middle", Element(), f"billet/sizing/place/{axis}", 0.5),)
    value = round(
        part.size[axis] + CLEAN_UP_MM / min(share, 1 - share) if share < 1 else part.size[axis] + CLEAN_UP_MM,
        3,
    )
    return (
        put(
            f"A block {value:g} mm along {side[0].upper()}",
            Element(),
            f"billet/sizing/size/{axis}",
            value,
        ),
    )


def check_fit(billet: Block, part: Part) -> list[Finding]:
    """Whether the part fits in its billet, with the place and amount on every side that is short."""
    low, high = block_of(billet, part)
    findings = []
    for side, margin in margins(part, low, high).items():
        axis = "xyz".index(side[0])
        place = [(a + b) / 2 for a, b in zip(part.low, part.high, strict=True)]
        place[axis] = part.high[axis] if side[1] == "+" else part.low[axis]
        if margin < -1e-6:
            findings.append(
                Finding(
                    code="billet.too_small",
                    severity="error",
                    stage="incoming",
                    sentence=f"The billet is {-margin:.2f} mm too small for the part on its {side} side.",
                    measured=round(margin, 4),
                    limit=0.0,
                    unit="mm",
                    place=((place[0], place[1], place[2]),),
                    cures=_larger(billet, part, axis, side),
                )
            )
        elif margin < 0.3:
            findings.append(
                Finding(
                    code="billet.no_cleanup",
                    severity="note",
                    stage="incoming",
                    sentence=f"Only {margin:.2f} mm to clean up on the {side} side of the billet.",
                    measured=round(margin, 4),
                    limit=0.3,
                    unit="mm",
                    place=((place[0], place[1], place[2]),),
                )
            )
    return findings
