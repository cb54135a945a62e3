"""Outlines: a few corners around what a card covers, so that little that is clear is drawn."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def outline(covered: NDArray[np.bool_], corners: int) -> Floats:
    """Return a convex polygon that holds every covered texel whole, within the picture.

    From the hull on, the edge is left out whose prolonged neighbours add least area; what reaches over the border of the picture is
    cut off there, which can add corners.

    Parameters
    ----------
    covered : (H, W); corners : at most, 3 or more

    Returns
    -------
    (K, 2) float64, x and y in texels from the top left, in order; the whole picture where nothing is covered
    """
    height, width = covered.shape
    whole = np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64)
    rows, columns = np.nonzero(covered)
    if not len(rows):
        return whole
    hull = _hull(_ends(rows, columns))
    while len(hull) > max(3, corners):
        shorter = _without_one(hull)
        if shorter is None:
            break
        hull = shorter
    cut = _within(hull, width, height)
    # Cut at the border it may have more corners than a box: that is the better of the two where it has as few.
    low, high = np.array([columns.min(), rows.min()]), np.array([columns.max() + 1, rows.max() + 1])
    box = np.array([low, [high[0], low[1]], high, [low[0], high[1]]], np.float64)
    return box if len(cut) > max(4, corners) or _area(box) <= _area(cut) else cut


def holds(polygon: Floats, covered: NDArray[np.bool_]) -> bool:
    """Say whether a convex polygon, x and y in texels from the top left, holds every covered texel whole."""
    rows, columns = np.nonzero(covered)
    if not len(rows):
        return True
    points = _hull(_ends(rows, columns))
    edge = np.roll(polygon, -1, axis=0) - polygon
    away = points[None] - polygon[:, None]
    side = edge[:, None, 0] * away[..., 1] - edge[:, None, 1] * away[..., 0]
    turns = edge[:, 0] * np.roll(edge, -1, axis=0)[:, 1] - edge[:, 1] * np.roll(edge, -1, axis=0)[:, 0]
    convex = bool((turns >= -1e-9).all() or (turns <= 1e-9).all())
    return convex and bool((side >= -1e-6).all() or (side <= 1e-6).all())


def _ends(rows: NDArray[np.int64], columns: NDArray[np.int64]) -> Floats:
    """Return the corners of the first and last covered texel of each row."""
    order = np.lexsort((columns, rows))
    rows, columns = rows[order], columns[order]
    first = np.concatenate([[True], rows[1:] != rows[:-1]])
    last = np.concatenate([rows[1:] != rows[:-1], [True]])
    left, right, y = columns[first], columns[last] + 1, rows[first]
    return np.concatenate([np.stack([x, v], axis=1) for x in (left, right) for v in (y, y + 1)]).astype(np.float64)


def _hull(points: Floats) -> Floats:
    """Return the convex hull of points, in order (A. M. Andrew's monotone chain, 1979)."""
    points = np.unique(points, axis=0)

    def half(rows: Floats) -> list[Floats]:
        found: list[Floats] = []
        for point in rows:
            while len(found) > 1 and _turn(found[-2], found[-1], point) <= 0:
                found.pop()
            found.append(point)
        return found

    return np.array(half(points)[:-1] + half(points[::-1])[:-1])


def _turn(a: Floats, b: Floats, c: Floats) -> float:
    return float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))


def _without_one(hull: Floats) -> Floats | None:
    """Return a polygon with one edge less, its neighbours prolonged until they meet; None where none can go."""
    before, after = np.roll(hull, 1, axis=0), np.roll(hull, -1, axis=0)
    far = np.roll(hull, -2, axis=0)
    # The edge from a corner to the next goes; the edges before and after it meet at a point beyond.
    d1, d2 = hull - before, far - after
    cross = d1[:, 0] * -d2[:, 1] + d1[:, 1] * d2[:, 0]
    edge = after - hull
    with np.errstate(divide="ignore", invalid="ignore"):
        along = (edge[:, 0] * -d2[:, 1] + edge[:, 1] * d2[:, 0]) / cross
        meets = hull + along[:, None] * d1
        added = np.abs((after - hull)[:, 0] * (meets - hull)[:, 1] - (after - hull)[:, 1] * (meets - hull)[:, 0]) / 2
    added = np.where((np.abs(cross) > 1e-12) & (along >= 0) & np.isfinite(added), added, np.inf)
    place = int(added.argmin())
    if not np.isfinite(added[place]):
        return None
    rows = hull.copy()
    rows[place] = meets[place]
    return np.delete(rows, (place + 1) % len(hull), axis=0)


def _within(polygon: Floats, width: int, height: int) -> Floats:
    """Return a convex polygon cut at the border of a picture (I. Sutherland and G. Hodgman, "Reentrant polygon clipping", 1974)."""
    for axis, bound, sign in ((0, 0.0, 1), (0, float(width), -1), (1, 0.0, 1), (1, float(height), -1)):
        found: list[Floats] = []
        for place in range(len(polygon)):
            a, b = polygon[place], polygon[(place + 1) % len(polygon)]
            inside_a, inside_b = sign * (a[axis] - bound) >= 0, sign * (b[axis] - bound) >= 0
            if inside_a:
                found.append(a)
            if inside_a != inside_b:
                found.append(a + (b - a) * ((bound - a[axis]) / (b[axis] - a[axis])))
        polygon = np.array(found)
    return polygon


def _area(polygon: Floats) -> float:
    x, y = polygon.T
    return float(abs((x * np.roll(y, -1) - y * np.roll(x, -1)).sum()) / 2)
