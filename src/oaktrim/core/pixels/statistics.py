"""What a picture holds, found in one pass: ranges, sameness of channels, the part in use, where detail lies, and a hash."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import xxhash

from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held

GRID = 8
TILE = 64
_TILES = 4
_UNITS = {np.dtype(np.uint8): 255.0, np.dtype(np.uint16): 65535.0, np.dtype(np.float16): 1.0, np.dtype(np.float32): 1.0}
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
def add_across(sums, start, channels, across, part, half, means, place, count):
    """Fill `count` pixels of `means` (w * C) from `place` on with the sums of `across` pixels each of a row (W * C) from
    `start` on, times `part`, and `half` more. Places are of pixels.

    Three and four channels are written out: their sums stay in registers.
    """
    i = start * channels
    for x in range(place, place + count):
        if channels == 3:
            red = green = blue = np.float32(0)
            for _ in range(across):
                red += sums[i]
                green += sums[i + 1]
                blue += sums[i + 2]
                i += 3
            means[3 * x] = red * part + half
            means[3 * x + 1] = green * part + half
            means[3 * x + 2] = blue * part + half
        elif channels == 4:
            red = green = blue = alpha = np.float32(0)
            for _ in range(across):
                red += sums[i]
                green += sums[i + 1]
                blue += sums[i + 2]
                alpha += sums[i + 3]
                i += 4
            means[4 * x] = red * part + half
            means[4 * x + 1] = green * part + half
            means[4 * x + 2] = blue * part + half
            means[4 * x + 3] = alpha * part + half
        else:
            for c in range(channels):
                total = np.float32(0)
                for u in range(across):
                    total += sums[i + u * channels + c]
                means[x * channels + c] = total * part + half
            i += across * channels


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
        first = top + (step - 1) // 2
        count = 1
        for i in range(sums.shape[0]):
            sums[i] = rows[first, i]
        for y in range(first + step, bottom, step):
            count += 1
            for i in range(sums.shape[0]):
                sums[i] += np.float32(rows[y, i])
        for u in range(across):
            left = u * width // across
            right = max(left + 1, (u + 1) * width // across)
            part = np.float32(1.0 / (count * (right - left)))
            add_across(sums, left, channels, right - left, part, np.float32(0), means[v], u, 1)


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
def _ranges(rows, low, high):
    """Fill `low` and `high` (N,) with the least and greatest of each column of rows (H, N)."""
    for i in range(low.shape[0]):
        low[i] = high[i] = rows[0, i]
    for y in range(1, rows.shape[0]):
        for i in range(low.shape[0]):
            value = rows[y, i]
            low[i] = value if value < low[i] else low[i]
            high[i] = value if value > high[i] else high[i]


@njit(nogil=True, cache=True)
def _all_grey(rows):
    """Say whether the first three channels of rows (H, W, C) are equal everywhere."""
    for y in range(rows.shape[0]):
        for x in range(rows.shape[1]):
            if rows[y, x, 0] != rows[y, x, 1] or rows[y, x, 1] != rows[y, x, 2]:
                return False
    return True


@njit(nogil=True, cache=True)
def _differs(row, corner):
    """Count the pixels of a row (W, C) that differ from a pixel (C,)."""
    count = 0
    for x in range(row.shape[0]):
        other = False
        for c in range(row.shape[1]):
            other |= row[x, c] != corner[c]
        count += other
    return count


@njit(nogil=True, cache=True)
def _in_use(rows, alpha, columns_low, columns_high, step, used):
    """Fill used (4,) with left, top, width and height of what is in use, and return its share of the pixels.

    With alpha all is exact; without it the share is told by every `step`-th row.
    """
    height, width, channels = rows.shape
    left, right, top, bottom = width, -1, height, -1
    count = looked = 0
    if alpha:
        for x in range(width):
            if columns_high[channels * x + channels - 1] > 0:
                left, right = min(left, x), x
        for y in range(height):
            seen = 0
            for x in range(width):
                seen += rows[y, x, channels - 1] != 0
            count += seen
            if seen:
                top, bottom = min(top, y), y
        looked = width * height
    else:
        corner = rows[0, 0]
        for x in range(width):
            other = False
            for c in range(channels):
                other |= columns_low[channels * x + c] != corner[c] or columns_high[channels * x + c] != corner[c]
            if other:
                left, right = min(left, x), x
        if right < 0:
            return 0.0
        top, bottom = 0, height - 1
        while _differs(rows[top], corner) == 0:
            top += 1
        while _differs(rows[bottom], corner) == 0:
            bottom -= 1
        for y in range(step // 2, height, step):
            count += _differs(rows[y], corner)
            looked += width
    if right >= 0 and bottom >= 0:
        used[0], used[1], used[2], used[3] = left, top, right - left + 1, bottom - top + 1
    return count / looked


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


@njit(nogil=True, cache=True)
def _look_over(rows, alpha, colour, step, watched, low, high, used, activity, means):
    """Fill what stands in `PixelFacts` and return whether all is grey, and the share in use.

    Parameters
    ----------
    rows : (H, W, C); low, high : (C,) of its type
    alpha : the last channel is alpha; colour : the first three are colour
    used : (4,) int64; activity : as in `_activity`, zero; means : (GRID, GRID * C) float32
    """
    height, width, channels = rows.shape
    flat = rows.reshape(height, width * channels)
    columns = np.empty((2, width * channels), rows.dtype)
    _ranges(flat, columns[0], columns[1])
    _ranges(columns.reshape(2 * width, channels), low, high)
    share = 1.0
    if alpha and low[channels - 1] > 0:
        used[0], used[1], used[2], used[3] = 0, 0, width, height
    else:
        share = _in_use(rows, alpha, columns[0], columns[1], step, used)
    _activity(rows, step, watched, activity)
    _cells(flat, channels, _ROWS_LOOKED_AT // GRID, means)
    return colour and _all_grey(rows), share


def kernel_pixels(image: Image) -> Pixels:
    """Return pixels as kernels take them; those of half floats, which kernels do not know, as floats."""
    return held(image.pixels.astype(np.float32) if image.pixels.dtype == np.float16 else image.pixels)


def pixel_facts(image: Image) -> PixelFacts:
    """Return the facts of an image; exact but for `used_share` without alpha, `means` and `busiest`, which skip rows."""
    pixels = kernel_pixels(image)
    height, width, channels = pixels.shape
    low, high = np.empty(channels, pixels.dtype), np.empty(channels, pixels.dtype)
    box, means = np.zeros(4, np.int64), np.empty((GRID, GRID * channels), np.float32)
    activity = np.zeros((max(1, height // TILE), max(1, width // TILE)))
    step = -(-height // _ROWS_LOOKED_AT)
    colour, watched = len(image.channels) >= 3, min(1, channels - 1)
    grey, share = _look_over(pixels, image.has_alpha, colour, step, watched, low, high, box, activity, means)
    left, top, wide, tall = box.tolist()
    order = np.argsort(-activity, axis=None, kind="stable")[:_TILES].tolist()
    tiles = [(place % activity.shape[1] * TILE, place // activity.shape[1] * TILE) for place in order]
    digest = xxhash.xxh3_64(pixels.data)
    digest.update(f"{image.width}x{image.height}{''.join(image.channels)}{image.pixels.dtype.str}".encode())
    return PixelFacts(
        low=tuple(low.tolist()),
        high=tuple(high.tolist()),
        grey=grey,
        used=(left, top, wide, tall),
        used_share=share,
        eight_bit=pixels.dtype == np.uint16 and bool(_holds_eight(pixels.reshape(-1))),
        means=means.reshape(GRID, GRID, channels),
        busiest=tuple(tiles),
        digest=digest.hexdigest(),
    )


def cell_means(image: Image, down: int, across: int, most: int) -> Pixels:
    """Return mean codes (down, across, channels) float32 of evenly spread cells.

    Of each cell at most `most` rows are looked at; pictures smaller than the grid repeat their pixels.
    """
    pixels = kernel_pixels(image)
    height, width, channels = pixels.shape
    means = np.empty((down, across * channels), np.float32)
    _cells(pixels.reshape(height, width * channels), channels, most, means)
    return means.reshape(down, across, channels)


def unit_codes(image: Image) -> float:
    """Return the code that stands for 1.0."""
    return _UNITS[image.pixels.dtype]


def busy_tiles(image: Image, facts: PixelFacts) -> Pixels:
    """Return the busiest tiles, float32 in 0..1, shape (tiles, side, side, channels); side is TILE or what there is."""
    side = busy_side(image)
    tiles = [image.pixels[top : top + side, left : left + side] for left, top in facts.busiest]
    return np.stack(tiles).astype(np.float32) / np.float32(unit_codes(image))


def busy_side(image: Image) -> int:
    """Return the side of the busiest tiles in pixels."""
    return min(TILE, image.width, image.height)
