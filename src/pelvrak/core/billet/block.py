"""Which block lies round the part, and does the part fit in it?"""

from __future__ import annotations

from itertools import permutations
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


class Span(Frozen):
    """How a block lies along one axis: any two of three; the third follows. A size alone lies with the part
    in its middle.

    size: of the block, mm; below, above: margins on the minus and the plus side, mm.
    """

    size: Size | None = None
    below: Allowance | None = None
    above: Allowance | None = None

    @model_validator(mode="after")
    def _two_are_told(self) -> Span:
        told = sum(one is not None for one in (self.size, self.below, self.above))
        if told == 3 or (told < 2 and self.size is None):
            raise ValueError(
                "give two of the size and the two margins, and the third follows; or a size alone"
            )
        return self

    def round_part(self, own: float) -> tuple[float, float]:
        """Margins below and above of a part `own` mm long."""
        if self.size is None:
            assert self.below is not None and self.above is not None
            return self.below, self.above
        spare = self.size - own
        if self.below is not None:
            return self.below, spare - self.below
        above = spare / 2 if self.above is None else self.above
        return spare - above, above


class BySides(Frozen):
    """Sized axis by axis: two of size and margins."""

    rule: Literal["sides"] = "sides"
    called: ClassVar[str] = "margins"

    x: Span = asked(Span(below=5.0, above=5.0), title="X", help="left and right", widget="span")
    y: Span = asked(Span(below=5.0, above=5.0), title="Y", help="front and back", widget="span")
    z: Span = asked(Span(below=5.0, above=2.0), title="Z", help="under and on top", widget="span")

    @property
    def spans(self) -> tuple[Span, Span, Span]:
        """Of the three axes."""
        return self.x, self.y, self.z


Sizing = Annotated[ByAllowance | BySize | BySides | ByCorners, Field(discriminator="rule")]
SIZINGS: tuple[type[ByAllowance | BySize | BySides | ByCorners], ...] = (
    ByAllowance,
    BySides,
    BySize,
    ByCorners,
)


class Block(Frozen):
    """A rectangular block.

    material: by its name in the list of materials; sizing: by allowances, by size, by size and margins, or by
    corners. called,
    reads, holds (of every kind): its name, the endings of the files it is read from, and what is in them.
    """

    called: ClassVar[str] = "rectangular block"
    reads: ClassVar[str] = ""
    holds: ClassVar[str] = ""

    kind: Literal["block"] = "block"
    material: str = MATERIAL
    sizing: Sizing = ByAllowance()


def block_of(billet: Block, part: Part) -> tuple[Vector, Vector]:
    """The block (low, high) in the part's frame, mm."""
    sizing = billet.sizing
    if isinstance(sizing, ByCorners):
        return sizing.low, sizing.high
    if isinstance(sizing, ByAllowance):
        minus = (sizing.x_minus, sizing.y_minus, sizing.z_minus)
        plus = (sizing.x_plus, sizing.y_plus, sizing.z_plus)
    elif isinstance(sizing, BySides):
        sides = [span.round_part(own) for span, own in zip(sizing.spans, part.size, strict=True)]
        minus = tuple(below for below, _ in sides)  # type: ignore[assignment]
        plus = tuple(above for _, above in sides)  # type: ignore[assignment]
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


def turned_to_fit(billet: Block, part: Part) -> tuple[Vector, float] | None:
    """The sizes of a block that is too small as it lies, laid another way so that the part fits, and the
    least margin it then has all round with the part in its middle, mm; the best of all ways. None where it
    fits in no way, or is not sized along all three axes.
    """
    sizing = billet.sizing
    sizes = sizing.size if isinstance(sizing, BySize) else None
    if isinstance(sizing, BySides) and all(span.size is not None for span in sizing.spans):
        sizes = tuple(span.size for span in sizing.spans)  # type: ignore[assignment]
    if sizes is None:
        return None

    def least(ways: tuple[float, ...]) -> float:
        return min((size - own) / 2 for size, own in zip(ways, part.size, strict=True))

    x, y, z = max(permutations(sizes), key=least)
    return ((x, y, z), least((x, y, z))) if least((x, y, z)) >= 0 > least(sizes) else None


def _turned(billet: Block, part: Part) -> tuple[Cure, ...]:
    """The cure that lays the block another way."""
    found = turned_to_fit(billet, part)
    if found is None:
        return ()
    sizes, margin = found
    sizing: BySize | BySides = (
        BySize(size=sizes) if isinstance(billet.sizing, BySize) else BySides(**_middles(sizes))
    )
    label = " × ".join(f"{one:g}" for one in sizes)
    return (
        put(
            f"Lay it {label}: {margin:.2f} mm at least all round",
            Element(),
            "billet/sizing",
            sizing.model_dump(mode="json"),
        ),
    )


def _middles(sizes: Vector) -> dict[str, Span]:
    return {axis: Span(size=size) for axis, size in zip(AXES, sizes, strict=True)}


def _larger(billet: Block, part: Part, axis: int, side: str) -> tuple[Cure, ...]:
    """The edit that leaves CLEAN_UP_MM on a side, however the block is sized."""
    sizing, plus = billet.sizing, side[1] == "+"
    if isinstance(sizing, BySides):
        span = sizing.spans[axis]
        below, above = span.round_part(part.size[axis])
        wanted = (below, CLEAN_UP_MM) if plus else (CLEAN_UP_MM, above)
        now = Span(below=round(wanted[0], 4), above=round(wanted[1], 4))
        long = part.size[axis] + sum(wanted)
        label = f"Leave {CLEAN_UP_MM:g} mm on {side}: {long:g} mm along {side[0].upper()}"
        return (put(label, Element(), f"billet/sizing/{side[0]}", now.model_dump(mode="json")),)
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


def check_fit(billet: Block, part: Part, whose: dict[str, str] | None = None) -> list[Finding]:
    """Whether the part fits in its billet, with the place and amount on every side that is short. whose: what
    lies at a side, where that is not the part.
    """
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
                    sentence=f"The billet is {-margin:.2f} mm too small for"
                    f" {(whose or {}).get(side, 'the part')} on its {side} side.",
                    measured=round(margin, 4),
                    limit=0.0,
                    unit="mm",
                    place=((place[0], place[1], place[2]),),
                    cures=(*_turned(billet, part), *_larger(billet, part, axis, side)),
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
