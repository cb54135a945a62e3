"""The search of the T and H modes of ETC2: two colours, with paints at a distance from one of them or from both.

Colours start as two clusters, are refitted to the paints that pixels chose, and what wins is walked by single codes (Khronos
Data Format Specification 1.3, chapter 21).
"""

from __future__ import annotations

import numpy as np

from oaktrim.core.codecs.blocks import BARE, FAST, copy_flat
from oaktrim.core.codecs.etc.eac import field
from oaktrim.core.codecs.etc.tables import ONE_BIT
from oaktrim.core.kernels import njit

_FAR = np.float32(3e38)


@njit(**BARE, fastmath=FAST)
def wide(code, bits):
    """Return a code of 4 to 7 bits, spread over 8, as a float."""
    return np.float32(code << (8 - bits) | code >> (2 * bits - 8))


@njit(**BARE, fastmath=FAST)
def code(value, bits):
    top = np.float32((1 << bits) - 1)
    return np.int64(min(max(value * top * np.float32(1 / 255) + np.float32(0.5), np.float32(0.0)), top))


@njit(**BARE, fastmath=FAST)
def _nearest(px, weight, scale, paints, hole, chosen):
    """Give each pixel the nearest of four paints (3, 4); return the weighted squared error.

    Parameters
    ----------
    hole : paint 2 is clear, and for pixels of no weight only
    """
    error = np.float32(0.0)
    bar = np.float32(1e9) if hole else np.float32(0.0)
    red, green, blue = scale[0], scale[1], scale[2]
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        d0 = red * (r - paints[0, 0]) ** 2 + green * (g - paints[1, 0]) ** 2 + blue * (b - paints[2, 0]) ** 2
        d1 = red * (r - paints[0, 1]) ** 2 + green * (g - paints[1, 1]) ** 2 + blue * (b - paints[2, 1]) ** 2
        d2 = red * (r - paints[0, 2]) ** 2 + green * (g - paints[1, 2]) ** 2 + blue * (b - paints[2, 2]) ** 2 + bar
        d3 = red * (r - paints[0, 3]) ** 2 + green * (g - paints[1, 3]) ** 2 + blue * (b - paints[2, 3]) ** 2
        first, second = min(d0, d1), min(d2, d3)
        k0 = np.float32(0.0) if d0 <= d1 else np.float32(1.0)
        k1 = np.float32(2.0) if d2 <= d3 else np.float32(3.0)
        chosen[i] = k0 if first <= second else k1
        error += weight[i] * min(first, second)
    return error


# Along what a block's colours are farthest apart, to begin two clusters with: their sum, what red and blue differ by, then
# red and green; and how much of what they differ by along the greys is left out, since the paints of a colour lie there.
_STARTS = np.array([[1, 1, 1, 0], [1, 0, -1, 0.3], [1, 0, 0, 0], [0, 1, 0, 0]], np.float32)
# By effort, how many of these are tried.
_TRIED = (1, 2, 4)


@njit(**BARE, fastmath=FAST)
def _two_means(px, weight, scale, start, means, sums):
    """Fill means (2, 3) with two clusters of a block's colours, from its extremes along a start (4,) of `_STARTS`."""
    least, most, first, last = _FAR, -_FAR, 0, 0
    for i in range(16):
        if weight[i] == 0:
            continue
        value = px[0, i] * start[0] + px[1, i] * start[1] + px[2, i] * start[2]
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
            near = far = near_grey = far_grey = np.float32(0.0)
            for c in range(3):
                to_near, to_far = px[c, i] - means[0, c], px[c, i] - means[1, c]
                near += scale[c] * to_near * to_near
                far += scale[c] * to_far * to_far
                near_grey += scale[c] * to_near
                far_grey += scale[c] * to_far
            near -= start[3] * near_grey * near_grey
            far -= start[3] * far_grey * far_grey
            k = 0 if near <= far else 1
            sums[k, 3] += weight[i]
            for c in range(3):
                sums[k, c] += weight[i] * px[c, i]
        for k in range(2):
            if sums[k, 3] > 0:
                for c in range(3):
                    means[k, c] = sums[k, c] / sums[k, 3]


@njit(**BARE, fastmath=FAST)
def _set_pair(pair, h_mode, d, hole, paints):
    """Fill paints (3, 4) of the T or the H mode from codes pair (2, 3) of 4 bits and a distance."""
    for c in range(3):
        first, second = wide(pair[0, c], 4), wide(pair[1, c], 4)
        if h_mode:
            paints[c, 0], paints[c, 1], paints[c, 2], paints[c, 3] = first + d, first - d, second + d, second - d
        else:
            paints[c, 0], paints[c, 1], paints[c, 2], paints[c, 3] = first, second + d, second, second - d
        for k in range(4):
            paints[c, k] = min(max(paints[c, k], np.float32(0.0)), np.float32(255.0))


@njit(**BARE, fastmath=FAST)
def fit_pairs(px, weight, scale, effort, alpha, hole, distances, work, best, word):
    """Try the T and the H mode on px (4, 16) float32, 0..255, each pixel by its weight (16,); return error and word of the best.

    Parameters
    ----------
    scale : (3 or more,) float32, what a squared error of each channel counts
    distances : (8,) of the standard; work : the second part of `fit.colour_scratch`
    best, word : the error that is to be beaten, and its word
    """
    _, paints, _, got, means, trial, sums, won, _, errors, places = work
    for form in range(3):
        errors[form] = _FAR
    before = earlier = np.int64(-1)
    for start in range(_TRIED[effort]):
        _two_means(px, weight, scale, _STARTS[start], means, sums)
        # Other extremes often lead to the same two clusters.
        found = np.int64(0)
        for k in range(2):
            for c in range(3):
                found = found << 4 | code(means[k, c], 4)
        if found in (before, earlier):
            continue
        before, earlier = found, before
        for form in range(3):
            # T with either colour alone, then H.
            h_mode = form == 2
            for at in range(8):
                d = np.float32(distances[at])
                for k in range(2):
                    for c in range(3):
                        trial[k, c] = code(means[1 - k if form == 1 else k, c], 4)
                kept = _FAR
                for _ in range(1 + effort):
                    # In the H mode, which colour is the greater tells the lowest bit of the distance's place.
                    if h_mode and not _ordered(trial, at):
                        break
                    _set_pair(trial, h_mode, d, hole, paints)
                    error = _nearest(px, weight, scale, paints, hole, got)
                    if error >= kept:
                        break
                    kept = error
                    if error < errors[form]:
                        errors[form], places[form] = error, at
                        copy_flat(trial, won[form])
                    _refit(px, weight, h_mode, d, got, sums, trial)
    for form in range(3):
        # What won is walked by single codes, and by its distance; with most effort, the best of each form.
        if effort == 2 or (
            effort == 1 and errors[form] < best and errors[form] == min(errors[0], min(errors[1], errors[2]))
        ):
            _walk(px, weight, scale, (2, 8)[effort - 1], form, distances, hole, work)
    form = 0
    for other in range(1, 3):
        form = other if errors[other] < errors[form] else form
    if errors[form] >= best:
        return best, word
    _set_pair(won[form], form == 2, np.float32(distances[places[form]]), hole, paints)
    _nearest(px, weight, scale, paints, hole, got)
    return errors[form], _pair_word(won[form], form == 2, places[form], got, weight, alpha, hole)


@njit(**BARE, fastmath=FAST)
def _refit(px, weight, h_mode, d, got, sums, trial):
    """Set the codes of trial (2, 3) to the colours that serve the paints that pixels got best."""
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
                trial[k, c] = code(sums[k, c] / sums[k, 3], 4)


@njit(**BARE, fastmath=FAST)
def _walk(px, weight, scale, rounds, form, distances, hole, work):
    """Better what was found of a form by single steps of its codes and of its distance."""
    _, paints, _, got, _, trial, _, won, _, errors, places = work
    h_mode, mine = form == 2, won[form]
    for _ in range(rounds):
        gained = False
        for move in range(18):
            at, way = places[form], 2 * (move & 1) - 1
            copy_flat(mine, trial)
            if move < 16:
                # One channel of a colour, or all of them.
                which, only = move // 8, move // 2 % 4
                for c in range(3):
                    if only in (c, 3):
                        trial[which, c] = min(max(trial[which, c] + way, 0), 15)
            else:
                at = min(max(at + way, 0), 7)
            if h_mode and not _ordered(trial, at):
                continue
            _set_pair(trial, h_mode, np.float32(distances[at]), hole, paints)
            error = _nearest(px, weight, scale, paints, hole, got)
            if error < errors[form]:
                errors[form], places[form], gained = error, at, True
                copy_flat(trial, mine)
        if not gained:
            break


@njit(**BARE)
def _ordered(pair, at):
    """Exchange the colours of the H mode so that which is the greater tells the lowest bit of `at`; say whether it does."""
    if (_number(pair[0]) >= _number(pair[1])) != ((at & 1) == 1):
        for c in range(3):
            pair[0, c], pair[1, c] = pair[1, c], pair[0, c]
    return (_number(pair[0]) >= _number(pair[1])) == ((at & 1) == 1)


@njit(**BARE)
def _number(codes):
    """Return a colour of three codes of 4 bits as one number."""
    return codes[0] << 8 | codes[1] << 4 | codes[2]


@njit(**BARE)
def overflow(low, step, at):
    """Return the three bits above a field and the sign above a difference that drive their sum out of range."""
    return field(7, at + 5) if low + step >= 4 else field(1, at + 2)


@njit(**BARE)
def _pair_word(pair, h_mode, at, chosen, weight, alpha, hole):
    """Return the word of a T or H block: `pair` (2, 3) codes, place of the distance, paints of the pixels."""
    word = field(0 if alpha == ONE_BIT and hole else 1, 33)
    first, second = pair[0], pair[1]
    if h_mode:
        word |= field(at >> 2, 34) | field(at >> 1 & 1, 32)
        word |= field(first[0], 59) | field(first[1] >> 1, 56) | field(first[1] & 1, 52)
        word |= field(first[2] >> 3, 51) | field(first[2] & 7, 47)
        word |= field(second[0], 43) | field(second[1], 39) | field(second[2], 35)
        word |= field(1 if first[1] >> 1 & 4 else 0, 63)
        word |= overflow((first[1] & 1) << 1 | first[2] >> 3, (first[2] & 7) >> 1, 48)
    else:
        word |= field(at >> 1, 34) | field(at & 1, 32)
        word |= field(first[0] >> 2, 59) | field(first[0] & 3, 56) | field(first[1], 52) | field(first[2], 48)
        word |= field(second[0], 44) | field(second[1], 40) | field(second[2], 36)
        word |= overflow(first[0] >> 2, first[0] & 3, 56)
    for i in range(16):
        k = np.int64(chosen[i])
        if hole and weight[i] == 0:
            k = 2
        word |= np.uint64(k >> 1) << np.uint64(16 + i) | np.uint64(k & 1) << np.uint64(i)
    return word
