"""Decoding ASTC blocks of low dynamic range.

Khronos Data Format Specification 1.3, chapter 23. Sixteen bytes hold a block of 4x4 to 12x12 pixels: a mode, up to four
partitions with ends of their own, and a grid of weights that may be coarser than the block, both packed as sequences of
numbers below 2**n, 3 * 2**n or 5 * 2**n. What is reserved, or has a high dynamic range, decodes to magenta.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.tables import (
    COLOURS,
    FINEST,
    QUINTS,
    SPLIT,
    TRITS,
    WEIGHTS,
    grid_of,
    partition_of,
    sequence_bits,
)
from oaktrim.core.codecs.blocks import BARE, blocks_in, decode_rows, get_bits, put_pixels, words_of
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Pixels

MAGENTA = np.uint32(0xFFFF00FF)


@njit(**BARE)
def read_sequence(words, at, count, level, out):
    """Read `count` numbers of a level from bit `at` into `out`, which has room for four more; its end may be cut off."""
    bits = np.uint64(SPLIT[level, 2])
    mask = (np.uint64(1) << bits) - np.uint64(1)
    low, high = words[0], words[1]
    if at >= 64:
        low, high = high >> np.uint64(at - 64), np.uint64(0)
    elif at > 0:
        low, high = low >> np.uint64(at) | high << np.uint64(64 - at), high >> np.uint64(at)
    # Bits past the sequence's end are zero.
    length = sequence_bits(count, level, SPLIT)
    if length < 64:
        low, high = low & ((np.uint64(1) << np.uint64(length)) - np.uint64(1)), np.uint64(0)
    elif length < 128:
        high &= (np.uint64(1) << np.uint64(length - 64)) - np.uint64(1)
    if SPLIT[level, 0]:
        size, widths = 5, np.uint64(0x12122)
    elif SPLIT[level, 1]:
        size, widths = 3, np.uint64(0x223)
    else:
        for i in range(count):
            out[i] = np.int64(low & mask)
            low, high = low >> bits | (high << np.uint64(1)) << (np.uint64(63) - bits), high >> bits
        return
    for first in range(0, count, size):
        packed, shift, left = np.uint64(0), np.uint64(0), widths
        for i in range(size):
            out[first + i] = np.int64(low & mask)
            wide = left & np.uint64(15)
            step = bits + wide
            packed |= (low >> bits & ((np.uint64(1) << wide) - np.uint64(1))) << shift
            low, high = low >> step | (high << np.uint64(1)) << (np.uint64(63) - step), high >> step
            shift += wide
            left >>= np.uint64(4)
        for i in range(size):
            more = TRITS[packed, i] if size == 5 else QUINTS[packed, i]
            out[first + i] |= more << np.int64(bits)


@njit(**BARE)
def _held(value):
    return min(max(value, 0), 255)


@njit(**BARE)
def _transfer(a, b):
    """Move the top bit of `a` to `b` and make `a` a signed number of six bits (section 23.14)."""
    b = b >> 1 | a & 0x80
    a = a >> 1 & 0x3F
    return a - 0x40 if a & 0x20 else a, b


@njit(**BARE)
def _set(ends, e, r, g, b, a):
    ends[e, 0], ends[e, 1], ends[e, 2], ends[e, 3] = _held(r), _held(g), _held(b), _held(a)


@njit(**BARE)
def _contracted(ends, e, r, g, b, a):
    _set(ends, e, (r + b) >> 1, (g + b) >> 1, b, a)


@njit(**BARE)
def endpoints_of(kind, v, ends):
    """Set ends (2, 4) from the values of an endpoint mode (section 23.14); of a high dynamic range, to magenta."""
    if kind == 0:
        _set(ends, 0, v[0], v[0], v[0], 255)
        _set(ends, 1, v[1], v[1], v[1], 255)
    elif kind == 1:
        low = v[0] >> 2 | v[1] & 0xC0
        high = low + (v[1] & 0x3F)
        _set(ends, 0, low, low, low, 255)
        _set(ends, 1, high, high, high, 255)
    elif kind == 4:
        _set(ends, 0, v[0], v[0], v[0], v[2])
        _set(ends, 1, v[1], v[1], v[1], v[3])
    elif kind == 5:
        step, low = _transfer(v[1], v[0])
        more, alpha = _transfer(v[3], v[2])
        _set(ends, 0, low, low, low, alpha)
        _set(ends, 1, low + step, low + step, low + step, alpha + more)
    elif kind == 6 or kind == 10:
        low, high = (v[4], v[5]) if kind == 10 else (255, 255)
        _set(ends, 0, v[0] * v[3] >> 8, v[1] * v[3] >> 8, v[2] * v[3] >> 8, low)
        _set(ends, 1, v[0], v[1], v[2], high)
    elif kind == 8 or kind == 12:
        low, high = (v[6], v[7]) if kind == 12 else (255, 255)
        if v[1] + v[3] + v[5] >= v[0] + v[2] + v[4]:
            _set(ends, 0, v[0], v[2], v[4], low)
            _set(ends, 1, v[1], v[3], v[5], high)
        else:
            _contracted(ends, 0, v[1], v[3], v[5], high)
            _contracted(ends, 1, v[0], v[2], v[4], low)
    elif kind == 9 or kind == 13:
        dr, r = _transfer(v[1], v[0])
        dg, g = _transfer(v[3], v[2])
        db, b = _transfer(v[5], v[4])
        da, a = _transfer(v[7], v[6]) if kind == 13 else (0, 255)
        if dr + dg + db >= 0:
            _set(ends, 0, r, g, b, a)
            _set(ends, 1, r + dr, g + dg, b + db, a + da)
        else:
            _contracted(ends, 0, r + dr, g + dg, b + db, a + da)
            _contracted(ends, 1, r, g, b, a)
    else:
        _set(ends, 0, 255, 0, 255, 255)
        _set(ends, 1, 255, 0, 255, 255)


@njit(**BARE)
def _solid(words, out):
    """Decode a block of one colour (section 23.21)."""
    word = MAGENTA
    low_s, high_s = get_bits(words, 12, 13), get_bits(words, 25, 13)
    low_t, high_t = get_bits(words, 38, 13), get_bits(words, 51, 13)
    everywhere = low_s == 8191 and high_s == 8191 and low_t == 8191 and high_t == 8191
    legal = everywhere or (low_s < high_s and low_t < high_t)
    if legal and get_bits(words, 9, 1) == 0 and get_bits(words, 10, 2) == 3:
        word = np.uint32(0)
        for c in range(4):
            word |= np.uint32(get_bits(words, 64 + 16 * c + 8, 8)) << np.uint32(8 * c)
    for i in range(out.shape[0]):
        out[i] = word


@njit(**BARE)
def infill(weights, plane, planes, wide, high, across, down, out):
    """Spread a grid of weights over a block (section 23.18) into out (wide * high,)."""
    if across == wide and down == high:
        for i in range(wide * high):
            out[i] = weights[i * planes + plane]
        return
    step_s = (1024 + wide // 2) // (wide - 1)
    step_t = (1024 + high // 2) // (high - 1)
    for y in range(high):
        t = (step_t * y * (down - 1) + 32) >> 6
        row, part_t = t >> 4, t & 15
        for x in range(wide):
            s = (step_s * x * (across - 1) + 32) >> 6
            at, part_s = row * across + (s >> 4), s & 15
            both = (part_s * part_t + 8) >> 4
            total = weights[at * planes + plane] * (16 - part_s - part_t + both) + 8
            if part_s > both:
                total += weights[(at + 1) * planes + plane] * (part_s - both)
            if part_t > both:
                total += weights[(at + across) * planes + plane] * (part_t - both)
            if both > 0:
                total += weights[(at + across + 1) * planes + plane] * both
            out[wide * y + x] = total >> 4


@njit(**BARE)
def _decode_block(words, wide, high, parted, weights, values, spread, ends, kinds, turned, lines, out):
    """Decode a block of words (2,) uint64 into `out` (wide * high,) uint32, red lowest; say whether it is legal.

    Tables are constants of the module, and scratch comes one by one: arrays in tuples are counted in and out at each call.
    """
    mode = get_bits(words, 0, 11)
    if mode & 0x1FF == 0x1FC:
        _solid(words, out)
        return True
    across, down, level, planes = grid_of(mode)
    many = across * down * planes
    if across == 0 or across > wide or down > high or many > 64:
        return False
    weight_bits = sequence_bits(many, level, SPLIT)
    parts = get_bits(words, 11, 2) + 1
    if weight_bits < 24 or weight_bits > 96 or (parts == 4 and planes == 2):
        return False
    # What lies below the weights: bits of the endpoint modes, then the channel of the second plane.
    below = 128 - weight_bits
    if parts == 1:
        kinds[0] = get_bits(words, 13, 4)
        start, seed = 17, 0
    else:
        seed = get_bits(words, 13, 10)
        start = 29
        kind = get_bits(words, 23, 6)
        if kind & 3 == 0:
            for p in range(parts):
                kinds[p] = kind >> 2
        else:
            more = 3 * parts - 4
            below -= more
            kind |= get_bits(words, below, more) << 6
            for p in range(parts):
                family = (kind & 3) - 1 + (kind >> (2 + p) & 1)
                kinds[p] = family << 2 | kind >> (2 + parts + 2 * p) & 3
    channel = -1
    if planes == 2:
        below -= 2
        channel = get_bits(words, below, 2)
    count = 0
    for p in range(parts):
        count += 2 * ((kinds[p] >> 2) + 1)
    fine = FINEST[count, max(0, below - start)] if count <= 18 else -1
    if fine < 0:
        return False
    read_sequence(words, start, count, fine, values)
    for i in range(count):
        values[i] = COLOURS[fine, values[i]]
    at = 0
    for p in range(parts):
        endpoints_of(kinds[p], values[at:], ends[p])
        at += 2 * ((kinds[p] >> 2) + 1)
        for c in range(4):
            # The first end in 64ths of 16 bits, half of one more to round, and what a 64th of the way adds.
            lines[p, c, 0] = ends[p, 0, c] * (257 * 64) + 32
            lines[p, c, 1] = (ends[p, 1, c] - ends[p, 0, c]) * 257
    turned[0], turned[1] = mirrored(words[1]), mirrored(words[0])
    read_sequence(turned, 0, many, level, weights)
    for i in range(many):
        weights[i] = WEIGHTS[level, weights[i]]
    for plane in range(planes):
        infill(weights, plane, planes, wide, high, across, down, spread[plane])
    for c in range(4):
        shift = np.uint32(8 * c)
        way = spread[1] if c == channel else spread[0]
        if parts == 1:
            first, step = lines[0, c, 0], lines[0, c, 1]
            for i in range(wide * high):
                part = np.uint32((first + step * way[i]) >> np.int32(14)) << shift
                out[i] = out[i] | part if c else part
        else:
            which = parted[parts - 2, seed]
            for i in range(wide * high):
                p = which[i]
                part = np.uint32((lines[p, c, 0] + lines[p, c, 1] * way[i]) >> np.int32(14)) << shift
                out[i] = out[i] | part if c else part
    return True


@njit(**BARE)
def mirrored(word):
    """Return the bits of a word of 64 in reverse."""
    word = (word & np.uint64(0x5555555555555555)) << np.uint64(1) | word >> np.uint64(1) & np.uint64(0x5555555555555555)
    word = (word & np.uint64(0x3333333333333333)) << np.uint64(2) | word >> np.uint64(2) & np.uint64(0x3333333333333333)
    word = (word & np.uint64(0x0F0F0F0F0F0F0F0F)) << np.uint64(4) | word >> np.uint64(4) & np.uint64(0x0F0F0F0F0F0F0F0F)
    word = (word & np.uint64(0x00FF00FF00FF00FF)) << np.uint64(8) | word >> np.uint64(8) & np.uint64(0x00FF00FF00FF00FF)
    word = (word & np.uint64(0x0000FFFF0000FFFF)) << np.uint64(16) | word >> np.uint64(16) & np.uint64(
        0x0000FFFF0000FFFF
    )
    return word << np.uint64(32) | word >> np.uint64(32)


@njit(**BARE)
def _decode_rows(blocks, wide, high, parted, start, stop, out, scratch):
    """Decode block rows (rows, columns, 16) uint8 into `out` (H, W) uint32, one word a pixel, red lowest."""
    words, turned, pixels, weights, values, kinds, spread, ends, lines = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            if not _decode_block(
                words, wide, high, parted, weights, values, spread, ends, kinds, turned, lines, pixels
            ):
                for i in range(pixels.shape[0]):
                    pixels[i] = MAGENTA
            put_pixels(pixels, bx, by, wide, high, out)


@njit(**BARE)
def _fill_parted(wide, high, out):
    """Fill `out` (3, 1024, wide * high) with the partition of each pixel, of two, three and four."""
    for parts in range(2, 5):
        for seed in range(1024):
            for y in range(high):
                for x in range(wide):
                    out[parts - 2, seed, wide * y + x] = partition_of(seed, x, y, parts, wide * high < 31)


def _scratch(size: tuple[int, int]) -> tuple[NDArray[Any], ...]:
    texels = size[0] * size[1]
    return (
        np.empty(2, np.uint64), np.empty(2, np.uint64), np.empty(texels, np.uint32),
        np.empty(68, np.int64), np.empty(36, np.int64), np.empty(4, np.int64),
        np.empty((2, texels), np.int32), np.empty((4, 2, 4), np.int64), np.empty((4, 4, 2), np.int32),
    )  # fmt: skip


@cache
def _parted(size: tuple[int, int]) -> NDArray[np.uint8]:
    parted = np.empty((3, 1024, size[0] * size[1]), np.uint8)
    _fill_parted(*size, parted)
    return parted


def decode_astc(data: bytes, width: int, height: int, size: tuple[int, int]) -> Pixels:
    """Decode blocks of `size` pixels to (H, W, 4) uint8; what is not legal with a low dynamic range is magenta."""
    blocks, parted = blocks_in(data, width, height, size, 16), _parted(size)
    out = np.empty((height, width), "<u4")
    decode_rows(lambda start, stop: _decode_rows(blocks, *size, parted, start, stop, out, _scratch(size)), blocks)
    return out.view(np.uint8).reshape(height, width, 4)
