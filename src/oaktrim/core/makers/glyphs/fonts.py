"""What a font file says and draws: characters, metrics, kerning, and glyphs as coverage or signed distance.

Metrics and kerning follow the OpenType specification (tables cmap, hhea, kern, GPOS); FreeType, through Pillow, draws.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
from fontTools.ttLib import TTFont, TTLibError
from numpy.typing import NDArray
from PIL import Image as PillowImage
from PIL import ImageFont

from oaktrim.core.errors import FileError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.pixels.distance import signed_distance
from oaktrim.core.progress import threads_here

Codes = NDArray[np.uint8]
SUFFIXES = frozenset((".ttf", ".otf"))
# Signed distances are taken from a drawing so many times as large.
_FINER = 4
# Pixels that are drawn at most: our own choice of what can be waited for.
_MOST_FIELD, _MOST_COVERAGE = 10_000_000_000, 4_000_000_000
# Drawn before their fields are worked out, on all cores.
_AHEAD = 64


@dataclass(frozen=True, eq=False)
class Drawn:
    """A glyph as drawn.

    Parameters
    ----------
    codes : (h, w) uint8, empty for a blank
    left, top : of its rectangle from the pen, pixels; top counts up from the baseline
    advance : to the next pen, pixels
    """

    character: str
    codes: Codes
    left: int
    top: int
    advance: float


@dataclass(frozen=True, eq=False)
class Font:
    """A font file at hand.

    Parameters
    ----------
    characters : all code points that it has glyphs for
    units : font units an em
    ascent, descent, line_gap : in font units; descent counts down
    """

    file: Path
    data: bytes
    name: str
    units: int
    ascent: int
    descent: int
    line_gap: int
    glyph_of: dict[int, str]
    advances: dict[str, int]
    table: Any

    def missing(self, characters: str) -> str:
        """Return the characters that it has no glyphs for."""
        return "".join(c for c in characters if ord(c) not in self.glyph_of)

    def draw(self, characters: Iterable[str], size: int, spread: float = 0.0) -> Iterator[Drawn]:
        """Yield glyphs at a size in pixels an em, as coverage, or, with a spread, as signed distances.

        A distance field holds 0.5 at the outline and reaches 0 and 1 at `spread` pixels outside and inside of it.
        """
        finer = _FINER if spread else 1
        face = self._face(size * finer)
        room: float = _MOST_FIELD if spread else _MOST_COVERAGE

        def drawn(character: str) -> Drawn:
            nonlocal room
            advance = self.advances[self.glyph_of[ord(character)]] * size / self.units
            try:
                left, top, right, bottom = face.getbbox(character, mode="L", anchor="ls")
                room -= (right - left + 2 * spread * finer) * (bottom - top + 2 * spread * finer)
                if room < 0:
                    raise FileError(
                        self.file,
                        f"draws more than {(_MOST_FIELD if spread else _MOST_COVERAGE) // 1_000_000:,} million pixels at "
                        f"{size} pixels an em; {character!r} alone takes {right - left:g}x{bottom - top:g}",
                    )
                codes, x, y = _inked(*face.getmask2(character, mode="L", anchor="ls"))
            except FileError:
                raise
            except Exception as error:  # a broken outline makes the library raise whatever it meets first
                raise FileError(self.file, f"cannot draw {character!r}: {_first_line(error)}") from error
            return Drawn(character, codes, x, -y, advance)

        glyphs = map(drawn, characters)
        if not spread:
            yield from glyphs
            return
        with ThreadPoolExecutor(threads_here()) as pool:
            while some := list(islice(glyphs, _AHEAD)):
                yield from pool.map(lambda glyph: _field(glyph, spread), some)

    def _face(self, pixels: int) -> ImageFont.FreeTypeFont:
        return ImageFont.truetype(io.BytesIO(self.data), pixels, layout_engine=ImageFont.Layout.BASIC)

    def kerning(self, characters: str, size: int) -> dict[tuple[str, str], float]:
        """Return what each pair of characters moves together, pixels; pairs that do not move are left out."""
        names: dict[str, list[str]] = {}
        for c in characters:
            if ord(c) in self.glyph_of:
                names.setdefault(self.glyph_of[ord(c)], []).append(c)
        found: dict[tuple[str, str], float] = {}
        try:
            pairs = _pairs(self.table, frozenset(names))
        except Exception as error:  # a broken table makes the reader raise whatever it meets first
            raise FileError(self.file, f"has kerning that cannot be read: {_first_line(error)}") from error
        for (left, right), value in pairs.items():
            for a in names[left]:
                for b in names[right]:
                    found[a, b] = value * size / self.units
        return found


def _inked(mask: Any, corner: tuple[float, float]) -> tuple[Codes, int, int]:
    """Return a drawing cut down to its ink, (h, w) uint8, and where that begins from the pen, y down."""
    if not (mask.size[0] and mask.size[1]):
        return np.zeros((0, 0), np.uint8), 0, 0
    codes = np.asarray(PillowImage.frombytes("L", mask.size, bytes(mask)), np.uint8)
    rows, columns = np.flatnonzero(codes.any(axis=1)), np.flatnonzero(codes.any(axis=0))
    if not len(rows):
        return np.zeros((0, 0), np.uint8), 0, 0
    ink = codes[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
    return ink, int(corner[0]) + int(columns[0]), int(corner[1]) + int(rows[0])


def _field(glyph: Drawn, spread: float) -> Drawn:
    """Return the distance field of a glyph drawn finer, its rectangle brought to whole pixels of the final size."""
    codes, x, y = glyph.codes, glyph.left, -glyph.top
    if not codes.size:
        return glyph
    margin = int(np.ceil(spread)) * _FINER
    left, top = (x - margin) // _FINER * _FINER, (y - margin) // _FINER * _FINER
    right = -(-(x + codes.shape[1] + margin) // _FINER) * _FINER
    bottom = -(-(y + codes.shape[0] + margin) // _FINER) * _FINER
    large = np.zeros((bottom - top, right - left), np.bool_)
    large[y - top : y - top + codes.shape[0], x - left : x - left + codes.shape[1]] = codes >= 128
    far = signed_distance(large) / _FINER
    rows, columns = far.shape[0] // _FINER, far.shape[1] // _FINER
    small = far.reshape(rows, _FINER, columns, _FINER).mean(axis=(1, 3))
    values = np.clip(0.5 + small / (2 * spread), 0, 1)
    field = np.floor(values * 255 + 0.5).astype(np.uint8)
    return Drawn(glyph.character, field, left // _FINER, -(top // _FINER), glyph.advance)


def _pairs(table: Any, wanted: frozenset[str]) -> dict[tuple[str, str], int]:
    """Return kerning in font units by pairs of glyph names: from GPOS where it has any, else from kern."""
    found: dict[tuple[str, str], int] = {}
    if "GPOS" in table:
        gpos = table["GPOS"].table
        lookups = gpos.LookupList.Lookup if gpos.LookupList else []
        features = gpos.FeatureList.FeatureRecord if gpos.FeatureList else []
        kern = dict.fromkeys(i for f in features if f.FeatureTag == "kern" for i in f.Feature.LookupListIndex)
        for place in kern:
            mine: dict[tuple[str, str], int] = {}
            for row in lookups[place].SubTable:
                subtable = getattr(row, "ExtSubTable", row)
                if type(subtable).__name__ == "PairPos":
                    # Of one lookup, the first subtable that holds a pair says it (OpenType, GPOS lookup type 2).
                    mine = {**_pair_subtable(subtable, wanted), **mine}
            for pair, value in mine.items():
                found[pair] = found.get(pair, 0) + value
    if not found and "kern" in table:
        for subtable in table["kern"].kernTables:
            rows = getattr(subtable, "kernTable", {})
            found |= {pair: value for pair, value in rows.items() if pair[0] in wanted and pair[1] in wanted}
    return {pair: value for pair, value in found.items() if value}


def _pair_subtable(subtable: Any, wanted: frozenset[str]) -> dict[tuple[str, str], int]:
    def moved(value: Any) -> int:
        return int(getattr(value, "XAdvance", 0) or 0) if value is not None else 0

    found: dict[tuple[str, str], int] = {}
    firsts = [name for name in subtable.Coverage.glyphs if name in wanted]
    if subtable.Format == 1:
        sets = dict(zip(subtable.Coverage.glyphs, subtable.PairSet, strict=False))
        for first in firsts:
            for row in sets[first].PairValueRecord:
                if row.SecondGlyph in wanted:
                    found[first, row.SecondGlyph] = moved(row.Value1)
        return found
    second_classes: dict[int, list[str]] = {}
    for name in wanted:
        second_classes.setdefault(subtable.ClassDef2.classDefs.get(name, 0), []).append(name)
    for first in firsts:
        records = subtable.Class1Record[subtable.ClassDef1.classDefs.get(first, 0)].Class2Record
        for number, seconds in second_classes.items():
            value = moved(records[number].Value1) if number < len(records) else 0
            if value:
                found |= {(first, second): value for second in seconds}
    return found


@lru_cache(maxsize=4)
def _parsed(data: bytes, file: Path) -> Font:
    try:
        table = TTFont(io.BytesIO(data), lazy=True, fontNumber=0)
        best = table.getBestCmap() or {}
        hhea, head = table["hhea"], table["head"]
        advances = {name: int(row[0]) for name, row in table["hmtx"].metrics.items()}
        name = table["name"].getDebugName(4) or file.stem
        glyph_of = {code: glyph for code, glyph in best.items() if glyph in advances}
        font = Font(
            file, data, name, int(head.unitsPerEm), int(hhea.ascent), int(-hhea.descent), int(hhea.lineGap), glyph_of,
            advances, table,
        )  # fmt: skip
        if not glyph_of or font.units < 1:
            raise FileError(file, "is a font without characters")
        font._face(8)
    except FileError:
        raise
    except TTLibError as error:
        raise FileError(file, f"is not a TTF or OTF font: {str(error).splitlines()[0]}") from error
    except Exception as error:  # a broken table makes the reader raise whatever it meets first
        raise FileError(file, f"is a broken font: {_first_line(error)}") from error
    return font


def _first_line(error: Exception) -> str:
    return next(iter(str(error).splitlines()), "") or type(error).__name__


def open_font(file: Path) -> Font:
    """Return a font.

    Raises
    ------
    FileError : it cannot be read, or is no font
    """
    return _parsed(read_bytes(file), file)
