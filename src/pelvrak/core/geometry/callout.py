"""What does a tolerance, a thread or a roughness mean that someone has typed on a hole or a face?"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Iterator
from typing import Annotated, Literal

from pydantic import Field

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.iso286 import limits
from pelvrak.core.geometry.part import Face, FaceRef, Frozen, Part, face_of, ref_to

# ISO 261 coarse pitches and ISO 2306 tapping drills of coarse metric threads, from memory, mm.
COARSE = {
    1.6: 0.35,
    2: 0.4,
    2.5: 0.45,
    3: 0.5,
    4: 0.7,
    5: 0.8,
    6: 1.0,
    8: 1.25,
    10: 1.5,
    12: 1.75,
    14: 2.0,
    16: 2.0,
    18: 2.5,
    20: 2.5,
    22: 2.5,
    24: 3.0,
    27: 3.0,
    30: 3.5,
    33: 3.5,
    36: 4.0,
}
# A hole this far from a thread's tapping drill is not drilled for it, of the pitch.
DRILL_SLACK = 0.25
_SIZE = r"\d+(?:\.\d+)?"
_NUMBER = rf"[+-]?{_SIZE}"
# One of two deviations: with its sign, or nothing; and plain ones below one, as +0.02/0 is often written.
_DEVIATION = r"(?:[+-]\s?)?0*(?:\.\d+|0\.\d+|0)|[+-]\s?\d+(?:\.\d+)?"
# A size that is written first is the feature's to this share; a deviation larger than this share of the size
# is none.
SIZE_SLACK, WIDEST_SHARE = 0.02, 0.25
# Ra of the grades N1 to N12, µm: ISO 1302:1992 (from memory).
GRADES_N = (0.025, 0.05, 0.1, 0.2, 0.4, 0.8, 1.6, 3.2, 6.3, 12.5, 25.0, 50.0)
# Height over Ra of a profile of equal shallow arcs: of a parabola of height h the mean line lies at h/3, and
# the mean distance from it is 4·h / (9·√3).
SCALLOP_RA = 9 * math.sqrt(3) / 4


class Callout(Frozen):
    """A tolerance, thread or roughness typed on a face of the part.

    face: what it belongs to; text: as it is written on a drawing, such as 35 H7, 12 ±0.05, M6, Ra 1.6 or
    8 H7 Ra 0.8.
    """

    face: FaceRef
    text: Annotated[str, Field(min_length=1, max_length=40)]


class Understood(Frozen):
    """What a callout means. kind; low, high: limits of size, mm (for a thread, of its tapping drill; 0 where
    only the surface is told); said: in words; source. size, pitch: of a thread, mm; ra_um: roughness Ra, µm.
    """

    kind: Literal["limits", "thread", "surface"]
    low: float
    high: float
    said: str
    source: str
    size: float | None = None
    pitch: float | None = None
    ra_um: float | None = None


def understood(text: str, nominal: float | None) -> Understood:
    """What people write on a drawing about a size (mm): H7, 8 H7, ±0.05, +0.1 -0.2, +0.02/0, 8 +0.015, 8
    +0.015/0, 8.000-8.015, or a thread: M6, M16x1.5, 1/4-20 UNC; behind it, or alone, a roughness: Ra 1.6,
    Rz 6.3, N7.

    nominal: None for a face that has no size. A size that stands first has to be the feature's own. Raises
    BadInput for what means nothing or does not fit the size.
    """
    clean = re.sub(r"\s+", " ", text.strip().replace("−", "-").replace("–", "-").replace(",", "."))
    rest, ra = _roughness(clean, nominal is None)
    if ra is not None and not rest:
        source = "ISO 21920-2 Ra; Rz as of equal scallops, 9·√3/4 times it"
        return Understood(kind="surface", low=0.0, high=0.0, said=f"Ra {ra:.3g} µm", source=source, ra_um=ra)
    if nominal is None:
        raise BadInput(
            "tolerance.no_size",
            "tolerance",
            "this face has no size",
            "pick a round face, or give a roughness such as Ra 1.6",
        )
    meant = _sized(rest, nominal)
    if ra is None:
        return meant
    return meant.model_copy(update={"ra_um": ra, "said": f"{meant.said}, Ra {ra:.3g} µm"})


def _roughness(clean: str, graded: bool) -> tuple[str, float | None]:
    """A callout without the roughness it ends with, and that as Ra, µm. graded: N7 is one; on a size it is a
    class of ISO 286. Raises BadInput for one that is none.
    """
    how = "R[azAZ]|N" if graded else "R[azAZ]"
    found = re.fullmatch(rf"(.*?)(?:^|(?<=\s)|;\s?)({how})\s?({_SIZE})(?:\s?[µμu]m)?", clean)
    if found is None:
        return clean, None
    kind, value = found[2].upper(), float(found[3])
    if kind == "N":
        ra = GRADES_N[int(value) - 1] if value in range(1, len(GRADES_N) + 1) else 0.0
    else:
        ra = value if kind == "RA" else value / SCALLOP_RA
    if not GRADES_N[0] / 2 <= ra <= 2 * GRADES_N[-1]:
        raise BadInput(
            "tolerance.roughness",
            "tolerance",
            f"{found[2]}{found[3]} is no roughness of the trade",
            "give Ra or Rz in µm, or a grade N1 to N12",
        )
    return found[1].strip(" ;"), round(ra, 5)


def _sized(clean: str, nominal: float) -> Understood:
    """What is said about a size."""
    if thread := re.fullmatch(
        r"[Mm](\d+(?:\.\d+)?)(?:\s*[x×]\s*(\d+(?:\.\d+)?))?(?:\s*-\s*\d?[HhGg]\d?)?", clean
    ):
        return _thread(float(thread[1]), float(thread[2]) if thread[2] else None, nominal)
    if inch := re.fullmatch(r"(\d+)/(\d+)\s*-\s*(\d+)(?:\s*UN[CFS]?(?:-?[23][AB])?)?", clean, re.IGNORECASE):
        return _inch_thread(clean.upper(), int(inch[1]) / max(int(inch[2]), 1) * 25.4, int(inch[3]), nominal)
    if both := re.fullmatch(rf"({_SIZE})\s*(?:-|\.\.\.?|…|to)\s*({_SIZE})", clean):
        one, two = sorted((float(both[1]), float(both[2])))
        if one <= WIDEST_SHARE * two and abs(float(both[1]) - nominal) <= SIZE_SLACK * nominal:
            raise _either(
                clean,
                f"limits from {one:g} to {two:g}, or {two:g} with {-one:g}",
                f"write {two:g} 0/-{one:g}, or both limits",
            )
        _own_size((one + two) / 2, nominal)
        return _limits(nominal, one - nominal, two - nominal, "as typed")
    if sized := re.fullmatch(rf"[ØøD]?\s*({_SIZE})\s+(\S.*)", clean):
        _own_size(float(sized[1]), nominal)
        return _sized(sized[2], float(sized[1]))
    if both := re.fullmatch(rf"(?:±|\+/-|\+-)\s*({_NUMBER})", clean):
        half = abs(float(both[1]))
        return _limits(nominal, -half, half, "as typed")
    if pair := re.fullmatch(rf"({_DEVIATION})\s*[/\s]\s*({_DEVIATION})", clean):
        one, two = float(pair[1]), float(pair[2])
        return _limits(nominal, min(one, two), max(one, two), "as typed")
    if single := re.fullmatch(r"[+-]\s*\d+(?:\.\d+)?", clean):
        value = float(single[0].replace(" ", ""))
        return _limits(nominal, min(0.0, value), max(0.0, value), "as typed")
    if (plain := re.fullmatch(r"0?\.\d+", clean)) is not None:
        raise _either(clean, f"±{plain[0]}, or +{plain[0]} alone", f"write ±{plain[0]}, or +{plain[0]}/0")
    found = limits(nominal, clean)
    return _limits(nominal, found.lower, found.upper, f"ISO 286-2, {clean} at {nominal:g} mm")


def _either(text: str, either: str, mend: str) -> BadInput:
    return BadInput("tolerance.two_meanings", "tolerance", f"{text} may mean {either}", mend)


def _own_size(size: float, nominal: float) -> None:
    """Refuse a size that is not the feature's."""
    if abs(size - nominal) > SIZE_SLACK * nominal:
        raise BadInput(
            "tolerance.other_size",
            "tolerance",
            f"this is of Ø{size:g}, and the feature is Ø{nominal:g}",
            "give the deviations alone, or pick the feature it is of",
        )


def _limits(nominal: float, low: float, high: float, source: str) -> Understood:
    if nominal + low <= 0 or max(abs(low), abs(high)) > WIDEST_SHARE * nominal:
        raise BadInput(
            "tolerance.size",
            "tolerance",
            f"limits {low:+g} {high:+g} make no sense on {nominal:g} mm",
            "give deviations in mm",
        )
    return Understood(
        kind="limits",
        low=round(nominal + low, 6),
        high=round(nominal + high, 6),
        said=f"{nominal + low:.3f} … {nominal + high:.3f} mm",
        source=source,
    )


def _thread(size: float, pitch: float | None, nominal: float) -> Understood:
    coarse = COARSE.get(size)
    if pitch is None and coarse is None:
        raise BadInput(
            "tolerance.thread",
            "tolerance",
            f"M{size:g} has no coarse pitch in the table",
            f"give its pitch, such as M{size:g}x1",
        )
    step = pitch if pitch is not None else coarse or 0.0
    if not 0.1 <= step < size / 2:
        raise BadInput(
            "tolerance.thread",
            "tolerance",
            f"a pitch of {step:g} mm does not go with M{size:g}",
            "correct the pitch",
        )
    drill = size - step
    if abs(nominal - drill) > DRILL_SLACK * step and abs(nominal - size) > DRILL_SLACK * step:
        raise BadInput(
            "tolerance.thread",
            "tolerance",
            f"M{size:g}×{step:g} is tapped in Ø{drill:g}; this hole is Ø{nominal:g}",
            "correct the thread, or the part",
        )
    name = f"M{size:g}" if step == coarse else f"M{size:g}×{step:g}"
    return Understood(
        kind="thread",
        low=round(drill, 4),
        high=round(drill, 4),
        said=f"{name}, tapping drill {drill:g} mm",
        source="ISO 261 pitches, ISO 2306: drill = size - pitch (tables from memory)",
        size=size,
        pitch=step,
    )


def _inch_thread(name: str, size: float, per_inch: int, nominal: float) -> Understood:
    if not 4 <= per_inch <= 80:
        raise BadInput(
            "tolerance.thread",
            "tolerance",
            f"{per_inch} turns to the inch are no thread of the trade",
            "correct it",
        )
    drill = size - 25.4 / per_inch
    if (
        abs(nominal - drill) > DRILL_SLACK * 25.4 / per_inch
        and abs(nominal - size) > DRILL_SLACK * 25.4 / per_inch
    ):
        raise BadInput(
            "tolerance.thread",
            "tolerance",
            f"{name} is tapped in Ø{drill:.2f}; this hole is Ø{nominal:g}",
            "correct the thread, or the part",
        )
    return Understood(
        kind="thread",
        low=round(drill, 4),
        high=round(drill, 4),
        said=f"{name}, tapping drill {drill:.2f} mm",
        source="ASME B1.1 sizes and turns to the inch; drill = size - pitch",
        size=size,
        pitch=25.4 / per_inch,
    )


def size_of(face: Face) -> float | None:
    """The size a callout on a face is of, mm: its diameter; None for a face that has none."""
    return (
        round(2 * face.radius, 6) if face.radius is not None and face.kind in ("cylinder", "sphere") else None
    )


def tolerances(part: Part, typed: Iterable[Callout]) -> dict[int, Understood]:
    """What the tolerances and threads on the faces mean, by face: those the file carries, and those typed,
    which win.

    What is lost or means nothing is left out, and told by `senseless`.
    """
    return {face: one for face, one in _meant(part, typed) if one.kind != "surface"}


def roughness(part: Part, typed: Iterable[Callout]) -> dict[int, float]:
    """How rough faces may be, Ra by face, µm."""
    return {face: one.ra_um for face, one in _meant(part, typed) if one.ra_um is not None}


def _meant(part: Part, typed: Iterable[Callout]) -> Iterator[tuple[int, Understood]]:
    """What is said of faces and means something, what wins last."""
    for callout in (*_of_file(part), *typed):
        try:
            yield callout.face.face, check_callout(part, callout)
        except BadInput:
            continue


def senseless(part: Part, typed: Iterable[Callout]) -> Iterator[BadInput]:
    """Why a tolerance on a face means nothing; what the file says of a face is passed by where one is
    typed on it.
    """
    typed = tuple(typed)
    own = {callout.face.face for callout in typed}
    for callout in (*(one for one in _of_file(part) if one.face.face not in own), *typed):
        try:
            check_callout(part, callout)
        except BadInput as bad:
            yield bad


def _of_file(part: Part) -> Iterator[Callout]:
    """The tolerances a file carries on faces that have a size."""
    for one in part.callouts:
        face = part.faces[one.face]
        if size_of(face) is not None:
            yield Callout(face=ref_to(face), text=one.text)


def check_callout(part: Part, callout: Callout) -> Understood:
    """What a callout means on its face. Raises BadInput when the face is lost, has no size for it, or the
    text means nothing.
    """
    face = face_of(part, callout.face, f"tolerance {callout.text}")
    return understood(callout.text, size_of(face))
