"""What block codecs share: taking a block out of a picture, rows of blocks on all cores, and bits put into bytes."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, wraps
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.effort import EncodeOptions, ErrorMetric
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Pixels
from oaktrim.core.progress import each_chunk

FAST = {"contract", "reassoc", "nsz", "arcp"}
# How kernels are compiled that make no arrays. Whoever calls one holds what it is given, so nothing is counted in and out: for
# every view and every call that would take a quarter of the time of an encoder. Divisions are not looked at one by one for
# zeros, which would keep loops from being taken as vectors.
BARE: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy", "_nrt": False}

Blocks = NDArray[np.uint8]
# Fills blocks of rows [start, stop) from pixels (H, W, 4).
Errors = NDArray[np.float32]
ReadResult = Errors | None
RowEncoder = Callable[[Pixels, int, int, Blocks, Errors], None]

# What a code of red, green and blue is worth to the eye: its squared OKLab distance (B. Ottosson, 2020), averaged over the
# greys. As all weights of colour, they add up to 3.
PERCEPTUAL = (0.505, 1.957, 0.538)
# Places in what `metric_params` returns, after the weights of the three colours.
COVERS, ANGLE = 3, 4


T = TypeVar("T")
# How far scratch arrays are kept from each other, in bytes: more than a compiled loop takes at once.
_GAP = 1024


def spaced(make: Callable[..., T]) -> Callable[..., T]:
    """Have what makes scratch arrays, in tuples, lay them in one piece of memory with gaps between them, afresh each time.

    A loop that takes several numbers at once looks first whether what it writes is far enough from what it reads, and else
    takes one after the other, which is slower and rounds otherwise. With scratch wherever memory is free, blocks would
    depend on that. What is made is the same each time for the same arguments.
    """

    @cache
    def template(*args: Any) -> tuple[Any, NDArray[np.uint8]]:
        filled: list[NDArray[np.uint8]] = [np.zeros(_GAP, np.uint8)]

        def place(item: Any) -> Any:
            if isinstance(item, tuple):
                return tuple(place(each) for each in item)
            at = sum(map(len, filled))
            filled.append(np.zeros((item.nbytes + 63) // 64 * 64 + _GAP, np.uint8))
            filled[-1][: item.nbytes] = item.reshape(-1).view(np.uint8)
            return _Place(item.shape, item.dtype, at)

        return place(make(*args)), np.concatenate(filled)

    def fresh(item: Any, memory: NDArray[np.uint8]) -> Any:
        if isinstance(item, _Place):
            return np.ndarray(item.shape, item.dtype, memory, item.at)
        return tuple([fresh(each, memory) for each in item])

    @wraps(make)
    def made(*args: Any) -> T:
        places, values = template(*args)
        memory = np.empty(len(values) + 64, np.uint8)
        memory = memory[-memory.ctypes.data % 64 :][: len(values)]
        memory[:] = values
        arrays: T = fresh(places, memory)
        return arrays

    return made


class _Place(NamedTuple):
    """Where an array lies in a piece of memory."""

    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    at: int


def metric_params(error_metric: ErrorMetric) -> NDArray[np.float32]:
    """Return what searches need to know of what an error is counted on, (5,): weights, COVERS and ANGLE as 0 or 1."""
    weights = PERCEPTUAL if error_metric is ErrorMetric.PERCEPTUAL else (1.0, 1.0, 1.0)
    return np.array([*weights, error_metric.alpha_covers, error_metric is ErrorMetric.NORMALS], np.float32)


@njit(**BARE)
def weigh_by_alpha(px, covers, weight):
    """Set weight (n,) float32, 0..1, to what each pixel of a block px (4, n) counts in colour: 1, or by alpha where that covers.

    Of a faint pixel less is seen, but what counts is how it stands among its neighbours: the least clear one counts 1.
    """
    most = np.float32(1.0)
    for i in range(px.shape[1]):
        most = max(most, px[3, i])
    for i in range(px.shape[1]):
        weight[i] = px[3, i] / most if covers else np.float32(1.0)


@njit(**BARE)
def set_roots(px, params, roots):
    """Set roots (4,) float32 to the square roots of what an error of each channel of a block px (4, n) counts; alpha counts 1.

    `params` (5,) float32 is what `metric_params` returns.

    An error along a vector does not turn it. Where the vectors of a block lie near one axis, errors of that axis count for
    less; where they lie between axes, an error of one of these turns them too.
    """
    roots[3] = np.float32(1.0)
    if params[ANGLE] == 0:
        for c in range(3):
            roots[c] = np.sqrt(params[c])
        return
    whole = np.float32(1e-6)
    for c in range(3):
        roots[c] = np.float32(0.0)
        for i in range(px.shape[1]):
            along = px[c, i] - np.float32(127.5)
            roots[c] += along * along
        whole += roots[c]
    total = np.float32(0.0)
    for c in range(3):
        # A little of each counts, so that none runs away where the vectors are not of unit length.
        roots[c] = np.float32(1.05) - (roots[c] / whole) ** 2
        total += roots[c]
    for c in range(3):
        roots[c] = np.sqrt(np.float32(3.0) * roots[c] / total)


@njit(**BARE)
def weigh_turns(px, high, weights):
    """Set weights (2, n) float32 to what squared errors of x and y count in vectors whose z is rebuilt from both.

    px (2 or more, n) holds codes from 0 for -1 to `high` for 1. On the unit sphere an error of x moves z by x / z times as
    much, so it turns the vector by 1 + x² / z² of its square. Near the rim, where that grows without bound, z is held.
    """
    for i in range(px.shape[1]):
        x = px[0, i] / high * np.float32(2.0) - np.float32(1.0)
        y = px[1, i] / high * np.float32(2.0) - np.float32(1.0)
        z2 = max(np.float32(1.0) - x * x - y * y, np.float32(0.02))
        weights[0, i] = np.float32(1.0) + x * x / z2
        weights[1, i] = np.float32(1.0) + y * y / z2


@njit(**BARE)
def _on_sphere(x, y):
    """Return the unit vector whose z is rebuilt from x and y; outside of the disc, the nearest one on its rim."""
    square = x * x + y * y
    if square > np.float32(1.0):
        root = np.sqrt(square)
        return x / root, y / root, np.float32(0.0)
    return x, y, np.sqrt(np.float32(1.0) - square)


@njit(**BARE)
def least_turns(px, high, palettes, near, codes):
    """Fill codes (2, n) int64 with the steps of x and of y that turn each vector least, of the two nearest of each.

    Return the squared error of the rebuilt vectors, in codes; px and `high` as in `weigh_turns`, palettes (2, 8) float32;
    near is scratch (2, 2) int64.
    """
    half, total = high * np.float32(0.5), np.float32(0.0)
    for i in range(px.shape[1]):
        for c in range(2):
            first, second = np.float32(3e38), np.float32(3e38)
            near[c, 0] = near[c, 1] = 0
            for k in range(8):
                d = abs(palettes[c, k] - px[c, i])
                if d < first:
                    second, near[c, 1] = first, near[c, 0]
                    first, near[c, 0] = d, k
                elif d < second:
                    second, near[c, 1] = d, k
        x, y, z = _on_sphere(px[0, i] / half - np.float32(1.0), px[1, i] / half - np.float32(1.0))
        best = np.float32(3e38)
        for pair in range(4):
            a, b = near[0, pair & 1], near[1, pair >> 1]
            u, v, w = _on_sphere(palettes[0, a] / half - np.float32(1.0), palettes[1, b] / half - np.float32(1.0))
            error = (u - x) ** 2 + (v - y) ** 2 + (w - z) ** 2
            if error < best:
                best, codes[0, i], codes[1, i] = error, a, b
        total += best * half * half
    return total


@njit(**BARE)
def load_block(pixels, bx, by, wide, high, channels, px):
    """Fill the first channels of px (4, wide * high) float32 with a block of pixels (H, W, 4).

    The border's pixels stand in beyond it.
    """
    height, width = pixels.shape[:2]
    if by * high + high <= height and bx * wide + wide <= width:
        for y in range(high):
            for x in range(wide):
                for c in range(channels):
                    px[c, wide * y + x] = pixels[by * high + y, bx * wide + x, c]
        return
    for y in range(high):
        row = min(by * high + y, height - 1)
        for x in range(wide):
            column = min(bx * wide + x, width - 1)
            for c in range(channels):
                px[c, wide * y + x] = pixels[row, column, c]


@njit(**BARE)
def copy_flat(source, target):
    """Copy an array into another of its size.

    Slices assigned cost seconds of compiling, and `reshape` in a kernel twenty times what the copy takes.
    """
    for i in range(source.size):
        target.flat[i] = source.flat[i]


@njit(**BARE)
def put_bits(words, at, value, count):
    """Add `count` bits of a value at bit `at` of words (2,) uint64, the lowest bit first; return the next place."""
    value = np.uint64(value) & ((np.uint64(1) << np.uint64(count)) - np.uint64(1))
    if at < 64:
        words[0] |= value << np.uint64(at)
        if at + count > 64:
            words[1] |= value >> np.uint64(64 - at)
    else:
        words[1] |= value << np.uint64(at - 64)
    return at + count


@njit(**BARE)
def get_bits(words, at, count):
    """Return `count` bits (at most 32) from bit `at` of words (2,) uint64."""
    if count == 0:
        return np.int64(0)
    if at >= 64:
        value = words[1] >> np.uint64(at - 64)
    else:
        value = words[0] >> np.uint64(at)
        if at + count > 64:
            value |= words[1] << np.uint64(64 - at)
    return np.int64(value & ((np.uint64(1) << np.uint64(count)) - np.uint64(1)))


@njit(**BARE)
def put_pixels(pixels, bx, by, wide, high, out):
    """Put the pixels of a block (wide * high,) into their place in `out` (H, W); what lies beyond the border is left out."""
    height, width = out.shape
    if by * high + high <= height and bx * wide + wide <= width:
        for y in range(high):
            for x in range(wide):
                out[by * high + y, bx * wide + x] = pixels[wide * y + x]
        return
    for y in range(min(high, height - by * high)):
        for x in range(min(wide, width - bx * wide)):
            out[by * high + y, bx * wide + x] = pixels[wide * y + x]


@njit(**BARE)
def words_of(block, words):
    """Read sixteen bytes into words (2,) uint64."""
    for half in range(2):
        value = np.uint64(0)
        for i in range(8):
            value |= np.uint64(block[8 * half + i]) << np.uint64(8 * i)
        words[half] = value


@njit(**BARE)
def bytes_of(words, block):
    """Write words (2,) uint64 as sixteen bytes."""
    for half in range(2):
        for i in range(8):
            block[8 * half + i] = np.uint8((words[half] >> np.uint64(8 * i)) & np.uint64(255))


def encode_pixels(
    pixels: Pixels,
    options: EncodeOptions,
    size: tuple[int, int],
    block_bytes: int,
    rows: RowEncoder,
    block_errors: ReadResult = None,
    chunk: int = 1024,
) -> bytes:
    """Return the blocks of pixels (H, W, C), row after row, encoded on all cores.

    Parameters
    ----------
    pixels : of the depth that `rows` takes; `held(to_rgba(image))` for most
    block_errors : (rows, columns) float32 of blocks, filled with the squared error that the search expects of each
    chunk : how many blocks a thread takes at once: many, where one takes little time
    """
    across, down = -(-pixels.shape[1] // size[0]), -(-pixels.shape[0] // size[1])
    out = np.empty((down, across, block_bytes), np.uint8)
    errors = np.empty((down, across), np.float32) if block_errors is None else block_errors
    each_chunk(
        lambda start, stop: rows(pixels, start, stop, out, errors), down, max(1, chunk // across), options.threads
    )
    return out.tobytes()


def blocks_in(data: bytes, width: int, height: int, size: tuple[int, int], block_bytes: int) -> Blocks:
    """Return the bytes of a level as blocks (rows, columns, block_bytes)."""
    return np.frombuffer(data, np.uint8).reshape(-(-height // size[1]), -(-width // size[0]), block_bytes)


def decode_rows(work: Callable[[int, int], None], blocks: Blocks) -> None:
    """Call `work(start, stop)` over rows of blocks on all cores."""
    each_chunk(work, blocks.shape[0], max(1, 8192 // blocks.shape[1]))
