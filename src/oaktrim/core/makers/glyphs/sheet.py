"""Glyph sheets: four pages of glyphs in the four channels of one texture, with their metrics and their shading."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import msgspec
import numpy as np
from msgspec import Meta
from numpy.typing import NDArray

from oaktrim.core.fields import FilePath, NewPath
from oaktrim.core.makers.glyphs.fonts import Drawn, Font
from oaktrim.core.makers.rectangles import Packed, pack_rectangles, smallest_pages
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, held
from oaktrim.core.progress import Progress, Task

PAGES = "RGBA"
# Unicode has fewer than 160,000 characters that are assigned and not private.
Characters = Annotated[str, Meta(max_length=1 << 18)]
SCHEMA = "oak-trim.glyphs/1"
_SAY_EVERY = 64


class GlyphSheet(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag="glyphs", tag_field="kind"):
    """A sheet of glyphs.

    Parameters
    ----------
    name : path of the texture, without ending
    font : path of a TTF or OTF file, below the root or absolute
    size : pixels an em
    characters : each once
    spread : of a signed distance field, pixels on each side of the outline; 0 draws coverage
    side : longest side of the pages; 0 finds the smallest that hold everything
    powers : sides are powers of two
    gutter : empty pixels between glyphs
    """

    name: NewPath
    font: FilePath
    size: int
    characters: Characters
    spread: float = 0.0
    side: int = 0
    powers: bool = False
    gutter: int = 1

    def __post_init__(self) -> None:
        if not 4 <= self.size <= 512:
            raise ValueError(f"glyphs are 4 to 512 pixels an em, not {self.size}")
        if not 0 <= self.spread <= 64:
            raise ValueError(f"a spread is 0 to 64 pixels, not {self.spread}")
        if not 0 <= self.gutter <= 16:
            raise ValueError(f"a gutter is 0 to 16 pixels, not {self.gutter}")
        if not 0 <= self.side <= 1 << 14:
            raise ValueError(f"the longest side is 1 to {1 << 14}, or 0, not {self.side}")

    @property
    def inputs(self) -> tuple[str, ...]:
        """Textures that it is made of: none."""
        return ()


class Placed(msgspec.Struct, frozen=True):
    """A glyph on the sheet.

    Parameters
    ----------
    x, y, width, height : its rectangle, from the top left
    channel : R, G, B or A
    left, top : of the rectangle from the pen, pixels; top counts up from the baseline
    advance : to the next pen, pixels
    """

    character: str
    code_point: int
    x: int
    y: int
    width: int
    height: int
    channel: str
    left: int
    top: int
    advance: float


class Metrics(msgspec.Struct, frozen=True):
    """What goes beside a sheet: all that is needed to set a line from it. Lengths are pixels at its size."""

    schema: str
    font: str
    size: int
    spread: float
    width: int
    height: int
    gutter: int
    line_height: float
    ascent: float
    descent: float
    glyphs: tuple[Placed, ...]
    kerning: tuple[tuple[str, str, float], ...]


@dataclass(frozen=True, eq=False)
class Sheet:
    """A sheet as made.

    Parameters
    ----------
    image : (H, W, 4) uint8, linear; one page a channel
    missing : characters that the font lacks; left_out : those that found no room
    occupancy : share of the four pages that glyphs with their gutters cover
    """

    image: Image
    metrics: Metrics
    missing: str
    left_out: str
    occupancy: float


def make_sheet(sheet: GlyphSheet, font: Font) -> Task[Sheet]:
    """Draw and pack a sheet.

    Characters that the font lacks, and those that find no room, are said and left out.
    """
    wanted = [c for c in dict.fromkeys(sheet.characters) if ord(c) in font.glyph_of]
    drawn: list[Drawn] = []
    for done, glyph in enumerate(font.draw(wanted, sheet.size, sheet.spread)):
        if done % _SAY_EVERY == 0:
            yield Progress(done, len(wanted), f"drawing {font.name}")
        drawn.append(glyph)
    yield Progress(len(wanted), len(wanted), "packing")
    packed, order = _pack(sheet, drawn)
    out = np.zeros((packed.height, packed.width, 4), np.uint8)
    placed, left_out = [], []
    spots = dict(zip(order, zip(packed.places, packed.pages, strict=True), strict=True))
    for number, glyph in enumerate(drawn):
        height, width = glyph.codes.shape
        if number not in spots:
            placed.append(_placed(glyph, 0, 0, "R"))
            continue
        (x, y), page = spots[number]
        if page < 0:
            left_out.append(glyph.character)
            continue
        out[y : y + height, x : x + width, page] = glyph.codes
        placed.append(_placed(glyph, int(x), int(y), PAGES[page]))
    here = "".join(row.character for row in placed)
    scale = sheet.size / font.units
    metrics = Metrics(
        SCHEMA, font.name, sheet.size, sheet.spread, packed.width, packed.height, sheet.gutter,
        (font.ascent + font.descent + font.line_gap) * scale, font.ascent * scale, font.descent * scale, tuple(placed),
        tuple((a, b, value) for (a, b), value in font.kerning(here, sheet.size).items()),
    )  # fmt: skip
    image = Image(held(out), ("R", "G", "B", "A"), Transfer.LINEAR)
    return Sheet(image, metrics, font.missing(sheet.characters), "".join(left_out), packed.occupancy)


def _placed(glyph: Drawn, x: int, y: int, channel: str) -> Placed:
    height, width = glyph.codes.shape
    return Placed(
        glyph.character, ord(glyph.character), x, y, width, height, channel, glyph.left, glyph.top, glyph.advance
    )  # fmt: skip


def _pack(sheet: GlyphSheet, drawn: list[Drawn]) -> tuple[Packed, list[int]]:
    """Return the packing, and which glyph each of its rectangles is; blanks take no room."""
    order = [number for number, glyph in enumerate(drawn) if glyph.codes.size]
    shapes = [drawn[number].codes.shape for number in order]
    sizes = np.array([(w + sheet.gutter, h + sheet.gutter) for h, w in shapes], np.int64).reshape(-1, 2)
    # What stands at the right or the lower border needs no gutter there: the pages are a gutter larger than they look.
    if sheet.side:
        room = sheet.side + sheet.gutter
        found = pack_rectangles(sizes, room, room, len(PAGES))
        return Packed(sheet.side, sheet.side, found.places, found.pages, found.occupancy), order
    packed = smallest_pages(sizes, len(PAGES), powers=sheet.powers)
    if packed is None:
        side = 1 << 14
        packed = pack_rectangles(sizes, side, side, len(PAGES))
    return packed, order


def line_picture(text: str, metrics: Metrics, sheet: Image) -> NDArray[np.uint8]:
    """Return a line of text as coverage (H, W) uint8, drawn from nothing but a sheet and its metrics.

    What a shader does: the rectangle's one channel is read, and of a distance field the half at the outline.
    Pens stand on whole pixels. Characters that the sheet lacks leave a gap.
    """
    by_character = {row.character: row for row in metrics.glyphs}
    kerning = {(a, b): value for a, b, value in metrics.kerning}
    pen, before = 0.0, ""
    spots: list[tuple[int, Placed]] = []
    for c in text:
        pen += kerning.get((before, c), 0.0)
        before = c
        glyph = by_character.get(c)
        if glyph is None:
            pen += metrics.size / 2
            continue
        spots.append((round(pen), glyph))
        pen += glyph.advance
    above = max([round(metrics.ascent), *(g.top for _, g in spots)])
    below = max([round(metrics.descent), *(g.height - g.top for _, g in spots)])
    first = min([0, *(x + g.left for x, g in spots)])
    last = max([round(pen), *(x + g.left + g.width for x, g in spots)])
    out = np.zeros((max(1, above + below), max(1, last - first)), np.uint8)
    for x, glyph in spots:
        if not glyph.width:
            continue
        page = PAGES.index(glyph.channel)
        codes = sheet.pixels[glyph.y : glyph.y + glyph.height, glyph.x : glyph.x + glyph.width, page]
        top, left = above - glyph.top, x + glyph.left - first
        area = out[top : top + glyph.height, left : left + glyph.width]
        np.maximum(area, _covered(codes, metrics.spread), out=area)
    return out


def _covered(codes: NDArray[np.uint8], spread: float) -> NDArray[np.uint8]:
    if not spread:
        return codes
    # A pixel is covered from half a pixel outside the outline to half a pixel inside.
    far = (codes.astype(np.float32) / 255 - 0.5) * 2 * spread
    return (np.clip(far + 0.5, 0, 1) * 255 + 0.5).astype(np.uint8)


def metrics_json(metrics: Metrics) -> bytes:
    """Return the metrics as readable JSON."""
    return msgspec.json.format(msgspec.json.encode(metrics), indent=1) + b"\n"


def shading(metrics: Metrics) -> bytes:
    """Return the GLSL that reads one page of a sheet: a mask of four with a single 1 picks the channel."""
    body: dict[bool, Any] = {
        False: "    return value;",
        True: (
            "    // 0.5 is the outline; fwidth makes the edge one pixel of the screen wide at any size.\n"
            "    float edge = fwidth(value);\n"
            "    return smoothstep(0.5 - edge, 0.5 + edge, value);"
        ),
    }
    return (
        f"// Glyphs of {metrics.font}, {metrics.size} pixels an em, four pages in one texture.\n"
        f"// {'Signed distances, ' + format(metrics.spread, 'g') + ' pixels each way.' if metrics.spread else 'Coverage.'}"
        " Sample it as linear values, not as sRGB.\n"
        "// page: vec4(1,0,0,0) for channel R, vec4(0,1,0,0) for G, vec4(0,0,1,0) for B, vec4(0,0,0,1) for A.\n"
        "float glyph_coverage(sampler2D sheet, vec2 uv, vec4 page)\n{\n"
        "    float value = dot(texture(sheet, uv), page);\n"
        f"{body[metrics.spread > 0]}\n}}\n"
    ).encode()
