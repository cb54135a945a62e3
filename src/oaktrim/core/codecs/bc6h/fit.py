"""The search of the BC6H encoder, on whole numbers that are in the order of half floats."""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.codecs.blocks import BARE, FAST, bytes_of, copy_flat, put_bits, spaced
from oaktrim.core.codecs.lines import axis_line, refit
from oaktrim.core.codecs.partitions import flat_scratch, rank_partitions, ranking_scratch
from oaktrim.core.kernels import njit

_FAR = np.float32(3e38)
# By effort: how many partitions are tried, and rounds of refitting.
PLANS = np.array([[1, 2], [4, 2], [16, 3]], np.int64)


@njit(**BARE)
def _code(value, bits, signed):
    """Return the code of `bits` bits whose end decodes nearest to a value in the order of half floats."""
    # Ends are decoded to 16 bits, or 15 and a sign, and brought to halves by 31/64 or 31/32.
    if signed:
        size = min(abs(value) * np.float32(32.0 / 31.0), np.float32(32767.0))
        top = (1 << (bits - 1)) - 1
        code = (
            np.int64(size)
            if bits >= 16
            else min(np.int64(size * np.float32(1 << (bits - 1)) / np.float32(32768.0)), top)
        )
        return -code if value < 0 else code
    size = min(max(value, np.float32(0.0)) * np.float32(64.0 / 31.0), np.float32(65535.0))
    if bits >= 15:
        return np.int64(size)
    return min(np.int64(size * np.float32(1 << bits) / np.float32(65536.0)), (1 << bits) - 1)


@njit(**BARE)
def _half(code, bits, signed):
    """Return the value of an end in the order of half floats."""
    size = abs(code)
    if signed:
        if bits < 16 and size != 0:
            size = 0x7FFF if size >= (1 << (bits - 1)) - 1 else ((size << 15) + 0x4000) >> (bits - 1)
        value = np.float32(size) * np.float32(31.0 / 32.0)
        return -value if code < 0 else value
    if bits < 15 and size != 0:
        size = 0xFFFF if size == (1 << bits) - 1 else ((size << 15) + 0x4000) >> (bits - 1)
    return np.float32(size) * np.float32(31.0 / 64.0)


@njit(**BARE, fastmath=FAST)
def _choose(px, mask, decoded, last, steps):
    """Give each pixel of a region the nearest of `last` + 1 steps between the ends; return the squared error."""
    length = np.float32(0.0)
    for c in range(3):
        d = decoded[1, c] - decoded[0, c]
        length += d * d
    scale = last / max(length, np.float32(1e-6))
    for i in range(16):
        steps[i] = np.float32(0.5)
    for c in range(3):
        d = (decoded[1, c] - decoded[0, c]) * scale
        for i in range(16):
            steps[i] += (px[c, i] - decoded[0, c]) * d
    for i in range(16):
        steps[i] = np.floor(min(max(steps[i], np.float32(0.0)), last))
    error = np.float32(0.0)
    part = np.float32(64.0) / last
    for c in range(3):
        d = (decoded[1, c] - decoded[0, c]) * np.float32(1.0 / 64.0)
        for i in range(16):
            miss = decoded[0, c] + np.floor(steps[i] * part + np.float32(0.5)) * d - px[c, i]
            error += mask[i] * miss * miss
    return error


@njit(**BARE)
def _fits(codes, regions, row):
    """Say whether the differences of a mode can hold the ends."""
    for c in range(3):
        reach = 1 << (row[5 + c] - 1)
        for e in range(1, 2 * regions):
            d = codes[e, c] - codes[0, c]
            if d < -reach or d >= reach:
                return False
    return True


@njit(**BARE)
def _turn(codes, steps, parts, region, last):
    """Exchange the ends of a region, and turn its steps round."""
    for c in range(3):
        codes[2 * region, c], codes[2 * region + 1, c] = codes[2 * region + 1, c], codes[2 * region, c]
    for i in range(16):
        if parts[i] == region:
            steps[i] = last - steps[i]


@njit(**BARE)
def _write(mode, row, order, parts, anchor, partition, codes, steps, words, block):
    """Write a block from codes (4, 3) and steps (16,), whose anchors already have their highest bit clear."""
    regions = row[2]
    words[0] = np.uint64(0)
    words[1] = np.uint64(0)
    at = put_bits(words, 0, row[0], row[1])
    for k in range(order.shape[0]):
        e, c, bit = order[k, 0], order[k, 1], order[k, 2]
        if e < 0:
            break
        value = codes[e, c] - codes[0, c] if row[3] and e > 0 else codes[e, c]
        at = put_bits(words, at, value >> bit & 1, 1)
    width = 4
    if regions == 2:
        width = 3
        at = put_bits(words, at, partition, 5)
    for i in range(16):
        short = 1 if i == 0 or (regions == 2 and anchor == i) else 0
        at = put_bits(words, at, np.int64(steps[i]), width - short)
    bytes_of(words, block)


@spaced
def scratch() -> tuple[Any, ...]:
    """Return what `encode_rows` works in."""
    return (
        np.empty((4, 16), np.float32), np.ones((2, 16), np.float32), np.ones(4, np.float32),
        (
            np.zeros((2, 2, 4), np.float32), np.zeros((2, 3), np.float32), np.zeros((4, 16), np.float32),
            np.zeros((7, 4), np.float32),
        ),
        (
            np.zeros((4, 3), np.int64), np.zeros(16, np.float32), np.zeros(16, np.float32), np.zeros((4, 3), np.int64),
            np.zeros(16, np.float32),
        ),
        (flat_scratch(16), ranking_scratch(32), np.zeros(32, np.int64)),
        np.zeros(2, np.uint64),
    )  # fmt: skip


@njit(**BARE)
def encode_rows(pixels, signed, plan, tables, start, stop, out, scratch):
    """Encode block rows [start, stop) of pixels (H, W, 3) int32 into `out` (rows, columns, 16) uint8."""
    modes, build_spec, partitions, anchors, masks = tables
    height, width = pixels.shape[:2]
    px, mask, roots, (lines, decoded, apart, covariance), (codes, steps, got, best_codes, best_steps), \
        (flattened, ranking, order), words = scratch  # fmt: skip
    low, high = np.int64(0), np.int64(3)
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            for y in range(4):
                for x in range(4):
                    for c in range(3):
                        px[c, 4 * y + x] = pixels[min(by * 4 + y, height - 1), min(bx * 4 + x, width - 1), c]
            best, best_mode, best_partition = _FAR, 10, 0
            ways = 1 + rank_partitions(px, high, roots, masks, plan[0], flattened, ranking, order)
            for way in range(ways):
                if best == 0:
                    break
                regions = 1 if way == 0 else 2
                partition = 0 if way == 0 else order[way - 1]
                last = np.float32(15.0) if regions == 1 else np.float32(7.0)
                for i in range(16):
                    mask[1, i] = np.float32(partitions[2, partition, i]) if regions == 2 else np.float32(0.0)
                    mask[0, i] = np.float32(1.0) - mask[1, i]
                for region in range(regions):
                    axis_line(px, mask[region], low, high, roots, apart, covariance, lines[region])
                    for _ in range(plan[1] - 1):
                        _choose(px, mask[region], lines[region], last, got)
                        refit(px, mask[region : region + 1], -1, low, high, last, got, lines[region])
                for mode in range(10 if regions == 1 else 0, 14 if regions == 1 else 10):
                    row = modes[mode]
                    error = np.float32(0.0)
                    for region in range(regions):
                        for e in range(2):
                            for c in range(3):
                                code = _code(lines[region, e, c], row[4], signed)
                                codes[2 * region + e, c] = code
                                decoded[e, c] = _half(code, row[4], signed)
                        error += _choose(px, mask[region], decoded, last, got)
                        for i in range(16):
                            if mask[region, i] > 0:
                                steps[i] = got[i]
                    if error >= best:
                        continue
                    # An anchor's step must be in the lower half; its region is turned round where it is not.
                    parts = partitions[regions, partition]
                    if steps[0] > last * np.float32(0.5):
                        _turn(codes, steps, parts, 0, last)
                    if regions == 2 and steps[anchors[2, partition, 1]] > last * np.float32(0.5):
                        _turn(codes, steps, parts, 1, last)
                    if row[3] == 0 or _fits(codes, regions, row):
                        best, best_mode, best_partition = error, mode, partition
                        copy_flat(codes, best_codes)
                        copy_flat(steps, best_steps)
            row = modes[best_mode]
            _write(
                best_mode, row, build_spec[best_mode], partitions[row[2], best_partition], anchors[2, best_partition, 1],
                best_partition, best_codes, best_steps, words, out[by, bx],
            )  # fmt: skip
