"""The search of the EAC encoder, of one channel in blocks of sixteen; and what blocks of ETC2 and EAC are read and written by."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST, least_turns, weigh_turns

_FAR = np.float32(3e38)


@njit(**BARE, fastmath=FAST)
def load_columns(pixels, bx, by, channels, px):
    """Fill px (4, 16) float32 with a block, pixels down the columns; the border's pixels stand in beyond it."""
    height, width = pixels.shape[:2]
    for x in range(4):
        column = min(bx * 4 + x, width - 1)
        for y in range(4):
            row = min(by * 4 + y, height - 1)
            for c in range(channels):
                px[c, 4 * x + y] = pixels[row, column, c]


@njit(**BARE)
def store(word, block):
    for i in range(8):
        block[i] = np.uint8(word >> np.uint64(56 - 8 * i) & np.uint64(255))


@njit(**BARE)
def field(value, low):
    return np.uint64(value) << np.uint64(low)


# By effort: how many rows of steps are looked at closely, by how much their factor is lowered, and their base moved.
_ROWS, _FACTORS, _BASES = (1, 8, 14), (1, 3, 5), (1, 3, 8)


@njit(**BARE, fastmath=FAST)
def _channel_error(values, weights, strict, base, factor, steps, row, high):
    """Return the squared error of sixteen values, each by its weight, on base + step * factor."""
    low = np.float32(0.0)
    a0 = min(max(base + np.float32(steps[row, 0]) * factor, low), high)
    a1 = min(max(base + np.float32(steps[row, 1]) * factor, low), high)
    a2 = min(max(base + np.float32(steps[row, 2]) * factor, low), high)
    a3 = min(max(base + np.float32(steps[row, 3]) * factor, low), high)
    a4 = min(max(base + np.float32(steps[row, 4]) * factor, low), high)
    a5 = min(max(base + np.float32(steps[row, 5]) * factor, low), high)
    a6 = min(max(base + np.float32(steps[row, 6]) * factor, low), high)
    a7 = min(max(base + np.float32(steps[row, 7]) * factor, low), high)
    error = np.float32(0.0)
    for i in range(16):
        v = values[i]
        lower = min(min(abs(v - a0), abs(v - a1)), min(abs(v - a2), abs(v - a3)))
        upper = min(min(abs(v - a4), abs(v - a5)), min(abs(v - a6), abs(v - a7)))
        d = min(lower, upper)
        error += weights[i] * (d * d) + strict[i] * min(d, np.float32(1.0))
    return error


@njit(**BARE, fastmath=FAST)
def encode_channel(values, weights, strict, eleven, effort, steps, errors, palette):
    """Return the word of an EAC block for sixteen values in 0..255, or in 0..2047 where `eleven` bits are kept; and its error.

    Squared errors count by their weights (16,); `strict` (16,) adds to the first step of each. Errors (16,) and
    palette (8,) float32 are scratch.
    """
    least = most = values[0]
    for i in range(16):
        least, most = min(least, values[i]), max(most, values[i])
    unit = np.float32(8.0) if eleven else np.float32(1.0)
    half = np.float32(4.0) if eleven else np.float32(0.0)
    high = np.float32(2047.0) if eleven else np.float32(255.0)
    smallest = 0 if eleven else 1
    best, best_base, best_factor, best_row = _FAR, 0, 1, 13
    # Every row is tried as it lies; those that came nearest then with other factors and bases.
    for turn in range(16 + _ROWS[effort]):
        row, back, on, reach = turn, 0, 0, 0
        if turn >= 16:
            if best == 0:
                break
            row = 0
            for k in range(1, 16):
                row = k if errors[k] < errors[row] else row
            errors[row] = _FAR
            back, on, reach = _FACTORS[effort], effort, _BASES[effort]
        below, above = np.float32(steps[row, 3]), np.float32(steps[row, 7])
        ideal = np.int64((most - least) / (unit * (above - below)) + np.float32(0.5))
        for more in range(-back, on + 1):
            factor = ideal + more
            if factor < smallest or factor > 15:
                if more != 0:
                    continue
                factor = min(max(factor, smallest), 15)
            size = np.float32(factor) * unit if factor > 0 else np.float32(1.0)
            # The middle of the steps stands at the middle of the values.
            middle = ((least + most) - (below + above) * size) * np.float32(0.5)
            centre = np.int64((middle - half) / unit + np.float32(0.5))
            for shift in range(-reach, reach + 1):
                base = centre + shift
                if base < 0 or base > 255:
                    if shift != 0:
                        continue
                    base = min(max(base, 0), 255)
                error = _channel_error(values, weights, strict, np.float32(base) * unit + half, size, steps, row, high)
                if turn < 16:
                    errors[row] = error
                if error < best:
                    best, best_base, best_factor, best_row = error, base, factor, row
    word = field(best_base, 56) | field(best_factor, 52) | field(best_row, 48)
    _palette(word, eleven, steps, palette)
    for i in range(16):
        nearest, found = _FAR, 0
        for k in range(8):
            d = abs(values[i] - palette[k])
            if d < nearest:
                nearest, found = d, k
        word |= field(found, 45 - 3 * i)
    return word, best


@njit(**BARE, fastmath=FAST)
def _palette(word, eleven, steps, palette):
    """Fill palette (8,) float32 with the values that the base, factor and row of an EAC word can choose."""
    base, factor = np.float32(word >> np.uint64(56)), np.float32(word >> np.uint64(52) & np.uint64(15))
    row = np.int64(word >> np.uint64(48) & np.uint64(15))
    unit = np.float32(8.0) if eleven else np.float32(1.0)
    half = np.float32(4.0) if eleven else np.float32(0.0)
    high = np.float32(2047.0) if eleven else np.float32(255.0)
    size = factor * unit if factor > 0 else np.float32(1.0)
    for k in range(8):
        palette[k] = min(max(base * unit + half + np.float32(steps[row, k]) * size, np.float32(0.0)), high)


def channel_scratch() -> tuple[NDArray[Any], ...]:
    """Return what `encode_channel_rows` works in."""
    return (
        np.empty((4, 16), np.float32), np.zeros(16, np.float32), np.ones((2, 16), np.float32), np.zeros(16, np.float32),
        np.empty((2, 8), np.float32), np.empty((2, 2), np.int64), np.empty((2, 16), np.int64), np.zeros(2, np.uint64),
    )  # fmt: skip


@njit(**BARE)
def encode_channel_rows(pixels, effort, turns, steps, start, stop, out, told, scratch):
    """Encode block rows of pixels (H, W, 1 or 2) uint16 into `out` (rows, columns, 8 or 16) uint8.

    The errors that are told are squares of steps of 11 bits. Where `turns`, they count as what they turn the vectors by
    whose x and y the two channels are.
    """
    px, strict, weights, errors, palettes, near, codes, words = scratch
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_columns(pixels, bx, by, pixels.shape[2], px)
            for c in range(pixels.shape[2]):
                for i in range(16):
                    px[c, i] *= np.float32(2047.0 / 65535.0)
            if turns:
                weigh_turns(px, np.float32(2047.0), weights)
            told[by, bx] = np.float32(0.0)
            for c in range(pixels.shape[2]):
                words[c], error = encode_channel(
                    px[c], weights[c], strict, True, effort, steps, errors, palettes[c]
                )
                told[by, bx] += error
            if turns:
                for c in range(2):
                    _palette(words[c], True, steps, palettes[c])
                told[by, bx] = least_turns(px, np.float32(2047.0), palettes, near, codes)
                for c in range(2):
                    words[c] = words[c] >> np.uint64(48) << np.uint64(48)
                    for i in range(16):
                        words[c] |= field(codes[c, i], 45 - 3 * i)
            for c in range(pixels.shape[2]):
                store(words[c], out[by, bx, 8 * c :])
