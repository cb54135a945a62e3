"""What a mesh's UVs allow: whether they stay in one tile, and whether they cover a place twice."""

from __future__ import annotations

from math import cos, sin
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit

if TYPE_CHECKING:
    # Kernels do not stand on the model.
    from oaktrim.core.scene.model import Primitive, TextureUse

Points = NDArray[np.float32]

_GRID = 256
_SLACK = 1e-3


def used_uvs(primitive: Primitive, use: TextureUse) -> Points | None:
    """Return the UVs (N, 2) that a texture is read with, its transform applied (KHR_texture_transform), or None."""
    if use.uv_set >= len(primitive.uvs):
        return None
    uv = primitive.uvs[use.uv_set]
    if use.offset == (0, 0) and use.scale == (1, 1) and use.rotation == 0:
        return uv
    c, s = cos(use.rotation), sin(use.rotation)
    turn = np.array([[c, s], [-s, c]])
    moved: Points = ((uv * use.scale) @ turn.T + use.offset).astype(np.float32)
    return moved


def leaves_tile(uv: Points) -> bool:
    """Say whether UVs (N, 2) reach over the border of a tile; those that lie whole in another tile do not."""
    if not len(uv):
        return False
    low, high = uv.min(axis=0), uv.max(axis=0)
    return bool(np.any(high - np.floor(low + _SLACK) > 1 + _SLACK))


@njit(nogil=True, cache=True)
def _cover(uv, triangles, counts):
    """Count in `counts` (G, G) uint8 how many triangles hold the centre of each cell; uv (N, 2) in 0..1, wound either way."""
    grid = counts.shape[0]
    for t in range(triangles.shape[0]):
        ax, ay = uv[triangles[t, 0], 0] * grid, uv[triangles[t, 0], 1] * grid
        bx, by = uv[triangles[t, 1], 0] * grid, uv[triangles[t, 1], 1] * grid
        cx, cy = uv[triangles[t, 2], 0] * grid, uv[triangles[t, 2], 1] * grid
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0:
            continue
        for y in range(max(0, int(min(ay, by, cy) - 0.5)), min(grid, int(max(ay, by, cy) + 1.5))):
            for x in range(max(0, int(min(ax, bx, cx) - 0.5)), min(grid, int(max(ax, bx, cx) + 1.5))):
                px, py = x + 0.5, y + 0.5
                u = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                v = ((cx - bx) * (py - by) - (cy - by) * (px - bx)) / area
                w = ((ax - cx) * (py - cy) - (ay - cy) * (px - cx)) / area
                # Strictly inside: edges that two triangles share are not an overlap.
                if u > 1e-6 and v > 1e-6 and w > 1e-6 and counts[y, x] < 255:
                    counts[y, x] += 1


def overlap_share(uv: Points, triangles: np.ndarray) -> float:
    """Return which part of the covered UV area is covered more than once; UVs outside one tile are wrapped to it.

    Parameters
    ----------
    uv : (N, 2) float32; triangles : (M, 3) int64
    """
    if not len(uv) or not len(triangles):
        return 0.0
    counts = np.zeros((_GRID, _GRID), np.uint8)
    within = np.ascontiguousarray(np.clip(uv - np.floor(uv.min(axis=0)), -1, 2), np.float32)
    _cover(within, np.ascontiguousarray(triangles), counts)
    covered = int((counts > 0).sum())
    return float((counts > 1).sum()) / covered if covered else 0.0
