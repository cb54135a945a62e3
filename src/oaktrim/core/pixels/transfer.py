"""Code values to light and back: the sRGB transfer of IEC 61966-2-1:1999, exact for 8 and 16 bit."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.codes import Transfer

# IEC 61966-2-1, clause 5.2: the two pieces meet at these published values.
_CODE_KNEE = 0.04045
_LIGHT_KNEE = 0.0031308


def srgb_to_linear(code: NDArray[np.floating]) -> NDArray[np.floating]:
    """Return linear light in 0..1 of sRGB code values in 0..1 (IEC 61966-2-1, equations 5 and 6), in the input's type."""
    code = np.asarray(code)
    high = np.power((np.maximum(code, _CODE_KNEE) + 0.055) / 1.055, 2.4)
    return np.where(code <= _CODE_KNEE, code / 12.92, high)


def linear_to_srgb(light: NDArray[np.floating]) -> NDArray[np.floating]:
    """Return sRGB code values in 0..1 of linear light in 0..1 (IEC 61966-2-1, equations 8 and 9), in the input's type."""
    light = np.asarray(light)
    high = 1.055 * np.power(np.maximum(light, _LIGHT_KNEE), 1.0 / 2.4) - 0.055
    return np.where(light <= _LIGHT_KNEE, light * 12.92, high)


@cache
def decode_table(transfer: Transfer, bits: int) -> NDArray[np.float32]:
    """Return the light, float32 in 0..1, of each integer code of `bits` (8 or 16)."""
    codes = np.arange(1 << bits, dtype=np.float64) / ((1 << bits) - 1)
    light = srgb_to_linear(codes) if transfer is Transfer.SRGB else codes
    return light.astype(np.float32)


@cache
def encode_thresholds(transfer: Transfer, bits: int) -> NDArray[np.float32]:
    """Return for each code the least light that rounds to it, float32, shape (2**bits + 1,); the last is infinite.

    Counting thresholds passed is the exact rounding of the transfer curve, without computing a power.
    """
    edges = (np.arange(1 << bits, dtype=np.float64) - 0.5) / ((1 << bits) - 1)
    light = srgb_to_linear(np.maximum(edges, 0.0)) if transfer is Transfer.SRGB else edges
    light[0] = -np.inf
    return np.append(light, np.inf).astype(np.float32)


@cache
def encode_guess(transfer: Transfer, bits: int) -> NDArray[np.int32]:
    """Return the code of each of 4,096 equal steps of light: where a search of the thresholds begins."""
    steps = (np.arange(4097, dtype=np.float32) / 4096).astype(np.float32)
    found = np.searchsorted(encode_thresholds(transfer, bits), steps, side="right") - 1
    return found.astype(np.int32)
