"""BC4 and BC5, and the alpha half of BC3: one or two channels in blocks of two ends and sixteen 3-bit steps.

Khronos Data Format Specification 1.3, sections 19.4 to 19.6 (RGTC is the same layout). With the first end above the
second there are eight even steps; otherwise six, and the values 0 and 255.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from oaktrim.core.codecs.blocks import (
    BARE,
    FAST,
    Blocks,
    Errors,
    Told,
    blocks_in,
    decode_rows,
    encode_pixels,
    least_turns,
    load_block,
    weigh_turns,
)
from oaktrim.core.codecs.effort import Counted, EncodeOptions
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba


@njit(**BARE, fastmath=FAST, inline="never")
def _cost8(values, weights, low, high):
    """Return the squared error of sixteen float32 values, each by its weight, on eight even steps from `low` to `high`."""
    step = max(high - low, np.float32(1.0)) * np.float32(1.0 / 7.0)
    scale = np.float32(1.0) / step
    total = np.float32(0.0)
    for i in range(16):
        at = np.floor((values[i] - low) * scale + np.float32(0.5))
        at = min(max(at, np.float32(0.0)), np.float32(7.0))
        d = values[i] - (low + at * step)
        total += weights[i] * (d * d)
    return total


@njit(**BARE, fastmath=FAST, inline="never")
def _cost6(values, weights, low, high):
    """As `_cost8`, on six even steps and the values 0 and 255."""
    step = max(high - low, np.float32(1.0)) * np.float32(1.0 / 5.0)
    scale = np.float32(1.0) / step
    total = np.float32(0.0)
    for i in range(16):
        v = values[i]
        at = np.floor((v - low) * scale + np.float32(0.5))
        at = min(max(at, np.float32(0.0)), np.float32(5.0))
        d = v - (low + at * step)
        top = np.float32(255.0) - v
        total += weights[i] * min(d * d, min(v * v, top * top))
    return total


@njit(**BARE, fastmath=FAST, inline="never")
def _refit(values, weights, low, high, steps, extremes):
    """Return ends fitted by least squares to the steps that `low` and `high` choose; extremes are left out if asked."""
    scale = np.float32(steps) / max(high - low, np.float32(1.0))
    aa = ab = bb = av = bv = np.float32(0.0)
    for i in range(16):
        v = values[i]
        at = np.floor((v - low) * scale + np.float32(0.5))
        at = min(max(at, np.float32(0.0)), np.float32(steps))
        b = at / np.float32(steps)
        a = np.float32(1.0) - b
        w = weights[i]
        if extremes:
            d = v - (low + at / scale)
            top = np.float32(255.0) - v
            if min(v * v, top * top) < d * d:
                w = np.float32(0.0)
        aa += w * a * a
        ab += w * a * b
        bb += w * b * b
        av += w * a * v
        bv += w * b * v
    det = aa * bb - ab * ab
    if det < np.float32(1e-4):
        return low, high
    new_low = np.floor((av * bb - bv * ab) / det + np.float32(0.5))
    new_high = np.floor((bv * aa - av * ab) / det + np.float32(0.5))
    new_low = min(max(new_low, np.float32(0.0)), np.float32(255.0))
    new_high = min(max(new_high, np.float32(0.0)), np.float32(255.0))
    return min(new_low, new_high), max(new_low, new_high)


@njit(**BARE, inline="never")
def _walk(values, weights, low, high, best, six, reach, rounds):
    """Return better ends and their cost, looking `reach` codes around the ends until nothing is gained."""
    for _ in range(rounds):
        from_low, from_high = low, high
        for dl in range(-reach, reach + 1):
            for dh in range(-reach, reach + 1):
                l = from_low + np.float32(dl)
                h = from_high + np.float32(dh)
                if l < 0 or h > 255 or l >= h:
                    continue
                cost = _cost6(values, weights, l, h) if six else _cost8(values, weights, l, h)
                if cost < best:
                    best, low, high = cost, l, h
        if low == from_low and high == from_high:
            break
    return low, high, best


@njit(**BARE, inline="never")
def _search(values, weights, effort, exact):
    """Return (six, low, high, squared error) for sixteen float32 values, whose errors count by their weights.

    At standard and fine effort both modes are searched.

    Where `exact`, values of 0 and of 255 stay what they are: of eight even steps, they have to be the ends.
    """
    low = values[0]
    high = values[0]
    inner_low = np.float32(255.0)
    inner_high = np.float32(0.0)
    for i in range(16):
        v = values[i]
        low = min(low, v)
        high = max(high, v)
        if v > 0:
            inner_low = min(inner_low, v)
        if v < 255:
            inner_high = max(inner_high, v)
    if low == high:
        return False, low, high, np.float32(0.0)
    best_low, best_high, best = low, high, _cost8(values, weights, low, high)
    hold_low, hold_high = exact and low == 0, exact and high == 255
    # Starts: the whole range, then the range drawn in, for blocks whose extremes are few.
    for start in range(2 if effort == 0 else 5):
        if best == 0:
            break
        pull = np.floor((high - low) * np.float32(start) / np.float32(16.0))
        if start > 0 and (pull == 0 or high - low <= 2 * pull + 1):
            continue
        l = low if hold_low else low + pull
        h = high if hold_high else high - pull
        cost = _cost8(values, weights, l, h)
        for _ in range(1 + effort):
            rl, rh = _refit(values, weights, l, h, 7, False)
            rl = low if hold_low else rl
            rh = high if hold_high else rh
            if rl >= rh:
                break
            refitted = _cost8(values, weights, rl, rh)
            if refitted >= cost:
                break
            cost, l, h = refitted, rl, rh
        if effort == 2 and not (hold_low or hold_high):
            l, h, cost = _walk(values, weights, l, h, cost, False, 3 if start == 0 else 1, 6)
        if cost < best:
            best_low, best_high, best = l, h, cost
    if effort == 1 and best > 0 and not (hold_low or hold_high):
        best_low, best_high, best = _walk(values, weights, best_low, best_high, best, False, 1, 3)
    six = False
    if best > 0 and (low <= 16 or high >= 239):
        il, ih = inner_low, inner_high
        if il >= ih:
            il = min(max(il, np.float32(0.0)), np.float32(254.0))
            ih = il + np.float32(1.0)
        tries = 1 if effort == 0 else (4 if effort == 1 else 8)
        for t in range(tries):
            pull = np.floor((ih - il) * np.float32(t) / np.float32(16.0))
            l, h = il + pull, ih - pull
            if l >= h:
                break
            cost = _cost6(values, weights, l, h)
            rl, rh = _refit(values, weights, l, h, 5, True)
            if rl < rh:
                refitted = _cost6(values, weights, rl, rh)
                if refitted < cost:
                    cost, l, h = refitted, rl, rh
            if effort > 0:
                l, h, cost = _walk(values, weights, l, h, cost, True, effort, 3 * effort - 1)
            if cost < best:
                best_low, best_high, best, six = l, h, cost, True
    return six, best_low, best_high, best


@njit(**BARE)
def channel_block(values, weights, effort, exact, out):
    """Write the eight bytes of the best block found for sixteen float32 values (0..255) into `out` (8,) uint8.

    Errors count by their weights (16,). Where `exact`, 0 and 255 stay what they are. Return the squared error, of steps
    that are not rounded.
    """
    six, low, high, error = _search(values, weights, effort, exact)
    steps = np.float32(5.0) if six else np.float32(7.0)
    first, second = (low, high) if six else (high, low)
    bits = np.uint64(0)
    if low < high or six:
        scale = steps / max(high - low, np.float32(1.0))
        for i in range(16):
            v = values[i]
            at = min(max(np.floor((v - low) * scale + np.float32(0.5)), np.float32(0.0)), steps)
            d = v - (low + at / scale)
            top = np.float32(255.0) - v
            at_end = at if six else steps - at
            code = (
                np.uint64(0) if at_end == 0 else (np.uint64(1) if at_end == steps else np.uint64(at_end) + np.uint64(1))
            )
            if six:
                if v * v < d * d and v <= top:
                    code = np.uint64(6)
                elif top * top < d * d:
                    code = np.uint64(7)
            bits |= code << np.uint64(3 * i)
    out[0] = np.uint8(first)
    out[1] = np.uint8(second)
    _write_bits(bits, out)
    return error


@njit(**BARE)
def _write_bits(bits, out):
    for i in range(6):
        out[2 + i] = np.uint8((bits >> np.uint64(8 * i)) & np.uint64(255))


@njit(**BARE)
def _write_codes(codes, out):
    """Put the sixteen codes of a block into its bytes."""
    bits = np.uint64(0)
    for i in range(16):
        bits |= np.uint64(codes[i]) << np.uint64(3 * i)
    _write_bits(bits, out)


@njit(**BARE)
def _encode_rows(pixels, channels, effort, turns, start, stop, out, told, scratch):
    """Encode block rows [start, stop) of pixels (H, W, 4) uint8; `out` (rows, columns, 8 * channels); `told` the errors.

    Where `turns`, errors count as what they turn the vectors by whose x and y the two channels are.
    """
    px, weights, palettes, values, near, codes = scratch
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_block(pixels, bx, by, 4, 4, channels, px)
            if turns:
                weigh_turns(px, np.float32(255.0), weights)
            told[by, bx] = np.float32(0.0)
            for c in range(channels):
                block = out[by, bx, 8 * c : 8 * c + 8]
                told[by, bx] += channel_block(px[c], weights[c], effort, False, block)
                channel_palette(block, palettes[c])
            if turns:
                for c in range(channels):
                    for k in range(8):
                        values[c, k] = np.float32(palettes[c, k])
                told[by, bx] = least_turns(px, np.float32(255.0), values, near, codes)
                for c in range(channels):
                    _write_codes(codes[c], out[by, bx, 8 * c : 8 * c + 8])


@njit(**BARE)
def channel_palette(block, palette):
    """Fill `palette` (8,) uint8 with the values that a block of eight bytes can choose, rounded to nearest."""
    first, second = np.int64(block[0]), np.int64(block[1])
    palette[0] = first
    palette[1] = second
    if first > second:
        for i in range(1, 7):
            palette[1 + i] = ((7 - i) * first + i * second + 3) // 7
    else:
        for i in range(1, 5):
            palette[1 + i] = ((5 - i) * first + i * second + 2) // 5
        palette[6] = 0
        palette[7] = 255


@njit(**BARE)
def _decode_channel(blocks, offset, start, stop, channel, out, palette):
    """Decode block rows into one channel of `out` (H, W, C) uint8; blocks (rows, columns, bytes); palette is scratch (8,)."""
    height, width = out.shape[:2]
    for by in range(start, stop):
        tall = min(4, height - by * 4)
        for bx in range(blocks.shape[1]):
            block = blocks[by, bx, offset : offset + 8]
            channel_palette(block, palette)
            bits = np.uint64(0)
            for i in range(6):
                bits |= np.uint64(block[2 + i]) << np.uint64(8 * i)
            wide = min(4, width - bx * 4)
            for y in range(tall):
                for x in range(wide):
                    code = (bits >> np.uint64(3 * (4 * y + x))) & np.uint64(7)
                    out[by * 4 + y, bx * 4 + x, channel] = palette[np.int64(code)]


def encode_channels(image: Image, options: EncodeOptions, channels: int, told: Told = None) -> bytes:
    """Encode the first one (BC4) or two (BC5) of R and G."""
    effort, turns = options.effort.rank, channels == 2 and options.counted is Counted.NORMALS

    def rows(pixels: Pixels, start: int, stop: int, out: Blocks, errors: Errors) -> None:
        scratch = (
            np.empty((4, 16), np.float32), np.ones((2, 16), np.float32), np.empty((2, 8), np.uint8),
            np.empty((2, 8), np.float32), np.empty((2, 2), np.int64), np.empty((2, 16), np.int64),
        )  # fmt: skip
        _encode_rows(pixels, channels, effort, turns, start, stop, out, errors, scratch)

    return encode_pixels(held(to_rgba(image)), options, (4, 4), 8 * channels, rows, told, 8192)


def decode_channels(data: bytes, width: int, height: int, channels: int) -> Pixels:
    """Decode BC4 (1) or BC5 (2 channels) to (H, W, channels) uint8."""
    blocks = blocks_in(data, width, height, (4, 4), 8 * channels)
    out = np.empty((height, width, channels), np.uint8)

    def rows(start: int, stop: int) -> None:
        for c in range(channels):
            _decode_channel(blocks, 8 * c, start, stop, c, out, np.empty(8, np.uint8))

    decode_rows(rows, blocks)
    return out


def encode_bc4(image: Image, options: EncodeOptions, told: Told = None) -> bytes:
    return encode_channels(image, options, 1, told)


def decode_bc4(data: bytes, width: int, height: int) -> Pixels:
    return decode_channels(data, width, height, 1)


def encode_bc5(image: Image, options: EncodeOptions, told: Told = None) -> bytes:
    return encode_channels(image, options, 2, told)


def decode_bc5(data: bytes, width: int, height: int) -> Pixels:
    return decode_channels(data, width, height, 2)
