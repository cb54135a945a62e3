"""Fit in colours: oak where levels lack, neutral where it fits, slate where there are levels to spare, with contours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

# Levels and colours of the ramp's stops.
STOPS = (-2.0, -1.0, 0.0, 1.0, 2.0, 3.0)
COLOURS = (
    (0x9C, 0x6B, 0x30),
    (0xC2, 0x9B, 0x6A),
    (0xDB, 0xD7, 0xCB),
    (0xB2, 0xBA, 0xC2),
    (0x7D, 0x90, 0xA3),
    (0x41, 0x60, 0x7C),
)
BACKDROP = (0xCF, 0xD0, 0xCA)


def fit_picture(levels: NDArray[np.floating]) -> NDArray[np.uint8]:
    """Return levels to spare (H, W), NaN where nothing is seen, as sRGB codes (H, W, 4) with a line where a whole level ends."""
    shape = levels.shape
    seen = np.isfinite(levels)
    held = np.where(seen, np.clip(levels, STOPS[0], STOPS[-1]), 0.0)
    out = np.empty((*shape, 4), np.uint8)
    for channel in range(3):
        values = np.interp(held, STOPS, [colour[channel] for colour in COLOURS])
        out[..., channel] = np.where(seen, np.rint(values), BACKDROP[channel])
    out[..., 3] = 255
    whole = np.floor(held)
    line = np.zeros(shape, np.bool_)
    both = seen[:, :-1] & seen[:, 1:]
    line[:, :-1] |= both & (np.abs(np.diff(held, axis=1)) < 0.5) & (whole[:, :-1] != whole[:, 1:])
    both = seen[:-1] & seen[1:]
    line[:-1] |= both & (np.abs(np.diff(held, axis=0)) < 0.5) & (whole[:-1] != whole[1:])
    out[line, :3] = out[line, :3] * 0.72
    return out
