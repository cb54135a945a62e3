"""Ranking the ways to split a block into subsets, by how far each subset's colours are from a line."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST

# How many partitions are judged at once, each in a lane of its own.
LANES = 64
# Sums kept of each subset: count, three channels and their products, rr rg rb gg gb bb; then the fourth and its, ra ga ba aa.
_SUMS = 15


@njit(**BARE, fastmath=FAST, inline="never")
def moments(px, channels, feature):
    """Fill feature (15, n or more) with 1, the channels and their products, about the block's mean."""
    texels = px.shape[1]
    for c in range(4):
        row = 1 + c if c < 3 else 10
        mean = np.float32(0.0)
        if c < channels:
            for i in range(texels):
                mean += px[c, i]
            mean /= np.float32(texels)
        for i in range(texels):
            feature[row, i] = px[c, i] - mean if c < channels else np.float32(0.0)
    for i in range(texels):
        r, g, b, a = feature[1, i], feature[2, i], feature[3, i], feature[10, i]
        feature[0, i] = np.float32(1.0)
        feature[4, i], feature[5, i], feature[6, i] = r * r, r * g, r * b
        feature[7, i], feature[8, i], feature[9, i] = g * g, g * b, b * b
        feature[11, i], feature[12, i], feature[13, i], feature[14, i] = r * a, g * a, b * a, a * a


@njit(**BARE, fastmath=FAST)
def _eight(numbers, mask, l):
    """Return the sum of eight numbers, each times its mask in lane l."""
    return (
        numbers[0] * mask[l] + numbers[1] * mask[LANES + l] + numbers[2] * mask[2 * LANES + l]
        + numbers[3] * mask[3 * LANES + l] + numbers[4] * mask[4 * LANES + l] + numbers[5] * mask[5 * LANES + l]
        + numbers[6] * mask[6 * LANES + l] + numbers[7] * mask[7 * LANES + l]
    )  # fmt: skip


@njit(**BARE, fastmath=FAST, inline="never")
def _sum_up(feature, mask, rows, sums):
    """Set rows of sums to what features (rows, n) come to where mask (n rows) is 1: their product as matrices."""
    for row in range(rows):
        mine = sums[row * LANES :]
        for l in range(LANES):
            mine[l] = np.float32(0.0)
        for i in range(0, feature.shape[1], 8):
            eight, f = mask[i * LANES :], feature[row, i:]
            numbers = f[0], f[1], f[2], f[3], f[4], f[5], f[6], f[7]
            for l in range(LANES):
                mine[l] += _eight(numbers, eight, l)


@njit(**BARE, fastmath=FAST, inline="never")
def _leave(rows, sums, left):
    """Take rows of sums of a subset from what others have left of a block."""
    for k in range(rows * LANES):
        left[k] -= sums[k]


@njit(**BARE, fastmath=FAST, inline="never")
def _add_residual3(sums, residual):
    """Add to residual (LANES,) what is left of each subset beside its principal axis; `sums` (10 rows of LANES) are its moments.

    The greatest eigenvalue is taken from the powers of the covariance, sqrt(tr C^4 / tr C^2), which is exact for one axis.
    """
    for l in range(LANES):
        share = np.float32(1.0) / max(sums[l], np.float32(1.0))
        r, g, b = sums[LANES + l], sums[2 * LANES + l], sums[3 * LANES + l]
        rr, rg, rb = sums[4 * LANES + l] - r * r * share, sums[5 * LANES + l] - r * g * share, sums[6 * LANES + l] - r * b * share
        gg, gb, bb = sums[7 * LANES + l] - g * g * share, sums[8 * LANES + l] - g * b * share, sums[9 * LANES + l] - b * b * share
        squared_r, squared_g, squared_b = rr * rr + rg * rg + rb * rb, rg * rg + gg * gg + gb * gb, rb * rb + gb * gb + bb * bb
        across_rg, across_rb = rr * rg + rg * gg + rb * gb, rr * rb + rg * gb + rb * bb
        across_gb = rg * rb + gg * gb + gb * bb
        fourth = squared_r * squared_r + squared_g * squared_g + squared_b * squared_b
        fourth += np.float32(2.0) * (across_rg * across_rg + across_rb * across_rb + across_gb * across_gb)
        second = max(squared_r + squared_g + squared_b, np.float32(1e-6))
        residual[l] += rr + gg + bb - np.sqrt(fourth / second)


@njit(**BARE, fastmath=FAST, inline="never")
def _add_residual4(sums, residual):
    """As `_add_residual3`, of four channels and `sums` (15 rows of LANES)."""
    for l in range(LANES):
        share = np.float32(1.0) / max(sums[l], np.float32(1.0))
        r, g, b, a = sums[LANES + l], sums[2 * LANES + l], sums[3 * LANES + l], sums[10 * LANES + l]
        rr, rg, rb = sums[4 * LANES + l] - r * r * share, sums[5 * LANES + l] - r * g * share, sums[6 * LANES + l] - r * b * share
        gg, gb, bb = sums[7 * LANES + l] - g * g * share, sums[8 * LANES + l] - g * b * share, sums[9 * LANES + l] - b * b * share
        ra, ga = sums[11 * LANES + l] - r * a * share, sums[12 * LANES + l] - g * a * share
        ba, aa = sums[13 * LANES + l] - b * a * share, sums[14 * LANES + l] - a * a * share
        squared_r, squared_g = rr * rr + rg * rg + rb * rb + ra * ra, rg * rg + gg * gg + gb * gb + ga * ga
        squared_b, squared_a = rb * rb + gb * gb + bb * bb + ba * ba, ra * ra + ga * ga + ba * ba + aa * aa
        across_rg, across_rb = rr * rg + rg * gg + rb * gb + ra * ga, rr * rb + rg * gb + rb * bb + ra * ba
        across_ra, across_gb = rr * ra + rg * ga + rb * ba + ra * aa, rg * rb + gg * gb + gb * bb + ga * ba
        across_ga, across_ba = rg * ra + gg * ga + gb * ba + ga * aa, rb * ra + gb * ga + bb * ba + ba * aa
        fourth = across_rg * across_rg + across_rb * across_rb + across_ra * across_ra
        fourth += across_gb * across_gb + across_ga * across_ga + across_ba * across_ba
        fourth *= np.float32(2.0)
        fourth += squared_r * squared_r + squared_g * squared_g + squared_b * squared_b + squared_a * squared_a
        second = max(squared_r + squared_g + squared_b + squared_a, np.float32(1e-6))
        residual[l] += rr + gg + bb + aa - np.sqrt(fourth / second)


@njit(**BARE, inline="never")
def judge_partitions(feature, channels, masks, work):
    """Say of each partition how far its subsets' colours are from lines, in the last of `work`.

    Parameters
    ----------
    feature : scratch of `feature_scratch`, filled by `moments`; channels : how many of them count
    masks : of `subset_masks`
    work : of `ranking_scratch`
    """
    totals, sums, left, residual, found = work
    rows = _SUMS if channels > 3 else 10
    for row in range(rows):
        total = np.float32(0.0)
        for i in range(feature.shape[1]):
            total += feature[row, i]
        totals[row] = total
    for tile in range(masks.shape[1]):
        for row in range(rows):
            for l in range(LANES):
                left[row * LANES + l] = totals[row]
        for l in range(LANES):
            residual[l] = np.float32(0.0)
        # What is left of a block when the others are taken away is its first subset.
        for s in range(masks.shape[0]):
            _sum_up(feature, masks[s, tile], rows, sums)
            _leave(rows, sums, left)
            if channels > 3:
                _add_residual4(sums, residual)
            else:
                _add_residual3(sums, residual)
        if channels > 3:
            _add_residual4(left, residual)
        else:
            _add_residual3(left, residual)
        for l in range(min(LANES, found.shape[0] - tile * LANES)):
            found[tile * LANES + l] = residual[l]


@njit(**BARE, inline="never")
def best_partitions(residual, wanted, order):
    """Put the places of the `wanted` least of residual (P,) into `order`, the least first; return how many there are."""
    found = 0
    for p in range(residual.shape[0]):
        mine = residual[p]
        if found == wanted and mine >= residual[order[found - 1]]:
            continue
        at = found if found < wanted else found - 1
        while at > 0 and mine < residual[order[at - 1]]:
            order[at] = order[at - 1]
            at -= 1
        order[at] = p
        found = min(found + 1, wanted)
    return found


@njit(**BARE)
def rank_partitions(px, channels, masks, wanted, feature, work, order):
    """Put the places of the `wanted` best partitions into `order` (wanted or more,) int64; return how many there are.

    Parameters
    ----------
    px : (4, n) float32; feature : scratch of `feature_scratch`; the others are those of `judge_partitions`
    """
    moments(px, channels, feature)
    judge_partitions(feature, channels, masks, work)
    return best_partitions(work[4], wanted, order)


def ranking_scratch(count: int) -> tuple[NDArray[np.float32], ...]:
    """Return what `judge_partitions` works in, for `count` partitions: the last of it, (count,), is how far each is off."""
    shapes = (_SUMS, _SUMS * LANES, _SUMS * LANES, LANES, count)
    return tuple(np.zeros(shape, np.float32) for shape in shapes)


def feature_scratch(texels: int) -> NDArray[np.float32]:
    """Return the array that `moments` fills, for blocks of `texels`, with zeros up to a whole eight."""
    return np.zeros((_SUMS, -(-texels // 8) * 8), np.float32)


def subset_masks(parts: NDArray[np.int64], subsets: int) -> NDArray[np.float32]:
    """Return the masks that `judge_partitions` takes, of the subset of each pixel (P, n).

    They are 1 where a pixel lies in the second, third or fourth subset, by subset, by LANES partitions, and then by pixel and
    lane, with zeros up to a whole eight of pixels and to whole lanes.
    """
    count, texels = parts.shape
    masks = np.zeros((subsets - 1, -(-count // LANES) * LANES, -(-texels // 8) * 8), np.float32)
    for s in range(1, subsets):
        masks[s - 1, :count, :texels] = parts == s
    tiles = masks.reshape(subsets - 1, -1, LANES, masks.shape[2]).swapaxes(2, 3)
    return np.ascontiguousarray(tiles).reshape(subsets - 1, tiles.shape[1], -1)
