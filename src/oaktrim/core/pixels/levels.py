"""Mip levels: how many a size has, how large each is, and making them."""

from __future__ import annotations

from dataclasses import replace

from oaktrim.core.pixels.image import Image, Transfer
from oaktrim.core.pixels.resample import Filter, Resampling, from_light, to_light

MIP_FILTER = Filter.KAISER


def level_count(width: int, height: int) -> int:
    """Return the number of levels down to 1x1, the full size included."""
    return max(width, height).bit_length()


def level_size(width: int, height: int, level: int) -> tuple[int, int]:
    """Return the size of a level; each side is halved and rounded down, and stays at least 1."""
    return max(1, width >> level), max(1, height >> level)


def make_levels(
    image: Image, count: int | None = None, how: Resampling | None = None, threads: int | None = None
) -> list[Image]:
    """Return the image and its levels, each filtered from the one above it without rounding in between.

    Parameters
    ----------
    image : level 0, kept as it is
    count : how many levels in all; down to 1x1 by default
    how : filter and border; Kaiser by default
    """
    how = how or Resampling(MIP_FILTER)
    total = level_count(*image.size) if count is None else count
    levels = [image]
    above = image
    for level in range(1, total):
        light = to_light(above, *level_size(*image.size, level), how, threads)
        levels.append(from_light(light, image, how.normals, threads))
        above = replace(image, pixels=light, transfer=Transfer.LINEAR)
    return levels
