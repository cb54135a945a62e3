"""Which triangle each sample of a picture shows: clipping, the fill rule, and depth.

J. Pineda, "A parallel algorithm for polygon rasterization" (1988), on coordinates of 8 sub-pixel bits in 64-bit integers, so
that triangles that share an edge neither overlap nor leave a gap (OpenGL 4.6 core, clause 14.6.1). What a sample shows is a
word, depth above the triangle's place, and the least one stands (C. Burns and W. Hunt, "The visibility buffer", 2013): the
order of drawing and the number of threads change nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit

KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
TILE_WIDE, TILE_HIGH = 64, 32
# Coordinates in 256ths of a pixel.
BITS = 8
ONE = 1 << BITS
EMPTY = np.uint64(0xFFFFFFFFFFFFFFFF)
# Depth is kept in 32 bits: a plain fraction is finer near 1, where most of it lies, than a float would be.
_FINE, _FARTHEST = 281474976710656.0, np.int64((1 << 48) - 1)
# Pixels that coordinates may lie outside the picture before a triangle is clipped to that.
_GUARD = 1 << 20
# A triangle cut by the near plane and by the four of the guard has at most eight corners, six triangles.
_MOST_PIECES = 6
_NOTHING, _PLAIN, _CLIPPED = 0, 1, 2


@njit(**KERNEL)
def transform(positions, matrix, out):
    """Fill `out` (N, 4) float64 with positions (N, 3) float32 in clip space."""
    for i in range(positions.shape[0]):
        x, y, z = np.float64(positions[i, 0]), np.float64(positions[i, 1]), np.float64(positions[i, 2])
        for k in range(4):
            out[i, k] = matrix[k, 0] * x + matrix[k, 1] * y + matrix[k, 2] * z + matrix[k, 3]


@njit(**KERNEL)
def classify(clip, triangles, guard_x, guard_y, kinds):
    """Fill `kinds` (M,) uint8: whether a triangle is seen at all, and whether it has to be clipped."""
    for t in range(triangles.shape[0]):
        every = 63
        any_near, any_far_out = 0, 0
        finite = True
        for k in range(3):
            v = triangles[t, k]
            x, y, z, w = clip[v, 0], clip[v, 1], clip[v, 2], clip[v, 3]
            if not (abs(x) < 1e18 and abs(y) < 1e18 and abs(z) < 1e18 and abs(w) < 1e18):
                finite = False
                break
            code = 0
            if x < -w:
                code |= 1
            if x > w:
                code |= 2
            if y < -w:
                code |= 4
            if y > w:
                code |= 8
            if z < -w:
                code |= 16
                any_near = 1
            if z > w:
                code |= 32
            if abs(x) > guard_x * w or abs(y) > guard_y * w or w <= 0.0:
                any_far_out = 1
            every &= code
        if not finite or every != 0:
            kinds[t] = _NOTHING
        elif any_near or any_far_out:
            kinds[t] = _CLIPPED
        else:
            kinds[t] = _PLAIN


@njit(**KERNEL)
def _distance(plane, x, y, z, w, guard_x, guard_y):
    if plane == 0:
        return z + w
    if plane == 1:
        return guard_x * w - x
    if plane == 2:
        return guard_x * w + x
    if plane == 3:
        return guard_y * w - y
    return guard_y * w + y


@njit(**KERNEL)
def _clip(corners, count, other, guard_x, guard_y):
    """Clip a polygon (K, 4) against the near plane and the guard; return how many corners are left, in `corners`."""
    for plane in range(5):
        kept = 0
        for k in range(count):
            n = k + 1 if k + 1 < count else 0
            a = _distance(plane, corners[k, 0], corners[k, 1], corners[k, 2], corners[k, 3], guard_x, guard_y)
            b = _distance(plane, corners[n, 0], corners[n, 1], corners[n, 2], corners[n, 3], guard_x, guard_y)
            if a >= 0.0:
                for c in range(4):
                    other[kept, c] = corners[k, c]
                kept += 1
            if (a >= 0.0) != (b >= 0.0):
                # Always from the corner that is kept to the one that is not: a shared edge is cut at one point.
                if a >= 0.0:
                    inside, outside, t = k, n, a / (a - b)
                else:
                    inside, outside, t = n, k, b / (b - a)
                for c in range(4):
                    other[kept, c] = corners[inside, c] + t * (corners[outside, c] - corners[inside, c])
                kept += 1
        count = kept
        for k in range(count):
            for c in range(4):
                corners[k, c] = other[k, c]
        if count < 3:
            return 0
    return count


@njit(**KERNEL)
def _snap(value):
    """Round to the nearest of 256ths of a pixel, halves to even, as drivers do."""
    return np.int64(np.rint(value * ONE))


@njit(**KERNEL)
def set_up(
    clip, triangles, kinds, two_sided, starts, width, height, guard_x, guard_y, first, last, corners_out, owners
):
    """Fill corners (P, 6) int64 in 256ths of a pixel and owners (P,) int32 of the pieces of triangles [first, last).

    Corners go around so that the inside is at the right of each edge as x goes right and y down. Owners of pieces that are not
    drawn, because they have no area or show a back that is not drawn, are -1.
    """
    polygon, other = np.empty((16, 4)), np.empty((16, 4))
    half_x, half_y = 0.5 * width, 0.5 * height
    for t in range(first, last):
        if kinds[t] == _NOTHING:
            continue
        for k in range(3):
            for c in range(4):
                polygon[k, c] = clip[triangles[t, k], c]
        count = 3
        if kinds[t] == _CLIPPED:
            count = _clip(polygon, 3, other, guard_x, guard_y)
        at = starts[t]
        for piece in range(count - 2):
            for k in range(3):
                c = 0 if k == 0 else piece + k
                inverse = 1.0 / polygon[c, 3]
                corners_out[at, 2 * k] = _snap((polygon[c, 0] * inverse + 1.0) * half_x)
                corners_out[at, 2 * k + 1] = _snap((1.0 - polygon[c, 1] * inverse) * half_y)
            x0, y0 = corners_out[at, 0], corners_out[at, 1]
            area = (corners_out[at, 2] - x0) * (corners_out[at, 5] - y0) - (corners_out[at, 4] - x0) * (
                corners_out[at, 3] - y0
            )
            if area == 0 or (area > 0 and not two_sided[t]):
                owners[at] = -1
            else:
                if area < 0:
                    for c in range(2):
                        corners_out[at, 2 + c], corners_out[at, 4 + c] = corners_out[at, 4 + c], corners_out[at, 2 + c]
                owners[at] = t
            at += 1


@njit(**KERNEL)
def _least(a, b, c):
    return min(a, b, c)


@njit(**KERNEL)
def _most(a, b, c):
    return max(a, b, c)


@njit(**KERNEL)
def count_bins(corners, owners, across, down, counts):
    """Add to counts (tiles,) how many pieces touch each tile."""
    for p in range(owners.shape[0]):
        if owners[p] < 0:
            continue
        x0 = max(0, (_least(corners[p, 0], corners[p, 2], corners[p, 4]) >> BITS) // TILE_WIDE)
        x1 = min(across - 1, (_most(corners[p, 0], corners[p, 2], corners[p, 4]) >> BITS) // TILE_WIDE)
        y0 = max(0, (_least(corners[p, 1], corners[p, 3], corners[p, 5]) >> BITS) // TILE_HIGH)
        y1 = min(down - 1, (_most(corners[p, 1], corners[p, 3], corners[p, 5]) >> BITS) // TILE_HIGH)
        for ty in range(y0, y1 + 1):
            for tx in range(x0, x1 + 1):
                counts[ty * across + tx] += 1


@njit(**KERNEL)
def fill_bins(corners, owners, across, down, nexts, bins):
    """Write the pieces of each tile into `bins`, where `nexts` (tiles,) says that they go."""
    for p in range(owners.shape[0]):
        if owners[p] < 0:
            continue
        x0 = max(0, (_least(corners[p, 0], corners[p, 2], corners[p, 4]) >> BITS) // TILE_WIDE)
        x1 = min(across - 1, (_most(corners[p, 0], corners[p, 2], corners[p, 4]) >> BITS) // TILE_WIDE)
        y0 = max(0, (_least(corners[p, 1], corners[p, 3], corners[p, 5]) >> BITS) // TILE_HIGH)
        y1 = min(down - 1, (_most(corners[p, 1], corners[p, 3], corners[p, 5]) >> BITS) // TILE_HIGH)
        for ty in range(y0, y1 + 1):
            for tx in range(x0, x1 + 1):
                tile = ty * across + tx
                bins[nexts[tile]] = p
                nexts[tile] += 1


@njit(**KERNEL)
def _ceil_div(a, b):
    return -((-a) // b)


@njit(**KERNEL)
def span(corners, p, py, left, right, sx):
    """Return the first pixel and one past the last of a row whose samples a piece covers, within [left, right).

    Parameters
    ----------
    py : of the samples, in 256ths; sx : of a sample in its pixel, in 256ths
    """
    low, high = left, right
    for k in range(3):
        n = k + 1 if k < 2 else 0
        ax, ay = corners[p, 2 * k], corners[p, 2 * k + 1]
        dx, dy = corners[p, 2 * n] - ax, corners[p, 2 * n + 1] - ay
        # Inside where e >= least: samples on an edge belong to the triangle at its right, or above it.
        least = 0 if dy < 0 or (dy == 0 and dx < 0) else 1
        e = dx * (py - ay) - dy * (sx - ax)
        if dy == 0:
            if e < least:
                return 0, 0
        elif dy < 0:
            # e grows by -dy * ONE a pixel.
            low = max(low, _ceil_div(least - e, -dy * ONE))
        else:
            high = min(high, (e - least) // (dy * ONE) + 1)
    return low, high


@njit(**KERNEL)
def depth_plane(clip, triangles, t, width, height, out, planes):
    """Fill `out` (3,) so that depth, 0 to 1, is out[0] * x + out[1] * y + out[2] at pixel x, y; False where it is no plane.

    M. Olano and T. Greer, "Triangle scan conversion using 2D homogeneous coordinates" (1997): no special case for triangles
    that were clipped.
    """
    if not weights_of(clip, triangles, t, width, height, planes):
        return False
    for c in range(3):
        z = 0.0
        for k in range(3):
            z += planes[k, c] * clip[triangles[t, k], 2]
        out[c] = 0.5 * z
    out[2] += 0.5
    return True


@njit(**KERNEL)
def weights_of(clip, triangles, t, width, height, out):
    """Fill `out` (3, 3) so that corner k weighs out[k] @ (x, y, 1) at pixel x, y; they sum to 1 / w. False where it has no area."""
    ax = (clip[triangles[t, 0], 0] + clip[triangles[t, 0], 3]) * 0.5 * width
    ay = (clip[triangles[t, 0], 3] - clip[triangles[t, 0], 1]) * 0.5 * height
    aw = clip[triangles[t, 0], 3]
    bx = (clip[triangles[t, 1], 0] + clip[triangles[t, 1], 3]) * 0.5 * width
    by = (clip[triangles[t, 1], 3] - clip[triangles[t, 1], 1]) * 0.5 * height
    bw = clip[triangles[t, 1], 3]
    cx = (clip[triangles[t, 2], 0] + clip[triangles[t, 2], 3]) * 0.5 * width
    cy = (clip[triangles[t, 2], 3] - clip[triangles[t, 2], 1]) * 0.5 * height
    cw = clip[triangles[t, 2], 3]
    det = ax * (by * cw - cy * bw) - ay * (bx * cw - cx * bw) + aw * (bx * cy - cx * by)
    if det == 0.0:
        return False
    inverse = 1.0 / det
    out[0, 0], out[0, 1], out[0, 2] = (
        (by * cw - cy * bw) * inverse,
        (cx * bw - bx * cw) * inverse,
        (bx * cy - cx * by) * inverse,
    )
    out[1, 0], out[1, 1], out[1, 2] = (
        (cy * aw - ay * cw) * inverse,
        (ax * cw - cx * aw) * inverse,
        (cx * ay - ax * cy) * inverse,
    )
    out[2, 0], out[2, 1], out[2, 2] = (
        (ay * bw - by * aw) * inverse,
        (bx * aw - ax * bw) * inverse,
        (ax * by - bx * ay) * inverse,
    )
    return True


@njit(**KERNEL)
def word_of(depth, t):
    """Return what a sample shows as one number: the nearer, and of equals the first, is less."""
    # In this order what is not a number is held, too.
    held = depth if depth > 0.0 else 0.0
    held = held if held < 1.0 else 1.0
    fine = min(np.int64(held * _FINE), _FARTHEST)
    return (np.uint64(fine) >> np.uint64(16)) << np.uint64(32) | np.uint64(t)


@njit(**KERNEL)
def fill_span(plane, x, y, t, words, sample, row, first, last):
    """Fill a run of words[sample, row] with what is nearer of them and of a triangle, from pixel x, y on.

    Depth goes on in whole numbers of 2**-48, which a run of a tile's width does not wear out; so that several are done at once.
    """
    depth = plane[0] * x + plane[1] * y + plane[2]
    end = depth + plane[0] * (last - first - 1)
    if not (depth >= 0.0 and depth < 1.0 and end >= 0.0 and end < 1.0):
        for i in range(first, last):
            words[sample, row, i] = min(words[sample, row, i], word_of(depth, t))
            depth += plane[0]
        return
    held, step = np.int64(depth * _FINE), np.int64(np.rint(plane[0] * _FINE))
    mark = np.uint64(t)
    for i in range(np.uint64(first), np.uint64(last)):
        word = (np.uint64(max(held, 0)) >> np.uint64(16)) << np.uint64(32) | mark
        words[sample, row, i] = min(words[sample, row, i], word)
        held += step


@dataclass(frozen=True, eq=False)
class Projected:
    """Triangles on a picture, in the tiles that they touch.

    Parameters
    ----------
    clip : (N, 4) float64, vertices in clip space
    corners : (P, 6) int64, pieces of triangles in 256ths of a pixel; owners : (P,) int32, their triangles
    bins : pieces of all tiles, one after the other; starts : (tiles + 1,) where those of each begin
    size : of the picture
    """

    clip: NDArray[np.float64]
    corners: NDArray[np.int64]
    owners: NDArray[np.int32]
    bins: NDArray[np.int32]
    starts: NDArray[np.int64]
    size: tuple[int, int]

    @property
    def tiles(self) -> tuple[int, int]:
        """How many there are across and down."""
        return -(-self.size[0] // TILE_WIDE), -(-self.size[1] // TILE_HIGH)


def project(
    positions: NDArray[np.float32],
    triangles: NDArray[np.int32],
    two_sided: NDArray[np.bool_],
    matrix: NDArray[np.float64],
    size: tuple[int, int],
) -> Projected:
    """Return triangles as they lie on a picture.

    Parameters
    ----------
    positions : (N, 3); triangles : (M, 3) rows of them, counter-clockwise from the front
    two_sided : (M,) backs are drawn, too
    matrix : (4, 4) to clip space
    size : width and height in pixels
    """
    width, height = size
    clip = np.empty((len(positions), 4))
    transform(np.ascontiguousarray(positions, np.float32), np.ascontiguousarray(matrix, np.float64), clip)
    kinds = np.empty(len(triangles), np.uint8)
    guard_x, guard_y = 1 + 2 * _GUARD / width, 1 + 2 * _GUARD / height
    rows = np.ascontiguousarray(triangles, np.int32)
    classify(clip, rows, guard_x, guard_y, kinds)
    counts = np.array([0, 1, _MOST_PIECES], np.int64)[kinds]
    starts = np.cumsum(counts) - counts
    total = int(counts.sum())
    corners, owners = np.empty((total, 6), np.int64), np.full(total, -1, np.int32)
    set_up(clip, rows, kinds, two_sided, starts, width, height, guard_x, guard_y, 0, len(rows), corners, owners)
    across, down = -(-width // TILE_WIDE), -(-height // TILE_HIGH)
    bins_of = np.zeros(across * down, np.int64)
    count_bins(corners, owners, across, down, bins_of)
    ends = np.concatenate([[0], np.cumsum(bins_of)])
    bins = np.empty(int(ends[-1]), np.int32)
    fill_bins(corners, owners, across, down, ends[:-1].copy(), bins)
    return Projected(clip, corners, owners, bins, ends, size)
