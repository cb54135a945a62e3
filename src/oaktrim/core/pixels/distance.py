"""Exact distances to the outline of a shape: what signed distance fields are made of.

P. Felzenszwalb and D. Huttenlocher, "Distance transforms of sampled functions", Theory of Computing 8 (2012): squared
distances by the lower envelope of parabolas along the rows, after a count down and up the columns.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit

_FAR = 1e12


@njit(nogil=True, cache=True)
def _along(values, count, parabola, border, out):
    """Fill `out` (count,) with the lower envelope of parabolas that stand on `values`."""
    last = 0
    parabola[0] = 0
    border[0], border[1] = -_FAR, _FAR
    for q in range(1, count):
        while True:
            p = parabola[last]
            meet = ((values[q] + q * q) - (values[p] + p * p)) / (2.0 * q - 2.0 * p)
            if meet > border[last]:
                break
            last -= 1
        last += 1
        parabola[last] = q
        border[last] = meet
        border[last + 1] = _FAR
    last = 0
    for q in range(count):
        while border[last + 1] < q:
            last += 1
        p = parabola[last]
        out[q] = (q - p) * (q - p) + values[p]


@njit(nogil=True, cache=True)
def _squared(inside, wanted, out):
    """Fill `out` (H, W) float64 with squared distances to the nearest pixel of `inside` that is `wanted`."""
    height, width = inside.shape
    values, result = np.empty(width), np.empty(width)
    parabola, border = np.empty(width, np.int64), np.empty(width + 1)
    # Down the columns, values of 0 and far need no parabolas: the nearest above and below is counted.
    for x in range(width):
        out[0, x] = 0.0 if inside[0, x] == wanted else _FAR
    for y in range(1, height):
        for x in range(width):
            out[y, x] = 0.0 if inside[y, x] == wanted else min(out[y - 1, x] + 1.0, _FAR)
    for y in range(height - 2, -1, -1):
        for x in range(width):
            out[y, x] = min(out[y, x], out[y + 1, x] + 1.0)
    for y in range(height):
        for x in range(width):
            values[x] = min(out[y, x] * out[y, x], _FAR)
        _along(values, width, parabola, border, result)
        for x in range(width):
            out[y, x] = min(result[x], _FAR)


def signed_distance(inside: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Return the distance of each pixel's centre to the outline, positive inside, in pixels.

    The outline runs half a pixel from the centres on both of its sides.

    Parameters
    ----------
    inside : (H, W) bool; pixels of a shape that is cut at the border stay inside

    Returns
    -------
    ndarray, shape (H, W), float32
    """
    shape = np.ascontiguousarray(inside).view(np.uint8)
    out, within = np.empty(shape.shape), np.empty(shape.shape)
    _squared(shape, 1, out)
    _squared(shape, 0, within)
    far = np.sqrt(np.where(shape == 1, within, out)) - 0.5
    return np.where(shape == 1, far, -far).astype(np.float32)
