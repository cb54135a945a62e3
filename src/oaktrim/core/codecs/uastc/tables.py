"""What the standard fixes of UASTC blocks: their modes, and the ways to split a block that ASTC and BC7 have in common.

Khronos Data Format Specification 1.4, the chapter on UASTC. A block of 4x4 pixels is one that ASTC can hold too, with one of
nineteen choices of partitions, planes and levels, in an order of bits of its own.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.tables import LEVELS, partition_of
from oaktrim.core.codecs.bc7.codec import PARTITIONS

SOLID = 8
# Columns of MODES: the code that a block begins with and its bits, the endpoint mode of ASTC, partitions, planes, bits of a
# weight, the level of the ends, bits of the pattern, bits of hints for BC1, whether hints for ETC1 have a bias.
CODE, CODE_BITS, KIND, PARTS, PLANES, WEIGHT_BITS, COLOUR, PATTERN_BITS, BC1_BITS, BIAS = range(10)
RGB, GREY_ALPHA, _RGBA = 8, 4, 12
MODES = np.array(
    [
        (code, bits, kind, parts, planes, weight, LEVELS.index(count) if count else 0, pattern, bc1, bias)
        for code, bits, kind, parts, planes, weight, count, pattern, bc1, bias in (
            (0x01, 4, RGB, 1, 1, 4, 192, 0, 2, 1),
            (0x35, 6, RGB, 1, 1, 2, 256, 0, 2, 1),
            (0x1D, 5, RGB, 2, 1, 3, 16, 5, 2, 1),
            (0x03, 5, RGB, 3, 1, 2, 12, 4, 2, 1),
            (0x13, 5, RGB, 2, 1, 2, 40, 5, 2, 1),
            (0x0B, 5, RGB, 1, 1, 3, 256, 0, 2, 1),
            (0x1B, 5, RGB, 1, 2, 2, 160, 0, 2, 1),
            (0x07, 5, RGB, 2, 1, 2, 40, 5, 2, 1),
            (0x17, 5, 0, 1, 1, 0, 0, 0, 0, 0),
            (0x0F, 5, _RGBA, 2, 1, 2, 16, 5, 2, 1),
            (0x02, 3, _RGBA, 1, 1, 4, 48, 0, 1, 0),
            (0x00, 2, _RGBA, 1, 2, 2, 48, 0, 1, 0),
            (0x06, 3, _RGBA, 1, 1, 3, 192, 0, 1, 0),
            (0x1F, 5, _RGBA, 1, 2, 1, 256, 0, 2, 1),
            (0x0D, 5, _RGBA, 1, 1, 2, 256, 0, 2, 1),
            (0x05, 7, GREY_ALPHA, 1, 1, 4, 256, 0, 2, 1),
            (0x15, 6, GREY_ALPHA, 2, 1, 2, 256, 5, 2, 1),
            (0x25, 6, GREY_ALPHA, 1, 2, 2, 256, 0, 2, 1),
            (0x09, 4, RGB, 1, 1, 5, 32, 0, 2, 1),
        )
    ],
    np.int64,
)
# The mode that the seven lowest bits of a block name; -1 for none.
MODE_OF = np.full(128, -1, np.int64)
for _mode, _row in enumerate(MODES):
    MODE_OF[_row[CODE] :: 1 << _row[CODE_BITS]] = _mode

# Of each pattern: the partition of BC7 and the seed of ASTC that split a block alike. With two subsets, for modes 2, 4, 9 and 16;
# with three, for mode 3; with two of ASTC that hold three of BC7, for mode 7.
_TWO = (
    (0, 28), (1, 20), (2, 16), (3, 29), (4, 91), (5, 9), (6, 107), (7, 72), (8, 149), (9, 204), (10, 50), (11, 114),
    (12, 496), (13, 17), (14, 78), (15, 39), (17, 252), (18, 828), (19, 43), (20, 156), (21, 116), (22, 210), (23, 476),
    (24, 273), (25, 684), (26, 359), (29, 246), (32, 195), (33, 694), (52, 524),
)  # fmt: skip
_THREE = (
    (4, 260), (8, 74), (9, 32), (10, 156), (11, 183), (12, 15), (13, 745), (20, 0), (35, 335), (36, 902), (57, 254),
)  # fmt: skip
_TWO_OF_THREE = (
    (10, 36), (11, 48), (0, 61), (2, 137), (8, 161), (13, 183), (1, 226), (33, 281), (40, 302), (20, 307), (21, 479),
    (58, 495), (3, 593), (32, 594), (59, 605), (34, 799), (20, 812), (14, 988), (31, 993),
)  # fmt: skip


def _pattern(rows: tuple[tuple[int, int], ...], parts: int, bc7_parts: int) -> tuple[NDArray[np.int64], ...]:
    """Return, of patterns, the subset of each pixel in ASTC, the pixels whose weight lacks its highest bit, seeds and partitions.

    Also which subset of ASTC each of BC7 is, (P, 3).
    """
    partitions, seeds = np.array(rows, np.int64).T
    subset = np.array(
        [[partition_of.py_func(seed, i % 4, i // 4, parts, True) for i in range(16)] for seed in seeds.tolist()]
    )
    first = np.stack([(subset == min(part, parts - 1)).argmax(axis=1) for part in range(3)], axis=1)
    theirs = PARTITIONS[bc7_parts, partitions]
    named = np.stack(
        [subset[np.arange(len(rows)), (theirs == min(part, bc7_parts - 1)).argmax(axis=1)] for part in range(3)], axis=1
    )
    return subset, first, seeds, partitions, named


def _stacked() -> tuple[NDArray[np.int64], ...]:
    """Return what `_pattern` returns by mode, (19, 32, ...); -1 where there is no such pattern."""
    made = {2: _pattern(_TWO, 2, 2), 3: _pattern(_THREE, 3, 3), 7: _pattern(_TWO_OF_THREE, 2, 3)}
    out = tuple(np.full((len(MODES), 32, *column.shape[1:]), -1, np.int64) for column in made[2])
    for mode, row in enumerate(MODES):
        if row[PARTS] > 1:
            for column, rows in zip(out, made[mode if mode in made else 2], strict=True):
                column[mode, : len(rows)] = rows
    return out


# By mode and pattern: the subset of each of the sixteen pixels as ASTC names it, (19, 32, 16); the first pixel of each subset,
# whose weight lacks its highest bit, (19, 32, 3); the seed of ASTC and the partition of BC7, (19, 32), -1 for none; which of
# ASTC's subsets each of BC7's is, (19, 32, 3).
SUBSET, FIRSTS, SEED, PARTITION, NAMED = _stacked()
SUBSET[MODES[:, PARTS] == 1] = 0
FIRSTS[MODES[:, PARTS] == 1] = 0
