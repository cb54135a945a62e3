"""BC7: what the standard fixes of its eight modes, and decoding.

Khronos Data Format Specification 1.3, chapter 20 (BPTC). A block names a mode by its lowest set bit; a mode says how
many subsets a block falls into, how many bits their ends have, and how many steps lie between the ends.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.bc7.fit import PLANS, encode_rows, scratch
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
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.codecs.partitions import subset_masks
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba

SUBSETS, PARTITION, ROTATION, SELECTOR, COLOUR, ALPHA, PARITY, INDEX, SECOND = range(9)
# Table 109 of the specification: bits of each field by mode; PARITY is 0 for none, 1 for one bit an end, 2 for one a subset.
MODES = np.array(
    [
        [3, 4, 0, 0, 4, 0, 1, 3, 0],
        [2, 6, 0, 0, 6, 0, 2, 3, 0],
        [3, 6, 0, 0, 5, 0, 0, 2, 0],
        [2, 6, 0, 0, 7, 0, 1, 2, 0],
        [1, 0, 2, 1, 5, 6, 0, 2, 3],
        [1, 0, 2, 0, 7, 8, 0, 2, 2],
        [1, 0, 0, 0, 7, 7, 1, 4, 0],
        [2, 6, 0, 0, 5, 5, 1, 2, 0],
    ],
    np.int64,
)
# Tables 114 and 115: the subset of each pixel, pixel 0 lowest, with one bit and with two bits a pixel.
_TWO = (
    0xCCCC, 0x8888, 0xEEEE, 0xECC8, 0xC880, 0xFEEC, 0xFEC8, 0xEC80, 0xC800, 0xFFEC, 0xFE80, 0xE800,
    0xFFE8, 0xFF00, 0xFFF0, 0xF000, 0xF710, 0x008E, 0x7100, 0x08CE, 0x008C, 0x7310, 0x3100, 0x8CCE,
    0x088C, 0x3110, 0x6666, 0x366C, 0x17E8, 0x0FF0, 0x718E, 0x399C, 0xAAAA, 0xF0F0, 0x5A5A, 0x33CC,
    0x3C3C, 0x55AA, 0x9696, 0xA55A, 0x73CE, 0x13C8, 0x324C, 0x3BDC, 0x6996, 0xC33C, 0x9966, 0x0660,
    0x0272, 0x04E4, 0x4E40, 0x2720, 0xC936, 0x936C, 0x39C6, 0x639C, 0x9336, 0x9CC6, 0x817E, 0xE718,
    0xCCF0, 0x0FCC, 0x7744, 0xEE22,
)  # fmt: skip
_THREE = (
    0xAA685050, 0x6A5A5040, 0x5A5A4200, 0x5450A0A8, 0xA5A50000, 0xA0A05050, 0x5555A0A0, 0x5A5A5050,
    0xAA550000, 0xAA555500, 0xAAAA5500, 0x90909090, 0x94949494, 0xA4A4A4A4, 0xA9A59450, 0x2A0A4250,
    0xA5945040, 0x0A425054, 0xA5A5A500, 0x55A0A0A0, 0xA8A85454, 0x6A6A4040, 0xA4A45000, 0x1A1A0500,
    0x0050A4A4, 0xAAA59090, 0x14696914, 0x69691400, 0xA08585A0, 0xAA821414, 0x50A4A450, 0x6A5A0200,
    0xA9A58000, 0x5090A0A8, 0xA8A09050, 0x24242424, 0x00AA5500, 0x24924924, 0x24499224, 0x50A50A50,
    0x500AA550, 0xAAAA4444, 0x66660000, 0xA5A0A5A0, 0x50A050A0, 0x69286928, 0x44AAAA44, 0x66666600,
    0xAA444444, 0x54A854A8, 0x95809580, 0x96969600, 0xA85454A8, 0x80959580, 0xAA141414, 0x96960000,
    0xAAAA1414, 0xA05050A0, 0xA0A5A5A0, 0x96000000, 0x40804080, 0xA9A8A9A8, 0xAAAAAA44, 0x2A4A5254,
)  # fmt: skip
# Tables 116 to 118: the pixel of each further subset whose index lacks its highest bit.
_ANCHOR = (
    15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 2, 8, 2, 2, 8, 8, 15, 2, 8, 2, 2, 8, 8, 2, 2,
    15, 15, 6, 8, 2, 8, 15, 15, 2, 8, 2, 2, 2, 15, 15, 6, 6, 2, 6, 8, 15, 15, 2, 2, 15, 15, 15, 15, 15, 2, 2, 15,
)  # fmt: skip
_ANCHOR_SECOND = (
    3, 3, 15, 15, 8, 3, 15, 15, 8, 8, 6, 6, 6, 5, 3, 3, 3, 3, 8, 15, 3, 3, 6, 10, 5, 8, 8, 6, 8, 5, 15, 15,
    8, 15, 3, 5, 6, 10, 8, 15, 15, 3, 15, 5, 15, 15, 15, 15, 3, 15, 5, 5, 5, 8, 5, 10, 5, 10, 8, 13, 15, 12, 3, 3,
)  # fmt: skip
_ANCHOR_THIRD = (
    15, 8, 8, 3, 15, 15, 3, 8, 15, 15, 15, 15, 15, 15, 15, 8, 15, 8, 15, 3, 15, 8, 15, 8, 3, 15, 6, 10, 15, 15, 10, 8,
    15, 3, 15, 10, 10, 8, 9, 10, 6, 15, 8, 15, 3, 6, 6, 8, 15, 3, 15, 15, 15, 15, 15, 15, 15, 15, 15, 15, 3, 15, 15, 8,
)  # fmt: skip

# The subset of each pixel by count of subsets (1 to 3) and partition, (4, 64, 16); the pixel whose index lacks its highest
# bit by subset, (4, 64, 3), and the same pixels in the order of their places.
PARTITIONS = np.zeros((4, 64, 16), np.int64)
PARTITIONS[2] = (np.array(_TWO)[:, None] >> np.arange(16)) & 1
PARTITIONS[3] = (np.array(_THREE)[:, None] >> (2 * np.arange(16))) & 3
ANCHORS = np.zeros((4, 64, 3), np.int64)
ANCHORS[2, :, 1] = _ANCHOR
ANCHORS[3, :, 1], ANCHORS[3, :, 2] = _ANCHOR_SECOND, _ANCHOR_THIRD
# The subsets of each partition as one word, two bits a pixel.
_SUBSETS = (PARTITIONS << 2 * np.arange(16)).sum(axis=2).astype(np.uint64)
MARKS = ANCHORS.copy()
MARKS[3].sort(axis=1)


# How many 64ths of the second end a step takes, by bits of the index and step (table 112).
STEP_WEIGHTS = np.zeros((5, 16), np.int64)
for _bits in (2, 3, 4):
    _last = (1 << _bits) - 1
    STEP_WEIGHTS[_bits, : _last + 1] = (np.arange(_last + 1) * 128 + _last) // (2 * _last)


@njit(**BARE)
def _window(words, at):
    """Return the 64 bits of words (2,) uint64 from bit `at` on, as far as there are."""
    if at >= 64:
        return words[1] >> np.uint64(at - 64)
    return words[0] >> np.uint64(at) | words[1] << np.uint64(1) << np.uint64(63 - at)


@njit(**BARE)
def index_stream(words, at, subsets, bits, marks):
    """Return the sixteen indices that begin at bit `at`, each in `bits` bits, pixel 0 lowest.

    The index of each subset's anchor is stored without its highest bit: a zero is put in its place.
    """
    count = 16 * bits - subsets
    stream = _window(words, at) & ((np.uint64(1) << np.uint64(count)) - np.uint64(1))
    for s in range(3):
        below = (np.uint64(1) << np.uint64(marks[s] * bits + bits - 1)) - np.uint64(1)
        stream = (stream & ~below) << np.uint64(1) | (stream & below) if s < subsets else stream
    return stream


# One in each of four channels of 16 bits, and half of 64; eight bits of each of three channels, and of all.
_EACH, _HALF = np.uint64(0x0001000100010001), np.uint64(0x0020002000200020)
_COLOURS, _CHANNELS = np.uint64(0x000000FF00FF00FF), np.uint64(0x00FF00FF00FF00FF)
# The place of the lowest bit that is set in each byte, which is the mode of a block; 8 where none is.
_LOWEST = np.array([8 if value == 0 else (value & -value).bit_length() - 1 for value in range(256)])


@njit(**BARE)
def _spread_codes(window, bits, away, ends):
    """Add codes of so many bits, as they stand one after the other, to ends (6,) uint64, each shifted away."""
    mask = (np.uint64(1) << np.uint64(bits)) - np.uint64(1)
    for e in range(6):
        ends[e] |= (window >> np.uint64(e * bits) & mask) << away


@njit(**BARE)
def _decode_block(words, ends, out):
    """Decode a block of words (2,) uint64 into `out` (16,) uint32, red lowest; one that names no mode is clear black.

    Parameters
    ----------
    ends : scratch (6,) uint64

    What a mode has none of is taken along: loops of one length cost less than a processor's wrong guesses of their lengths.
    """
    mode = _LOWEST[words[0] & np.uint64(255)]
    if mode == 8:
        for i in range(16):
            out[i] = 0
        return
    row = MODES[mode]
    subsets, colour, alpha, parity, bits, second_bits = row[0], row[4], row[5], row[6], row[7], row[8]
    head = words[0] >> np.uint64(mode + 1)
    partition = np.int64(head & ((np.uint64(1) << np.uint64(row[1])) - np.uint64(1)))
    rotation = np.int64(head & ((np.uint64(1) << np.uint64(row[2])) - np.uint64(1)))
    selector = head >> np.uint64(row[2]) & np.uint64(row[3])
    at, count = mode + 1 + row[1] + row[2] + row[3], 2 * subsets
    for e in range(6):
        ends[e] = np.uint64(0)
    # Of an end the four channels stand in one word, red lowest, 16 bits for each, and are taken through all that follows at once.
    for c in range(3):
        _spread_codes(_window(words, at), colour, np.uint64(16 * c), ends)
        at += count * colour
    _spread_codes(_window(words, at), alpha, np.uint64(48), ends)
    at += count * alpha
    own, shared = np.uint64(1 if parity > 0 else 0), np.uint64(1 if parity == 2 else 0)
    more = _window(words, at)
    at += 0 if parity == 0 else (subsets if parity == 2 else count)
    colour += np.int64(own)
    # Without codes of its own, alpha is whole.
    opaque = np.uint64(0 if row[5] > 0 else 255 << 48)
    alpha = alpha + np.int64(own) if row[5] > 0 else 8
    up, down = np.uint64(8 - colour), np.uint64(2 * colour - 8)
    alpha_up, alpha_down = np.uint64(8 - alpha), np.uint64(2 * alpha - 8)
    away = np.uint64(16 * (rotation - 1) if rotation > 0 else 48)
    for e in range(6):
        code = ends[e] << own | (more >> (np.uint64(e) >> shared) & own) * _EACH
        covers = code >> np.uint64(48)
        # What runs over from one channel into the one below it lies above its eight bits.
        code = (
            (code << up | code >> down) & _COLOURS
            | (covers << alpha_up | covers >> alpha_down) << np.uint64(48)
            | opaque
        )
        # A rotation exchanges alpha with a colour.
        moved = (code >> away ^ code >> np.uint64(48)) & np.uint64(255)
        ends[e] = code ^ (moved << away | moved << np.uint64(48))
    # From here on, of each subset the first end in 64ths, and how far the second is from it.
    for e in range(0, 6, 2):
        ends[e + 1] -= ends[e]
        ends[e] = ends[e] * np.uint64(64) + _HALF
    places, parts = MARKS[subsets, partition], _SUBSETS[subsets, partition]
    first = index_stream(words, at, subsets, bits, places)
    last = np.uint64((1 << bits) - 1)
    if second_bits == 0:
        for i in range(16):
            weight = STEP_WEIGHTS[bits, np.int64(first >> np.uint64(i * bits) & last)]
            e = np.int64(parts >> np.uint64(2 * i) & np.uint64(3)) * 2
            out[i] = _between(ends[e], ends[e + 1], np.uint64(weight))
        return
    # One subset: what stood in the fourth channel follows the second index.
    second = index_stream(words, at + 16 * bits - 1, 1, second_bits, places)
    if selector > 0:
        first, second, bits, second_bits = second, first, second_bits, bits
    last, second_last = np.uint64((1 << bits) - 1), np.uint64((1 << second_bits) - 1)
    apart = np.uint32(255) << np.uint32(away >> np.uint64(1))
    for i in range(16):
        weight = STEP_WEIGHTS[bits, np.int64(first >> np.uint64(i * bits) & last)]
        other = STEP_WEIGHTS[second_bits, np.int64(second >> np.uint64(i * second_bits) & second_last)]
        colours = _between(ends[0], ends[1], np.uint64(weight))
        out[i] = colours & ~apart | _between(ends[0], ends[1], np.uint64(other)) & apart


@njit(**BARE)
def _between(first, apart, weight):
    """Return the step so many 64ths of `apart` from an end in 64ths, of four channels of 16 bits each, as one word of 8 each."""
    step = (first + apart * weight) >> np.uint64(6) & _CHANNELS
    step = (step | step >> np.uint64(8)) & np.uint64(0x0000FFFF0000FFFF)
    return np.uint32((step | step >> np.uint64(16)) & np.uint64(0xFFFFFFFF))


@njit(**BARE)
def _decode_rows(blocks, start, stop, out, scratch):
    """Decode block rows (rows, columns, 2) uint64 into `out` (H, W) uint32, one word a pixel, red lowest."""
    pixels, ends = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            _decode_block(blocks[by, bx], ends, pixels)
            put_pixels(pixels, bx, by, 4, 4, out)


def _single() -> NDArray[np.int64]:
    values, codes = np.arange(256), np.arange(128)
    wide = codes << 1 | codes >> 6
    steps = (wide[:, None] * 43 + wide[None, :] * 21 + 32) >> 6
    cost = np.abs(steps[None] - values[:, None, None]) * 1024 + np.abs(wide[:, None] - wide[None, :])
    return np.stack(np.divmod(cost.reshape(256, -1).argmin(axis=1), 128), axis=1)


# The ends, in seven bits, whose second of four steps comes nearest to each value, (256, 2): for blocks of one colour in mode 5.
SINGLE = _single()


@cache
def _tables() -> tuple[Any, ...]:
    two, three = (subset_masks(PARTITIONS[subsets], subsets) for subsets in (2, 3))
    members = np.stack([subset == PARTITIONS for subset in range(3)], axis=2).astype(np.float32).ravel()
    return MODES, PARTITIONS, members, ANCHORS, MARKS, PLANS, two, three, SINGLE


def encode_bc7(image: Image, options: EncodeOptions, block_errors: ReadResult = None) -> bytes:
    """Encode colour and alpha; alpha 0 and 255 are kept exactly."""
    tables, effort, params = _tables(), options.effort.rank, metric_params(options.error_metric)

    def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
        encode_rows(pixels, effort, params, tables, start, stop, out, errors, scratch())

    return encode_pixels(held(to_rgba(image)), options, (4, 4), 16, rows, block_errors)


def _scratch() -> tuple[NDArray[Any], ...]:
    return np.empty(16, np.uint32), np.empty(6, np.uint64)


def decode_bc7(data: bytes, width: int, height: int) -> Pixels:
    """Decode to (H, W, 4) uint8."""
    blocks = np.require(blocks_in(data, width, height, (4, 4), 16).view("<u8"), requirements="A")
    out = np.empty((height, width), "<u4")
    decode_rows(lambda start, stop: _decode_rows(blocks, start, stop, out, _scratch()), blocks)
    return out.view(np.uint8).reshape(height, width, 4)
