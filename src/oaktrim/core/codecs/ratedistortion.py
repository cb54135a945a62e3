"""Package-aware encoding: blocks that repeat earlier ones, so that lossless packing finds them again.

A search over rate and distortion after the encoder. A block may be replaced by one near it that stands already, where the
bits that a packer then saves are worth the squared error that is added. What a bit is worth is found by bisection, so that
the whole loses no more than was allowed. Memory on the GPU does not change.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST, metric_params
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba
from oaktrim.core.progress import each_chunk

# Rows of blocks that are searched on their own, so that the result does not depend on the threads.
_BAND = 32
# What a packer takes for a block that stands nowhere yet (of its own bits); for one that repeats the block before it, and more
# for each time that one is twice as far away; for one as far away as one of the last three that were repeated; and for one
# that goes on where the block before it was repeated from.
_NEW, _FAR_BITS, _AGAIN_BITS, _NEXT_BITS = 0.95, 15.0, 10.0, 2.0
# Where blocks to repeat are looked for: so many to the left, and around the same place in rows above.
_LEFT, _AROUND, _ABOVE = 32, 14, 5
# What a bit may be worth, in squared codes of 8 bits, as powers of two, and the step between two that are tried; on how many
# bands they are; how often the share of rows at the next step is halved, and what spreads these rows evenly.
_SLOPES, _STEP, _SAMPLED, _SHARES, _GOLDEN = (-8.0, 10.0), 0.25, 4, 4, 0.618034
_ODD = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F], np.uint64)


@njit(**BARE, fastmath=FAST)
def _distance(source, weights, decoded, limit):
    """Return the weighted squared error of a block, all (n,) float32; no more is counted once it is over `limit`."""
    total = np.float32(0.0)
    for start in range(0, source.shape[0], 64):
        part = np.float32(0.0)
        for i in range(start, min(start + 64, source.shape[0])):
            d = source[i] - decoded[i]
            part += weights[i] * d * d
        total += part
        if total > limit:
            break
    return total


@njit(**BARE)
def _repeat_band(source, weights, strict, decoded, wanted, means, slopes, bits, prices, taken):
    """Fill taken (rows, columns, 2) int64 with the place whose block each block of a band takes; return the squared error.

    Parameters
    ----------
    source, weights, decoded : (rows, columns, n) float32; strict : (rows, columns, n) float32, 1 where an error is not allowed
    wanted, means : (rows, columns, C) float32, root of what the pixels of a channel count times its mean, in the source and
        decoded; `wanted` is NaN where some pixels do not count
    slopes : (rows,) squared error that a bit is worth
    bits : (rows, columns) that a packer takes for a block as it is
    prices : (places,) bits that repeating a block from each of the places takes that are looked at
    """
    rows, columns, _ = source.shape
    total = np.float64(0.0)
    # How many blocks away the last three were that were repeated, the last one first; whether the one before was.
    last, second, third, running = 0, 0, 0, False
    for y in range(rows):
        for x in range(columns):
            slope = slopes[y]
            own = _distance(source[y, x], weights[y, x], decoded[y, x], np.float32(3e38))
            best = np.float64(own) + slope * bits[y, x]
            found_y, found_x, found = y, x, own
            last_y, last_x, away = -1, -1, 0
            for k in range(_LEFT + (2 * _AROUND + 1) * _ABOVE):
                if k < _LEFT:
                    from_y, from_x = y, x - 1 - k
                else:
                    from_y = y - 1 - (k - _LEFT) // (2 * _AROUND + 1)
                    from_x = x - _AROUND + (k - _LEFT) % (2 * _AROUND + 1)
                if from_x < 0 or from_x >= columns or from_y < 0:
                    continue
                apart = (y - from_y) * columns + x - from_x
                goes_on = running and apart == last
                again = apart in (last, second, third)
                price = slope * (_NEXT_BITS if goes_on else _AGAIN_BITS if again else prices[k])
                if price >= best:
                    continue
                at_y, at_x = taken[from_y, from_x, 0], taken[from_y, from_x, 1]
                # Neighbours often repeat one and the same block.
                if at_y == last_y and at_x == last_x and not again:
                    continue
                last_y, last_x = at_y, at_x
                limit = np.float32(best - price)
                # No block is nearer than its means are.
                least = np.float32(0.0)
                for c in range(means.shape[2]):
                    d = wanted[y, x, c] - means[at_y, at_x, c]
                    least += d * d
                if least > limit * np.float32(1.0001) + np.float32(0.01):
                    continue
                error = _distance(source[y, x], weights[y, x], decoded[at_y, at_x], limit)
                if error > limit or error + price >= best:
                    continue
                allowed = True
                for i in range(source.shape[2]):
                    if strict[y, x, i] and source[y, x, i] != decoded[at_y, at_x, i]:
                        allowed = allowed and decoded[y, x, i] != source[y, x, i]
                if allowed:
                    best = error + price
                    found_y, found_x, found = at_y, at_x, error
                    away = apart
            running = away > 0
            if running and away != last:
                last, second, third = away, last, third if away == second else second
            taken[y, x, 0], taken[y, x, 1] = found_y, found_x
            total += found
    return total


def _means(blocks: NDArray[np.float32], channels: int) -> NDArray[np.float32]:
    """Return the root of the pixels times the mean of each channel: the squares of their differences bound those of blocks."""
    rows, columns, count = blocks.shape
    sums = blocks.reshape(rows, columns, channels, count // channels).sum(axis=3)
    means: NDArray[np.float32] = sums / np.float32(np.sqrt(count // channels))
    return means


def _in_blocks(codes: Pixels, size: tuple[int, int]) -> NDArray[np.float32]:
    """Return codes (rows * high, columns * wide, C) as blocks (rows, columns, C * wide * high)."""
    wide, high = size
    rows, columns, channels = codes.shape[0] // high, codes.shape[1] // wide, codes.shape[2]
    cut = codes.reshape(rows, high, columns, wide, channels).transpose(0, 2, 4, 1, 3)
    return np.ascontiguousarray(cut.reshape(rows, columns, -1), np.float32)


def optimize_rate(
    data: bytes, image: Image, decoded: Image, size: tuple[int, int], kept: list[int], options: EncodeOptions
) -> bytes:
    """Return a level's blocks with some replaced by others of it.

    Parameters
    ----------
    data : the level's blocks; decoded : what they say, of whole blocks; size : of a block
    image : what was encoded; kept : places in RGBA of the channels that the format keeps
    options : how much may be lost, and what it is counted on
    """
    whole = to_rgba(decoded)
    room = ((0, whole.shape[0] - image.height), (0, whole.shape[1] - image.width), (0, 0))
    source = np.pad(to_rgba(image), room, mode="edge")
    params = np.append(metric_params(options.error_metric)[:3], np.float32(1.0))
    counts = np.ones(source.shape, np.float32) * params
    counts[image.height :], counts[:, image.width :] = 0, 0
    strict = np.zeros_like(source)
    if 3 in kept:
        if options.error_metric.alpha_covers:
            counts[..., :3] *= source[..., 3:] > 0
        strict[..., 3] = (source[..., 3] == 0) | (source[..., 3] == 255)
    parts = [held(_in_blocks(codes[..., kept], size)) for codes in (source, counts, strict, whole)]
    rows, columns = parts[0].shape[:2]
    roots = np.sqrt(params)[kept]
    wanted, means = (_means(part, len(kept)) * roots for part in (parts[0], parts[3]))
    wanted[parts[1].min(axis=2) == 0] = np.nan
    parts += [held(wanted), held(means)]
    blocks = np.frombuffer(data, np.uint8).reshape(rows, columns, -1)
    bands = [(start, min(start + _BAND, rows)) for start in range(0, rows, _BAND)]
    parts.append(held(np.concatenate([_own_bits(blocks[start:stop]) for start, stop in bands])))
    few = bands[:: -(-len(bands) // _SAMPLED)]

    prices = _prices(columns)

    def search(slope: float, where: list[tuple[int, int]], share: float = 0.0) -> tuple[float, list[NDArray[np.int64]]]:
        """Search bands at a slope, of which a share of the rows at the next one."""
        taken = [np.empty((stop - start, columns, 2), np.int64) for start, stop in where]
        errors = np.zeros(len(where))

        def one(first: int, last: int) -> None:
            for k in range(first, last):
                start, stop = where[k]
                source, weights, exact, codes, wanted, means, own = (part[start:stop] for part in parts)
                steeper = np.arange(start, stop) * _GOLDEN % 1 < share
                slopes = np.where(steeper, 2.0 ** (slope + _STEP), 2.0**slope)
                errors[k] = _repeat_band(source, weights, exact, codes, wanted, means, slopes, own, prices, taken[k])

        each_chunk(one, len(where), 1, options.threads)
        return float(errors.sum()), taken

    allowed = 10 ** (options.loss / 10)
    ceiling = allowed * search(-np.inf, few)[0]
    slopes = np.arange(_SLOPES[0], _SLOPES[1], _STEP)
    place, past = 0, len(slopes)
    while past - place > 1:
        middle = (place + past) // 2
        place, past = (middle, past) if search(slopes[middle], few)[0] <= ceiling else (place, middle)
    # A share of the rows takes what is left to the next slope.
    low, high = 0.0, 1.0
    for _ in range(_SHARES):
        half = (low + high) / 2
        low, high = (half, high) if search(slopes[place], few, half)[0] <= ceiling else (low, half)
    # What held for a sample is held to for the whole.
    ceiling = allowed * search(-np.inf, bands)[0]
    error, taken = search(slopes[place], bands, low)
    while error > ceiling:
        place, low = (place, 0.0) if low > 0 else (place - 1, 0.5)
        if place < 0:
            return data
        error, taken = search(slopes[place], bands, low)
    parts_of = [blocks[start:stop][at[..., 0], at[..., 1]] for (start, stop), at in zip(bands, taken, strict=True)]
    return np.concatenate(parts_of).tobytes()


def _own_bits(blocks: NDArray[np.uint8]) -> NDArray[np.float64]:
    """Return the bits that a packer takes for each block of a band as it is, shared by all that are the same in the band.

    Without that, a flat part would follow its first block to the worse, where its own block is worth its bits to them all.
    """
    size = blocks.shape[2]
    words = np.ascontiguousarray(blocks).reshape(-1, size).view("<u8")
    # Sums of odd multiples tell blocks apart; two that fall together by chance would be taken for more common than they are.
    _, place, times = np.unique(words @ _ODD[: size // 8], return_inverse=True, return_counts=True)
    shared: NDArray[np.float64] = (_NEW * 8 * size / times)[place].reshape(blocks.shape[:2])
    return shared


def _prices(columns: int) -> NDArray[np.float64]:
    """Return what repeating a block takes from each place that is looked at, in bits, in a picture so many blocks wide."""
    left = np.arange(1, _LEFT + 1)
    above = columns * np.arange(1, _ABOVE + 1)[:, None] + np.arange(_AROUND, -_AROUND - 1, -1)
    prices: NDArray[np.float64] = _FAR_BITS + np.log2(np.maximum(np.concatenate([left, above.ravel()]), 1))
    return prices
