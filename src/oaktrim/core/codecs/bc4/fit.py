"""The search of the BC4 encoder: two ends of each block for its sixteen values, of many blocks at once, each in a lane.

Steps of blocks lie side by side in arrays whose last axis is the lane, flat, so that one instruction takes all lanes. Each
stage takes only the blocks that have something to gain from it.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.kernels import njit

LANES = 16
# How many blocks are searched at once, a multiple of the lanes.
BATCH = 256
_FAR = np.float32(3e38)
# Rows of what is found of each block: ends and squared error with eight steps and with six, the least and most value.
LOW, _HIGH, ERROR, LOW6, _HIGH6, ERROR6, _LEAST, _MOST = range(8)

# By how many sixteenths ranges are drawn in from below and from above.
_DRAWN = np.array(
    [(0, 0), (1, 1), (2, 2), (3, 3), (4, 4), (0, 2), (2, 0), (0, 4), (4, 0), (1, 3), (3, 1), (5, 5), (6, 6), (7, 7)],
    np.float32,
)
# By effort: from how many of them a search with eight and with six steps begins; how often ends are refitted to their steps;
# how far and how often the best are walked around.
_STARTS, _STARTS6, _REFITS, _REACH, _ROUNDS = (2, 8, 14), (1, 4, 14), (1, 2, 4), (0, 1, 2), (0, 3, 8)


def scratch() -> tuple[Any, ...]:
    """Return what `search` and `write` take: pixels and weights of BATCH blocks, what is found, a list, lanes, bits, and words."""
    lanes = tuple(np.zeros(LANES * count, np.float32) for count in (16, 16, *[1] * 9, 5, *[1] * 4))
    return (
        np.zeros((BATCH, 2, 16), np.float32), np.ones((BATCH, 2, 16), np.float32), np.zeros((8, BATCH), np.float32),
        np.zeros(BATCH, np.int64), lanes, np.zeros((2, LANES), np.float32), np.zeros(BATCH, np.uint64),
    )  # fmt: skip


@njit(**BARE)
def _gather(px, weights, channel, listed, at, count, v, w):
    """Take the listed blocks from place `at` on into the lanes; the last of them fills those left over."""
    for l in range(LANES):
        block = listed[min(at + l, count - 1)]
        for i in range(16):
            v[LANES * i + l] = px[block, channel, i]
            w[LANES * i + l] = weights[block, channel, i]


@njit(**BARE, fastmath=FAST, inline="never")
def _ranges(v, least, most, inner_least, inner_most):
    """Find the least and the most value of each lane, and of those that are neither 0 nor 255."""
    zero, top = np.float32(0.0), np.float32(255.0)
    for l in range(LANES):
        least[l], most[l], inner_least[l], inner_most[l] = top, zero, top, zero
    for i in range(16):
        for l in range(LANES):
            value = v[LANES * i + l]
            least[l], most[l] = min(least[l], value), max(most[l], value)
            inner_least[l] = min(inner_least[l], value if value > zero else top)
            inner_most[l] = max(inner_most[l], value if value < top else zero)


@njit(**BARE, fastmath=FAST)
def _at(value, low, scale, last):
    """Return the step, of `last` and one, that is nearest to a value."""
    return min(max(np.floor((value - low) * scale + np.float32(0.5)), np.float32(0.0)), last)


@njit(**BARE, fastmath=FAST)
def _outer(value):
    """Return the squared distance of a value from 0 or 255, whichever is nearer."""
    above = np.float32(255.0) - value
    return min(value * value, above * above)


@njit(**BARE, fastmath=FAST, inline="never")
def _errors(v, w, low, high, six, error):
    """Fill in the squared error of each lane, each value by its weight, on eight even steps from `low` to `high`.

    Where `six`, on six and the values 0 and 255. Ends that meet, cross or leave the range err without measure.
    """
    last = np.float32(5.0) if six else np.float32(7.0)
    apart = np.float32(1.0) / last
    beside = np.float32(0.0) if six else _FAR
    for l in range(LANES):
        error[l] = np.float32(0.0) if low[l] >= 0 and high[l] <= np.float32(255.0) and low[l] < high[l] else _FAR
    # The loop over four is written out by the compiler, so that lanes are what is left to loop over.
    for four in range(4):
        for l in range(LANES):
            base, step, total = low[l], max(high[l] - low[l], np.float32(1.0)) * apart, np.float32(0.0)
            scale = np.float32(1.0) / step
            for i in range(4):
                value = v[LANES * (4 * four + i) + l]
                d = value - (base + _at(value, base, scale, last) * step)
                total += w[LANES * (4 * four + i) + l] * min(d * d, _outer(value) + beside)
            error[l] += total


@njit(**BARE, fastmath=FAST, inline="never")
def _refit(v, w, low, high, six, sums, error, new_low, new_high):
    """Fit ends by least squares to the steps that `low` and `high` choose; where `six`, values at 0 and 255 are left out.

    Fill in the error of `low` and `high` too, which are to lie in the range. Scratch sums (5 rows) are of weights, by step
    and by its square, and of values, by step.
    """
    zero, half, top, one = np.float32(0.0), np.float32(0.5), np.float32(255.0), np.float32(1.0)
    last = np.float32(5.0) if six else np.float32(7.0)
    apart = one / last
    beside = zero if six else _FAR
    for l in range(5 * LANES):
        sums[l] = zero
    for l in range(LANES):
        error[l] = zero if low[l] < high[l] else _FAR
    for four in range(4):
        for l in range(LANES):
            base, step = low[l], max(high[l] - low[l], one) * apart
            scale = one / step
            whole = far = square = values = far_values = total = zero
            for i in range(4):
                value = v[LANES * (4 * four + i) + l]
                at = _at(value, base, scale, last)
                d = value - (base + at * step)
                weight, outer = w[LANES * (4 * four + i) + l], _outer(value) + beside
                total += weight * min(d * d, outer)
                weight = zero if outer < d * d else weight
                here = weight * at
                whole += weight
                far += here
                square += here * at
                values += weight * value
                far_values += here * value
            error[l] += total
            sums[l] += whole
            sums[LANES + l] += far
            sums[2 * LANES + l] += square
            sums[3 * LANES + l] += values
            sums[4 * LANES + l] += far_values
    for l in range(LANES):
        whole, far, bb = sums[l], sums[LANES + l] * apart, sums[2 * LANES + l] * apart * apart
        far_values = sums[4 * LANES + l] * apart
        near_values, ab = sums[3 * LANES + l] - far_values, far - bb
        aa = whole - far - ab
        det = aa * bb - ab * ab
        scale = one / max(det, np.float32(1e-4))
        first = min(max(np.floor((near_values * bb - far_values * ab) * scale + half), zero), top)
        second = min(max(np.floor((far_values * aa - near_values * ab) * scale + half), zero), top)
        loose = det < np.float32(1e-4)
        new_low[l] = low[l] if loose else min(first, second)
        new_high[l] = high[l] if loose else max(first, second)


@njit(**BARE, inline="never")
def _take(new_low, new_high, new_error, low, high, error):
    """Take the new ends of lanes where they err less; return whether any did."""
    taken = 0
    for l in range(LANES):
        better = new_error[l] < error[l]
        taken += 1 if better else 0
        low[l] = new_low[l] if better else low[l]
        high[l] = new_high[l] if better else high[l]
        error[l] = new_error[l] if better else error[l]
    return taken > 0


@njit(**BARE)
def _start(px, weights, channel, found, first, listed, count, effort, exact, lanes):
    """Fill in ends and errors of the listed blocks in three rows from `first`: the best of some ranges, refitted.

    Where `exact`, ends at 0 and at 255 stay there.
    """
    v, w, low, high, error, l1, h1, e1, l2, h2, e2, sums, least, most, inner_least, inner_most = lanes
    six, one = first == LOW6, np.float32(1.0)
    for at in range(0, count, LANES):
        _gather(px, weights, channel, listed, at, count, v, w)
        _ranges(v, least, most, inner_least, inner_most)
        for l in range(LANES):
            low[l], high[l], error[l] = least[l], most[l], np.float32(0.0) if least[l] == most[l] else _FAR
            if six:
                # Where nothing lies between 0 and 255, steps anywhere will do.
                least[l] = min(inner_least[l], np.float32(254.0))
                most[l] = max(inner_most[l], least[l] + one)
        for start in range(_STARTS6[effort] if six else _STARTS[effort]):
            below, above = _DRAWN[start, 0], _DRAWN[start, 1]
            for l in range(LANES):
                share = (most[l] - least[l]) * np.float32(1.0 / 16.0)
                l1[l] = least[l] + (np.float32(0.0) if exact and least[l] == 0 else np.floor(share * below))
                h1[l] = most[l] - (np.float32(0.0) if exact and most[l] == 255 else np.floor(share * above))
            for _ in range(_REFITS[effort]):
                _refit(v, w, l1, h1, six, sums, e1, l2, h2)
                if exact:
                    for l in range(LANES):
                        l2[l] = least[l] if least[l] == 0 else l2[l]
                        h2[l] = most[l] if most[l] == 255 else h2[l]
                _errors(v, w, l2, h2, six, e2)
                if not _take(l2, h2, e2, l1, h1, e1):
                    break
            _take(l1, h1, e1, low, high, error)
        for l in range(min(LANES, count - at)):
            block = listed[at + l]
            found[first, block], found[first + 1, block], found[first + 2, block] = low[l], high[l], error[l]
            if not six:
                found[_LEAST, block], found[_MOST, block] = least[l], most[l]


@njit(**BARE)
def _walk(px, weights, channel, found, first, listed, count, effort, lanes):
    """Move ends of the listed blocks in three rows from `first` by some codes, as long as they err less."""
    v, w, low, high, error, l1, h1, e1, l2, h2 = lanes[:10]
    reach = _REACH[effort]
    for _ in range(_ROUNDS[effort]):
        moving = 0
        for at in range(0, count, LANES):
            _gather(px, weights, channel, listed, at, count, v, w)
            for l in range(LANES):
                block = listed[min(at + l, count - 1)]
                l2[l], h2[l], error[l] = found[first, block], found[first + 1, block], found[first + 2, block]
                low[l], high[l] = l2[l], h2[l]
            for dl in range(-reach, reach + 1):
                for dh in range(-reach, reach + 1):
                    if dl != 0 or dh != 0:
                        for l in range(LANES):
                            l1[l], h1[l] = l2[l] + np.float32(dl), h2[l] + np.float32(dh)
                        _errors(v, w, l1, h1, first == LOW6, e1)
                        _take(l1, h1, e1, low, high, error)
            for l in range(min(LANES, count - at)):
                block = listed[at + l]
                if low[l] != l2[l] or high[l] != h2[l]:
                    found[first, block], found[first + 1, block], found[first + 2, block] = low[l], high[l], error[l]
                    listed[moving] = block
                    moving += 1
        count = moving


@njit(**BARE)
def search(px, weights, channel, count, effort, exact, found, listed, lanes):
    """Find ends for a channel of blocks px (BATCH, 2, 16) float32, 0..255, whose errors count by weights (BATCH, 2, 16).

    Where `exact`, values of 0 and of 255 stay what they are: of eight even steps, they have to be the ends. Filled in are
    the first six rows of found (8, BATCH); errors are of steps that are not rounded.
    """
    for block in range(count):
        listed[block] = block
    _start(px, weights, channel, found, LOW, listed, count, effort, exact, lanes)
    near = np.float32(16.0)
    some = 0
    for block in range(count):
        least, most = found[_LEAST, block], found[_MOST, block]
        found[ERROR6, block] = _FAR
        if found[ERROR, block] > 0 and not (exact and (least == 0 or most == 255)):
            listed[some] = block
            some += 1
    _walk(px, weights, channel, found, LOW, listed, some, effort, lanes)
    some = 0
    for block in range(count):
        if found[ERROR, block] > 0 and (
            found[_LEAST, block] <= near or found[_MOST, block] >= np.float32(255.0) - near
        ):
            listed[some] = block
            some += 1
    _start(px, weights, channel, found, LOW6, listed, some, effort, False, lanes)
    _walk(px, weights, channel, found, LOW6, listed, some, effort, lanes)


@njit(**BARE, fastmath=FAST, inline="never")
def _codes(v, low, high, six, bits):
    """Fill in the codes of the steps nearest to the first eight values, 3 bits each, the first lowest."""
    zero, one = np.float32(0.0), np.float32(1.0)
    for l in range(LANES):
        bits[l] = zero
    for four in range(2):
        for l in range(LANES):
            six_on = six[l] > zero
            last = np.float32(5.0) if six_on else np.float32(7.0)
            base, step = (
                low[l],
                max(high[l] - low[l], one) * (np.float32(1.0 / 5.0) if six_on else np.float32(1.0 / 7.0)),
            )
            scale, total = one / step, zero
            for i in range(4):
                value = v[LANES * (4 * four + i) + l]
                at = _at(value, base, scale, last)
                d = value - (base + at * step)
                at = at if six_on else last - at
                code = zero if at == zero else (one if at == last else at + one)
                outer = np.float32(6.0) if value < np.float32(127.5) else np.float32(7.0)
                code = outer if _outer(value) < d * d * six[l] else code
                # Codes of 24 bits are whole as floats.
                total += code * np.float32(1 << 3 * i)
            bits[l] += total * np.float32(1 << 12 * four)


@njit(**BARE)
def write(px, weights, channel, count, found, listed, lanes, bits, words):
    """Fill words (count,) uint64 with the blocks that `search` found, the first byte lowest, and the row ERROR with the lesser."""
    v, w, low, high, six = lanes[:5]
    for block in range(count):
        listed[block] = block
    for at in range(0, count, LANES):
        _gather(px, weights, channel, listed, at, count, v, w)
        for l in range(LANES):
            block = min(at + l, count - 1)
            first = LOW6 if found[ERROR6, block] < found[ERROR, block] else LOW
            six[l] = np.float32(1.0 if first == LOW6 else 0.0)
            low[l], high[l] = found[first, block], found[first + 1, block]
        for half in range(2):
            _codes(v[8 * LANES * half :], low, high, six, bits[half])
        for l in range(min(LANES, count - at)):
            found[ERROR, at + l] = min(found[ERROR, at + l], found[ERROR6, at + l])
            ends = (low[l], high[l]) if six[l] > 0 else (high[l], low[l])
            words[at + l] = np.uint64(ends[0]) | np.uint64(ends[1]) << np.uint64(8)
            # Where the ends meet the six steps are on, of which the first is every code of zeros.
            if low[l] < high[l]:
                words[at + l] |= np.uint64(bits[0, l]) << np.uint64(16) | np.uint64(bits[1, l]) << np.uint64(40)
