"""The bytes of many chains of levels at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit

Counts = NDArray[np.int64]


def mip_chain_bytes(
    width: Counts, height: Counts, levels: Counts, block_width: Counts, block_height: Counts, block_bytes: Counts
) -> Counts:
    """Return the bytes of chains of levels, (N,) int64, from columns (N,).

    Parameters
    ----------
    width, height : pixels of the largest level
    levels : how many levels are kept
    block_width, block_height, block_bytes : of the format
    """
    out = np.empty(width.shape, np.int64)
    columns = (width, height, levels, block_width, block_height, block_bytes)
    _chain_columns(tuple(np.ascontiguousarray(column, np.int64) for column in columns), out)
    return out


@njit(nogil=True, cache=True)
def _chain_columns(columns: tuple[Counts, ...], out: Counts) -> None:
    width, height, levels, block_width, block_height, block_bytes = columns
    for i in range(out.shape[0]):
        total = 0
        for level in range(levels[i]):
            across = (max(1, width[i] >> level) + block_width[i] - 1) // block_width[i]
            down = (max(1, height[i] >> level) + block_height[i] - 1) // block_height[i]
            total += across * down * block_bytes[i]
        out[i] = total
