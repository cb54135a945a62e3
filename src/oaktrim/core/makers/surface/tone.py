"""Contrast and colour in OKLab: calmed to a stated spread, and brought to those of another texture (E. Reinhard et al., "Color
transfer between images", 2001, in OKLab)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.surface.settings import Calm
from oaktrim.core.pixels.perception import light_of_oklab, oklab

Floats = NDArray[np.float32]
_LOOKED_AT = 1 << 18
_LOW, _HIGH = 5, 95


@dataclass(frozen=True)
class Tone:
    """How light and colour are spread: means and standard deviations of OKLab, and percentiles of lightness."""

    mean: tuple[float, float, float]
    deviation: tuple[float, float, float]
    low: float
    middle: float
    high: float

    @property
    def spread(self) -> float:
        """Of lightness, from the 5th to the 95th percentile."""
        return self.high - self.low


@dataclass(frozen=True)
class Change:
    """What is done to OKLab: `lab * scale + shift`, by channel."""

    scale: tuple[float, float, float] = (1.0, 1.0, 1.0)
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @property
    def is_nothing(self) -> bool:
        """It leaves everything as it is."""
        return self == Change()

    def then(self, other: Change) -> Change:
        """Return this one and another after it."""
        scale = tuple(a * b for a, b in zip(self.scale, other.scale, strict=True))
        shift = tuple(s * k + t for s, k, t in zip(self.shift, other.scale, other.shift, strict=True))
        return Change(_triple(scale), _triple(shift))

    def apply(self, light: Floats) -> Floats:
        """Return light (H, W, 3) changed."""
        lab = oklab(light) * np.array(self.scale, np.float32) + np.array(self.shift, np.float32)
        return light_of_oklab(lab)


def tone_of(light: Floats, seen: NDArray[np.bool_] | None = None) -> Tone:
    """Return the tone of a picture's light (H, W, 1 or 3), of what is seen of it."""
    flat = light[..., :3].reshape(-1, min(3, light.shape[2]))
    if seen is not None:
        flat = flat[seen.reshape(-1)]
    if not len(flat):
        flat = np.zeros((1, 3), np.float32)
    few = flat[:: max(1, len(flat) // _LOOKED_AT)]
    lab = oklab(np.maximum(few if few.shape[1] == 3 else np.repeat(few, 3, axis=1), 0)[None])[0]
    low, middle, high = (float(v) for v in np.percentile(lab[:, 0], (_LOW, 50, _HIGH)))
    return Tone(_triple(lab.mean(axis=0)), _triple(lab.std(axis=0)), low, middle, high)


def calmed(tone: Tone, how: Calm) -> Change:
    """Return what brings a tone down to a spread; one that is calmer stays as it is."""
    if tone.spread <= how.spread:
        return Change()
    scale = how.spread / tone.spread
    return Change((scale, 1.0, 1.0), (tone.middle * (1 - scale), 0.0, 0.0))


def matched(tone: Tone, other: Tone, strength: float) -> Change:
    """Return what brings a tone to another, by a strength of 0 to 1."""
    scale = [1 + strength * (b / max(a, 1e-4) - 1) for a, b in zip(tone.deviation, other.deviation, strict=True)]
    # Where a picture has hardly any colour, there is none to be spread.
    scale = [min(4.0, max(0.0, value)) for value in scale]
    shift = [(a + strength * (b - a)) - a * k for a, b, k in zip(tone.mean, other.mean, scale, strict=True)]
    return Change(_triple(scale), _triple(shift))


def _triple(values: object) -> tuple[float, float, float]:
    a, b, c = (float(v) for v in values)  # type: ignore[attr-defined]
    return a, b, c
