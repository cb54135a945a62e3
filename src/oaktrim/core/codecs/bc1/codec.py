"""BC1 and BC3: colour in blocks of two RGB565 ends and sixteen 2-bit steps, with one bit or eight of alpha.

Khronos Data Format Specification 1.3, sections 19.1 to 19.3. With the first end above the second, a BC1 block has four
even steps; otherwise three, and a fourth code that is black, or clear where the format has alpha. BC3 always has four.

The encoder follows the principal axis of the colours to its first ends, refits the ends by least squares to the
steps chosen until nothing is gained, tries the three-step mode, and then walks the ends by single codes.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.bc1.fit import FAR, draft_endpoints, palette_of, search_endpoints, walk_moves
from oaktrim.core.codecs.bc4.codec import channel_palette, channel_scratch, encode_channel_rows
from oaktrim.core.codecs.blocks import (
    ANGLE,
    BARE,
    COVERS,
    FAST,
    Blocks,
    Errors,
    ReadResult,
    blocks_in,
    decode_rows,
    encode_pixels,
    load_block,
    metric_params,
    set_roots,
    spaced,
    weigh_by_alpha,
)
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba


@njit(**BARE)
def _solid(px, single, ends):
    """Set `ends` to the best four-step pair for one colour, whose second-step value is nearest; `single` (2, 256, 2)."""
    for c in range(3):
        bits = 1 if c == 1 else 0
        value = np.int64(px[c, 0])
        ends[c] = single[bits, value, 0]
        ends[3 + c] = single[bits, value, 1]


@njit(**BARE, fastmath=FAST)
def _write(px, ends, three, clear, roots, palette, codes, out):
    """Write the eight bytes of a colour block and return its squared error, each pixel by its weight.

    `clear` (16,) marks pixels that take code 3 of the three-step mode.
    """
    first = (ends[0] << 11) | (ends[1] << 5) | ends[2]
    second = (ends[3] << 11) | (ends[4] << 5) | ends[5]
    if (first > second) == three:
        for k in range(3):
            ends[k], ends[3 + k] = ends[3 + k], ends[k]
        first, second = second, first
    # Equal ends mean three steps; codes 0 to 2 are then one colour, so four even steps lose nothing.
    palette_of(ends, three, roots, palette)
    r0, g0, b0 = palette[0, 0], palette[1, 0], palette[2, 0]
    r1, g1, b1 = palette[0, 1], palette[1, 1], palette[2, 1]
    r2, g2, b2 = palette[0, 2], palette[1, 2], palette[2, 2]
    r3, g3, b3 = palette[0, 3], palette[1, 3], palette[2, 3]
    bar = FAR if three else np.float32(0.0)
    error = np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        d0 = (r - r0) * (r - r0) + (g - g0) * (g - g0) + (b - b0) * (b - b0)
        d1 = (r - r1) * (r - r1) + (g - g1) * (g - g1) + (b - b1) * (b - b1)
        d2 = (r - r2) * (r - r2) + (g - g2) * (g - g2) + (b - b2) * (b - b2)
        d3 = (r - r3) * (r - r3) + (g - g3) * (g - g3) + (b - b3) * (b - b3) + bar
        # Of equals the least code wins.
        near, other = min(d0, d1), min(d2, d3)
        low = np.float32(1.0) if d1 < d0 else np.float32(0.0)
        high = np.float32(3.0) if d3 < d2 else np.float32(2.0)
        codes[i] = np.int32(high if other < near else low)
        error += px[3, i] * min(near, other)
    bits = np.uint32(0)
    for i in range(16):
        code = np.uint32(3) if clear[i] else np.uint32(codes[i])
        bits |= code << np.uint32(2 * i)
    out[0] = first & 255
    out[1] = first >> 8
    out[2] = second & 255
    out[3] = second >> 8
    for i in range(4):
        out[4 + i] = np.uint8((bits >> np.uint32(8 * i)) & np.uint32(255))
    return error


# What alpha does to the colour block.
OPAQUE, ONE_BIT, BESIDE = 0, 1, 2


@njit(**BARE)
def _weigh(px, alpha, clear, alpha_use, threshold, covers):
    """Take alpha out of px (4, 16) into `alpha`, put weights in its place; return whether a pixel is to be clear."""
    for i in range(16):
        alpha[i] = px[3, i]
    weigh_by_alpha(px, covers and alpha_use == BESIDE, px[3])
    any_clear = False
    if alpha_use == ONE_BIT:
        for i in range(16):
            clear[i] = alpha[i] < threshold
            any_clear |= clear[i]
            px[3, i] = np.float32(0.0) if clear[i] else np.float32(1.0)
    return any_clear


@njit(**BARE)
def _show(px):
    """Give pixels of no weight the colour of one that has some; return the sum of weights and that pixel's place."""
    weight = np.float32(0.0)
    for i in range(16):
        weight += px[3, i]
    seen = 0
    if weight < 16:
        while seen < 15 and px[3, seen] == 0:
            seen += 1
        for i in range(16):
            if px[3, i] == 0:
                for c in range(3):
                    px[c, i] = px[c, seen]
    return weight, seen


@njit(**BARE, fastmath=FAST)
def _is_solid(px, seen):
    apart = np.float32(0.0)
    for i in range(16):
        apart += abs(px[0, i] - px[0, seen]) + abs(px[1, i] - px[1, seen]) + abs(px[2, i] - px[2, seen])
    return apart == 0


@njit(**BARE)
def _encode_rows(pixels, alpha_use, threshold, effort, params, single, moves, start, stop, out, block_errors, scratch):
    """Encode block rows [start, stop) of pixels (H, W, 4) uint8 into `out` (rows, columns, 8 or 16) uint8.

    `params` (5,) float32 is what `metric_params` returns; `block_errors` takes the errors of colour.
    """
    px, alpha, clear, codes, palette, best, ends, trial, roots = scratch
    draft = effort == 0 and alpha_use == OPAQUE and params[0] == params[1] and params[ANGLE] == 0
    for i in range(16):
        px[3, i] = np.float32(1.0)
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            block = out[by, bx]
            if draft:
                load_block(pixels, bx, by, 4, 4, 3, px)
                if draft_endpoints(px, roots, best, trial, palette) == 0:
                    _solid(px, single, best)
                block_errors[by, bx] = _write(px, best, False, clear, roots, palette, codes, block)
                continue
            load_block(pixels, bx, by, 4, 4, 4, px)
            any_clear = _weigh(px, alpha, clear, alpha_use, threshold, params[COVERS] > 0)
            weight, seen = _show(px)
            solid = weight == 0 or _is_solid(px, seen)
            three = any_clear
            set_roots(px, params, roots[0])
            if weight == 0:
                for k in range(6):
                    best[k] = 0
            elif solid and not any_clear:
                _solid(px, single, best)
            for c in range(3):
                roots[1, c] = np.float32(1.0) / roots[0, c]
                for i in range(16):
                    px[c, i] *= roots[0, c]
            if weight > 0 and (any_clear or not solid):
                if effort == 0 and not any_clear:
                    draft_endpoints(px, roots, best, trial, palette)
                else:
                    three, _ = search_endpoints(
                        px, effort, alpha_use != BESIDE, any_clear, moves, roots, best, ends, trial, palette
                    )
            if alpha_use == BESIDE:
                block = block[8:]
            block_errors[by, bx] = _write(px, best, three, clear, roots, palette, codes, block)


@njit(**BARE)
def _colour_words(block, may_three, clear_code, words):
    """Fill `words` (4,) uint32 with a block's colours, red lowest; alpha is full, but clear where code 3 may be."""
    first = np.int64(block[0]) | np.int64(block[1]) << 8
    second = np.int64(block[2]) | np.int64(block[3]) << 8
    r0, r1 = first >> 11, second >> 11
    g0, g1 = first >> 5 & 63, second >> 5 & 63
    b0, b1 = first & 31, second & 31
    r0, r1 = r0 << 3 | r0 >> 2, r1 << 3 | r1 >> 2
    g0, g1 = g0 << 2 | g0 >> 4, g1 << 2 | g1 >> 4
    b0, b1 = b0 << 3 | b0 >> 2, b1 << 3 | b1 >> 2
    full = np.int64(255) << 24
    words[0] = r0 | g0 << 8 | b0 << 16 | full
    words[1] = r1 | g1 << 8 | b1 << 16 | full
    if may_three and first <= second:
        words[2] = (r0 + r1 + 1) >> 1 | (g0 + g1 + 1) >> 1 << 8 | (b0 + b1 + 1) >> 1 << 16 | full
        words[3] = 0 if clear_code else full
    else:
        words[2] = (2 * r0 + r1 + 1) // 3 | (2 * g0 + g1 + 1) // 3 << 8 | (2 * b0 + b1 + 1) // 3 << 16 | full
        words[3] = (r0 + 2 * r1 + 1) // 3 | (g0 + 2 * g1 + 1) // 3 << 8 | (b0 + 2 * b1 + 1) // 3 << 16 | full


@njit(**BARE)
def _decode_rows(blocks, alpha_use, start, stop, out, scratch):
    """Decode block rows (rows, columns, 8 or 16) uint8 into `out` (H, W) uint32, one word a pixel, red lowest."""
    height, width = out.shape
    words, steps, alphas = scratch
    beside = alpha_use == BESIDE
    offset = 8 if beside else 0
    for by in range(start, stop):
        tall = min(4, height - by * 4)
        for bx in range(blocks.shape[1]):
            block = blocks[by, bx]
            _colour_words(block[offset:], not beside, alpha_use == ONE_BIT, words)
            bits = np.uint64(0)
            if beside:
                channel_palette(block, steps)
                for i in range(8):
                    alphas[i] = np.uint32(steps[i]) << np.uint32(24)
                for i in range(6):
                    bits |= np.uint64(block[2 + i]) << np.uint64(8 * i)
                for i in range(4):
                    words[i] &= np.uint32(0xFFFFFF)
            wide = min(4, width - bx * 4)
            if wide == 4 and tall == 4 and not beside:
                # The common case, with bounds that the compiler knows.
                for y in range(4):
                    codes = np.uint32(block[4 + y])
                    for x in range(4):
                        out[by * 4 + y, bx * 4 + x] = words[codes >> np.uint32(2 * x) & np.uint32(3)]
                continue
            for y in range(tall):
                row = out[by * 4 + y, bx * 4 : bx * 4 + wide]
                codes = np.uint32(block[offset + 4 + y])
                for x in range(wide):
                    row[x] = words[codes >> np.uint32(2 * x) & np.uint32(3)]
                if beside:
                    for x in range(wide):
                        row[x] |= alphas[bits >> np.uint64(3 * (4 * y + x)) & np.uint64(7)]


@cache
def _single_table() -> NDArray[np.int32]:
    """Return for 5 and 6 bits and each value 0..255 the two end codes whose second step is nearest, shape (2, 256, 2).

    Of equally near pairs the closest together is taken, since decoders differ in how they interpolate.
    """
    table = np.zeros((2, 256, 2), np.int32)
    values = np.arange(256)
    for row, bits in enumerate((5, 6)):
        codes = np.arange(1 << bits)
        wide = codes << (8 - bits) | codes >> (2 * bits - 8)
        steps = (2 * wide[:, None] + wide[None, :] + 1) // 3
        spread = np.abs(wide[:, None] - wide[None, :])
        cost = np.abs(steps[None] - values[:, None, None]) * 1024 + spread
        best = cost.reshape(256, -1).argmin(axis=1)
        table[row, :, 0], table[row, :, 1] = np.divmod(best, 1 << bits)
    return table


@spaced
def _scratch() -> tuple[NDArray[Any], ...]:
    return (
        np.empty((4, 16), np.float32), np.empty(16, np.float32), np.zeros(16, np.bool_), np.empty(16, np.int32),
        np.empty((3, 4), np.float32), np.empty(6, np.int32), np.empty(6, np.int32), np.empty(6, np.int32),
        np.ones((2, 4), np.float32),
    )  # fmt: skip


def _encode(image: Image, options: EncodeOptions, alpha_use: int, block_errors: ReadResult = None) -> bytes:
    single, moves, effort, params = (
        _single_table(),
        walk_moves(),
        options.effort.rank,
        metric_params(options.error_metric),
    )

    def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
        if alpha_use == BESIDE:
            exact = bool(params[COVERS] > 0)
            encode_channel_rows(pixels, 3, 1, effort, exact, False, start, stop, out, errors, *channel_scratch())
        _encode_rows(
            pixels, alpha_use, options.alpha_threshold, effort, params, single, moves, start, stop, out, errors, _scratch()
        )  # fmt: skip

    return encode_pixels(
        held(to_rgba(image)), options, (4, 4), 16 if alpha_use == BESIDE else 8, rows, block_errors, 8192
    )


def _decode(data: bytes, width: int, height: int, alpha_use: int) -> Pixels:
    block_bytes = 16 if alpha_use == BESIDE else 8
    blocks = blocks_in(data, width, height, (4, 4), block_bytes)
    out = np.empty((height, width), "<u4")

    def rows(start: int, stop: int) -> None:
        scratch = np.empty(4, np.uint32), np.empty(8, np.uint8), np.zeros(8, np.uint32)
        _decode_rows(blocks, alpha_use, start, stop, out, scratch)

    decode_rows(rows, blocks)
    return out.view(np.uint8).reshape(height, width, 4)


def encode_bc1(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    """Encode colour; alpha is not looked at."""
    return _encode(image, options, OPAQUE, block_errors)


def decode_bc1(data: bytes, width: int, height: int) -> Pixels:
    """Decode to (H, W, 3) uint8."""
    return _decode(data, width, height, OPAQUE)[..., :3]


def encode_bc1_a1(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    """Encode colour and one bit of alpha; colour under clear pixels does not count."""
    return _encode(image, options, ONE_BIT, block_errors)


def decode_bc1_a1(data: bytes, width: int, height: int) -> Pixels:
    """Decode to (H, W, 4) uint8."""
    return _decode(data, width, height, ONE_BIT)


def encode_bc3(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    """Encode colour and eight bits of alpha."""
    return _encode(image, options, BESIDE, block_errors)


def decode_bc3(data: bytes, width: int, height: int) -> Pixels:
    """Decode to (H, W, 4) uint8."""
    return _decode(data, width, height, BESIDE)
