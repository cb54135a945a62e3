"""Hints for loaders: what makes ETC1 and EAC blocks of a UASTC block without a search, and the search for them.

Khronos Data Format Specification 1.4, the chapter on UASTC. An ETC1 block takes the mean colours of its halves, moved by what
the hint says, and the two rows of modifiers that it names; an EAC block takes a row and a factor.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, bytes_of, words_of
from oaktrim.core.codecs.etc.codec import wide4, wide5
from oaktrim.core.codecs.etc.tables import MODIFIERS, STEPS
from oaktrim.core.codecs.uastc.block import (
    ALPHA_HINT,
    DIFFERENTIAL,
    FIELDS,
    FLIP,
    INDEX,
    MODE,
    MOVE,
    RED5,
    ROW_FIRST,
    ROW_SECOND,
    pack,
    paint,
    parse_astc,
)
from oaktrim.core.codecs.uastc.tables import BIAS, KIND, MODES, RGB, SOLID
from oaktrim.core.kernels import njit

# The hint that moves colours least: those at the ends of the range are moved inwards by it.
_LEAST = 13


def _moves() -> NDArray[np.int64]:
    """Return what each hint adds to the colours of both halves, (32, 2, 3)."""
    moves = np.zeros((32, 2, 3), np.int64)
    for hint in range(27):
        moves[hint] = [hint // 3**c % 3 - 1 for c in range(3)]
    # Hints that serve little as three digits move one channel of one half, or all of one.
    for hint, half, channel, step in (
        (2, 0, 0, -1), (5, 0, 1, -1), (6, 0, 2, -1), (7, 0, 0, 1), (11, 0, 1, 1), (15, 0, 2, 1), (18, 1, 0, -1),
        (19, 1, 1, -1), (20, 1, 2, -1), (21, 1, 0, 1), (24, 1, 1, 1), (8, 1, 2, 1),
    ):  # fmt: skip
        moves[hint] = 0
        moves[hint, half, channel] = step
    moves[10] = -2
    moves[27, 0] = -1
    moves[28, 0], moves[28, 1] = 1, -1
    moves[29, 1] = 1
    moves[30, 1] = -1
    moves[31, 0] = 1
    return moves


MOVES = _moves()


@njit(**BARE)
def moved(code, limit, step):
    """Return a code of a colour, 0 to `limit`, moved by a step; at the ends of the range steps go inwards."""
    if code == 0:
        return 3 if step == -2 else step + 1
    if code == limit:
        return code + step - 1
    new = code + step
    return code - step if new < 0 or new > limit else new


@njit(**BARE)
def half_of(flip, i):
    """Return the half of an ETC1 block that pixel `i`, counted along rows, lies in: left or right, if flipped above or below."""
    return i >> 3 if flip else i >> 1 & 1


@njit(**BARE)
def mean_colours(px, flip, sums):
    """Set sums (2, 3) to the sums of the colours of both halves of px (16, 4)."""
    for half in range(2):
        for c in range(3):
            sums[half, c] = 0
    for i in range(16):
        half = half_of(flip, i)
        for c in range(3):
            sums[half, c] += px[i, c]


@njit(**BARE)
def base_codes(sums, differential, hint, codes):
    """Set codes (2, 3) to the colours of both halves as ETC1 keeps them, in four bits, or five and a difference; -1 is no hint."""
    limit = 31 if differential else 15
    for half in range(2):
        for c in range(3):
            mean = (sums[half, c] * limit + 1020) // 2040
            codes[half, c] = moved(mean, limit, MOVES[hint, half, c]) if hint >= 0 else mean
    if differential:
        for c in range(3):
            codes[1, c] = codes[0, c] + min(max(codes[1, c] - codes[0, c], -4), 3)


@njit(**BARE)
def widened(code, differential):
    """Return a colour's code of five bits, or of four, as a value 0 to 255."""
    return wide5(code) if differential else wide4(code)


@njit(**BARE)
def _rows_error(px, flip, differential, codes, apart, rows):
    """Set rows (2,) to the rows of modifiers that serve both halves best; return about what squared error is left.

    apart (16,) is scratch. Modifiers move all channels alike, so a pixel's error depends on the sum of its three differences.
    """
    total = 0
    for half in range(2):
        many = 0
        for i in range(16):
            if half_of(flip, i) == half:
                along = 0
                for c in range(3):
                    d = px[i, c] - widened(codes[half, c], differential)
                    along += d
                    total += d * d
                apart[many] = abs(along)
                many += 1
        best = np.int64(1) << 40
        for row in range(8):
            small, large = MODIFIERS[row, 0], MODIFIERS[row, 1]
            error = 0
            for k in range(8):
                error += min(3 * small * small - 2 * small * apart[k], 3 * large * large - 2 * large * apart[k])
            if error < best:
                best, rows[half] = error, row
        total += best
    return total


@njit(**BARE)
def _try_hint(px, way, hint, best, fields, scratch):
    """Set hints in fields (FIELDS,) if their error is under `best`; return the less of both.

    Parameters
    ----------
    way : flipped in the lowest bit, differential in the next; hint : what moves the colours, as in `base_codes`
    scratch : of `hinting_scratch`, its sums those of the flipped halves, or of the others
    """
    sums, codes, apart, rows = scratch
    flip, differential = way & 1, way >> 1
    base_codes(sums, differential, hint, codes)
    error = _rows_error(px, flip, differential, codes, apart, rows)
    if error >= best:
        return best
    fields[FLIP], fields[DIFFERENTIAL], fields[MOVE] = flip, differential, hint
    fields[ROW_FIRST], fields[ROW_SECOND] = rows[0], rows[1]
    return error


@njit(**BARE)
def _hint_colour(px, effort, fields, scratch):
    """Set the hints of an ETC1 block that shows px (16, 4) well; colours are moved from effort 1 on, of all ways at 2."""
    sums = scratch[0]
    movable = MODES[fields[MODE], BIAS] > 0
    best = np.int64(1) << 40
    for way in range(4):
        mean_colours(px, way & 1, sums)
        best = _try_hint(px, way, _LEAST if movable else -1, best, fields, scratch)
    chosen = fields[DIFFERENTIAL] << 1 | fields[FLIP]
    for way in range(4 if movable and effort > 0 else 0):
        if effort > 1 or way == chosen:
            mean_colours(px, way & 1, sums)
            for hint in range(32):
                best = _try_hint(px, way, hint, best, fields, scratch)


@njit(**BARE)
def _step(row, index):
    """Return a modifier of a row, the darkest first."""
    large, small = MODIFIERS[row, 1], MODIFIERS[row, 0]
    return (-large, -small, small, large)[index]


@njit(**BARE)
def _hint_solid(solid, fields):
    """Set the hints of an ETC1 block that shows one colour, (4,), best."""
    best = np.int64(1) << 40
    for way in range(64):
        differential, row, index = way & 1, way >> 1 & 7, way >> 4
        limit, error, step = 31 if differential else 15, 0, _step(row, index)
        for c in range(3):
            wanted = min(max(solid[c] - step, 0), 255)
            code = (wanted * limit * 2 + 255) // 510
            miss = min(max(widened(code, differential) + step, 0), 255) - solid[c]
            error += miss * miss
        if error < best:
            best = error
            fields[DIFFERENTIAL], fields[ROW_FIRST], fields[INDEX] = differential, row, index
            for c in range(3):
                wanted = min(max(solid[c] - step, 0), 255)
                fields[RED5 + c] = (wanted * limit * 2 + 255) // 510


@njit(**BARE)
def alpha_base(low, high, row):
    """Return the base of an EAC block whose row of steps, times a factor, spans what lies from `low` to `high`."""
    below, span = -STEPS[row, 3], STEPS[row, 7] - STEPS[row, 3]
    return np.int64(np.rint(np.float32(low) + np.float32(high - low) * (np.float32(below) / np.float32(span))))


@njit(**BARE)
def _hint_alpha(px, fields):
    """Set the hint of an EAC block that shows the alpha of px (16, 4) well."""
    low, high = px[0, 3], px[0, 3]
    for i in range(16):
        low, high = min(low, px[i, 3]), max(high, px[i, 3])
    if low == high:
        fields[ALPHA_HINT] = 0x1D
        return
    best = np.int64(1) << 40
    for row in range(16):
        base, span = alpha_base(low, high, row), STEPS[row, 7] - STEPS[row, 3]
        for more in range(3):
            factor = (high - low) // span + more
            if factor < 1 or factor > 15:
                continue
            error = 0
            for i in range(16):
                least = np.int64(1) << 40
                for k in range(8):
                    miss = min(max(base + factor * STEPS[row, k], 0), 255) - px[i, 3]
                    least = min(least, miss * miss)
                error += least
            if error < best:
                best, fields[ALPHA_HINT] = error, factor << 4 | row


@njit(**BARE)
def hinted_rows(blocks, effort, start, stop, out, scratch):
    """Make UASTC blocks of rows [start, stop) of ASTC ones (rows, columns, 16) uint8 of the kinds that it has, into `out` alike.

    Parameters
    ----------
    effort : 0, 1 or 2, how far hints are searched; scratch : of `hinting_scratch`
    """
    words, turned, fields, solid, ends, weights, px, colours = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            parse_astc(words, turned, fields, solid, ends, weights)
            paint(fields, solid, ends, weights, px)
            if fields[MODE] == SOLID:
                _hint_solid(solid, fields)
            else:
                _hint_colour(px, effort, fields, colours)
                if MODES[fields[MODE], KIND] != RGB:
                    _hint_alpha(px, fields)
            pack(fields, solid, ends, weights, words)
            bytes_of(words, out[by, bx])


def hinting_scratch() -> tuple[Any, ...]:
    """Return what `hinted_rows` works in."""
    return (
        np.empty(2, np.uint64), np.empty(2, np.uint64), np.empty(FIELDS, np.int64), np.empty(4, np.int64),
        np.empty(24, np.int64), np.empty(36, np.int64), np.empty((16, 4), np.int64),
        (np.empty((2, 3), np.int64), np.empty((2, 3), np.int64), np.empty(16, np.int64), np.empty(2, np.int64)),
    )  # fmt: skip
