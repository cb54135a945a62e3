"""How far a difference between two pictures is seen: OKLab distance through the eye's contrast sensitivity.

OKLab: B. Ottosson, "A perceptual color space for image processing" (2020). The filter: X. Zhang and B. A. Wandell, "A spatial
extension of CIELAB for digital color-image reproduction" (1996), table 1: sums of Gaussians for light and for the two colour
axes, in degrees of the visual field. Their wide negative lobe for light is left out and the rest scaled to a sum of one, so that
an even shift of lightness counts in full. It is the difference that is filtered, which is the same for small ones.
"""

from __future__ import annotations

from functools import lru_cache
from math import ceil

import numpy as np
from numpy.typing import NDArray
from scipy.fft import dctn, idctn
from scipy.ndimage import gaussian_filter, uniform_filter

from oaktrim.core.progress import each_band

Plane = NDArray[np.float32]

# What one step that is just noticed is worth: of OKLab distance.
JUST_NOTICED = 0.02
# A desktop or a phone at its usual distance shows about 60 pixels to a degree.
PIXELS_A_DEGREE = 60.0

_TO_CONES = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ],
    np.float32,
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ],
    np.float32,
)
_FROM_CONES = np.linalg.inv(_TO_CONES.astype(np.float64)).astype(np.float32)
_FROM_LAB = np.linalg.inv(_TO_LAB.astype(np.float64)).astype(np.float32)
# Weight, and spread in degrees where exp(-(r / spread)²) is the lobe, for light, red-green and yellow-blue.
_LOBES = (
    ((0.921, 0.0283), (0.105, 0.133)),
    ((0.531, 0.0392), (0.330, 0.494)),
    ((0.488, 0.0536), (0.371, 0.386)),
)
# From this many pixels on, a Gaussian is made of three running means, whose time does not grow with its width.
_WIDE = 4.0


def oklab(light: NDArray[np.floating]) -> Plane:
    """Return L, a and b of linear light (H, W, 3) of sRGB primaries; 1 is white, more is brighter than white."""
    cones = np.cbrt(light.astype(np.float32) @ _TO_CONES.T)
    lab: Plane = cones @ _TO_LAB.T
    return lab


def _blurred(plane: Plane, sigma: float) -> Plane:
    if sigma < _WIDE:
        return gaussian_filter(plane, sigma, mode="mirror", truncate=3.0)  # type: ignore[no-any-return]
    size = 2 * round((np.sqrt(4 * sigma * sigma + 1) - 1) / 2) + 1
    for _ in range(3):
        plane = uniform_filter(plane, size, mode="mirror")
    return plane


def perceptual_error_map(
    a: NDArray[np.floating], b: NDArray[np.floating], pixels_a_degree: float = PIXELS_A_DEGREE
) -> Plane:
    """Return how far each pixel is seen to differ, in JND (just noticeable differences).

    Parameters
    ----------
    a, b : ndarray, shape (H, W, 3), linear light; one pixel of theirs is one of the screen's
    pixels_a_degree : of the visual field

    Returns
    -------
    ndarray, shape (H, W), float32
    """
    steps = np.empty(a.shape[:2], np.float32)
    pixels = pixels_a_degree / np.sqrt(2)
    reach = 3 * ceil(max(spread for lobes in _LOBES for _, spread in lobes) * pixels) + 3

    def work(wide: slice, own: slice) -> None:
        apart = oklab(a[wide]) - oklab(b[wide])
        squares = np.zeros((own.stop - own.start, a.shape[1]), np.float32)
        for axis, lobes in enumerate(_LOBES):
            whole = sum(weight for weight, _ in lobes)
            plane = np.ascontiguousarray(apart[..., axis])
            seen = sum(np.float32(weight / whole) * _blurred(plane, spread * pixels)[own] for weight, spread in lobes)
            squares += np.square(seen)
        start = wide.start + own.start
        steps[start : start + len(squares)] = np.sqrt(squares) / np.float32(JUST_NOTICED)

    each_band(work, len(steps), (reach, reach))
    return steps


def perceptual_mean_square(
    a: NDArray[np.floating],
    b: NDArray[np.floating],
    weight: Plane | None = None,
    pixels_a_degree: float = PIXELS_A_DEGREE,
) -> float:
    """Return the mean square of how far two pictures are seen to differ, in squares of JND (just noticeable differences).

    By Parseval's theorem the mean square of a filtered picture is the sum of the squares of its cosine transform, each
    times the square of the filter's response there; a transform takes a fifth of the time of the filters. Only where a
    weight is given is the filtered picture made, by the inverse transform.

    Parameters
    ----------
    a, b : ndarray, shape (H, W, 3), linear light
    weight : ndarray, shape (H, W), 0..1; how much of what is seen counts at each pixel; all of it where left out
    """
    apart = oklab(a) - oklab(b)
    height, width = apart.shape[:2]
    waves, responses = dctn(apart, axes=(0, 1), norm="ortho"), _responses(height, width, pixels_a_degree)
    if weight is None:
        squares = (np.vdot(np.square(waves[..., k]), np.square(response)) for k, response in enumerate(responses))
        total = float(sum(squares))
    else:
        seen = idctn(waves * np.stack(responses, axis=2), axes=(0, 1), norm="ortho")
        total = float(np.vdot(np.square(seen).sum(axis=2), np.square(weight)))
    return float(total / (height * width * JUST_NOTICED**2))


@lru_cache(maxsize=64)
def _responses(height: int, width: int, pixels_a_degree: float) -> tuple[Plane, ...]:
    """Return the response of the filter for light and both colour axes at each cosine of a picture, (H, W)."""
    down, across = (np.pi * np.arange(side) / side for side in (height, width))
    turns = np.square(down)[:, None] + np.square(across)[None]
    found = []
    for lobes in _LOBES:
        whole = sum(weight for weight, _ in lobes)
        sigmas = [spread * pixels_a_degree / np.sqrt(2) for _, spread in lobes]
        response = sum(w / whole * np.exp(-0.5 * s * s * turns) for (w, _), s in zip(lobes, sigmas, strict=True))
        found.append(np.asarray(response, np.float32))
    return tuple(found)


def light_of_oklab(lab: Plane) -> Plane:
    """Return the linear light of L, a and b (H, W, 3): what `oklab` was given; below 0 where no light is so."""
    cones = lab @ _FROM_LAB.T
    light: Plane = (cones * cones * cones) @ _FROM_CONES.T
    return light
