"""Finding the two ends of a BC1 colour block: principal axis, least squares, and a walk by single codes.

Kernels work on a block px (4, 16) float32: red, green, blue and a weight; ends are six codes of 5, 6 and 5 bits. Colours are
0..255 times `roots` (2, 4), the roots of what an error of each channel counts, so that distances count as they should; its
second row holds one over them.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.kernels import njit

# Squared errors are whole numbers below 2**24, so a block's sum is exact enough in float32.
FAR = np.float32(1e9)
# Sixteen times a variance: the colours of such a block lie within a few codes of each other.
_CLOSE = np.float32(16.0 * 48.0)


@njit(**BARE, fastmath=FAST)
def palette_of(ends, three, roots, palette):
    """Fill `palette` (3, 4) float32 with the colours of six end codes (r0, g0, b0, r1, g1, b1) in 5, 6, 5 bits, times roots."""
    for c in range(3):
        a, b = ends[c], ends[3 + c]
        if c == 1:
            a, b = (a << 2) | (a >> 4), (b << 2) | (b >> 4)
        else:
            a, b = (a << 3) | (a >> 2), (b << 3) | (b >> 2)
        root = roots[0, c]
        palette[c, 0] = np.float32(a) * root
        palette[c, 1] = np.float32(b) * root
        if three:
            palette[c, 2] = np.float32((a + b + 1) // 2) * root
            palette[c, 3] = palette[c, 2]
        else:
            palette[c, 2] = np.float32((2 * a + b + 1) // 3) * root
            palette[c, 3] = np.float32((a + 2 * b + 1) // 3) * root


@njit(**BARE, fastmath=FAST, inline="never")
def _cost(px, ends, three, roots, palette):
    """Return the squared error of a block px (4, 16) float32 (R, G, B, weight) with the best step for each pixel."""
    palette_of(ends, three, roots, palette)
    r0, g0, b0 = palette[0, 0], palette[1, 0], palette[2, 0]
    r1, g1, b1 = palette[0, 1], palette[1, 1], palette[2, 1]
    r2, g2, b2 = palette[0, 2], palette[1, 2], palette[2, 2]
    r3, g3, b3 = palette[0, 3], palette[1, 3], palette[2, 3]
    total = np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        d0 = (r - r0) * (r - r0) + (g - g0) * (g - g0) + (b - b0) * (b - b0)
        d1 = (r - r1) * (r - r1) + (g - g1) * (g - g1) + (b - b1) * (b - b1)
        d2 = (r - r2) * (r - r2) + (g - g2) * (g - g2) + (b - b2) * (b - b2)
        d3 = (r - r3) * (r - r3) + (g - g3) * (g - g3) + (b - b3) * (b - b3)
        total += px[3, i] * min(min(d0, d1), min(d2, d3))
    return total


@njit(**BARE, fastmath=FAST, inline="never")
def _refit(px, palette, three, roots, ends):
    """Set `ends` to the least-squares ends for the steps that `palette` chooses; return False where they are undefined."""
    r0, g0, b0 = palette[0, 0], palette[1, 0], palette[2, 0]
    r1, g1, b1 = palette[0, 1], palette[1, 1], palette[2, 1]
    r2, g2, b2 = palette[0, 2], palette[1, 2], palette[2, 2]
    r3, g3, b3 = palette[0, 3], palette[1, 3], palette[2, 3]
    s2 = np.float32(0.5) if three else np.float32(1.0 / 3.0)
    s3 = np.float32(0.5) if three else np.float32(2.0 / 3.0)
    aa = ab = bb = ar = ag = ac = br = bg = bc = np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        d0 = (r - r0) * (r - r0) + (g - g0) * (g - g0) + (b - b0) * (b - b0)
        d1 = (r - r1) * (r - r1) + (g - g1) * (g - g1) + (b - b1) * (b - b1)
        d2 = (r - r2) * (r - r2) + (g - g2) * (g - g2) + (b - b2) * (b - b2)
        d3 = (r - r3) * (r - r3) + (g - g3) * (g - g3) + (b - b3) * (b - b3)
        near = min(d0, d1)
        s = np.float32(1.0) if d1 < d0 else np.float32(0.0)
        s = s2 if d2 < near else s
        near = min(near, d2)
        s = s3 if d3 < near else s
        w = px[3, i]
        a = (np.float32(1.0) - s) * w
        t = s * w
        aa += a * (np.float32(1.0) - s)
        ab += a * s
        bb += t * s
        ar += a * r
        ag += a * g
        ac += a * b
        br += t * r
        bg += t * g
        bc += t * b
    det = aa * bb - ab * ab
    if det < np.float32(1e-3):
        return False
    inv = np.float32(1.0) / det
    _quantise((ar * bb - br * ab) * inv, (ag * bb - bg * ab) * inv, (ac * bb - bc * ab) * inv, roots, ends, 0)
    _quantise((br * aa - ar * ab) * inv, (bg * aa - ag * ab) * inv, (bc * aa - ac * ab) * inv, roots, ends, 3)
    return True


@njit(**BARE, fastmath=FAST)
def _quantise(r, g, b, roots, ends, at):
    """Write a colour (0..255 times roots) as codes of 5, 6 and 5 bits into `ends` from `at` on, to the nearest code."""
    ends[at] = _code(r * roots[1, 0], np.float32(31.0))
    ends[at + 1] = _code(g * roots[1, 1], np.float32(63.0))
    ends[at + 2] = _code(b * roots[1, 2], np.float32(31.0))


@njit(**BARE, fastmath=FAST)
def _code(value, top):
    return np.int32(min(max(value * (top / np.float32(255.0)) + np.float32(0.5), np.float32(0.0)), top))


@njit(**BARE, fastmath=FAST, inline="never")
def _axis_endpoints(px, inset, roots, ends):
    """Set `ends` to the extremes of the colours along their principal axis, drawn in by `inset` of the length."""
    n = mr = mg = mb = np.float32(0.0)
    for i in range(16):
        w = px[3, i]
        n += w
        mr += w * px[0, i]
        mg += w * px[1, i]
        mb += w * px[2, i]
    inv = np.float32(1.0) / max(n, np.float32(1e-6))
    mr *= inv
    mg *= inv
    mb *= inv
    rr = rg = rb = gg = gb = bb = np.float32(0.0)
    for i in range(16):
        w = px[3, i]
        r, g, b = px[0, i] - mr, px[1, i] - mg, px[2, i] - mb
        rr += w * r * r
        rg += w * r * g
        rb += w * r * b
        gg += w * g * g
        gb += w * g * b
        bb += w * b * b
    # Begin on the row of the channel that varies most: it is never at right angles to the axis sought.
    if rr >= gg and rr >= bb:
        x, y, z = rr, rg, rb
    elif gg >= bb:
        x, y, z = rg, gg, gb
    else:
        x, y, z = rb, gb, bb
    for _ in range(4):
        u = rr * x + rg * y + rb * z
        v = rg * x + gg * y + gb * z
        w = rb * x + gb * y + bb * z
        longest = max(abs(u), max(abs(v), abs(w)))
        if longest < np.float32(1e-6):
            break
        scale = np.float32(1.0) / longest
        x, y, z = u * scale, v * scale, w * scale
    square = x * x + y * y + z * z
    if square < np.float32(1e-12):
        x, y, z, square = np.float32(1.0), np.float32(1.0), np.float32(1.0), np.float32(3.0)
    low, high = FAR, -FAR
    for i in range(16):
        t = (px[0, i] - mr) * x + (px[1, i] - mg) * y + (px[2, i] - mb) * z
        counts = px[3, i] > 0
        low = min(low, t if counts else FAR)
        high = max(high, t if counts else -FAR)
    pull = (high - low) * inset
    low, high = (low + pull) / square, (high - pull) / square
    _quantise(mr + x * high, mg + y * high, mb + z * high, roots, ends, 0)
    _quantise(mr + x * low, mg + y * low, mb + z * low, roots, ends, 3)


@njit(**BARE)
def _copy(source, target):
    # A slice assignment checks for overlap each time, which costs more than these six moves.
    for k in range(6):
        target[k] = source[k]


@njit(**BARE, fastmath=FAST)
def draft_endpoints(px, roots, ends, trial, palette):
    """Set `ends` in one straight run: principal axis, steps by projection, one refit; return the variance times 16.

    Weights are not looked at. Where the colours lie closer than the codes, ends rounded away from each other are
    tried too: their steps between fall where no code does.
    """
    sr = sg = sb = rr = rg = rb = gg = gb = bb = np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        sr += r
        sg += g
        sb += b
        rr += r * r
        rg += r * g
        rb += r * b
        gg += g * g
        gb += g * b
        bb += b * b
    n = np.float32(1.0 / 16.0)
    mr, mg, mb = sr * n, sg * n, sb * n
    rr -= sr * mr
    rg -= sr * mg
    rb -= sr * mb
    gg -= sg * mg
    gb -= sg * mb
    bb -= sb * mb
    spread = rr + gg + bb
    if spread == 0:
        return spread
    if rr >= gg and rr >= bb:
        x, y, z = rr, rg, rb
    elif gg >= bb:
        x, y, z = rg, gg, gb
    else:
        x, y, z = rb, gb, bb
    for _ in range(2):
        u = rr * x + rg * y + rb * z
        v = rg * x + gg * y + gb * z
        w = rb * x + gb * y + bb * z
        scale = np.float32(1.0) / (abs(u) + abs(v) + abs(w) + np.float32(1e-6))
        x, y, z = u * scale, v * scale, w * scale
    low, high = FAR, -FAR
    for i in range(16):
        t = px[0, i] * x + px[1, i] * y + px[2, i] * z
        low = min(low, t)
        high = max(high, t)
    pull = (high - low) * np.float32(1.0 / 16.0)
    middle = mr * x + mg * y + mb * z
    inv = np.float32(1.0) / (x * x + y * y + z * z + np.float32(1e-12))
    top, bottom = (high - pull - middle) * inv, (low + pull - middle) * inv
    r0, g0, b0 = mr + x * top, mg + y * top, mb + z * top
    r1, g1, b1 = mr + x * bottom, mg + y * bottom, mb + z * bottom
    dr, dg, db = r1 - r0, g1 - g0, b1 - b0
    scale = np.float32(3.0) / (dr * dr + dg * dg + db * db + np.float32(1e-6))
    dr, dg, db = dr * scale, dg * scale, db * scale
    start = np.float32(0.5) - (r0 * dr + g0 * dg + b0 * db)
    s1 = s2 = br = bg = bc = np.float32(0.0)
    for i in range(16):
        r, g, b = px[0, i], px[1, i], px[2, i]
        t = np.floor(min(max(r * dr + g * dg + b * db + start, np.float32(0.0)), np.float32(3.0)))
        s1 += t
        s2 += t * t
        br += t * r
        bg += t * g
        bc += t * b
    third = np.float32(1.0 / 3.0)
    s1, s2, br, bg, bc = s1 * third, s2 * third * third, br * third, bg * third, bc * third
    aa, ab = np.float32(16.0) - s1 - s1 + s2, s1 - s2
    det = aa * s2 - ab * ab
    if det >= np.float32(1e-3):
        inv = np.float32(1.0) / det
        r0, g0, b0, r1, g1, b1 = (
            ((sr - br) * s2 - br * ab) * inv,
            ((sg - bg) * s2 - bg * ab) * inv,
            ((sb - bc) * s2 - bc * ab) * inv,
            (br * aa - (sr - br) * ab) * inv,
            (bg * aa - (sg - bg) * ab) * inv,
            (bc * aa - (sb - bc) * ab) * inv,
        )
    _quantise(r0, g0, b0, roots, ends, 0)
    _quantise(r1, g1, b1, roots, ends, 3)
    if spread < _CLOSE:
        # Half a code further out than the nearest code is the next code out.
        half, fine = np.float32(255.0 / 62.0), np.float32(255.0 / 126.0)
        sr, sg, sb = (half if r0 > r1 else -half), (fine if g0 > g1 else -fine), (half if b0 > b1 else -half)
        _quantise(r0 + sr, g0 + sg, b0 + sb, roots, trial, 0)
        _quantise(r1 - sr, g1 - sg, b1 - sb, roots, trial, 3)
        if _cost(px, trial, False, roots, palette) < _cost(px, ends, False, roots, palette):
            _copy(trial, ends)
    return spread


@njit(**BARE, inline="never")
def _descend(px, three, roots, ends, trial, palette, best, refits, moves, count, walks):
    """Better `ends`, whose cost is `best`, by at most `refits` refits, then by walking; return the cost.

    A walk tries the first `count` of the moves (M, 6) in turn and keeps what gains; it ends after `walks` rounds or when none does.
    """
    step, gained = 0, False
    while best > 0:
        if step < refits:
            if not _refit(px, palette, three, roots, trial):
                step = refits
                continue
        else:
            move = (step - refits) % count
            if move == 0:
                if (step > refits and not gained) or step - refits >= walks * count:
                    break
                gained = False
            inside = True
            for k in range(6):
                trial[k] = ends[k] + moves[move, k]
                inside &= 0 <= trial[k] <= (63 if k % 3 == 1 else 31)
            if not inside:
                step += 1
                continue
        cost = _cost(px, trial, three, roots, palette)
        if cost < best:
            best = cost
            gained = True
            _copy(trial, ends)
            step += 1
        else:
            step = max(step + 1, refits)
    return best


@njit(**BARE, inline="never")
def search_endpoints(px, effort, may_three, must_three, moves, roots, best_ends, ends, trial, palette):
    """Fill `best_ends` and return (three-step mode, cost) for a block whose weights are not all zero."""
    best = FAR
    best_three = must_three
    starts = 4 if effort == 2 else 1
    modes = 2 if effort > 0 and may_three and not must_three else 1
    used = moves.shape[0] if effort == 2 else 12
    for attempt in range(starts * modes + 1):
        if attempt < starts * modes:
            three = must_three or attempt >= starts
            start = attempt % starts
            inset = np.float32(1.0) if starts == 1 or start == 3 else np.float32(0.5) * np.float32(start)
            _axis_endpoints(px, inset * np.float32(1.0 / 16.0), roots, ends)
            cost = _cost(px, ends, three, roots, palette)
            refits, walks = 3 * effort - 1, 0
        else:
            three, cost = best_three, best
            _copy(best_ends, ends)
            refits, walks = 0, 4 * effort - 2
        cost = _descend(px, three, roots, ends, trial, palette, cost, refits, moves, used, walks)
        if attempt >= starts * modes or cost < best:
            best = cost
            best_three = three
            _copy(ends, best_ends)
        if best == 0:
            break
    return best_three, best


@cache
def walk_moves() -> NDArray[np.int32]:
    """Return the moves of the walk, shape (M, 6): each end code by one first, then pairs of codes."""
    single = [(k, s) for k in range(6) for s in (1, -1)]
    rows = []
    for k, s in single:
        row = [0] * 6
        row[k] = s
        rows.append(row)
    for c in range(3):
        for s0 in (1, -1):
            for s1 in (1, -1):
                row = [0] * 6
                row[c], row[3 + c] = s0, s1
                rows.append(row)
    for end in (0, 3):
        for s in (1, -1):
            for others in ((1, 1, 0), (1, 0, 1), (0, 1, 1), (1, 1, 1), (1, -1, 0), (0, 1, -1), (1, 0, -1)):
                row = [0] * 6
                row[end : end + 3] = [s * o for o in others]
                rows.append(row)
    return np.array(rows, np.int32)
