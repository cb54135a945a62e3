"""Light that is baked into a photograph: found at a large scale in the logarithm of luminance, and taken out.

What hue tells of luminance is paint, and does not count. A plane is the cast of light from one side, a quadratic and a smooth
rest are the shading beside it. The smooth rest is a local
M-smoother, which keeps edges: what differs much from its surroundings, such as cracks and paint, does not count (C. K. Chu, I. K.
Glad, F. Godtliebsen and J. S. Marron, "Edge-preserving smoothers for image processing", 1998).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, degrees, hypot
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, zoom

from oaktrim.core.makers.surface.settings import Flatten

Floats = NDArray[np.float32]
LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
# Cells of the grid that shading is found on, and how far a cell may differ from its surroundings to count, in stops.
_CELLS, _APART, _ROUNDS = 192, 0.8, 4
# Shading of less than so many stops is what any surface has; from the second figure on all of it counts.
_NOTHING, _SURE = 0.06, 0.16
_DARKEST = 1e-4
# Of a share of colour, that hue changes by without meaning anything.
_HUE_NOISE = 0.04
_SIDES = (
    "the right", "the upper right", "above", "the upper left", "the left", "the lower left", "below", "the lower right",
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class Shading:
    """What is baked in, in stops (factors of two).

    Parameters
    ----------
    rest : (h, w) on a grid over the picture, without the cast, with a mean of 0; cast : (h, w) the plane, likewise
    stops : of the cast, from one border to the other; angle : where the light comes from, degrees, 0 from the right, 90 from above
    """

    rest: Floats
    cast: Floats
    stops: float
    angle: float

    @property
    def left(self) -> float:
        """The standard deviation of all of it, stops."""
        return float((self.rest + self.cast).std())

    @property
    def side(self) -> str:
        """Where the light comes from, in words."""
        return _SIDES[round(self.angle / 45) % 8]


def luminance(light: Floats) -> Floats:
    """Return the luminance of light (H, W, C), (H, W); of one channel, that."""
    found: Floats = light[..., :3] @ LUMA if light.shape[2] >= 3 else light[..., 0]
    return found


def shading_of(light: Floats, seen: NDArray[np.bool_] | None = None, radius: float = 0.18) -> Shading:
    """Return the shading of a picture.

    Parameters
    ----------
    light : (H, W, C) linear; seen : (H, W) what counts, all without
    radius : as `Flatten` has it
    """
    cells, weights = _cells(luminance(light), seen)
    height, width = cells.shape
    if light.shape[2] >= len(LUMA):
        cells = cells - _painted(cells, weights, light, seen)
    y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j].astype(np.float32)
    columns = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=-1).reshape(-1, 6)
    fit = _fitted(columns, cells.reshape(-1), weights.reshape(-1))
    cast: Floats = (fit[1] * x + fit[2] * y).astype(np.float32)
    curved = (columns[:, 3:] @ fit[3:]).reshape(height, width)
    left = cells - cast - curved - fit[0]
    smooth = _smoothed(left, weights, max(1.0, radius * min(height, width) / 2))
    rest: Floats = (curved + smooth).astype(np.float32)
    rest -= rest.mean()
    slope = hypot(float(fit[1]), float(fit[2]))
    return Shading(rest, cast, 2 * slope, degrees(atan2(-float(fit[2]), float(fit[1]))) % 360)


def gain_of(shading: Shading, how: Flatten, size: tuple[int, int]) -> Floats:
    """Return the factors (H, W) that take shading out of light, as far as it is asked for.

    Parameters
    ----------
    size : width and height
    """
    rest = shading.rest * np.where(shading.rest < 0, how.shadows, how.highlights) * how.strength * _doubt(shading.rest)
    cast = shading.cast * how.cast * _doubt(shading.cast)
    stops = (rest + cast).astype(np.float32)
    width, height = size
    factors = height / stops.shape[0], width / stops.shape[1]
    wide: Floats = zoom(stops, factors, order=1, mode="nearest", grid_mode=True)[:height, :width]
    return np.exp2(-wide)


def _doubt(stops: Floats) -> float:
    """Return how far shading counts, 0 to 1: what is hardly there is the surface's own."""
    part = min(1.0, max(0.0, (float(stops.std()) - _NOTHING) / (_SURE - _NOTHING)))
    return part * part * (3 - 2 * part)


def _cells(light: Floats, seen: NDArray[np.bool_] | None) -> tuple[Floats, Floats]:
    """Return the mean logarithm of luminance (H, W) of cells in stops, and how much of each counts."""
    logs = np.log2(np.maximum(light, _DARKEST))
    weights = _means(np.ones_like(logs) if seen is None else seen.astype(np.float32))
    counted = logs if seen is None else logs * seen
    found: Floats = (_means(counted) / np.maximum(weights, 1e-6)).astype(np.float32)
    return found, weights


def _means(values: Floats) -> Floats:
    """Return the means of square cells of values (H, W)."""
    height, width = values.shape
    step = max(1, max(height, width) // _CELLS)
    rows, columns = max(1, height // step), max(1, width // step)
    found: Floats = values[: rows * step, : columns * step].reshape(rows, step, columns, step).mean(axis=(1, 3))
    return found


def _painted(cells: Floats, weights: Floats, light: Floats, seen: NDArray[np.bool_] | None) -> Floats:
    """Return what of the logarithm of luminance goes with the hue of cells, with a mean of 0: light does not change hue."""
    shown = None if seen is None else seen.astype(np.float32)
    red, green, blue = (_means(light[..., c] if shown is None else light[..., c] * shown) for c in range(3))
    total = np.maximum(red + green + blue, 1e-6)
    x, y = red / total, blue / total
    x, y = x - np.average(x, weights=weights + 1e-6), y - np.average(y, weights=weights + 1e-6)
    columns = np.stack([x, y, x * x, y * y, x * y], axis=-1).reshape(-1, 5).astype(np.float64)
    scaled = columns.T * weights.reshape(-1)
    # Where hue hardly changes it explains nothing.
    ridge = _HUE_NOISE**2 * float(weights.sum()) * np.diag([1, 1, 1e-3, 1e-3, 1e-3])
    found = np.linalg.solve(scaled @ columns + ridge + 1e-9 * np.eye(5), scaled @ (cells - cells.mean()).reshape(-1))
    paint: Floats = (columns @ found).reshape(cells.shape).astype(np.float32)
    paint -= paint.mean()
    return paint


def _fitted(columns: Floats, values: Floats, weights: Floats) -> NDArray[np.float64]:
    """Return the quadratic nearest to values, what stands out counting less each time."""
    counts: NDArray[Any] = weights.astype(np.float64)
    found: NDArray[Any] = np.zeros(columns.shape[1])
    for _ in range(_ROUNDS):
        scaled = columns.T * counts
        found = np.linalg.lstsq(scaled @ columns + 1e-6 * np.eye(len(found)), scaled @ values, rcond=None)[0]
        apart = (values - columns @ found) / _APART
        counts = weights / (1 + apart * apart)
    return found


def _smoothed(values: Floats, weights: Floats, sigma: float) -> Floats:
    """Return values smoothed, those far from their surroundings left out of count."""
    counts = weights.astype(np.float32)
    found = values
    for _ in range(_ROUNDS):
        total = gaussian_filter(counts, sigma, mode="reflect")
        found = gaussian_filter(values * counts, sigma, mode="reflect") / np.maximum(total, 1e-6)
        apart = (values - found) / _APART
        counts = weights * np.exp(-apart * apart)
    return found
