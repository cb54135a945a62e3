"""The path of least cost through an overlap, row by row; see `cut`."""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.kernels import njit

_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}


@njit(**_KERNEL)
def least_path(cost, first, last, path):
    """Fill path (H,) int64 with the column of each row, at most one from row to row, whose costs sum up to least.

    Parameters
    ----------
    cost : (H, W) float32
    first, last : columns that it begins and ends in, -1 for any
    """
    height, width = cost.shape
    total = np.empty((height, width), np.float64)
    for x in range(width):
        total[0, x] = cost[0, x] if first < 0 or x == first else np.inf
    for y in range(1, height):
        for x in range(width):
            best = total[y - 1, x]
            if x > 0 and total[y - 1, x - 1] < best:
                best = total[y - 1, x - 1]
            if x < width - 1 and total[y - 1, x + 1] < best:
                best = total[y - 1, x + 1]
            total[y, x] = cost[y, x] + best
    at = last
    if at < 0:
        at = 0
        for x in range(width):
            if total[height - 1, x] < total[height - 1, at]:
                at = x
    path[height - 1] = at
    for y in range(height - 2, -1, -1):
        best = at
        if at > 0 and total[y, at - 1] < total[y, best]:
            best = at - 1
        if at < width - 1 and total[y, at + 1] < total[y, best]:
            best = at + 1
        at = best
        path[y] = at
