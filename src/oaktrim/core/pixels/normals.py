"""Normals kept in two channels: the third follows from unit length."""

from __future__ import annotations

import numpy as np

from oaktrim.core.pixels.image import Image, Transfer, to_depth


def rebuild_z(image: Image) -> Image:
    """Return a picture of channels R and G as R, G and B, with B = sqrt(1 - x² - y²) packed to 0..1.

    Code values stand for -1..1; a pair longer than one unit has z 0.
    """
    plane = to_depth(image.pixels, np.float32) * np.float32(2) - np.float32(1)
    z = np.sqrt(np.clip(1 - np.square(plane).sum(axis=2, keepdims=True), 0, 1))
    packed = to_depth((z * np.float32(0.5) + np.float32(0.5)).astype(np.float32), image.pixels.dtype.type)
    return Image(np.concatenate([image.pixels, packed], axis=2), ("R", "G", "B"), Transfer.LINEAR)
