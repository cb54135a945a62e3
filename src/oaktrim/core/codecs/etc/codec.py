"""ETC2 and EAC: what the standard fixes of their blocks, and decoding.

Khronos Data Format Specification 1.3, chapter 21. Eight bytes, the first the highest, hold the colours of 4x4 pixels, which
are counted down the columns. Differences that leave their range name three further modes: T, H and planar.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import (
    BARE,
    Blocks,
    Errors,
    ReadResult,
    blocks_in,
    decode_rows,
    encode_pixels,
    metric_params,
    put_pixels,
)
from oaktrim.core.codecs.effort import EncodeOptions, ErrorMetric
from oaktrim.core.codecs.etc.eac import channel_scratch, encode_channel_rows
from oaktrim.core.codecs.etc.fit import colour_scratch, encode_colour_rows
from oaktrim.core.codecs.etc.tables import ALONE, BESIDE, DISTANCES, MODIFIERS, ONE_BIT, STEPS
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba


@njit(**BARE)
def _byte(value):
    return min(max(value, 0), 255)


@njit(**BARE)
def _word(block):
    word = np.uint64(0)
    for i in range(8):
        word = word << np.uint64(8) | np.uint64(block[i])
    return word


@njit(**BARE)
def _bits(word, high, low):
    """Return bits `high` to `low` of a word, as the specification writes them."""
    return np.int64(word >> np.uint64(low) & ((np.uint64(1) << np.uint64(high - low + 1)) - np.uint64(1)))


@njit(**BARE)
def _signed(value):
    return value - 8 if value & 4 else value


@njit(**BARE)
def wide4(code):
    """Return a code of four bits as a value 0 to 255."""
    return code << 4 | code


@njit(**BARE)
def wide5(code):
    """Return a code of five bits as a value 0 to 255."""
    return code << 3 | code >> 2


@njit(**BARE)
def _paint(paints, k, r, g, b, more):
    paints[k, 0], paints[k, 1], paints[k, 2] = _byte(r + more), _byte(g + more), _byte(b + more)


@njit(**BARE)
def _decode_colour(word, one_bit, distances, modifiers, paints, out):
    """Decode a block of colour into `out` (16, 4), pixels down the columns; alpha is 255, or 0 where it is clear."""
    marked = _bits(word, 33, 33) == 1
    # With one bit of alpha, the bit that else names the individual mode says that all is opaque.
    clear = one_bit and not marked
    r, g, b = _bits(word, 63, 59), _bits(word, 55, 51), _bits(word, 47, 43)
    r2 = r + _signed(_bits(word, 58, 56))
    g2 = g + _signed(_bits(word, 50, 48))
    b2 = b + _signed(_bits(word, 42, 40))
    differs = marked or one_bit
    halves = False
    if differs and not 0 <= r2 <= 31:
        d = distances[_bits(word, 35, 34) << 1 | _bits(word, 32, 32)]
        r = wide4(_bits(word, 60, 59) << 2 | _bits(word, 57, 56))
        g, b = wide4(_bits(word, 55, 52)), wide4(_bits(word, 51, 48))
        r2, g2, b2 = wide4(_bits(word, 47, 44)), wide4(_bits(word, 43, 40)), wide4(_bits(word, 39, 36))
        _paint(paints, 0, r, g, b, 0)
        _paint(paints, 1, r2, g2, b2, d)
        _paint(paints, 2, r2, g2, b2, 0)
        _paint(paints, 3, r2, g2, b2, -d)
    elif differs and not 0 <= g2 <= 31:
        r = _bits(word, 62, 59)
        g = _bits(word, 58, 56) << 1 | _bits(word, 52, 52)
        b = _bits(word, 51, 51) << 3 | _bits(word, 49, 47)
        r2, g2, b2 = _bits(word, 46, 43), _bits(word, 42, 39), _bits(word, 38, 35)
        order = 1 if (r << 8 | g << 4 | b) >= (r2 << 8 | g2 << 4 | b2) else 0
        d = distances[_bits(word, 34, 34) << 2 | _bits(word, 32, 32) << 1 | order]
        _paint(paints, 0, wide4(r), wide4(g), wide4(b), d)
        _paint(paints, 1, wide4(r), wide4(g), wide4(b), -d)
        _paint(paints, 2, wide4(r2), wide4(g2), wide4(b2), d)
        _paint(paints, 3, wide4(r2), wide4(g2), wide4(b2), -d)
    elif differs and not 0 <= b2 <= 31:
        _decode_planar(word, out)
        return
    else:
        halves = True
        if differs:
            r, g, b, r2, g2, b2 = wide5(r), wide5(g), wide5(b), wide5(r2), wide5(g2), wide5(b2)
        else:
            r, g, b = wide4(_bits(word, 63, 60)), wide4(_bits(word, 55, 52)), wide4(_bits(word, 47, 44))
            r2, g2, b2 = wide4(_bits(word, 59, 56)), wide4(_bits(word, 51, 48)), wide4(_bits(word, 43, 40))
        for k in range(8):
            row = _bits(word, 39, 37) if k < 4 else _bits(word, 36, 34)
            more = modifiers[row, k & 3]
            if clear and not k & 1:
                more = 0
            _paint(paints, k, r if k < 4 else r2, g if k < 4 else g2, b if k < 4 else b2, more)
    flipped = _bits(word, 32, 32) == 1
    for i in range(16):
        k = _bits(word, 16 + i, 16 + i) << 1 | _bits(word, i, i)
        gone = clear and k == 2
        if halves and ((i & 3) >= 2 if flipped else i >= 8):
            k += 4
        for c in range(3):
            out[i, c] = 0 if gone else paints[k, c]
        out[i, 3] = 0 if gone else 255


@njit(**BARE)
def _decode_planar(word, out):
    ro, go = _bits(word, 62, 57), _bits(word, 56, 56) << 6 | _bits(word, 54, 49)
    bo = _bits(word, 48, 48) << 5 | _bits(word, 44, 43) << 3 | _bits(word, 41, 39)
    rh, gh, bh = _bits(word, 38, 34) << 1 | _bits(word, 32, 32), _bits(word, 31, 25), _bits(word, 24, 19)
    rv, gv, bv = _bits(word, 18, 13), _bits(word, 12, 6), _bits(word, 5, 0)
    for c in range(3):
        o, h, v = (ro, rh, rv) if c == 0 else (go, gh, gv) if c == 1 else (bo, bh, bv)
        if c == 1:
            o, h, v = o << 1 | o >> 6, h << 1 | h >> 6, v << 1 | v >> 6
        else:
            o, h, v = o << 2 | o >> 4, h << 2 | h >> 4, v << 2 | v >> 4
        for i in range(16):
            out[i, c] = _byte((((i >> 2) * (h - o) + (i & 3) * (v - o) + 4 * o) + 2) >> 2)
    for i in range(16):
        out[i, 3] = 255


@njit(**BARE)
def _decode_channel(word, eleven, steps, out, c):
    """Decode an EAC block into channel `c` of out (16, 4): 8 bits, or 11 bits spread over 16."""
    base, factor, row = _bits(word, 63, 56), _bits(word, 55, 52), _bits(word, 51, 48)
    for i in range(16):
        step = steps[row, _bits(word, 47 - 3 * i, 45 - 3 * i)]
        if eleven:
            value = base * 8 + 4 + (step * factor * 8 if factor > 0 else step)
            value = min(max(value, 0), 2047)
            out[i, c] = value << 5 | value >> 6
        else:
            out[i, c] = _byte(base + step * factor)


@njit(**BARE)
def _decode_rows(blocks, alpha, tables, start, stop, out, scratch):
    """Decode colour block rows (rows, columns, 8 or 16) uint8 into `out` (H, W) uint32, red lowest."""
    distances, modifiers, steps = tables
    pixels, words, paints = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            block = blocks[by, bx]
            _decode_colour(_word(block[8:] if alpha == 2 else block), alpha == 1, distances, modifiers, paints, pixels)
            if alpha == 2:
                _decode_channel(_word(block), False, steps, pixels, 3)
            for i in range(16):
                word = np.uint32(0)
                for c in range(4):
                    word |= np.uint32(pixels[i, c]) << np.uint32(8 * c)
                words[4 * (i & 3) + (i >> 2)] = word
            put_pixels(words, bx, by, 4, 4, out)


@njit(**BARE)
def _decode_channel_rows(blocks, steps, start, stop, out, scratch):
    """Decode EAC block rows (rows, columns, 8 or 16) uint8 into `out` (H, W) uint32, two channels of 16 bits."""
    pixels, words, _ = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            for c in range(blocks.shape[2] // 8):
                _decode_channel(_word(blocks[by, bx, 8 * c :]), True, steps, pixels, c)
            for i in range(16):
                words[4 * (i & 3) + (i >> 2)] = np.uint32(pixels[i, 0]) | np.uint32(pixels[i, 1]) << np.uint32(16)
            put_pixels(words, bx, by, 4, 4, out)


@njit(**BARE)
def _decode_signed_rows(blocks, steps, start, stop, out):
    """Decode signed EAC block rows (rows, columns, 8 or 16) uint8 into `out` (H, W, 1 or 2) float32 from -1 to 1."""
    height, width, channels = out.shape
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            for c in range(channels):
                word = _word(blocks[by, bx, 8 * c :])
                base, factor, row = _bits(word, 63, 56), _bits(word, 55, 52), _bits(word, 51, 48)
                # Section 21.4: -128 is read as -127.
                base = max(base - 256 if base > 127 else base, -127)
                for i in range(16):
                    step = steps[row, _bits(word, 47 - 3 * i, 45 - 3 * i)]
                    value = base * 8 + (step * factor * 8 if factor > 0 else step)
                    y, x = 4 * by + (i & 3), 4 * bx + (i >> 2)
                    if y < height and x < width:
                        out[y, x, c] = np.float32(min(max(value, -1023), 1023)) / np.float32(1023)


Coder = tuple[Callable[[Image, EncodeOptions], bytes], Callable[[bytes, int, int], Pixels]]


def _colour(alpha: int) -> Coder:
    """Return what encodes and decodes colour without alpha, with one bit of it, or with an EAC block beside it."""
    block_bytes, channels = (16 if alpha == BESIDE else 8), (3 if alpha == ALONE else 4)

    def encode(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
        effort, threshold, params = options.effort.rank, options.alpha_threshold, metric_params(options.error_metric)

        def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
            encode_colour_rows(
                pixels, alpha, threshold, effort, params, DISTANCES, MODIFIERS, STEPS, start, stop, out, errors,
                colour_scratch(),
            )  # fmt: skip

        return encode_pixels(held(to_rgba(image)), options, (4, 4), block_bytes, rows, block_errors)

    def decode(data: bytes, width: int, height: int) -> Pixels:
        blocks = blocks_in(data, width, height, (4, 4), block_bytes)
        out = np.empty((height, width), "<u4")
        tables = (DISTANCES, MODIFIERS, STEPS)
        decode_rows(lambda start, stop: _decode_rows(blocks, alpha, tables, start, stop, out, _scratch()), blocks)
        return out.view(np.uint8).reshape(height, width, 4)[..., :channels]

    return encode, decode


def _scratch() -> tuple[NDArray[Any], ...]:
    return np.zeros((16, 4), np.int64), np.empty(16, np.uint32), np.empty((8, 3), np.int64)


def _channels(count: int) -> Coder:
    """Return what encodes and decodes one or two channels of 11 bits; they are decoded to 16."""

    def encode(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
        effort, turns = options.effort.rank, count == 2 and options.error_metric is ErrorMetric.NORMALS

        def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
            encode_channel_rows(pixels, effort, turns, STEPS, start, stop, out, errors, channel_scratch())

        return encode_pixels(
            held(to_rgba(image, np.uint16)[..., :count]), options, (4, 4), 8 * count, rows, block_errors
        )

    def decode(data: bytes, width: int, height: int) -> Pixels:
        blocks = blocks_in(data, width, height, (4, 4), 8 * count)
        out = np.empty((height, width), "<u4")
        decode_rows(lambda start, stop: _decode_channel_rows(blocks, STEPS, start, stop, out, _scratch()), blocks)
        return out.view("<u2").reshape(height, width, 2)[..., :count].astype(np.uint16)

    return encode, decode


def _signed_channels(count: int) -> Coder:
    """Return what encodes and decodes one or two channels of 11 bits from -1 to 1, decoded to float32.

    A signed block says what the unsigned one with the same bits and the base's highest bit turned says, less 1028.
    """

    def encode(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
        effort, turns = options.effort.rank, count == 2 and options.error_metric is ErrorMetric.NORMALS
        values = np.clip(np.nan_to_num(to_rgba(image, np.float32)[..., :count], nan=0.0), -1.0, 1.0)
        codes = np.clip(np.rint((values * 1023 + 1028) * (65535 / 2047)), 0, 65535).astype(np.uint16)

        def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
            encode_channel_rows(pixels, effort, turns, STEPS, start, stop, out, errors, channel_scratch())
            out[start:stop, :, ::8] ^= 128

        return encode_pixels(held(codes), options, (4, 4), 8 * count, rows, block_errors)

    def decode(data: bytes, width: int, height: int) -> Pixels:
        blocks = blocks_in(data, width, height, (4, 4), 8 * count)
        out = np.empty((height, width, count), np.float32)
        decode_rows(lambda start, stop: _decode_signed_rows(blocks, STEPS, start, stop, out), blocks)
        return out

    return encode, decode


encode_etc2_rgb, decode_etc2_rgb = _colour(ALONE)
encode_etc2_rgb_a1, decode_etc2_rgb_a1 = _colour(ONE_BIT)
encode_etc2_rgba, decode_etc2_rgba = _colour(BESIDE)
encode_eac_r11, decode_eac_r11 = _channels(1)
encode_eac_rg11, decode_eac_rg11 = _channels(2)
encode_eac_r11_signed, decode_eac_r11_signed = _signed_channels(1)
encode_eac_rg11_signed, decode_eac_rg11_signed = _signed_channels(2)
