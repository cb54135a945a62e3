"""Pictures that show how a scene is made: the edges of its triangles, and each triangle in a colour of its own."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.render.picture import Picture

Codes = NDArray[np.uint8]
_PAPER, _INK = 0.72, (38, 35, 31)


def edges(picture: Picture) -> Codes:
    """Return a picture with the borders of its triangles, as sRGB codes (H, W, 4).

    Parameters
    ----------
    picture : with ids
    """
    codes = picture.codes()
    pale = codes[..., :3].astype(np.float32) * (1 - _PAPER) + 255 * _PAPER
    codes[..., :3] = np.rint(pale)
    ids = picture.ids
    border = np.zeros(ids.shape, np.bool_)
    border[:, :-1] |= ids[:, :-1] != ids[:, 1:]
    border[:-1] |= ids[:-1] != ids[1:]
    codes[border] = (*_INK, 255)
    return codes


def in_colours(ids: NDArray[np.integer]) -> Codes:
    """Return each id (H, W) in a colour of its own, as sRGB codes (H, W, 4); clear where it is negative."""
    # Steps of the golden ratio around the circle of hues part neighbours well.
    turn = (ids.astype(np.int64) * 0.6180339887) % 1 * 2 * np.pi
    light = 0.55 + 0.25 * ((ids.astype(np.int64) * 0.7548776662) % 1)
    waves = np.stack([np.cos(turn), np.cos(turn - 2.094), np.cos(turn + 2.094)], axis=-1)
    out = np.zeros((*ids.shape, 4), np.uint8)
    out[..., :3] = np.rint(255 * np.clip(light[..., None] + 0.2 * waves, 0, 1))
    out[..., 3] = np.where(ids >= 0, 255, 0)
    return out
