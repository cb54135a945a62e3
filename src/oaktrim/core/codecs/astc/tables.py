"""What the standard fixes of ASTC blocks: sequences of numbers, the values of codes, partitions and grids of weights.

Khronos Data Format Specification 1.3, chapter 23.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE
from oaktrim.core.kernels import njit

# Table 157: counts of values that a sequence can hold, and the trits, quints and bits of each.
LEVELS = (2, 3, 4, 5, 6, 8, 10, 12, 16, 20, 24, 32, 40, 48, 64, 80, 96, 128, 160, 192, 256)
SPLIT = np.array(
    [next((t, q, b) for b in range(9) for t, q in ((0, 0), (1, 0), (0, 1))
          if (1 << b) * (3 if t else 5 if q else 1) == n) for n in LEVELS], np.int64
)  # fmt: skip
WEIGHT_LEVELS = 12


def _trits(packed: int) -> tuple[int, ...]:
    """Return the five trits of a packed byte (section 23.12)."""
    if packed >> 2 & 7 == 7:
        c, t4, t3 = packed >> 3 & 0x1C | packed & 3, 2, 2
    else:
        c = packed & 0x1F
        t4, t3 = (2, packed >> 7) if packed >> 5 & 3 == 3 else (packed >> 7, packed >> 5 & 3)
    if c & 3 == 3:
        t2, t1, t0 = 2, c >> 4, (c >> 3 & 1) << 1 | (c >> 2 & 1) & ~(c >> 3 & 1)
    elif c >> 2 & 3 == 3:
        t2, t1, t0 = 2, 2, c & 3
    else:
        t2, t1, t0 = c >> 4, c >> 2 & 3, (c >> 1 & 1) << 1 | c & 1 & ~(c >> 1)
    return t0, t1, t2, t3, t4


def _quints(packed: int) -> tuple[int, ...]:
    """Return the three quints of seven packed bits (section 23.12)."""
    low = packed & 1
    if packed >> 1 & 3 == 3 and packed >> 5 & 3 == 0:
        return 4, 4, low << 2 | (packed >> 4 & ~low & 1) << 1 | packed >> 3 & ~low & 1
    if packed >> 1 & 3 == 3:
        q2, c = 4, (packed >> 3 & 3) << 3 | (~(packed >> 5) & 3) << 1 | low
    else:
        q2, c = packed >> 5 & 3, packed & 0x1F
    return (c >> 3 & 3, 4, q2) if c & 7 == 5 else (c & 7, c >> 3 & 3, q2)


TRITS = np.array([_trits(packed) for packed in range(256)], np.int64)
QUINTS = np.array([_quints(packed) for packed in range(128)], np.int64)


def _spread(pattern: str, code: int, bits: int) -> int:
    """Return a number from a pattern of the standard: letters stand for bits of the code, `a` the lowest."""
    return int("".join("0" if c == "0" else str(code >> (ord(c) - ord("a")) & 1) for c in pattern), 2)


# Tables 165 and 169: B and C by kind and count of bits, for colours (9 bits) and weights (7 bits).
_COLOUR_SPREAD = {
    (3, 1): ("000000000", 204), (3, 2): ("b000b0bb0", 93), (3, 3): ("cb000cbcb", 44), (3, 4): ("dcb000dcb", 22),
    (3, 5): ("edcb000ed", 11), (3, 6): ("fedcb000f", 5), (5, 1): ("000000000", 113), (5, 2): ("b0000bb00", 54),
    (5, 3): ("cb0000cbc", 26), (5, 4): ("dcb0000dc", 13), (5, 5): ("edcb0000e", 6),
}  # fmt: skip
_WEIGHT_SPREAD = {
    (3, 1): ("0000000", 50), (3, 2): ("b000b0b", 23), (3, 3): ("cb000cb", 11), (5, 1): ("0000000", 28),
    (5, 2): ("b0000b0", 13),
}  # fmt: skip


def _replicate(code: int, bits: int, wide: int) -> int:
    value = 0
    for shift in range(wide - bits, -bits, -bits):
        value |= code << shift if shift >= 0 else code >> -shift
    return value


def _colour(code: int, level: int) -> int:
    """Return the value 0..255 of a colour's code (section 23.13)."""
    trit, quint, bits = SPLIT[level].tolist()
    if not trit and not quint:
        return _replicate(code, bits, 8)
    pattern, c = _COLOUR_SPREAD[3 if trit else 5, bits]
    a = 0x1FF if code & 1 else 0
    t: int = ((code >> bits) * c + _spread(pattern, code, bits)) ^ a
    return a & 0x80 | t >> 2


def _weight(code: int, level: int) -> int:
    """Return the value 0..64 of a weight's code (section 23.17)."""
    trit, quint, bits = SPLIT[level].tolist()
    if LEVELS[level] in (3, 5):
        value = ((0, 32, 63), (0, 16, 32, 47, 63))[quint][code]
    elif not trit and not quint:
        value = _replicate(code, bits, 6)
    else:
        pattern, c = _WEIGHT_SPREAD[3 if trit else 5, bits]
        a = 0x7F if code & 1 else 0
        t = ((code >> bits) * c + _spread(pattern, code, bits)) ^ a
        value = a & 0x20 | t >> 2
    return value + 1 if value > 32 else value


# Values by level and code; levels of colours begin at 6 values, those before are never used.
COLOURS = np.zeros((len(LEVELS), 256), np.int64)
WEIGHTS = np.zeros((WEIGHT_LEVELS, 32), np.int64)
for _level, _count in enumerate(LEVELS):
    if _count >= 6:
        COLOURS[_level, :_count] = [_colour(code, _level) for code in range(_count)]
    if _level < WEIGHT_LEVELS:
        WEIGHTS[_level, :_count] = [_weight(code, _level) for code in range(_count)]


@njit(**BARE)
def sequence_bits(count, level, split):
    """Return how many bits a sequence of `count` numbers of a level takes."""
    return count * split[level, 2] + (8 * count + 4) // 5 * split[level, 0] + (7 * count + 2) // 3 * split[level, 1]


def _finest() -> NDArray[np.int64]:
    count, room = np.arange(19)[:, None, None], np.arange(128)[None, :, None]
    trits, quints, bits = SPLIT.T
    fits = count * bits + (8 * count + 4) // 5 * trits + (7 * count + 2) // 3 * quints <= room
    fits[..., :4] = False
    return np.where(fits.any(axis=2), len(LEVELS) - 1 - fits[..., ::-1].argmax(axis=2), -1)


# The finest level of colour values by how many there are (at most 18) and the bits that they have (below 128); -1 where not
# even values of 6 fit.
FINEST = _finest()


@njit(**BARE)
def partition_of(seed, x, y, count, small):
    """Return the partition of a pixel (section 23.19); `small` for blocks of fewer than 31 pixels."""
    if small:
        x <<= 1
        y <<= 1
    seed += (count - 1) * 1024
    # Thirty-two bits in wider numbers: what overflows is cut off after each step.
    r = seed ^ seed >> 15
    r = r * 0xEEDE0891 & 0xFFFFFFFF
    r ^= r >> 5
    r = r + (r << 16) & 0xFFFFFFFF
    r ^= r >> 7
    r ^= r >> 3
    r = r ^ r << 6 & 0xFFFFFFFF
    r ^= r >> 17
    s = (r & 15, r >> 4 & 15, r >> 8 & 15, r >> 12 & 15, r >> 16 & 15, r >> 20 & 15, r >> 24 & 15, r >> 28 & 15)
    first = 4 if seed & 2 else 5
    second = 6 if count == 3 else 5
    odd, even = (first, second) if seed & 1 else (second, first)
    a = (s[0] * s[0] >> odd) * x + (s[1] * s[1] >> even) * y + (r >> 14)
    b = (s[2] * s[2] >> odd) * x + (s[3] * s[3] >> even) * y + (r >> 10)
    c = (s[4] * s[4] >> odd) * x + (s[5] * s[5] >> even) * y + (r >> 6)
    d = (s[6] * s[6] >> odd) * x + (s[7] * s[7] >> even) * y + (r >> 2)
    a, b, c, d = a & 63, b & 63, c & 63, d & 63
    if count < 4:
        d = 0
    if count < 3:
        c = 0
    if a >= b and a >= c and a >= d:
        return 0
    if b >= c and b >= d:
        return 1
    return 2 if c >= d else 3


@njit(**BARE)
def grid_of(mode):
    """Return width, height, weight level and planes that the lowest eleven bits of a block name; width 0 if reserved."""
    a, b = mode >> 5 & 3, mode >> 7 & 3
    high, dual = mode >> 9 & 1, mode >> 10 & 1
    if mode & 3:
        step = (mode & 3) << 1 | mode >> 4 & 1
        kind = mode >> 2 & 3
        if kind == 0:
            width, height = b + 4, a + 2
        elif kind == 1:
            width, height = b + 8, a + 2
        elif kind == 2:
            width, height = a + 2, b + 8
        elif b & 2:
            width, height = (b & 1) + 2, a + 2
        else:
            width, height = a + 2, (b & 1) + 6
    else:
        step = (mode >> 2 & 3) << 1 | mode >> 4 & 1
        if b == 0:
            width, height = 12, a + 2
        elif b == 1:
            width, height = a + 2, 12
        elif b == 2:
            width, height, high, dual = a + 6, (mode >> 9 & 3) + 6, 0, 0
        elif a == 0:
            width, height = 6, 10
        elif a == 1:
            width, height = 10, 6
        else:
            width, height = 0, 0
    if step < 2:
        width = 0
    return width, height, step - 2 + 6 * high, 1 + dual
