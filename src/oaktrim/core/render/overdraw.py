"""How often each pixel is drawn: every triangle that covers it counts, clear parts and hidden ones too."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import Drawable

_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
Counts = NDArray[np.int32]
# Stops of the ramp: never, once, as often as counts as a lot.
_PAPER, _OAK, _INK = (235, 230, 218), (156, 107, 48), (38, 35, 31)
MANY = 8


@njit(**_KERNEL)
def _inside(dx, dy, u, v):
    """Say whether a point lies inside an edge; one on it belongs to one of the two triangles that share it."""
    side = dx * v - dy * u
    return side > 0 or (side == 0 and (dy > 0 or (dy == 0 and dx < 0)))


@njit(**_KERNEL)
def _count(points, both, counts):
    """Add the triangles that cover the middle of each pixel.

    Parameters
    ----------
    points : (M, 3, 2) float64, pixels from the top left, NaN where one lies behind the eye
    both : (M,) bool, seen from behind too; counts : (H, W) int32, changed
    """
    height, width = counts.shape
    for t in range(points.shape[0]):
        x0, y0, x1, y1, x2, y2 = (
            points[t, 0, 0], points[t, 0, 1], points[t, 1, 0], points[t, 1, 1], points[t, 2, 0], points[t, 2, 1],
        )  # fmt: skip
        area = (x1 - x0) * (y2 - y0) - (y1 - y0) * (x2 - x0)
        if not (area != 0 and (both[t] or area < 0)):
            continue
        sign = 1.0 if area > 0 else -1.0
        left, right = max(0, int(np.floor(min(x0, x1, x2)))), min(width - 1, int(np.ceil(max(x0, x1, x2))))
        top, bottom = max(0, int(np.floor(min(y0, y1, y2)))), min(height - 1, int(np.ceil(max(y0, y1, y2))))
        for y in range(top, bottom + 1):
            for x in range(left, right + 1):
                u, v = x + 0.5, y + 0.5
                if (
                    _inside(sign * (x1 - x0), sign * (y1 - y0), u - x0, v - y0)
                    and _inside(sign * (x2 - x1), sign * (y2 - y1), u - x1, v - y1)
                    and _inside(sign * (x0 - x2), sign * (y0 - y2), u - x2, v - y2)
                ):
                    counts[y, x] += 1


def overdraw(scene: Drawable, camera: Camera, size: tuple[int, int]) -> Counts:
    """Return how many triangles cover each pixel, (H, W) int32; those that reach behind the eye are left out."""
    width, height = size
    draws = scene.draws
    counts = np.zeros((height, width), np.int32)
    if not len(draws.triangles):
        return counts
    homogeneous = np.concatenate([draws.positions.astype(np.float64), np.ones((len(draws.positions), 1))], axis=1)
    clip = homogeneous @ camera.to_clip(width / height).T
    with np.errstate(divide="ignore", invalid="ignore"):
        flat = clip[:, :2] / np.where(clip[:, 3:] > 1e-12, clip[:, 3:], np.nan)
    points = np.stack([(flat[:, 0] + 1) / 2 * width, (1 - flat[:, 1]) / 2 * height], axis=1)[draws.triangles]
    fine = np.isfinite(points).all(axis=(1, 2))
    _count(np.ascontiguousarray(np.clip(points[fine], -1e7, 1e7)), scene.two_sided[fine], counts)
    return counts


def in_colours(counts: Counts) -> NDArray[np.uint8]:
    """Return counts as sRGB codes (H, W, 4): clear where nothing is drawn, from paper over oak to ink for many times."""
    part = np.clip(counts / MANY, 0, 1)[..., None]
    low, middle, high = (np.array(row, np.float64) for row in (_PAPER, _OAK, _INK))
    shade = np.where(part < 0.5, low + (middle - low) * part * 2, middle + (high - middle) * (part * 2 - 1))
    out = np.zeros((*counts.shape, 4), np.uint8)
    out[..., :3], out[..., 3] = np.rint(shade), np.where(counts > 0, 255, 0)
    return out
