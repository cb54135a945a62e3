"""Reading pictures for the texels of a sheet: copied where they are the same texels, resampled where they are not.

What is not moved by whole texels is read with the cubic of E. Catmull and R. Rom, "A class of local interpolating splines" (1974),
as often as a texel of the sheet is larger than one of the picture; in linear light, colours weighed by their alpha. What no
island has is filled by pulling and pushing (S. Gortler, R. Grzeszczuk, R. Szeliski and M. Cohen, "The lumigraph", 1996).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.makers.atlas.silhouettes import KERNEL
from oaktrim.core.pixels.image import Pixels

_ZERO, _HALF, _ONE, _TWO = (np.float32(v) for v in (0, 0.5, 1, 2))
# What a texel of a sheet is known of: nothing, everything, or that it is clear.
EMPTY, FULL, CLEAR = 0, 1, 2
REPEAT, CLAMP, MIRROR = 0, 1, 2
# How channels are read: apart, colour weighed by alpha, or as a unit vector.
APART, COVERED, VECTOR = 0, 1, 2
_LEAST_ALPHA = np.float32(1 / 512)


@njit(**KERNEL)
def _wrapped(at, size, how):
    """Return the texel that a place stands for, by what lies beyond the border."""
    if how == CLAMP:
        return min(max(at, 0), size - 1)
    if how == REPEAT:
        return at % size
    at %= 2 * size
    return at if at < size else 2 * size - 1 - at


@njit(**KERNEL)
def _owned(x, y, width, height, turn, cells, columns, cell):
    """Say whether a texel of a chart's turned box is the chart's; the box's width and height are those before turning."""
    if turn == 0:
        u, v = x, y
    elif turn == 1:
        u, v = width - 1 - y, x
    elif turn == 2:
        u, v = width - 1 - x, height - 1 - y
    else:
        u, v = y, height - 1 - x
    return cells[(v // cell) * columns + u // cell] != 0


@njit(**KERNEL)
def mark(cells, columns, cell, box, turn, place, shift, left, first, owned):
    """Say which texels of some rows of a chart's box on a sheet are its own.

    Parameters
    ----------
    cells : (T,) uint8, of its grid; columns : of the grid; cell : texels a cell
    box : (2,) int64, width and height before turning; place : (2,) of its corner; all in texels of the layout
    shift : the sheet is smaller than the layout by this many powers of two; left, first : column and row of the sheet
    owned : (H, W) bool, filled, from that column and row
    """
    for y in range(owned.shape[0]):
        v = ((2 * (first + y) + 1) << shift) // 2 - place[1]
        for x in range(owned.shape[1]):
            u = ((2 * (left + x) + 1) << shift) // 2 - place[0]
            wide, high = (box[0], box[1]) if turn % 2 == 0 else (box[1], box[0])
            inside = 0 <= u < wide and 0 <= v < high
            owned[y, x] = inside and _owned(u, v, box[0], box[1], turn, cells, columns, cell)


@njit(**KERNEL)
def copy(source, matrix, wraps, owned, left, top, signs, swap, out, channels, known):
    """Copy codes of texels that lie on the sheet's lattice.

    Parameters
    ----------
    source : (h, w, 4) codes; matrix : (2, 3) float64, from texels of the sheet to those of the source
    wraps : (2,) int64; owned : (H, W) bool of the rows from `top` and columns from `left`
    signs, swap : of vectors, whether their first and second channel are turned over, and change places
    out : (SH, SW, C) codes of the sheet; channels : (K, 2) int64, from which of the source to which of the sheet
    known : (SH, SW) uint8
    """
    height, width = source.shape[0], source.shape[1]
    largest = 255 if source.itemsize == 1 else 65535
    for y in range(owned.shape[0]):
        for x in range(owned.shape[1]):
            if not owned[y, x]:
                continue
            px, py = left + x + 0.5, top + y + 0.5
            sx = _wrapped(int(np.floor(matrix[0, 0] * px + matrix[0, 1] * py + matrix[0, 2])), width, wraps[0])
            sy = _wrapped(int(np.floor(matrix[1, 0] * px + matrix[1, 1] * py + matrix[1, 2])), height, wraps[1])
            for k in range(channels.shape[0]):
                value = source[sy, sx, channels[k, 0]]
                to = channels[k, 1]
                if to < 2 and (swap or signs[0] or signs[1]):
                    value = source[sy, sx, 1 - to if swap else to]
                    if signs[to]:
                        value = largest - value
                out[top + y, left + x, to] = value
            known[top + y, left + x] = FULL


@njit(**KERNEL)
def _weights(part, out):
    """Fill in the four weights of the Catmull-Rom cubic at a part of a step."""
    p2, p3 = part * part, part * part * part
    out[0] = _HALF * (-p3 + _TWO * p2 - part)
    out[1] = _HALF * (np.float32(3) * p3 - np.float32(5) * p2 + _TWO)
    out[2] = _HALF * (np.float32(-3) * p3 + np.float32(4) * p2 + part)
    out[3] = _HALF * (p3 - p2)


@njit(**KERNEL)
def read(source, table, alpha_table, matrix, wraps, samples, how, turn, bump, owned, left, top, light):
    """Read a picture through a matrix.

    Parameters
    ----------
    source : (h, w, 4) codes; table, alpha_table : float32, the light of each code
    matrix : (2, 3) float64, from texels of the sheet to those of the source; wraps : (2,) int64
    samples : across and down, of each texel of the sheet
    how : APART, COVERED or VECTOR; turn : (2, 2) float32, of vectors; bump : float32, what their slope is multiplied by
    owned : (H, W) bool, which texels are wanted; left, top : of the first on the sheet
    light : (H, W, 4) float32, filled: straight alpha, 0 unless it covers; vectors as 0..1
    """
    height, width = source.shape[0], source.shape[1]
    wx, wy = np.empty(4, np.float32), np.empty(4, np.float32)
    columns = np.empty(4, np.int64)
    share = _ONE / np.float32(samples * samples)
    for y in range(owned.shape[0]):
        for x in range(owned.shape[1]):
            if not owned[y, x]:
                continue
            red = green = blue = alpha = _ZERO
            for sub in range(samples * samples):
                px = left + x + (sub % samples + 0.5) / samples
                py = top + y + (sub // samples + 0.5) / samples
                fx = matrix[0, 0] * px + matrix[0, 1] * py + matrix[0, 2] - 0.5
                fy = matrix[1, 0] * px + matrix[1, 1] * py + matrix[1, 2] - 0.5
                ix, iy = int(np.floor(fx)), int(np.floor(fy))
                _weights(np.float32(fx - ix), wx)
                _weights(np.float32(fy - iy), wy)
                inside = ix >= 1 and ix + 2 < width
                for k in range(4):
                    columns[k] = ix + k - 1 if inside else _wrapped(ix + k - 1, width, wraps[0])
                for j in range(4):
                    if wy[j] == _ZERO:
                        continue
                    row = _wrapped(iy + j - 1, height, wraps[1])
                    for i in range(4):
                        w = wy[j] * wx[i] * share
                        if w == _ZERO:
                            continue
                        at = columns[i]
                        if how == COVERED:
                            a = alpha_table[source[row, at, 3]]
                            alpha += w * a
                            w *= a
                        red += w * table[source[row, at, 0]]
                        green += w * table[source[row, at, 1]]
                        blue += w * table[source[row, at, 2]]
            if how == COVERED:
                if alpha > _LEAST_ALPHA:
                    red, green, blue = red / alpha, green / alpha, blue / alpha
            elif how == VECTOR:
                vx, vy, vz = (red * _TWO - _ONE) * bump, (green * _TWO - _ONE) * bump, blue * _TWO - _ONE
                tx, ty = turn[0, 0] * vx + turn[0, 1] * vy, turn[1, 0] * vx + turn[1, 1] * vy
                length = np.sqrt(tx * tx + ty * ty + vz * vz)
                if length < np.float32(1e-6):
                    tx, ty, vz, length = _ZERO, _ZERO, _ONE, _ONE
                red, green, blue = (tx / length + _ONE) / _TWO, (ty / length + _ONE) / _TWO, (vz / length + _ONE) / _TWO
            light[y, x, 0], light[y, x, 1], light[y, x, 2], light[y, x, 3] = red, green, blue, alpha


def fill(pixels: Pixels, known: NDArray[np.uint8]) -> None:
    """Fill in what is not known of a sheet from what is, smoothly; of clear texels all but their alpha.

    Parameters
    ----------
    pixels : (H, W, C) codes, changed; known : (H, W) uint8, EMPTY, FULL or CLEAR
    """
    levels, masks = [pixels], [known]
    while max(levels[-1].shape[:2]) > 1:
        height, width = ((side + 1) // 2 for side in levels[-1].shape[:2])
        smaller, mask = np.zeros((height, width, pixels.shape[2]), pixels.dtype), np.zeros((height, width), np.uint8)
        _pull(levels[-1], masks[-1], smaller, mask)
        levels.append(smaller)
        masks.append(mask)
    for place in range(len(levels) - 2, -1, -1):
        _push(levels[place + 1], levels[place], masks[place])


@njit(**KERNEL)
def _pull(fine, known, coarse, mask):
    """Average what is known of each two by two texels."""
    for y in range(coarse.shape[0]):
        for x in range(coarse.shape[1]):
            count = 0
            for v in range(2 * y, min(2 * y + 2, fine.shape[0])):
                for u in range(2 * x, min(2 * x + 2, fine.shape[1])):
                    count += known[v, u] == FULL
            if not count:
                continue
            mask[y, x] = FULL
            for c in range(fine.shape[2]):
                total = 0
                for v in range(2 * y, min(2 * y + 2, fine.shape[0])):
                    for u in range(2 * x, min(2 * x + 2, fine.shape[1])):
                        if known[v, u] == FULL:
                            total += fine[v, u, c]
                coarse[y, x, c] = (total + count // 2) // count


@njit(**KERNEL)
def _push(coarse, fine, known):
    """Give texels that are not known what the four nearest of the coarser level have, by their distance."""
    height, width = coarse.shape[0], coarse.shape[1]
    for y in range(fine.shape[0]):
        near_y = y // 2
        far_y = min(max(near_y + (1 if y % 2 else -1), 0), height - 1)
        for x in range(fine.shape[1]):
            if known[y, x] == FULL:
                continue
            near_x = x // 2
            far_x = min(max(near_x + (1 if x % 2 else -1), 0), width - 1)
            stop = fine.shape[2] - 1 if known[y, x] == CLEAR else fine.shape[2]
            for c in range(stop):
                total = (
                    9 * np.int64(coarse[near_y, near_x, c])
                    + 3 * np.int64(coarse[near_y, far_x, c])
                    + 3 * np.int64(coarse[far_y, near_x, c])
                    + np.int64(coarse[far_y, far_x, c])
                )
                fine[y, x, c] = (total + 8) // 16
