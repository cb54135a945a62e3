"""Mip levels: how many a size has, how large each is, and making them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth
from oaktrim.core.pixels.resample import Filter, Resampling, from_light, resample_linear

MIP_FILTER = Filter.KAISER


def level_count(width: int, height: int) -> int:
    """Return the number of levels down to 1x1, the full size included."""
    return max(width, height).bit_length()


def level_size(width: int, height: int, level: int) -> tuple[int, int]:
    """Return the size of a level; each side is halved and rounded down, and stays at least 1."""
    return max(1, width >> level), max(1, height >> level)


def build_mip_chain(
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
        light = resample_linear(above, *level_size(*image.size, level), how, threads)
        levels.append(from_light(light, image, how.normals, threads))
        above = replace(image, pixels=light, transfer=Transfer.LINEAR)
    return levels


def coverage(image: Image, threshold: int) -> float:
    """Return the share of pixels that a cut-out at an alpha of `threshold` of 255 keeps; 1 without alpha."""
    if not image.has_alpha:
        return 1.0
    return float((to_depth(image.pixels[..., -1], np.float32) >= threshold / 255).mean())


def preserve_alpha_coverage(levels: list[Image], threshold: int) -> list[Image]:
    """Return levels whose alpha is scaled so that a cut-out at `threshold` of 255 keeps as much of each as of the first.

    Filtering thins what is cut out: leaves and wires vanish from afar. After I. Castaño, "Computing alpha mipmaps" (2010).
    """
    wanted = coverage(levels[0], threshold)
    if not levels[0].has_alpha or not 0 < wanted < 1:
        return levels
    return [levels[0], *(_scaled_alpha(level, wanted, threshold) for level in levels[1:])]


def _scaled_alpha(level: Image, wanted: float, threshold: int) -> Image:
    alpha = to_depth(level.pixels[..., -1], np.float32)
    # The alpha that the wanted share of pixels lies over is brought to the threshold; of two that share it out, the nearer.
    edge = float(np.sort(alpha, axis=None)[::-1][max(0, round(wanted * alpha.size) - 1)])
    above = alpha[alpha > edge]
    if (alpha >= edge).mean() - wanted > wanted - len(above) / alpha.size:
        edge = float(above.min()) if len(above) else 0.0
    if edge <= 0:
        return level
    pixels = level.pixels.copy()
    # A hair over it, so that rounding does not put the edge below.
    scaled = np.clip(alpha * np.float32((threshold / 255 + 1e-4) / edge), 0, 1)
    pixels[..., -1] = to_depth(scaled.astype(np.float32), level.pixels.dtype.type)
    return level.with_pixels(pixels)
