"""Numbers of ETC2 and EAC (Khronos Data Format Specification 1.3, tables 120, 121 and 134)."""

from __future__ import annotations

import numpy as np

# How far the T and H modes step from a colour.
DISTANCES = np.array([3, 6, 11, 16, 23, 32, 41, 64], np.int64)
# What a half block adds to its colour, by row and index.
MODIFIERS = np.array(
    [(a, b, -a, -b) for a, b in ((2, 8), (5, 17), (9, 29), (13, 42), (18, 60), (24, 80), (33, 106), (47, 183))],
    np.int64,
)
# What EAC adds to its base, times a factor, by row and index.
STEPS = np.array(
    [
        [-3, -6, -9, -15, 2, 5, 8, 14], [-3, -7, -10, -13, 2, 6, 9, 12], [-2, -5, -8, -13, 1, 4, 7, 12],
        [-2, -4, -6, -13, 1, 3, 5, 12], [-3, -6, -8, -12, 2, 5, 7, 11], [-3, -7, -9, -11, 2, 6, 8, 10],
        [-4, -7, -8, -11, 3, 6, 7, 10], [-3, -5, -8, -11, 2, 4, 7, 10], [-2, -6, -8, -10, 1, 5, 7, 9],
        [-2, -5, -8, -10, 1, 4, 7, 9], [-2, -4, -8, -10, 1, 3, 7, 9], [-2, -5, -7, -10, 1, 4, 6, 9],
        [-3, -4, -7, -10, 2, 3, 6, 9], [-1, -2, -3, -10, 0, 1, 2, 9], [-4, -6, -8, -9, 3, 5, 7, 8],
        [-3, -5, -7, -9, 2, 4, 6, 8],
    ],
    np.int64,
)  # fmt: skip

# What goes with the colours of a block: nothing, one bit of alpha in each pixel's index, or a block of alpha.
ALONE, ONE_BIT, BESIDE = 0, 1, 2
