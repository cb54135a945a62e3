"""Ranking the ways to split a block into subsets, by how far each subset's colours are from a line."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST, MAKING

# Sums kept of each subset: count, three channels and their products, rr rg rb gg gb bb; then the fourth and its, ra ga ba aa.
_SUMS = 15


@njit(**BARE, fastmath=FAST, inline="never")
def moments(px, channels, feature):
    """Fill feature (15, n) with 1, the channels and their products, about the block's mean."""
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


@njit(**BARE, fastmath=FAST, inline="never")
def _leave(feature, sums, first, whole):
    """Set whole (F, P) to what the sums of a subset leave of a block, or, but for the first one, of what others left."""
    if not first:
        for k in range(whole.size):
            whole.flat[k] -= sums.flat[k]
        return
    count = whole.shape[1]
    for row in range(feature.shape[0]):
        total = np.float32(0.0)
        for i in range(feature.shape[1]):
            total += feature[row, i]
        for p in range(count):
            whole[row, p] = total - sums[row, p]


@njit(**BARE, fastmath=FAST, inline="never")
def _add_residual3(sums, residual):
    """Add to residual (P,) what is left of each subset beside its principal axis; `sums` (10, P) are its moments.

    The greatest eigenvalue is taken from the powers of the covariance, sqrt(tr C^4 / tr C^2), which is exact for one axis.
    """
    for p in range(residual.shape[0]):
        share = np.float32(1.0) / max(sums[0, p], np.float32(1.0))
        r, g, b = sums[1, p], sums[2, p], sums[3, p]
        rr, rg, rb = sums[4, p] - r * r * share, sums[5, p] - r * g * share, sums[6, p] - r * b * share
        gg, gb, bb = sums[7, p] - g * g * share, sums[8, p] - g * b * share, sums[9, p] - b * b * share
        squared_r, squared_g, squared_b = rr * rr + rg * rg + rb * rb, rg * rg + gg * gg + gb * gb, rb * rb + gb * gb + bb * bb
        across_rg, across_rb = rr * rg + rg * gg + rb * gb, rr * rb + rg * gb + rb * bb
        across_gb = rg * rb + gg * gb + gb * bb
        fourth = squared_r * squared_r + squared_g * squared_g + squared_b * squared_b
        fourth += np.float32(2.0) * (across_rg * across_rg + across_rb * across_rb + across_gb * across_gb)
        second = max(squared_r + squared_g + squared_b, np.float32(1e-6))
        residual[p] += rr + gg + bb - np.sqrt(fourth / second)


@njit(**BARE, fastmath=FAST, inline="never")
def _add_residual4(sums, residual):
    """As `_add_residual3`, of four channels and `sums` (15, P)."""
    for p in range(residual.shape[0]):
        share = np.float32(1.0) / max(sums[0, p], np.float32(1.0))
        r, g, b, a = sums[1, p], sums[2, p], sums[3, p], sums[10, p]
        rr, rg, rb = sums[4, p] - r * r * share, sums[5, p] - r * g * share, sums[6, p] - r * b * share
        gg, gb, bb = sums[7, p] - g * g * share, sums[8, p] - g * b * share, sums[9, p] - b * b * share
        ra, ga = sums[11, p] - r * a * share, sums[12, p] - g * a * share
        ba, aa = sums[13, p] - b * a * share, sums[14, p] - a * a * share
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
        residual[p] += rr + gg + bb + aa - np.sqrt(fourth / second)


@njit(**MAKING)
def _multiply(a, b, out):
    # A product of matrices makes arrays of its own, whoever asks for it.
    np.dot(a, b, out)


@njit(**BARE, fastmath=FAST, inline="never")
def judge_partitions(feature, channels, masks, work):
    """Say of each partition how far its subsets' colours are from lines, in the last of `work`.

    Parameters
    ----------
    feature : (15, n) float32, of `moments`; channels : how many of them count
    masks : (subsets - 1, n, P) float32, 1 where a pixel lies in the second, third or fourth subset
    work : scratch of `ranking_scratch`
    """
    sums, whole, residual = work
    more, count = masks.shape[0], masks.shape[2]
    rows = _SUMS if channels > 3 else 10
    feature, sums, whole = feature[:rows], sums[:rows], whole[:rows]
    for p in range(count):
        residual[p] = np.float32(0.0)
    for s in range(more + 1):
        left = whole if s == more else sums
        if s < more:
            _multiply(feature, masks[s], sums)
            _leave(feature, sums, s == 0, whole)
        if channels > 3:
            _add_residual4(left, residual)
        else:
            _add_residual3(left, residual)


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
    px : (4, n) float32; feature : scratch (15, n); the others are those of `judge_partitions`
    """
    moments(px, channels, feature)
    judge_partitions(feature, channels, masks, work)
    return best_partitions(work[2], wanted, order)


def ranking_scratch(count: int) -> tuple[NDArray[np.float32], ...]:
    """Return the scratch that `judge_partitions` works in, for up to `count` partitions."""
    return np.zeros((_SUMS, count), np.float32), np.zeros((_SUMS, count), np.float32), np.zeros(count, np.float32)


def feature_scratch(texels: int) -> NDArray[np.float32]:
    """Return the array that `moments` fills, for blocks of `texels`."""
    return np.zeros((_SUMS, texels), np.float32)


def subset_masks(parts: NDArray[np.int64], subsets: int) -> NDArray[np.float32]:
    """Return the masks that `judge_partitions` takes, of the subset of each pixel (P, n)."""
    return np.ascontiguousarray(np.stack([(parts == s).T for s in range(1, subsets)]).astype(np.float32))
