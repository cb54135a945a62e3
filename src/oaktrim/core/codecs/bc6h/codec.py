"""BC6H: three channels of half floats, unsigned or signed, in blocks of 4x4 pixels.

Khronos Data Format Specification 1.3, chapter 20 (BPTC). Fourteen modes lay out the ends of one or two lines in their own
order of bits. Ends and what lies between them are whole numbers that grow with the logarithm of the value, as the bits of
half floats do; errors are counted on these.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np

from oaktrim.core.codecs.bc6h.fit import PLANS, encode_rows, scratch
from oaktrim.core.codecs.bc7.codec import ANCHORS, MARKS, PARTITIONS, STEP_WEIGHTS, index_stream
from oaktrim.core.codecs.blocks import BARE, Blocks, Errors, blocks_in, decode_rows, encode_pixels, get_bits, words_of
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.codecs.partitions import subset_masks
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba

# Table 111: of each mode its bits, the count of regions, whether further ends are kept as differences, the bits of an end,
# and those of the differences of red, green and blue; then where each bit after the mode's goes: w, x, y and z are the ends.
_LAYOUTS = (
    (0b00, 2, 1, 10, 5, 5, 5, "gy4 by4 bz4 rw9:0 gw9:0 bw9:0 rx4:0 gz4 gy3:0 gx4:0 bz0 gz3:0 bx4:0 bz1 by3:0 ry4:0 bz2 "
     "rz4:0 bz3"),
    (0b01, 2, 1, 7, 6, 6, 6, "gy5 gz4 gz5 rw6:0 bz0 bz1 by4 gw6:0 by5 bz2 gy4 bw6:0 bz3 bz5 bz4 rx5:0 gy3:0 gx5:0 gz3:0 "
     "bx5:0 by3:0 ry5:0 rz5:0"),
    (0b00010, 2, 1, 11, 5, 4, 4, "rw9:0 gw9:0 bw9:0 rx4:0 rw10 gy3:0 gx3:0 gw10 bz0 gz3:0 bx3:0 bw10 bz1 by3:0 ry4:0 bz2 "
     "rz4:0 bz3"),
    (0b00110, 2, 1, 11, 4, 5, 4, "rw9:0 gw9:0 bw9:0 rx3:0 rw10 gz4 gy3:0 gx4:0 gw10 gz3:0 bx3:0 bw10 bz1 by3:0 ry3:0 bz0 "
     "bz2 rz3:0 gy4 bz3"),
    (0b01010, 2, 1, 11, 4, 4, 5, "rw9:0 gw9:0 bw9:0 rx3:0 rw10 by4 gy3:0 gx3:0 gw10 bz0 gz3:0 bx4:0 bw10 by3:0 ry3:0 bz1 "
     "bz2 rz3:0 bz4 bz3"),
    (0b01110, 2, 1, 9, 5, 5, 5, "rw8:0 by4 gw8:0 gy4 bw8:0 bz4 rx4:0 gz4 gy3:0 gx4:0 bz0 gz3:0 bx4:0 bz1 by3:0 ry4:0 bz2 "
     "rz4:0 bz3"),
    (0b10010, 2, 1, 8, 6, 5, 5, "rw7:0 gz4 by4 gw7:0 bz2 gy4 bw7:0 bz3 bz4 rx5:0 gy3:0 gx4:0 bz0 gz3:0 bx4:0 bz1 by3:0 "
     "ry5:0 rz5:0"),
    (0b10110, 2, 1, 8, 5, 6, 5, "rw7:0 bz0 by4 gw7:0 gy5 gy4 bw7:0 gz5 bz4 rx4:0 gz4 gy3:0 gx5:0 gz3:0 bx4:0 bz1 by3:0 "
     "ry4:0 bz2 rz4:0 bz3"),
    (0b11010, 2, 1, 8, 5, 5, 6, "rw7:0 bz1 by4 gw7:0 by5 gy4 bw7:0 bz5 bz4 rx4:0 gz4 gy3:0 gx4:0 bz0 gz3:0 bx5:0 by3:0 "
     "ry4:0 bz2 rz4:0 bz3"),
    (0b11110, 2, 0, 6, 6, 6, 6, "rw5:0 gz4 bz0 bz1 by4 gw5:0 gy5 by5 bz2 gy4 bw5:0 gz5 bz3 bz5 bz4 rx5:0 gy3:0 gx5:0 gz3:0 "
     "bx5:0 by3:0 ry5:0 rz5:0"),
    (0b00011, 1, 0, 10, 10, 10, 10, "rw9:0 gw9:0 bw9:0 rx9:0 gx9:0 bx9:0"),
    (0b00111, 1, 1, 11, 9, 9, 9, "rw9:0 gw9:0 bw9:0 rx8:0 rw10 gx8:0 gw10 bx8:0 bw10"),
    (0b01011, 1, 1, 12, 8, 8, 8, "rw9:0 gw9:0 bw9:0 rx7:0 rw10:11 gx7:0 gw10:11 bx7:0 bw10:11"),
    (0b01111, 1, 1, 16, 4, 4, 4, "rw9:0 gw9:0 bw9:0 rx3:0 rw10:15 gx3:0 gw10:15 bx3:0 bw10:15"),
)  # fmt: skip


def _order(layout: str) -> list[tuple[int, int, int]]:
    """Return end, channel and bit of each place of a layout; "9:0" stands for bits 0 to 9, "10:11" for 11 and then 10."""
    found = []
    for field in layout.split():
        channel, end = "rgb".index(field[0]), "wxyz".index(field[1])
        first, _, last = field[2:].partition(":")
        low, high = sorted((int(first), int(last or first)))
        bits = range(low, high + 1)
        found += [(end, channel, bit) for bit in (bits if int(first) == high else reversed(bits))]
    return found


# Of each mode: its bits and their count, regions, differences, bits of an end, bits of each channel's differences.
MODES = np.array([(m, 2 if m < 2 else 5, *rest[:3], *rest[3:6]) for m, *rest in _LAYOUTS], np.int64)
# Of each mode: end, channel and bit of each place, -1 after the last.
ORDERS = np.full((14, 75, 3), -1, np.int64)
for _mode, _row in enumerate(_LAYOUTS):
    _places = _order(_row[7])
    ORDERS[_mode, : len(_places)] = _places
# The same as runs of rising bits of one field: end, channel, lowest bit and count.
_RUNS = np.zeros((14, 75, 4), np.int64)
for _mode, _order_of in enumerate(ORDERS.tolist()):
    _runs: list[list[int]] = []
    for _end, _channel, _bit in _order_of:
        if _runs and _runs[-1][:2] == [_end, _channel] and _bit == _runs[-1][2] + _runs[-1][3]:
            _runs[-1][3] += 1
        elif _end >= 0:
            _runs.append([_end, _channel, _bit, 1])
    _RUNS[_mode, : len(_runs)] = _runs
# The mode of each five lowest bits; -1 for what is reserved.
_MODE_OF = np.array(
    [next((i for i, row in enumerate(MODES) if low & ((1 << row[1]) - 1) == row[0]), -1) for low in range(32)], np.int64
)


@njit(**BARE)
def _extended(value, bits):
    """Return a number whose sign is the highest of its bits."""
    return value - (np.int64(1) << bits) if value >> (bits - 1) & 1 else value


@njit(**BARE)
def _spread(value, bits, signed):
    """Return an end spread over 16 bits, or over 15 and a sign."""
    if signed:
        if bits >= 16 or value == 0:
            return value
        size = abs(value)
        size = 0x7FFF if size >= (1 << (bits - 1)) - 1 else ((size << 15) + 0x4000) >> (bits - 1)
        return -size if value < 0 else size
    if bits >= 15 or value == 0:
        return value
    return 0xFFFF if value == (1 << bits) - 1 else ((value << 15) + 0x4000) >> (bits - 1)


@njit(**BARE)
def _decode_block(words, signed, ends, paints, out):
    """Decode a block into `out` (16, 3) uint16, the bits of half floats; what is reserved is black."""
    mode = _MODE_OF[get_bits(words, 0, 5)]
    if mode < 0:
        for i in range(16):
            for c in range(3):
                out[i, c] = 0
        return
    row = MODES[mode]
    for e in range(4):
        for c in range(3):
            ends[e, c] = 0
    at = row[1]
    for k in range(_RUNS.shape[1]):
        run = _RUNS[mode, k]
        if run[3] == 0:
            break
        ends[run[0], run[1]] |= get_bits(words, at, run[3]) << run[2]
        at += run[3]
    regions, differences, bits = row[2], row[3], row[4]
    partition = 0
    if regions == 2:
        partition = get_bits(words, at, 5)
        at += 5
    for c in range(3):
        if signed:
            ends[0, c] = _extended(ends[0, c], bits)
        for e in range(1, 2 * regions):
            if differences:
                ends[e, c] = (ends[0, c] + _extended(ends[e, c], row[5 + c])) & ((1 << bits) - 1)
            if signed:
                ends[e, c] = _extended(ends[e, c], bits)
        for e in range(2 * regions):
            ends[e, c] = _spread(ends[e, c], bits, signed)
    width = 3 if regions == 2 else 4
    stream = index_stream(words, at, regions, width, MARKS[regions, partition])
    # The paints of each region: its ends, and what lies between them.
    for region in range(regions):
        for k in range(1 << width):
            w = STEP_WEIGHTS[width, k]
            for c in range(3):
                value = (ends[2 * region, c] * (64 - w) + ends[2 * region + 1, c] * w + 32) >> 6
                if not signed:
                    value = value * 31 >> 6
                elif value < 0:
                    value = 0x8000 | (-value * 31 >> 5)
                else:
                    value = value * 31 >> 5
                paints[region, k, c] = value
    last = np.uint64((1 << width) - 1)
    for i in range(16):
        part = PARTITIONS[2, partition, i] if regions == 2 else 0
        k = np.int64(stream >> np.uint64(i * width) & last)
        for c in range(3):
            out[i, c] = paints[part, k, c]


@njit(**BARE)
def _decode_rows(blocks, signed, start, stop, out, scratch):
    """Decode block rows (rows, columns, 16) uint8 into `out` (H, W, 3) uint16."""
    words, ends, pixels, paints = scratch
    height, width = out.shape[:2]
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            _decode_block(words, signed, ends, paints, pixels)
            for y in range(min(4, height - by * 4)):
                for x in range(min(4, width - bx * 4)):
                    for c in range(3):
                        out[by * 4 + y, bx * 4 + x, c] = pixels[4 * y + x, c]


def half_codes(image: Image, signed: bool) -> Pixels:
    """Return the colours of a picture (H, W, 3) as whole numbers in the order of half floats, int32.

    What is not a number becomes 0, what is past the largest half is held at it, and without a sign negatives become 0.
    """
    wide = np.nan_to_num(to_rgba(image, np.float32)[..., :3], nan=0.0, posinf=65504.0, neginf=-65504.0)
    halves = np.clip(wide, -65504.0 if signed else 0.0, 65504.0).astype(np.float16).view(np.uint16).astype(np.int32)
    codes: Pixels = np.where(halves & 0x8000, -(halves & 0x7FFF), halves).astype(np.int32)
    return codes


@cache
def _encoding() -> tuple[Any, ...]:
    return MODES, ORDERS, PARTITIONS, ANCHORS, subset_masks(PARTITIONS[2, :32], 2)


Coder = tuple[Callable[[Image, EncodeOptions], bytes], Callable[[bytes, int, int], Pixels]]


def _coder(signed: bool) -> Coder:
    def encode(image: Image, options: EncodeOptions) -> bytes:
        tables, plan = _encoding(), PLANS[options.effort.rank]

        def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
            encode_rows(pixels, signed, plan, tables, start, stop, out, scratch())

        return encode_pixels(held(half_codes(image, signed)), options, (4, 4), 16, rows)

    def decode(data: bytes, width: int, height: int) -> Pixels:
        blocks = blocks_in(data, width, height, (4, 4), 16)
        out = np.empty((height, width, 3), np.uint16)

        def rows(start: int, stop: int) -> None:
            scratch = (
                np.empty(2, np.uint64), np.empty((4, 3), np.int64), np.empty((16, 3), np.uint16),
                np.empty((2, 16, 3), np.uint16),
            )  # fmt: skip
            _decode_rows(blocks, signed, start, stop, out, scratch)

        decode_rows(rows, blocks)
        return out.view(np.float16)

    return encode, decode


encode_bc6h, decode_bc6h = _coder(signed=False)
encode_bc6h_signed, decode_bc6h_signed = _coder(signed=True)
