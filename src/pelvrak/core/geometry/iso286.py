"""What limits does a tolerance class such as H7 mean?

ISO 286-1:2010, tables 1 (standard tolerances) and 2 to 5 (fundamental deviations), nominal sizes up to
500 mm, grades IT5 to IT12 (h, js and H, JS also wider); written from memory of the standard's tables.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from pelvrak.core.errors import BadInput

# Upper ends of the main ranges of nominal sizes, mm.
RANGES = (3, 6, 10, 18, 30, 50, 80, 120, 180, 250, 315, 400, 500)
# Standard tolerances by grade, µm, for each range.
GRADES: dict[int, tuple[int, ...]] = {
    5: (4, 5, 6, 8, 9, 11, 13, 15, 18, 20, 23, 25, 27),
    6: (6, 8, 9, 11, 13, 16, 19, 22, 25, 29, 32, 36, 40),
    7: (10, 12, 15, 18, 21, 25, 30, 35, 40, 46, 52, 57, 63),
    8: (14, 18, 22, 27, 33, 39, 46, 54, 63, 72, 81, 89, 97),
    9: (25, 30, 36, 43, 52, 62, 74, 87, 100, 115, 130, 140, 155),
    10: (40, 48, 58, 70, 84, 100, 120, 140, 160, 185, 210, 230, 250),
    11: (60, 75, 90, 110, 130, 160, 190, 220, 250, 290, 320, 360, 400),
    12: (100, 120, 150, 180, 210, 250, 300, 350, 400, 460, 520, 570, 630),
}
# Fundamental deviations of shafts, µm, for each range: upper ones of c … h, lower ones of k … p (grades over
# 3).
_UPPER: dict[str, tuple[int, ...]] = {
    "d": (-20, -30, -40, -50, -65, -80, -100, -120, -145, -170, -190, -210, -230),
    "e": (-14, -20, -25, -32, -40, -50, -60, -72, -85, -100, -110, -125, -135),
    "f": (-6, -10, -13, -16, -20, -25, -30, -36, -43, -50, -56, -62, -68),
    "g": (-2, -4, -5, -6, -7, -9, -10, -12, -14, -15, -17, -18, -20),
    "h": (0,) * 13,
}
_LOWER: dict[str, tuple[int, ...]] = {
    "k": (0, 1, 1, 1, 2, 2, 2, 3, 3, 4, 4, 4, 5),  # grades 4 to 7; 0 beyond
    "m": (2, 4, 6, 7, 8, 9, 11, 13, 15, 17, 20, 21, 23),
    "n": (4, 8, 10, 12, 15, 17, 20, 23, 27, 31, 34, 37, 40),
    "p": (6, 12, 15, 18, 22, 26, 32, 37, 43, 50, 56, 62, 68),
}


@dataclass(frozen=True)
class Limits:
    """Deviations from the nominal size, mm."""

    lower: float
    upper: float


def limits(nominal: float, tolerance_class: str) -> Limits:
    """Limit deviations of a class such as H7 (holes) or g6 (shafts) at a nominal size (mm).

    Holes K, M, N and P of grades up to 8 (K, M, N) or 7 (P) take the standard's Δ. Raises BadInput for
    classes and sizes that are not in the tables here.
    """
    match = re.fullmatch(r"\s*([A-Za-z]{1,2})\s*([0-9]{1,2})\s*", tolerance_class)
    if not match or int(match[2]) not in GRADES:
        raise BadInput(
            "tolerance.unknown",
            "tolerance",
            f"{tolerance_class!r} is no class known here",
            "give one such as H7, js6 or P9",
        )
    if not 0 < nominal <= RANGES[-1]:
        raise BadInput(
            "tolerance.size",
            "tolerance",
            f"{nominal:g} mm is outside 0 to 500 mm",
            "give limits in mm instead",
        )
    at = next(i for i, end in enumerate(RANGES) if nominal <= end)
    letter, grade = match[1], int(match[2])
    width = GRADES[grade][at]
    hole, key = letter[0].isupper(), letter.lower()
    if key == "js":
        return Limits(-width / 2000, width / 2000)
    if key in _UPPER:
        upper = _UPPER[key][at]
        low, high = (-upper, -upper + width) if hole else (upper - width, upper)
    elif key in _LOWER:
        lower = _LOWER[key][at]
        if key == "k" and grade > 7:
            lower = 0
        if hole:
            delta = 0
            if 5 <= grade <= (7 if key == "p" else 8) and nominal > 3:
                delta = width - _grade_below(grade, at)
            high = -lower + delta
            low = high - width
            if key == "k" and grade > 8:
                low, high = -width, 0
            if key == "n" and grade > 8 and nominal > 3:
                low, high = -width, 0
        else:
            low, high = lower, lower + width
    else:
        raise BadInput(
            "tolerance.unknown",
            "tolerance",
            f"the letter {letter!r} is not in the tables here",
            "give limits in mm instead",
        )
    return Limits(low / 1000, high / 1000)


# IT4, µm: only to find Δ of grade 5.
_IT4 = (3, 4, 4, 5, 6, 7, 8, 10, 12, 14, 16, 18, 20)


def _grade_below(grade: int, at: int) -> int:
    return _IT4[at] if grade == 5 else GRADES[grade - 1][at]
