"""Made-up pictures: smooth, busy, flat, with edges, with alpha."""

from __future__ import annotations

import numpy as np

from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image


def busy(width: int = 64, height: int = 48, channels: int = 4, seed: int = 1, dtype: type = np.uint8) -> Image:
    """Return a picture with gradients, edges and noise in every channel."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:height, 0:width]
    planes = [
        0.5 + 0.3 * np.sin(x / (5 + 3 * c)) * np.cos(y / (7 + c)) + 0.2 * ((x // 16 + y // 12 + c) % 2) - 0.1
        for c in range(channels)
    ]
    values = np.clip(np.stack(planes, axis=-1) + rng.normal(0, 0.02, (height, width, channels)), 0, 1)
    if np.dtype(dtype).kind == "f":
        return Image.of(values.astype(dtype), Transfer.LINEAR)
    return Image.of((values * np.iinfo(dtype).max).round().astype(dtype))


def smooth(width: int, height: int, channels: int, seed: int = 1) -> Image:
    """Return slow waves in every channel that tile, without any fine detail."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:height, 0:width] * (2 * np.pi)
    planes = []
    for _ in range(channels):
        across, down, start = rng.integers(1, 4), rng.integers(1, 4), rng.uniform(0, 6)
        planes.append(0.5 + 0.4 * np.sin(across * x / width + start) * np.cos(down * y / height + start))
    return Image.of((np.stack(planes, axis=-1) * 255).round().astype(np.uint8))


def noise(width: int, height: int, channels: int, seed: int = 0) -> Image:
    """Return independent random codes."""
    rng = np.random.default_rng(seed)
    return Image.of(rng.integers(0, 256, (height, width, channels), dtype=np.uint8))


def flat(code: tuple[int, ...], width: int = 16, height: int = 16) -> Image:
    """Return one colour everywhere."""
    return Image.of(np.broadcast_to(np.array(code, np.uint8), (height, width, len(code))).copy())


def rms(a: np.ndarray, b: np.ndarray) -> float:
    """Return the root mean square difference of codes."""
    return float(np.sqrt(np.mean((a.astype(np.float64) - b.astype(np.float64)) ** 2)))


def psnr8(a: np.ndarray, b: np.ndarray) -> float:
    """Return the PSNR in dB of 8-bit codes."""
    return 20 * float(np.log10(255 / max(rms(a, b), 1e-9)))
