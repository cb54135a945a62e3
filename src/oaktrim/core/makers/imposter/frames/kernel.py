"""What is done for each pixel that frames are drawn on; see `lookup`. A texel has the columns that are named there."""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.kernels import njit
from oaktrim.core.render.lighting import shade

_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
# In halves of a frame: how far depth may disagree until a frame weighs half, within what it is sure of a surface, and how thick
# what a march meets is taken to be; and how far a frame that is sure overrules one that sees nothing. The shader has the same.
RESIDUAL, SURE, SHELL, TRUST = 0.05, 0.008, 0.12, 0.6


@njit(**_KERNEL)
def _read(codes, starts, tables, columns, side, column, row, u, v, lod, first, last, out):
    """Fill out[first:last] with texels of a frame at u, v (0 to 1 from its upper left), between levels and texels.

    Parameters
    ----------
    codes : (N, 14) uint8; starts : (L,) where levels begin; columns : of frames; side : of one on the first level, texels
    tables : (2, 256) from codes to light, as sRGB and as they are
    """
    below = min(int(lod), starts.shape[0] - 1)
    part = lod - below
    for c in range(first, last):
        out[c] = 0.0
    for step in range(2):
        level = min(below + step, starts.shape[0] - 1)
        share = part if step else 1.0 - part
        if share <= 0.0:
            continue
        f = side >> level
        x = min(max(u * f - 0.5, 0.0), f - 1.0)
        y = min(max(v * f - 0.5, 0.0), f - 1.0)
        x0, y0 = int(x), int(y)
        x1, y1 = min(x0 + 1, f - 1), min(y0 + 1, f - 1)
        fx, fy = x - x0, y - y0
        line = columns * f
        left = starts[level] + column * f
        a = left + (row * f + y0) * line + x0
        b = left + (row * f + y0) * line + x1
        c0 = left + (row * f + y1) * line + x0
        d = left + (row * f + y1) * line + x1
        wa, wb, wc, wd = (1 - fx) * (1 - fy) * share, fx * (1 - fy) * share, (1 - fx) * fy * share, fx * fy * share
        for c in range(first, last):
            table = 0 if c < 3 or c >= 11 else 1
            out[c] += (
                wa * tables[table, codes[a, c]] + wb * tables[table, codes[b, c]] + wc * tables[table, codes[c0, c]]
                + wd * tables[table, codes[d, c]]
            )  # fmt: skip


@njit(**_KERNEL)
def _height_at(codes, starts, tables, columns, side, cell, u, v, lod, out):
    """Return how far from the plane of the centre a frame is at a place, in halves of a frame."""
    _read(codes, starts, tables, columns, side, cell[0], cell[1], u, v, lod, 7, 8, out)
    return out[7] * 2.0 - 1.0


@njit(**_KERNEL)
def _met(
    ox, oy, oz, wx, wy, wz, basis, cell, steps, codes, starts, tables, columns, side, lod, enter, leave, out, where
):
    """Find where a ray meets a frame; return whether it does, with u, v and the disagreement of depth in `where` (3,).

    Parameters
    ----------
    ox..wz : the ray, from the centre in halves of a frame; basis : (3, 3) to the right, up, and to where it is seen from
    enter, leave : where along the ray it is within the sphere around the frame
    """
    od = ox * basis[2, 0] + oy * basis[2, 1] + oz * basis[2, 2]
    wd = wx * basis[2, 0] + wy * basis[2, 1] + wz * basis[2, 2]
    ou, wu = (
        ox * basis[0, 0] + oy * basis[0, 1] + oz * basis[0, 2],
        wx * basis[0, 0] + wy * basis[0, 1] + wz * basis[0, 2],
    )
    ov, wv = (
        ox * basis[1, 0] + oy * basis[1, 1] + oz * basis[1, 2],
        wx * basis[1, 0] + wy * basis[1, 1] + wz * basis[1, 2],
    )
    if steps >= 0:
        if abs(wd) < 1e-3:
            return False
        height = 0.0
        u = v = 0.0
        for step in range(steps + 1):
            t = (height - od) / wd
            u, v = 0.5 + 0.5 * (ou + wu * t), 0.5 - 0.5 * (ov + wv * t)
            found = _height_at(codes, starts, tables, columns, side, cell, u, v, lod, out)
            if step == steps:
                where[2] = abs(found - height) if steps > 0 else 0.0
            height = found
        where[0], where[1] = u, v
        return 0.0 <= u <= 1.0 and 0.0 <= v <= 1.0
    stride = (leave - enter) / 24
    for step in range(24):
        t = enter + stride * (step + 1)
        u, v = 0.5 + 0.5 * (ou + wu * t), 0.5 - 0.5 * (ov + wv * t)
        if not (0.0 <= u <= 1.0 and 0.0 <= v <= 1.0):
            continue
        height, at = _height_at(codes, starts, tables, columns, side, cell, u, v, lod, out), od + wd * t
        if at > height or at < height - SHELL - abs(wd) * stride:
            continue
        low, high = t - stride, t
        for _ in range(4):
            middle = 0.5 * (low + high)
            u, v = 0.5 + 0.5 * (ou + wu * middle), 0.5 - 0.5 * (ov + wv * middle)
            height = _height_at(codes, starts, tables, columns, side, cell, u, v, lod, out)
            if od + wd * middle > height:
                low = middle
            else:
                high = middle
        u, v = 0.5 + 0.5 * (ou + wu * high), 0.5 - 0.5 * (ov + wv * high)
        _read(codes, starts, tables, columns, side, cell[0], cell[1], u, v, lod, 3, 4, out)
        if out[3] < 0.25:
            continue
        height = _height_at(codes, starts, tables, columns, side, cell, u, v, lod, out)
        where[0], where[1], where[2] = u, v, abs(od + wd * high - height)
        return True
    return False


@njit(**_KERNEL)
def draw_rows(
    first, last, offsets, rays, cells, bases, weights, steps, codes, starts, tables, columns, side, lod, lit, lights, sky, centre,
    extent, colour, ids,
):  # fmt: skip
    """Draw rows [first, last) of pixels, each sample cut out where its cover is below a half.

    Parameters
    ----------
    offsets : (S, 2) float64, where samples lie in a pixel, 0 to 1
    rays : (6, 3) float64, from the centre in halves of a frame: an origin, what it gains from the middle of the picture to its
        right and to its upper edge, then a direction, and the same of that
    cells : (K, 2) int64 columns and rows of the frames that are read; bases : (K, 3, 3) as in `_met`; weights : (K,)
    steps : corrections by depth, -1 for a march; lod : level that is read
    codes, starts, tables, columns, side : as in `_read`
    lit : by `lights` (L, 13) and `sky` (2, 3); else the base colour
    centre : (3,) and extent : of half a frame, in the units of the scene
    colour : (H, W, 4) float32 linear, premultiplied, and ids : (H, W) int32, 0 where anything is; filled
    """
    height, width = ids.shape
    out, where, mixed = np.zeros(14), np.zeros(3), np.zeros(14)
    base, light = np.zeros(3, np.float32), np.zeros(3, np.float32)
    share = 1.0 / offsets.shape[0]
    for y in range(first, last):
        for x in range(width):
            red = green = blue = cover = 0.0
            for s in range(offsets.shape[0]):
                px = (x + offsets[s, 0]) / width * 2.0 - 1.0
                py = 1.0 - (y + offsets[s, 1]) / height * 2.0
                ox = rays[0, 0] + px * rays[1, 0] + py * rays[2, 0]
                oy = rays[0, 1] + px * rays[1, 1] + py * rays[2, 1]
                oz = rays[0, 2] + px * rays[1, 2] + py * rays[2, 2]
                wx = rays[3, 0] + px * rays[4, 0] + py * rays[5, 0]
                wy = rays[3, 1] + px * rays[4, 1] + py * rays[5, 1]
                wz = rays[3, 2] + px * rays[4, 2] + py * rays[5, 2]
                length = np.sqrt(wx * wx + wy * wy + wz * wz)
                wx, wy, wz = wx / length, wy / length, wz / length
                along = -(ox * wx + oy * wy + oz * wz)
                nearest = ox * ox + oy * oy + oz * oz - along * along
                if nearest > 1.0 or along < 0:
                    continue
                half = np.sqrt(1.0 - nearest)
                total = empty = sure = 0.0
                for c in range(14):
                    mixed[c] = 0.0
                for k in range(weights.shape[0]):
                    if weights[k] <= 0.0:
                        continue
                    hit = _met(
                        ox, oy, oz, wx, wy, wz, bases[k], cells[k], steps, codes, starts, tables, columns, side, lod,
                        along - half, along + half, out, where,
                    )  # fmt: skip
                    apart = where[2] / RESIDUAL if hit else 0.0
                    weight = weights[k] / (1.0 + apart * apart)
                    if not hit:
                        empty += weight
                        continue
                    _read(
                        codes,
                        starts,
                        tables,
                        columns,
                        side,
                        cells[k, 0],
                        cells[k, 1],
                        where[0],
                        where[1],
                        lod,
                        0,
                        14,
                        out,
                    )
                    alpha = out[3]
                    total += weight * alpha
                    empty += weight * (1.0 - alpha)
                    near = where[2] / SURE
                    sure = max(sure, alpha / ((1.0 + near * near) * (1.0 + near * near)))
                    mixed[3] += weight * alpha
                    for c in range(14):
                        if c != 3:
                            mixed[c] += weight * alpha * out[c]
                # A frame that sees nothing where another finds a surface just where it should be does not see that surface.
                total += empty * (1.0 - (TRUST * sure if steps != 0 else 0.0))
                if total <= 0.0 or mixed[3] < 0.5 * total:
                    continue
                inverse = 1.0 / mixed[3]
                cover += share
                if not lit:
                    red += share * mixed[0] * inverse
                    green += share * mixed[1] * inverse
                    blue += share * mixed[2] * inverse
                    continue
                nx, ny, nz = mixed[4] * inverse * 2 - 1, mixed[5] * inverse * 2 - 1, mixed[6] * inverse * 2 - 1
                size = np.sqrt(nx * nx + ny * ny + nz * nz)
                if size < 1e-3:
                    nx, ny, nz, size = -wx, -wy, -wz, 1.0
                for c in range(3):
                    base[c] = mixed[c] * inverse
                t = along - half
                shade(
                    base, np.float32(mixed[10] * inverse), np.float32(mixed[9] * inverse), np.float32(mixed[8] * inverse),
                    np.float32(nx / size), np.float32(ny / size), np.float32(nz / size), np.float32(-wx), np.float32(-wy),
                    np.float32(-wz), np.float32(centre[0] + (ox + wx * t) * extent),
                    np.float32(centre[1] + (oy + wy * t) * extent), np.float32(centre[2] + (oz + wz * t) * extent), lights, sky,
                    light,
                )  # fmt: skip
                red += share * (light[0] + mixed[11] * inverse)
                green += share * (light[1] + mixed[12] * inverse)
                blue += share * (light[2] + mixed[13] * inverse)
            colour[y, x, 0], colour[y, x, 1], colour[y, x, 2], colour[y, x, 3] = red, green, blue, cover
            ids[y, x] = 0 if cover > 0 else -1
