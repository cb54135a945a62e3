"""Textures as they are sampled: mip chains of 16-bit linear light, one after the other in one array.

Filtering as OpenGL 4.6 core, clauses 8.14 and 8.15: the level of detail from the derivatives of the texture coordinates, two
levels of four texels each, and along the longer axis of the footprint as many of them as it is longer (P. Heckbert,
"Fundamentals of texture mapping and image warping", 1989).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, held, to_rgba
from oaktrim.core.pixels.transfer import srgb_to_linear
from oaktrim.core.render.rasterize import KERNEL
from oaktrim.core.scene.model import Wrap

FAST: dict[str, Any] = {**KERNEL, "fastmath": {"contract", "reassoc", "nsz", "arcp"}}
MOST_LEVELS = 16
# Columns of a row of `TextureSet.rows`.
LEVELS, WRAP_U, WRAP_V, FIRST = 0, 1, 2, 3
WIDTH = FIRST + 3 * MOST_LEVELS
_WRAPS = {Wrap.REPEAT: 0, Wrap.CLAMP: 1, Wrap.MIRROR: 2}
_SCALE = np.float32(1 / 65535)
_TEXEL_BYTES = 8
# A texel is read as one word, of which two channels at a time are weighed: each has 32 bits for a product of 16 and 15.
_LANES, _LOW = np.uint64(0x0000FFFF0000FFFF), np.uint64(0xFFFF)
_WHOLE, _HALVES = np.uint64(1 << 15), np.uint64(0x0000400000004000)


@dataclass(frozen=True, eq=False)
class TextureSet:
    """Textures in one array.

    Parameters
    ----------
    texels : (T, 4) uint16, linear light and straight alpha
    rows : (K, WIDTH) int64: levels, wrap across and down, then of each level where it begins, its width and its height
    """

    texels: NDArray[np.uint16]
    rows: NDArray[np.int64]

    @property
    def words(self) -> NDArray[np.uint64]:
        """The texels as kernels read them, (T,) a word each: red in the lowest 16 bits."""
        return self.texels.reshape(-1).view(np.uint64)

    @property
    def bytes(self) -> int:
        """What its levels take in memory."""
        sizes = self.rows[:, FIRST:].reshape(len(self.rows), MOST_LEVELS, 3)
        kept = np.arange(MOST_LEVELS) < self.rows[:, LEVELS, None]
        return int((sizes[..., 1] * sizes[..., 2] * kept).sum()) * _TEXEL_BYTES


def linear_texels(image: Image) -> NDArray[np.uint16]:
    """Return an image as (H, W, 4) uint16 linear; what lies outside 0..1 is held at its ends."""
    if image.pixels.dtype == np.uint8 and image.transfer is Transfer.SRGB:
        codes = to_rgba(image)
        table = np.rint(srgb_to_linear(np.arange(256, dtype=np.float32) / 255) * 65535).astype(np.uint16)
        return _through(codes, table)
    if image.pixels.dtype == np.uint8 and image.transfer is Transfer.LINEAR:
        return _through(to_rgba(image), np.arange(256, dtype=np.uint16) * np.uint16(257))
    if image.pixels.dtype == np.uint16 and image.transfer is Transfer.LINEAR:
        return np.ascontiguousarray(to_rgba(image, np.uint16))
    wide = np.nan_to_num(to_rgba(image, np.float32), nan=0.0, posinf=1.0, neginf=0.0)
    if image.transfer is Transfer.SRGB and not image.is_float:
        wide[..., :3] = srgb_to_linear(np.clip(wide[..., :3], 0, 1))
    found: NDArray[np.uint16] = np.rint(np.clip(wide, 0, 1) * 65535).astype(np.uint16)
    return found


def _through(codes: NDArray[np.uint8], table: NDArray[np.uint16]) -> NDArray[np.uint16]:
    out = np.empty(codes.shape, np.uint16)
    _look_up(held(codes.reshape(-1, 4)), table, out.reshape(-1, 4))
    return out


@njit(**KERNEL)
def _halve(texels, out):
    """Fill out (h, w, 4) with the means of four texels (H, W, 4), colour weighed by alpha."""
    height, width = texels.shape[0], texels.shape[1]
    for y in range(out.shape[0]):
        upper, lower = min(2 * y, height - 1), min(2 * y + 1, height - 1)
        for x in range(out.shape[1]):
            left, right = min(2 * x, width - 1), min(2 * x + 1, width - 1)
            a, b = np.int64(texels[upper, left, 3]), np.int64(texels[upper, right, 3])
            c, d = np.int64(texels[lower, left, 3]), np.int64(texels[lower, right, 3])
            alpha = a + b + c + d
            out[y, x, 3] = (alpha + 2) >> 2
            # Where all is clear, colour that shows through filtering is kept all the same.
            if alpha == 0:
                a = b = c = d = 1
                alpha = 4
            half = alpha >> 1
            for k in range(3):
                total = a * texels[upper, left, k] + b * texels[upper, right, k]
                total += c * texels[lower, left, k] + d * texels[lower, right, k]
                out[y, x, k] = (total + half) // alpha


def halved(texels: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """Return the next level: the mean of four texels, colour weighed by alpha, odd sides cut."""
    height, width = (max(1, side // 2) for side in texels.shape[:2])
    out = np.empty((height, width, 4), np.uint16)
    _halve(held(texels), out)
    return out


@njit(**KERNEL)
def _look_up(codes, table, out):
    """Fill out (N, 4) uint16 with codes (N, 4) uint8 through a table (256,); alpha is widened."""
    for i in range(codes.shape[0]):
        out[i, 0], out[i, 1], out[i, 2] = table[codes[i, 0]], table[codes[i, 1]], table[codes[i, 2]]
        out[i, 3] = np.uint16(codes[i, 3]) * np.uint16(257)


def mip_chain(image: Image) -> list[NDArray[np.uint16]]:
    """Return all levels of an image down to one texel, by halving."""
    levels = [linear_texels(image)]
    while max(levels[-1].shape[:2]) > 1 and len(levels) < MOST_LEVELS:
        levels.append(halved(levels[-1]))
    return levels


def hatched() -> list[NDArray[np.uint16]]:
    """Return what stands for a texture that is not there: diagonal bars."""
    y, x = np.mgrid[0:64, 0:64]
    bars = ((x + y) // 8) % 2 == 0
    colour = np.where(bars[..., None], (0.55, 0.06, 0.30), (0.85, 0.80, 0.82))
    return mip_chain(Image.of(np.rint(np.concatenate([colour, np.ones((64, 64, 1))], axis=2) * 255).astype(np.uint8)))


def texture_set(chains: Sequence[Sequence[NDArray[np.uint16]]], wraps: Sequence[tuple[Wrap, Wrap]]) -> TextureSet:
    """Return textures as one array.

    Parameters
    ----------
    chains : the levels of each, (H, W, 4) uint16 linear, the largest first
    wraps : of each, across and down
    """
    rows = np.zeros((len(chains), WIDTH), np.int64)
    shared = _shared(chains)
    parts, at = [], 0
    for number, (levels, wrap) in enumerate(zip(chains, wraps, strict=True)):
        kept = levels[:MOST_LEVELS]
        rows[number, LEVELS] = len(kept)
        rows[number, WRAP_U], rows[number, WRAP_V] = _WRAPS[wrap[0]], _WRAPS[wrap[1]]
        for level, texels in enumerate(kept):
            height, width = texels.shape[:2]
            if shared is not None:
                at = (_address(texels) - _address(shared)) // _TEXEL_BYTES
            else:
                parts.append(np.ascontiguousarray(texels, np.uint16).reshape(-1, 4))
            rows[number, FIRST + 3 * level : FIRST + 3 * level + 3] = at, width, height
            at += width * height
    if shared is not None:
        return TextureSet(shared, rows)
    return TextureSet(np.concatenate(parts) if parts else np.zeros((1, 4), np.uint16), rows)


def _address(array: NDArray[np.uint16]) -> int:
    return int(array.__array_interface__["data"][0])


def _shared(chains: Sequence[Sequence[NDArray[np.uint16]]]) -> NDArray[np.uint16] | None:
    """Return the store that all levels are views of, or None where they lie here and there."""
    first = chains[0][0].base if chains and len(chains[0]) else None
    if not isinstance(first, np.ndarray) or first.ndim != 2 or first.dtype != np.uint16 or not first.flags.c_contiguous:
        return None
    alike = all(level.base is first and level.flags.c_contiguous for chain in chains for level in chain)
    return first if alike else None


class TexelStore:
    """One array that mip chains are put into, so that scenes share them; what is not used yet takes no memory.

    Parameters
    ----------
    limit : bytes
    """

    def __init__(self, limit: int) -> None:
        self._texels = np.empty((max(1, limit // _TEXEL_BYTES), 4), np.uint16)
        self._used = 0

    def holds(self, chain: Sequence[NDArray[np.uint16]]) -> bool:
        """Say whether a chain lies in the store."""
        return all(level.base is self._texels for level in chain)

    def put(self, chain: Sequence[NDArray[np.uint16]]) -> list[NDArray[np.uint16]] | None:
        """Return a chain as it lies in the store, or None where there is no more room."""
        count = sum(level.shape[0] * level.shape[1] for level in chain)
        if self._used + count > len(self._texels):
            return None
        found = []
        for level in chain:
            height, width = level.shape[:2]
            part = self._texels[self._used : self._used + height * width].reshape(height, width, 4)
            part[:] = level
            found.append(part)
            self._used += height * width
        return found


@njit(**FAST)
def _wrapped(i, size, how):
    """Return a texel's place after wrapping (OpenGL 4.6 core, table 8.20)."""
    if how == 0:
        return i % size
    if how == 1:
        return min(max(i, 0), size - 1)
    i = i % (2 * size)
    return i if i < size else 2 * size - 1 - i


@njit(**FAST)
def within(value, least, most):
    """Return a value within a range; `least` for what is not a number."""
    value = value if value > least else least
    return value if value < most else most


@njit(**FAST)
def _mixed(p, q, part):
    """Return two pairs of 16-bit values, each in 32 bits of a word, mixed by a part of 2**15."""
    return ((p * (_WHOLE - part) + q * part + _HALVES) >> np.uint64(15)) & _LANES


@njit(**FAST)
def footprint(width, height, dudx, dvdx, dudy, dvdy):
    """Return the squared lengths of a pixel's two axes in texels of a level of this size."""
    w, h = np.float32(width), np.float32(height)
    return (dudx * w) ** 2 + (dvdx * h) ** 2, (dudy * w) ** 2 + (dvdy * h) ** 2


@njit(**FAST)
def level_of(across, down):
    """Return the level of detail of a footprint: log2 of its longer axis."""
    longest = max(across, down)
    return np.float32(0.5) * np.log2(max(longest, np.float32(1e-12)))


@njit(**FAST)
def sample(words, rows, t, u, v, dudx, dvdx, dudy, dvdy, anisotropy):
    """Return red, green, blue and alpha, 0..1 linear, of a footprint.

    One function, since calls cost as much as what they would do here.

    Parameters
    ----------
    words, rows : of a texture set; t : the texture
    anisotropy : how many probes it may take along the footprint, 1 for trilinear
    """
    across, down = footprint(rows[t, FIRST + 1], rows[t, FIRST + 2], dudx, dvdx, dudy, dvdy)
    level = level_of(across, down)
    probes = 1
    if anisotropy > 1:
        ratio = np.sqrt(max(across, down) / max(min(across, down), np.float32(1e-12)))
        probes = np.int64(within(np.ceil(ratio), np.float32(1), np.float32(anisotropy)))
        level -= np.log2(np.float32(probes))
    if across >= down:
        su, sv = dudx, dvdx
    else:
        su, sv = dudy, dvdy
    last = rows[t, LEVELS] - 1
    level = within(level, np.float32(0), np.float32(last))
    low = np.int64(level)
    part = np.uint64(np.int64((level - np.float32(low)) * np.float32(32768) + np.float32(0.5)))
    levels = 2 if part > np.uint64(0) and low < last else 1
    share = np.float32(1) / np.float32(probes)
    across_wraps, down_wraps = rows[t, WRAP_U], rows[t, WRAP_V]
    red = green = blue = alpha = np.float32(0)
    shift = np.uint64(16)
    for probe in range(probes):
        away = (np.float32(probe) + np.float32(0.5)) * share - np.float32(0.5)
        pu, pv = u + su * away, v + sv * away
        even = odd = np.uint64(0)
        for step in range(levels):
            at = FIRST + 3 * (low + step)
            start, width, height = rows[t, at], rows[t, at + 1], rows[t, at + 2]
            # Far coordinates have no fraction that means anything, and must not leave the integers.
            x = within(pu * np.float32(width) - np.float32(0.5), np.float32(-1e9), np.float32(1e9))
            y = within(pv * np.float32(height) - np.float32(0.5), np.float32(-1e9), np.float32(1e9))
            fx, fy = np.floor(x), np.floor(y)
            i, j = np.int64(fx), np.int64(fy)
            px = np.uint64(np.int64((x - fx) * np.float32(32768) + np.float32(0.5)))
            py = np.uint64(np.int64((y - fy) * np.float32(32768) + np.float32(0.5)))
            x0, x1, y0, y1 = i, i + 1, j, j + 1
            if i < 0 or i + 1 >= width:
                x0, x1 = _wrapped(i, width, across_wraps), _wrapped(i + 1, width, across_wraps)
            if j < 0 or j + 1 >= height:
                y0, y1 = _wrapped(j, height, down_wraps), _wrapped(j + 1, height, down_wraps)
            upper, lower = start + y0 * width, start + y1 * width
            a, b = words[np.uint64(upper + x0)], words[np.uint64(upper + x1)]
            c, d = words[np.uint64(lower + x0)], words[np.uint64(lower + x1)]
            e = _mixed(_mixed(a & _LANES, b & _LANES, px), _mixed(c & _LANES, d & _LANES, px), py)
            o = _mixed(
                _mixed((a >> shift) & _LANES, (b >> shift) & _LANES, px),
                _mixed((c >> shift) & _LANES, (d >> shift) & _LANES, px),
                py,
            )
            if step == 0:
                even, odd = e, o
            else:
                even, odd = _mixed(even, e, part), _mixed(odd, o, part)
        bits = np.uint64(32)
        red += np.float32(np.int64(even & _LOW))
        green += np.float32(np.int64(odd & _LOW))
        blue += np.float32(np.int64(even >> bits))
        alpha += np.float32(np.int64(odd >> bits))
    scale = share * _SCALE
    return red * scale, green * scale, blue * scale, alpha * scale
