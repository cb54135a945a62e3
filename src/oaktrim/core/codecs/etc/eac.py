"""The search of the EAC encoder, of one channel in blocks of sixteen; and what blocks of ETC2 and EAC are read and written by."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST, least_turns, spaced, weigh_turns
from oaktrim.core.codecs.etc.tables import STEPS
from oaktrim.core.kernels import njit

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


# How many blocks that could be are weighed at once, each in a lane of its own.
LANES = 8
# Rows of what is weighed: the middle between the steps below and above the base, how far from it the four steps of each side lie,
# the ends of the range, and the squared error.
_MIDDLE, _FIRST, _SECOND, _THIRD, _FOURTH, _FLOOR, _CEILING, _ERROR, _TRIED = (LANES * row for row in range(9))

# How far the steps of each row lie from their middle, two groups of rows by four steps by lane; and how far they span.
_SIDES = np.ascontiguousarray((STEPS[:, 4:] + 0.5).reshape(2, LANES, 4).transpose(0, 2, 1).astype(np.float32))
_SPANS = np.ascontiguousarray(2 * _SIDES[:, 3])

# By effort: how much lower and higher than what spans the values factors are tried; how many times the least error a row and
# factor may have that is tried with other bases; and with how many, in eights.
_LOWER, _HIGHER, _TIMES, _EIGHTS = (0, 4, 6), (0, 1, 2), (1.0, 2.5, 4.0), (1, 1, 2)


def lanes() -> tuple[NDArray[np.float32], ...]:
    """Return scratch of `encode_channel`: what is weighed at once, errors of rows by factor, a palette, and steps."""
    factors = max(_LOWER) + max(_HIGHER) + 1
    shapes = (_TRIED, (factors, 16), 8, 16)
    return tuple(np.zeros(shape, np.float32) for shape in shapes)


@njit(**BARE, fastmath=FAST)
def _near(value, tried, l):
    """Return how far a value is from the nearest step in lane l. Steps mirror each other about the middle."""
    far = abs(value - tried[_MIDDLE + l])
    near = min(abs(far - tried[_FIRST + l]), abs(far - tried[_SECOND + l]))
    return min(near, min(abs(far - tried[_THIRD + l]), abs(far - tried[_FOURTH + l])))


@njit(**BARE, fastmath=FAST)
def _counted(value, weight, strict, tried, l):
    """Return what the error of a value in lane l counts."""
    # Steps beyond an end of the range come down to it, and are nearer so.
    near = min(_near(value, tried, l), min(value - tried[_FLOOR + l], tried[_CEILING + l] - value))
    return weight * (near * near) + strict * min(near, np.float32(1.0))


@njit(**BARE, fastmath=FAST, inline="never")
def _weigh(values, weights, strict, plain, high, tried):
    """Fill in the squared errors of sixteen values, 0 to `high`, in all lanes.

    Where `plain`, each counts as it is, else by its weight and by what is strict.
    """
    beyond = 0
    for l in range(LANES):
        tried[_ERROR + l] = np.float32(0.0)
        below, above = tried[_MIDDLE + l] - tried[_FOURTH + l], tried[_MIDDLE + l] + tried[_FOURTH + l]
        tried[_FLOOR + l] = np.float32(0.0) if below < 0 else -_FAR
        tried[_CEILING + l] = high if above > high else _FAR
        beyond += 1 if below < 0 or above > high else 0
    for i in range(0, 16, 4):
        v0, v1, v2, v3 = values[i], values[i + 1], values[i + 2], values[i + 3]
        if plain and beyond == 0:
            for l in range(LANES):
                d0, d1, d2, d3 = _near(v0, tried, l), _near(v1, tried, l), _near(v2, tried, l), _near(v3, tried, l)
                tried[_ERROR + l] += d0 * d0 + d1 * d1 + d2 * d2 + d3 * d3
        else:
            w0, w1, w2, w3 = weights[i], weights[i + 1], weights[i + 2], weights[i + 3]
            s0, s1, s2, s3 = strict[i], strict[i + 1], strict[i + 2], strict[i + 3]
            for l in range(LANES):
                tried[_ERROR + l] += (
                    _counted(v0, w0, s0, tried, l) + _counted(v1, w1, s1, tried, l)
                    + _counted(v2, w2, s2, tried, l) + _counted(v3, w3, s3, tried, l)
                )  # fmt: skip


@njit(**BARE, fastmath=FAST, inline="never")
def _best_lane(tried):
    """Return the lane that errs least, the first of equals."""
    best = 0
    for l in range(1, LANES):
        best = l if tried[_ERROR + l] < tried[_ERROR + best] else best
    return best


@njit(**BARE, fastmath=FAST)
def _spread(least, most, unit, start, smallest, span, more):
    """Return the factor at which steps that span so much span the values, and `more`; how far apart one is, and the base."""
    half = np.float32(0.5)
    factor = min(max(np.floor((most - least) / (unit * span) + half) + more, smallest), np.float32(15.0))
    size = factor * unit if factor > 0 else np.float32(1.0)
    base = np.floor(((least + most + size) * half - start) / unit + half)
    return factor, size, min(base, np.float32(255.0))


@njit(**BARE, fastmath=FAST, inline="never")
def _lay_rows(group, more, least, most, unit, start, smallest, tried):
    """Lay the steps of eight rows, a row in each lane, so that they span the values, or are `more` factors wider."""
    for l in range(LANES):
        _, size, base = _spread(least, most, unit, start, smallest, _SPANS[group, l], more)
        tried[_MIDDLE + l] = base * unit + start - size * np.float32(0.5)
        tried[_FIRST + l], tried[_SECOND + l] = _SIDES[group, 0, l] * size, _SIDES[group, 1, l] * size
        tried[_THIRD + l], tried[_FOURTH + l] = _SIDES[group, 2, l] * size, _SIDES[group, 3, l] * size


@njit(**BARE, fastmath=FAST, inline="never")
def _lay_bases(row, size, base, unit, start, tried):
    """Lay the steps of a row about bases from `base` on, one more in each lane."""
    group, l = row // LANES, row % LANES
    first, second = _SIDES[group, 0, l] * size, _SIDES[group, 1, l] * size
    third, fourth = _SIDES[group, 2, l] * size, _SIDES[group, 3, l] * size
    for l in range(LANES):
        here = min(max(base + np.float32(l), np.float32(0.0)), np.float32(255.0))
        tried[_MIDDLE + l] = here * unit + start - size * np.float32(0.5)
        tried[_FIRST + l], tried[_SECOND + l], tried[_THIRD + l], tried[_FOURTH + l] = first, second, third, fourth


@njit(**BARE, fastmath=FAST)
def encode_channel(values, weights, strict, eleven, effort, steps, scratch):
    """Return the word of an EAC block for sixteen values in 0..255, or in 0..2047 where `eleven` bits are kept; and its error.

    Squared errors count by their weights (16,); `strict` (16,) adds to the first step of each. Scratch is what `lanes` returns.
    """
    tried, errors, palette, found = scratch
    least = most = values[0]
    plain = True
    for i in range(16):
        least, most = min(least, values[i]), max(most, values[i])
        plain &= weights[i] == 1 and strict[i] == 0
    unit = np.float32(8.0) if eleven else np.float32(1.0)
    start = np.float32(4.0) if eleven else np.float32(0.0)
    high = np.float32(2047.0) if eleven else np.float32(255.0)
    smallest = np.float32(0.0) if eleven else np.float32(1.0)
    best, best_base, best_factor, best_row = _FAR, np.float32(0.0), np.float32(1.0), 13
    # Every row is tried as it lies, with some factors; those that come nearest then with other bases.
    lower, factors = _LOWER[effort], _LOWER[effort] + _HIGHER[effort] + 1
    for k in range(factors):
        for group in range(2):
            _lay_rows(group, np.float32(k - lower), least, most, unit, start, smallest, tried)
            _weigh(values, weights, strict, plain, high, tried)
            for l in range(LANES):
                errors[k, LANES * group + l] = tried[_ERROR + l]
            l = _best_lane(tried)
            if tried[_ERROR + l] < best:
                best, best_row = tried[_ERROR + l], LANES * group + l
                best_factor, _, best_base = _spread(
                    least, most, unit, start, smallest, _SPANS[group, l], np.float32(k - lower)
                )
    for k in range(factors):
        for row in range(16):
            if best == 0 or errors[k, row] > best * np.float32(_TIMES[effort]):
                continue
            span = _SPANS[row // LANES, row % LANES]
            factor, size, base = _spread(least, most, unit, start, smallest, span, np.float32(k - lower))
            base -= np.float32(LANES // 2 * _EIGHTS[effort])
            for _ in range(_EIGHTS[effort]):
                _lay_bases(row, size, base, unit, start, tried)
                _weigh(values, weights, strict, plain, high, tried)
                l = _best_lane(tried)
                if tried[_ERROR + l] < best:
                    best, best_row, best_factor = tried[_ERROR + l], row, factor
                    best_base = min(max(base + np.float32(l), np.float32(0.0)), np.float32(255.0))
                base += np.float32(LANES)
    word = field(best_base, 56) | field(best_factor, 52) | field(best_row, 48)
    _palette(word, eleven, steps, palette)
    _choose(values, palette, found)
    for i in range(16):
        word |= field(found[i], 45 - 3 * i)
    return word, best


@njit(**BARE, fastmath=FAST)
def _nearer(near, place, d, other):
    """Return how far and where the nearer of two is, the first of equals."""
    return min(near, d), np.float32(other) if d < near else place


@njit(**BARE, fastmath=FAST, inline="never")
def _choose(values, palette, found):
    """Fill found (16,) float32 with the places in a palette that are nearest to sixteen values."""
    p0, p1, p2, p3, p4, p5, p6, p7 = (
        palette[0], palette[1], palette[2], palette[3], palette[4], palette[5], palette[6], palette[7],
    )  # fmt: skip
    for i in range(16):
        value = values[i]
        near, place = abs(value - p0), np.float32(0.0)
        near, place = _nearer(near, place, abs(value - p1), 1)
        near, place = _nearer(near, place, abs(value - p2), 2)
        near, place = _nearer(near, place, abs(value - p3), 3)
        near, place = _nearer(near, place, abs(value - p4), 4)
        near, place = _nearer(near, place, abs(value - p5), 5)
        near, place = _nearer(near, place, abs(value - p6), 6)
        near, found[i] = _nearer(near, place, abs(value - p7), 7)


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


@spaced
def channel_scratch() -> tuple[Any, ...]:
    """Return what `encode_channel_rows` works in."""
    return (
        np.empty((4, 16), np.float32), np.zeros(16, np.float32), np.ones((2, 16), np.float32),
        np.empty((2, 8), np.float32), np.empty((2, 2), np.int64), np.empty((2, 16), np.int64), np.zeros(2, np.uint64), lanes(),
    )  # fmt: skip


@njit(**BARE)
def encode_channel_rows(pixels, effort, turns, steps, start, stop, out, block_errors, scratch):
    """Encode block rows of pixels (H, W, 1 or 2) uint16 into `out` (rows, columns, 8 or 16) uint8.

    The errors that are told are squares of steps of 11 bits. Where `turns`, they count as what they turn the vectors by
    whose x and y the two channels are.
    """
    px, strict, weights, palettes, near, codes, words, tried = scratch
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_columns(pixels, bx, by, pixels.shape[2], px)
            for c in range(pixels.shape[2]):
                for i in range(16):
                    px[c, i] *= np.float32(2047.0 / 65535.0)
            if turns:
                weigh_turns(px, np.float32(2047.0), weights)
            block_errors[by, bx] = np.float32(0.0)
            for c in range(pixels.shape[2]):
                words[c], error = encode_channel(px[c], weights[c], strict, True, effort, steps, tried)
                block_errors[by, bx] += error
            if turns:
                for c in range(2):
                    _palette(words[c], True, steps, palettes[c])
                block_errors[by, bx] = least_turns(px, np.float32(2047.0), palettes, near, codes)
                for c in range(2):
                    words[c] = words[c] >> np.uint64(48) << np.uint64(48)
                    for i in range(16):
                        words[c] |= field(codes[c, i], 45 - 3 * i)
            for c in range(pixels.shape[2]):
                store(words[c], out[by, bx, 8 * c :])
