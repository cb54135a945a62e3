"""How far one picture is from another: PSNR, SSIM and the largest error, on code values."""

from __future__ import annotations

from dataclasses import dataclass
from math import inf, log10

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import correlate1d, maximum_filter1d

from oaktrim.core.errors import Unsupported
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.progress import each_band

# Wang, Bovik, Sheikh and Simoncelli, "Image quality assessment" (2004): window and constants of section III.
_WINDOW = 11
_SIGMA = 1.5
_K1, _K2 = 0.01, 0.03
# Luma weights of ITU-R BT.709, item 3.2, on code values.
LUMA = np.array([0.2126, 0.7152, 0.0722])


@dataclass(frozen=True, slots=True)
class Comparison:
    """How far image B is from image A.

    Parameters
    ----------
    psnr : dB a channel, by name; infinite when equal
    psnr_rgb : dB over the three colour channels together
    ssim : mean structural similarity of the luma, at most 1
    largest_error : greatest difference of one channel, in 0..1 of the range
    """

    psnr: dict[str, float]
    psnr_rgb: float
    ssim: float
    largest_error: float


def decibels(mean_square: float) -> float:
    """Return the PSNR in dB of a mean square error on a 0..1 range; infinite for none."""
    return inf if mean_square <= 0 else -10 * log10(mean_square)


def ssim(a: NDArray[np.floating], b: NDArray[np.floating]) -> float:
    """Return the mean SSIM of two planes (H, W) in 0..1, with a Gaussian window of 11 taps and sigma 1.5.

    Sides shorter than the window are mirrored, so that any size has an answer.
    """
    steps = np.arange(_WINDOW) - _WINDOW // 2
    window = np.exp(-(steps**2) / (2 * _SIGMA**2))
    window /= window.sum()

    def blur(plane: NDArray[np.float64]) -> NDArray[np.float64]:
        return correlate1d(correlate1d(plane, window, 0, mode="mirror"), window, 1, mode="mirror")  # type: ignore[no-any-return]

    c1, c2 = _K1**2, _K2**2
    sums: dict[int, float] = {}

    def work(wide: slice, own: slice) -> None:
        of_a, of_b = (plane[wide].astype(np.float64, copy=False) for plane in (a, b))
        mean_a, mean_b = blur(of_a), blur(of_b)
        var_a = blur(of_a * of_a) - mean_a**2
        var_b = blur(of_b * of_b) - mean_b**2
        covariance = blur(of_a * of_b) - mean_a * mean_b
        top = (2 * mean_a * mean_b + c1) * (2 * covariance + c2)
        bottom = (mean_a**2 + mean_b**2 + c1) * (var_a + var_b + c2)
        sums[wide.start + own.start] = float((top / bottom)[own].sum())

    each_band(work, len(a), (_WINDOW // 2, _WINDOW // 2))
    # In the order of the rows, whichever band was done first.
    return sum(sums[start] for start in sorted(sums)) / a.size


def mean_square(a: Image, b: Image, seen_only: bool = False) -> NDArray[np.float64]:
    """Return the mean square error, 0..1 range, of R, G, B and A, shape (4,), a band of rows at a time.

    With `seen_only`, colour under pixels that are wholly clear in `a` does not count; alpha counts everywhere.
    """
    dtype = np.uint8 if a.bit_depth == b.bit_depth == 8 else np.float32
    scale = 255.0 if dtype is np.uint8 else 1.0
    total, seen = np.zeros(4), 0
    for start in range(0, a.height, 256):
        part_a, part_b = (
            to_rgba(i.with_pixels(i.pixels[start : start + 256]), dtype).astype(np.float32) for i in (a, b)
        )
        squares = np.square(part_a - part_b)
        if seen_only and a.has_alpha:
            visible = part_a[..., 3] > 0
            seen += int(np.count_nonzero(visible))
            squares[..., :3] *= visible[..., None]
        else:
            seen += squares.shape[0] * squares.shape[1]
        total += squares.sum(axis=(0, 1), dtype=np.float64)
    counts = np.array([max(1, seen)] * 3 + [a.width * a.height])
    mean: NDArray[np.float64] = total / (counts * scale * scale)
    return mean


def psnr_rgb(a: Image, b: Image) -> float:
    """Return the PSNR in dB over R, G and B together."""
    return decibels(float(mean_square(a, b)[:3].mean()))


def compare(a: Image, b: Image) -> Comparison:
    """Compare two images of one size on their code values; grey counts as equal R, G and B, no alpha as full alpha.

    Raises
    ------
    Unsupported : the sizes differ
    """
    if a.size != b.size:
        sizes = " and ".join(f"{i.width}x{i.height}" for i in (a, b))
        raise Unsupported(f"only images of one size can be measured against each other; these are {sizes}")
    squares = mean_square(a, b)
    wide_a, wide_b = (to_rgba(i, np.float32).astype(np.float64) for i in (a, b))
    luma_a, luma_b = wide_a[..., :3] @ LUMA, wide_b[..., :3] @ LUMA
    return Comparison(
        psnr={name: decibels(float(squares[i])) for i, name in enumerate("RGBA")},
        psnr_rgb=decibels(float(squares[:3].mean())),
        ssim=ssim(luma_a, luma_b),
        largest_error=float(np.abs(wide_a - wide_b).max()),
    )


# A gradient is smooth where neighbours differ by at most so many codes, and says something from so many codes over a window on.
# A window is banded where nothing changes in it, or one step of some size makes up most of its change.
_BAND_WINDOW, _GENTLE, _CLIMB, _STEP = 8, 2.0, 2.0, 2.5


def banding(a: NDArray[np.floating], b: NDArray[np.floating]) -> float:
    """Return which share of the smooth gradients of plane `a` stand in `b` as bands: flat, or in one step; 0 without any.

    Parameters
    ----------
    a, b : ndarray, shape (H, W), code values in 0..255
    """
    counts = []

    def work(wide: slice, own: slice) -> None:
        # Windows go down from their own row, across within it.
        counts.append(_lost(a[wide], b[wide], 0))
        counts.append(_lost(a[wide][own], b[wide][own], 1))

    each_band(work, len(a), (0, _BAND_WINDOW))
    smooth, lost = (sum(count[k] for count in counts) for k in (0, 1))
    return lost / smooth if smooth else 0.0


def _lost(a: NDArray[np.floating], b: NDArray[np.floating], axis: int) -> tuple[int, int]:
    """Return how many windows along an axis hold a smooth gradient of plane `a`, and how many of them are banded in `b`."""
    if a.shape[axis] <= _BAND_WINDOW:
        return 0, 0
    steps_a, steps_b = np.diff(a, axis=axis), np.diff(b, axis=axis)
    climb, travel = _windows(steps_a, axis), _windows(np.abs(steps_b), axis)
    place = [slice(None), slice(None)]
    place[axis] = slice(_BAND_WINDOW // 2, _BAND_WINDOW // 2 + climb.shape[axis])
    largest_a, largest_b = (maximum_filter1d(np.abs(s), _BAND_WINDOW, axis)[tuple(place)] for s in (steps_a, steps_b))
    gentle = (np.abs(climb) >= _CLIMB) & (largest_a <= _GENTLE)
    banded = (travel < 0.25 * np.abs(climb)) | ((largest_b >= _STEP) & (largest_b > 0.7 * travel))
    return int(gentle.sum()), int((gentle & banded).sum())


def _windows(steps: NDArray[np.floating], axis: int) -> NDArray[np.floating]:
    """Return the sum over each window of steps."""
    sums = np.cumsum(steps, axis=axis)
    start = np.concatenate([np.zeros_like(np.take(sums, [0], axis)), sums], axis=axis)
    count = start.shape[axis] - _BAND_WINDOW
    after = np.take(start, np.arange(_BAND_WINDOW, _BAND_WINDOW + count), axis)
    climbs: NDArray[np.floating] = after - np.take(start, np.arange(count), axis)
    return climbs
