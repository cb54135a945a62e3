"""What a loader makes of UASTC blocks for hardware with ETC2: ETC1 blocks, beside EAC blocks of alpha where there is any.

Khronos Data Format Specification 1.4, the chapter on UASTC: colours and modifiers follow the hints, and each pixel takes the
step whose luma is nearest.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, blocks_in, decode_rows, words_of
from oaktrim.core.codecs.etc.eac import store
from oaktrim.core.codecs.etc.tables import MODIFIERS, STEPS
from oaktrim.core.codecs.uastc.block import (
    ALPHA_HINT,
    DIFFERENTIAL,
    FLIP,
    INDEX,
    MODE,
    MOVE,
    RED5,
    ROW_FIRST,
    ROW_SECOND,
    paint,
    unpack,
)
from oaktrim.core.codecs.uastc.decode import unpacking_scratch
from oaktrim.core.codecs.uastc.hints import alpha_base, base_codes, half_of, mean_colours, widened
from oaktrim.core.codecs.uastc.tables import SOLID
from oaktrim.core.kernels import njit

# Weights of luma, in 256ths; and the codes of ETC1 for steps, the brightest first.
_LUMA = np.array([54, 183, 19], np.int64)
_CODES = np.array([1, 0, 2, 3], np.int64)


@njit(**BARE)
def _etc1(fields, px, sums, codes, steps, block):
    """Write the ETC1 block of an unpacked block and its pixels px (16, 4), codes 0 to 255, into block (8,) uint8.

    Scratch, int64: sums and codes (2, 3), steps (4,).
    """
    differential = fields[DIFFERENTIAL]
    flip = fields[FLIP]
    if fields[MODE] == SOLID:
        for half in range(2):
            for c in range(3):
                codes[half, c] = fields[RED5 + c]
    else:
        mean_colours(px, flip, sums)
        base_codes(sums, differential, fields[MOVE], codes)
    word = np.uint64(0)
    for c in range(3):
        first, second = codes[0, c], codes[1, c]
        byte = first << 3 | (second - first) & 7 if differential else first << 4 | second
        word |= np.uint64(byte) << np.uint64(56 - 8 * c)
    other = fields[ROW_FIRST] if fields[MODE] == SOLID else fields[ROW_SECOND]
    word |= np.uint64(fields[ROW_FIRST] << 37 | other << 34 | differential << 33 | flip << 32)
    for half in range(2):
        row = other if half else fields[ROW_FIRST]
        for k in range(4):
            # The darkest step first.
            more = MODIFIERS[row, _CODES[3 - k]]
            steps[k] = 0
            for c in range(3):
                steps[k] += min(max(widened(codes[half, c], differential) + more, 0), 255) * _LUMA[c]
        for i in range(16):
            if half_of(flip, i) != half:
                continue
            if fields[MODE] == SOLID:
                code = _CODES[3 - fields[INDEX]]
            else:
                twice = 0
                for c in range(3):
                    twice += 2 * px[i, c] * _LUMA[c]
                below = 0
                for k in range(3):
                    below += 1 if twice < steps[k] + steps[k + 1] else 0
                code = _CODES[below]
            place = (i & 3) * 4 + (i >> 2)
            word |= np.uint64(code & 1) << np.uint64(place) | np.uint64(code >> 1) << np.uint64(place + 16)
    store(word, block)


@njit(**BARE)
def _eac(fields, px, block):
    """Write the EAC block of the alpha of px (16, 4), codes 0 to 255, into the first eight of block (8 or more,) uint8."""
    low, high = px[0, 3], px[0, 3]
    for i in range(16):
        low, high = min(low, px[i, 3]), max(high, px[i, 3])
    factor, row = fields[ALPHA_HINT] >> 4, fields[ALPHA_HINT] & 15
    if low == high:
        base, row, factor = low, 13, 1
    else:
        base = alpha_base(low, high, row)
    word = np.uint64(base << 56 | factor << 52 | row << 48)
    for i in range(16):
        # Of a block of one alpha all steps are the one that adds nothing.
        least, code = np.int64(1) << 40, 4
        for k in range(0 if low < high else 4, 8):
            miss = abs(min(max(base + factor * STEPS[row, k], 0), 255) - px[i, 3])
            if miss < least:
                least, code = miss, k
        place = (i & 3) * 4 + (i >> 2)
        word |= np.uint64(code) << np.uint64(45 - 3 * place)
    store(word, block)


@njit(**BARE)
def _etc_rows(blocks, alpha, start, stop, out, scratch, sums, codes, steps):
    """Make blocks of `out` (rows, columns, 8, or 16 with alpha) uint8 of UASTC ones (rows, columns, 16); scratch as in `_etc1`."""
    words, fields, solid, ends, weights, px = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            block = out[by, bx]
            if not unpack(words, fields, solid, ends, weights):
                for k in range(block.shape[0]):
                    block[k] = 0
                continue
            paint(fields, solid, ends, weights, px)
            if alpha:
                _eac(fields, px, block)
            _etc1(fields, px, sums, codes, steps, block[8:] if alpha else block)


def to_etc(data: bytes, width: int, height: int, alpha: bool) -> bytes:
    """Return the blocks of ETC2 RGBA that a loader makes of UASTC blocks; of ETC2 RGB without alpha.

    Of blocks that are not legal, which loaders refuse, all bits are zero.
    """
    blocks = blocks_in(data, width, height, (4, 4), 16)
    out = np.empty((*blocks.shape[:2], 16 if alpha else 8), np.uint8)

    def rows(start: int, stop: int) -> None:
        pair: NDArray[np.int64] = np.empty((2, 2, 3), np.int64)
        _etc_rows(blocks, alpha, start, stop, out, unpacking_scratch(), pair[0], pair[1], np.empty(4, np.int64))

    decode_rows(rows, blocks)
    return out.tobytes()
