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
    window, fine, floors = _spectrum_of(side)
    used = 0.25
    # One busy channel of one tile settles most pictures, so they are looked at one by one.
    for channel in range(tiles.shape[3]):
        for tile in tiles[..., channel]:
            bins = scipy.fft.rfft2((tile - tile.mean()) * window)
            spectrum = (bins.real**2 + bins.imag**2).reshape(-1)
            left = np.maximum(_LEFT_BEHIND * spectrum.sum(), floors)
            beyond = fine @ spectrum > left
            if beyond[0]:
                return 1.0
            if beyond[1]:
                used = 0.5
    return used


@cache
def _spectrum_of(side: int) -> tuple[Pixels, Pixels, Pixels]:
    """Return the window (side, side), the bins beyond a half and a quarter (2, bins), and what rounding puts there (2,)."""
    hann = np.hanning(side).astype(np.float32)
    down = np.minimum(np.arange(side), side - np.arange(side))
    highest = np.maximum(down[:, None], np.arange(side // 2 + 1)[None, :]).reshape(-1)
    fine = np.stack([highest > _BEYOND * side * share / 2 for share in (0.5, 0.25)]).astype(np.float32)
    return hann[:, None] * hann, fine, _ROUNDING * float((hann.astype(np.float64) ** 2).sum()) ** 2 * fine.sum(axis=1)


def seam_ratio(image: Image) -> tuple[float, float]:
    """Return how much stronger the step across the left-right and the top-bottom border is than steps beside it.

    Both in mean absolute codes, over a floor of one and a half 8-bit codes; a picture that tiles is near 1.
    """
    pixels = image.pixels
    floor = unit_codes(image) * 1.5 / 255
    ratios = []
    for rows in (pixels.swapaxes(0, 1), pixels):
        if len(rows) < 4:
            ratios.append(1.0)
            continue
        border = rows[[-1, 0, -2, 1]].astype(np.float32)
        inner = rows[[0, 1, -1, 2]].astype(np.float32)
        across, *inside = np.abs(border - inner).mean(axis=(1, 2)).tolist()
        ratios.append(across / max(*inside, floor))
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
    fit = _quadratic(light.shape[0])
    smooth = fit @ light.reshape(-1)
    left = light.reshape(-1) - smooth
    shaded = float(smooth.var())
    if shaded <= 0.6 * max(1e-9, shaded + float(left.var())):
        return 0.0
    chroma = cells / cells.sum(axis=-1, keepdims=True)
    painted = float(np.ptp(fit @ chroma.reshape(-1, 3), axis=0).max())
    return float(np.ptp(smooth)) if painted < 0.12 else 0.0


@cache
def _quadratic(side: int) -> Pixels:
    """Return what brings values over a grid (side * side) to the quadratic nearest to them by least squares."""
    y, x = np.mgrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j]
    terms = np.stack([np.ones_like(x), x, y, x * x, y * y, x * y], axis=-1).reshape(-1, 6)
    fit: Pixels = terms @ np.linalg.pinv(terms)
    return fit
