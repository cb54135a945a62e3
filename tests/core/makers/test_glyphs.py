"""Glyph sheets: FreeType and HarfBuzz, through Pillow, judge what is set from a sheet; packing never overlaps."""

import io
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest
from fontTools.fontBuilder import FontBuilder
from fontTools.pens.ttGlyphPen import TTGlyphPen
from fontTools.ttLib import TTFont
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as PillowImage
from PIL import ImageDraw, ImageFont, features
from scipy.ndimage import distance_transform_edt

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.makers.blocks import BLOCKS, block_named, drawable
from oaktrim.core.makers.glyphs.fonts import open_font
from oaktrim.core.makers.glyphs.sheet import (
    GlyphSheet,
    Metrics,
    line_picture,
    make_sheet,
    metrics_json,
    shading,
)
from oaktrim.core.makers.rectangles import pack_rectangles, smallest_pages
from oaktrim.core.pixels.distance import signed_distance
from oaktrim.core.progress import finish
from oaktrim.demo.signface import sign_font

SIGNS = " -./0123456789:ABCDEFGHIJKLMNOPQRSTUVWXYZ"


@pytest.fixture(scope="module")
def font_path(tmp_path_factory):
    path = tmp_path_factory.mktemp("fonts") / "signs.ttf"
    path.write_bytes(sign_font())
    return path


def made(path, size=48, characters=SIGNS, **settings):
    return finish(make_sheet(GlyphSheet("s", str(path), size, characters, **settings), open_font(path)))


def set_by_pillow(path, text, size):
    """Text as FreeType and HarfBuzz set it, cut down to its ink."""
    face = ImageFont.truetype(str(path), size, layout_engine=ImageFont.Layout.RAQM)
    canvas = PillowImage.new("L", (size * len(text), size * 2))
    ImageDraw.Draw(canvas).text((size, size), text, 255, face, anchor="ls")
    return inked(np.asarray(canvas))


def inked(codes):
    rows, columns = np.flatnonzero(codes.any(axis=1)), np.flatnonzero(codes.any(axis=0))
    return codes[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]


@pytest.mark.skipif(not features.check("raqm"), reason="Pillow came without HarfBuzz")
@pytest.mark.parametrize("text", ["HERON 06:40", "AVAILABLE", "LATE FAR BANK"])
def test_a_line_is_set_as_the_platform_sets_it(font_path, text):
    sheet = made(font_path)
    ours, theirs = inked(line_picture(text, sheet.metrics, sheet.image)), set_by_pillow(font_path, text, 48)
    assert ours.shape[0] == theirs.shape[0]
    # Pens stand on whole pixels here and on fractions there: half a pixel a letter at most, kerning the same.
    assert abs(ours.shape[1] - theirs.shape[1]) <= 2
    unkerned = dict(msgspec.structs.asdict(sheet.metrics), kerning=())
    plain = line_picture(text, type(sheet.metrics)(**unkerned), sheet.image)
    if "AV" in text or "FA" in text:
        assert inked(plain).shape[1] > theirs.shape[1] + 2, "without kerning it would be wider"


def test_a_letter_is_to_the_pixel_what_freetype_draws(font_path):
    sheet = made(font_path)
    for row in sheet.metrics.glyphs:
        if row.width:
            page = "RGBA".index(row.channel)
            ours = sheet.image.pixels[row.y : row.y + row.height, row.x : row.x + row.width, page]
            face = ImageFont.truetype(str(font_path), 48, layout_engine=ImageFont.Layout.BASIC)
            canvas = PillowImage.new("L", (96, 96))
            ImageDraw.Draw(canvas).text((20, 60), row.character, 255, face, anchor="ls")
            theirs = np.asarray(canvas)
            left, top = 20 + row.left, 60 - row.top
            np.testing.assert_array_equal(ours, theirs[top : top + row.height, left : left + row.width])
            assert inked(theirs).shape == ours.shape


def drawn_fine(font_path, character, times=8):
    """A letter as FreeType draws it so many times as large, brought down: without the hinting of the small size."""
    face = ImageFont.truetype(str(font_path), 48 * times, layout_engine=ImageFont.Layout.BASIC)
    canvas = PillowImage.new("L", (112 * times, 96 * times))
    ImageDraw.Draw(canvas).text((24 * times, 64 * times), character, 255, face, anchor="ls")
    return np.asarray(canvas, np.float64).reshape(96, times, 112, times).mean(axis=(1, 3))


def test_signed_distances_bring_the_letters_back(font_path):
    field = made(font_path, spread=5.0)
    for row in field.metrics.glyphs:
        if not row.width:
            continue
        codes = field.image.pixels[row.y : row.y + row.height, row.x : row.x + row.width, "RGBA".index(row.channel)]
        ours = np.zeros((96, 112))
        # The shader's step, a pixel wide.
        shown = np.clip((codes / 255 - 0.5) * 10 + 0.5, 0, 1) * 255
        ours[64 - row.top :, 24 + row.left :][: row.height, : row.width] = shown
        theirs = drawn_fine(font_path, row.character)
        sure = (theirs < 20) | (theirs > 235)
        np.testing.assert_array_equal(ours[sure] > 127, theirs[sure] > 127, row.character)
        assert abs(ours.sum() - theirs.sum()) < 0.04 * theirs.sum(), row.character
    assert b"fwidth" in shading(field.metrics) and b"fwidth" not in shading(made(font_path).metrics)


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 30), st.integers(1, 30), st.floats(0.1, 0.9), st.integers(0, 99))
def test_distances_are_exact(width, height, share, seed):
    inside = np.random.default_rng(seed).random((height, width)) < share
    if inside.all() or not inside.any():
        return
    wanted = np.where(inside, distance_transform_edt(inside) - 0.5, 0.5 - distance_transform_edt(~inside))
    np.testing.assert_allclose(signed_distance(inside), wanted, atol=1e-5)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.integers(1, 40), st.integers(1, 40)), min_size=1, max_size=60), st.integers(1, 4),
    st.booleans(),
)  # fmt: skip
def test_packed_rectangles_lie_apart_and_inside(sizes, pages, powers):
    rows = np.array(sizes)
    found = smallest_pages(rows, pages, powers=powers)
    assert found.left_out == 0
    covered = np.zeros((pages, found.height, found.width), np.int64)
    for (x, y), (w, h), page in zip(found.places, rows, found.pages, strict=True):
        assert x >= 0 and y >= 0 and x + w <= found.width and y + h <= found.height
        covered[page, y : y + h, x : x + w] += 1
    assert covered.max() == 1
    assert found.occupancy == pytest.approx(covered.mean())
    if powers:
        assert all(side & (side - 1) == 0 for side in (found.width, found.height))


def test_what_finds_no_room_is_said(font_path):
    sheet = made(font_path, side=64)
    assert sheet.image.size == (64, 64)
    assert sheet.left_out and set(sheet.left_out) <= set(SIGNS)
    assert {row.character for row in sheet.metrics.glyphs} == set(SIGNS) - set(sheet.left_out)
    tight = pack_rectangles(np.array([[8, 8]] * 5), 16, 16)
    assert (tight.left_out, tight.occupancy) == (1, 1.0)


def test_characters_by_block_and_what_the_font_lacks(font_path):
    assert len(block_named("Basic Latin")) == 95
    assert block_named("cyrillic")[0] == "Ѐ"
    assert len(block_named("cjk-unified-ideographs")) > 20_900
    assert drawable("b\na\ta\u200bb") == "ab"
    with pytest.raises(Unsupported, match="no block 'klingon'"):
        block_named("klingon")
    assert all(first <= last for first, last in BLOCKS.values())
    sheet = made(font_path, characters="AZ$é")
    assert sheet.missing == "$é"
    assert [row.character for row in sheet.metrics.glyphs] == ["A", "Z"]


def test_metrics_are_read_back(font_path):
    metrics = made(font_path, characters="AV0 ").metrics
    back = msgspec.json.decode(metrics_json(metrics), type=Metrics)
    assert back == metrics
    assert {(a, b) for a, b, _ in back.kerning} == {("A", "V"), ("V", "A")}
    assert back.kerning[0][2] == pytest.approx(-90 * 48 / 1000)
    assert back.line_height == pytest.approx((820 + 220) * 48 / 1000)


def many_ideographs(count):
    """A font with so many square glyphs of strokes, at the code points of ideographs."""
    builder = FontBuilder(1000, isTTF=True)
    names = [f"i{number}" for number in range(count)]
    builder.setupGlyphOrder([".notdef", *names])
    builder.setupCharacterMap({0x4E00 + number: name for number, name in enumerate(names)})
    glyphs = {".notdef": TTGlyphPen(None).glyph()}
    for number, name in enumerate(names):
        pen = TTGlyphPen(None)
        for bit in range(14):
            if number >> bit & 1 or bit in (0, 13):
                y = 60 * bit
                pen.moveTo((40 + bit, y))
                for spot in ((40 + bit, y + 40), (960 - bit, y + 40), (960 - bit, y)):
                    pen.lineTo(spot)
                pen.closePath()
        glyphs[name] = pen.glyph()
    builder.setupGlyf(glyphs)
    builder.setupHorizontalMetrics({name: (1000, 40) for name in glyphs})
    builder.setupHorizontalHeader(ascent=880, descent=-120)
    builder.setupNameTable({"familyName": "Many", "styleName": "Regular"})
    builder.setupOS2()
    builder.setupPost(keepGlyphNames=False)
    out = io.BytesIO()
    builder.save(out)
    return out.getvalue()


def test_seven_thousand_ideographs_in_time(tmp_path):
    path = tmp_path / "many.ttf"
    path.write_bytes(many_ideographs(7000))
    characters = "".join(chr(0x4E00 + number) for number in range(7000))
    started, steps = time.monotonic(), 0
    task = make_sheet(GlyphSheet("s", str(path), 32, characters), open_font(path))
    while True:
        try:
            next(task)
            steps += 1
        except StopIteration as end:
            sheet = end.value
            break
    assert time.monotonic() - started < 20
    assert len(sheet.metrics.glyphs) == 7000 and not sheet.left_out
    assert sheet.occupancy >= 0.9
    assert steps > 50, "it can be cancelled between two words of progress"


@pytest.mark.parametrize("cut", [0, 3, 40, 300, 2000])
def test_broken_fonts_are_refused_by_name(tmp_path, font_path, cut):
    path = tmp_path / "broken.ttf"
    path.write_bytes(font_path.read_bytes()[:cut])
    with pytest.raises(FileError, match=r"broken\.ttf"):
        made(path)
    path.write_bytes(bytes(np.random.default_rng(cut).integers(0, 256, 4000, dtype=np.uint8)))
    with pytest.raises(FileError, match=r"broken\.ttf"):
        made(path)


@pytest.mark.parametrize("spread", [0, 4])
def test_pages_of_a_board_are_full(spread):
    """Few glyphs leave gaps that only their order decides: the letters and figures of a departure board, in a book face."""
    font = "/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf"
    letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789:.- "
    assert finish(make_sheet(GlyphSheet("s", font, 32, letters, spread), open_font(Path(font)))).occupancy >= 0.9
    wide = letters + letters.lower() + "!?&()/'\",;+%#"
    assert finish(make_sheet(GlyphSheet("s", font, 48, wide, spread), open_font(Path(font)))).occupancy >= 0.9


def _with_units(data, units):
    font = TTFont(io.BytesIO(data))
    font["head"].unitsPerEm = units
    out = io.BytesIO()
    font.save(out)
    return out.getvalue()


def test_a_font_of_16_units_an_em_draws_too_large_to_end_and_is_refused(tmp_path):
    """Its outlines are 60 times as large as an em: at 512 pixels a glyph with its field would take 16 gigapixels."""
    file = tmp_path / "huge.ttf"
    file.write_bytes(_with_units(sign_font(), 16))
    started = time.monotonic()
    with pytest.raises(
        FileError, match=r"huge\.ttf: (draws more than 10,000 million pixels at 512 pixels an em|cannot draw)"
    ):
        finish(make_sheet(GlyphSheet("a", "huge.ttf", 512, "ABCDEFGHIJ", spread=8.0), open_font(file)))
    assert time.monotonic() - started < 30


@pytest.mark.slow
def test_fonts_with_flipped_bits_answer_with_words(tmp_path):
    whole, rng, read = sign_font(), np.random.default_rng(3), 0
    file = tmp_path / "bent.ttf"
    for _ in range(150):
        data = bytearray(whole)
        for _ in range(int(rng.integers(1, 6))):
            data[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))
        file.write_bytes(bytes(data))
        try:
            sheet = finish(make_sheet(GlyphSheet("a", "bent.ttf", 16, "FERRY 06:40", spread=2.0), open_font(file)))
            read += 1
            assert sheet.image.width >= 1
        except FileError as error:
            assert str(error).startswith(f"{file}: ")
    assert read > 20
