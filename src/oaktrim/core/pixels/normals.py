"""Normals kept in two channels: the third follows from unit length."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_depth


def reconstruct_z(image: Image) -> Image:
    """Return a picture of channels R and G as R, G and B, with B = sqrt(1 - x² - y²) packed to 0..1.

    Code values stand for -1..1; a pair longer than one unit has z 0.
    """
    plane = to_depth(image.pixels, np.float32) * np.float32(2) - np.float32(1)
    z = np.sqrt(np.clip(1 - np.square(plane).sum(axis=2, keepdims=True), 0, 1))
    packed = to_depth((z * np.float32(0.5) + np.float32(0.5)).astype(np.float32), image.pixels.dtype.type)
    return Image(np.concatenate([image.pixels, packed], axis=2), ("R", "G", "B"), Transfer.LINEAR)


def angles_between(a: NDArray[np.floating], b: NDArray[np.floating]) -> NDArray[np.float32]:
    """Return the angle in degrees between the directions that codes in 0..1 stand for, (H, W, 3) to (H, W).

    Directions are brought to unit length; one without a length points straight up.
    """
    ways = []
    for codes in (a, b):
        way = codes * np.float32(2) - np.float32(1)
        length = np.sqrt(np.square(way).sum(axis=2, keepdims=True))
        way = np.where(length > 1e-6, way / np.maximum(length, np.float32(1e-6)), np.array([0, 0, 1], np.float32))
        ways.append(way)
    # From the chord: the cosine of a small angle has no digits left to tell it by.
    chord = np.sqrt(np.square(ways[0] - ways[1]).sum(axis=2))
    angles: NDArray[np.float32] = np.degrees(2 * np.arcsin(np.minimum(chord / 2, 1))).astype(np.float32)
    return angles
