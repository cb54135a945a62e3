"""Triangles in an order that finds their vertices in the cache; see `vertices`."""

from __future__ import annotations

from typing import Any

import numpy as np

from oaktrim.core.kernels import njit

_KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}


@njit(**_KERNEL)
def cache_misses(indices, count, size):
    """Return how many vertices of triangles (3 M,) int64 are worked on anew by a cache of so many, first in, first out."""
    entered = np.full(count, -size - 1, np.int64)
    misses = 0
    for vertex in indices:
        if misses - entered[vertex] > size:
            entered[vertex] = misses
            misses += 1
    return misses


@njit(**_KERNEL)
def ordered_triangles(indices, count, size, out):
    """Fill out (3 M,) int64 with the same triangles in another order.

    P. Sander, D. Nehab and J. Barczak, "Fast triangle reordering for vertex locality and reduced overdraw" (2007): all triangles at
    one vertex are drawn, then those at whichever of theirs stays longest in the cache; in time that grows with their number.

    Parameters
    ----------
    count : vertices; size : of the cache
    """
    triangles = len(indices) // 3
    live = np.zeros(count, np.int64)
    for vertex in indices:
        live[vertex] += 1
    first = np.zeros(count + 1, np.int64)
    for vertex in range(count):
        first[vertex + 1] = first[vertex] + live[vertex]
    fill, around = first[:-1].copy(), np.empty(len(indices), np.int64)
    for place in range(len(indices)):
        vertex = indices[place]
        around[fill[vertex]] = place // 3
        fill[vertex] += 1
    entered, drawn = np.zeros(count, np.int64), np.zeros(triangles, np.bool_)
    ends, ring = np.empty(len(indices), np.int64), np.empty(len(indices), np.int64)
    ended, time, cursor, written, vertex = 0, size + 1, 0, 0, 0
    while vertex >= 0:
        beside = 0
        for at in range(first[vertex], first[vertex + 1]):
            triangle = around[at]
            if drawn[triangle]:
                continue
            drawn[triangle] = True
            for corner in range(3):
                other = indices[3 * triangle + corner]
                out[written] = other
                written += 1
                ends[ended] = other
                ended += 1
                ring[beside] = other
                beside += 1
                live[other] -= 1
                if time - entered[other] > size:
                    entered[other] = time
                    time += 1
        best, most = -1, -1
        for place in range(beside):
            other = ring[place]
            if live[other] > 0:
                age = time - entered[other]
                worth = age if age + 2 * live[other] <= size else 0
                if worth > most:
                    best, most = other, worth
        while best < 0 and ended > 0:
            ended -= 1
            if live[ends[ended]] > 0:
                best = ends[ended]
        while best < 0 and cursor < count:
            if live[cursor] > 0:
                best = cursor
            cursor += 1
        vertex = best
