"""What a picture's values look like as a whole: what tells a photograph from a mask, a height field or packed values."""

from __future__ import annotations

from dataclasses import astuple, dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.image import Image, to_rgba

Values = NDArray[np.float32]
# Pixels that are looked at, and what counts as the end of the range.
_MOST, _END = 1 << 15, 0.04
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
_BINS = 32


@dataclass(frozen=True, slots=True)
class Traits:
    """Shares of pixels, or of the range of values, each 0 to 255.

    Parameters
    ----------
    chroma : the mean distance between the largest and the smallest of red, green and blue
    agreement : how far neighbours differ together in all three: 255 as in any photograph, 128 where each goes its own way
    dark, bright : shares of luminance at the lower and at the upper end of the range
    bins : of 32 equal parts of the range, those that hold anything worth mention, times 8
    smooth : how like neighbours are, against the spread of the whole: 255 for a ramp, 128 and less for noise
    spread : standard deviation of luminance, twice
    clear, solid : shares of alpha at either end; 0 and 255 without alpha
    plain : 255 where all that is not clear has one colour
    blue_ends : share of blue at either end of the range; blue_apart : how far it differs from green on the mean
    falls : luminance of the upper quarter less that of the lower one, 128 where these are alike
    """

    chroma: int
    agreement: int
    dark: int
    bright: int
    bins: int
    smooth: int
    spread: int
    clear: int
    solid: int
    plain: int
    blue_ends: int
    blue_apart: int
    falls: int

    def packed(self) -> bytes:
        """Return them as bytes, in their order."""
        return bytes(astuple(self))

    @staticmethod
    def of(data: bytes) -> Traits:
        """Return those that were packed; such as no picture has where there are none."""
        count = len(fields(Traits))
        return Traits(*(data if len(data) == count else bytes(count)))


def traits_of(piece: Image, thumbnail: NDArray[Any]) -> Traits:
    """Return the traits of a picture.

    Parameters
    ----------
    piece : of it, at its own size; thumbnail : (h, w, 4) all of it, small
    """
    values = _within_one(to_rgba(piece, piece.pixels.dtype.type))
    if values.shape[0] * values.shape[1] > _MOST:
        values = values[: max(2, _MOST // values.shape[1])]
    alpha = values[..., 3]
    shown = alpha > _END
    clear, solid = float(np.mean(~shown)), float(np.mean(alpha >= 1 - _END))
    rgb = values[..., :3]
    seen = rgb[shown] if shown.any() else rgb.reshape(-1, 3)
    light = seen @ _LUMA
    counts = np.bincount(np.minimum((light * _BINS).astype(np.int64), _BINS - 1), minlength=_BINS)
    largest, smallest = seen.max(axis=1), seen.min(axis=1)
    middles = np.median(seen, axis=0)
    whole = _within_one(thumbnail)
    rows = (whole[..., :3] @ _LUMA * whole[..., 3] + 0.5 * (1 - whole[..., 3])).mean(axis=1)
    quarter = max(1, len(rows) // 4)
    agreement, smooth = _neighbours(rgb, shown)
    return Traits(
        _code(float(np.mean(largest - smallest))),
        _code(0.5 + 0.5 * agreement),
        _code(float(np.mean(light < _END))),
        _code(float(np.mean(light > 1 - _END))),
        int(min(255, 8 * (counts > light.size / _BINS * 0.02).sum())),
        _code(0.5 + 0.5 * smooth),
        _code(2 * float(light.std())),
        _code(clear),
        _code(solid),
        255 if float(np.abs(seen - middles).max(axis=1).mean()) < 0.004 else 0,
        _code(float(np.mean((seen[:, 2] < _END) | (seen[:, 2] > 1 - _END)))),
        _code(float(np.mean(np.abs(seen[:, 2] - seen[:, 1])))),
        _code(0.5 + 0.5 * float(rows[:quarter].mean() - rows[-quarter:].mean())),
    )


def _neighbours(rgb: Values, shown: NDArray[np.bool_]) -> tuple[float, float]:
    """Return how far channels differ together from pixel to pixel, -1 to 1, and how like neighbours are, -1 to 1."""
    if rgb.shape[1] < 2:
        return 1.0, 1.0
    both = shown[:, 1:] & shown[:, :-1]
    steps = np.diff(rgb, axis=1)[both].astype(np.float64)
    power = (steps * steps).sum(axis=0)
    agreement = 1.0
    for a, b in ((0, 1), (1, 2), (0, 2)):
        size = float(np.sqrt(power[a] * power[b]))
        # A channel that does not move has nothing to agree with.
        if size > 1e-6 * max(1, len(steps)):
            agreement = min(agreement, float((steps[:, a] * steps[:, b]).sum()) / size)
        elif power[a] + power[b] > 1e-6 * max(1, len(steps)):
            agreement = min(agreement, 0.0)
    light = rgb @ _LUMA
    spread = float(light[shown].var()) if shown.any() else 0.0
    apart = float(((steps @ _LUMA.astype(np.float64)) ** 2).mean()) if len(steps) else 0.0
    return agreement, 1.0 if spread < 1e-9 else max(-1.0, 1 - apart / (2 * spread))


def _within_one(codes: NDArray[Any]) -> Values:
    """Return codes, or light, in 0..1."""
    if np.issubdtype(codes.dtype, np.integer):
        held: Values = codes.astype(np.float32) / np.float32(np.iinfo(codes.dtype).max)
        return held
    with np.errstate(invalid="ignore"):
        light = np.nan_to_num(codes.astype(np.float32), posinf=1.0, neginf=0.0)
        found: Values = np.clip(light, 0, 1)
    return found


def _code(share: float) -> int:
    return round(min(1.0, max(0.0, share)) * 255)
