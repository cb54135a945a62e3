"""Triangles on a picture: which one each pixel shows, and where on it, by depth.

J. Pineda, "A parallel algorithm for polygon rasterization" (1988), with barycentric weights brought back to the surface as
J. Blinn, "Hyperbolic interpolation" (1992) has it. Pixels whose centre lies on an edge go to both triangles.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

Points = NDArray[np.float32]


@njit(nogil=True, cache=True)
def _fill(spots, triangles, depth, owner, weights):
    """Fill depth (H, W), owner (H, W) and weights (H, W, 2) from spots (N, 3): x, y in pixels and 1 / distance.

    A larger `depth` is nearer: it holds 1 / distance, which is linear on the picture.
    """
    height, width = depth.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        wa, wb, wc = spots[a, 2], spots[b, 2], spots[c, 2]
        if wa <= 0 or wb <= 0 or wc <= 0:
            continue
        ax, ay, bx, by, cx, cy = spots[a, 0], spots[a, 1], spots[b, 0], spots[b, 1], spots[c, 0], spots[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0:
            continue
        left, right = max(0, int(min(ax, bx, cx))), min(width - 1, int(max(ax, bx, cx)))
        top, bottom = max(0, int(min(ay, by, cy))), min(height - 1, int(max(ay, by, cy)))
        for y in range(top, bottom + 1):
            py = y + 0.5
            for x in range(left, right + 1):
                px = x + 0.5
                u = ((bx - px) * (cy - py) - (by - py) * (cx - px)) / area
                v = ((cx - px) * (ay - py) - (cy - py) * (ax - px)) / area
                w = 1.0 - u - v
                if u < 0 or v < 0 or w < 0:
                    continue
                near = u * wa + v * wb + w * wc
                if near > depth[y, x]:
                    depth[y, x] = near
                    owner[y, x] = t
                    weights[y, x, 0] = u * wa / near
                    weights[y, x, 1] = v * wb / near


@dataclass(frozen=True)
class Seen:
    """What a picture shows.

    Parameters
    ----------
    owner : (H, W) int64, the triangle at each pixel, -1 where there is none
    weights : (H, W, 3) float32, of its three corners
    depth : (H, W) float32, 1 / distance
    """

    owner: NDArray[np.int64]
    weights: Points
    depth: Points

    def blended(self, values: Points, triangles: NDArray[np.int64]) -> Points:
        """Return values of corners (N, C) at each pixel (H, W, C); what stands where nothing is shown means nothing."""
        corners = triangles[np.maximum(self.owner, 0)]
        found: Points = (values[corners] * self.weights[..., None]).sum(axis=2)
        return found


def see(spots: Points, triangles: NDArray[np.int64], size: tuple[int, int], behind: Points | None = None) -> Seen:
    """Return which triangle each pixel of a picture shows.

    Parameters
    ----------
    spots : (N, 3): x and y in pixels from the top left, and 1 / distance, 0 or less behind the eye
    triangles : (M, 3) rows of spots
    size : width and height
    behind : depth of what hides them where it is nearer
    """
    width, height = size
    depth = np.zeros((height, width), np.float32) if behind is None else behind.copy()
    owner = np.full((height, width), -1, np.int64)
    weights = np.zeros((height, width, 2), np.float32)
    order = np.ascontiguousarray(triangles, np.int64)
    _fill(np.ascontiguousarray(spots, np.float32), order, depth, owner, weights)
    third = 1 - weights.sum(axis=2, keepdims=True)
    return Seen(owner, np.concatenate([weights, third], axis=2).astype(np.float32), depth)
