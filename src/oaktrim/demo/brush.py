"""What the demonstration is drawn with: tiling noise, shapes, and the maps that follow from a height.

All arrays are float32 in 0..1, shape (H, W) or (H, W, 3), colour in sRGB code values.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as PillowImage
from PIL import ImageDraw, ImageFont

Plane = NDArray[np.float32]
Draw = ImageDraw.ImageDraw


def noise(rng: np.random.Generator, width: int, height: int, cells: int, octaves: int = 4, stretch: int = 1) -> Plane:
    """Return tiling fractal noise; `cells` across the first octave, `stretch` times as many cells down."""
    total = np.zeros((height, width), np.float32)
    weight, left = 1.0, 0.0
    for octave in range(octaves):
        across = min(cells << octave, width)
        down = min((cells * stretch << octave) * height // width or 1, height)
        grid = rng.random((down, across), dtype=np.float32)
        total += np.float32(weight) * enlarge(grid, width, height)
        left += weight
        weight *= 0.5
    return total / np.float32(left)


def enlarge(grid: Plane, width: int, height: int) -> Plane:
    """Return a grid as a smooth plane that tiles."""
    pad = 2
    wrapped = np.pad(grid, pad, mode="wrap")
    rows, columns = grid.shape
    box = (pad, pad, pad + columns, pad + rows)
    picture = PillowImage.fromarray(wrapped).resize((width, height), PillowImage.Resampling.BICUBIC, box=box)
    return np.asarray(picture, np.float32)


def grid(width: int, height: int) -> tuple[Plane, Plane]:
    """Return x and y of the pixel centres, in 0..1 over the longer side."""
    longest = max(width, height)
    across = ((np.arange(width) + 0.5) / longest).astype(np.float32)
    down = ((np.arange(height) + 0.5) / longest).astype(np.float32)
    x, y = np.meshgrid(across, down)
    return x, y


def ramp(value: Plane, *colours: str) -> Plane:
    """Return colours (H, W, 3) along a ramp of hexadecimal ones, evenly spaced over 0..1."""
    stops = np.array([[int(c[i : i + 2], 16) / 255 for i in (1, 3, 5)] for c in colours], np.float32)
    places = np.linspace(0, 1, len(stops))
    clipped = np.clip(value, 0, 1)
    return np.stack([np.interp(clipped, places, stops[:, i]) for i in range(3)], axis=-1).astype(np.float32)


def blend(under: Plane, over: Plane, cover: Plane) -> Plane:
    """Return `over` laid on `under` where `cover` is."""
    shape = cover[..., None] if under.ndim == 3 else cover
    mixed: Plane = under + (over - under) * shape
    return mixed


def smooth(low: float, high: float, value: Plane) -> Plane:
    """Return a smooth step from 0 at `low` to 1 at `high`."""
    t = np.clip((value - low) / (high - low), 0, 1)
    step: Plane = (t * t * (3 - 2 * t)).astype(np.float32)
    return step


def shapes(width: int, height: int, draw: Callable[[Draw], None], finer: int = 2) -> Plane:
    """Return the cover (H, W) of white shapes, drawn `finer` times as large and brought down for smooth edges."""
    picture = PillowImage.new("L", (width * finer, height * finer))
    draw(ImageDraw.Draw(picture))
    small = picture.resize((width, height), PillowImage.Resampling.BOX)
    return np.asarray(small, np.float32) / np.float32(255)


def lettering(width: int, height: int, lines: Sequence[tuple[str, float, float, float]], shade: float = 1.0) -> Plane:
    """Return the cover of centred lines of text: (text, x, y, size), all as parts of the height but x of the width."""
    picture = PillowImage.new("L", (width, height))
    draw = ImageDraw.Draw(picture)
    for text, x, y, size in lines:
        font = ImageFont.load_default(max(6, size * height))
        draw.text((x * width, y * height), text, int(255 * shade), font, anchor="mm")
    return np.asarray(picture, np.float32) / np.float32(255)


def normal_map(height: Plane, strength: float) -> Plane:
    """Return the tangent-space normals of a tiling height, y up, packed to 0..1; `strength` in pixels of relief."""
    dx = (np.roll(height, -1, 1) - np.roll(height, 1, 1)) * strength
    dy = (np.roll(height, -1, 0) - np.roll(height, 1, 0)) * strength
    length = np.sqrt(dx * dx + dy * dy + 1)
    return np.stack([-dx / length, dy / length, 1 / length], axis=-1) * np.float32(0.5) + np.float32(0.5)


def surface(height: Plane, rough: Plane, metal: Plane | float = 0.0) -> Plane:
    """Return occlusion, roughness and metalness (H, W, 3); occlusion from how low a place lies."""
    occlusion = np.clip(0.55 + 0.6 * height, 0, 1)
    return np.stack([occlusion, np.clip(rough, 0, 1), np.broadcast_to(np.float32(metal), rough.shape)], axis=-1)


def boards(rng: np.random.Generator, width: int, height: int, rows: int) -> tuple[Plane, Plane, Plane]:
    """Return the height, the tint and the wood grain of boards that lie across, each overlapping the next."""
    _, y = grid(width, height)
    place = y / y.max() * rows
    which = np.minimum(place.astype(np.int64), rows - 1)
    within = (place - which).astype(np.float32)
    tint = rng.random(rows, dtype=np.float32)[which]
    grain = noise(rng, width, height, 6, 4, stretch=12)
    gap = smooth(0.0, 0.05, within) * smooth(0.0, 0.03, 1 - within)
    return ((0.35 + 0.5 * within) * gap + 0.08 * grain).astype(np.float32), tint, grain


def codes(image: Plane) -> NDArray[np.uint8]:
    """Return 8-bit codes of values in 0..1."""
    return (np.clip(image, 0, 1) * 255 + 0.5).astype(np.uint8)


def with_alpha(colour: Plane, alpha: Plane | float) -> NDArray[np.uint8]:
    """Return 8-bit colour with alpha (H, W, 4)."""
    cover = np.broadcast_to(np.float32(alpha), colour.shape[:2])
    return codes(np.concatenate([colour, cover[..., None]], axis=-1))


def grey(plane: Plane) -> NDArray[np.uint8]:
    """Return one channel written out as three, as many painting programs do."""
    return codes(np.repeat(plane[..., None], 3, axis=-1))


def with_grain(rng: np.random.Generator, pixels: NDArray[Any]) -> NDArray[Any]:
    """Return 8-bit pixels with the grain of a camera, the same in all colours so that grey stays grey; alpha is left."""
    if pixels.dtype != np.uint8 or pixels.ndim != 3:
        return pixels
    grain = np.rint(rng.standard_normal(pixels.shape[:2], dtype=np.float32) * 0.85).astype(np.int16)
    # Constant channels stay so, and black and white stay what they are.
    live = (pixels.min(axis=(0, 1)) < pixels.max(axis=(0, 1))) & (np.arange(pixels.shape[2]) < 3)
    moved = np.clip(pixels.astype(np.int16) + grain[..., None] * live, 1, 254).astype(np.uint8)
    return np.where((pixels == 0) | (pixels == 255) | ~live, pixels, moved)
