"""A small, fair piece of a picture at several scales: what every estimate of a package is told from."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba
from oaktrim.core.pixels.statistics import add_across, cell_means, kernel_pixels

_WIDE, _HIGH, _TILES_ACROSS, _TILES_DOWN = 256, 16, 2, 4
THUMBNAIL = 56
# A sample is kept at the source's size, at a half and at a quarter of it.
SCALES = 3


@dataclass(frozen=True)
class Sample:
    """What the cache keeps of a picture's pixels: pieces at each scale, and a small picture (h, w, 4) uint8."""

    pieces: tuple[Image, ...]
    thumbnail: Pixels


def sample_of(image: Image) -> Sample:
    """Return the sample of a picture."""
    return Sample(tuple(_pieces(image, scale) for scale in range(SCALES)), _thumbnail(image))


def _pieces(image: Image, scale: int) -> Image:
    """Return wide, flat tiles one below the other, evenly spread, brought down by 2**scale by averaging.

    Packing finds what lies beside and shortly before, so a tile is many blocks wide: narrow ones looked a fifth dearer
    than the whole on the demonstration. Large pictures, which weigh most, get more tiles. Pictures of no more pixels
    than the tiles stay whole.
    """
    many = min(4, max(1, round(math.sqrt(image.width * image.height) / 1024)))
    down = many * (_TILES_DOWN if scale == 0 else _TILES_DOWN // 2)
    pixels = kernel_pixels(image) if scale else image.pixels
    if image.width * image.height > (_WIDE * _HIGH * _TILES_ACROSS * down) << (2 * scale):
        wide, high = min(_WIDE << scale, image.width), min(_HIGH << scale, image.height)
        tops, lefts = _starts(image.height, high, down), _starts(image.width, wide, _TILES_ACROSS)
        pixels = np.concatenate([pixels[y : y + high, x : x + wide] for y in tops for x in lefts], axis=0)
    return image.with_pixels(np.ascontiguousarray(_averaged(image, pixels, 1 << scale)))


@njit(nogil=True, cache=True)
def _average(rows, channels, across, down, half, means):
    """Fill `means` (h, w * C) with the means of squares of `down` by `across` pixels of rows (H, W * C), and `half` more."""
    height, wide = means.shape
    part = np.float32(1.0 / (across * down))
    sums = np.empty(rows.shape[1], np.float32)
    for y in range(height):
        for i in range(sums.shape[0]):
            sums[i] = rows[y * down, i]
        for v in range(y * down + 1, y * down + down):
            for i in range(sums.shape[0]):
                sums[i] += np.float32(rows[v, i])
        add_across(sums, 0, channels, across, part, half, means[y], 0, wide // channels)


def _averaged(image: Image, pixels: Pixels, step: int) -> Pixels:
    """Return the means of squares of `step` pixels, rounded once: rounding in between would add grain that does not pack."""
    if step == 1:
        return pixels
    down, across = (min(step, side) for side in pixels.shape[:2])
    height, width, channels = pixels.shape
    means = np.empty((height // down, width // across * channels), pixels.dtype)
    # Codes are cut off, so a half more rounds them.
    half = np.float32(0.0 if image.is_float else 0.5)
    _average(held(pixels).reshape(height, width * channels), channels, across, down, half, means)
    return means.reshape(len(means), -1, channels).astype(image.pixels.dtype, copy=False)


def _starts(length: int, side: int, most: int) -> list[int]:
    """Return where up to `most` tiles start along one side, at multiples of 4 so that blocks stay whole.

    Each stands in the middle of its part: the edges of a picture hold less than the rest of it.
    """
    count = max(1, min(most, length // side))
    return [(length * (2 * i + 1) // (2 * count) - side // 2) // 4 * 4 for i in range(count)]


def _thumbnail(image: Image) -> Pixels:
    """Return a small picture of the means of cells, RGBA."""
    scale = min(1.0, THUMBNAIL / max(image.size))
    down, across = (max(1, round(side * scale)) for side in (image.height, image.width))
    means = cell_means(image, down, across, 3)
    whole = (means if image.is_float else np.rint(means)).astype(image.pixels.dtype)
    return to_rgba(image.with_pixels(whole))
