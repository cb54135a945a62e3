"""The search of the BC7 encoder: which mode, which subsets, which ends.

Subsets are ranked by how far their colours are from a line; ends start on the principal axis, are refitted by least
squares to the steps that they choose, and at fine effort walked by single codes.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from oaktrim.core.codecs.blocks import (
    COVERS,
    FAST,
    bytes_of,
    copy_flat,
    load_block,
    put_bits,
    set_roots,
    weigh_by_alpha,
)
from oaktrim.core.codecs.lines import axis_line, refit
from oaktrim.core.codecs.partitions import rank_partitions, ranking_scratch

_FAR = np.float32(3e38)
# What a step away from alpha 0 or 255 costs beside its square: clear stays clear and opaque opaque.
_EXACT = np.float32(1e6)


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def _quantise(line, low, high, bits, parity, codes, parities, decoded):
    """Round the ends line (2, 4) to codes; with parity bits, to those whose rounding moves the ends least.

    Parameters
    ----------
    bits : (4,) of each channel, without the parity bit; parity : 0, 1 or 2, as in MODES
    codes, parities : (2, 4) and (2,) int64; decoded : (2, 4) float32, the ends as decoded
    """
    if parity == 0:
        for e in range(2):
            for c in range(low, high):
                top = np.float32((1 << bits[c]) - 1)
                code = np.int64(
                    min(max(line[e, c], np.float32(0)), np.float32(255)) * top / np.float32(255) + np.float32(0.5)
                )
                codes[e, c] = code
                decoded[e, c] = np.float32(code << (8 - bits[c]) | code >> (2 * bits[c] - 8))
        return
    best = _FAR
    choices = 4 if parity == 1 else 2
    pick = 0
    cost = np.zeros((2, 2), np.float32)
    for e in range(2):
        for p in range(2):
            for c in range(low, high):
                wide = bits[c] + 1
                value = min(max(line[e, c], np.float32(0)), np.float32(255))
                code = np.int64(
                    (value * np.float32((1 << wide) - 1) / np.float32(255) - p) * np.float32(0.5) + np.float32(0.5)
                )
                code = min(max(code, 0), (1 << bits[c]) - 1) << 1 | p
                d = np.float32(code << (8 - wide) | code >> (2 * wide - 8)) - value
                if c == 3 and (line[e, c] >= np.float32(255) or line[e, c] <= np.float32(0)) and d != 0:
                    d += _EXACT
                cost[e, p] += d * d
    for k in range(choices):
        first, second = (k & 1, k >> 1) if parity == 1 else (k, k)
        total = cost[0, first] + cost[1, second]
        if total < best:
            best, pick = total, k
    for e in range(2):
        p = (pick >> e) & 1 if parity == 1 else pick
        parities[e] = p
        for c in range(low, high):
            wide = bits[c] + 1
            value = min(max(line[e, c], np.float32(0)), np.float32(255))
            code = np.int64(
                (value * np.float32((1 << wide) - 1) / np.float32(255) - p) * np.float32(0.5) + np.float32(0.5)
            )
            code = min(max(code, 0), (1 << bits[c]) - 1)
            codes[e, c] = code
            code = code << 1 | p
            decoded[e, c] = np.float32(code << (8 - wide) | code >> (2 * wide - 8))


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def _choose(px, masks, roots, strict, guarded, low, high, decoded, last, steps):
    """Give each pixel of a subset the nearest of `last` + 1 steps between the decoded ends; return the squared error.

    Parameters
    ----------
    masks : (2, 16) what each pixel counts for in the subset, as in `refit`
    roots : (4,) the root of what a squared error of each channel counts
    strict : (16,) what any error of the channel `guarded` costs beside its square
    steps : (16,) float32, filled for all pixels
    """
    length = np.float32(0.0)
    for c in range(low, high):
        d = (decoded[1, c] - decoded[0, c]) * roots[c]
        length += d * d
    scale = last / max(length, np.float32(1e-6))
    for i in range(16):
        steps[i] = np.float32(0.5)
    for c in range(low, high):
        first = decoded[0, c]
        d = (decoded[1, c] - first) * scale * roots[c] * roots[c]
        for i in range(16):
            steps[i] += (px[c, i] - first) * d
    for i in range(16):
        steps[i] = np.floor(min(max(steps[i], np.float32(0.0)), last))
    error = np.float32(0.0)
    part = np.float32(64.0) / last
    for c in range(low, high):
        first = decoded[0, c]
        d = (decoded[1, c] - first) * np.float32(1.0 / 64.0)
        guard = np.float32(1.0) if c == guarded else np.float32(0.0)
        scale, mask = roots[c] * roots[c], masks[1 if c == guarded else 0]
        for i in range(16):
            w = np.floor(steps[i] * part + np.float32(0.5))
            miss = np.floor(first + w * d + np.float32(0.5)) - px[c, i]
            error += mask[i] * (scale * miss * miss + guard * strict[i] * min(abs(miss), np.float32(1.0)))
    return error


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def _walk(px, masks, roots, strict, guarded, low, high, bits, parity, parities, last, codes, decoded, steps, best):
    """Walk the codes of the ends by single ones until nothing is gained; return the error. `steps` has two rows."""
    for _ in range(4):
        gained = False
        for e in range(2):
            for c in range(low, high):
                for way in (-1, 1):
                    code = codes[e, c] + way
                    if code < 0 or code >= 1 << bits[c]:
                        continue
                    wide = bits[c] + (1 if parity else 0)
                    full = code << 1 | parities[e] if parity else code
                    kept = decoded[e, c]
                    decoded[e, c] = np.float32(full << (8 - wide) | full >> (2 * wide - 8))
                    error = _choose(px, masks, roots, strict, guarded, low, high, decoded, last, steps[1])
                    if error < best:
                        best, gained = error, True
                        codes[e, c] = code
                        copy_flat(steps[1], steps[0])
                    else:
                        decoded[e, c] = kept
        if not gained:
            break
    return best


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def _fit(px, masks, roots, strict, guarded, low, high, bits, parity, last, rounds, walk, work, codes, parities, steps):
    """Fit ends and steps of one subset; return the squared error. Fills codes (2, 4), parities (2,) and steps (16,)."""
    line, covariance, axis, decoded, found, trial_codes, trial_parities = work
    axis_line(px, masks[1], low, high, roots, covariance, axis, line)
    best = _FAR
    for turn in range(rounds):
        _quantise(line, low, high, bits, parity, trial_codes, trial_parities, decoded)
        error = _choose(px, masks, roots, strict, guarded, low, high, decoded, last, found[0])
        if error >= best:
            break
        best = error
        copy_flat(trial_codes, codes)
        copy_flat(trial_parities, parities)
        copy_flat(found[0], steps)
        if best == 0 or turn == rounds - 1 or not refit(px, masks, guarded, low, high, last, found[0], line):
            break
    if walk and best > 0:
        for e in range(2):
            for c in range(low, high):
                wide = bits[c] + (1 if parity else 0)
                full = codes[e, c] << 1 | parities[e] if parity else codes[e, c]
                decoded[e, c] = np.float32(full << (8 - wide) | full >> (2 * wide - 8))
        copy_flat(steps, found[0])
        best = _walk(px, masks, roots, strict, guarded, low, high, bits, parity, parities, last, codes, decoded, found, best)
        copy_flat(found[0], steps)
    return best


@njit(nogil=True, cache=True)
def _write(mode, modes, anchors, parts, partition, rotation, selector, codes, parities, steps, words, block):
    """Write a block from what was found; codes (3, 2, 4), parities (3, 2), steps (2, 16)."""
    row = modes[mode]
    subsets = row[0]
    words[0] = np.uint64(0)
    words[1] = np.uint64(0)
    for s in range(subsets):
        for plane in range(2):
            bits = row[7 + plane]
            # The selector exchanges which plane has which count of bits.
            if selector:
                bits = row[8 - plane]
            if bits == 0 or (row[8] == 0 and plane == 1):
                continue
            last = (1 << bits) - 1
            if steps[plane, anchors[subsets, partition, s]] <= last // 2:
                continue
            for i in range(16):
                if parts[subsets, partition, i] == s:
                    steps[plane, i] = last - steps[plane, i]
            for c in range(4):
                if row[8] == 0 or (c == 3) == (plane == 1):
                    codes[s, 0, c], codes[s, 1, c] = codes[s, 1, c], codes[s, 0, c]
            if row[6] == 1:
                parities[s, 0], parities[s, 1] = parities[s, 1], parities[s, 0]
    at = put_bits(words, 0, 1 << mode, mode + 1)
    at = put_bits(words, at, partition, row[1])
    at = put_bits(words, at, rotation, row[2])
    at = put_bits(words, at, selector, row[3])
    for c in range(4):
        for s in range(subsets):
            for e in range(2):
                at = put_bits(words, at, codes[s, e, c], row[4] if c < 3 else row[5])
    for s in range(subsets):
        if row[6] > 0:
            at = put_bits(words, at, parities[s, 0], 1)
        if row[6] == 1:
            at = put_bits(words, at, parities[s, 1], 1)
    for turn in range(2 if row[8] > 0 else 1):
        plane = 1 - turn if selector else turn
        bits = row[7 + turn]
        for i in range(16):
            short = 0
            for s in range(subsets):
                if anchors[subsets, partition, s] == i:
                    short = 1
            at = put_bits(words, at, np.int64(steps[plane, i]), bits - short)
    bytes_of(words, block)


@njit(nogil=True, cache=True)
def _look(px, covers, weight, strict):
    """Where alpha covers, give clear pixels the mean colour of the others, which nobody sees; fill weight and strict (16,).

    Returns whether the block is opaque, and how far its pixels are apart: 0 where they are all the same.
    """
    seen, clear = 0, 0
    opaque = True
    weigh_by_alpha(px, covers, weight)
    for i in range(16):
        alpha = px[3, i]
        opaque &= alpha == 255
        strict[i] = _EXACT if alpha == 0 or alpha == 255 else np.float32(0.0)
        if alpha > 0:
            seen += 1
        else:
            clear += 1
    # A block that is wholly clear keeps its colours: filtering may bring them to its neighbours' edges.
    if covers and clear > 0 and seen > 0:
        for c in range(3):
            total = np.float32(0.0)
            for i in range(16):
                if px[3, i] > 0:
                    total += px[c, i]
            mean = np.floor(total / np.float32(seen) + np.float32(0.5))
            for i in range(16):
                if px[3, i] == 0:
                    px[c, i] = mean
    apart = np.float32(0.0)
    for c in range(4):
        for i in range(1, 16):
            apart += abs(px[c, i] - px[c, 0])
    return opaque, apart


@njit(nogil=True, cache=True)
def _solid(px, single, codes, steps):
    """Set codes and steps of mode 5 for one colour; `single` (256, 2) holds the ends whose second step is a value."""
    for c in range(3):
        for e in range(2):
            codes[0, e, c] = single[np.int64(px[c, 0]), e]
    for e in range(2):
        codes[0, e, 3] = np.int64(px[3, 0])
    for i in range(16):
        steps[0, i] = np.float32(1.0)
        steps[1, i] = np.float32(0.0)


# Of each mode: how many partitions, or rotations and selectors, are tried at an effort; opaque blocks, then others.
PLANS = np.array(
    [
        [[0, 1, 0, 0, 0, 0, 1, 0], [1, 1, 1, 0, 0, 0, 1, 0], [3, 8, 4, 2, 8, 1, 1, 0]],
        [[0, 0, 0, 0, 0, 1, 1, 0], [0, 0, 0, 0, 1, 4, 1, 4], [0, 0, 0, 0, 8, 4, 1, 16]],
    ],
    np.int64,
)
# The order in which modes are tried: those that win most often first, so that the rest can be left out early.
_ORDER = (6, 1, 5, 4, 3, 7, 0, 2)
# Squared error of a block below which an effort looks no further than mode 6.
_ENOUGH = (160.0, 24.0, 0.0)


@njit(nogil=True, cache=True)
def _note(row, mode, partition, rotation, selector):
    row[0] = mode
    row[1] = partition
    row[2] = rotation
    row[3] = selector


@njit(nogil=True, cache=True)
def _candidates(px, opaque, plan, modes, two, three, ranking_two, ranking_three, order, listed):
    """List what is worth trying as rows (mode, partition, rotation, selector); return how many there are."""
    count = 0
    ranked_two = ranked_three = -1
    channels = 3 if opaque else 4
    # As many threefold ones as leave mode 0 some of the sixteen that it knows.
    most = (max(plan[1], max(plan[3], plan[7])), np.int64(32))
    for mode in _ORDER:
        tries = plan[mode]
        if tries == 0:
            continue
        subsets = modes[mode, 0]
        if subsets == 1:
            for k in range(tries):
                _note(listed[count], mode, 0, k & 3, k >> 2)
                count += 1
            continue
        if subsets == 2 and ranked_two < 0:
            ranked_two = rank_partitions(px, channels, two, most[0], ranking_two, order[0])
        if subsets == 3 and ranked_three < 0:
            ranked_three = rank_partitions(px, channels, three, most[1], ranking_three, order[1])
        ranked = ranked_two if subsets == 2 else ranked_three
        for k in range(ranked):
            partition = order[subsets - 2, k]
            # Mode 0 knows the first sixteen only.
            if tries > 0 and partition < 1 << modes[mode, 1]:
                _note(listed[count], mode, partition, 0, 0)
                count += 1
                tries -= 1
    return count


@njit(nogil=True, cache=True)
def _turn(px, roots, rotation, turned, turned_roots):
    """Fill turned (4, 16) and turned_roots (4,) with px and roots where alpha and a colour have changed places."""
    copy_flat(px, turned)
    copy_flat(roots, turned_roots)
    if rotation:
        copy_flat(px[rotation - 1], turned[3])
        copy_flat(px[3], turned[rotation - 1])
        turned_roots[3], turned_roots[rotation - 1] = roots[rotation - 1], roots[3]


@njit(nogil=True, cache=True)
def encode_rows(pixels, effort, heed, tables, start, stop, out, told):
    """Encode block rows [start, stop) of pixels (H, W, 4) uint8 into `out` (rows, columns, 16) uint8; `told` their errors.

    `effort` is 0, 1 or 2; `heed` (5,) float32 is what `heed_of` returns, and `tables` what `bc7` keeps for it.
    """
    modes, parts, anchors, plans, two, three, single = tables
    px, turned, strict = np.empty((4, 16), np.float32), np.empty((4, 16), np.float32), np.zeros(16, np.float32)
    masks, weight = np.ones((2, 16), np.float32), np.ones(16, np.float32)
    roots, turned_roots = np.ones(4, np.float32), np.ones(4, np.float32)
    ranking_two, ranking_three = ranking_scratch(16, 64), ranking_scratch(16, 64)
    order, listed = np.empty((2, 64), np.int64), np.empty((128, 4), np.int64)
    work = (
        np.zeros((2, 4), np.float32), np.zeros((5, 4), np.float32), np.zeros((2, 4), np.float32),
        np.zeros((2, 4), np.float32), np.zeros((2, 16), np.float32), np.zeros((2, 4), np.int64), np.zeros(2, np.int64),
    )  # fmt: skip
    got_codes, got_parities, got = np.zeros((2, 4), np.int64), np.zeros(2, np.int64), np.empty(16, np.float32)
    bits = np.zeros(4, np.int64)
    codes, parities, steps = np.zeros((3, 2, 4), np.int64), np.zeros((3, 2), np.int64), np.zeros((2, 16), np.float32)
    best_codes, best_parities, best_steps = codes.copy(), parities.copy(), steps.copy()
    words = np.zeros(2, np.uint64)
    rounds, enough = 2, _ENOUGH[effort]
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_block(pixels, bx, by, 4, 4, 4, px)
            opaque, apart = _look(px, heed[COVERS] > 0, weight, strict)
            if apart == 0:
                _solid(px, single, best_codes, best_steps)
                _write(5, modes, anchors, parts, 0, 0, 0, best_codes, best_parities, best_steps, words, out[by, bx])
                told[by, bx] = np.float32(0.0)
                continue
            set_roots(px, heed, roots)
            plan = plans[0 if opaque else 1, effort]
            _note(listed[0], 6, 0, 0, 0)
            count = 1
            best, chosen, at = _FAR, 0, 0
            while at <= count:
                if at == 1 and count == 1 and best > enough:
                    count = _candidates(px, opaque, plan, modes, two, three, ranking_two, ranking_three, order, listed)
                # After the last one, the best of them is walked to its end.
                walk = at == count
                if walk and (effort < 2 or best == 0):
                    break
                row = listed[chosen if walk else at]
                mode, partition, rotation, selector = row[0], row[1], row[2], row[3]
                if mode == 3 and effort == 1 and listed[chosen, 0] != 1:
                    at += 1
                    continue
                row = modes[mode]
                _turn(px, roots, rotation, turned, turned_roots)
                error = np.float32(0.0)
                for c in range(4):
                    bits[c] = row[4] if c < 3 else row[5]
                for fit in range(row[0] if row[8] == 0 else 2):
                    # One fit a subset, or one for the colours and one for what stands in alpha's place.
                    subset, plane = (fit, 0) if row[8] == 0 else (0, fit)
                    low, high = 0, 3 if row[5] == 0 else 4
                    if row[8] > 0:
                        low, high = (0, 3) if plane == 0 else (3, 4)
                    width = row[8 - plane] if selector else row[7 + plane]
                    for i in range(16):
                        mine = row[0] == 1 or parts[row[0], partition, i] == subset
                        masks[1, i] = np.float32(1.0) if mine else np.float32(0.0)
                        masks[0, i] = masks[1, i] * weight[i]
                    error += _fit(
                        turned, masks, turned_roots, strict, 3 if rotation == 0 else rotation - 1, low, high, bits, row[6],
                        np.float32((1 << width) - 1), 4 if walk else rounds, walk, work, got_codes, got_parities, got,
                    )  # fmt: skip
                    for i in range(16):
                        if masks[1, i] > 0:
                            steps[plane, i] = got[i]
                    for e in range(2):
                        parities[subset, e] = got_parities[e]
                        for c in range(low, high):
                            codes[subset, e, c] = got_codes[e, c]
                    if error >= best:
                        break
                if error < best:
                    best = error
                    chosen = chosen if walk else at
                    copy_flat(codes, best_codes)
                    copy_flat(parities, best_parities)
                    copy_flat(steps, best_steps)
                at += 1
                if best == 0:
                    break
            told[by, bx] = best
            row = listed[chosen]
            mode, partition, rotation, selector = row[0], row[1], row[2], row[3]
            _write(
                mode, modes, anchors, parts, partition, rotation, selector, best_codes, best_parities, best_steps,
                words, out[by, bx],
            )  # fmt: skip
