"""Bettering an ASTC block that was found: its weights one by one, its ends fitted anew and then step by step.

Weights of a grid that is coarser than the block are rounded each on its own when they are found; which way they are best
rounded depends on their neighbours, since pixels lie between them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.blocks import BARE, FAST
from oaktrim.core.kernels import njit

# Ends are widened to 16 bits, laid out in 64ths, rounded and cut off at 8 bits (Khronos Data Format 1.3, clause 23.19). In
# these units all of it is exact in 32-bit floats: a pixel is floor(WIDE * first + LAST + STEP * (second - first) * weight).
WIDE, STEP, LAST = np.float32(257 / 256), np.float32(257 / 16384), np.float32(32 / 16384)
# How ends are written: as two colours, with blue contracted out of red and green where that comes nearer; as a colour and a share
# of it; as two colours, never contracted, in any order.
CONTRACTED, SCALED, DIRECT = range(3)


@njit(**BARE, fastmath=FAST)
def fit_endpoints(px, low, high, apart, texels, masks, spread, line):
    """Set line (2, 4) to the ends that serve the spread weights of one partition best; kept where they tell nothing.

    Parameters
    ----------
    px : (4, texels) float32; low, high : the channels looked at; apart : the channel that is alpha, or -1
    masks : (2 or more, texels) float32, what each pixel counts for in the partition, 0 where it is in another: in colour, and
        in alpha
    spread : (texels,) float32, the weights in 64ths
    """
    aa = ab = bb = det = np.float32(0.0)
    held = -1
    for c in range(low, high):
        row = 1 if c == apart else 0
        mask = masks[row]
        if row != held:
            held = row
            aa = ab = bb = np.float32(0.0)
            for i in range(texels):
                b = spread[i] * np.float32(1.0 / 64.0)
                a = np.float32(1.0) - b
                aa += mask[i] * a * a
                ab += mask[i] * a * b
                bb += mask[i] * b * b
            det = aa * bb - ab * ab
        if det <= np.float32(1e-3) * (aa + bb):
            mean = np.float32(0.0)
            for i in range(texels):
                mean += mask[i] * px[c, i]
            mean /= max(aa + bb + 2 * ab, np.float32(1e-6))
            line[0, c] = mean
            line[1, c] = mean
            continue
        part = np.float32(1.0) / det
        av = bv = np.float32(0.0)
        for i in range(texels):
            b = spread[i] * np.float32(1.0 / 64.0)
            v = mask[i] * px[c, i]
            bv += b * v
            av += (np.float32(1.0) - b) * v
        line[0, c] = (av * bb - bv * ab) * part
        line[1, c] = (bv * aa - av * ab) * part


@njit(**BARE, fastmath=FAST)
def decode_endpoints(codes, channels, form, values, decoded):
    """Set decoded (2, 4) to the ends that some codes stand for; say whether blue is contracted out of red and green.

    That is so where the second end would be the darker one (Khronos Data Format 1.3, clause 23.17, modes 8 and 12).
    """
    rise = np.float32(0.0)
    if channels >= 3 and form == CONTRACTED:
        for c in range(3):
            rise += values[codes[2 * c + 1]] - values[codes[2 * c]]
    contracted = rise < 0
    for c in range(channels):
        for e in range(2):
            decoded[e, c] = values[codes[2 * c + (1 - e if contracted else e)]]
    if contracted:
        for e in range(2):
            for c in range(2):
                decoded[e, c] = np.floor((decoded[e, c] + decoded[e, 2]) * np.float32(0.5))
    return contracted


@njit(**BARE)
def values_of(channels, form):
    """Return how many values the ends of one partition take."""
    return 2 * channels - (2 if form == SCALED else 0)


@njit(**BARE, fastmath=FAST)
def decode_scaled(codes, channels, values, decoded):
    """Set decoded (2, 4) to the ends of modes 6 and 10: a colour, the same made darker, and two of alpha (clause 23.14)."""
    share = values[codes[3]] * np.float32(1.0 / 256.0)
    for c in range(3):
        decoded[1, c] = values[codes[c]]
        decoded[0, c] = np.floor(values[codes[c]] * share)
    if channels == 4:
        decoded[0, 3] = values[codes[4]]
        decoded[1, 3] = values[codes[5]]


@njit(**BARE, fastmath=FAST)
def round_scaled(px, channels, texels, masks, spread, line, nearest, values, codes, decoded):
    """Round ends to a colour and a share of it that are nearest to what line (2, 4) shows of the pixels, and decode them.

    The share is taken from the line; the colour is fitted anew to it, by least squares. `spread` (texels,) holds the weights of
    colour, in 64ths.
    """
    top, half = np.float32(255.0), np.float32(0.5)
    along = length = np.float32(0.0)
    for c in range(3):
        along += line[0, c] * line[1, c]
        length += line[1, c] * line[1, c]
    share = np.float32(256.0) * min(max(along / max(length, np.float32(1.0)), np.float32(0.0)), np.float32(1.0))
    codes[3] = nearest[np.int64(min(share, top) + half)]
    share = values[codes[3]] * np.float32(1.0 / 256.0)
    square = np.float32(0.0)
    for i in range(texels):
        lit = share + (np.float32(1.0) - share) * spread[i] * np.float32(1.0 / 64.0)
        square += masks[0, i] * lit * lit
    part = np.float32(1.0) / max(square, np.float32(1e-6))
    for c in range(3):
        total = np.float32(0.0)
        for i in range(texels):
            lit = share + (np.float32(1.0) - share) * spread[i] * np.float32(1.0 / 64.0)
            total += masks[0, i] * lit * px[c, i]
        codes[c] = nearest[np.int64(min(max((total * part + half) / WIDE, np.float32(0.0)), top) + half)]
    if channels == 4:
        for e in range(2):
            codes[4 + e] = nearest[np.int64(min(max((line[e, 3] + half) / WIDE, np.float32(0.0)), top) + half)]
    decode_scaled(codes, channels, values, decoded)


@njit(**BARE, fastmath=FAST)
def round_endpoints(line, channels, form, nearest, values, codes, decoded):
    """Round ends to codes in the order of the standard and decode them, contracted where that comes nearer.

    Say whether they can be written so; where not, the ends would have to change places.
    """
    # What is cut off is half a code on average, so the ends are aimed half a code higher.
    top, half = np.float32(255.0), np.float32(0.5)
    rise = contracted_rise = direct_miss = contracted_miss = np.float32(0.0)
    for c in range(channels):
        for e in range(2):
            wanted = min(max((line[e, c] + half) / WIDE, np.float32(0.0)), top)
            code = nearest[np.int64(wanted + half)]
            codes[2 * c + e] = code
            decoded[e, c] = values[code]
            miss = values[code] - wanted
            if c < 3:
                direct_miss += miss * miss
                rise += values[code] * (np.float32(1.0) if e else np.float32(-1.0))
    if channels < 3 or form == DIRECT:
        return True
    turned = decoded[2:]
    for e in range(2):
        blue = min(max((line[e, 2] + half) / WIDE, np.float32(0.0)), top)
        blue_code = nearest[np.int64(blue + half)]
        for c in range(3):
            wanted = min(max((line[e, c] + half) / WIDE, np.float32(0.0)), top)
            code = blue_code
            shown = values[blue_code]
            if c < 2:
                apart = min(max(2 * wanted - values[blue_code], np.float32(0.0)), top)
                code = nearest[np.int64(apart + half)]
                shown = np.floor((values[code] + values[blue_code]) * np.float32(0.5))
            miss = shown - wanted
            contracted_miss += miss * miss
            contracted_rise += values[code] * (np.float32(1.0) if e else np.float32(-1.0))
            turned[e, c] = values[code]
    # The order is told by the codes as they are written, and contracted ends are written in reverse.
    can = contracted_rise > 0
    if rise >= 0 and (not can or direct_miss <= contracted_miss):
        return True
    if not can:
        return False
    for e in range(2):
        for c in range(3):
            codes[2 * c + 1 - e] = nearest[np.int64(turned[e, c] + half)]
        if channels == 4:
            codes[7 - e] = nearest[np.int64(decoded[e, 3] + half)]
    decode_endpoints(codes, channels, form, values, decoded)
    return True


@njit(**BARE, fastmath=FAST)
def part_error(px, low, high, apart, texels, masks, spread, decoded, scale):
    """Return the squared error of one partition; `scale` (4,) weighs the channels, and `masks` are as in `fit_endpoints`."""
    error = np.float32(0.0)
    for c in range(low, high):
        mask = masks[1 if c == apart else 0]
        first = decoded[0, c] * WIDE + LAST
        step = (decoded[1, c] - decoded[0, c]) * STEP
        total = np.float32(0.0)
        for i in range(texels):
            miss = np.floor(first + step * spread[i]) - px[c, i]
            total += mask[i] * miss * miss
        error += total * scale[c]
    return error


@njit(**BARE, fastmath=FAST)
def _better_weights(
    px,
    low,
    high,
    skip,
    apart,
    scale,
    counts,
    place,
    decoded,
    points,
    count,
    touched,
    share,
    nearest,
    values,
    codes,
    raw,
    spread,
):
    """Move each weight of a plane by a step where that serves the pixels it reaches; return what it saves."""
    saved = np.float32(0.0)
    last = np.float32(0.0)
    for k in range(32):
        last = max(last, np.float32(k) if values[k] > 0 else np.float32(0.0))
    gap = np.float32(64.0) / max(last, np.float32(1.0))
    for g in range(points):
        held = values[codes[g]]
        best, chosen = np.float32(-1e-3), -1
        for way in range(2):
            wanted = held + (gap if way else -gap)
            if wanted < np.float32(-0.5) or wanted > np.float32(64.5):
                continue
            code = nearest[np.int64(min(max(wanted, np.float32(0.0)), np.float32(64.0)) + np.float32(0.5))]
            if code == codes[g]:
                continue
            step = values[code] - held
            delta = np.float32(0.0)
            for t in range(count[g]):
                i = touched[g, t]
                now = np.floor((raw[i] + step * share[g, t]) * np.float32(1.0 / 16.0))
                before = spread[i]
                ends = decoded[place[i]]
                for c in range(low, high):
                    if c == skip:
                        continue
                    slope = (ends[1, c] - ends[0, c]) * STEP
                    base = ends[0, c] * WIDE + LAST
                    new = np.floor(base + slope * now) - px[c, i]
                    old = np.floor(base + slope * before) - px[c, i]
                    delta += (new * new - old * old) * scale[c] * counts[1 if c == apart else 0, i]
            if delta < best:
                best, chosen = delta, code
        if chosen >= 0:
            step = values[chosen] - held
            codes[g] = chosen
            saved -= best
            for t in range(count[g]):
                i = touched[g, t]
                raw[i] += step * share[g, t]
                spread[i] = np.floor(raw[i] * np.float32(1.0 / 16.0))
    return saved


@njit(**BARE)
def _read_endpoints(codes, channels, form, values, decoded):
    """Set decoded (2, 4) to the ends that some codes stand for; say whether blue is contracted."""
    if form == SCALED:
        decode_scaled(codes, channels, values, decoded)
        return False
    return decode_endpoints(codes, channels, form, values, decoded)


@njit(**BARE, fastmath=FAST)
def _better_endpoints(
    px, channels, form, alone, apart, scale, member, parts, spread, nearest, values, gap, codes, decoded
):
    """Move each code of the ends by a step where that serves its pixels; return what it saves."""
    texels = px.shape[1]
    saved = np.float32(0.0)
    many = values_of(channels, form)
    for p in range(parts):
        masks, ends, mine = member[p], decoded[p], codes[many * p :]
        contracted = _read_endpoints(mine, channels, form, values, ends)
        for at in range(many):
            c = at >> 1
            # A blue that is contracted moves the colours before it too.
            low = 0 if contracted and c == 2 else c
            if form == SCALED:
                c = at if at < 3 else (2 if at == 3 else 3)
                low = 0 if at == 3 else c
            before = np.float32(0.0)
            for k in range(low, c + 1):
                before += part_error(px, k, k + 1, apart, texels, masks, spread[1 if k == alone else 0], ends, scale)
            for way in range(2):
                held = mine[at]
                wanted = values[held] + (gap if way else -gap)
                code = nearest[np.int64(min(max(wanted, np.float32(0.0)), np.float32(255.0)) + np.float32(0.5))]
                if code == held:
                    continue
                mine[at] = code
                same = _read_endpoints(mine, channels, form, values, ends) == contracted
                after = np.float32(0.0)
                if same:
                    for k in range(low, c + 1):
                        after += part_error(
                            px, k, k + 1, apart, texels, masks, spread[1 if k == alone else 0], ends, scale
                        )
                if same and after < before:
                    saved += before - after
                    before = after
                else:
                    mine[at] = held
                    _read_endpoints(mine, channels, form, values, ends)
    return saved


@njit(**BARE, fastmath=FAST)
def polish(
    px,
    channels,
    form,
    alone,
    apart,
    scale,
    counts,
    place,
    parts,
    member,
    points,
    rounds,
    reach,
    infill,
    weight,
    colour,
    codes,
    ends,
    scratch,
):
    """Better a block in place; return its squared error.

    Parameters
    ----------
    px : (4, texels) float32; form : how ends are written, CONTRACTED, SCALED or DIRECT
    alone : the channel with a plane of its own, or -1; apart : the channel that is alpha, or -1
    counts : (2 or more, texels) float32, what each pixel counts for in colour and in alpha
    place : (texels,) int64; member : (parts, 2 or more, texels) float32, the masks of each partition, as in `fit_endpoints`
    reach : count (64,), texels (64, M) and shares (64, M) of the pixels that each point of the grid reaches
    infill : corners and shares (4, texels); weight, colour : nearest codes and values of their levels
    codes : (2, 64) int64, weights by plane; ends : (32,) int64 in the order of the standard
    """
    raw, spread, line, decoded, tried, tried_ends = scratch
    texels = px.shape[1]
    count, touched, share = reach
    corners, shares = infill
    nearest_weight, weight_values = weight
    nearest, values = colour
    planes = 2 if alone >= 0 else 1
    for q in range(planes):
        for i in range(texels):
            total = np.float32(8.0)
            for k in range(4):
                total += weight_values[codes[q, corners[k, i]]] * shares[k, i]
            raw[q, i] = total
            spread[q, i] = np.floor(total * np.float32(1.0 / 16.0))
    levels = np.float32(0.0)
    for k in range(values.shape[0]):
        levels += np.float32(1.0) if values[k] > 0 else np.float32(0.0)
    gap = np.float32(255.0) / max(levels, np.float32(1.0))
    many = values_of(channels, form)
    for p in range(parts):
        _read_endpoints(ends[many * p :], channels, form, values, decoded[p])
    error = block_error(px, channels, alone, apart, scale, member, parts, scratch)
    for _ in range(rounds):
        start = error
        for q in range(planes):
            low, high, skip = (alone, alone + 1, -1) if q else (0, channels, alone)
            error -= _better_weights(
                px, low, high, skip, apart, scale, counts, place, decoded, points, count, touched, share, nearest_weight,
                weight_values, codes[q], raw[q], spread[q],
            )  # fmt: skip
        now, good = np.float32(0.0), True
        for p in range(parts):
            fit_endpoints(px, 0, channels, apart, texels, member[p], spread[0], line)
            if alone >= 0:
                fit_endpoints(px, alone, alone + 1, apart, texels, member[p], spread[1], line)
            mine = tried[many * p :]
            if form == SCALED:
                round_scaled(px, channels, texels, member[p], spread[0], line, nearest, values, mine, tried_ends[p])
            else:
                good &= round_endpoints(line, channels, form, nearest, values, mine, tried_ends[p])
            for c in range(channels):
                weights = spread[1 if c == alone else 0]
                now += part_error(px, c, c + 1, apart, texels, member[p], weights, tried_ends[p], scale)
        if good and now < error:
            error = now
            for p in range(parts):
                for c in range(channels):
                    for e in range(2):
                        decoded[p, e, c] = tried_ends[p, e, c]
            for v in range(many * parts):
                ends[v] = tried[v]
        error -= _better_endpoints(
            px, channels, form, alone, apart, scale, member, parts, spread, nearest, values, gap, ends, decoded
        )  # fmt: skip
        if error > start * np.float32(0.995):
            break
    return error


@njit(**BARE, fastmath=FAST)
def block_error(px, channels, alone, apart, scale, member, parts, scratch):
    """Return the squared error of the block that stands in the scratch of `polish`."""
    _, spread, _, decoded, _, _ = scratch
    error = np.float32(0.0)
    for p in range(parts):
        for c in range(channels):
            error += part_error(
                px, c, c + 1, apart, px.shape[1], member[p], spread[1 if c == alone else 0], decoded[p], scale
            )  # fmt: skip
    return error


def polish_scratch(texels: int) -> tuple[NDArray[Any], ...]:
    """Return the scratch that `polish` works in."""
    return (
        np.zeros((2, texels), np.float32),
        np.zeros((2, texels), np.float32),
        np.zeros((2, 4), np.float32),
        np.zeros((4, 4, 4), np.float32),
        np.zeros(32, np.int64),
        np.zeros((4, 4, 4), np.float32),
    )
