"""Pictures ready to be shown, and how they are looked at: channels, light, cut-outs, exposure, and the map of differences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, to_rgba
from oaktrim.core.pixels.transfer import linear_to_srgb

# Codes of 8 bits, or linear light of pictures with a high dynamic range; (H, W, 4).
Codes = NDArray[np.uint8] | NDArray[np.float32]

# From ink over oak to white, at even steps of the scale.
_RAMP = np.array([[0x26, 0x23, 0x1F], [0x9C, 0x6B, 0x30], [0xFF, 0xFF, 0xFF]], np.float32)
# Of a surface that looks away from the lamp.
_AMBIENT = 0.12


@dataclass(frozen=True, eq=False)
class Layer:
    """A picture: its codes at the full size and at each level below, and a few words about it.

    Parameters
    ----------
    real : the levels are those that ship, and not only for showing a part smaller
    """

    levels: tuple[Codes, ...]
    words: str = ""
    real: bool = False

    @property
    def size(self) -> tuple[int, int]:
        return int(self.levels[0].shape[1]), int(self.levels[0].shape[0])

    @property
    def floating(self) -> bool:
        return self.levels[0].dtype.kind == "f"


@dataclass(frozen=True)
class Look:
    """How pictures are looked at.

    Parameters
    ----------
    channels : "RGBA", "RGB" or one letter
    exposure : stops, of pictures with a high dynamic range
    threshold : alpha under it is clear and over it is full, 0 to 255; None for soft alpha
    lit : normals are seen as a surface under a lamp; lamp : where it stands, -1 to 1 across and up
    tiled : three times three of it
    canvas : a colour as hexadecimal text, or "check"
    """

    channels: str = "RGBA"
    exposure: float = 0.0
    threshold: int | None = None
    lit: bool = False
    lamp: tuple[float, float] = (-0.5, 0.5)
    tiled: bool = False
    canvas: str = ""


def _shown(image: Image) -> Codes:
    if image.is_float and image.transfer is Transfer.LINEAR:
        return to_rgba(image, np.float32)
    return to_rgba(image)


def _halved(above: Codes) -> Codes:
    height, width = (max(1, side // 2) for side in above.shape[:2])
    rows: NDArray[Any] = above[: height * 2 or 1].astype(np.float32 if above.dtype.kind == "f" else np.uint16)
    rows = rows[0::2][:height] + rows[1::2][:height] if above.shape[0] > 1 else rows * 2
    columns: NDArray[Any] = rows[:, 0::2][:, :width] + rows[:, 1::2][:, :width] if above.shape[1] > 1 else rows * 2
    if above.dtype.kind == "f":
        return (columns / 4).astype(np.float32)
    return ((columns + 2) >> 2).astype(np.uint8)


def make_layer(image: Image, words: str = "", levels: Sequence[Image] = ()) -> Layer:
    """Return a picture ready to be shown, with the levels below it that ship, or else halvings of it. For a background thread."""
    codes = [_shown(image), *(_shown(level) for level in levels)]
    while not levels and max(codes[-1].shape[:2]) > 64:
        codes.append(_halved(codes[-1]))
    return Layer(tuple(codes), words, bool(levels))


def difference_layer(steps: NDArray[np.float32], most: float, words: str) -> Layer:
    """Return a map of JND as a picture, ink where nothing differs and white from `most` on."""
    place = np.clip(steps / most, 0, 1) * 2
    low = np.minimum(place.astype(np.int64), 1)
    part = (place - low)[..., None]
    colours = _RAMP[low] * (1 - part) + _RAMP[low + 1] * part
    codes = np.full((*steps.shape, 4), 255, np.uint8)
    codes[..., :3] = colours + 0.5
    return make_layer(Image.of(codes), words)


def ramp_colours() -> tuple[str, ...]:
    """Return the colours of the map's scale, as hexadecimal text."""
    return tuple("#" + "".join(f"{int(c):02X}" for c in colour) for colour in _RAMP)


def developed(codes: Codes, look: Look) -> QImage:
    """Return codes (H, W, 4) as a picture to draw."""
    height, width = codes.shape[:2]
    eight = _exposed(codes, look.exposure) if codes.dtype.kind == "f" else codes.astype(np.uint8, copy=False)
    if look.lit:
        grey = _lit(eight, look.lamp)
        return QImage(grey.data, width, height, width, QImage.Format.Format_Grayscale8).copy()
    if look.threshold is not None and look.channels == "RGBA":
        eight = eight.copy()
        eight[..., 3] = np.where(eight[..., 3] >= look.threshold, 255, 0)
    if look.channels == "RGBA":
        out = np.ascontiguousarray(eight)
        return QImage(out.data, width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()
    if look.channels == "RGB":
        out = np.ascontiguousarray(eight[..., :3])
        return QImage(out.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
    out = np.ascontiguousarray(eight[..., "RGBA".index(look.channels)])
    return QImage(out.data, width, height, width, QImage.Format.Format_Grayscale8).copy()


def _exposed(light: Codes, stops: float) -> NDArray[np.uint8]:
    out = np.empty(light.shape, np.uint8)
    values: NDArray[np.float32] = np.nan_to_num(light).astype(np.float32)
    shown = np.clip(values[..., :3] * np.float32(2**stops), 0, 1)
    out[..., :3] = linear_to_srgb(shown) * 255 + 0.5
    out[..., 3] = np.clip(values[..., 3], 0, 1) * 255 + 0.5
    return out


def _lit(codes: NDArray[np.uint8], lamp: tuple[float, float]) -> NDArray[np.uint8]:
    """Return normals, as (H, W, 4) codes with green up, as a grey surface under a lamp."""
    way = codes[..., :3].astype(np.float32) / np.float32(127.5) - np.float32(1)
    x, y = lamp
    towards = np.array([x, y, np.sqrt(max(0.04, 1 - x * x - y * y))], np.float32)
    towards /= np.linalg.norm(towards)
    length = np.sqrt(np.square(way).sum(axis=2))
    shade = np.clip((way @ towards) / np.maximum(length, np.float32(1e-6)), 0, 1)
    return np.ascontiguousarray((linear_to_srgb(_AMBIENT + (1 - _AMBIENT) * 0.8 * shade) * 255 + 0.5).astype(np.uint8))
