"""What a picture holds, found in one pass: ranges, sameness of channels, the part in use, where detail lies, and a hash."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import xxhash
from numba import njit

from oaktrim.core.pixels.image import Image, Pixels, held

GRID = 8
TILE = 64
_TILES = 4
# Rows that suffice for what need not be exact.
_ROWS_LOOKED_AT = 64


@dataclass(frozen=True, slots=True)
class PixelFacts:
    """Facts of an image's code values.

    Parameters
    ----------
    low, high : least and greatest code of each channel, integers of the image's depth (floats as they are)
    grey : the three colour channels are equal everywhere
    used : x, y, width and height of the smallest rectangle that holds all pixels in use: those whose alpha is not 0 or,
        without alpha, those that differ from the corner pixel; all zero where there are none
    used_share : of the pixels that are in use, 0..1
    eight_bit : a 16-bit image whose codes are 8-bit codes doubled or shifted
    means : ndarray, shape (GRID, GRID, channels), float32, mean codes of evenly spread cells
    busiest : left and top of a few tiles of TILE pixels with the most detail, the busiest first
    digest : 64-bit hash of the channels, size and codes, as 16 hexadecimal digits
    """

    low: tuple[float, ...]
    high: tuple[float, ...]
    grey: bool
    used: tuple[int, int, int, int]
    used_share: float
    eight_bit: bool
    means: Pixels
    busiest: tuple[tuple[int, int], ...]
    digest: str

    @property
    def constant(self) -> bool:
        """Every pixel is the same."""
        return self.low == self.high


@njit(nogil=True, cache=True)
def _activity(rows, step, watched, activity):
    """Add up the second differences of one channel of rows (H, W, C) into tiles (H // TILE or 1, W // TILE or 1) float64.

    They grow with frequency squared, so they find fine detail, not strong edges. Every `step`-th row is looked at.
    """
    height, width, _ = rows.shape
    down, across = activity.shape
    for y in range(1, height, step):
        for column in range(across):
            start = max(1, column * TILE)
            stop = column * TILE + TILE if column < across - 1 else width
            total = np.float32(0)
            for x in range(start, stop):
                centre = np.float32(rows[y, x, watched])
                total += abs(2 * centre - np.float32(rows[y, x - 1, watched]) - np.float32(rows[y - 1, x, watched]))
            activity[min(y // TILE, down - 1), column] += total


@njit(nogil=True, cache=True)
def _holds_eight(codes):
    """Say whether 16-bit codes (N,) are all 8-bit codes written twice, or all shifted up by 8."""
    doubled, shifted = True, True
    for i in range(codes.shape[0]):
        doubled &= (codes[i] >> 8) == (codes[i] & 255)
        shifted &= (codes[i] & 255) == 0
        if not (doubled or shifted):
            return False
    return True


def _kernel_pixels(image: Image) -> Pixels:
    return held(image.pixels.astype(np.float32) if image.pixels.dtype == np.float16 else image.pixels)


def pixel_facts(image: Image) -> PixelFacts:
    """Return the facts of an image; exact but for `used_share` without alpha, `means` and `busiest`, which skip rows."""
    pixels = _kernel_pixels(image)
    height, width, channels = pixels.shape
    flat = pixels.reshape(height, width * channels)
    # Reducing down the columns runs along memory; the few columns that are left are cheap whatever the stride.
    columns_low = np.minimum.reduce(flat, axis=0).reshape(width, channels)
    columns_high = np.maximum.reduce(flat, axis=0).reshape(width, channels)
    low, high = columns_low.min(axis=0), columns_high.max(axis=0)
    step = -(-height // _ROWS_LOOKED_AT)
    few = pixels[step // 2 :: step]
    used, share = _used(image, pixels, few, columns_low, columns_high)
    activity = np.zeros((max(1, height // TILE), max(1, width // TILE)))
    _activity(pixels, step, min(1, channels - 1), activity)
    order = np.argsort(-activity, axis=None, kind="stable")[:_TILES]
    tiles = [(int(place % activity.shape[1]) * TILE, int(place // activity.shape[1]) * TILE) for place in order]
    digest = xxhash.xxh3_64(pixels.data)
    digest.update(f"{image.width}x{image.height}{''.join(image.channels)}{image.pixels.dtype}".encode())
    return PixelFacts(
        low=tuple(low.tolist()),
        high=tuple(high.tolist()),
        grey=len(image.channels) >= 3 and _is_grey(few) and _is_grey(pixels),
        used=used,
        used_share=share,
        eight_bit=pixels.dtype == np.uint16 and bool(_holds_eight(pixels.reshape(-1))),
        means=cell_means(image, GRID, GRID, _ROWS_LOOKED_AT // GRID),
        busiest=tuple(tiles),
        digest=digest.hexdigest(),
    )


def _is_grey(pixels: Pixels) -> bool:
    red, green, blue = (pixels[..., c] for c in range(3))
    return np.array_equal(red, green) and np.array_equal(green, blue)


def _used(
    image: Image, pixels: Pixels, few: Pixels, columns_low: Pixels, columns_high: Pixels
) -> tuple[tuple[int, int, int, int], float]:
    """Return the rectangle in use, and the share of pixels in use."""
    if image.has_alpha:
        if columns_low[:, -1].min() > 0:
            return (0, 0, image.width, image.height), 1.0
        columns = columns_high[:, -1] > 0
        seen = pixels[..., -1] != 0
        rows, share = seen.any(axis=1), float(np.count_nonzero(seen)) / seen.size
    else:
        corner = pixels[0, 0]
        columns = ((columns_low != corner) | (columns_high != corner)).any(axis=1)
        if not columns.any():
            return (0, 0, 0, 0), 0.0
        whole = np.broadcast_to(corner, pixels.shape[1:])
        top = next(y for y in range(len(pixels)) if not np.array_equal(pixels[y], whole))
        bottom = next(y for y in range(len(pixels) - 1, -1, -1) if not np.array_equal(pixels[y], whole))
        rows = np.zeros(len(pixels), np.bool_)
        rows[top : bottom + 1] = True
        other = np.zeros(few.shape[:2], np.bool_)
        for channel, code in enumerate(corner):
            other |= few[..., channel] != code
        share = float(np.count_nonzero(other)) / other.size
    if not columns.any():
        return (0, 0, 0, 0), 0.0
    x, y = np.flatnonzero(columns), np.flatnonzero(rows)
    return (int(x[0]), int(y[0]), int(x[-1] - x[0] + 1), int(y[-1] - y[0] + 1)), share


@njit(nogil=True, cache=True)
def _cells(rows, channels, most, means):
    """Fill `means` (h, w * C) float32 with the mean codes of cells of rows (H, W * C), of at most `most` rows of each cell."""
    height, width = rows.shape[0], rows.shape[1] // channels
    down, across = means.shape[0], means.shape[1] // channels
    sums = np.empty(rows.shape[1], np.float32)
    for v in range(down):
        top = v * height // down
        bottom = max(top + 1, (v + 1) * height // down)
        step = -(-(bottom - top) // most)
        sums[:] = 0
        count = 0
        for y in range(top + (step - 1) // 2, bottom, step):
            count += 1
            for i in range(sums.shape[0]):
                sums[i] += np.float32(rows[y, i])
        for u in range(across):
            left = u * width // across
            right = max(left + 1, (u + 1) * width // across)
            part = np.float32(1.0 / (count * (right - left)))
            for c in range(channels):
                total = np.float32(0)
                for x in range(left * channels + c, right * channels, channels):
                    total += sums[x]
                means[v, u * channels + c] = total * part


def cell_means(image: Image, down: int, across: int, most: int) -> Pixels:
    """Return mean codes (down, across, channels) float32 of evenly spread cells.

    Of each cell at most `most` rows are looked at; pictures smaller than the grid repeat their pixels.
    """
    pixels = _kernel_pixels(image)
    height, width, channels = pixels.shape
    means = np.empty((down, across * channels), np.float32)
    _cells(pixels.reshape(height, width * channels), channels, most, means)
    return means.reshape(down, across, channels)


def unit_codes(image: Image) -> float:
    """Return the code that stands for 1.0."""
    return 1.0 if image.is_float else float(np.iinfo(image.pixels.dtype).max)


def busy_tiles(image: Image, facts: PixelFacts) -> Pixels:
    """Return the busiest tiles, float32 in 0..1, shape (tiles, side, side, channels); side is TILE or what there is."""
    side = min(TILE, image.width, image.height)
    tiles = [image.pixels[top : top + side, left : left + side] for left, top in facts.busiest]
    return np.stack(tiles).astype(np.float32) / np.float32(unit_codes(image))
