"""The search of the BC7 encoder: which mode, which subsets, which ends.

Subsets are ranked by how far their colours are from a line; many are then fitted at once, each in a lane (`lanes`), and the
block takes the mode whose lanes add up to the least.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.codecs.bc7.lanes import (
    APART,
    BELOW,
    CODES,
    EXACT,
    FORCED,
    HIGHEST,
    LANES,
    LAST,
    ROOT,
    SHARED,
    VALUE,
    fit_lanes,
    lanes,
)
from oaktrim.core.codecs.blocks import (
    ANGLE,
    BARE,
    COVERS,
    bytes_of,
    copy_flat,
    load_block,
    put_bits,
    set_roots,
    spaced,
    weigh_by_alpha,
)
from oaktrim.core.codecs.partitions import (
    best_partitions,
    flat_scratch,
    judge_partitions,
    lay_flat,
    moments,
    ranking_scratch,
)
from oaktrim.core.kernels import njit

_FAR = np.float32(3e38)


@njit(**BARE)
def write_block(
    mode, modes, anchors, marks, parts, partition, rotation, selector, codes, parities, steps, words, block
):
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
        bits, begin = row[7 + turn], at
        stream = np.uint64(0)
        for i in range(16):
            stream |= np.uint64(steps[plane, i]) << np.uint64(bits * i)
        # The highest bit of each anchor's index, which is zero, is left out, from the last one on.
        for k in range(subsets - 1, -1, -1):
            place = np.uint64(marks[subsets, partition, k] * bits + bits - 1)
            below = (np.uint64(1) << place) - np.uint64(1)
            stream = (stream & below) | (stream >> np.uint64(1) & ~below)
        at += 16 * bits - subsets
        words[begin >> 6] |= stream << np.uint64(begin & 63)
        if begin < 64 and at > 64:
            words[1] |= stream >> np.uint64(64 - begin)
    bytes_of(words, block)


@njit(**BARE)
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
        strict[i] = EXACT if alpha == 0 or alpha == 255 else np.float32(0.0)
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


@njit(**BARE)
def set_solid(px, single, codes, steps):
    """Set codes and steps of mode 5 for one colour; `single` (256, 2) holds the ends whose second step is a value."""
    for c in range(3):
        for e in range(2):
            codes[0, e, c] = single[np.int64(px[c, 0]), e]
    for e in range(2):
        codes[0, e, 3] = np.int64(px[3, 0])
    for i in range(16):
        steps[0, i] = np.float32(1.0)
        steps[1, i] = np.float32(0.0)


# Of each mode: how many partitions, or rotations and selectors, are tried at an effort; opaque blocks, then others. What
# fills the lanes costs no more than what leaves some empty.
PLANS = np.array(
    [
        [[0, 7, 0, 0, 0, 0, 1, 0], [2, 6, 3, 1, 0, 0, 1, 0], [5, 32, 16, 16, 8, 4, 1, 0]],
        [[0, 0, 0, 0, 2, 2, 1, 3], [0, 0, 0, 0, 3, 4, 1, 8], [0, 0, 0, 0, 8, 4, 1, 32]],
    ],
    np.int64,
)
# The order in which modes are tried: those that win most often first, and those of three subsets in the end.
_ORDER = (6, 1, 3, 5, 4, 7, 0, 2)
# Squared error of a block at which an effort looks no further; how often it fits the ends.
_ENOUGH, _TURNS = (160.0, 24.0, 0.0), (2, 2, 3)


@njit(**BARE)
def _candidates(flat, threefold, plan, modes, masks, ranking, order, listed):
    """List what is worth trying, of modes with three subsets or with fewer, as rows (mode, partition, rotation, selector).

    Return how many there are; flat (5, 16) float32 is what `lay_flat` fills.
    """
    count = 0
    judged = False
    for mode in _ORDER:
        tries, subsets = plan[mode], modes[mode, 0]
        if tries == 0 or (subsets == 3) != threefold:
            continue
        if subsets == 1:
            for k in range(tries):
                selectors = 1 + modes[mode, 3]
                _note(listed[count], mode, 0, k // selectors, k % selectors)
                count += 1
            continue
        if not judged:
            judge_partitions(flat, masks, ranking)
            judged = True
        # Mode 0 knows the first sixteen only.
        for k in range(best_partitions(ranking[3][: 1 << modes[mode, 1]], tries, order)):
            _note(listed[count], mode, order[k], 0, 0)
            count += 1
    return count


@njit(**BARE)
def _note(row, mode, partition, rotation, selector):
    row[0] = mode
    row[1] = partition
    row[2] = rotation
    row[3] = selector


@njit(**BARE)
def _fits(modes, mode):
    """Return how many fits a mode asks for: one a subset, or one for the colours and one for what stands in alpha's place."""
    return modes[mode, 0] if modes[mode, 8] == 0 else np.int64(2)


@njit(**BARE)
def _slot(channel, rotation):
    """Return where a channel stands: a rotation exchanges alpha with a colour."""
    if rotation == 0 or (channel != 3 and channel != rotation - 1):
        return channel
    return np.int64(3) if channel == rotation - 1 else rotation - 1


@njit(**BARE)
def _in_fit(modes, mode, fit, slot):
    """Say whether what stands in a slot belongs to a fit."""
    if modes[mode, 8] > 0:
        return (slot == 3) == (fit == 1)
    return slot < 3 or modes[mode, 5] > 0


@njit(**BARE)
def _ask(mode, partition, rotation, selector, fit, modes, roots, opaque, lane, kinds, places, asked):
    """Ask for one fit of a candidate in a lane.

    Parameters
    ----------
    kinds : (LANES,) int64, what was last asked for in each lane beside its subset
    places : (LANES,) int64, set to where the subset's pixels stand in the table of members
    """
    places[lane] = ((modes[mode, 0] * 64 + partition) * 3 + (np.int64(0) if modes[mode, 8] > 0 else fit)) * 16
    kind = (mode * 4 + rotation) * 8 + selector * 4 + fit * 2 + np.int64(opaque)
    if kinds[lane] == kind:
        return
    kinds[lane] = kind
    parity = 1 if modes[mode, 6] > 0 else 0
    for c in range(4):
        slot, at = _slot(c, rotation), LANES * c + lane
        bits = max(modes[mode, 4] if slot < 3 else modes[mode, 5], 4)
        wide = bits + parity
        asked[ROOT + at] = roots[c] if _in_fit(modes, mode, fit, slot) else np.float32(0.0)
        asked[HIGHEST + at] = np.float32((1 << bits) - 1)
        asked[CODES + at] = np.float32((1 << wide) - 1) / np.float32(255.0)
        asked[VALUE + at] = np.float32(1 << (8 - wide))
        asked[BELOW + at] = np.float32(1 << (8 - wide)) / np.float32(1 << wide)
    width = modes[mode, 7]
    if modes[mode, 8] > 0:
        width = modes[mode, 8 - fit] if selector else modes[mode, 7 + fit]
    asked[APART + lane] = np.float32(1 + parity)
    asked[SHARED + lane] = np.float32(1.0) if modes[mode, 6] == 2 else np.float32(0.0)
    # Where alpha stands in no lane, only parity bits of one keep it whole.
    asked[FORCED + lane] = EXACT * EXACT if opaque and parity and modes[mode, 5] > 0 else np.float32(0.0)
    asked[LAST + lane] = np.float32((1 << width) - 1)


@njit(**BARE, inline="never")
def _take(
    mode, partition, rotation, fit, modes, parts, opaque, lane, turn, got_steps, got_codes, got_parities,
    codes, parities, steps,
):  # fmt: skip
    """Put what was got in a lane into codes (3, 2, 4) by slot, parities (3, 2) and steps (2, 16)."""
    dual = modes[mode, 8] > 0
    subset, plane = (np.int64(0), fit) if dual else (fit, np.int64(0))
    for i in range(16):
        if dual or parts[modes[mode, 0], partition, i] == fit:
            steps[plane, i] = got_steps[LANES * (16 * turn + i) + lane]
    for e in range(2):
        parities[subset, e] = np.int64(got_parities[LANES * (2 * turn + e) + lane])
        for c in range(4):
            slot = _slot(c, rotation)
            if not _in_fit(modes, mode, fit, slot):
                continue
            code = np.int64(got_codes[LANES * (8 * turn + 4 * e + c) + lane])
            if opaque and c == 3:
                code = np.int64((1 << (modes[mode, 4] if slot < 3 else modes[mode, 5])) - 1)
            codes[subset, e, slot] = code


@spaced
def scratch() -> tuple[Any, ...]:
    """Return what `encode_rows` works in."""
    return (
        (np.empty((4, 16), np.float32), np.zeros(16, np.float32), np.ones(16, np.float32)),
        np.ones(4, np.float32),
        (flat_scratch(16), ranking_scratch(64)),
        (np.empty(64, np.int64), np.empty((128, 4), np.int64), np.zeros(4, np.int64)),
        (np.full(LANES, -1), np.zeros(LANES, np.int64)),
        (np.zeros((3, 2, 4), np.int64), np.zeros((3, 2), np.int64), np.zeros((2, 16), np.float32)),
        np.zeros(2, np.uint64),
        lanes(),
    )


@njit(**BARE)
def encode_rows(pixels, effort, params, tables, start, stop, out, block_errors, scratch):
    """Encode block rows [start, stop) of pixels (H, W, 4) uint8 into `out` (rows, columns, 16) uint8; `block_errors` their errors.

    `effort` is 0, 1 or 2; `params` (5,) float32 is what `metric_params` returns, and `tables` what `bc7` keeps for it.
    """
    modes, parts, members, anchors, marks, plans, two, three, single = tables
    (
        block,
        roots,
        ((means, feature, flat), ranking),
        (order, listed, candidate),
        (kinds, places),
        found,
        words,
        batch,
    ) = scratch
    px, strict, weight = block
    codes, parities, steps = found
    asked, got_steps, got_codes, got_parities, errors, turned, missed, line, decoded, tried, costs, axis, span, sums, shared = \
        batch  # fmt: skip
    enough, turns = _ENOUGH[effort], _TURNS[effort]
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_block(pixels, bx, by, 4, 4, 4, px)
            opaque, apart = _look(px, params[COVERS] > 0, weight, strict)
            if apart == 0:
                set_solid(px, single, codes, steps)
                write_block(5, modes, anchors, marks, parts, 0, 0, 0, codes, parities, steps, words, out[by, bx])
                block_errors[by, bx] = np.float32(0.0)
                continue
            set_roots(px, params, roots)
            if params[ANGLE] > 0:
                # What a channel counts is another in each block.
                kinds[:] = -1
            moments(px, 3 if opaque else 4, means, feature)
            lay_flat(feature, roots, flat)
            plan, best = plans[0 if opaque else 1, effort], _FAR
            for threefold in range(2):
                if best <= enough:
                    break
                masks = three if threefold else two
                count = _candidates(flat, threefold > 0, plan, modes, masks, ranking, order, listed)
                at = 0
                while at < count and best > enough:
                    first, used = at, 0
                    while at < count and used + _fits(modes, listed[at, 0]) <= LANES:
                        for fit in range(_fits(modes, listed[at, 0])):
                            _ask(
                                listed[at, 0], listed[at, 1], listed[at, 2], listed[at, 3], fit, modes, roots,
                                opaque, used, kinds, places, asked,
                            )  # fmt: skip
                            used += 1
                        at += 1
                    fit_lanes(
                        px, means, feature, weight, strict, not opaque, turns, members, places, asked,
                        got_steps, got_codes, got_parities, errors, turned, missed, line, decoded, tried, costs, axis, span,
                        sums, shared,
                    )  # fmt: skip
                    lane = 0
                    for k in range(first, at):
                        fits, error = _fits(modes, listed[k, 0]), np.float32(0.0)
                        for fit in range(fits):
                            error += errors[lane + fit]
                        if error < best:
                            best = error
                            copy_flat(listed[k], candidate)
                            for fit in range(fits):
                                _take(
                                    candidate[0], candidate[1], candidate[2], fit, modes, parts, opaque, lane + fit,
                                    np.int64(turned[lane + fit]), got_steps, got_codes, got_parities, codes, parities, steps,
                                )  # fmt: skip
                        lane += fits
            block_errors[by, bx] = best
            write_block(
                candidate[0], modes, anchors, marks, parts, candidate[1], candidate[2], candidate[3], codes, parities, steps,
                words, out[by, bx],
            )  # fmt: skip
