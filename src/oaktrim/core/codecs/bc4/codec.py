"""BC4 and BC5, and the alpha half of BC3: one or two channels in blocks of two ends and sixteen 3-bit steps.

Khronos Data Format Specification 1.3, sections 19.4 to 19.6 (RGTC is the same layout). With the first end above the
second there are eight even steps; otherwise six, and the values 0 and 255.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.bc4.fit import BATCH, ERROR, scratch, search, write
from oaktrim.core.codecs.blocks import (
    BARE,
    Blocks,
    Errors,
    ReadResult,
    blocks_in,
    decode_rows,
    encode_pixels,
    least_turns,
    spaced,
    weigh_turns,
)
from oaktrim.core.codecs.effort import EncodeOptions, ErrorMetric
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba


@njit(**BARE)
def _write_codes(codes, out):
    """Put the sixteen codes of a block into its bytes."""
    bits = np.uint64(0)
    for i in range(16):
        bits |= np.uint64(codes[i]) << np.uint64(3 * i)
    for i in range(6):
        out[2 + i] = np.uint8((bits >> np.uint64(8 * i)) & np.uint64(255))


@njit(**BARE)
def _load(pixels, channel, by, bx, values):
    """Fill values (16,) float32 with a channel of a block; the border's pixels stand in beyond it."""
    height, width = pixels.shape[:2]
    for y in range(4):
        row = min(4 * by + y, height - 1)
        for x in range(4):
            values[4 * y + x] = pixels[row, min(4 * bx + x, width - 1), channel]


@njit(**BARE)
def encode_channel_rows(pixels, first, channels, effort, exact, turns, start, stop, out, block_errors, scratch, turned):
    """Encode channels of block rows [start, stop) of pixels (H, W, 4) uint8 into the first bytes of out (rows, columns, bytes).

    Parameters
    ----------
    first, channels : which channels, one or two
    exact : whether 0 and 255 stay what they are
    turns : whether errors count as what they turn the vectors by whose x and y the two channels are
    block_errors : (rows, columns) float32, the errors, of steps that are not rounded
    scratch, turned : what `channel_scratch` returns
    """
    px, weights, found, listed, lanes, bits, words = scratch
    palette, palettes, near, codes = turned
    across = out.shape[1]
    for begun in range(start * across, stop * across, BATCH):
        count = min(BATCH, stop * across - begun)
        for c in range(channels):
            for k in range(count):
                _load(pixels, first + c, (begun + k) // across, (begun + k) % across, px[k, c])
        if turns:
            for k in range(count):
                weigh_turns(px[k], np.float32(255.0), weights[k])
        for c in range(channels):
            search(px, weights, c, count, effort, exact, found, listed, lanes)
            write(px, weights, c, count, found, listed, lanes, bits, words)
            for k in range(count):
                by, bx = (begun + k) // across, (begun + k) % across
                for i in range(8):
                    out[by, bx, 8 * c + i] = np.uint8(words[k] >> np.uint64(8 * i) & np.uint64(255))
                block_errors[by, bx] = found[ERROR, k] + (block_errors[by, bx] if c else np.float32(0.0))
        if turns:
            for k in range(count):
                by, bx = (begun + k) // across, (begun + k) % across
                for c in range(2):
                    channel_palette(out[by, bx, 8 * c :], palette)
                    for i in range(8):
                        palettes[c, i] = np.float32(palette[i])
                block_errors[by, bx] = least_turns(px[k], np.float32(255.0), palettes, near, codes)
                for c in range(2):
                    _write_codes(codes[c], out[by, bx, 8 * c :])


@spaced
def channel_scratch() -> tuple[tuple[Any, ...], tuple[NDArray[Any], ...]]:
    """Return the last two of what `encode_channel_rows` takes."""
    return (scratch(), (
        np.empty(8, np.uint8), np.empty((2, 8), np.float32), np.empty((2, 2), np.int64), np.empty((2, 16), np.int64),
    ))  # fmt: skip


@njit(**BARE)
def channel_palette(block, palette):
    """Fill `palette` (8,) uint8 with the values that a block of eight bytes can choose, rounded to nearest."""
    first, second = np.int64(block[0]), np.int64(block[1])
    palette[0] = first
    palette[1] = second
    if first > second:
        for i in range(1, 7):
            palette[1 + i] = ((7 - i) * first + i * second + 3) // 7
    else:
        for i in range(1, 5):
            palette[1 + i] = ((5 - i) * first + i * second + 2) // 5
        palette[6] = 0
        palette[7] = 255


@njit(**BARE)
def _decode_channel(blocks, offset, start, stop, channel, out, palette):
    """Decode block rows into one channel of `out` (H, W, C) uint8; blocks (rows, columns, bytes); palette is scratch (8,)."""
    height, width = out.shape[:2]
    for by in range(start, stop):
        tall = min(4, height - by * 4)
        for bx in range(blocks.shape[1]):
            block = blocks[by, bx, offset : offset + 8]
            channel_palette(block, palette)
            bits = np.uint64(0)
            for i in range(6):
                bits |= np.uint64(block[2 + i]) << np.uint64(8 * i)
            wide = min(4, width - bx * 4)
            for y in range(tall):
                for x in range(wide):
                    code = (bits >> np.uint64(3 * (4 * y + x))) & np.uint64(7)
                    out[by * 4 + y, bx * 4 + x, channel] = palette[np.int64(code)]


def encode_channels(image: Image, options: EncodeOptions, channels: int, block_errors: ReadResult = None) -> bytes:
    """Encode the first one (BC4) or two (BC5) of R and G."""
    effort, turns = options.effort.rank, channels == 2 and options.error_metric is ErrorMetric.NORMALS

    def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
        encode_channel_rows(pixels, 0, channels, effort, False, turns, start, stop, out, errors, *channel_scratch())

    return encode_pixels(held(to_rgba(image)), options, (4, 4), 8 * channels, rows, block_errors, 8192)


def decode_channels(data: bytes, width: int, height: int, channels: int) -> Pixels:
    """Decode BC4 (1) or BC5 (2 channels) to (H, W, channels) uint8."""
    blocks = blocks_in(data, width, height, (4, 4), 8 * channels)
    out = np.empty((height, width, channels), np.uint8)

    def rows(start: int, stop: int) -> None:
        for c in range(channels):
            _decode_channel(blocks, 8 * c, start, stop, c, out, np.empty(8, np.uint8))

    decode_rows(rows, blocks)
    return out


def encode_bc4(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    return encode_channels(image, options, 1, block_errors)


def decode_bc4(data: bytes, width: int, height: int) -> Pixels:
    return decode_channels(data, width, height, 1)


def encode_bc5(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    return encode_channels(image, options, 2, block_errors)


def decode_bc5(data: bytes, width: int, height: int) -> Pixels:
    return decode_channels(data, width, height, 2)
