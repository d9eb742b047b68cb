"""What does a holding begin with: the everyday ones whole, or one more fixture on what is there?"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from pelvrak.core.geometry.part import Frozen, Vector
from pelvrak.core.holding.hold import STAND_OUT_RATIO, STRAIGHT_WALL_MM, Hold, Item, SoftCut
from pelvrak.core.holding.kinds import Fixture, Jaws, Parallels, Vise
from pelvrak.core.holding.on_table import middle_of_table

Table = tuple[float, float]
# A little more straight wall than is wanted at least: common practice, no source.
SPARE_GRIP_MM = 1.0


class Everyday(Frozen):
    """A holding as most work is held, whole.

    called: what stands in it, as people say it; items: in the order they are built up.
    """

    called: str
    items: Annotated[tuple[Item, ...], Field(max_length=60)]


def next_item(hold: Hold, one: Fixture, fixtures: dict[str, Fixture], table: Table) -> Item:
    """A fixture as it first goes into a holding: on the last thing there that suits it, else in the middle of
    the table.

    table: length and depth, mm.
    """
    suits = type(one).stands_on
    on = next(
        (
            item.id
            for item in reversed(hold.items)
            if item.fixture in fixtures and fixtures[item.fixture].kind in suits
        ),
        "table",
    )
    taken, plain = {item.id for item in hold.items}, one.kind.replace("_", "-")
    named = next(name for n in range(1, 99) if (name := plain if n == 1 else f"{plain}-{n}") not in taken)
    x, y = middle_of_table(one, *table) if on == "table" else (0.0, 0.0)
    heights: tuple[float, ...] = getattr(one, "heights", ())
    return Item(id=named, fixture=one.id, on=on, x=x, y=y, height=heights[0] if heights else None)


def everyday(fixtures: dict[str, Fixture], size: Vector | None, table: Table) -> tuple[Everyday, ...]:
    """The everyday holdings that a library has the pieces for: a vise with hard jaws and parallels, and with
    soft jaws.

    size: of the work as it is seated, mm, gripped across y; None where it is not known yet. table: length and
    depth, mm.
    """
    shop = list(fixtures.values())
    out = []
    for style, called in (("hard", "vise, hard jaws, parallels"), ("soft", "vise, soft jaws")):
        jaws = [one for one in shop if isinstance(one, Jaws) and one.style == style]
        pairs = [
            (vise, one)
            for vise in shop
            if isinstance(vise, Vise) and vise.style == "fixed jaw"
            for one in jaws
            if one.width >= vise.jaw_width and one.height >= vise.jaw_height
        ]
        chosen = _smallest(pairs, size)
        if chosen is None:
            continue
        vise, pair = chosen
        x, y = middle_of_table(vise, *table)
        items = [
            Item(id="vise", fixture=vise.id, x=x, y=y),
            Item(id="jaws", fixture=pair.id, on="vise", cut=SoftCut() if style == "soft" else None),
        ]
        if style == "hard":
            set_of = _parallels(shop, vise, pair, size)
            if set_of is None:
                continue
            one, height = set_of
            items.append(Item(id="parallels", fixture=one.id, on="vise", height=height))
        out.append(Everyday(called=called, items=tuple(items)))
    return tuple(out)


def _smallest(pairs: list[tuple[Vise, Jaws]], size: Vector | None) -> tuple[Vise, Jaws] | None:
    """The smallest vise with jaws that take the work, the largest where none does."""

    def bulk(pair: tuple[Vise, Jaws]) -> tuple[float, float]:
        return pair[0].jaw_width, pair[1].width * pair[1].height * pair[1].thickness

    ordered = sorted(pairs, key=bulk)
    if not ordered:
        return None
    if size is None:
        return ordered[-1]
    opening = [(vise, jaws) for vise, jaws in ordered if vise.opening_max - 2 * jaws.thickness >= size[1]]
    # Gripped all along where there are jaws so wide: common practice, no source.
    whole = [(vise, jaws) for vise, jaws in opening if jaws.width >= size[0]]
    if whole:
        return whole[0]
    return opening[-1] if opening else max(ordered, key=lambda pair: pair[0].opening_max)


def _parallels(
    shop: list[Fixture], vise: Vise, jaws: Jaws, size: Vector | None
) -> tuple[Parallels, float] | None:
    """The highest pair that leaves wall enough in the jaws, and the work not too high above them."""
    high = 0.0 if size is None else size[2]
    grip = max(STRAIGHT_WALL_MM + SPARE_GRIP_MM, high / (1 + STAND_OUT_RATIO))
    fits = [
        (one, height)
        for one in shop
        if isinstance(one, Parallels)
        for height in one.heights
        if jaws.height - height >= grip
    ]
    # As high as they go; of those rather one that does not stick out of the jaws, and the wider one.
    return max(
        fits, key=lambda fit: (fit[1], fit[0].length <= vise.jaw_width, fit[0].thickness), default=None
    )
