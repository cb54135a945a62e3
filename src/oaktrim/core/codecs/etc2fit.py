"""The search of the ETC2 and EAC encoders.

Every mode ends as four paints that each pixel takes the nearest of. A half block adds one number to all three channels, so
that the sum of a pixel's distances to the base says which; bases are refitted to what was chosen and walked by single codes.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from oaktrim.core.codecs.blocks import FAST, copy_flat

ALONE, ONE_BIT, BESIDE = 0, 1, 2
_FAR = np.float32(3e38)


@njit(nogil=True, cache=True, fastmath=FAST)
def _load(pixels, bx, by, channels, px):
    """Fill px (4, 16) float32 with a block, pixels down the columns; the border's pixels stand in beyond it."""
    height, width = pixels.shape[:2]
    for x in range(4):
        column = min(bx * 4 + x, width - 1)
        for y in range(4):
            row = min(by * 4 + y, height - 1)
            for c in range(channels):
                px[c, 4 * x + y] = pixels[row, column, c]


@njit(nogil=True, cache=True)
def _store(word, block):
    for i in range(8):
        block[i] = np.uint8(word >> np.uint64(56 - 8 * i) & np.uint64(255))


@njit(nogil=True, cache=True, fastmath=FAST)
def _wide(code, bits):
    """Return a code of 4 to 7 bits, spread over 8, as a float."""
    return np.float32(code << (8 - bits) | code >> (2 * bits - 8))


@njit(nogil=True, cache=True, fastmath=FAST)
def _code(value, bits):
    top = np.float32((1 << bits) - 1)
    return np.int64(min(max(value * top * np.float32(1 / 255) + np.float32(0.5), np.float32(0.0)), top))


@njit(nogil=True, cache=True, fastmath=FAST)
def _nearest(px, weight, paints, hole, chosen):
    """Give each pixel the nearest of four paints (3, 4); return the weighted squared error.

    Parameters
    ----------
    hole : paint 2 is clear, and for pixels of no weight only
    """
    error = np.float32(0.0)
    bar = np.float32(1e9) if hole else np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        d0 = (r - paints[0, 0]) ** 2 + (g - paints[1, 0]) ** 2 + (b - paints[2, 0]) ** 2
        d1 = (r - paints[0, 1]) ** 2 + (g - paints[1, 1]) ** 2 + (b - paints[2, 1]) ** 2
        d2 = (r - paints[0, 2]) ** 2 + (g - paints[1, 2]) ** 2 + (b - paints[2, 2]) ** 2 + bar
        d3 = (r - paints[0, 3]) ** 2 + (g - paints[1, 3]) ** 2 + (b - paints[2, 3]) ** 2
        first, second = min(d0, d1), min(d2, d3)
        k0 = np.float32(0.0) if d0 <= d1 else np.float32(1.0)
        k1 = np.float32(2.0) if d2 <= d3 else np.float32(3.0)
        chosen[i] = k0 if first <= second else k1
        error += weight[i] * min(first, second)
    return error


@njit(nogil=True, cache=True, fastmath=FAST)
def _set_paints(base, modifiers, row, hole, paints):
    """Fill paints (3, 4) from a base colour (3,) and a row of modifiers."""
    for k in range(4):
        more = np.float32(modifiers[row, k])
        if hole and (k & 1) == 0:
            more = np.float32(0.0)
        for c in range(3):
            paints[c, k] = min(max(base[c] + more, np.float32(0.0)), np.float32(255.0))


@njit(nogil=True, cache=True, fastmath=FAST)
def _best_row(px, weight, base, modifiers, hole):
    """Return the row of modifiers that serves a base best, when nothing leaves the range of a byte."""
    best, found = _FAR, 0
    for row in range(8):
        a, b = np.float32(modifiers[row, 0]), np.float32(modifiers[row, 1])
        if hole:
            a = np.float32(0.0)
        total = np.float32(0.0)
        for i in range(16):
            s = abs(px[0, i] + px[1, i] + px[2, i] - base[0] - base[1] - base[2])
            total += weight[i] * min(3 * a * a - 2 * a * s, 3 * b * b - 2 * b * s)
        if total < best:
            best, found = total, row
    return found


@njit(nogil=True, cache=True, fastmath=FAST)
def _try_half(px, weight, codes, bits, modifiers, hole, base, paints, chosen):
    """Return the error and the row of a half whose base has these codes."""
    for c in range(3):
        base[c] = _wide(codes[c], bits)
    row = _best_row(px, weight, base, modifiers, hole)
    _set_paints(base, modifiers, row, hole, paints)
    return _nearest(px, weight, paints, hole, chosen), row


@njit(nogil=True, cache=True, fastmath=FAST)
def _fit_half(px, weight, bits, low, high, effort, modifiers, hole, work, codes, chosen):
    """Find the base of a half within codes low (3,) to high (3,); return the error and the row of modifiers."""
    base, paints, trial, got = work[0], work[1], work[2], work[3]
    count = np.float32(0.0)
    for i in range(16):
        count += weight[i]
    count = max(count, np.float32(1.0))
    for c in range(3):
        total = np.float32(0.0)
        for i in range(16):
            total += weight[i] * px[c, i]
        trial[c] = min(max(_code(total / count, bits), low[c]), high[c])
    best, row = _FAR, 0
    for _ in range(1 if effort == 0 else 3):
        error, at = _try_half(px, weight, trial, bits, modifiers, hole, base, paints, got)
        if error >= best:
            break
        best, row = error, at
        copy_flat(trial, codes)
        copy_flat(got, chosen)
        if effort == 0 or best == 0:
            break
        # The base that serves the chosen modifiers best is the mean of what they leave.
        for c in range(3):
            total = np.float32(0.0)
            for i in range(16):
                total += weight[i] * (px[c, i] - paints[c, np.int64(got[i])] + base[c])
            trial[c] = min(max(_code(total / count, bits), low[c]), high[c])
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
                error, at = _try_half(px, weight, trial, bits, modifiers, hole, base, paints, got)
                if error < best:
                    best, row, gained = error, at, True
                    copy_flat(trial, codes)
                    copy_flat(got, chosen)
            if not gained:
                break
    return best, row


@njit(nogil=True, cache=True)
def _index_bits(chosen):
    word = np.uint64(0)
    for i in range(16):
        k = np.uint64(chosen[i])
        word |= (k >> np.uint64(1)) << np.uint64(16 + i) | (k & np.uint64(1)) << np.uint64(i)
    return word


@njit(nogil=True, cache=True)
def _field(value, low):
    return np.uint64(value) << np.uint64(low)


@njit(nogil=True, cache=True, fastmath=FAST)
def _fit_halves(px, weight, effort, alpha, hole, modifiers, work, ends, best, word):
    """Try both ways to halve a block, with bases of their own and with a difference; return error and word."""
    side, low, high, codes, chosen = ends
    for flip in range(2):
        for kind in range(2):
            # Bases of their own have four bits; with one bit of alpha there are none.
            if kind == 0 and alpha == ONE_BIT:
                continue
            bits = 4 if kind == 0 else 5
            top = (1 << bits) - 1
            error = np.float32(0.0)
            first_row = second_row = 0
            for half in range(2):
                for i in range(16):
                    second = (i & 3) >= 2 if flip else i >= 8
                    side[half, i] = weight[i] if second == (half == 1) else np.float32(0.0)
                for c in range(3):
                    low[c], high[c] = 0, top
                    if kind == 1 and half == 1:
                        low[c], high[c] = max(0, codes[0, c] - 4), min(top, codes[0, c] + 3)
                found, row = _fit_half(
                    px, side[half], bits, low, high, effort, modifiers, hole, work, codes[half], chosen[half]
                )
                error += found
                if half == 0:
                    first_row = row
                else:
                    second_row = row
                if error >= best:
                    break
            if error >= best:
                continue
            best = error
            word = _field(first_row, 37) | _field(second_row, 34) | _field(flip, 32)
            for c in range(3):
                at = 56 - 8 * c
                if kind == 0:
                    word |= _field(codes[0, c], at + 4) | _field(codes[1, c], at)
                else:
                    word |= _field(codes[0, c], at + 3) | _field((codes[1, c] - codes[0, c]) & 7, at)
            if alpha == ONE_BIT:
                word |= _field(0 if hole else 1, 33)
            else:
                word |= _field(kind, 33)
            for i in range(16):
                second = (i & 3) >= 2 if flip else i >= 8
                chosen[0, i] = chosen[1, i] if second else chosen[0, i]
                if hole and weight[i] == 0:
                    chosen[0, i] = np.float32(2.0)
            word |= _index_bits(chosen[0])
    return best, word


@njit(nogil=True, cache=True, fastmath=FAST)
def _two_means(px, weight, start, means, sums):
    """Fill means (2, 3) with two clusters of a block's colours, from its extremes along a channel or their sum."""
    least, most, first, last = _FAR, -_FAR, 0, 0
    for i in range(16):
        if weight[i] == 0:
            continue
        value = px[0, i] + px[1, i] + px[2, i] if start == 3 else px[start, i]
        if value < least:
            least, first = value, i
        if value > most:
            most, last = value, i
    for c in range(3):
        means[0, c], means[1, c] = px[c, first], px[c, last]
    for _ in range(4):
        for k in range(2):
            for c in range(4):
                sums[k, c] = np.float32(0.0)
        for i in range(16):
            near = far = np.float32(0.0)
            for c in range(3):
                near += (px[c, i] - means[0, c]) ** 2
                far += (px[c, i] - means[1, c]) ** 2
            k = 0 if near <= far else 1
            sums[k, 3] += weight[i]
            for c in range(3):
                sums[k, c] += weight[i] * px[c, i]
        for k in range(2):
            if sums[k, 3] > 0:
                for c in range(3):
                    means[k, c] = sums[k, c] / sums[k, 3]


@njit(nogil=True, cache=True, fastmath=FAST)
def _set_pair(pair, h_mode, d, hole, paints):
    """Fill paints (3, 4) of the T or the H mode from codes pair (2, 3) of 4 bits and a distance."""
    for c in range(3):
        first, second = _wide(pair[0, c], 4), _wide(pair[1, c], 4)
        if h_mode:
            paints[c, 0], paints[c, 1], paints[c, 2], paints[c, 3] = first + d, first - d, second + d, second - d
        else:
            paints[c, 0], paints[c, 1], paints[c, 2], paints[c, 3] = first, second + d, second, second - d
        for k in range(4):
            paints[c, k] = min(max(paints[c, k], np.float32(0.0)), np.float32(255.0))


@njit(nogil=True, cache=True, fastmath=FAST)
def _fit_pairs(px, weight, effort, alpha, hole, distances, work, best, word):
    """Try the T and the H mode; return the error and word of the best."""
    _, paints, _, got, means, pair, trial, sums = work
    for start in range(3, 2 if effort < 2 else -1, -1):
        _two_means(px, weight, start, means, sums)
        for form in range(3):
            # T with either colour alone, then H.
            h_mode = form == 2
            for at in range(0, 8, 2 if effort == 0 else 1):
                d = np.float32(distances[at])
                for k in range(2):
                    for c in range(3):
                        trial[k, c] = _code(means[1 - k if form == 1 else k, c], 4)
                kept = _FAR
                for _ in range(1 + effort):
                    # In the H mode, which colour is the greater tells the lowest bit of the distance's place.
                    if h_mode and (_number(trial[0]) >= _number(trial[1])) != ((at & 1) == 1):
                        for c in range(3):
                            trial[0, c], trial[1, c] = trial[1, c], trial[0, c]
                        if _number(trial[0]) == _number(trial[1]):
                            break
                    _set_pair(trial, h_mode, d, hole, paints)
                    error = _nearest(px, weight, paints, hole, got)
                    if error >= kept:
                        break
                    kept = error
                    copy_flat(trial, pair)
                    if error < best:
                        best = error
                        word = _pair_word(pair, h_mode, at, got, weight, alpha, hole)
                    for k in range(2):
                        for c in range(4):
                            sums[k, c] = np.float32(0.0)
                    for i in range(16):
                        paint = np.int64(got[i])
                        k = paint >> 1 if h_mode else min(paint, 1)
                        more = (d - 2 * d * (paint & 1)) if h_mode else (np.float32(0.0), d, np.float32(0.0), -d)[paint]
                        sums[k, 3] += weight[i]
                        for c in range(3):
                            sums[k, c] += weight[i] * (px[c, i] - more)
                    for k in range(2):
                        if sums[k, 3] > 0:
                            for c in range(3):
                                trial[k, c] = _code(sums[k, c] / sums[k, 3], 4)
    return best, word


@njit(nogil=True, cache=True)
def _number(codes):
    """Return a colour of three codes of 4 bits as one number."""
    return codes[0] << 8 | codes[1] << 4 | codes[2]


@njit(nogil=True, cache=True)
def _overflow(low, step, at):
    """Return the three bits above a field and the sign above a difference that drive their sum out of range."""
    return _field(7, at + 5) if low + step >= 4 else _field(1, at + 2)


@njit(nogil=True, cache=True)
def _pair_word(pair, h_mode, at, chosen, weight, alpha, hole):
    """Return the word of a T or H block: `pair` (2, 3) codes, place of the distance, paints of the pixels."""
    word = _field(0 if alpha == ONE_BIT and hole else 1, 33)
    first, second = pair[0], pair[1]
    if h_mode:
        word |= _field(at >> 2, 34) | _field(at >> 1 & 1, 32)
        word |= _field(first[0], 59) | _field(first[1] >> 1, 56) | _field(first[1] & 1, 52)
        word |= _field(first[2] >> 3, 51) | _field(first[2] & 7, 47)
        word |= _field(second[0], 43) | _field(second[1], 39) | _field(second[2], 35)
        word |= _field(1 if first[1] >> 1 & 4 else 0, 63)
        word |= _overflow((first[1] & 1) << 1 | first[2] >> 3, (first[2] & 7) >> 1, 48)
    else:
        word |= _field(at >> 1, 34) | _field(at & 1, 32)
        word |= _field(first[0] >> 2, 59) | _field(first[0] & 3, 56) | _field(first[1], 52) | _field(first[2], 48)
        word |= _field(second[0], 44) | _field(second[1], 40) | _field(second[2], 36)
        word |= _overflow(first[0] >> 2, first[0] & 3, 56)
    for i in range(16):
        k = np.int64(chosen[i])
        if hole and weight[i] == 0:
            k = 2
        word |= np.uint64(k >> 1) << np.uint64(16 + i) | np.uint64(k & 1) << np.uint64(i)
    return word


@njit(nogil=True, cache=True, fastmath=FAST)
def _fit_planar(px, weight, best, word):
    """Try the planar mode, fitted by least squares; return the error and the word."""
    codes = np.zeros((3, 3), np.int64)
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
        origin = mean - np.float32(1.5) * (across + down)
        codes[c, 0] = _code(origin, bits)
        codes[c, 1] = _code(origin + 4 * across, bits)
        codes[c, 2] = _code(origin + 4 * down, bits)
        o, h, v = _wide(codes[c, 0], bits), _wide(codes[c, 1], bits), _wide(codes[c, 2], bits)
        for i in range(16):
            x, y = np.float32(i >> 2), np.float32(i & 3)
            value = np.floor((x * (h - o) + y * (v - o) + 4 * o + 2) * np.float32(0.25))
            d = min(max(value, np.float32(0.0)), np.float32(255.0)) - px[c, i]
            error += weight[i] * d * d
    if error >= best:
        return best, word
    ro, go, bo = codes[0, 0], codes[1, 0], codes[2, 0]
    rh, gh, bh = codes[0, 1], codes[1, 1], codes[2, 1]
    word = _field(1, 33) | _field(ro, 57) | _field(go >> 6, 56) | _field(go & 63, 49) | _field(bo >> 5, 48)
    word |= _field(bo >> 3 & 3, 43) | _field(bo & 7, 39) | _field(rh >> 1, 34) | _field(rh & 1, 32)
    word |= _field(gh, 25) | _field(bh, 19) | _field(codes[0, 2], 13) | _field(codes[1, 2], 6) | _field(codes[2, 2], 0)
    word |= _field(ro >> 1 & 1, 63) | _field(go >> 1 & 1, 55)
    word |= _overflow(bo >> 3 & 3, (bo & 7) >> 1, 40)
    return error, word


@njit(nogil=True, cache=True, fastmath=FAST)
def _channel_error(values, strict, base, factor, steps, row, low, high, best):
    """Return the squared error of sixteen values on base + step * factor; no more is counted once it is over `best`."""
    error = np.float32(0.0)
    for i in range(16):
        nearest = _FAR
        for k in range(8):
            at = min(max(base + np.float32(steps[row, k]) * factor, low), high)
            d = abs(values[i] - at)
            nearest = min(nearest, d)
        error += nearest * nearest + strict[i] * min(nearest, np.float32(1.0))
    return error


@njit(nogil=True, cache=True, fastmath=FAST)
def _encode_channel(values, strict, eleven, effort, steps):
    """Return the word of an EAC block for sixteen values in 0..255, or in 0..2047 where `eleven` bits are kept."""
    least = most = values[0]
    for i in range(16):
        least, most = min(least, values[i]), max(most, values[i])
    unit = np.float32(8.0) if eleven else np.float32(1.0)
    half = np.float32(4.0) if eleven else np.float32(0.0)
    high = np.float32(2047.0) if eleven else np.float32(255.0)
    best, best_base, best_factor, best_row = _FAR, 0, 1, 13
    reach = (0, 1, 2)[effort]
    for row in range(16):
        below, above = np.float32(steps[row, 3]), np.float32(steps[row, 7])
        ideal = np.int64((most - least) / (unit * (above - below)) + np.float32(0.5))
        for more in range(-reach - (1 if effort > 0 else 0), reach + 1):
            factor = ideal + more
            if factor < (0 if eleven else 1) or factor > 15:
                if more != 0:
                    continue
                factor = min(max(factor, 0 if eleven else 1), 15)
            size = np.float32(factor) * unit if factor > 0 else np.float32(1.0)
            # The middle of the steps stands at the middle of the values.
            middle = ((least + most) - (below + above) * size) * np.float32(0.5)
            centre = np.int64((middle - half) / unit + np.float32(0.5))
            for shift in range(-reach * 2, reach * 2 + 1):
                base = centre + shift
                if base < 0 or base > 255:
                    if shift != 0:
                        continue
                    base = min(max(base, 0), 255)
                error = _channel_error(
                    values, strict, np.float32(base) * unit + half, size, steps, row, np.float32(0.0), high, best
                )
                if error < best:
                    best, best_base, best_factor, best_row = error, base, factor, row
        if best == 0:
            break
    word = _field(best_base, 56) | _field(best_factor, 52) | _field(best_row, 48)
    size = np.float32(best_factor) * unit if best_factor > 0 else np.float32(1.0)
    for i in range(16):
        nearest, found = _FAR, 0
        for k in range(8):
            at = np.float32(best_base) * unit + half + np.float32(steps[best_row, k]) * size
            d = abs(values[i] - min(max(at, np.float32(0.0)), high))
            if d < nearest:
                nearest, found = d, k
        word |= _field(found, 45 - 3 * i)
    return word


@njit(nogil=True, cache=True)
def encode_channel_rows(pixels, effort, steps, start, stop, out):
    """Encode block rows of pixels (H, W, 1 or 2) uint16 into `out` (rows, columns, 8 or 16) uint8."""
    px, values, strict = np.empty((4, 16), np.float32), np.empty(16, np.float32), np.zeros(16, np.float32)
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            _load(pixels, bx, by, pixels.shape[2], px)
            for c in range(pixels.shape[2]):
                for i in range(16):
                    values[i] = px[c, i] * np.float32(2047.0 / 65535.0)
                _store(_encode_channel(values, strict, True, effort, steps), out[by, bx, 8 * c :])


@njit(nogil=True, cache=True)
def encode_colour_rows(pixels, alpha, threshold, effort, distances, modifiers, steps, start, stop, out):
    """Encode block rows of pixels (H, W, 4) uint8 into `out` (rows, columns, 8 or 16) uint8; see ALONE and its like."""
    px, weight, strict = np.empty((4, 16), np.float32), np.ones(16, np.float32), np.zeros(16, np.float32)
    work = (
        np.zeros(3, np.float32), np.zeros((3, 4), np.float32), np.zeros(3, np.int64), np.zeros(16, np.float32),
        np.zeros((2, 3), np.float32), np.zeros((2, 3), np.int64), np.zeros((2, 3), np.int64), np.zeros((2, 4), np.float32),
    )  # fmt: skip
    ends = (
        np.zeros((2, 16), np.float32), np.zeros(3, np.int64), np.zeros(3, np.int64), np.zeros((2, 3), np.int64),
        np.zeros((2, 16), np.float32),
    )  # fmt: skip
    enough = np.float32((240.0, 24.0, 0.0)[effort])
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            _load(pixels, bx, by, 4, px)
            seen, holes = np.float32(0.0), False
            for i in range(16):
                hidden = px[3, i] < threshold if alpha == ONE_BIT else px[3, i] == 0
                weight[i] = np.float32(0.0) if hidden and alpha != ALONE else np.float32(1.0)
                seen += weight[i]
                strict[i] = np.float32(1e6) if px[3, i] == 0 or px[3, i] == 255 else np.float32(0.0)
            if 0 < seen < 16:
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
                _store(_encode_channel(px[3], strict, False, effort, steps), block)
                block = block[8:]
            if seen == 0:
                # All clear: with one bit of alpha, every pixel takes the clear paint.
                _store(np.uint64(0xFFFF0000) if alpha == ONE_BIT else np.uint64(0), block)
                continue
            best, word = _fit_halves(px, weight, effort, alpha, holes, modifiers, work, ends, _FAR, np.uint64(0))
            if not holes and best > 0:
                best, word = _fit_planar(px, weight, best, word)
            if best > enough:
                best, word = _fit_pairs(px, weight, effort, alpha, holes, distances, work, best, word)
            _store(word, block)
