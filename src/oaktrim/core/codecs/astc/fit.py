"""The search for the best ASTC block: which grid of weights, how finely kept, which partitions, which ends.

A line is fitted through the colours of each partition. Where each pixel lies along it is brought to a coarser grid by the
pseudo-inverse of the infill, rounded to the level of the weights, and spread again; the ends are then fitted by least
squares to what was spread, so that they make up for the rounding.
"""

from __future__ import annotations

import numpy as np

from oaktrim.core.codecs.astc.endpoints import (
    SCALED,
    block_error,
    fit_endpoints,
    part_error,
    polish,
    round_endpoints,
    round_scaled,
    values_of,
)
from oaktrim.core.codecs.astc.write import COLOUR, FORM, GRID, PARTS, PLANES, WEIGHT, write_block, write_solid
from oaktrim.core.codecs.blocks import (
    BARE,
    COVERS,
    FAST,
    copy_flat,
    load_block,
    set_roots,
    weigh_by_alpha,
)
from oaktrim.core.codecs.partitions import rank_partitions
from oaktrim.core.kernels import njit

_FAR = np.float32(3e38)
# Of choices for several partitions, those that missed so many times what the best one did where colours were split in the most
# promising way are not tried with other ways.
_BEHIND = np.float32(1.3)
# What an error of alpha counts where it covers and is 0 or 255, in blocks of up to 25 pixels and in larger ones: clear is to
# stay clear, and whole to stay whole. Larger blocks would lose half a dB and more to the higher price.
_EXACT, _NEARLY = np.float32(64.0), np.float32(16.0)
# Families of choices: one partition with one plane, one with two, two with one, three, four.
TWO_PLANES, TWO_PARTS = 1, 2


@njit(**BARE, fastmath=FAST)
def _look(px, covers, counts):
    """Where alpha covers, give clear pixels the mean colour of the others; return whether all is opaque, grey, one colour.

    Fills the first two of counts (3, texels) float32: what each pixel counts for in colour and in alpha; the third is 1.
    """
    texels = px.shape[1]
    price = _EXACT if texels <= 25 else _NEARLY
    opaque = grey = one = True
    seen = np.float32(0.0)
    weigh_by_alpha(px, covers, counts[0])
    for i in range(texels):
        counts[1, i] = price if covers and (px[3, i] == 0 or px[3, i] == 255) else np.float32(1.0)
        opaque &= px[3, i] == 255
        seen += np.float32(1.0) if px[3, i] > 0 else np.float32(0.0)
    if covers and not opaque and 0 < seen < texels:
        for c in range(3):
            total = np.float32(0.0)
            for i in range(texels):
                total += px[c, i] if px[3, i] > 0 else np.float32(0.0)
            for i in range(texels):
                if px[3, i] == 0:
                    px[c, i] = total / seen
    for i in range(texels):
        grey &= px[0, i] == px[1, i] and px[1, i] == px[2, i]
        for c in range(4):
            one &= px[c, i] == px[c, 0] or (covers and seen == 0 and c < 3)
    return opaque, grey, one


@njit(**BARE, fastmath=FAST)
def _line(px, channels, texels, mask, scale, line, covariance, at):
    """Lay a line through the colours of one partition: ends into line (2, 4), where each of its pixels lies into `at`.

    Parameters
    ----------
    mask : (texels,) float32, 1 where a pixel belongs to the partition
    scale : (4,) float32, what a squared error of each channel counts
    """
    mean, axis, turned, roots = covariance[4], covariance[5], covariance[6], covariance[8]
    count = np.float32(0.0)
    for i in range(texels):
        count += mask[i]
    count = max(count, np.float32(1.0))
    widest = 0
    for c in range(channels):
        total = np.float32(0.0)
        for i in range(texels):
            total += mask[i] * px[c, i]
        mean[c] = total / count
        roots[c] = np.sqrt(scale[c])
    for a in range(channels):
        for b in range(a, channels):
            total = np.float32(0.0)
            for i in range(texels):
                total += mask[i] * (px[a, i] - mean[a]) * (px[b, i] - mean[b])
            total *= roots[a] * roots[b]
            covariance[a, b] = total
            covariance[b, a] = total
        if covariance[a, a] > covariance[widest, widest]:
            widest = a
    for c in range(channels):
        axis[c] = covariance[widest, c]
    for _ in range(5):
        longest = np.float32(0.0)
        for a in range(channels):
            total = np.float32(0.0)
            for b in range(channels):
                total += covariance[a, b] * axis[b]
            turned[a] = total
            longest = max(longest, abs(total))
        if longest < np.float32(1e-6):
            break
        for a in range(channels):
            axis[a] = turned[a] / longest
    # The second end is the brighter one, as the standard orders them.
    total = np.float32(0.0)
    length = np.float32(0.0)
    for c in range(channels):
        total += axis[c] / roots[c] if c < 3 else np.float32(0.0)
        length += axis[c] * axis[c]
    if total < 0:
        for c in range(channels):
            axis[c] = -axis[c]
    length = np.float32(1.0) / max(length, np.float32(1e-6))
    along = covariance[7]
    for i in range(texels):
        along[i] = np.float32(0.0)
    for c in range(channels):
        step, middle = axis[c] * length * roots[c], mean[c]
        for i in range(texels):
            along[i] += (px[c, i] - middle) * step
    # Pixels of other partitions stand at the mean, which is between the ends.
    least = most = np.float32(0.0)
    for i in range(texels):
        t = along[i] * mask[i]
        least = min(least, t)
        most = max(most, t)
    span = np.float32(1.0) / max(most - least, np.float32(1e-6))
    for i in range(texels):
        at[i] = (along[i] - least) * span if mask[i] > 0 else at[i]
    for c in range(channels):
        line[0, c] = mean[c] + least * axis[c] / roots[c]
        line[1, c] = mean[c] + most * axis[c] / roots[c]


@njit(**BARE, fastmath=FAST)
def _round_weight(share, rounded):
    """Return the weight of a level, in 64ths, that is nearest to a share; `rounded` (65,) holds that of each 64th."""
    return rounded[np.int64(min(max(share, np.float32(0.0)), np.float32(1.0)) * np.float32(64.0) + np.float32(0.5))]


@njit(**BARE, fastmath=FAST)
def _to_grid(at, texels, points, inverse, corners, shares, rounded, weights, spread):
    """Bring where pixels lie to a grid and back: weights (points,) and spread (texels,), in 64ths.

    Parameters
    ----------
    at : (texels or more,) float32, with zeros up to a whole four
    inverse : (texels or more, 64) float32; corners, shares : (4, texels), float32 in 16ths
    rounded : (65,) as in `_round_weight`
    """
    if points == texels:
        for i in range(texels):
            weight = _round_weight(at[i], rounded)
            weights[i] = weight
            spread[i] = weight
        return
    for g in range(64):
        weights[g] = np.float32(0.0)
    for i in range(0, texels, 4):
        first, second, third, fourth = at[i], at[i + 1], at[i + 2], at[i + 3]
        for g in range(points):
            weights[g] += (
                first * inverse[i, g]
                + second * inverse[i + 1, g]
                + third * inverse[i + 2, g]
                + fourth * inverse[i + 3, g]
            )
    for g in range(points):
        weights[g] = _round_weight(weights[g], rounded)
    for i in range(texels):
        total = np.float32(8.0)
        for k in range(4):
            total += weights[corners[k, i]] * shares[k, i]
        spread[i] = np.floor(total * np.float32(1.0 / 16.0))


@njit(**BARE, fastmath=FAST)
def _project(px, channels, texels, place, scale, decoded, at):
    """Say of each pixel where it lies between the rounded ends of its partition, decoded (4, 2, 4)."""
    for i in range(texels):
        ends = decoded[place[i]]
        along = length = np.float32(0.0)
        for c in range(channels):
            d = ends[1, c] - ends[0, c]
            along += (px[c, i] - ends[0, c]) * d * scale[c]
            length += d * d * scale[c]
        at[i] = along / max(length, np.float32(1e-6))


@njit(**BARE)
def _part(place, parts, counts, member):
    """Fill member (4, 3, texels) with what each pixel counts for in the partitions that place (texels,) gives them."""
    for p in range(parts):
        for k in range(3):
            for i in range(place.shape[0]):
                member[p, k, i] = counts[k, i] if place[i] == p else np.float32(0.0)


@njit(**BARE)
def encode_rows(pixels, wide, high, plan, params, tables, start, stop, out, block_errors, scratch):
    """Encode block rows [start, stop) of pixels (H, W, 4) uint8 into `out` (rows, columns, 16) uint8; `block_errors` their errors.

    Parameters
    ----------
    plan : (5, 8) int64, as from `astcchoices.plan_of`
    params : (5,) float32, as from `metric_params`
    tables, scratch : of `encode.encoding_tables` and `encode.scratch`
    """
    choices, grids, inverses, corners, shares, nearest_weight, weight_values, rounded, nearest_colour, colour_values, \
        parted, masks, seeds, split, packed_trits, packed_quints, reached, reach, reach_shares = tables  # fmt: skip
    texels = wide * high
    (px, shown, at, own, spread), (whole, member, counts), (covariance, line, decoded, scale, roots), \
        (weights, codes, best_weights, best_codes, best_ends, sent, firsts), bench, (flattened, ranking, order), \
        (words, turned) = scratch  # fmt: skip
    rounds, enough = plan[4, 0], np.float32(plan[4, 1]) * np.float32(0.01 * texels)
    for by in range(start, stop):
        for bx in range(out.shape[1]):
            load_block(pixels, bx, by, wide, high, 4, px)
            opaque, grey, one = _look(px, params[COVERS] > 0, counts)
            if one:
                write_solid(px[:, 0], words, out[by, bx])
                block_errors[by, bx] = np.float32(0.0)
                continue
            if grey and choices[1, 0, 0, PARTS] == 0:
                # Grey comes with alpha only.
                opaque = False
            kindred = (0 if opaque else 2) + (1 if grey else 0)
            # Grey blocks are fitted on one channel, which counts for three.
            channels = (3, 1, 4, 2)[kindred]
            kind = (8, 0, 12, 4)[kindred]
            copy_flat(px, shown)
            set_roots(px, params, roots)
            if grey:
                roots[0] = np.sqrt(np.float32(3.0))
                roots[1] = np.float32(1.0)
                copy_flat(px[3], shown[1])
            for c in range(4):
                scale[c] = roots[c] * roots[c]
            best = _FAR
            best_choice, best_parted, best_channel = 0, -1, 0
            for family in range(5):
                tries, ways = plan[kindred, family], 1
                if best <= enough or tries == 0 or choices[kindred, family, 0, PARTS] == 0:
                    continue
                # More partitions are worth a look only where fewer have just been better than one.
                if family > TWO_PARTS and best_choice // 64 != family - 1:
                    continue
                parts = max(1, family)
                if family == TWO_PLANES:
                    ways = channels if channels > 1 else 0
                elif family >= TWO_PARTS:
                    ways = rank_partitions(
                        shown,
                        channels,
                        roots,
                        masks[family - 2],
                        plan[kindred, 3 + family],
                        flattened,
                        ranking[family - 2],
                        order,
                    )
                behind = _FAR
                for way in range(ways):
                    place = parted[family - 2][order[way]] if family >= TWO_PARTS else whole
                    _part(place, parts, counts, member)
                    alone = way if family == TWO_PLANES else -1
                    # Alpha stands alone most often; of a grey block nothing else can.
                    if family == TWO_PLANES and not opaque and way != channels - 1 and (grey or rounds < 2):
                        continue
                    if alone >= 0:
                        # The channel that stands alone is taken out of the line's way, to the end.
                        for i in range(texels):
                            own[0, i] = shown[alone, i]
                            shown[alone, i], shown[channels - 1, i] = shown[channels - 1, i], shown[alone, i]
                        scale[alone], scale[channels - 1] = scale[channels - 1], scale[alone]
                    width = channels - 1 if alone >= 0 else channels
                    apart = -1 if opaque else channels - 1
                    apart = alone if alone >= 0 and not opaque else apart
                    for p in range(parts):
                        _line(shown, width, texels, member[p, 2], scale, line[p], covariance, at[0])
                    if alone >= 0:
                        low, top = own[0, 0], own[0, 0]
                        for i in range(texels):
                            low, top = min(low, own[0, i]), max(top, own[0, i])
                        for i in range(texels):
                            at[1, i] = (own[0, i] - low) / max(top - low, np.float32(1.0))
                    for k in range(tries):
                        choice = choices[kindred, family, k]
                        if choice[PARTS] == 0:
                            break
                        if way > 0 and family >= TWO_PARTS and firsts[k] > behind:
                            continue
                        form = choice[FORM]
                        if form == SCALED and alone >= 0 and alone != 3:
                            continue
                        grid, level, fine = choice[GRID], choice[WEIGHT], choice[COLOUR]
                        many = values_of(channels, form)
                        points = grids[grid, 0] * grids[grid, 1]
                        for turn in range(rounds):
                            if turn > 0:
                                _project(shown, width, texels, place, scale, decoded, own[1])
                            _to_grid(
                                at[0] if turn == 0 else own[1], texels, points, inverses[grid], corners[grid], shares[grid],
                                rounded[level], weights[0], spread[0],
                            )  # fmt: skip
                            if alone >= 0 and turn == 0:
                                _to_grid(
                                    at[1], texels, points, inverses[grid], corners[grid], shares[grid],
                                    rounded[level], weights[1], spread[1],
                                )  # fmt: skip
                            error = np.float32(0.0)
                            good = True
                            for p in range(parts):
                                if way > 0 and turn == rounds - 1 and error >= best:
                                    break
                                fit_endpoints(shown, 0, width, apart, texels, member[p], spread[0], line[p])
                                if alone >= 0:
                                    fit_endpoints(shown, width, channels, apart, texels, member[p], spread[1], line[p])
                                    for e in range(2):
                                        held = line[p, e, alone]
                                        line[p, e, alone] = line[p, e, channels - 1]
                                        line[p, e, channels - 1] = held
                                mine, near, values = codes[many * p :], nearest_colour[fine], colour_values[fine]
                                if form == SCALED:
                                    round_scaled(
                                        shown,
                                        channels,
                                        texels,
                                        member[p],
                                        spread[0],
                                        line[p],
                                        near,
                                        values,
                                        mine,
                                        decoded[p],
                                    )
                                else:
                                    good &= round_endpoints(line[p], channels, form, near, values, mine, decoded[p])
                                if alone >= 0:
                                    for e in range(2):
                                        held = decoded[p, e, alone]
                                        decoded[p, e, alone] = decoded[p, e, channels - 1]
                                        decoded[p, e, channels - 1] = held
                                error += part_error(
                                    shown, 0, width, apart, texels, member[p], spread[0], decoded[p], scale
                                )  # fmt: skip
                                if alone >= 0:
                                    error += part_error(
                                        shown, width, channels, apart, texels, member[p], spread[1], decoded[p], scale
                                    )
                            if not good and parts == 1:
                                # One partition may exchange its ends and turn its weights round.
                                for c in range(channels):
                                    codes[2 * c], codes[2 * c + 1] = codes[2 * c + 1], codes[2 * c]
                                for plane in range(2 if alone >= 0 else 1):
                                    for g in range(points):
                                        weights[plane, g] = np.float32(64.0) - weights[plane, g]
                                good = True
                            if way == 0:
                                firsts[k] = error if turn == 0 else min(firsts[k], error)
                                behind = min(behind, firsts[k] * _BEHIND)
                            if good and error < best:
                                best = error
                                best_choice, best_channel = family * 64 + k, alone
                                best_parted = order[way] if family >= TWO_PARTS else -1
                                for g in range(points):
                                    best_weights[0, g] = weights[0, g]
                                    best_weights[1, g] = weights[1, g]
                                for v in range(many * parts):
                                    best_ends[v] = codes[v]
                    if alone >= 0:
                        for i in range(texels):
                            shown[alone, i], shown[channels - 1, i] = shown[channels - 1, i], shown[alone, i]
                        scale[alone], scale[channels - 1] = scale[channels - 1], scale[alone]
            choice = choices[kindred, best_choice // 64, best_choice % 64]
            grid, level, fine, parts = choice[GRID], choice[WEIGHT], choice[COLOUR], choice[PARTS]
            points = grids[grid, 0] * grids[grid, 1]
            place = parted[parts - 2][best_parted] if best_parted >= 0 else whole
            _part(place, parts, counts, member)
            for plane in range(2):
                for g in range(points):
                    best_codes[plane, g] = nearest_weight[level, np.int64(best_weights[plane, g])]
            apart = -1 if opaque else channels - 1
            error = polish(
                shown, channels, choice[FORM], best_channel, apart, scale, counts, place, parts, member, points, plan[4, 3],
                (reached[grid], reach[grid], reach_shares[grid]), (corners[grid], shares[grid]),
                (nearest_weight[level], weight_values[level]), (nearest_colour[fine], colour_values[fine]),
                best_codes, best_ends, bench,
            )  # fmt: skip
            if apart >= 0:
                # It is told as it stands, whatever the search made of it.
                for i in range(texels):
                    counts[1, i] = np.float32(1.0)
                _part(place, parts, counts, member)
                error = block_error(shown, channels, best_channel, apart, scale, member, parts, bench)
            block_errors[by, bx] = error
            for g in range(points):
                if choice[PLANES] == 2:
                    sent[2 * g] = best_codes[0, g]
                    sent[2 * g + 1] = best_codes[1, g]
                else:
                    sent[g] = best_codes[0, g]
            channel = 3 if grey and best_channel == 1 else best_channel
            seed = seeds[parts - 2][best_parted] if best_parted >= 0 else -1
            write_block(
                choice, points, kind, seed, channel, sent, best_ends, split, packed_trits, packed_quints,
                words, turned, out[by, bx],
            )  # fmt: skip
