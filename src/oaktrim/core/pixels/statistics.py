"""What a picture holds, found in one pass: ranges, sameness of channels, use of alpha, and a hash of the pixels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import xxhash
from numba import njit

from oaktrim.core.pixels.image import Image, held


@dataclass(frozen=True, slots=True)
class PixelFacts:
    """Facts of an image's code values.

    Parameters
    ----------
    low, high : least and greatest code of each channel, integers of the image's depth (floats as they are)
    grey : the three colour channels are equal everywhere
    digest : 64-bit hash of the channels, size and codes, as 16 hexadecimal digits
    """

    low: tuple[float, ...]
    high: tuple[float, ...]
    grey: bool
    digest: str

    @property
    def constant(self) -> bool:
        """Every pixel is the same."""
        return self.low == self.high


@njit(nogil=True, cache=True)
def _ranges(pixels, low, high):
    """Fill `low` and `high` (C,) with the channels' ranges over pixels (H, W, C); return whether channels 0-2 agree."""
    height, width, channels = pixels.shape
    apart = 0
    for y in range(height):
        for c in range(channels):
            least = pixels[y, 0, c]
            most = least
            for x in range(width):
                v = pixels[y, x, c]
                least = min(least, v)
                most = max(most, v)
            low[c] = min(low[c], least)
            high[c] = max(high[c], most)
        if channels >= 3 and apart == 0:
            for x in range(width):
                apart |= (pixels[y, x, 0] != pixels[y, x, 1]) | (pixels[y, x, 1] != pixels[y, x, 2])
    return apart == 0


def pixel_facts(image: Image) -> PixelFacts:
    """Return the facts of an image in one pass over its pixels."""
    pixels = image.pixels.astype(np.float32) if image.pixels.dtype == np.float16 else image.pixels
    pixels = held(pixels)
    low, high = pixels[0, 0].copy(), pixels[0, 0].copy()
    grey = bool(_ranges(pixels, low, high)) and len(image.channels) >= 3
    digest = xxhash.xxh3_64(pixels.data)
    digest.update(f"{image.width}x{image.height}{''.join(image.channels)}{image.pixels.dtype}".encode())
    return PixelFacts(tuple(low.tolist()), tuple(high.tolist()), grey, digest.hexdigest())
