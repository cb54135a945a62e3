"""Ranking the ways to split a block into subsets, by how far each subset's colours are from a line.

Colours are looked at on the plane of the two principal axes of their block, where a subset takes five sums instead of ten or
fifteen. The colours of three flat patches always lie in a plane, and what stands out of one counts the same for every split.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.codecs.lines import along_principal
from oaktrim.core.kernels import njit

# How many partitions are judged at once, each in a lane of its own.
LANES = 64
# Sums kept of each subset: where its colours lie along both axes of the plane, and the products of these, xx xy yy.
_SUMS = 5
# Rows of `moments`: 1, three channels and their products, rr rg rb gg gb bb; then the fourth and its, ra ga ba aa.
_MOMENTS = 15


@njit(**BARE, fastmath=FAST, inline="never")
def moments(px, channels, means, feature):
    """Fill means (4,) with a block's, and feature (15, n or more) with 1, the channels and their products, about these.

    px (4, n) float32 is the block; of channels that are not among the first `channels`, all is 0.
    """
    texels = px.shape[1]
    for c in range(4):
        row = 1 + c if c < 3 else 10
        mean = np.float32(0.0)
        if c < channels:
            for i in range(texels):
                mean += px[c, i]
            mean /= np.float32(texels)
        means[c] = mean
        for i in range(texels):
            feature[row, i] = px[c, i] - mean if c < channels else np.float32(0.0)
    for i in range(texels):
        r, g, b, a = feature[1, i], feature[2, i], feature[3, i], feature[10, i]
        feature[0, i] = np.float32(1.0)
        feature[4, i], feature[5, i], feature[6, i] = r * r, r * g, r * b
        feature[7, i], feature[8, i], feature[9, i] = g * g, g * b, b * b
        feature[11, i], feature[12, i], feature[13, i], feature[14, i] = r * a, g * a, b * a, a * a


@njit(**BARE, fastmath=FAST)
def _unit(x, y, z, w):
    length = np.float32(1.0) / np.sqrt(max(x * x + y * y + z * z + w * w, np.float32(1e-20)))
    return x * length, y * length, z * length, w * length


@njit(**BARE, fastmath=FAST, inline="never")
def lay_flat(feature, roots, flat):
    """Fill flat (5, n or more) with where colours lie on the plane of their two principal axes: x, y, xx, xy and yy.

    Parameters
    ----------
    feature : (15, n or more) float32, filled by `moments`
    roots : (4,) float32, the roots of what a squared error of each channel counts
    """
    r0, r1, r2, r3 = roots[0], roots[1], roots[2], roots[3]
    rr = rg = rb = ra = gg = gb = ga = bb = ba = aa = np.float32(0.0)
    for i in range(feature.shape[1]):
        rr += feature[4, i]
        rg += feature[5, i]
        rb += feature[6, i]
        gg += feature[7, i]
        gb += feature[8, i]
        bb += feature[9, i]
        ra += feature[11, i]
        ga += feature[12, i]
        ba += feature[13, i]
        aa += feature[14, i]
    rr, rg, rb, ra, gg = rr * r0 * r0, rg * r0 * r1, rb * r0 * r2, ra * r0 * r3, gg * r1 * r1
    gb, ga, bb, ba, aa = gb * r1 * r2, ga * r1 * r3, bb * r2 * r2, ba * r2 * r3, aa * r3 * r3
    x, y, z, w = _unit(*along_principal(rr, rg, rb, ra, gg, gb, ga, bb, ba, aa))
    # What the first axis leaves.
    tr, tg, tb = rr * x + rg * y + rb * z + ra * w, rg * x + gg * y + gb * z + ga * w, rb * x + gb * y + bb * z + ba * w
    most = tr * x + tg * y + tb * z + (ra * x + ga * y + ba * z + aa * w) * w
    p, q, s, t = _unit(*along_principal(
        rr - most * x * x, rg - most * x * y, rb - most * x * z, ra - most * x * w, gg - most * y * y,
        gb - most * y * z, ga - most * y * w, bb - most * z * z, ba - most * z * w, aa - most * w * w,
    ))  # fmt: skip
    x, y, z, w, p, q, s, t = x * r0, y * r1, z * r2, w * r3, p * r0, q * r1, s * r2, t * r3
    for i in range(feature.shape[1]):
        r, g, b, a = feature[1, i], feature[2, i], feature[3, i], feature[10, i]
        along, across = r * x + g * y + b * z + a * w, r * p + g * q + b * s + a * t
        flat[0, i], flat[1, i] = along, across
        flat[2, i], flat[3, i], flat[4, i] = along * along, along * across, across * across


@njit(**BARE, fastmath=FAST, inline="never")
def _sum_up(flat, mask, sums):
    """Set sums (5 rows of LANES) to what flat (5, n) comes to where mask (n rows) is 1: their product as matrices."""
    for l in range(_SUMS * LANES):
        sums[l] = np.float32(0.0)
    for i in range(0, flat.shape[1], 4):
        four = mask[i * LANES :]
        x0, x1, x2, x3 = flat[0, i], flat[0, i + 1], flat[0, i + 2], flat[0, i + 3]
        y0, y1, y2, y3 = flat[1, i], flat[1, i + 1], flat[1, i + 2], flat[1, i + 3]
        p0, p1, p2, p3 = flat[2, i], flat[2, i + 1], flat[2, i + 2], flat[2, i + 3]
        q0, q1, q2, q3 = flat[3, i], flat[3, i + 1], flat[3, i + 2], flat[3, i + 3]
        r0, r1, r2, r3 = flat[4, i], flat[4, i + 1], flat[4, i + 2], flat[4, i + 3]
        for l in range(LANES):
            m0, m1, m2, m3 = four[l], four[LANES + l], four[2 * LANES + l], four[3 * LANES + l]
            sums[l] += x0 * m0 + x1 * m1 + x2 * m2 + x3 * m3
            sums[LANES + l] += y0 * m0 + y1 * m1 + y2 * m2 + y3 * m3
            sums[2 * LANES + l] += p0 * m0 + p1 * m1 + p2 * m2 + p3 * m3
            sums[3 * LANES + l] += q0 * m0 + q1 * m1 + q2 * m2 + q3 * m3
            sums[4 * LANES + l] += r0 * m0 + r1 * m1 + r2 * m2 + r3 * m3


@njit(**BARE, fastmath=FAST, inline="never")
def _leave(sums, left):
    """Take sums of a subset from what others have left of a block."""
    for k in range(_SUMS * LANES):
        left[k] -= sums[k]


@njit(**BARE, fastmath=FAST, inline="never")
def _add_residual(sums, shares, residual):
    """Add to residual (LANES,) what is left of each subset beside its principal axis.

    Parameters
    ----------
    sums : (5 rows of LANES), of the subset; shares : (LANES,), one over how many pixels it has

    That is the lesser eigenvalue of its covariance.
    """
    for l in range(LANES):
        x, y, share = sums[l], sums[LANES + l], shares[l]
        xx = sums[2 * LANES + l] - x * x * share
        xy = sums[3 * LANES + l] - x * y * share
        yy = sums[4 * LANES + l] - y * y * share
        apart = xx - yy
        residual[l] += (xx + yy - np.sqrt(apart * apart + np.float32(4.0) * xy * xy)) * np.float32(0.5)


@njit(**BARE, inline="never")
def judge_partitions(flat, masks, work):
    """Say of each partition how far its subsets' colours are from lines, in the last of `work`.

    Parameters
    ----------
    flat : of `flat_scratch`, filled by `lay_flat`
    masks : of `subset_masks`
    work : of `ranking_scratch`
    """
    members, shares = masks
    sums, left, residual, found = work
    for tile in range(members.shape[1]):
        for row in range(_SUMS):
            total = np.float32(0.0)
            for i in range(flat.shape[1]):
                total += flat[row, i]
            for l in range(LANES):
                left[row * LANES + l] = total
        for l in range(LANES):
            residual[l] = np.float32(0.0)
        # What is left of a block when the others are taken away is its first subset.
        for s in range(members.shape[0]):
            _sum_up(flat, members[s, tile], sums)
            _leave(sums, left)
            _add_residual(sums, shares[s + 1, tile], residual)
        _add_residual(left, shares[0, tile], residual)
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
def rank_partitions(px, channels, roots, masks, wanted, flattened, work, order):
    """Put the places of the `wanted` best partitions into `order` (wanted or more,) int64; return how many there are.

    Parameters
    ----------
    px : (4, n) float32; roots : as in `lay_flat`; flattened : scratch of `flat_scratch`
    masks, work : as in `judge_partitions`
    """
    means, feature, flat = flattened
    moments(px, channels, means, feature)
    lay_flat(feature, roots, flat)
    judge_partitions(flat, masks, work)
    return best_partitions(work[3], wanted, order)


def ranking_scratch(count: int) -> tuple[NDArray[np.float32], ...]:
    """Return what `judge_partitions` works in, for `count` partitions: the last of it, (count,), is how far each is off."""
    shapes = (_SUMS * LANES, _SUMS * LANES, LANES, count)
    return tuple(np.zeros(shape, np.float32) for shape in shapes)


def flat_scratch(texels: int) -> tuple[NDArray[np.float32], ...]:
    """Return the means and features that `moments` fills, and what `lay_flat` does, with zeros up to a whole four of texels."""
    wide = -(-texels // 4) * 4
    return tuple(np.zeros(shape, np.float32) for shape in (4, (_MOMENTS, wide), (_SUMS, wide)))


def subset_masks(parts: NDArray[np.int64], subsets: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return the masks that `judge_partitions` takes, of the subset of each pixel (P, n).

    The first are 1 where a pixel lies in the second, third or fourth subset, by subset, by LANES partitions, and then by pixel
    and lane, with zeros up to a whole four of pixels and to whole lanes; the second is one over how many pixels lie in a subset,
    by subset, by LANES partitions, and by lane.
    """
    count, texels = parts.shape
    masks = np.zeros((subsets, -(-count // LANES) * LANES, -(-texels // 4) * 4), np.float32)
    for s in range(subsets):
        masks[s, :count, :texels] = parts == s
    tiles = masks.reshape(subsets, -1, LANES, masks.shape[2])
    members = np.ascontiguousarray(tiles[1:].swapaxes(2, 3)).reshape(subsets - 1, tiles.shape[1], -1)
    return members, np.float32(1.0) / np.maximum(tiles.sum(axis=3), np.float32(1.0))
