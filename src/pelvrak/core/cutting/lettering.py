"""What lines and outlines does a text consist of?

Along the middle: the single strokes of Hershey's simplex roman (A. V. Hershey, 1967, in the public domain).
Inside its outlines: DejaVu Sans (Bitstream Vera licence), as it ships with matplotlib.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from fontTools.pens.basePen import BasePen
from fontTools.ttLib import TTFont
from HersheyFonts import HersheyFonts
from shapely import Polygon
from shapely.geometry.base import BaseGeometry

from pelvrak.core.errors import BadInput
from pelvrak.core.geometry.mesh import Floats
from pelvrak.core.geometry.planar import region_of

# From one line of text to the next, and the gap of a blank, as shares of the height of capitals.
LINE_SHARE = 1.6
# Of Hershey's strokes: from the base line to the top of capitals, in its units, which count down.
CAPITAL, BASE = 21, 9
# Curves of outlines become chords within this share of the height of capitals.
CHORD_SHARE = 2e-4


NOTHING = Polygon()


@dataclass(frozen=True)
class Letter:
    """One letter, mm: what it is, its strokes (each (n, 2)), or the region within its outlines."""

    said: str
    strokes: tuple[Floats, ...] = ()
    shape: BaseGeometry = NOTHING


def letters(text: str, height: float, spacing: float, outlined: bool, where: str) -> list[Letter]:
    """The letters of a text from its first base line at y 0, x from 0.

    height: of capitals, mm; spacing: more between letters than the font has, mm; outlined: as regions,
    else as strokes. Raises BadInput naming a letter the font has not got.
    """
    known, width, drawn = _outlined(height) if outlined else _stroked(height)
    out: list[Letter] = []
    for row, line in enumerate(text.splitlines()):
        x, y = 0.0, -row * LINE_SHARE * height
        for said in line:
            if not known(said):
                raise BadInput("cut.no_letter", where, f"the font has no {said!r}", "write it otherwise")
            rings = [ring + [x, y] for ring in drawn(said)]
            if rings and outlined:
                # Outlines run clockwise round what is black.
                out.append(Letter(said, shape=region_of([ring[::-1] for ring in rings])))
            elif rings:
                out.append(Letter(said, strokes=tuple(rings)))
            x += width(said) + spacing
    return out


_Font = tuple[Callable[[str], bool], Callable[[str], float], Callable[[str], list[Floats]]]


def _stroked(height: float) -> _Font:
    glyphs, scale = _hershey(), height / CAPITAL

    def drawn(said: str) -> list[Floats]:
        glyph = glyphs[said]
        points = [np.array(stroke, float) for stroke in glyph.strokes if len(stroke) > 1]
        return [(own - [glyph.left_offset, BASE]) * [scale, -scale] for own in points]

    return glyphs.__contains__, lambda said: float(glyphs[said].char_width) * scale, drawn


@cache
def _hershey() -> dict[str, Any]:
    font = HersheyFonts()
    font.load_default_font("futural")
    printable = "".join(chr(code) for code in range(32, 127))
    return dict(zip(printable, font.glyphs_for_text(printable), strict=True))


def _outlined(height: float) -> _Font:
    font, glyphs, names, capital = _dejavu()
    scale = height / capital

    def drawn(said: str) -> list[Floats]:
        pen = _Flat(glyphs, CHORD_SHARE * capital)
        glyphs[names[ord(said)]].draw(pen)
        return [np.array(ring) * scale for ring in pen.rings]

    return (
        lambda said: ord(said) in names,
        lambda said: float(font["hmtx"][names[ord(said)]][0]) * scale,
        drawn,
    )


@cache
def _dejavu() -> tuple[TTFont, Any, dict[int, str], float]:
    import matplotlib

    font = TTFont(Path(matplotlib.get_data_path()) / "fonts" / "ttf" / "DejaVuSans.ttf")
    return font, font.getGlyphSet(), font.getBestCmap(), float(font["glyf"]["H"].yMax)


class _Flat(BasePen):  # type: ignore[misc]
    """The outlines of a glyph as rings, curves as chords within an error (units of the font)."""

    def __init__(self, glyphs: Any, error: float) -> None:
        super().__init__(glyphs)
        self.error = error
        self.rings: list[list[tuple[float, float]]] = []

    def _moveTo(self, pt: tuple[float, float]) -> None:
        self.rings.append([pt])

    def _lineTo(self, pt: tuple[float, float]) -> None:
        self.rings[-1].append(pt)

    def _qCurveToOne(self, pt1: tuple[float, float], pt2: tuple[float, float]) -> None:
        a, b, c = (np.array(one, float) for one in (self._getCurrentPoint(), pt1, pt2))
        # A parabola is off its chords by a quarter of its second difference over their number squared.
        count = max(1, int(np.ceil(np.sqrt(np.linalg.norm(a - 2 * b + c) / 4 / self.error))))
        for t in np.linspace(0, 1, count + 1)[1:]:
            x, y = (1 - t) ** 2 * a + 2 * t * (1 - t) * b + t**2 * c
            self.rings[-1].append((float(x), float(y)))
