"""Encoding ASTC: what the search is given of a block size (modes, infills, nearest codes and partitions), and the encoder."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.choices import choices_of, plan_of
from oaktrim.core.codecs.astc.decode import infill
from oaktrim.core.codecs.astc.endpoints import SCALED, polish_scratch
from oaktrim.core.codecs.astc.fit import encode_rows
from oaktrim.core.codecs.astc.tables import (
    COLOURS,
    FINEST,
    LEVELS,
    QUINTS,
    SPLIT,
    TRITS,
    WEIGHT_LEVELS,
    WEIGHTS,
    grid_of,
    partition_of,
    sequence_bits,
)
from oaktrim.core.codecs.blocks import BARE, Blocks, Errors, ReadResult, encode_pixels, metric_params, spaced
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.codecs.partitions import flat_scratch, ranking_scratch, subset_masks
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba


@cache
def block_modes(size: tuple[int, int]) -> dict[tuple[int, int, int, int], int]:
    """Return the bits of each legal mode of a block size by width and height of the grid, weight level and planes."""
    found: dict[tuple[int, int, int, int], int] = {}
    for mode in range(2048):
        across, down, level, planes = grid_of.py_func(mode)
        many = across * down * planes
        fits = 0 < across <= size[0] and down <= size[1] and many <= 64 and mode & 0x1FF != 0x1FC
        if fits and 24 <= sequence_bits.py_func(many, level, SPLIT) <= 96:
            found.setdefault((across, down, level, planes), mode)
    return found


def _choice(
    size: tuple[int, int], grid: tuple[int, int], level: int, planes: int, parts: int, values: int, form: int
) -> tuple[int, ...] | None:
    """Return a row of choices, its grid left at 0, or None where the ends have no room."""
    values -= 2 if form == SCALED else 0
    mode = block_modes(size).get((*grid, level, planes))
    if mode is None or parts * values > 18:
        return None
    room = 128 - (17 if parts == 1 else 29) - (2 if planes == 2 else 0)
    room -= sequence_bits.py_func(grid[0] * grid[1] * planes, level, SPLIT)
    fine = int(FINEST[parts * values, max(0, room)])
    return None if fine < 0 else (0, level, fine, parts, planes, mode, form)


# Values of the ends of one partition: opaque colour, opaque grey, colour and alpha, grey and alpha.
_VALUES = (6, 2, 8, 4)
# Partitions and planes of each family of choices.
_FAMILIES = ((1, 1), (1, 2), (2, 1), (3, 1), (4, 1))
# Of each way to split: the partition of each pixel, (P, texels), masks, and seeds, (P,).
Splits = tuple[tuple[Any, ...], tuple[Any, ...], tuple[Any, ...]]
ChoicesOf = Callable[[tuple[int, int], int, int], list[tuple[tuple[int, int], int, int]]]
# The place of the seeds in what `encoding_tables` returns.
SEEDS = 12
Grids = dict[tuple[int, int], int]


@cache
def _infills(size: tuple[int, int]) -> tuple[Grids, tuple[NDArray[np.generic], ...], tuple[NDArray[np.generic], ...]]:
    """Return the place of each grid of a block size; what grids are made from and spread by; and what each point reaches.

    The first are sizes, pseudo-inverses, corners and shares in 16ths of each pixel; the second, of each point, how many
    pixels it reaches, which, and with what share.
    """
    sizes = sorted({mode[:2] for mode in block_modes(size)})
    texels = size[0] * size[1]
    matrices = np.stack([_spread_of(size, grid) for grid in sizes])
    inverses = np.zeros((len(sizes), -(-texels // 4) * 4, 64), np.float32)
    corners, shares = np.zeros((len(sizes), 4, texels), np.uint8), np.zeros((len(sizes), 4, texels), np.float32)
    count = np.count_nonzero(matrices, axis=1)
    touched = np.argsort(-matrices, axis=1, kind="stable")[:, : count.max()].swapaxes(1, 2)
    reach = np.take_along_axis(matrices.swapaxes(1, 2), touched, axis=2)
    for place, (across, down) in enumerate(sizes):
        matrix = matrices[place, :, : across * down]
        inverses[place, :texels, : across * down] = np.linalg.pinv(matrix / 16).T
        order = np.argsort(-matrix, axis=1, kind="stable")[:, :4]
        corners[place, : order.shape[1]] = order.T
        shares[place, : order.shape[1]] = np.take_along_axis(matrix, order, axis=1).T
    places = {grid: place for place, grid in enumerate(sizes)}
    tables = (np.array(sizes, np.int64), inverses, corners, shares)
    return places, tables, (count, np.ascontiguousarray(touched), np.ascontiguousarray(reach, np.float32))


def _spread_of(size: tuple[int, int], grid: tuple[int, int]) -> NDArray[np.float64]:
    """Return what each point of a grid adds to each pixel, in 16ths: (texels, 64)."""
    matrix, spread = np.zeros((size[0] * size[1], 64)), np.empty(size[0] * size[1], np.int64)
    for g in range(grid[0] * grid[1]):
        unit = np.zeros(64, np.int64)
        unit[g] = 16
        infill(unit, 0, 1, *size, *grid, spread)
        matrix[:, g] = spread
    return matrix


@cache
def _nearest() -> tuple[NDArray[np.generic], ...]:
    """Return the nearest code of each value, and values as floats: of weights by level, with the nearest one; then of colours."""
    weights, colours = np.zeros((WEIGHT_LEVELS, 65), np.int64), np.zeros((len(LEVELS), 256), np.int64)
    for level, count in enumerate(LEVELS):
        if level < WEIGHT_LEVELS:
            weights[level] = np.abs(WEIGHTS[level, :count] - np.arange(65)[:, None]).argmin(axis=1)
        colours[level] = np.abs(COLOURS[level, :count] - np.arange(256)[:, None]).argmin(axis=1)
    values = WEIGHTS.astype(np.float32)
    return weights, values, np.take_along_axis(values, weights, axis=1), colours, COLOURS.astype(np.float32)


@njit(**BARE)
def _split_all(wide, high, count, parted):
    """Return the partition of each pixel for each seed, (1024, texels)."""
    small = wide * high < 31
    for seed in range(1024):
        for y in range(high):
            for x in range(wide):
                parted[seed, wide * y + x] = partition_of(seed, x, y, count, small)


@cache
def _partitions(size: tuple[int, int], count: int, most: int) -> tuple[Any, ...]:
    """Return different ways to split a block in `count` parts, (P, texels), their masks and their seeds.

    Of all ways, the `most` with the shortest borders between their parts, which pictures need most often.
    """
    parted = np.empty((1024, size[0] * size[1]), np.int64)
    _split_all(*size, count, parted)
    # Splits that differ only in the order of their parts are one.
    seen: dict[bytes, int] = {}
    for seed, row in enumerate(parted):
        _, first, named = np.unique(row, return_index=True, return_inverse=True)
        if len(first) == count:
            seen.setdefault(np.argsort(np.argsort(first))[named].astype(np.uint8).tobytes(), seed)
    seeds = np.array(list(seen.values()), np.int64)
    members = parted[seeds].reshape(-1, size[1], size[0])
    border = sum(np.count_nonzero(np.diff(members, axis=axis), axis=(1, 2)) for axis in (1, 2))
    seeds = seeds[np.argsort(border, kind="stable")[:most]]
    return parted[seeds], subset_masks(parted[seeds], count), seeds


@cache
def packed_digits() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the least packed number of every five trits and every three quints, the first the lowest digit."""
    trits, quints = np.zeros(243, np.int64), np.zeros(125, np.int64)
    trits[TRITS[::-1] @ (3 ** np.arange(5))] = np.arange(255, -1, -1)
    quints[QUINTS[::-1] @ (5 ** np.arange(3))] = np.arange(127, -1, -1)
    return trits, quints


def splits_of(size: tuple[int, int], partitions: int) -> Splits:
    """Return the ways to split a block of a size in two, three and four that are tried: at most so many of each."""
    two, three, four = (_partitions(size, count, partitions) for count in (2, 3, 4))
    return two, three, four


@cache
def encoding_tables(
    size: tuple[int, int],
    partitions: int,
    choices_of: ChoicesOf = choices_of,
    splits_of: Callable[[tuple[int, int], int], Splits] = splits_of,
) -> tuple[object, ...]:
    """Return what `fit.encode_rows` knows of a size.

    Parameters
    ----------
    choices_of : returns what is tried of a size, a kind and a family; splits_of : the ways to split a block
    """
    places, infills, reach = _infills(size)
    choices = np.zeros((4, len(_FAMILIES), 64, 7), np.int64)
    for kindred, values in enumerate(_VALUES):
        for family, (parts, planes) in enumerate(_FAMILIES):
            rows = []
            for grid, level, form in choices_of(size, kindred, family):
                row = _choice(size, grid, level, planes, parts, values, form)
                if row is not None:
                    rows.append((places[grid], *row[1:]))
            choices[kindred, family, : len(rows)] = np.array(rows[:64], np.int64).reshape(-1, 7)
    parted, masks, seeds = zip(*splits_of(size, partitions), strict=True)
    return (choices, *infills, *_nearest(), parted, masks, seeds, SPLIT, *packed_digits(), *reach)


@spaced
def scratch(size: tuple[int, int], counts: tuple[int, ...]) -> tuple[Any, ...]:
    """Return what `fit.encode_rows` works in, for blocks of a size and so many ways to split them in two, three and four."""
    texels = size[0] * size[1]
    wide = -(-texels // 4) * 4
    return (
        tuple(np.zeros((rows, row), np.float32) for rows, row in ((4, texels), (4, texels), (2, wide), (2, wide), (2, texels))),
        (np.zeros(texels, np.int64), np.zeros((4, 3, texels), np.float32), np.ones((3, texels), np.float32)),
        (
            np.zeros((9, texels), np.float32), np.zeros((4, 2, 4), np.float32), np.zeros((4, 4, 4), np.float32),
            np.ones(4, np.float32), np.ones(4, np.float32),
        ),
        (
            np.zeros((2, 64), np.float32), np.zeros(32, np.int64), np.zeros((2, 64), np.float32), np.zeros((2, 64), np.int64),
            np.zeros(32, np.int64), np.zeros(64, np.int64), np.zeros(64, np.float32),
        ),
        polish_scratch(texels),
        (
            flat_scratch(texels), tuple(ranking_scratch(count) for count in counts),
            np.zeros(sum(counts), np.int64),
        ),
        (np.zeros(2, np.uint64), np.zeros(2, np.uint64)),
    )  # fmt: skip


def encode_astc(image: Image, options: EncodeOptions, size: tuple[int, int], block_errors: ReadResult = None) -> bytes:
    """Encode colour and alpha in blocks of `size` pixels."""
    plan = plan_of(options.effort, size)
    return encode_blocks(image, options, size, plan, encoding_tables(size, int(plan[4, 2])), block_errors)


def encode_blocks(
    image: Image,
    options: EncodeOptions,
    size: tuple[int, int],
    plan: NDArray[np.int64],
    tables: tuple[Any, ...],
    block_errors: ReadResult = None,
) -> bytes:
    """Encode in blocks of `size` pixels by a plan and what `encoding_tables` returns."""
    params, counts = metric_params(options.error_metric), tuple(len(seeds) for seeds in tables[SEEDS])

    def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
        encode_rows(pixels, *size, plan, params, tables, start, stop, out, errors, scratch(size, counts))

    return encode_pixels(held(to_rgba(image)), options, size, 16, rows, block_errors)
