"""Ends and steps of many subsets of a BC7 block at once, each in a lane of its own.

A fit of one subset is a chain of short steps that wait for each other. Of sixteen at once, in arrays whose last axis is the
lane, every step is one instruction of a processor's vector unit, and none waits. Channels that a fit leaves alone have no
weight in its lane; alpha that no lane needs is left out for all.

What belongs together stands in one flat array, row after row of lanes: only where a compiler sees that rows do not overlap
does it take them as vectors.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.codecs.lines import along_principal
from oaktrim.core.kernels import njit

LANES = 16
# How often ends may be rounded at most, and fitted again in between.
TURNS = 4
# The rows of the second, third and fourth channel behind that of the first.
_G, _B, _A = LANES, 2 * LANES, 3 * LANES
# Second and third group of four rows.
_BACK, _MEAN = 4 * LANES, 8 * LANES
# What a step away from alpha 0 or 255 costs beside its square: clear stays clear and opaque opaque.
EXACT = np.float32(1e6)

# Places of rows in what is asked: of 16 pixels whether they are in the subset; of 4 channels the root of what a squared error
# counts, the highest code without a parity bit, codes a value, and what a code is multiplied by for its value and for the bits
# repeated below it; how many codes a parity bit leaves apart, 1 without one; whether both ends share it; what its being zero
# costs; the highest step.
MEMBER, ROOT, HIGHEST, CODES, VALUE, BELOW, APART, SHARED, FORCED, LAST, _ASKED = (
    LANES * row for row in (0, 16, 20, 24, 28, 32, 36, 37, 38, 39, 40)
)


def lanes() -> tuple[NDArray[np.float32], ...]:
    """Return what `fit_lanes` takes, flat arrays of rows of lanes: what is asked, what is got, and its scratch.

    What is got: steps of 16 pixels, codes of 2 ends by 4 channels without parity bits, 2 parity bits, all of each turn; then
    the least squared error, and the turn that it came with.
    """
    rows = (_ASKED // LANES, 16 * TURNS, 8 * TURNS, 2 * TURNS, 1, 1, 1, 8, 8, 16, 4, 12, 2, 15, 16)
    return tuple(np.zeros(LANES * count, np.float32) for count in rows)


@njit(**BARE, fastmath=FAST, inline="never")
def _gather(members, places, asked):
    """Fill in whether each pixel is in the subset of each lane; see `fit_lanes`."""
    for i in range(16):
        for l in range(LANES):
            asked[MEMBER + LANES * i + l] = members[places[l] + i]


@njit(**BARE, fastmath=FAST, inline="never")
def _sum_up(feature, four, asked, sums):
    """Fill sums (15 rows) with the moments of all subsets; feature (15, 16) as `partitions.moments` fills it."""
    for row in range(15):
        for l in range(LANES):
            sums[LANES * row + l] = np.float32(0.0)
    for i in range(16):
        at = MEMBER + LANES * i
        count, r, g, b = feature[0, i], feature[1, i], feature[2, i], feature[3, i]
        rr, rg, rb, gg, gb, bb = (
            feature[4, i],
            feature[5, i],
            feature[6, i],
            feature[7, i],
            feature[8, i],
            feature[9, i],
        )
        a, ra, ga, ba, aa = feature[10, i], feature[11, i], feature[12, i], feature[13, i], feature[14, i]
        for l in range(LANES):
            mine = asked[at + l]
            sums[l] += count * mine
            sums[_G + l] += r * mine
            sums[2 * _G + l] += g * mine
            sums[3 * _G + l] += b * mine
            sums[4 * _G + l] += rr * mine
            sums[5 * _G + l] += rg * mine
            sums[6 * _G + l] += rb * mine
            sums[7 * _G + l] += gg * mine
            sums[8 * _G + l] += gb * mine
            sums[9 * _G + l] += bb * mine
            if four:
                sums[10 * _G + l] += a * mine
                sums[11 * _G + l] += ra * mine
                sums[12 * _G + l] += ga * mine
                sums[13 * _G + l] += ba * mine
                sums[14 * _G + l] += aa * mine


@njit(**BARE, fastmath=FAST, inline="never")
def _lay_lines(px, means, four, asked, sums, axis, span, line):
    """Lay lines through the colours of all subsets along their principal axes, found by power iteration.

    Parameters
    ----------
    means : (4,), the block's; sums : (15 rows) the moments of the subsets about it
    axis : scratch (12 rows) for an axis, its way back and the mean, by channel; span : (2 rows) for the least and most along it
    line : (8 rows) the ends, by channel
    """
    mean_r, mean_g, mean_b, mean_a = means[0], means[1], means[2], means[3]
    for l in range(LANES):
        share = np.float32(1.0) / max(sums[l], np.float32(1.0))
        r, g, b, a = sums[_G + l], sums[2 * _G + l], sums[3 * _G + l], sums[10 * _G + l]
        root_r, root_g = asked[ROOT + l], asked[ROOT + _G + l]
        root_b, root_a = asked[ROOT + _B + l], asked[ROOT + _A + l]
        rr = (sums[4 * _G + l] - r * r * share) * root_r * root_r
        rg = (sums[5 * _G + l] - r * g * share) * root_r * root_g
        rb = (sums[6 * _G + l] - r * b * share) * root_r * root_b
        gg = (sums[7 * _G + l] - g * g * share) * root_g * root_g
        gb = (sums[8 * _G + l] - g * b * share) * root_g * root_b
        bb = (sums[9 * _G + l] - b * b * share) * root_b * root_b
        ra = ga = ba = aa = np.float32(0.0)
        if four:
            ra = (sums[11 * _G + l] - r * a * share) * root_r * root_a
            ga = (sums[12 * _G + l] - g * a * share) * root_g * root_a
            ba = (sums[13 * _G + l] - b * a * share) * root_b * root_a
            aa = (sums[14 * _G + l] - a * a * share) * root_a * root_a
        x, y, z, w = along_principal(rr, rg, rb, ra, gg, gb, ga, bb, ba, aa)
        length = np.float32(1.0) / max(x * x + y * y + z * z + w * w, np.float32(1e-20))
        axis[l], axis[_G + l], axis[_B + l], axis[_A + l] = (
            x * length * root_r, y * length * root_g, z * length * root_b, w * length * root_a,
        )  # fmt: skip
        # Channels without a weight stay at their mean.
        least = np.float32(1e-6)
        axis[_BACK + l], axis[_BACK + _G + l] = x / max(root_r, least), y / max(root_g, least)
        axis[_BACK + _B + l], axis[_BACK + _A + l] = z / max(root_b, least), w / max(root_a, least)
        axis[_MEAN + l], axis[_MEAN + _G + l] = mean_r + r * share, mean_g + g * share
        axis[_MEAN + _B + l], axis[_MEAN + _A + l] = mean_b + b * share, mean_a + a * share
        span[l] = np.float32(0.0)
        span[_G + l] = np.float32(0.0)
    for i in range(16):
        r, g, b, a = px[0, i], px[1, i], px[2, i], px[3, i]
        at = MEMBER + LANES * i
        for l in range(LANES):
            along = (r - axis[_MEAN + l]) * axis[l] + (g - axis[_MEAN + _G + l]) * axis[_G + l]
            along += (b - axis[_MEAN + _B + l]) * axis[_B + l]
            if four:
                along += (a - axis[_MEAN + _A + l]) * axis[_A + l]
            # Pixels of other subsets stand at the mean, which is between the ends.
            along *= asked[at + l]
            span[l] = min(span[l], along)
            span[_G + l] = max(span[_G + l], along)
    for e in range(2):
        for c in range(4):
            row, end, side = LANES * c, LANES * (4 * e + c), LANES * e
            for l in range(LANES):
                line[end + l] = axis[_MEAN + row + l] + span[side + l] * axis[_BACK + row + l]


@njit(**BARE, fastmath=FAST, inline="never")
def _round_lines(four, asked, line, tried, missed, codes, parities, decoded):
    """Round the ends of lines to codes, with the parity bits whose rounding moves the ends least.

    Parameters
    ----------
    codes (8 rows), parities (2 rows) : filled with what the ends are rounded to
    line, decoded : (8 rows), the ends by channel, and as the codes decode
    tried, missed : scratch (16 and 4 rows), of both ends with both parity bits
    """
    channels = 4 if four else 3
    zero = np.float32(0.0)
    for e in range(2):
        for c in range(channels):
            row, end, even = LANES * c, LANES * (4 * e + c), LANES * (8 * e + c)
            cost_even = 2 * LANES * e
            exact = EXACT * EXACT if c == 3 else zero
            begun, fresh = (np.float32(1.0), zero) if c > 0 else (zero, np.float32(1.0))
            for l in range(LANES):
                apart, highest, root = asked[APART + l], asked[HIGHEST + row + l], asked[ROOT + row + l]
                per_code, below = asked[VALUE + row + l], asked[BELOW + row + l]
                wanted = line[end + l]
                value = min(max(wanted, zero), np.float32(255.0))
                # An end of alpha that is clear or whole is to stay so.
                held = exact if abs(wanted - np.float32(127.5)) >= np.float32(127.5) else zero
                code = value * asked[CODES + row + l] / apart + np.float32(0.5)
                more = apart - np.float32(1.0)
                first, second = (
                    min(np.floor(code), highest),
                    min(max(np.floor(code - more * np.float32(0.5)), zero), highest),
                )
                tried[even + l], tried[even + 4 * _G + l] = first, second
                first, second = first * apart, second * apart + more
                cost = (first * per_code + np.floor(first * below) - value) * root
                cost *= cost
                cost += held if cost > zero else zero
                missed[cost_even + l] = missed[cost_even + l] * begun + asked[FORCED + l] * fresh + cost
                cost = (second * per_code + np.floor(second * below) - value) * root
                cost *= cost
                cost += held if cost > zero else zero
                missed[cost_even + _G + l] = missed[cost_even + _G + l] * begun + cost
    for e in range(2):
        mine, its = 2 * LANES * e, 2 * LANES * (1 - e)
        parity_row = LANES * e
        for l in range(LANES):
            more = missed[mine + _G + l] - missed[mine + l]
            other = missed[its + _G + l] - missed[its + l]
            more += other * asked[SHARED + l]
            parities[parity_row + l] = np.float32(1.0) if more < zero else zero
        for c in range(channels):
            row, end, even = LANES * c, LANES * (4 * e + c), LANES * (8 * e + c)
            for l in range(LANES):
                parity, apart = parities[parity_row + l], asked[APART + l]
                # Both are whole numbers, so this takes the one or the other.
                code = tried[even + l] + (tried[even + 4 * _G + l] - tried[even + l]) * parity
                codes[end + l] = code
                code = code * apart + parity * (apart - np.float32(1.0))
                decoded[end + l] = code * asked[VALUE + row + l] + np.floor(code * asked[BELOW + row + l])


@njit(**BARE, fastmath=FAST, inline="never")
def _select_indices(px, weight, strict, four, asked, decoded, axis, span, steps, errors):
    """Give each pixel the nearest step between the decoded ends, and say what is missed.

    Parameters
    ----------
    steps : (16 rows), filled
    axis : scratch (12 rows): by channel the way to a step, to a value, and what counts; span : scratch (2 rows)
    """
    half = np.float32(0.5)
    for l in range(LANES):
        span[l] = np.float32(1e-6)
        errors[l] = np.float32(0.0)
    for c in range(4 if four else 3):
        row = LANES * c
        for l in range(LANES):
            d = decoded[4 * _G + row + l] - decoded[row + l]
            count = asked[ROOT + row + l] * asked[ROOT + row + l]
            axis[row + l] = d * count
            axis[_BACK + row + l] = d * np.float32(1.0 / 64.0)
            axis[_MEAN + row + l] = count
            span[l] += d * d * count
    for l in range(LANES):
        length = asked[LAST + l] / span[l]
        axis[l] *= length
        axis[_G + l] *= length
        axis[_B + l] *= length
        axis[_A + l] *= length
        span[_G + l] = np.float32(64.0) / asked[LAST + l]
    for i in range(16):
        r, g, b, a, counts, exact = px[0, i], px[1, i], px[2, i], px[3, i], weight[i], strict[i]
        row = LANES * i
        for l in range(LANES):
            miss_r, miss_g, miss_b, miss_a = decoded[l] - r, decoded[_G + l] - g, decoded[_B + l] - b, np.float32(0.0)
            along = half - miss_r * axis[l] - miss_g * axis[_G + l] - miss_b * axis[_B + l]
            if four:
                miss_a = decoded[_A + l] - a
                along -= miss_a * axis[_A + l]
            step = np.floor(min(max(along, np.float32(0.0)), asked[LAST + l]))
            steps[row + l] = step
            # Codes are whole numbers, so the rounding of a value is that of its distance.
            w = np.floor(step * span[_G + l] + half)
            miss_r = np.floor(miss_r + w * axis[_BACK + l] + half)
            miss_g = np.floor(miss_g + w * axis[_BACK + _G + l] + half)
            miss_b = np.floor(miss_b + w * axis[_BACK + _B + l] + half)
            error = miss_r * miss_r * axis[_MEAN + l] + miss_g * miss_g * axis[_MEAN + _G + l]
            error = counts * (error + miss_b * miss_b * axis[_MEAN + _B + l])
            if four:
                miss_a = np.floor(miss_a + w * axis[_BACK + _A + l] + half)
                error += (miss_a * miss_a + exact * min(abs(miss_a), np.float32(1.0))) * axis[_MEAN + _A + l]
            errors[l] += asked[MEMBER + row + l] * error


@njit(**BARE, fastmath=FAST, inline="never")
def _refit_lines(px, weight, four, asked, steps, shared, sums, axis, line):
    """Fit the ends of lines (8 rows) by least squares to steps (16 rows), where there is anything to fit.

    Parameters
    ----------
    shared : scratch (16 rows), what each pixel counts for the second end
    sums : scratch (16 rows); axis : scratch (3 rows)
    """
    for half in range(2 if four else 1):
        for row in range(3):
            for l in range(LANES):
                axis[LANES * row + l] = np.float32(0.0)
        for i in range(16):
            counts = weight[i] if half == 0 else np.float32(1.0)
            row = LANES * i
            for l in range(LANES):
                share = steps[row + l] / asked[LAST + l]
                whole = counts * asked[MEMBER + row + l]
                shared[row + l] = whole * share
                axis[l] += whole
                axis[_G + l] += whole * share
                axis[_B + l] += whole * share * share
        for c in range(3 * half, 3 + half):
            for l in range(LANES):
                sums[l] = np.float32(0.0)
                sums[_G + l] = np.float32(0.0)
            for i in range(0, 16, 2):
                one, two, row = px[c, i], px[c, i + 1], LANES * i
                counts, more = (weight[i], weight[i + 1]) if half == 0 else (np.float32(1.0), np.float32(1.0))
                counts, more = counts * one, more * two
                for l in range(LANES):
                    sums[l] += one * shared[row + l] + two * shared[row + _G + l]
                    sums[_G + l] += counts * asked[MEMBER + row + l] + more * asked[MEMBER + row + _G + l]
            low, high = LANES * c, LANES * (4 + c)
            for l in range(LANES):
                # What counts of the first end is what the second leaves.
                bb = axis[_B + l]
                ab = axis[_G + l] - bb
                aa = axis[l] - axis[_G + l] - ab
                bv = sums[l]
                av = sums[_G + l] - bv
                det = aa * bb - ab * ab
                share = np.float32(1.0) / max(det, np.float32(1e-3))
                first, second = line[low + l], line[high + l]
                line[low + l] = (av * bb - bv * ab) * share if det >= np.float32(1e-3) else first
                line[high + l] = (bv * aa - av * ab) * share if det >= np.float32(1e-3) else second


@njit(**BARE, fastmath=FAST, inline="never")
def fit_lanes(
    px, means, feature, weight, strict, four, turns, members, places,
    asked, steps, codes, parities, errors, turned, missed, line, decoded, tried, costs, axis, span, sums, shared,
):  # fmt: skip
    """Fit ends and steps of all lanes, as `asked`; from `steps` to `turned` stands what is got, the rest is scratch.

    Parameters
    ----------
    px : (4, 16) float32; means : (4,), the block's; feature : (15, 16), as `partitions.moments` fills both
    weight, strict : (16,) float32, what a pixel counts for in colour, and what an error of its alpha costs besides
    four : whether alpha counts in any lane
    turns : how often ends are rounded, and fitted again before the next time
    members : (n,) float32, whether pixels are in a subset, sixteen of each; places : (LANES,) int64, where those asked for begin
    """
    _gather(members, places, asked)
    _sum_up(feature, four, asked, sums)
    _lay_lines(px, means, four, asked, sums, axis, span, line)
    mine = steps
    for turn in range(turns):
        if turn > 0:
            _refit_lines(px, weight, four, asked, mine, shared, sums, axis, line)
        # Slices, since rows that begin where a turn says are not seen to be whole rows, and are not taken as vectors.
        mine = steps[16 * LANES * turn :]
        _round_lines(four, asked, line, tried, costs, codes[8 * LANES * turn :], parities[2 * LANES * turn :], decoded)
        _select_indices(px, weight, strict, four, asked, decoded, axis, span, mine, missed)
        for l in range(LANES):
            better = turn == 0 or missed[l] < errors[l]
            error, before = errors[l], turned[l]
            errors[l] = missed[l] if better else error
            turned[l] = np.float32(turn) if better else before
