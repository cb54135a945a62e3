"""The closed form of demand: triangles weighed by the pixels that they would take, nothing hidden behind anything.

Each triangle that faces the eye counts with the area it has on the screen, and with the footprint in its middle. It is good
for a ledger and for sorting, to about a level; pictures replace it.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.render.drawlist import UV, DrawList
from oaktrim.core.sight.reads import Reads
from oaktrim.core.sight.views import View
from oaktrim.core.targets.target import Filtering

_PARTS, _LOWEST, _BINS = 16, -8, 24 * 16
# Triangles longer than this on the screen count in several places.
_PART_PIXELS, _MOST_PARTS = 64.0, 16


@njit(nogil=True, cache=True, error_model="numpy")
def _weigh(
    positions, attributes, triangles, materials, only, matrix, width, height, starts, textures, sets, matrices, sizes, area,
    both, weights,
):  # fmt: skip
    """Add to weights (T, BINS) the pixels of each triangle at the levels that it has, larger ones in several places."""
    xs, ys, ws = np.empty(3), np.empty(3), np.empty(3)
    for t in range(triangles.shape[0]):
        material = materials[t]
        if material < 0 or not only[t] or starts[material] == starts[material + 1]:
            continue
        for k in range(3):
            v = triangles[t, k]
            x, y, z = np.float64(positions[v, 0]), np.float64(positions[v, 1]), np.float64(positions[v, 2])
            xs[k] = matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2] * z + matrix[0, 3]
            ys[k] = matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2] * z + matrix[1, 3]
            ws[k] = matrix[3, 0] * x + matrix[3, 1] * y + matrix[3, 2] * z + matrix[3, 3]
        if not max(ws[0], ws[1], ws[2]) > 0.0:
            continue
        parts = _MOST_PARTS
        if min(ws[0], ws[1], ws[2]) > 0.0:
            reach = 0.0
            for k in range(3):
                n = (k + 1) % 3
                across, down = xs[k] / ws[k] - xs[n] / ws[n], ys[k] / ws[k] - ys[n] / ws[n]
                reach = max(reach, abs(across) * width, abs(down) * height)
            parts = int(min(max(reach / _PART_PIXELS, 1.0), _MOST_PARTS))
        for i in range(parts):
            for j in range(2 * (parts - i) - 1):
                # Middles of the triangles that a grid of so many rows has.
                upright = j % 2 == 0
                p = (i + (1.0 / 3.0 if upright else 2.0 / 3.0)) / parts
                q = (j // 2 + (1.0 / 3.0 if upright else 2.0 / 3.0)) / parts
                _weigh_place(
                    t, 1.0 - p - q, q, p, 1.0 / (parts * parts), xs, ys, ws, attributes, triangles, width, height, starts[material],
                    starts[material + 1], textures, sets, matrices, sizes, area, both[material], weights,
                )  # fmt: skip


@njit(nogil=True, cache=True, error_model="numpy")
def _weigh_place(
    t, wa, wb, wc, share, xs, ys, ws, attributes, triangles, width, height, first, last, textures, sets, matrices, sizes,
    area, both, weights,
):  # fmt: skip
    """Add to weights what a share of a triangle takes on the screen around a place in it."""
    px, py = wa * xs[0] + wb * xs[1] + wc * xs[2], wa * ys[0] + wb * ys[1] + wc * ys[2]
    pw = wa * ws[0] + wb * ws[1] + wc * ws[2]
    if not pw > 0.0 or abs(px) > pw or abs(py) > pw:
        return
    # Derivatives of the screen by the triangle's two edges, at that place: d(x / w) = (dx w - x dw) / w^2.
    sx, sy = 0.5 * width / (pw * pw), -0.5 * height / (pw * pw)
    d1x = ((xs[1] - xs[0]) * pw - px * (ws[1] - ws[0])) * sx
    d1y = ((ys[1] - ys[0]) * pw - py * (ws[1] - ws[0])) * sy
    d2x = ((xs[2] - xs[0]) * pw - px * (ws[2] - ws[0])) * sx
    d2y = ((ys[2] - ys[0]) * pw - py * (ws[2] - ws[0])) * sy
    det = d1x * d2y - d1y * d2x
    # Screens run down: what faces the eye turns clockwise there.
    if not abs(det) > 1e-12 or (det > 0 and not both):
        return
    pixels = min(abs(det) / 2 * share, width * height)
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    for use in range(first, last):
        k, at = textures[use], UV + 2 * sets[use]
        u1, v1 = attributes[b, at] - attributes[a, at], attributes[b, at + 1] - attributes[a, at + 1]
        u2, v2 = attributes[c, at] - attributes[a, at], attributes[c, at + 1] - attributes[a, at + 1]
        ux, uy = (u1 * d2y - u2 * d1y) / det, (u2 * d1x - u1 * d2x) / det
        vx, vy = (v1 * d2y - v2 * d1y) / det, (v2 * d1x - v1 * d2x) / det
        m = matrices[use]
        sux, svx = (m[0] * ux + m[1] * vx) * sizes[k, 0], (m[2] * ux + m[3] * vx) * sizes[k, 1]
        suy, svy = (m[0] * uy + m[1] * vy) * sizes[k, 0], (m[2] * uy + m[3] * vy) * sizes[k, 1]
        square = abs(sux * svy - svx * suy) if area else max(sux * sux + svx * svx, suy * suy + svy * svy)
        level = 0.5 * np.log2(square)
        if level > _LOWEST:
            weights[k, min(int((level - _LOWEST) * _PARTS), _BINS - 1)] += pixels


def estimate(
    draws: DrawList, reads: Reads, view: View, filtering: Filtering, percentile: float
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return the levels to spare (T,) at a percentile of the pixels of a view, NaN where not seen, and about how many there are."""
    width, height = view.screen
    weights = np.zeros((len(reads.rows), _BINS))
    only = np.ones(len(draws.triangles), np.bool_) if view.only is None else np.ascontiguousarray(view.only)
    matrix: NDArray[Any] = np.ascontiguousarray(view.camera.to_clip(width / height))
    _weigh(
        draws.positions, draws.attributes, draws.triangles, draws.materials, only, matrix, float(width), float(height),
        *reads.tables(), filtering is Filtering.ANISOTROPIC, reads.two_sided, weights,
    )  # fmt: skip
    totals = weights.sum(axis=1)
    above = np.cumsum(weights, axis=1)
    at = (above < (totals * (100 - percentile) / 100)[:, None] + 1e-12).sum(axis=1)
    levels = np.where(totals >= 1, _LOWEST + (np.minimum(at, _BINS - 1) + 0.5) / _PARTS, np.nan)
    return levels, np.minimum(totals, width * height).astype(np.int64)
