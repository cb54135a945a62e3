"""The sign painter's letters of Heronmere Landing: capitals, figures and signs from strokes, as a TrueType font."""

from __future__ import annotations

import io
import math
from itertools import pairwise

from fontTools.fontBuilder import FontBuilder
from fontTools.pens.ttGlyphPen import TTGlyphPen

NAME = "Heronmere Signs"
_UNITS, _GRID, _THICK = 1000, 115, 92
# Strokes on a grid, x from the left and y up from the baseline, six high; the width of the letter first.
_STROKES: dict[str, tuple[float, str]] = {
    "A": (4, "0,0 2,6 4,0|0.8,2.2 3.2,2.2"),
    "B": (3.6, "0,0 0,6 2.6,6 3.4,5.2 3.4,4 2.6,3.2 0,3.2|2.6,3.2 3.6,2.3 3.6,0.9 2.7,0 0,0"),
    "C": (3.8, "3.8,4.8 2.8,6 1.1,6 0,4.7 0,1.3 1.1,0 2.8,0 3.8,1.2"),
    "D": (3.8, "0,0 0,6 2.2,6 3.8,4.4 3.8,1.6 2.2,0 0,0"),
    "E": (3.2, "3.2,6 0,6 0,0 3.2,0|0,3.1 2.6,3.1"),
    "F": (3.2, "3.2,6 0,6 0,0|0,3.1 2.6,3.1"),
    "G": (3.9, "3.8,4.8 2.8,6 1.1,6 0,4.7 0,1.3 1.1,0 2.8,0 3.9,1.2 3.9,2.8 2.4,2.8"),
    "H": (3.8, "0,0 0,6|3.8,0 3.8,6|0,3.1 3.8,3.1"),
    "I": (0, "0,0 0,6"),
    "J": (2.8, "2.8,6 2.8,1.2 1.8,0 0.9,0 0,1"),
    "K": (3.6, "0,0 0,6|3.6,6 0,2.4|1.2,3.5 3.6,0"),
    "L": (3.1, "0,6 0,0 3.1,0"),
    "M": (4.6, "0,0 0,6 2.3,2.2 4.6,6 4.6,0"),
    "N": (3.8, "0,0 0,6 3.8,0 3.8,6"),
    "O": (4.2, "1.2,0 0,1.3 0,4.7 1.2,6 3,6 4.2,4.7 4.2,1.3 3,0 1.2,0"),
    "P": (3.5, "0,0 0,6 2.5,6 3.5,5 3.5,3.8 2.5,2.8 0,2.8"),
    "Q": (4.2, "1.2,0 0,1.3 0,4.7 1.2,6 3,6 4.2,4.7 4.2,1.3 3,0 1.2,0|2.6,1.6 4.3,-0.5"),
    "R": (3.6, "0,0 0,6 2.5,6 3.5,5 3.5,3.8 2.5,2.8 0,2.8|1.7,2.8 3.6,0"),
    "S": (3.5, "3.4,4.9 2.6,6 0.9,6 0.1,5.1 0.1,4 0.9,3.3 2.6,2.8 3.5,2 3.5,0.9 2.6,0 0.8,0 0,1.1"),
    "T": (3.8, "0,6 3.8,6|1.9,6 1.9,0"),
    "U": (3.8, "0,6 0,1.3 1.1,0 2.7,0 3.8,1.3 3.8,6"),
    "V": (4, "0,6 2,0 4,6"),
    "W": (5.4, "0,6 1.3,0 2.7,4.6 4.1,0 5.4,6"),
    "X": (3.8, "0,0 3.8,6|0,6 3.8,0"),
    "Y": (3.8, "0,6 1.9,2.9 3.8,6|1.9,2.9 1.9,0"),
    "Z": (3.5, "0,6 3.5,6 0,0 3.5,0"),
    "0": (3.4, "1,0 0,1.2 0,4.8 1,6 2.4,6 3.4,4.8 3.4,1.2 2.4,0 1,0"),
    "1": (1.6, "0,4.9 1.2,6 1.2,0"),
    "2": (3.4, "0.1,4.8 1,6 2.4,6 3.3,5.1 3.3,4 0,0 3.4,0"),
    "3": (3.4, "0.1,5.1 1,6 2.4,6 3.2,5.2 3.2,4 2.4,3.2 1.4,3.2|2.4,3.2 3.4,2.3 3.4,0.9 2.4,0 0.9,0 0,1"),
    "4": (3.6, "2.7,0 2.7,6 0,1.7 3.6,1.7"),
    "5": (3.4, "3.1,6 0.4,6 0.2,3.3 1.2,3.7 2.3,3.7 3.4,2.7 3.4,1.1 2.3,0 0.9,0 0,0.9"),
    "6": (3.4, "3.1,5.2 2.3,6 1,6 0,4.6 0,1.2 1,0 2.4,0 3.4,1.1 3.4,2.4 2.4,3.5 1,3.5 0,2.4"),
    "7": (3.3, "0,6 3.3,6 1.1,0"),
    "8": (3.4, "1,3.2 0.2,4 0.2,5.1 1,6 2.4,6 3.2,5.1 3.2,4 2.4,3.2 1,3.2 0,2.2 0,1 1,0 2.4,0 3.4,1 3.4,2.2 2.4,3.2"),
    "9": (3.4, "0.3,0.8 1.1,0 2.4,0 3.4,1.4 3.4,4.8 2.4,6 1,6 0,4.9 0,3.6 1,2.5 2.4,2.5 3.4,3.6"),
    ":": (0, "0,1 0,1|0,4 0,4"),
    ".": (0, "0,0 0,0"),
    ",": (0.4, "0.4,0.1 0,-1"),
    "-": (2.2, "0,2.6 2.2,2.6"),
    "/": (3, "0,-0.5 3,6.5"),
    "·": (0, "0,2.8 0,2.8"),
}
_NAMES = {":": "colon", ".": "period", ",": "comma", "-": "hyphen", "/": "slash", "·": "periodcentered", " ": "space"}
_KERNING = """
feature kern {
  pos A V -90; pos V A -90; pos A T -80; pos T A -80; pos A Y -85; pos Y A -85; pos L T -95; pos L Y -90; pos L V -80;
  pos A W -60; pos W A -60; pos P A -80; pos F A -70; pos T O -30; pos O T -30; pos Y O -40; pos K O -40;
} kern;
"""
_SIDE = 75


def _glyph_name(character: str) -> str:
    return _NAMES.get(character, f"figure{character}" if character.isdigit() else character)


def _bar(pen: TTGlyphPen, x0: float, y0: float, x1: float, y1: float) -> None:
    """Draw one stroke as a bar with square ends, wound the way that TrueType fills."""
    length = math.hypot(x1 - x0, y1 - y0)
    along = (1.0, 0.0) if length == 0 else ((x1 - x0) / length, (y1 - y0) / length)
    half = _THICK / 2
    across = (-along[1] * half, along[0] * half)
    ends = ((x0 - along[0] * half, y0 - along[1] * half), (x1 + along[0] * half, y1 + along[1] * half))
    corners = [
        (ends[0][0] + across[0], ends[0][1] + across[1]),
        (ends[1][0] + across[0], ends[1][1] + across[1]),
        (ends[1][0] - across[0], ends[1][1] - across[1]),
        (ends[0][0] - across[0], ends[0][1] - across[1]),
    ]
    pen.moveTo((round(corners[0][0]), round(corners[0][1])))
    for x, y in corners[1:]:
        pen.lineTo((round(x), round(y)))
    pen.closePath()


def sign_font() -> bytes:
    """Return the font as a TTF file, the same bytes each time."""
    builder = FontBuilder(_UNITS, isTTF=True)
    order = [".notdef", "space", *(_glyph_name(c) for c in _STROKES)]
    builder.setupGlyphOrder(order)
    builder.setupCharacterMap({ord(c): _glyph_name(c) for c in (" ", *_STROKES)})
    glyphs, advances = {}, {".notdef": (500, 0), "space": (380, 0)}
    for name in (".notdef", "space"):
        glyphs[name] = TTGlyphPen(None).glyph()
    for character, (width, strokes) in _STROKES.items():
        pen = TTGlyphPen(None)
        for stroke in strokes.split("|"):
            spots = [tuple(float(v) * _GRID for v in spot.split(",")) for spot in stroke.split()]
            for (x0, y0), (x1, y1) in pairwise(spots):
                left = _SIDE + _THICK / 2
                _bar(pen, x0 + left, y0, x1 + left, y1)
        glyphs[_glyph_name(character)] = pen.glyph()
        advances[_glyph_name(character)] = (round(width * _GRID + _THICK + 2 * _SIDE), _SIDE)
    builder.setupGlyf(glyphs)
    builder.setupHorizontalMetrics(advances)
    builder.setupHorizontalHeader(ascent=820, descent=-220)
    builder.setupNameTable({"familyName": NAME, "styleName": "Regular"})
    builder.setupOS2(sTypoAscender=820, sTypoDescender=-220, usWinAscent=820, usWinDescent=220)
    builder.setupPost()
    builder.addOpenTypeFeatures(_KERNING)
    builder.font["head"].created = builder.font["head"].modified = 3_850_000_000
    builder.font.recalcTimestamp = False
    out = io.BytesIO()
    builder.save(out)
    return out.getvalue()
