"""Changing a picture's size: separable polyphase filters in linear light, weighted by alpha, in bounded memory.

Rows are turned to light, filtered down, then filtered across, one band of output rows at a time; a band keeps only
as many source rows as the filter is tall. Colour is weighted by alpha while filtering (Porter and Duff, "Compositing
digital images", 1984), so that what lies under clear pixels does not bleed. Filters follow Mitchell and Netravali,
"Reconstruction filters in computer graphics" (1988), and Kaiser's window as in Oppenheim and Schafer.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import Image, Pixels, held
from oaktrim.core.pixels.transfer import decode_table, encode_guess, encode_thresholds, linear_to_srgb, srgb_to_linear
from oaktrim.core.progress import each_chunk

Floats = NDArray[np.float32]
Weights = NDArray[np.floating[Any]]

# A clear pixel keeps this much weight, so that colour under wholly clear areas survives instead of turning black.
_CLEAR_WEIGHT = np.float32(1.0 / 65536)
_BAND_ROWS = 64


class Filter(Enum):
    """Reconstruction filters."""

    BOX = "box"
    MITCHELL = "mitchell"
    LANCZOS3 = "lanczos3"
    KAISER = "kaiser"


class Edge(Enum):
    """What lies beyond the border: its last pixel again, or the other side."""

    CLAMP = "clamp"
    WRAP = "wrap"


@dataclass(frozen=True)
class Resampling:
    """How to resample.

    Parameters
    ----------
    filter, edge : the filter, and what lies beyond the border
    normals : the first three channels are a unit vector
    alpha_covers : alpha says how much of the colour is seen, which is filtered by it; else alpha is filtered as another
        channel, of pictures that are not sRGB
    """

    filter: Filter = Filter.LANCZOS3
    edge: Edge = Edge.CLAMP
    normals: bool = False
    alpha_covers: bool = True


def _box(x: Weights) -> Weights:
    # Half-open, so that two samples at one distance are never both counted.
    return ((x >= -0.5) & (x < 0.5)).astype(x.dtype)


def _mitchell(x: Weights) -> Weights:
    x = np.abs(x)
    near = (7 * x**3 - 12 * x**2 + 16 / 3) / 6
    far = (-7 / 3 * x**3 + 12 * x**2 - 20 * x + 32 / 3) / 6
    return np.where(x < 1, near, np.where(x < 2, far, 0.0))


def _lanczos3(x: Weights) -> Weights:
    return np.where(np.abs(x) < 3, np.sinc(x) * np.sinc(x / 3), 0.0)


def _kaiser(x: Weights) -> Weights:
    inside = np.clip(1 - (x / 3) ** 2, 0, None)
    return np.where(np.abs(x) < 3, np.sinc(x) * np.i0(4.0 * np.sqrt(inside)) / np.i0(4.0), 0.0)


_KERNELS: dict[Filter, tuple[Callable[[Weights], Weights], float]] = {
    Filter.BOX: (_box, 0.5),
    Filter.MITCHELL: (_mitchell, 2.0),
    Filter.LANCZOS3: (_lanczos3, 3.0),
    Filter.KAISER: (_kaiser, 3.0),
}


@lru_cache(maxsize=64)
def taps(source: int, target: int, kind: Filter, edge: Edge) -> tuple[NDArray[np.int32], Floats, NDArray[np.int32]]:
    """Return the polyphase taps that bring `source` samples to `target`.

    Returns
    -------
    first : int32, shape (target,): the first source sample of each output, before the border is applied
    weights : float32, shape (target, n): weights from there on, summing to one
    index : int32, shape (target, n): the source samples, the border applied
    """
    kernel, support = _KERNELS[kind]
    scale = max(1.0, source / target)
    reach = support * scale
    centre = (np.arange(target) + 0.5) * source / target
    first = np.floor(centre - reach).astype(np.int32)
    count = int(np.ceil(2 * reach)) + 1
    samples = first[:, None] + np.arange(count, dtype=np.int32)[None, :]
    weights = kernel((samples + 0.5 - centre[:, None]) / scale)
    weights /= weights.sum(axis=1, keepdims=True)
    used = np.flatnonzero(np.abs(weights).max(axis=0) > 1e-9)
    samples, weights = samples[:, used[0] : used[-1] + 1], weights[:, used[0] : used[-1] + 1]
    index = np.clip(samples, 0, source - 1) if edge is Edge.CLAMP else samples % source
    return (
        np.ascontiguousarray(samples[:, 0]),
        np.ascontiguousarray(weights, dtype=np.float32),
        np.ascontiguousarray(index, dtype=np.int32),
    )


@njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz"}, inline="never")
def _light_row(source, table, alpha_table, alpha, row):
    """Fill `row` (W, C) float32 with one row of integer codes as light, colour weighted by alpha (-1: no alpha)."""
    width, channels = source.shape
    if alpha < 0:
        for x in range(width):
            for c in range(channels):
                row[x * channels + c] = table[source[x, c]]
        return
    keep = np.float32(1.0) - _CLEAR_WEIGHT
    for x in range(width):
        a = alpha_table[source[x, alpha]]
        w = a * keep + _CLEAR_WEIGHT
        for c in range(alpha):
            row[x * channels + c] = table[source[x, c]] * w
        row[x * channels + alpha] = a


@njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz"}, inline="never")
def _light_row_float(source, alpha, row):
    """As `_light_row`, of float32 light."""
    width, channels = source.shape
    keep = np.float32(1.0) - _CLEAR_WEIGHT
    for x in range(width):
        w = np.float32(1.0)
        if alpha >= 0:
            w = source[x, alpha] * keep + _CLEAR_WEIGHT
        for c in range(channels):
            row[x * channels + c] = source[x, c] if c == alpha else source[x, c] * w


@njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz"}, inline="never")
def _add_rows(total, ring, slots, weights):
    """Set `total` to the weighted sum of the ring's rows, in blocks that stay in the nearest cache."""
    block = 2048
    count = weights.shape[0]
    for start in range(0, total.shape[0], block):
        part = total[start : start + block]
        part[:] = np.float32(0.0)
        for t in range(0, count - 3, 4):
            w0, w1, w2, w3 = weights[t], weights[t + 1], weights[t + 2], weights[t + 3]
            r0 = ring[slots[t], start : start + block]
            r1 = ring[slots[t + 1], start : start + block]
            r2 = ring[slots[t + 2], start : start + block]
            r3 = ring[slots[t + 3], start : start + block]
            for x in range(part.shape[0]):
                part[x] += w0 * r0[x] + w1 * r1[x] + (w2 * r2[x] + w3 * r3[x])
        for t in range(count - count % 4, count):
            w = weights[t]
            r = ring[slots[t], start : start + block]
            for x in range(part.shape[0]):
                part[x] += w * r[x]


@njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz"}, inline="never")
def _across(row, index, weights, channels, out):
    """Filter one row (W * C) across into `out` (width, C)."""
    for x in range(out.shape[0]):
        if channels == 4:
            r = np.float32(0.0)
            g = np.float32(0.0)
            b = np.float32(0.0)
            a = np.float32(0.0)
            for t in range(weights.shape[1]):
                w = weights[x, t]
                at = index[x, t] * 4
                r += w * row[at]
                g += w * row[at + 1]
                b += w * row[at + 2]
                a += w * row[at + 3]
            out[x, 0] = r
            out[x, 1] = g
            out[x, 2] = b
            out[x, 3] = a
        else:
            for c in range(channels):
                total = np.float32(0.0)
                for t in range(weights.shape[1]):
                    total += weights[x, t] * row[index[x, t] * channels + c]
                out[x, c] = total


@njit(nogil=True, cache=True, fastmath={"contract", "nsz"}, inline="never")
def _settle(row, alpha, normals, floats):
    """Undo the alpha weighting of a filtered row (width, C), clamp it unless it is floats, make normals unit long."""
    keep = np.float32(1.0) - _CLEAR_WEIGHT
    for x in range(row.shape[0]):
        if alpha >= 0:
            w = row[x, alpha] * keep + _CLEAR_WEIGHT
            if w > _CLEAR_WEIGHT * np.float32(0.5):
                for c in range(alpha):
                    row[x, c] /= w
            else:
                for c in range(alpha):
                    row[x, c] = 0.0
            row[x, alpha] = min(max(row[x, alpha], np.float32(0.0)), np.float32(1.0))
        if normals:
            nx = row[x, 0] * np.float32(2.0) - np.float32(1.0)
            ny = row[x, 1] * np.float32(2.0) - np.float32(1.0)
            nz = row[x, 2] * np.float32(2.0) - np.float32(1.0)
            length = np.sqrt(nx * nx + ny * ny + nz * nz)
            if length > np.float32(1e-6):
                scale = np.float32(0.5) / length
                row[x, 0] = nx * scale + np.float32(0.5)
                row[x, 1] = ny * scale + np.float32(0.5)
                row[x, 2] = nz * scale + np.float32(0.5)
        if not floats:
            for c in range(row.shape[1]):
                row[x, c] = min(max(row[x, c], np.float32(0.0)), np.float32(1.0))


@njit(nogil=True, cache=True)
def _turn_ring(first, held, slots, due):
    """Give each of the rows from `first` on its slot of the ring; list in `due` the taps not yet held, and count them."""
    tall = held.shape[0]
    count = 0
    for t in range(tall):
        row = first + t
        slots[t] = row % tall
        if held[slots[t]] != row:
            held[slots[t]] = row
            due[count] = t
            count += 1
    return count


@njit(nogil=True, cache=True)
def _make_ring(tall, width):
    """Return the ring of rows (tall, width), and what `_turn_ring` keeps: rows held, slots, taps due."""
    held = np.empty(tall, np.int64)
    held[:] = -(1 << 30)
    return np.empty((tall, width), np.float32), held, np.empty(tall, np.int64), np.empty(tall, np.int64)


@njit(nogil=True, cache=True)
def _finish_row(total, ring, slots, y_weights, x_weights, x_index, alpha, flags, out):
    """Filter the ring's rows down into `total` (W * C), that across into `out` (width, C), and settle it."""
    _add_rows(total, ring, slots, y_weights)
    _across(total, x_index, x_weights, out.shape[1], out)
    _settle(out, alpha, flags[0], flags[1])


@njit(nogil=True, cache=True)
def _band_codes(source, tables, alpha, y_first, y_weights, y_index, x_weights, x_index, flags, start, stop, out):
    """Fill output rows [start, stop) from integer codes (H, W, C), turned to light by `tables` (2, codes)."""
    width = source.shape[1] * source.shape[2]
    ring, held, slots, due = _make_ring(y_weights.shape[1], width)
    total = np.empty(width, np.float32)
    for y in range(start, stop):
        for k in range(_turn_ring(np.int64(y_first[y]), held, slots, due)):
            _light_row(source[y_index[y, due[k]]], tables[0], tables[1], alpha, ring[slots[due[k]]])
        _finish_row(total, ring, slots, y_weights[y], x_weights, x_index, alpha, flags, out[y])


@njit(nogil=True, cache=True)
def _band_floats(source, tables, alpha, y_first, y_weights, y_index, x_weights, x_index, flags, start, stop, out):
    """As `_band_codes`, from light (H, W, C) float32; `tables` are not looked at."""
    width = source.shape[1] * source.shape[2]
    ring, held, slots, due = _make_ring(y_weights.shape[1], width)
    total = np.empty(width, np.float32)
    for y in range(start, stop):
        for k in range(_turn_ring(np.int64(y_first[y]), held, slots, due)):
            _light_row_float(source[y_index[y, due[k]]], alpha, ring[slots[due[k]]])
        _finish_row(total, ring, slots, y_weights[y], x_weights, x_index, alpha, flags, out[y])


@njit(nogil=True, cache=True)
def _codes_of(light, table, guess, alpha_table, alpha_guess, alpha, out):
    """Fill `out` (N, C) with the codes of light (N, C) float32 in 0..1, rounded on the transfer curve."""
    for i in range(light.shape[0]):
        for c in range(light.shape[1]):
            v = light[i, c]
            g = guess
            edges = table
            if c == alpha:
                g = alpha_guess
                edges = alpha_table
            v = min(max(v, np.float32(0.0)), np.float32(1.0))
            code = g[np.int64(v * np.float32(4096.0))]
            while v >= edges[code + 1]:
                code += 1
            out[i, c] = code


def _transfer_of(image: Image, how: Resampling) -> Transfer:
    return Transfer.LINEAR if how.normals else image.transfer


def resample_linear(
    image: Image, width: int, height: int, how: Resampling = Resampling(), threads: int | None = None
) -> Floats:
    """Return the image at another size as linear light.

    Parameters
    ----------
    image : the source, of any type; it is read a band at a time and never copied whole, unless it is float16
    width, height : pixels, at least 1
    how : normal vectors are left linear and made unit long
    threads : worker threads; the result does not depend on it

    Returns
    -------
    ndarray, shape (height, width, C), float32, straight alpha; 0..1 unless the source is float
    """
    source = image.pixels
    transfer = _transfer_of(image, how)
    apart = image.has_alpha and (how.alpha_covers or transfer is Transfer.SRGB)
    alpha = len(image.channels) - 1 if apart else -1
    if image.is_float:
        source = source.astype(np.float32, copy=False)
        if transfer is Transfer.SRGB:
            source = source.copy()
            stop = alpha if alpha >= 0 else source.shape[2]
            source[..., :stop] = srgb_to_linear(source[..., :stop])
    source = held(source)
    y_first, y_weights, y_index = taps(image.height, height, how.filter, how.edge)
    _, x_weights, x_index = taps(image.width, width, how.filter, how.edge)
    flags = np.array([how.normals and source.shape[2] >= 3, image.is_float], np.bool_)
    out = np.empty((height, width, source.shape[2]), np.float32)
    if image.is_float:
        kernel, tables = _band_floats, np.zeros((2, 1), np.float32)
    else:
        bits = image.bit_depth
        kernel = _band_codes
        tables = np.stack([decode_table(transfer, bits), decode_table(Transfer.LINEAR, bits)])

    def band(start: int, stop: int) -> None:
        kernel(source, tables, alpha, y_first, y_weights, y_index, x_weights, x_index, flags, start, stop, out)

    each_chunk(band, height, _BAND_ROWS, threads)
    return out


def from_light(light: Floats, like: Image, normals: bool = False, threads: int | None = None) -> Image:
    """Return linear light (H, W, C) float32 as an image with the channels, type and transfer of another."""
    transfer = Transfer.LINEAR if normals else like.transfer
    alpha = len(like.channels) - 1 if like.has_alpha else -1
    dtype = like.pixels.dtype
    if like.is_float:
        out: Pixels = light
        if transfer is Transfer.SRGB:
            out = light.copy()
            stop = alpha if alpha >= 0 else light.shape[2]
            out[..., :stop] = linear_to_srgb(light[..., :stop])
        return like.with_pixels(out.astype(dtype, copy=False))
    bits = like.bit_depth
    out = np.empty(light.shape, dtype)
    flat, codes = held(light.reshape(-1, light.shape[2])), out.reshape(-1, light.shape[2])

    def part(start: int, stop: int) -> None:
        _codes_of(
            flat[start:stop],
            encode_thresholds(transfer, bits),
            encode_guess(transfer, bits),
            encode_thresholds(Transfer.LINEAR, bits),
            encode_guess(Transfer.LINEAR, bits),
            alpha,
            codes[start:stop],
        )

    each_chunk(part, flat.shape[0], 1 << 18, threads)
    return like.with_pixels(out)


def resample(
    image: Image, width: int, height: int, how: Resampling = Resampling(), threads: int | None = None
) -> Image:
    """Return the image at another size, in its own type; the same size gives the same image.

    See `resample_linear` for the parameters. Colour is filtered in linear light and weighted by alpha.
    """
    if (width, height) == image.size:
        return image
    return from_light(resample_linear(image, width, height, how, threads), image, how.normals, threads)
