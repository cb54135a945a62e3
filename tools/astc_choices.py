"""Finds which grids and levels of weights are worth trying when ASTC blocks of colour are made.

Usage: python tools/astc_choices.py PICTURES... --size 6x6 [--size 8x8 ...] [--alpha]

Every legal choice is tried alone on blocks of the pictures. A list then grows by the choice that takes most off the logarithm
of each picture's error, beside those before it. Prints the rows of `astc/choices.toml`: one partition, two planes (with
alpha), two partitions. The lists of three and four are tried only where fewer have won, so no choice of theirs can be tried alone.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import click
import numpy as np
from numpy.typing import NDArray
from PIL import Image as PillowImage

from oaktrim.core.codecs.astc import encode as astc_encode
from oaktrim.core.codecs.astc.endpoints import CONTRACTED, SCALED
from oaktrim.core.codecs.astc.fit import encode_rows
from oaktrim.core.codecs.blocks import metric_params
from oaktrim.core.codecs.effort import ErrorMetric

Errors = NDArray[np.float64]
Choice = tuple[int, int, int, bool]

PICTURES, EACH = 44, 24
LONGEST = {0: 24, 1: 14, 2: 14}
# A choice must take off this much of the logarithm of a picture's mean error; so many of one partition stand before the others.
LEAST, BESIDE = 0.0004, 8
OPAQUE, WITH_ALPHA = 0, 2


def blocks_of(
    files: Iterable[Path], size: tuple[int, int], alpha: bool, seed: int
) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """Return blocks in one row (height, width * N, 4), and the picture that each is of (N,)."""
    rng = np.random.default_rng(seed)
    blocks, owners = [], []
    for file in files:
        with PillowImage.open(file) as picture:
            pixels = np.array(picture.convert("RGBA"))
        if min(pixels.shape[:2]) < 128 or (alpha and pixels[..., 3].min() == 255):
            continue
        if not alpha:
            pixels[..., 3] = 255
        owner, got = len(set(owners)), 0
        for _ in range(6 * EACH):
            y, x = (
                int(rng.integers(0, side - part + 1)) for side, part in zip(pixels.shape[:2], size[::-1], strict=True)
            )
            block = pixels[y : y + size[1], x : x + size[0]]
            grey = (block[..., 0] == block[..., 1]).all() and (block[..., 1] == block[..., 2]).all()
            unseen = (block[..., 3] == 0).all() or (alpha and (block[..., 3] == 255).all())
            if got < EACH and not grey and not unseen:
                blocks.append(block)
                owners.append(owner)
                got += 1
        if len(set(owners)) == PICTURES:
            break
    return np.ascontiguousarray(np.concatenate(blocks, axis=1)), np.array(owners)


def legal(size: tuple[int, int], kind: int, family: int) -> dict[Choice, tuple[int, ...]]:
    """Return the rows of the encoder's table by choice: grid, level, and how ends are written."""
    partitions, planes = astc_encode._FAMILIES[family]
    places, found = astc_encode._infills(size)[0], {}
    for across, down, level, of_planes in sorted(astc_encode.block_modes(size)):
        for form in (CONTRACTED, SCALED) if of_planes == planes else ():
            row = astc_encode._choice(size, (across, down), level, planes, partitions, astc_encode._VALUES[kind], form)
            if row is not None:
                found[across, down, level, form] = (places[across, down], *row[1:])
    return found


def errors_alone(
    pixels: NDArray[np.uint8],
    size: tuple[int, int],
    kind: int,
    family: int,
    row: tuple[int, ...],
    floor: tuple[int, ...],
) -> Errors:
    """Return the error of each block where one choice is all there is, beside a poor one of one partition, which must be."""
    tables = astc_encode.encoding_tables(size, 256)
    choices, plan = np.zeros_like(tables[0]), np.zeros((5, 8), np.int64)
    choices[kind, 0, 0], plan[kind, 0] = floor, 1
    choices[kind, family, 0], plan[kind, family], plan[kind, 5] = row, 1, 3
    plan[4, :4] = 1, -1, 1024, 1
    count, params = pixels.shape[1] // size[0], metric_params(ErrorMetric.COLOUR)
    scratch = astc_encode.scratch(size, tuple(len(seeds) for seeds in tables[astc_encode.SEEDS]))
    out, block_errors = np.zeros((1, count, 16), np.uint8), np.zeros((1, count), np.float32)
    encode_rows(pixels, *size, plan, params, (choices, *tables[1:]), 0, 1, out, block_errors, scratch)
    return block_errors[0].astype(np.float64)


def grown(
    alone: dict[Choice, Errors], before: Errors, owners: NDArray[np.int64], most: int
) -> tuple[list[Choice], Errors]:
    """Return choices in the order in which they help most, and the errors that are left beside those before."""
    count = int(owners.max()) + 1

    def sum_of_logs(errors: Errors) -> float:
        return float(np.log(np.bincount(owners, errors, count) + 50.0).sum())

    found: list[Choice] = []
    best, value = before, sum_of_logs(before)
    while len(found) < min(most, len(alone)):
        values = {c: sum_of_logs(np.minimum(best, e)) for c, e in alone.items() if c not in found}
        chosen = min(values, key=values.__getitem__)
        if value - values[chosen] < LEAST * count:
            break
        found.append(chosen)
        best, value = np.minimum(best, alone[chosen]), values[chosen]
    return found, best


@click.command()
@click.argument("pictures", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@click.option("--size", "sizes", multiple=True, required=True)
@click.option("--alpha", is_flag=True, help="Blocks with alpha instead of opaque ones.")
def main(pictures: tuple[Path, ...], sizes: tuple[str, ...], alpha: bool) -> None:
    """Print the lists of each size."""
    kind = WITH_ALPHA if alpha else OPAQUE
    for text in sizes:
        size = tuple(map(int, text.split("x")))
        pixels, owners = blocks_of(pictures, size, alpha, 5)
        floor = next(row for (across, down, level, _), row in legal(size, kind, 0).items() if level == 5)
        print(text, f"{len(owners)} blocks of {owners.max() + 1} pictures")
        before = np.full(len(owners), 1e9)
        for family in (0, 1, 2) if alpha else (0, 2):
            alone = {
                c: errors_alone(pixels, size, kind, family, row, floor) for c, row in legal(size, kind, family).items()
            }
            found, _ = grown(alone, before, owners, LONGEST[family])
            if family == 0:
                before = np.minimum.reduce([alone[choice] for choice in found[:BESIDE]])
            names = (f"{across}.{down}.{level}{'s' if scaled else ''}" for across, down, level, scaled in found)
            print("   ", " ".join(names), flush=True)


if __name__ == "__main__":
    main()
