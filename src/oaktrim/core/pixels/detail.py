"""What a picture's pixels say about how it was made: up to which frequency it holds detail, whether it tiles, whether it is
a normal map and which way its green axis points, and how much light is baked into its colour."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
import scipy.fft

from oaktrim.core.pixels.image import Image, Pixels
from oaktrim.core.pixels.statistics import PixelFacts, busy_tiles, unit_codes

# Share of a tile's energy that resampling, rounding and a window leave behind beyond 1.5 times the highest frequency
# that a picture held before it was enlarged. Set on 112 pictures of a game and on the same enlarged by three filters:
# 89 to 96 % of the enlarged are found, and 84 % of the originals pass.
_LEFT_BEHIND, _BEYOND = 0.002, 1.5
# Half a code of an 8-bit picture: what rounding alone adds, as a variance in 0..1 squared.
_ROUNDING = (0.6 / 255) ** 2


@dataclass(frozen=True, slots=True)
class NormalFacts:
    """What a picture is as a tangent-space normal map.

    Parameters
    ----------
    likely : its mean points up (0.5, 0.5, 1) and its vectors have unit length
    length_error : mean distance of the vectors' length from 1
    green : 1 where green points up (as glTF has it), -1 where it points down, 0 where the pixels do not tell
    """

    likely: bool
    length_error: float
    green: int


def detail_share(image: Image, facts: PixelFacts) -> float:
    """Return how much of its resolution a picture uses: 1.0, or 0.5 or 0.25 where it holds no detail above that.

    Measured on the spectrum of the busiest tiles: a picture that was enlarged has next to nothing above the half of its
    band, whatever filter enlarged it. Constant pictures, and those under 16 pixels, are 1.0.
    """
    tiles = busy_tiles(image, facts)
    side = tiles.shape[1]
    if side < 16 or facts.constant:
        return 1.0
    window, highest = _spectrum_of(side)
    flat = tiles - tiles.mean(axis=(1, 2), keepdims=True)
    bins = scipy.fft.rfft2(flat * window[None, :, :, None], axes=(1, 2))
    spectrum = bins.real**2 + bins.imag**2
    total = spectrum.sum(axis=(1, 2))
    rounding = _ROUNDING * float((np.hanning(side) ** 2).sum()) ** 2
    used = 1.0
    for share in (0.5, 0.25):
        fine = highest > _BEYOND * side * share / 2
        if np.any(spectrum[:, fine].sum(axis=1) > np.maximum(_LEFT_BEHIND * total, rounding * fine.sum())):
            break
        used = share
    return used


@cache
def _spectrum_of(side: int) -> tuple[Pixels, Pixels]:
    """Return the window (side, side) and the frequency of each bin (side, side // 2 + 1), the larger of both ways."""
    hann = np.hanning(side).astype(np.float32)
    down = np.minimum(np.arange(side), side - np.arange(side))
    return hann[:, None] * hann, np.maximum(down[:, None], np.arange(side // 2 + 1)[None, :])


def seam_ratio(image: Image) -> tuple[float, float]:
    """Return how much stronger the step across the left-right and the top-bottom border is than steps beside it.

    Both in mean absolute codes, over a floor of one and a half 8-bit codes; a picture that tiles is near 1.
    """
    pixels = image.pixels.astype(np.float32) if min(image.size) < 4 else image.pixels
    floor = unit_codes(image) * 1.5 / 255

    def step(a: Pixels, b: Pixels) -> float:
        return float(np.abs(a.astype(np.float32) - b.astype(np.float32)).mean())

    ratios = []
    for rows in (pixels.swapaxes(0, 1), pixels):
        if len(rows) < 4:
            ratios.append(1.0)
            continue
        inside = max(step(rows[0], rows[1]), step(rows[-2], rows[-1]), step(rows[1], rows[2]), floor)
        ratios.append(step(rows[-1], rows[0]) / inside)
    return ratios[0], ratios[1]


def normal_facts(image: Image, facts: PixelFacts) -> NormalFacts:
    """Return what a picture of three or more channels is as a normal map.

    The slopes of a surface have no curl: d(x/z)/dy equals d(y/z)/dx. Read with the wrong sign of green they have, so
    the sign with the smaller curl is the right one.
    """
    if len(image.channels) < 3 or image.is_float:
        return NormalFacts(False, 1.0, 0)
    step = max(1, max(image.size) // 32)
    few = image.pixels[step // 2 :: step, step // 2 :: step, :3] / np.float32(unit_codes(image) / 2) - 1
    error = float(np.abs(np.sqrt((few**2).sum(axis=-1)) - 1).mean()) if few.size else 1.0
    mean = facts.means[..., :3].mean(axis=(0, 1)) / unit_codes(image)
    upright = abs(mean[0] - 0.5) < 0.06 and abs(mean[1] - 0.5) < 0.06 and mean[2] > 0.75
    if not upright:
        return NormalFacts(False, error, 0)
    likely = bool(error < 0.06 and float((few[..., 2] > 0).mean()) > 0.99 and not facts.grey)
    tiles = busy_tiles(image, facts)[..., :3] * 2 - 1
    steep = np.maximum(tiles[..., 2], 0.1)
    across, up = tiles[..., 0] / steep, tiles[..., 1] / steep
    # Rows run down, so a green that points up falls along them.
    down_x = np.diff(across, axis=1)[:, :, :-1]
    right_y = np.diff(up, axis=2)[:, :-1, :]
    as_up, as_down = float(((down_x + right_y) ** 2).sum()), float(((down_x - right_y) ** 2).sum())
    green = 0
    if max(as_up, as_down) > 1.5 * min(as_up, as_down) + 1e-6:
        green = 1 if as_up < as_down else -1
    return NormalFacts(likely, error, green)


def baked_light(image: Image, facts: PixelFacts) -> float:
    """Return how far light falls off across a colour picture, in stops (factors of two), beyond what its colours explain.

    A smooth quadratic is fitted to the logarithm of the luminance of coarse cells; where chromaticity changes along with
    it, the change is taken for paint.
    """
    if len(image.channels) < 3 or facts.constant or image.is_float:
        return 0.0
    cells = np.maximum(facts.means[..., :3] / unit_codes(image), 1 / 255) ** 2.2
    light = np.log2(cells @ np.array([0.2126, 0.7152, 0.0722]))
    chroma = cells / cells.sum(axis=-1, keepdims=True)
    terms, solve = _quadratic(light.shape[0])

    def fitted(values: Pixels) -> Pixels:
        return np.asarray(terms @ (solve @ values.reshape(-1)))

    smooth = fitted(light)
    left = light.reshape(-1) - smooth
    spread = float(smooth.max() - smooth.min())
    explained = float(smooth.var() / max(1e-9, smooth.var() + left.var()))
    painted = max(float(np.ptp(fitted(chroma[..., c]))) for c in range(3))
    return spread if explained > 0.6 and painted < 0.12 else 0.0


@cache
def _quadratic(side: int) -> tuple[Pixels, Pixels]:
    """Return the terms of a quadratic over a grid (side * side, 6), and what fits its weights to values by least squares."""
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    terms = np.stack([np.ones_like(x), x, y, x * x, y * y, x * y], axis=-1).reshape(-1, 6)
    return terms, np.linalg.pinv(terms)
