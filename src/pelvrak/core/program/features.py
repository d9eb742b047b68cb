"""Which moves of an operation are made at one feature after another? What is cut between two ways across at
the operation's full height is a feature; counted from where the tool comes down, like ones are alike.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise

from pelvrak.core.cutting.toolpath import Move
from pelvrak.core.geometry.part import Vector
from pelvrak.core.program import blocks
from pelvrak.core.program.blocks import Block, Body

# As near as heights and places are the same, mm.
SAME_MM = 1e-6


@dataclass(frozen=True)
class Feature:
    """Blocks of a body from `first` to the one before `past`. at: X and Y they are counted from in `told`,
    which begins by going there; the first `before` of those stand in no block of the body; top: how high the
    operation ever is, mm.
    """

    first: int
    past: int
    at: tuple[float, float]
    told: tuple[Block, ...]
    before: int
    top: float


def features_in(body: Body) -> list[Feature]:
    """The features a body cuts, in order; none where it is not only moves of the slides."""
    come, moves = body.blocks[0], body.blocks[1:]
    if body.cycle is not None or not isinstance(come, blocks.Come) or come.turned:
        return []
    if not moves or not all(isinstance(one, blocks.Go) for one in moves):
        return []
    top = max(come.at[2], *(one.move.end[2] for one in moves if isinstance(one, blocks.Go)))
    starts, corrected = [1], False
    for n, one in enumerate(moves, start=1):
        assert isinstance(one, blocks.Go)
        if n > 1 and not corrected and _goes_across(one, top):
            starts.append(n)
        corrected = one.move.compensation == "left" or (corrected and one.move.compensation != "off")
    ends = [*starts[1:], len(body.blocks)]
    return [_feature(body, first, past, top) for first, past in zip(starts, ends, strict=True)]


def _feature(body: Body, first: int, past: int, top: float) -> Feature:
    opening = body.blocks[first]
    assert isinstance(opening, blocks.Go)
    across = _goes_across(opening, top)
    at = opening.move.end if across else opening.at
    begun: tuple[Block, ...] = () if across else (blocks.Go(Move("rapid", at), at, opening.place),)
    there = (at[0], at[1])
    told = tuple(_counted_from(one, there) for one in (*begun, *body.blocks[first:past]))
    return Feature(first, past, there, told, len(begun), top)


def cut_alike(
    bodies: list[Body], text_of: Callable[[Feature], str], least: int
) -> list[tuple[int, Feature, str]]:
    """The features that are cut several times alike, with the number of their body and their text, in order.
    What always follows one another at the same distance is one. least: lines that are worth it.
    """
    own = [[(one, text_of(one)) for one in features_in(body)] for body in bodies]
    while True:
        times = Counter(text for one in own for _, text in one)
        pairs = Counter(_pair(*two) for one in own for two in pairwise(one))
        always = {
            pair
            for pair, count in pairs.items()
            if count > 1 and pair[0] != pair[1] and count == times[pair[0]] == times[pair[1]]
        }
        if not always:
            break
        own = [_joined(body, one, always, text_of) for body, one in zip(bodies, own, strict=True)]
    return [
        (number, feature, text)
        for number, one in enumerate(own)
        for feature, text in one
        if times[text] > 1 and text.count("\n") + 1 >= least
    ]


# Two features after another: their texts, and the second from the first.
Pair = tuple[str, str, float, float]
Told = tuple[Feature, str]


def _pair(one: Told, two: Told) -> Pair:
    x, y = (round(b - a, 3) + 0.0 for a, b in zip(one[0].at, two[0].at, strict=True))
    return one[1], two[1], x, y


def _joined(body: Body, own: list[Told], always: set[Pair], text_of: Callable[[Feature], str]) -> list[Told]:
    """Features of a body, pairs that always are together as one."""
    out: list[Told] = []
    at = 0
    while at < len(own):
        one = own[at]
        if at + 1 < len(own) and _pair(one, own[at + 1]) in always:
            both = _feature(body, one[0].first, own[at + 1][0].past, one[0].top)
            out.append((both, text_of(both)))
            at += 2
        else:
            out.append(one)
            at += 1
    return out


def _goes_across(one: blocks.Go, top: float) -> bool:
    """Whether a move goes from one feature to another: in rapid, as high as the operation ever is."""
    flat = abs(one.at[2] - top) < SAME_MM and abs(one.move.end[2] - top) < SAME_MM
    moves = max(abs(a - b) for a, b in zip(one.at[:2], one.move.end[:2], strict=True)) > SAME_MM
    return one.move.kind == "rapid" and flat and moves


def _counted_from(one: Block, at: tuple[float, float]) -> Block:
    assert isinstance(one, blocks.Go)

    def there(place: Vector) -> Vector:
        return place[0] - at[0], place[1] - at[1], place[2]

    centre = one.move.centre
    if centre is not None:
        centre = centre[0] - at[0], centre[1] - at[1]
    return replace(one, at=there(one.at), move=replace(one.move, end=there(one.move.end), centre=centre))
