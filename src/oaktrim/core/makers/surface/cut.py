"""Made to repeat: both ends of a picture laid over each other, cut along the least noticeable path, and mixed over a width.

The path is a minimum error boundary cut (A. Efros and W. Freeman, "Image quilting for texture synthesis and transfer", 2001) with
the cost of a seam from V. Kwatra et al., "Graphcut textures" (2003): what both sides differ by on either side of it. Along an
axis that repeats already the path closes upon itself.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.surface.cutkernel import least_path
from oaktrim.core.makers.surface.settings import Stroke, Tile
from oaktrim.core.pixels.perception import oklab

Floats = NDArray[np.float32]
_KEPT = np.float32(1e3)
_LEAST_OVERLAP = 4
# Of a difference in OKLab, that any step costs: of two paths that show as little, the shorter is taken.
_STEP = np.float32(2e-4)


@dataclass(frozen=True, eq=False)
class Cut:
    """A path through the overlap of one axis.

    Parameters
    ----------
    share : of the side, that the overlap takes
    path : (N,) 0 to 1 through the overlap, at even steps along it
    """

    share: float
    path: Floats


def overlap_of(side: int, share: float) -> int:
    """Return how many texels of a side both ends share."""
    return min(side // 2, max(_LEAST_OVERLAP, round(side * share)))


def best_cut(light: Floats, how: Tile, closed: bool, keep: tuple[Stroke, ...], by_hand: tuple[float, ...]) -> Cut:
    """Return the cut of a picture from left to right.

    Parameters
    ----------
    light : (H, W, 1 or 3) linear
    closed : it repeats from top to bottom, so that the path has to meet itself
    keep : places that are not cut, as parts of this picture
    by_hand : the path, where it is not to be found
    """
    height, width = light.shape[:2]
    count = overlap_of(width, how.overlap)
    share = count / width
    if by_hand:
        # A path that closes ends where it began.
        by_hand = (*by_hand[:-1], by_hand[0]) if closed and len(by_hand) > 1 else by_hand
        places = np.interp(np.linspace(0, 1, height), np.linspace(0, 1, len(by_hand)), by_hand)
        return Cut(share, places.astype(np.float32))
    ends = [_lab(light[:, :count]), _lab(light[:, width - count :])]
    apart = np.sqrt(((ends[0] - ends[1]) ** 2).sum(axis=-1)) + _STEP
    # A seam shows what both of its sides differ by.
    cost = apart.copy()
    cost[:, 1:] += apart[:, :-1]
    cost[:, 0] += apart[:, 0]
    cost[:, [0, -1]] += _STEP
    for stroke in keep:
        cost += _KEPT * (_under(stroke, (0, count), light.shape) | _under(stroke, (width - count, width), light.shape))
    path = np.empty(height, np.int64)
    if closed:
        twice = np.concatenate([cost, cost])
        whole = np.empty(2 * height, np.int64)
        least_path(twice, -1, -1, whole)
        start = int(whole[height // 2])
        rolled = np.roll(cost, -(height // 2), axis=0)
        least_path(np.ascontiguousarray(rolled), start, start, path)
        path = np.roll(path, height // 2)
    else:
        least_path(np.ascontiguousarray(cost), -1, -1, path)
    return Cut(share, ((path + 0.5) / count).astype(np.float32))


def joined(values: Floats, cut: Cut, blend: float) -> Floats:
    """Return values (H, W, C) whose left and right ends are laid over each other along a cut: (H, W - overlap, C).

    Parameters
    ----------
    blend : texels over which both mix
    """
    height, width = values.shape[:2]
    count = overlap_of(width, cut.share)
    rows = np.interp(np.linspace(0, 1, height), np.linspace(0, 1, len(cut.path)), cut.path) * count
    away = np.arange(count, dtype=np.float32)[None, :] + 0.5 - rows[:, None].astype(np.float32)
    # The mixing ends with the overlap: at its ends each side is whole.
    room = np.minimum(rows, count - rows)[:, None].astype(np.float32)
    half = np.clip(np.minimum(blend / 2, room), 0.5, None)
    part = np.clip(away / (2 * half) + 0.5, 0, 1)
    part = (part * part * (3 - 2 * part))[..., None]
    # In the order that it lies in, so that what came turned can be turned back without another copy.
    out = values[:, : width - count].copy(order="K")
    out[:, :count] = values[:, width - count :] * (1 - part) + values[:, :count] * part
    return out


def _lab(light: Floats) -> Floats:
    colour = light[..., :3] if light.shape[2] >= 3 else np.repeat(light[..., :1], 3, axis=2)
    return oklab(np.maximum(colour, 0))


def _under(stroke: Stroke, columns: tuple[int, int], shape: tuple[int, ...]) -> NDArray[np.bool_]:
    """Say which texels of some columns lie under a stroke."""
    height, width = shape[:2]
    y, x = np.mgrid[0:height, columns[0] : columns[1]]
    radius = stroke.radius * min(height, width)
    found: NDArray[np.bool_] = (x + 0.5 - stroke.x * width) ** 2 + (y + 0.5 - stroke.y * height) ** 2 <= radius * radius
    return found
