"""The bits of a UASTC block, to and from what they mean, and to and from the ASTC block that shows the same pixels.

Khronos Data Format Specification 1.4, the chapter on UASTC. Numbers that are no power of two are kept otherwise than in ASTC:
all trits or quints first, as digits of one number a group, then the bits. Weights stand from the first pixel on, and that of the
first pixel of each subset lacks its highest bit, for which ends may have to change places.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.decode import mirrored, read_sequence
from oaktrim.core.codecs.astc.encode import block_modes, packed_digits
from oaktrim.core.codecs.astc.tables import COLOURS, LEVELS, SPLIT, WEIGHTS, grid_of, sequence_bits
from oaktrim.core.codecs.astc.write import write_block, write_solid
from oaktrim.core.codecs.blocks import BARE, get_bits, put_bits
from oaktrim.core.codecs.uastc.tables import (
    BC1_BITS,
    BIAS,
    CODE,
    CODE_BITS,
    COLOUR,
    FIRSTS,
    GREY_ALPHA,
    KIND,
    MODE_OF,
    MODES,
    PARTS,
    PATTERN_BITS,
    PLANES,
    RGB,
    SEED,
    SOLID,
    SUBSET,
    WEIGHT_BITS,
)
from oaktrim.core.kernels import njit

# Fields of a block: its mode, pattern and the channel of the second plane; whether the halves of its ETC1 block lie above each
# other, whether its second colour is kept as a difference, the modifier rows of both and what its colours are moved by, -1 where
# nothing says; the factor and the modifier row of its EAC block. Of a block of one colour: the index of all pixels, and its
# colour, in ETC1.
(
    MODE, PATTERN, CHANNEL, FLIP, DIFFERENTIAL, ROW_FIRST, ROW_SECOND, MOVE, ALPHA_HINT,
    INDEX, RED5, GREEN5, BLUE5, FIELDS,
) = range(14)  # fmt: skip

# How many codes each level has.
COUNTS = np.array(LEVELS, np.int64)
# Bits that the digits of a last group take by how many there are: trits, then quints.
_GROUP = np.array([[0, 2, 4, 5, 7, 8], [0, 3, 5, 7, 0, 0]], np.int64)


def _rows_of_astc() -> NDArray[np.int64]:
    """Return of each mode what `write_block` wants to know, (19, 7)."""
    rows = np.zeros((len(MODES), 7), np.int64)
    for mode, row in enumerate(MODES):
        if mode != SOLID:
            level = LEVELS.index(1 << row[WEIGHT_BITS])
            bits = block_modes((4, 4))[4, 4, level, int(row[PLANES])]
            rows[mode] = (0, level, row[COLOUR], row[PARTS], row[PLANES], bits, 0)
    return rows


_ROWS = _rows_of_astc()
_TRITS, _QUINTS = packed_digits()
# The mode by partitions, planes, bits of a weight and kind of ends in fours, -1 for none; mode 4 stands for 7 too, which has
# other seeds.
_BY_ASTC = np.full((5, 3, 6, 4), -1, np.int64)
for _mode, _row in enumerate(MODES):
    if _mode not in (7, SOLID):
        _BY_ASTC[_row[PARTS], _row[PLANES], _row[WEIGHT_BITS], _row[KIND] >> 2] = _mode
# The pattern by mode and seed of ASTC, -1 for none.
_PATTERN_OF = np.full((len(MODES), 1024), -1, np.int64)
for _mode in range(len(MODES)):
    for _pattern, _seed in enumerate(SEED[_mode]):
        if _seed >= 0:
            _PATTERN_OF[_mode, _seed] = _pattern


@njit(**BARE)
def _put_ends(words, at, codes, count, level):
    """Write `count` codes of a level, codes (count or more,), from bit `at`; return the next place."""
    bits = SPLIT[level, 2]
    if SPLIT[level, 0] or SPLIT[level, 1]:
        base, size, row = (3, 5, 0) if SPLIT[level, 0] else (5, 3, 1)
        for first in range(0, count, size):
            many = min(size, count - first)
            number = 0
            for i in range(many - 1, -1, -1):
                number = number * base + (codes[first + i] >> bits)
            at = put_bits(words, at, number, _GROUP[row, many])
    for i in range(count):
        at = put_bits(words, at, codes[i], bits)
    return at


@njit(**BARE)
def _get_ends(words, at, codes, count, level):
    """Read `count` codes of a level into codes (count or more,) from bit `at`; return the next place."""
    bits = SPLIT[level, 2]
    for i in range(count):
        codes[i] = 0
    if SPLIT[level, 0] or SPLIT[level, 1]:
        base, size, row = (3, 5, 0) if SPLIT[level, 0] else (5, 3, 1)
        for first in range(0, count, size):
            many = min(size, count - first)
            number = get_bits(words, at, _GROUP[row, many])
            at += _GROUP[row, many]
            for i in range(many):
                codes[first + i] = number % base << bits
                number //= base
    for i in range(count):
        codes[i] |= get_bits(words, at, bits)
        at += bits
    return at


@njit(**BARE)
def ends_in(mode):
    """Return how many codes the ends of a mode take."""
    return MODES[mode, PARTS] * 2 * ((MODES[mode, KIND] >> 2) + 1)


@njit(**BARE)
def _anchored(mode, pattern, i):
    """Say whether the weight of a pixel lacks its highest bit."""
    found = False
    for part in range(MODES[mode, PARTS]):
        found |= FIRSTS[mode, pattern, part] == i
    return found


@njit(**BARE)
def _turn(mode, pattern, part, plane, channel, ends, weights):
    """Exchange the ends of a subset, as far as a plane has them, and turn the weights of its pixels round."""
    planes, last = MODES[mode, PLANES], (1 << MODES[mode, WEIGHT_BITS]) - 1
    channels = (MODES[mode, KIND] >> 2) + 1
    for c in range(channels):
        own = planes == 2 and (c == channels - 1 if channels == 2 else c == channel)
        if planes == 1 or own == (plane == 1):
            at = 2 * (channels * part + c)
            ends[at], ends[at + 1] = ends[at + 1], ends[at]
    for i in range(16):
        if SUBSET[mode, pattern, i] == part:
            weights[planes * i + plane] = last - weights[planes * i + plane]


@njit(**BARE)
def pack(fields, solid, ends, weights, words):
    """Write a block into words (2,) uint64.

    Parameters
    ----------
    fields : (FIELDS,) int64; solid : (4,) int64, the codes of a block of one colour
    ends : (18 or more,) int64, codes in the order of ASTC; weights : (32,) int64, codes by pixel and plane
    Ends and weights are turned round where a pixel's weight has to lack its highest bit.
    """
    mode, pattern = fields[MODE], fields[PATTERN]
    row = MODES[mode]
    words[0] = words[1] = np.uint64(0)
    at = put_bits(words, 0, row[CODE], row[CODE_BITS])
    if mode == SOLID:
        for c in range(4):
            at = put_bits(words, at, solid[c], 8)
        at = put_bits(words, at, fields[DIFFERENTIAL], 1)
        at = put_bits(words, at, fields[ROW_FIRST], 3)
        at = put_bits(words, at, fields[INDEX], 2)
        for place in (RED5, GREEN5, BLUE5):
            at = put_bits(words, at, fields[place], 5)
        return
    # Nothing is said for BC1: loaders then look for its ends themselves.
    at += row[BC1_BITS]
    at = put_bits(words, at, fields[FLIP], 1)
    at = put_bits(words, at, fields[DIFFERENTIAL], 1)
    at = put_bits(words, at, fields[ROW_FIRST], 3)
    at = put_bits(words, at, fields[ROW_SECOND], 3)
    if row[BIAS]:
        at = put_bits(words, at, fields[MOVE], 5)
    if row[KIND] != RGB:
        at = put_bits(words, at, fields[ALPHA_HINT], 8)
    at = put_bits(words, at, pattern, row[PATTERN_BITS])
    bits, planes = row[WEIGHT_BITS], row[PLANES]
    if planes == 2 and row[KIND] != GREY_ALPHA:
        at = put_bits(words, at, fields[CHANNEL], 2)
    for part in range(row[PARTS]):
        first = FIRSTS[mode, pattern, part]
        for plane in range(planes):
            if weights[planes * first + plane] >> (bits - 1):
                _turn(mode, pattern, part, plane, fields[CHANNEL], ends, weights)
    at = _put_ends(words, at, ends, ends_in(mode), row[COLOUR])
    for i in range(16):
        wide = bits - 1 if _anchored(mode, pattern, i) else bits
        for plane in range(planes):
            at = put_bits(words, at, weights[planes * i + plane], wide)


@njit(**BARE)
def unpack(words, fields, solid, ends, weights):
    """Read a block from words (2,) uint64 into what `pack` takes, weights (32 or more,); say whether it is legal."""
    for k in range(FIELDS):
        fields[k] = 0
    mode = MODE_OF[get_bits(words, 0, 7)]
    if mode < 0:
        return False
    row = MODES[mode]
    fields[MODE] = mode
    at = row[CODE_BITS]
    if mode == SOLID:
        for c in range(4):
            solid[c] = get_bits(words, at, 8)
            at += 8
        for place, wide in ((DIFFERENTIAL, 1), (ROW_FIRST, 3), (INDEX, 2), (RED5, 5), (GREEN5, 5), (BLUE5, 5)):
            fields[place] = get_bits(words, at, wide)
            at += wide
        return True
    at += row[BC1_BITS]
    for place, wide in ((FLIP, 1), (DIFFERENTIAL, 1), (ROW_FIRST, 3), (ROW_SECOND, 3)):
        fields[place] = get_bits(words, at, wide)
        at += wide
    fields[MOVE] = -1
    if row[BIAS]:
        fields[MOVE] = get_bits(words, at, 5)
        at += 5
    if row[KIND] != RGB:
        fields[ALPHA_HINT] = get_bits(words, at, 8)
        at += 8
    pattern = get_bits(words, at, row[PATTERN_BITS])
    at += row[PATTERN_BITS]
    fields[PATTERN] = pattern
    if row[PARTS] > 1 and SEED[mode, pattern] < 0:
        return False
    if row[PLANES] == 2:
        fields[CHANNEL] = 3
        if row[KIND] != GREY_ALPHA:
            fields[CHANNEL] = get_bits(words, at, 2)
            at += 2
    at = _get_ends(words, at, ends, ends_in(mode), row[COLOUR])
    for i in range(16):
        wide = row[WEIGHT_BITS] - 1 if _anchored(mode, pattern, i) else row[WEIGHT_BITS]
        for plane in range(row[PLANES]):
            weights[row[PLANES] * i + plane] = get_bits(words, at, wide)
            at += wide
    # A second plane of an opaque block stands for a colour; codes beyond a level's are not legal.
    legal = row[KIND] != RGB or row[PLANES] == 1 or fields[CHANNEL] < 3
    for k in range(ends_in(mode)):
        legal &= ends[k] < COUNTS[row[COLOUR]]
    return legal


@njit(**BARE)
def parse_astc(words, turned, fields, solid, ends, weights):
    """Read an ASTC block of 4x4 pixels from words (2,) uint64 into what `pack` takes; say whether UASTC has its kind.

    What blue is contracted out of is not told apart: ends are taken as they stand. `turned` (2,) uint64 is scratch.
    """
    for k in range(FIELDS):
        fields[k] = 0
    mode_bits = get_bits(words, 0, 11)
    if mode_bits & 0x1FF == 0x1FC:
        fields[MODE] = SOLID
        for c in range(4):
            solid[c] = get_bits(words, 64 + 16 * c + 8, 8)
        return True
    across, down, level, planes = grid_of(mode_bits)
    if across != 4 or down != 4 or SPLIT[level, 0] or SPLIT[level, 1]:
        return False
    parts, bits = get_bits(words, 11, 2) + 1, SPLIT[level, 2]
    kind = get_bits(words, 13, 4) if parts == 1 else get_bits(words, 25, 4)
    if kind & 3 or (parts > 1 and get_bits(words, 23, 2)):
        return False
    mode = _BY_ASTC[parts, planes, bits, kind >> 2]
    if mode < 0:
        return False
    if parts > 1:
        seed = get_bits(words, 13, 10)
        if mode == 4 and _PATTERN_OF[mode, seed] < 0:
            mode = 7
        fields[PATTERN] = _PATTERN_OF[mode, seed]
        if fields[PATTERN] < 0:
            return False
    fields[MODE] = mode
    if planes == 2:
        fields[CHANNEL] = get_bits(words, 128 - sequence_bits(32, level, SPLIT) - 2, 2)
    read_sequence(words, 17 if parts == 1 else 29, ends_in(mode), MODES[mode, COLOUR], ends)
    turned[0], turned[1] = mirrored(words[1]), mirrored(words[0])
    read_sequence(turned, 0, 16 * planes, level, weights)
    return True


@njit(**BARE)
def write_astc(fields, solid, ends, weights, words, turned, block):
    """Write the ASTC block that shows what an unpacked one does into block (16,) uint8.

    Parameters
    ----------
    fields, solid, ends, weights : as `pack` takes them; the last two are turned where ASTC wants another order
    words, turned : scratch (2,) uint64
    """
    mode, pattern = fields[MODE], fields[PATTERN]
    if mode == SOLID:
        write_solid(solid, words, block)
        return
    row = MODES[mode]
    channels = (row[KIND] >> 2) + 1
    for part in range(row[PARTS] if channels > 2 else 0):
        rise = 0
        for c in range(3):
            at = 2 * (channels * part + c)
            rise += COLOURS[row[COLOUR], ends[at + 1]] - COLOURS[row[COLOUR], ends[at]]
        # With the darker end second, ASTC would take blue out of red and green.
        if rise < 0:
            for plane in range(row[PLANES]):
                _turn(mode, pattern, part, plane, fields[CHANNEL], ends, weights)
    write_block(
        _ROWS[mode], 16, row[KIND], max(0, SEED[mode, pattern]), fields[CHANNEL], weights, ends, SPLIT, _TRITS, _QUINTS,
        words, turned, block,
    )  # fmt: skip


@njit(**BARE)
def paint(fields, solid, ends, weights, px):
    """Set px (16, 4) int64 to the codes 0..255 of what an unpacked block, as `pack` takes it, shows; pixels along rows."""
    mode = fields[MODE]
    if mode == SOLID:
        for i in range(16):
            for c in range(4):
                px[i, c] = solid[c]
        return
    row = MODES[mode]
    level, weight, planes = row[COLOUR], _ROWS[mode, 1], row[PLANES]
    channels = (row[KIND] >> 2) + 1
    for i in range(16):
        part = SUBSET[mode, fields[PATTERN], i]
        for c in range(4):
            px[i, c] = 255
            # Of grey with alpha the first channel stands for three.
            channel = c if channels > 2 else c // 3
            if channel < channels:
                own = planes == 2 and c == fields[CHANNEL]
                at = 2 * (channels * part + channel)
                share = WEIGHTS[weight, weights[planes * i + (1 if own else 0)]]
                low, high = COLOURS[level, ends[at]] * 257, COLOURS[level, ends[at + 1]] * 257
                px[i, c] = (low * (64 - share) + high * share + 32) >> 14
