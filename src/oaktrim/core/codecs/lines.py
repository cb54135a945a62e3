"""Lines through the colours of a block: along their principal axis, and fitted by least squares to the steps chosen."""

from __future__ import annotations

import numpy as np

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.kernels import njit


@njit(**BARE, fastmath=FAST, forceinline=True)
def along_principal(rr, rg, rb, ra, gg, gb, ga, bb, ba, aa):
    """Return a vector along the principal axis of a covariance of four channels, by power iteration; zeros where there is none."""
    # Inlined by force, as else lanes would take it one by one. At most one in all, so that powers neither vanish nor run away.
    whole = np.float32(1.0) / max(rr + gg + bb + aa, np.float32(1e-6))
    rr, rg, rb, ra, gg = rr * whole, rg * whole, rb * whole, ra * whole, gg * whole
    gb, ga, bb, ba, aa = gb * whole, ga * whole, bb * whole, ba * whole, aa * whole
    # From the column of the widest channel on.
    widest = max(max(rr, gg), max(bb, aa))
    x, y, z, w = rr, rg, rb, ra
    x, y, z, w = (rg, gg, gb, ga) if gg == widest else (x, y, z, w)
    x, y, z, w = (rb, gb, bb, ba) if bb == widest else (x, y, z, w)
    x, y, z, w = (ra, ga, ba, aa) if aa == widest else (x, y, z, w)
    for _ in range(5):
        x, y, z, w = (
            rr * x + rg * y + rb * z + ra * w, rg * x + gg * y + gb * z + ga * w,
            rb * x + gb * y + bb * z + ba * w, ra * x + ga * y + ba * z + aa * w,
        )  # fmt: skip
    return x, y, z, w


@njit(**BARE, fastmath=FAST, inline="never")
def refit(px, masks, guarded, low, high, last, steps, line):
    """Set line to the ends that serve the steps of a subset best, by least squares; say whether there are any.

    Parameters
    ----------
    px : (4, 16) float32; low, high : the channels from `low` on and before `high` count
    masks : (2, 16) float32, what each pixel counts for in the subset, 0 where it is in another: in colour, and in the
        channel `guarded`
    last : the highest step; steps : (16,) float32, 0 to `last`
    line : (2, 4) float32, in the unit of px
    """
    part = np.float32(1.0) / last
    aa = ab = bb = det = np.float32(0.0)
    held = -1
    for c in range(low, high):
        row = 1 if c == guarded else 0
        if row != held:
            aa = ab = bb = np.float32(0.0)
            for i in range(16):
                b = steps[i] * part
                a = np.float32(1.0) - b
                aa += masks[row, i] * a * a
                ab += masks[row, i] * a * b
                bb += masks[row, i] * b * b
            det = aa * bb - ab * ab
            if det < np.float32(1e-3):
                return False
            det = np.float32(1.0) / det
            held = row
        av = bv = np.float32(0.0)
        for i in range(16):
            b = masks[row, i] * steps[i] * part
            bv += b * px[c, i]
            av += (masks[row, i] - b) * px[c, i]
        line[0, c] = (av * bb - bv * ab) * det
        line[1, c] = (bv * aa - av * ab) * det
    return True


@njit(**BARE, fastmath=FAST, inline="never")
def axis_line(px, mask, low, high, roots, apart, covariance, line):
    """Set line to the ends of a subset's colours along their principal axis, found by power iteration.

    Parameters
    ----------
    px, low, high, line : as in `refit`; mask : (16,) float32, 1 where a pixel is in the subset, else 0
    roots : (4,) float32, the root of what a squared error of each channel counts
    apart : scratch (4, 16) float32; covariance : scratch (7, 4) float32
    """
    mean, axis, turned = covariance[4], covariance[5], covariance[6]
    count = np.float32(0.0)
    for i in range(16):
        count += mask[i]
    count = np.float32(1.0) / max(count, np.float32(1.0))
    for c in range(low, high):
        total = np.float32(0.0)
        for i in range(16):
            total += mask[i] * px[c, i]
        mean[c] = total * count
        middle, root = mean[c], roots[c]
        for i in range(16):
            apart[c, i] = mask[i] * root * (px[c, i] - middle)
    widest = low
    for a in range(low, high):
        for b in range(a, high):
            total = np.float32(0.0)
            for i in range(16):
                total += apart[a, i] * apart[b, i]
            covariance[a, b] = total
            covariance[b, a] = total
        if covariance[a, a] > covariance[widest, widest]:
            widest = a
    for c in range(low, high):
        axis[c] = covariance[widest, c]
    for _ in range(4):
        longest = np.float32(0.0)
        for a in range(low, high):
            total = np.float32(0.0)
            for b in range(low, high):
                total += covariance[a, b] * axis[b]
            turned[a] = total
            longest = max(longest, abs(total))
        if longest < np.float32(1e-6):
            break
        longest = np.float32(1.0) / longest
        for a in range(low, high):
            axis[a] = turned[a] * longest
    length = np.float32(0.0)
    for c in range(low, high):
        length += axis[c] * axis[c]
    least = most = np.float32(0.0)
    if length > np.float32(1e-6):
        # Pixels of other subsets stand at the mean, which is between the ends.
        for c in range(low, high):
            share = axis[c] / length
            if c == low:
                for i in range(16):
                    apart[low, i] *= share
            else:
                for i in range(16):
                    apart[low, i] += apart[c, i] * share
        for i in range(16):
            along = apart[low, i]
            least = min(least, along)
            most = max(most, along)
    for c in range(low, high):
        line[0, c] = mean[c] + least * axis[c] / roots[c]
        line[1, c] = mean[c] + most * axis[c] / roots[c]
