"""Writing the bits of ASTC blocks: one colour, or ends and weights as sequences of numbers.

Khronos Data Format Specification 1.3, clauses 23.8 to 23.12 and 23.21.
"""

from __future__ import annotations

import numpy as np

from oaktrim.core.codecs.astc.endpoints import SCALED
from oaktrim.core.codecs.blocks import BARE, bytes_of, put_bits
from oaktrim.core.kernels import njit

# Columns of a choice: place of its grid, level of the weights, level of the ends, partitions, planes, mode bits, and how ends are
# written.
GRID, WEIGHT, COLOUR, PARTS, PLANES, MODE, FORM = range(7)


@njit(**BARE)
def _mirrored_into(words, from_words):
    """Put the bits of from_words (2,) into words (2,) in reverse, the lowest highest."""
    for k in range(128):
        if from_words[k >> 6] >> np.uint64(k & 63) & np.uint64(1):
            at = 127 - k
            words[at >> 6] |= np.uint64(1) << np.uint64(at & 63)


@njit(**BARE)
def _put_sequence(words, at, codes, count, level, split, packed_trits, packed_quints):
    """Write `count` codes of a level from bit `at`; a last group that is not whole is cut short."""
    bits = split[level, 2]
    low = (1 << bits) - 1
    if not split[level, 0] and not split[level, 1]:
        for i in range(count):
            put_bits(words, at + i * bits, codes[i], bits)
        return
    trits = split[level, 0] > 0
    size = 5 if trits else 3
    total = count * bits + ((8 * count + 4) // 5 if trits else (7 * count + 2) // 3)
    stop = at + total
    for first in range(0, count, size):
        many = min(size, count - first)
        place = 0
        for i in range(many - 1, -1, -1):
            place = place * (3 if trits else 5) + (codes[first + i] >> bits)
        packed = packed_trits[place] if trits else packed_quints[place]
        for i in range(many):
            at = put_bits(words, at, codes[first + i] & low, bits)
            part = (1 if i == 2 or i == 4 else 2) if trits else (3 if i == 0 else 2)
            part = min(part, max(0, stop - at))
            at = put_bits(words, at, packed, part)
            packed >>= part


@njit(**BARE)
def write_solid(colour, words, block):
    """Write a block of one colour (4,), codes 0 to 255, into block (16,) uint8; words (2,) uint64 is scratch."""
    words[0] = np.uint64(0xFFFFFFFFFFFFFDFC)
    words[1] = np.uint64(0)
    for c in range(4):
        put_bits(words, 64 + 16 * c, np.int64(colour[c] + np.float32(0.5)) * 257, 16)
    bytes_of(words, block)


@njit(**BARE)
def write_block(
    choice, points, kind, seed, channel, weights, ends, split, packed_trits, packed_quints, words, turned, block
):
    """Write a block into block (16,) uint8.

    Parameters
    ----------
    choice : (7,) int64, columns as above; points : of its grid; kind : endpoint mode of ends that are no share
    seed : of the partitions, for two and more; channel : of the second plane, for two planes
    weights : (64 or more,), ends : (parts * values or more,) int64, codes in the order of the standard
    split, packed_trits, packed_quints : tables of `tables.SPLIT` and `encode.packed_digits`
    words, turned : scratch (2,) uint64
    """
    parts, planes = choice[PARTS], choice[PLANES]
    kind -= 2 if choice[FORM] == SCALED else 0
    for k in range(2):
        words[k] = np.uint64(0)
        turned[k] = np.uint64(0)
    many = points * planes
    level = choice[WEIGHT]
    _put_sequence(turned, 0, weights, many, level, split, packed_trits, packed_quints)
    _mirrored_into(words, turned)
    used = many * split[level, 2] + (8 * many + 4) // 5 * split[level, 0] + (7 * many + 2) // 3 * split[level, 1]
    put_bits(words, 0, choice[MODE], 11)
    put_bits(words, 11, parts - 1, 2)
    start = 17
    if parts == 1:
        put_bits(words, 13, kind, 4)
    else:
        put_bits(words, 13, seed, 10)
        put_bits(words, 23, kind << 2, 6)
        start = 29
    if planes == 2:
        put_bits(words, 128 - used - 2, channel, 2)
    _put_sequence(words, start, ends, parts * 2 * ((kind >> 2) + 1), choice[COLOUR], split, packed_trits, packed_quints)
    bytes_of(words, block)
