"""Ranking the ways to split a block into subsets, by how far each subset's colours are from a line."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import FAST

# Sums kept of each subset: count, four channels, ten products.
_SUMS = 15


@njit(nogil=True, cache=True, fastmath=FAST)
def _moments(px, channels, feature):
    """Fill feature (15, n) with 1, the channels and their products, about the block's mean."""
    texels = px.shape[1]
    for i in range(texels):
        feature[0, i] = np.float32(1.0)
    for c in range(channels):
        mean = np.float32(0.0)
        for i in range(texels):
            mean += px[c, i]
        mean /= np.float32(texels)
        for i in range(texels):
            feature[1 + c, i] = px[c, i] - mean
    at = 5
    for a in range(channels):
        for b in range(a, channels):
            for i in range(texels):
                feature[at, i] = feature[1 + a, i] * feature[1 + b, i]
            at += 1
    return at


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def _add_residual(sums, channels, covariance, square, residual):
    """Add to residual (P,) what is left of each subset beside its principal axis; `sums` (15, P) are its moments.

    The greatest eigenvalue is taken from the powers of the covariance, sqrt(tr C^4 / tr C^2), which is exact for one axis.
    """
    count = residual.shape[0]
    at = 0
    for a in range(channels):
        for b in range(a, channels):
            for p in range(count):
                covariance[a, b, p] = sums[5 + at, p] - sums[1 + a, p] * sums[1 + b, p] / max(sums[0, p], np.float32(1))
            at += 1
    for a in range(channels):
        for b in range(a):
            for p in range(count):
                covariance[a, b, p] = covariance[b, a, p]
    for p in range(count):
        square[0, p] = np.float32(0.0)
        square[1, p] = np.float32(0.0)
        square[3, p] = np.float32(0.0)
    for a in range(channels):
        for p in range(count):
            square[3, p] += covariance[a, a, p]
        for b in range(a, channels):
            twice = np.float32(1.0) if a == b else np.float32(2.0)
            for p in range(count):
                square[2, p] = np.float32(0.0)
            for k in range(channels):
                for p in range(count):
                    square[2, p] += covariance[a, k, p] * covariance[k, b, p]
            for p in range(count):
                square[1, p] += twice * square[2, p] * square[2, p]
                square[0, p] += twice * covariance[a, b, p] * covariance[a, b, p]
    for p in range(count):
        residual[p] += square[3, p] - np.sqrt(square[1, p] / max(square[0, p], np.float32(1e-6)))


@njit(nogil=True, cache=True, fastmath=FAST, inline="never")
def rank_partitions(px, channels, masks, wanted, work, order):
    """Put the places of the `wanted` best partitions into `order`, the best first; return how many there are.

    Parameters
    ----------
    px : (4, n) float32; channels : how many of them count
    masks : (subsets - 1, n, P) float32, 1 where a pixel lies in the second, third or fourth subset
    work : scratch of `ranking_scratch`
    order : (wanted or more,) int64
    """
    feature, sums, rest, covariance, square, residual = work
    more, texels, count = masks.shape
    fields = _moments(px, channels, feature)
    whole = rest
    for f in range(fields):
        if f >= 1 + channels and f < 5:
            continue
        total = np.float32(0.0)
        for i in range(texels):
            total += feature[f, i]
        for p in range(count):
            whole[f, p] = total
    for p in range(count):
        residual[p] = np.float32(0.0)
    for s in range(more):
        np.dot(feature, masks[s], sums)
        for f in range(fields):
            for p in range(count):
                whole[f, p] -= sums[f, p]
        _add_residual(sums, channels, covariance, square, residual)
    _add_residual(whole, channels, covariance, square, residual)
    found = min(wanted, count)
    for k in range(found):
        best = 0
        for p in range(1, count):
            if residual[p] < residual[best]:
                best = p
        order[k] = best
        residual[best] = np.float32(3e38)
    return found


@njit(nogil=True, cache=True)
def ranking_scratch(texels, count):
    """Return the scratch that `rank_partitions` works in, for blocks of `texels` and up to `count` partitions."""
    return (
        np.zeros((_SUMS, texels), np.float32),
        np.zeros((_SUMS, count), np.float32),
        np.zeros((_SUMS, count), np.float32),
        np.zeros((4, 4, count), np.float32),
        np.zeros((4, count), np.float32),
        np.zeros(count, np.float32),
    )


def subset_masks(parts: NDArray[np.int64], subsets: int) -> NDArray[np.float32]:
    """Return the masks that `rank_partitions` takes, of the subset of each pixel (P, n)."""
    return np.ascontiguousarray(np.stack([(parts == s).T for s in range(1, subsets)]).astype(np.float32))
