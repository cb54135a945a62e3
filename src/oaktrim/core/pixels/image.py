"""The value that every other room passes around: a picture with named channels and a known transfer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.pixels.codes import Transfer

Pixels = NDArray[Any]

CHANNEL_NAMES: dict[int, tuple[str, ...]] = {1: ("L",), 2: ("L", "A"), 3: ("R", "G", "B"), 4: ("R", "G", "B", "A")}
_DTYPES = frozenset(np.dtype(kind) for kind in (np.uint8, np.uint16, np.float16, np.float32))


@dataclass(frozen=True, eq=False)
class Image:
    """A picture in memory.

    Parameters
    ----------
    pixels : ndarray, shape (height, width, channels), uint8, uint16, float16 or float32.
        Integers use their whole range; floats are 0..1 or, for high dynamic range, any finite value. Row 0 is the top.
    channels : one name a channel, from R, G, B, A and L (grey); colour is stored with straight alpha.
    transfer : of the colour channels; alpha is always linear.

    Raises
    ------
    ValueError : the array's rank, type or channel count does not fit.
    """

    pixels: Pixels
    channels: tuple[str, ...]
    transfer: Transfer = Transfer.SRGB

    def __post_init__(self) -> None:
        if self.pixels.ndim != 3 or self.pixels.shape[2] != len(self.channels):
            raise ValueError(f"pixels of shape {self.pixels.shape} do not hold channels {self.channels}")
        if self.pixels.dtype not in _DTYPES:
            raise ValueError(f"pixels of type {self.pixels.dtype} are not held")
        if 0 in self.pixels.shape:
            raise ValueError("an image has at least one pixel")

    @classmethod
    def of(cls, pixels: Pixels, transfer: Transfer = Transfer.SRGB) -> Image:
        """Return an image of an array of shape (H, W) or (H, W, C), C from 1 to 4, channels named by their count."""
        if pixels.ndim == 2:
            pixels = pixels[:, :, None]
        return cls(pixels, CHANNEL_NAMES[pixels.shape[2]], transfer)

    @property
    def width(self) -> int:
        return int(self.pixels.shape[1])

    @property
    def height(self) -> int:
        return int(self.pixels.shape[0])

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.width, self.height

    @property
    def has_alpha(self) -> bool:
        return self.channels[-1] == "A"

    @property
    def is_float(self) -> bool:
        return self.pixels.dtype.kind == "f"

    @property
    def bit_depth(self) -> int:
        """Bits a channel."""
        return int(self.pixels.dtype.itemsize) * 8

    def with_pixels(self, pixels: Pixels) -> Image:
        """Return this image with other pixels of the same channels."""
        return Image(pixels, self.channels, self.transfer)

    def read_as(self, transfer: Transfer) -> Image:
        """Return the same code values, understood with another transfer."""
        return Image(self.pixels, self.channels, transfer)


def held(pixels: Pixels) -> Pixels:
    """Return pixels as kernels take them: contiguous and read only, so that each kernel has one compiled form."""
    view = np.ascontiguousarray(pixels).view()
    view.flags.writeable = False
    return view


def to_depth(pixels: Pixels, dtype: type[np.generic]) -> Pixels:
    """Return code values in another type of the same range, rounded to nearest; floats are clamped to 0..1 for integers.

    Parameters
    ----------
    pixels : ndarray, any shape, uint8, uint16, float16 or float32
    dtype : one of those types
    """
    if pixels.dtype == dtype:
        return pixels
    target = np.dtype(dtype)
    if pixels.dtype == np.uint8 and target == np.uint16:
        return pixels.astype(np.uint16) * np.uint16(257)
    if pixels.dtype == np.uint16 and target == np.uint8:
        return ((pixels.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
    if pixels.dtype.kind == "f" and target.kind == "f":
        return pixels.astype(target)
    if target.kind == "f":
        scale = np.float32(np.iinfo(pixels.dtype).max)
        return (pixels.astype(np.float32) / scale).astype(target)
    scale = np.float32(np.iinfo(target).max)
    finite = np.nan_to_num(pixels.astype(np.float32), nan=0.0, posinf=1.0, neginf=0.0)
    rounded = np.clip(finite, 0.0, 1.0).astype(np.float64) * scale + 0.5
    return np.floor(rounded).astype(target)


def to_rgba(image: Image, dtype: type[np.generic] = np.uint8) -> Pixels:
    """Return the code values as (H, W, 4) of the type asked for: grey is spread, missing alpha is full.

    A single channel named R, G or B, or a pair, fills its own place and leaves the others at zero.
    """
    source = to_depth(image.pixels, dtype)
    full = 1 if np.dtype(dtype).kind == "f" else np.iinfo(np.dtype(dtype)).max
    if image.channels == ("R", "G", "B", "A"):
        return np.ascontiguousarray(source)
    out = np.zeros((image.height, image.width, 4), dtype)
    out[..., 3] = full
    for index, name in enumerate(image.channels):
        if name == "L":
            out[..., :3] = source[..., index, None]
        else:
            out[..., "RGBA".index(name)] = source[..., index]
    return out
