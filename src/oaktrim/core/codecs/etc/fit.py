"""The search of the ETC2 encoder: halves with a base each, the planar mode, and what `etc2pairs` finds.

Every mode ends as four paints that each pixel takes the nearest of. A half block adds one number to all three channels, so
that the sum of a pixel's distances to the base says which; bases are refitted to what was chosen and walked by single codes.
What an error of each channel counts stands in `scale` (3,), which adds up to 3.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.codecs.blocks import BARE, COVERS, FAST, copy_flat, set_roots, spaced, weigh_by_alpha
from oaktrim.core.codecs.etc.eac import encode_channel, field, lanes, load_columns, store
from oaktrim.core.codecs.etc.pairs import code, fit_pairs, overflow, wide
from oaktrim.core.codecs.etc.tables import BESIDE, MODIFIERS, ONE_BIT
from oaktrim.core.kernels import njit

_FAR = np.float32(3e38)
# From how far from the border of the range of a byte on a base is taken to have its paints within.
_INNER = 29
# By whether half a block has holes: three squares of either modifier of a row and twice the modifier, by row.
_PRICES = np.array(
    [[[3 * a * a, 2 * a, 3 * b * b, 2 * b] for a, b in MODIFIERS[:, :2] * (1 - hole, 1)] for hole in (0, 1)], np.float32
).swapaxes(1, 2).copy()  # fmt: skip


@njit(**BARE, fastmath=FAST)
def _try_half(half, scale, codes, bits, modifiers, hole, best, rows):
    """Return the error and the row of a half block (4, 8), colours and weight, whose base has these codes.

    Where nothing leaves the range of a byte, the sum of a pixel's distances to the base tells the error of a row, and a
    base that cannot come under `best` is not looked at further. All rows are taken at once, in scratch rows (2, 8).
    """
    red, green, blue = wide(codes[0], bits), wide(codes[1], bits), wide(codes[2], bits)
    apart = aside = np.float32(0.0)
    wr, wg, wb = scale[0], scale[1], scale[2]
    sums, totals = rows[0], rows[1]
    for i in range(8):
        r, g, b = half[0, i] - red, half[1, i] - green, half[2, i] - blue
        s = abs(wr * r + wg * g + wb * b)
        square = half[3, i] * (wr * r * r + wg * g * g + wb * b * b)
        sums[i] = s
        apart += square
        aside += square - half[3, i] * s * s * np.float32(1 / 3)
    # No row takes away what lies beside the line of greys through the base, unless at the border of the range of a byte.
    inner = min(red, min(green, blue)) >= _INNER and max(red, max(green, blue)) <= 255 - _INNER
    if aside >= (best if inner else 3 * best):
        return _FAR, 0
    prices = _PRICES[1 if hole else 0]
    s0, s1, s2, s3, s4, s5, s6, s7 = sums[0], sums[1], sums[2], sums[3], sums[4], sums[5], sums[6], sums[7]
    w0, w1, w2, w3 = half[3, 0], half[3, 1], half[3, 2], half[3, 3]
    w4, w5, w6, w7 = half[3, 4], half[3, 5], half[3, 6], half[3, 7]
    for k in range(8):
        a, two_a, b, two_b = prices[0, k], prices[1, k], prices[2, k], prices[3, k]
        total = w0 * min(a - two_a * s0, b - two_b * s0) + w1 * min(a - two_a * s1, b - two_b * s1)
        total += w2 * min(a - two_a * s2, b - two_b * s2) + w3 * min(a - two_a * s3, b - two_b * s3)
        total += w4 * min(a - two_a * s4, b - two_b * s4) + w5 * min(a - two_a * s5, b - two_b * s5)
        totals[k] = total + w6 * min(a - two_a * s6, b - two_b * s6) + w7 * min(a - two_a * s7, b - two_b * s7)
    least, row = totals[0], 0
    for k in range(1, 8):
        row = k if totals[k] < least else row
        least = min(least, totals[k])
    b = np.float32(modifiers[row, 1])
    inside = min(red, min(green, blue)) >= b and max(red, max(green, blue)) + b <= 255
    if inside:
        return apart + least, row
    if apart + least > 4 * best:
        return _FAR, row
    return _half_error(half, scale, red, green, blue, modifiers, row, hole), row


@njit(**BARE, fastmath=FAST)
def _paint(base, more):
    return min(max(base + more, np.float32(0.0)), np.float32(255.0))


@njit(**BARE, fastmath=FAST)
def _half_error(half, scale, red, green, blue, modifiers, row, hole):
    """Return the squared error of a half block on a base and a row of modifiers."""
    m0, m1 = np.float32(0.0) if hole else np.float32(modifiers[row, 0]), np.float32(modifiers[row, 1])
    m2, m3 = np.float32(0.0) if hole else np.float32(modifiers[row, 2]), np.float32(modifiers[row, 3])
    error = np.float32(0.0)
    wr, wg, wb = scale[0], scale[1], scale[2]
    for i in range(8):
        r, g, b = half[0, i], half[1, i], half[2, i]
        d0 = wr * (r - _paint(red, m0)) ** 2 + wg * (g - _paint(green, m0)) ** 2 + wb * (b - _paint(blue, m0)) ** 2
        d1 = wr * (r - _paint(red, m1)) ** 2 + wg * (g - _paint(green, m1)) ** 2 + wb * (b - _paint(blue, m1)) ** 2
        d2 = wr * (r - _paint(red, m2)) ** 2 + wg * (g - _paint(green, m2)) ** 2 + wb * (b - _paint(blue, m2)) ** 2
        d3 = wr * (r - _paint(red, m3)) ** 2 + wg * (g - _paint(green, m3)) ** 2 + wb * (b - _paint(blue, m3)) ** 2
        error += half[3, i] * min(min(d0, d1), min(d2, d3))
    return error


@njit(**BARE, fastmath=FAST)
def _choose_half(half, scale, codes, bits, modifiers, row, hole, chosen, paints):
    """Give each pixel of a half block the nearest paint (3, 4) of a base and a row; of two clear ones never the third."""
    for c in range(3):
        base = wide(codes[c], bits)
        for k in range(4):
            more = np.float32(0.0) if hole and (k & 1) == 0 else np.float32(modifiers[row, k])
            paints[c, k] = _paint(base, more)
    for i in range(8):
        nearest, found = _FAR, 0
        for k in range(4):
            if hole and k == 2:
                continue
            d = np.float32(0.0)
            for c in range(3):
                d += scale[c] * (half[c, i] - paints[c, k]) ** 2
            if d < nearest:
                nearest, found = d, k
        chosen[i] = np.float32(found)


@njit(**BARE, fastmath=FAST)
def _fit_half(half, scale, bits, low, high, effort, modifiers, hole, work, codes):
    """Find the base of a half block (4, 8) within codes low (3,) to high (3,); return the error and the row of modifiers."""
    base, paints, trial, got, rows = work[0], work[1], work[2], work[3], work[8]
    count = np.float32(0.0)
    for i in range(8):
        count += half[3, i]
    count = max(count, np.float32(1e-6))
    for c in range(3):
        total = np.float32(0.0)
        for i in range(8):
            total += half[3, i] * half[c, i]
        trial[c] = min(max(code(total / count, bits), low[c]), high[c])
    best, row = _FAR, 0
    for _ in range(1 if effort == 0 else 3):
        error, at = _try_half(half, scale, trial, bits, modifiers, hole, best, rows)
        if error >= best:
            break
        best, row = error, at
        copy_flat(trial, codes)
        if effort == 0 or best == 0:
            break
        # The base that serves the chosen modifiers best is the mean of what they leave.
        _choose_half(half, scale, codes, bits, modifiers, row, hole, got, paints)
        for c in range(3):
            base[c] = wide(codes[c], bits)
            total = np.float32(0.0)
            for i in range(8):
                total += half[3, i] * (half[c, i] - paints[c, np.int64(got[i])] + base[c])
            trial[c] = min(max(code(total / count, bits), low[c]), high[c])
    if effort > 0:
        for _ in range(effort):
            gained = False
            for move in range(8 if effort == 1 else 26):
                for c in range(3):
                    if move < 2:
                        way = 2 * move - 1
                    elif move < 8:
                        way = (2 * (move & 1) - 1) if (move - 2) // 2 == c else 0
                    else:
                        way = (move - 8 + 1) * 7 // (1, 3, 9)[c] % 3 - 1
                    trial[c] = min(max(codes[c] + way, low[c]), high[c])
                error, at = _try_half(half, scale, trial, bits, modifiers, hole, best, rows)
                if error < best:
                    best, row, gained = error, at, True
                    copy_flat(trial, codes)
            if not gained:
                break
    return best, row


@njit(**BARE)
def _index_bits(chosen):
    word = np.uint64(0)
    for i in range(16):
        k = np.uint64(chosen[i])
        word |= (k >> np.uint64(1)) << np.uint64(16 + i) | (k & np.uint64(1)) << np.uint64(i)
    return word


@njit(**BARE)
def _place(flip, half, i):
    """Return which pixel of a block, down the columns, is the i-th of a half."""
    return 4 * (i >> 1) + 2 * half + (i & 1) if flip else 8 * half + i


@njit(**BARE)
def _take_half(px, weight, flip, half, side):
    """Fill side (4, 8) with the colours and the weights of half a block."""
    for i in range(8):
        place = _place(flip, half, i)
        for c in range(3):
            side[c, i] = px[c, place]
        side[3, i] = weight[place]


# By effort: how many of the four ways to halve a block are looked at closely, and how hard their bases are searched.
_WAYS, _HARD = (1, 2, 4), (1, 1, 2)


@njit(**BARE, fastmath=FAST)
def _fit_halves(px, weight, scale, effort, alpha, hole, modifiers, work, ends, best, word):
    """Try both ways to halve a block, with bases of their own and with a difference; return error and word."""
    side, low, high, codes, chosen, errors = ends
    paints, got = work[1], work[3]
    # Every way is tried quickly; those that came nearest then with all effort.
    for turn in range(4 + _WAYS[effort]):
        way, hard = turn, 0
        if turn >= 4:
            if best == 0:
                break
            way, hard = 0, _HARD[effort]
            for k in range(1, 4):
                way = k if errors[k] < errors[way] else way
            errors[way] = _FAR
        flip, kind = way >> 1, way & 1
        # Bases of their own have four bits; with one bit of alpha there are none.
        if kind == 0 and alpha == ONE_BIT:
            errors[way] = _FAR
            continue
        bits = 4 if kind == 0 else 5
        top = (1 << bits) - 1
        error = np.float32(0.0)
        first_row = second_row = 0
        for half in range(2):
            _take_half(px, weight, flip, half, side)
            for c in range(3):
                low[c], high[c] = 0, top
                if kind == 1 and half == 1:
                    low[c], high[c] = max(0, codes[0, c] - 4), min(top, codes[0, c] + 3)
            found, row = _fit_half(side, scale, bits, low, high, hard, modifiers, hole, work, codes[half])
            error += found
            if half == 0:
                first_row = row
            else:
                second_row = row
            if error >= best and turn >= 4:
                break
        if turn < 4:
            errors[way] = error
        if error >= best:
            continue
        best = error
        word = field(first_row, 37) | field(second_row, 34) | field(flip, 32)
        for c in range(3):
            at = 56 - 8 * c
            if kind == 0:
                word |= field(codes[0, c], at + 4) | field(codes[1, c], at)
            else:
                word |= field(codes[0, c], at + 3) | field((codes[1, c] - codes[0, c]) & 7, at)
        if alpha == ONE_BIT:
            word |= field(0 if hole else 1, 33)
        else:
            word |= field(kind, 33)
        for half in range(2):
            row = second_row if half else first_row
            _take_half(px, weight, flip, half, side)
            _choose_half(side, scale, codes[half], bits, modifiers, row, hole, got, paints)
            for i in range(8):
                place = _place(flip, half, i)
                chosen[place] = np.float32(2.0) if hole and weight[place] == 0 else got[i]
        word |= _index_bits(chosen)
    return best, word


@njit(**BARE, fastmath=FAST)
def _plane_error(values, weight, first, second, third, bits):
    """Return the squared error of a channel, values (16,), on a plane of three codes, each pixel by its weight."""
    o, h, v = wide(first, bits), wide(second, bits), wide(third, bits)
    error = np.float32(0.0)
    for i in range(16):
        x, y = np.float32(i >> 2), np.float32(i & 3)
        value = np.floor((x * (h - o) + y * (v - o) + 4 * o + 2) * np.float32(0.25))
        d = min(max(value, np.float32(0.0)), np.float32(255.0)) - values[i]
        error += weight[i] * d * d
    return error


@njit(**BARE, fastmath=FAST)
def _fit_planar(px, weight, scale, effort, codes, best, word):
    """Try the planar mode, fitted by least squares and walked by codes; return error and word. Codes (3, 3) int64 is scratch."""
    error = np.float32(0.0)
    for c in range(3):
        bits = 7 if c == 1 else 6
        mean = across = down = np.float32(0.0)
        for i in range(16):
            mean += px[c, i]
            across += px[c, i] * (np.float32(i >> 2) - np.float32(1.5))
            down += px[c, i] * (np.float32(i & 3) - np.float32(1.5))
        # Over the sixteen places, the squares of x and of y about their means add up to 20.
        mean, across, down = mean * np.float32(1 / 16), across * np.float32(1 / 20), down * np.float32(1 / 20)
        origin, mine = mean - np.float32(1.5) * (across + down), codes[c]
        mine[0] = code(origin, bits)
        mine[1] = code(origin + 4 * across, bits)
        mine[2] = code(origin + 4 * down, bits)
        least = _plane_error(px[c], weight, mine[0], mine[1], mine[2], bits)
        top, gained = (1 << bits) - 1, effort > 0
        while gained:
            gained = False
            # All steps of codes by one at once.
            for move in range(27):
                first, second = mine[0] + move % 3 - 1, mine[1] + move // 3 % 3 - 1
                third = mine[2] + move // 9 - 1
                if min(first, min(second, third)) < 0 or max(first, max(second, third)) > top:
                    continue
                found = _plane_error(px[c], weight, first, second, third, bits)
                if found < least:
                    least, gained = found, True
                    mine[0], mine[1], mine[2] = first, second, third
        error += scale[c] * least
    if error >= best:
        return best, word
    ro, go, bo = codes[0, 0], codes[1, 0], codes[2, 0]
    rh, gh, bh = codes[0, 1], codes[1, 1], codes[2, 1]
    word = field(1, 33) | field(ro, 57) | field(go >> 6, 56) | field(go & 63, 49) | field(bo >> 5, 48)
    word |= field(bo >> 3 & 3, 43) | field(bo & 7, 39) | field(rh >> 1, 34) | field(rh & 1, 32)
    word |= field(gh, 25) | field(bh, 19) | field(codes[0, 2], 13) | field(codes[1, 2], 6) | field(codes[2, 2], 0)
    word |= field(ro >> 1 & 1, 63) | field(go >> 1 & 1, 55)
    word |= overflow(bo >> 3 & 3, (bo & 7) >> 1, 40)
    return error, word


@spaced
def colour_scratch() -> tuple[Any, ...]:
    """Return what `encode_colour_rows` works in."""
    return (
        (
            np.empty((4, 16), np.float32), np.ones(16, np.float32), np.zeros(16, np.float32), np.ones(16, np.float32),
            np.ones(4, np.float32),
        ),
        (
            np.zeros(3, np.float32), np.zeros((3, 4), np.float32), np.zeros(3, np.int64), np.zeros(16, np.float32),
            np.zeros((2, 3), np.float32), np.zeros((2, 3), np.int64), np.zeros((2, 4), np.float32), np.zeros((3, 2, 3), np.int64),
            np.zeros((2, 8), np.float32), np.zeros(3, np.float32), np.zeros(3, np.int64),
        ),
        (
            np.zeros((4, 8), np.float32), np.zeros(3, np.int64), np.zeros(3, np.int64), np.zeros((2, 3), np.int64),
            np.zeros(16, np.float32), np.zeros(4, np.float32),
        ),
        np.zeros((3, 3), np.int64),
        lanes(),
    )  # fmt: skip


@njit(**BARE)
def encode_colour_rows(
    pixels, alpha, threshold, effort, params, distances, modifiers, steps, start, stop, out, block_errors, scratch
):
    """Encode block rows of pixels (H, W, 4) uint8 into `out` (rows, columns, 8 or 16) uint8; see `etc.tables.ALONE` and its like.

    `params` (5,) float32 is what `metric_params` returns. The error that is told is that of colour.
    """
    (px, weight, strict, even, scale), work, ends, planar, channel = scratch
    enough = np.float32((240.0, 24.0, 0.0)[effort])
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_columns(pixels, bx, by, 4, px)
            seen, hidden, holes = np.float32(0.0), 0, False
            weigh_by_alpha(px, alpha == BESIDE and params[COVERS] > 0, weight)
            for i in range(16):
                if alpha == ONE_BIT:
                    weight[i] = np.float32(0.0) if px[3, i] < threshold else np.float32(1.0)
                hidden += weight[i] == 0
                seen += weight[i]
                strict[i] = np.float32(1e6) if px[3, i] == 0 or px[3, i] == 255 else np.float32(0.0)
            if 0 < hidden < 16:
                # What nobody sees takes the mean of the rest, so that it pulls nothing towards itself.
                holes = alpha == ONE_BIT
                for c in range(3):
                    mean = np.float32(0.0)
                    for i in range(16):
                        mean += weight[i] * px[c, i]
                    for i in range(16):
                        if weight[i] == 0:
                            px[c, i] = mean / seen
            block = out[by, bx]
            if alpha == BESIDE:
                store(encode_channel(px[3], even, strict, False, effort, steps, channel)[0], block)
                block = block[8:]
            block_errors[by, bx] = np.float32(0.0)
            if hidden == 16:
                # All clear: with one bit of alpha, every pixel takes the clear paint.
                store(np.uint64(0xFFFF0000) if alpha == ONE_BIT else np.uint64(0), block)
                continue
            set_roots(px, params, scale)
            for c in range(3):
                scale[c] *= scale[c]
            best, word = _fit_halves(px, weight, scale, effort, alpha, holes, modifiers, work, ends, _FAR, np.uint64(0))
            if not holes and best > 0:
                best, word = _fit_planar(px, weight, scale, effort, planar, best, word)
            if best > enough:
                best, word = fit_pairs(px, weight, scale, effort, alpha, holes, distances, work, best, word)
            block_errors[by, bx] = best
            store(word, block)
