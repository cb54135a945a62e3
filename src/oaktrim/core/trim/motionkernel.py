"""Keys that a curve needs, curves at times, and how far two movements of a hierarchy are apart; see `motion`."""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.kernels import njit

_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
# How a track goes from key to key.
LINEAR, TURN, STEP, CUBIC, CUBIC_TURN = 0, 1, 2, 3, 4


@njit(**_KERNEL)
def _between(one, other, part, turn, out):
    """Fill out (W,) with what lies between two keys: on a line, or for a rotation on the short way round."""
    width = len(one)
    if not turn:
        for k in range(width):
            out[k] = one[k] * (1 - part) + other[k] * part
        return
    along = 0.0
    for k in range(4):
        along += one[k] * other[k]
    sign = 1.0
    if along < 0:
        sign, along = -1.0, -along
    first, second = 1 - part, part * sign
    if along < 0.9995:
        angle = np.arccos(along)
        first, second = np.sin((1 - part) * angle) / np.sin(angle), sign * np.sin(part * angle) / np.sin(angle)
    size = 0.0
    for k in range(4):
        out[k] = one[k] * first + other[k] * second
        size += out[k] * out[k]
    size = np.sqrt(size)
    if size > 0:
        for k in range(4):
            out[k] /= size


@njit(**_KERNEL)
def _farthest(times, values, first, last, turn):
    """Return the key between two others that is farthest off what lies between these, and by how much; -1 where none is off."""
    span = times[last] - times[first]
    worst, at, width = 0.0, -1, values.shape[1]
    angle = sign = 0.0
    if turn:
        along = 0.0
        for k in range(4):
            along += values[first, k] * values[last, k]
        sign = -1.0 if along < 0 else 1.0
        angle = np.arccos(min(1.0, abs(along)))
    arc = angle > 0.03
    sine = np.sin(angle) if arc else 1.0
    for key in range(first + 1, last):
        part = (times[key] - times[first]) / span if span > 0 else 0.0
        one, other = 1 - part, part
        if turn:
            if arc:
                one, other = np.sin((1 - part) * angle) / sine, np.sin(part * angle) / sine
            other *= sign
        plain = turned = 0.0
        for k in range(width):
            between = values[first, k] * one + values[last, k] * other
            plain += (values[key, k] - between) ** 2
            turned += (values[key, k] + between) ** 2
        off = min(plain, turned) if turn else plain
        if off > worst:
            worst, at = off, key
    # A chord of the sphere of quaternions, which stands for each rotation twice.
    return at, 4 * np.arcsin(min(1.0, np.sqrt(worst) / 2)) if turn else np.sqrt(worst)


@njit(**_KERNEL)
def weigh_keys(times, values, turn, least, weight):
    """Fill weight (K,) float64: a key is needed where the tolerance is under its weight; the first and last always.

    Splits where what is left out would be farthest off (Ramer, 1972; Douglas and Peucker, 1973). Where it splits does not depend on
    the tolerance, so one pass serves them all: a key weighs what it is off, but no more than those before it.

    Parameters
    ----------
    turn : values are unit quaternions; least : what is off by no more weighs nothing
    """
    count = len(times)
    weight[:] = 0.0
    weight[0] = weight[count - 1] = np.inf
    firsts, lasts, limits = np.empty(count + 1, np.int64), np.empty(count + 1, np.int64), np.empty(count + 1)
    firsts[0], lasts[0], limits[0] = 0, count - 1, np.inf
    waiting = 1
    while waiting:
        waiting -= 1
        first, last, limit = firsts[waiting], lasts[waiting], limits[waiting]
        at, worst = _farthest(times, values, first, last, turn)
        if at < 0 or worst <= least:
            continue
        limit = min(limit, worst)
        weight[at] = limit
        if at - first > 1:
            firsts[waiting], lasts[waiting], limits[waiting] = first, at, limit
            waiting += 1
        if last - at > 1:
            firsts[waiting], lasts[waiting], limits[waiting] = at, last, limit
            waiting += 1


@njit(**_KERNEL)
def sample(times, values, kind, at, out):
    """Fill out (T, W) with a track at ascending times: `values` (K, W), or (K, 3 W) with tangents before and after each key.

    glTF 2.0, appendix C; before the first key and after the last these stay.
    """
    count, width = len(times), out.shape[1]
    shift = width if kind >= CUBIC else 0
    turn = kind in (TURN, CUBIC_TURN)
    key = 0
    for place in range(len(at)):
        now = at[place]
        while key + 1 < count and times[key + 1] <= now:
            key += 1
        last = key + 1 >= count
        span = 0.0 if last else times[key + 1] - times[key]
        if last or now <= times[key] or span <= 0 or kind == STEP:
            for k in range(width):
                out[place, k] = values[key, shift + k]
        elif kind >= CUBIC:
            part = (now - times[key]) / span
            p2, p3 = part * part, part * part * part
            for k in range(width):
                out[place, k] = (
                    (2 * p3 - 3 * p2 + 1) * values[key, width + k]
                    + span * (p3 - 2 * p2 + part) * values[key, 2 * width + k]
                    + (-2 * p3 + 3 * p2) * values[key + 1, width + k]
                    + span * (p3 - p2) * values[key + 1, k]
                )
        else:
            _between(values[key], values[key + 1], (now - times[key]) / span, turn, out[place])
        if turn:
            size = 0.0
            for k in range(width):
                size += out[place, k] ** 2
            size = np.sqrt(size)
            if size > 0:
                for k in range(width):
                    out[place, k] /= size


@njit(**_KERNEL)
def placements_at(move, turn, scale, out):
    """Fill out (T, 3, 4) with the matrices of translations (T, 3), rotations (T, 4) and scales (T, 3)."""
    for t in range(len(out)):
        x, y, z, w = turn[t]
        for axis in range(3):
            s = scale[t, axis]
            if axis == 0:
                a, b, c = 1 - 2 * (y * y + z * z), 2 * (x * y + z * w), 2 * (x * z - y * w)
            elif axis == 1:
                a, b, c = 2 * (x * y - z * w), 1 - 2 * (x * x + z * z), 2 * (y * z + x * w)
            else:
                a, b, c = 2 * (x * z + y * w), 2 * (y * z - x * w), 1 - 2 * (x * x + y * y)
            out[t, 0, axis], out[t, 1, axis], out[t, 2, axis] = a * s, b * s, c * s
        out[t, 0, 3], out[t, 1, 3], out[t, 2, 3] = move[t, 0], move[t, 1], move[t, 2]


@njit(**_KERNEL)
def _times(above, local, out):
    for i in range(3):
        for j in range(4):
            out[i, j] = above[i, 0] * local[0, j] + above[i, 1] * local[1, j] + above[i, 2] * local[2, j]
        out[i, 3] += above[i, 3]


@njit(**_KERNEL)
def _turned_apart(one, other):
    """Return the angle between two frames whose axes are brought to unit length, radians."""
    total = 0.0
    for axis in range(3):
        a = np.sqrt(one[0, axis] ** 2 + one[1, axis] ** 2 + one[2, axis] ** 2)
        b = np.sqrt(other[0, axis] ** 2 + other[1, axis] ** 2 + other[2, axis] ** 2)
        if a > 0 and b > 0:
            for row in range(3):
                total += (one[row, axis] / a - other[row, axis] / b) ** 2
    # The Frobenius norm of the difference of two rotations is 2 sqrt(2) sin(angle / 2).
    return 2 * np.arcsin(min(1.0, np.sqrt(total / 8)))


@njit(**_KERNEL)
def movement_apart(parent, moved, above, still, before, after, first, probes, start, stop, distance, angle, worst):
    """Compare two movements of a hierarchy at times start to stop.

    Parameters
    ----------
    parent : of each node, -1 where what is above does not move, (N,); parents stand first
    moved : place of each node's movement, -1 where it keeps `still`, (N,)
    above : of nodes without a parent, what they hang on, (N, 3, 4); still : matrices to the parent, (N, 3, 4)
    before, after : matrices to the parent of moved nodes, (M, T, 3, 4)
    first : where each node's probes begin, (N + 1,); probes : points that hang on it, (P, 3)
    distance, angle : filled, the largest of all probes and nodes at each time, (T,); worst : the node it is at, (T,)
    """
    count = len(parent)
    one, other = np.empty((count, 3, 4)), np.empty((count, 3, 4))
    for t in range(start, stop):
        far, turned, who = 0.0, 0.0, -1
        for n in range(count):
            held = moved[n]
            if parent[n] >= 0:
                _times(one[parent[n]], before[held, t] if held >= 0 else still[n], one[n])
                _times(other[parent[n]], after[held, t] if held >= 0 else still[n], other[n])
            else:
                _times(above[n], before[held, t] if held >= 0 else still[n], one[n])
                _times(above[n], after[held, t] if held >= 0 else still[n], other[n])
            off = _turned_apart(one[n], other[n])
            turned = max(turned, off)
            for p in range(first[n], first[n + 1]):
                total = 0.0
                for i in range(3):
                    gap = one[n, i, 3] - other[n, i, 3]
                    for j in range(3):
                        gap += (one[n, i, j] - other[n, i, j]) * probes[p, j]
                    total += gap * gap
                total = np.sqrt(total)
                if total > far:
                    far, who = total, n
        distance[t], angle[t], worst[t] = far, turned, who
