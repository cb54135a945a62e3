"""Finds which grids and levels of weights are worth trying when ASTC blocks of opaque colour are made.

Usage: python tools/astc_choices.py PICTURES... --size 6x6 [--size 8x8 ...]

Every legal choice is tried alone on crops of the pictures. A list then grows by the choice that takes most error off for the
time that it costs, beside those before it. Prints the rows of `astcchoices.py`: one partition, then two.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import click
import numpy as np
from numpy.typing import NDArray
from PIL import Image as PillowImage

from oaktrim.core.codecs import astcencode
from oaktrim.core.codecs.astc import WEIGHT_LEVELS, decode_astc
from oaktrim.core.codecs.astcchoices import PLANS
from oaktrim.core.codecs.effort import EncodeOptions
from oaktrim.core.pixels.image import Image

CROP, ACROSS = 120, 8
# What one try with two partitions costs, in tries with one: two ways are tried, and each has two lines.
DEARER = 3.0


def crops(files: Iterable[Path], seed: int) -> NDArray[np.uint8]:
    """Return a picture of crops, four bytes a pixel, opaque."""
    rng = np.random.default_rng(seed)
    pictures = []
    for file in files:
        with PillowImage.open(file) as picture:
            if min(picture.size) >= CROP:
                pictures.append(np.asarray(picture.convert("RGB")))
    out = np.full((CROP * ACROSS, CROP * ACROSS, 4), 255, np.uint8)
    for place in range(ACROSS**2):
        picture = pictures[place % len(pictures)]
        y, x = (int(rng.integers(0, side - CROP + 1)) for side in picture.shape[:2])
        down, across = divmod(place, ACROSS)
        out[CROP * down :, CROP * across :][:CROP, :CROP, :3] = picture[y : y + CROP, x : x + CROP]
    return out


def errors_alone(pixels: NDArray[np.uint8], size: tuple[int, int], family: int, name: str) -> NDArray[np.float64] | None:
    """Return the squared error of each block (rows, columns) with one choice only; None where it is not legal."""
    astcencode.encoding_tables.cache_clear()
    grid = tuple(map(int, name.split(".")))
    astcencode.choices_of = lambda s, k, f: [(grid[:2], grid[2])] if (k, f) == (0, family) else []
    if not astcencode.encoding_tables(size, 512)[0][0, family, 0, 3]:
        return None
    plan = PLANS.copy()
    plan[1, 0] = [family == 0, 0, family == 2, 2]
    plan[1, 4] = [1, 0, 512, 0]
    astcencode.PLANS = plan
    data = astcencode.encode_astc(Image.of(pixels), EncodeOptions(threads=1), size)
    height, width = pixels.shape[:2]
    miss = decode_astc(data, width, height, size)[..., :3].astype(np.float64) - pixels[..., :3]
    square = (miss**2).sum(axis=-1).reshape(height // size[1], size[1], width // size[0], size[0])
    return square.sum(axis=(1, 3))


def _gain(key: tuple[int, str], best: NDArray[np.float64], error: NDArray[np.float64], weight: NDArray[np.float64]) -> float:
    """Return what a choice takes off beside those before it, for its time."""
    saved = np.minimum(best, 1e9) - np.minimum(best, error)
    return float((saved * weight).sum()) / (DEARER if key[0] else 1.0)


def grown(alone: dict[tuple[int, str], NDArray[np.float64]], weight: NDArray[np.float64], most: int) -> list[tuple[int, str]]:
    """Return choices in the order in which they help most for their time."""
    best = np.full_like(weight, np.inf)
    left, found = dict(alone), []
    while left and len(found) < most:
        gains = {key: _gain(key, best, error, weight) for key, error in left.items()}
        chosen = max(gains, key=gains.__getitem__)
        best = np.minimum(best, left.pop(chosen))
        found.append(chosen)
    return found


@click.command()
@click.argument("pictures", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@click.option("--size", "sizes", multiple=True, required=True)
@click.option("--most", default=26, help="Choices in the two lists together.")
def main(pictures: tuple[Path, ...], sizes: tuple[str, ...], most: int) -> None:
    """Print the lists of each size."""
    pixels = crops(pictures, 5)
    for text in sizes:
        size = tuple(map(int, text.split("x")))
        grids = sorted({mode[:2] for mode in astcencode._modes(size) if mode[3] == 1})
        alone = {}
        for family in (0, 2):
            for grid in grids:
                for level in range(WEIGHT_LEVELS):
                    name = f"{grid[0]}.{grid[1]}.{level}"
                    error = errors_alone(pixels, size, family, name)
                    if error is not None:
                        alone[family, name] = error
        floor = np.min(list(alone.values()), axis=0)
        # Every crop counts alike, as it does in a mean of decibels.
        rows, columns = (np.arange(side) * unit // CROP for side, unit in zip(floor.shape, size[::-1], strict=True))
        crop = rows[:, None] * ACROSS + columns
        mean = np.bincount(crop.ravel(), floor.ravel()) / np.bincount(crop.ravel())
        found = grown(alone, 1 / np.maximum(mean[crop], 1.0), most)
        print(text)
        for family in (0, 2):
            print("   ", " ".join(name for key, name in found if key == family))
        print("    in order:", " ".join(("2:" if key else "") + name for key, name in found), flush=True)


if __name__ == "__main__":
    main()
