"""Where in a texture a finding shows, so that a small picture of it can point there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.survey.facts import TextureFacts

# Normals whose length is off by more than this are marked, and parts of a picture lighter or darker than the rest by so many codes.
_LENGTH, _CODES = 0.1, 8.0


@dataclass(frozen=True, eq=False)
class Marked:
    """A small picture with the faulty place.

    Parameters
    ----------
    codes : RGBA, (H, W, 4) uint8; with a seam in its middle where that is the fault
    mask : where the fault is, (H, W) bool; None where it is of the whole picture
    """

    codes: NDArray[np.uint8]
    mask: NDArray[np.bool_] | None = None


def marked(code: str, texture: TextureFacts, codes: NDArray[np.uint8]) -> Marked:
    """Mark where a finding shows.

    Parameters
    ----------
    code : of the finding
    codes : small picture of the texture, RGBA, (H, W, 4) uint8
    """
    height, width = codes.shape[:2]
    if code == "mostly-empty":
        left, top, wide, tall = texture.used
        mask = np.ones((height, width), bool)
        down = slice(top * height // texture.height, -(-(top + tall) * height // texture.height))
        mask[down, left * width // texture.width : -(-(left + wide) * width // texture.width)] = False
        return _where(codes, mask)
    if code == "tiling-seam":
        rolled = np.roll(codes, (height // 2, width // 2), axis=(0, 1))
        mask = np.zeros((height, width), bool)
        mask[max(0, height // 2 - 1) : height // 2 + 1] = True
        mask[:, max(0, width // 2 - 1) : width // 2 + 1] = True
        return Marked(np.ascontiguousarray(rolled), mask)
    if code == "normal-length":
        vector = codes[..., :3] / 127.5 - 1
        return _where(codes, np.abs(np.sqrt((vector**2).sum(axis=-1)) - 1) > _LENGTH)
    if code == "alpha-lost":
        return _where(codes, codes[..., 3] < 255)
    if code == "baked-light" and len(texture.means) == 64:
        light = np.frombuffer(texture.means, np.uint8).reshape(4, 4, 4)[..., :3].mean(axis=-1)
        off = np.abs(light - np.median(light)) > max(_CODES, 0.75 * np.ptp(light) / 2)
        rows, columns = np.arange(height) * 4 // height, np.arange(width) * 4 // width
        return _where(codes, off[np.ix_(rows, columns)])
    return Marked(codes)


def _where(codes: NDArray[np.uint8], mask: NDArray[np.bool_]) -> Marked:
    return Marked(codes, mask if mask.any() and not mask.all() else None)
