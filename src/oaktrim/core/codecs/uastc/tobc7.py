"""What a loader makes of UASTC blocks for hardware with BC7.

Khronos Data Format Specification 1.4, the chapter on UASTC. Each mode has one of BC7 with the same planes and subsets; weights
that it lacks become the nearest it has, and ends are rounded to its bits.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.tables import COLOURS
from oaktrim.core.codecs.bc7.codec import ANCHORS, MARKS, PARTITIONS, SINGLE
from oaktrim.core.codecs.bc7.codec import MODES as BC7_MODES
from oaktrim.core.codecs.bc7.fit import set_solid, write_block
from oaktrim.core.codecs.blocks import BARE, blocks_in, decode_rows, words_of
from oaktrim.core.codecs.uastc.block import CHANNEL, MODE, PATTERN, unpack
from oaktrim.core.codecs.uastc.decode import unpacking_scratch
from oaktrim.core.codecs.uastc.tables import COLOUR, KIND, MODES, NAMED, PARTITION, PARTS, PLANES, SOLID, WEIGHT_BITS
from oaktrim.core.kernels import njit

# The mode of BC7 that each mode becomes.
_BC7 = np.array([6, 3, 1, 2, 3, 6, 5, 2, 5, 7, 6, 5, 6, 5, 6, 6, 7, 5, 6], np.int64)
# The index of each weight, by bits of the weight and of the index.
_INDEX = np.zeros((6, 5, 32), np.int64)
for _bits in range(1, 5):
    _INDEX[_bits, _bits, : 1 << _bits] = np.arange(1 << _bits)
_INDEX[1, 2, :2] = 0, 3
_INDEX[2, 4, :4] = 0, 5, 10, 15
_INDEX[3, 4, :8] = 0, 2, 4, 6, 9, 11, 13, 15
_INDEX[5, 4] = (
    0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 6, 7, 8, 9, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13, 14, 14, 15, 15,
)  # fmt: skip


@njit(**BARE)
def _rounded(value, bits, parity):
    """Return the code of so many bits, and a lowest one that is given, that comes nearest to a value 0..255."""
    most = (1 << (bits + 1)) - 1
    whole = np.float32(value) / np.float32(255.0) * np.float32(most)
    code = np.int64((whole - np.float32(parity)) / np.float32(2.0) + np.float32(0.5)) * 2 + parity
    return min(max(code, parity), most - 1 + parity) >> 1


@njit(**BARE)
def _miss(value, code, bits, parity):
    """Return the squared error of a code whose lowest bit is given."""
    whole = (code << 1 | parity) << (7 - bits)
    miss = (whole | whole >> (bits + 1)) - value
    return miss * miss


@njit(**BARE)
def _round_ends(values, row, codes, parities):
    """Set codes (2, 4) and parities (2,) to the ends of one subset, values (2, 4), rounded to the bits of a mode."""
    colour, alpha, shared = row[4], row[5], row[6] == 2
    if row[6] == 0:
        for e in range(2):
            for c in range(4):
                bits = colour if c < 3 else alpha
                codes[e, c] = (values[e, c] * ((1 << bits) - 1) + 127) // 255
        return
    channels = 4 if alpha else 3
    least0 = least1 = np.int64(1) << 40
    for parity in range(2):
        miss0 = miss1 = 0
        for c in range(channels):
            miss0 += _miss(values[0, c], _rounded(values[0, c], colour, parity), colour, parity)
            miss1 += _miss(values[1, c], _rounded(values[1, c], colour, parity), colour, parity)
        if shared:
            miss0 += miss1
            miss1 = miss0
        if miss0 < least0:
            least0, parities[0] = miss0, parity
        if miss1 < least1:
            least1, parities[1] = miss1, parity
    for e in range(2):
        for c in range(4):
            codes[e, c] = _rounded(values[e, c], colour, parities[e]) if c < channels else 0


@njit(**BARE)
def _bc7_rows(blocks, start, stop, out, scratch, found):
    """Make BC7 blocks of `out` of UASTC ones, both (rows, columns, 16) uint8.

    Parameters
    ----------
    scratch : of `unpacking_scratch`
    found : scratch: codes (3, 2, 4), parities (3, 2), steps (2, 16), as `write_block` takes them, values (2, 4), and one colour
        (4, n) float32
    """
    words, fields, solid, ends, weights, _ = scratch
    codes, parities, steps, values, flat = found
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            block = out[by, bx]
            if not unpack(words, fields, solid, ends, weights):
                for k in range(16):
                    block[k] = 0
                continue
            mode = fields[MODE]
            target = _BC7[mode]
            if mode == SOLID:
                for c in range(4):
                    flat[c, 0] = solid[c]
                set_solid(flat, SINGLE, codes, steps)
                write_block(
                    target, BC7_MODES, ANCHORS, MARKS, PARTITIONS, 0, 0, 0, codes, parities, steps, words, block
                )
                continue
            row, theirs = MODES[mode], BC7_MODES[target]
            channels, planes, pattern, apart = (row[KIND] >> 2) + 1, row[PLANES], fields[PATTERN], fields[CHANNEL]
            rotation = (apart + 1) & 3 if planes == 2 else 0
            partition = max(0, PARTITION[mode, pattern])
            for s in range(theirs[0]):
                part = NAMED[mode, pattern, s] if row[PARTS] > 1 else 0
                for e in range(2):
                    for c in range(4):
                        own = c if channels > 2 else c // 3
                        values[e, c] = 255
                        if own < channels:
                            values[e, c] = COLOURS[row[COLOUR], ends[2 * (channels * part + own) + e]]
                    if rotation:
                        values[e, apart], values[e, 3] = values[e, 3], values[e, apart]
                _round_ends(values, theirs, codes[s], parities[s])
            for i in range(16):
                for plane in range(planes):
                    steps[plane, i] = _INDEX[row[WEIGHT_BITS], theirs[7 + plane], weights[planes * i + plane]]
            write_block(
                target, BC7_MODES, ANCHORS, MARKS, PARTITIONS, partition, rotation, 0, codes, parities, steps, words, block
            )  # fmt: skip


def to_bc7(data: bytes, width: int, height: int) -> bytes:
    """Return the BC7 blocks that a loader makes of UASTC blocks; of those that are not legal, which loaders refuse, zeros."""
    blocks = blocks_in(data, width, height, (4, 4), 16)
    out = np.empty_like(blocks)

    def rows(start: int, stop: int) -> None:
        found: tuple[NDArray[np.int64], ...] = (
            np.zeros((3, 2, 4), np.int64), np.zeros((3, 2), np.int64), np.zeros((2, 16), np.int64), np.zeros((2, 4), np.int64),
        )  # fmt: skip
        _bc7_rows(blocks, start, stop, out, unpacking_scratch(), (*found, np.zeros((4, 16), np.float32)))

    decode_rows(rows, blocks)
    return out.tobytes()
