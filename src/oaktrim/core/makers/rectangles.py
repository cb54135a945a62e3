"""Packing rectangles into pages of one size: along a skyline, each where it wastes least.

J. Jylänki, "A thousand ways to pack the bin" (2010), section 4: the skyline is the upper edge of what is packed, and a
rectangle goes where it leaves the least of what lies under it unused; the free pieces under it are kept and used first.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit

Ints = NDArray[np.int64]
_MOST_HOLES = 512
# Further shapes are not tried once a packing covers this much.
_GOOD = 0.96
# Up to so many rectangles other orders are tried: so many tries of so many rectangles a shape, until so many shapes held none.
_FEW, _TRIES, _FAILURES = 1000, 150_000, 12
# How many times as long as wide pages are at most, in further tries of longer ones: a handful of glyphs may fit a strip best.
_LONGEST = (2, 4)


@njit(nogil=True, cache=True)
def _into_hole(holes, count, w, h):
    """Return the place of the smallest hole (x, y, w, h) that holds a rectangle, or -1."""
    best, best_area = -1, 0
    for i in range(count):
        if holes[i, 2] >= w and holes[i, 3] >= h:
            area = holes[i, 2] * holes[i, 3]
            if best < 0 or area < best_area:
                best, best_area = i, area
    return best


@njit(nogil=True, cache=True)
def _add_hole(holes, count, x, y, w, h):
    """Keep a free rectangle; the last is given up when there is no room for more."""
    if w > 0 and h > 0:
        if count == holes.shape[0]:
            count -= 1
        holes[count, 0], holes[count, 1], holes[count, 2], holes[count, 3] = x, y, w, h
        count += 1
    return count


@njit(nogil=True, cache=True)
def _fill_page(sizes, order, pages, page, width, height, lowest, places):
    """Place what still has no page (`pages` < 0) on one page, in the order given; return how many were placed.

    `lowest` puts each as high up the page as it can go; else it goes where it leaves least unused under it.
    """
    steps = np.empty((width + 2, 2), np.int64)
    steps[0, 0], steps[0, 1] = 0, 0
    steps[1, 0], steps[1, 1] = width, height + 1
    used, holes, free, placed = 1, np.empty((_MOST_HOLES, 4), np.int64), 0, 0
    for n in range(order.shape[0]):
        item = order[n]
        if pages[item] >= 0:
            continue
        w, h = sizes[item, 0], sizes[item, 1]
        hole = _into_hole(holes, free, w, h)
        if hole >= 0:
            x, y, room_w, room_h = holes[hole, 0], holes[hole, 1], holes[hole, 2], holes[hole, 3]
            free -= 1
            holes[hole] = holes[free]
            # What is left is cut the way that leaves the larger piece whole.
            if (room_w - w) * room_h >= (room_h - h) * room_w:
                free = _add_hole(holes, free, x + w, y, room_w - w, room_h)
                free = _add_hole(holes, free, x, y + h, w, room_h - h)
            else:
                free = _add_hole(holes, free, x, y + h, room_w, room_h - h)
                free = _add_hole(holes, free, x + w, y, room_w - w, h)
            places[item, 0], places[item, 1], pages[item] = x, y, page
            placed += 1
            continue
        best, best_y, best_first, best_second = -1, 0, 0, 0
        for i in range(used):
            x = steps[i, 0]
            if x + w > width:
                break
            y, j = 0, i
            while steps[j, 0] < x + w:
                y = max(y, steps[j, 1])
                j += 1
            if y + h > height:
                continue
            waste, j = 0, i
            while steps[j, 0] < x + w:
                right = min(steps[j + 1, 0], x + w)
                waste += (right - steps[j, 0]) * (y - steps[j, 1])
                j += 1
            first, second = (y + h, waste) if lowest else (waste, y + h)
            if best < 0 or first < best_first or (first == best_first and second < best_second):
                best_first, best_second = first, second
                best, best_y = i, y
        if best < 0:
            continue
        x = steps[best, 0]
        j = best
        while steps[j, 0] < x + w:
            right = min(steps[j + 1, 0], x + w)
            free = _add_hole(holes, free, steps[j, 0], steps[j, 1], right - steps[j, 0], best_y - steps[j, 1])
            j += 1
        # Steps best..j-1 are covered: the new one takes their place, and what the last leaves of its own stays.
        left_over = 0 if steps[j, 0] == x + w else 1
        rest_y = steps[j - 1, 1]
        shift = best + 1 + left_over - j
        if shift > 0:
            for k in range(used, j - 1, -1):
                steps[k + shift, 0], steps[k + shift, 1] = steps[k, 0], steps[k, 1]
        elif shift < 0:
            for k in range(j, used + 1):
                steps[k + shift, 0], steps[k + shift, 1] = steps[k, 0], steps[k, 1]
        used += shift
        steps[best, 0], steps[best, 1] = x, best_y + h
        if left_over:
            steps[best + 1, 0], steps[best + 1, 1] = x + w, rest_y
        # Neighbours of one height are one step.
        k = max(1, best)
        while k <= min(best + 2, used - 1):
            if steps[k, 1] == steps[k - 1, 1]:
                for m in range(k, used):
                    steps[m, 0], steps[m, 1] = steps[m + 1, 0], steps[m + 1, 1]
                used -= 1
            else:
                k += 1
        places[item, 0], places[item, 1], pages[item] = x, best_y, page
        placed += 1
    return placed


@dataclass(frozen=True)
class Packed:
    """Rectangles on pages.

    Parameters
    ----------
    width, height : of every page
    places : (N, 2), left and top; pages : (N,), -1 for what found no room
    occupancy : share of the pages that rectangles cover
    """

    width: int
    height: int
    places: Ints
    pages: Ints
    occupancy: float

    @property
    def left_out(self) -> int:
        """How many found no room."""
        return int((self.pages < 0).sum())


def _orders(sizes: Ints) -> list[Ints]:
    """Return the orders worth trying: by height, by area, by the longer side and by girth, the largest first."""
    w, h = sizes[:, 0], sizes[:, 1]
    keys = ((h, w), (w * h, h), (np.maximum(w, h), w * h), (w + h, h))
    return [np.lexsort((np.arange(len(sizes)), -second, -first)).astype(np.int64) for first, second in keys]


def pack_rectangles(sizes: Ints, width: int, height: int, pages: int = 1) -> Packed:
    """Place rectangles on a number of pages; of several orders the one that places most, then covers most.

    Parameters
    ----------
    sizes : (N, 2), width and height, pixels
    """
    sizes = np.ascontiguousarray(sizes, np.int64).reshape(-1, 2)
    areas = sizes[:, 0] * sizes[:, 1]
    best: Packed | None = None
    for order, lowest in product(_orders(sizes), (True, False)):
        places, on = np.zeros_like(sizes), np.full(len(sizes), -1, np.int64)
        for page in range(pages):
            _fill_page(sizes, order, on, page, width, height, lowest, places)
        covered = float(areas[on >= 0].sum()) / (width * height * pages)
        found = Packed(width, height, places, on, covered)
        if best is None or (-found.left_out, found.occupancy) > (-best.left_out, best.occupancy):
            best = found
        if not best.left_out:
            break
    assert best is not None
    return best


def smallest_pages(sizes: Ints, pages: int, step: int = 4, powers: bool = False, most: int = 1 << 14) -> Packed | None:
    """Return the packing on the smallest pages that hold all rectangles, or None where even the largest do not.

    Parameters
    ----------
    step : sides are multiples of this
    powers : sides are powers of two, the height equal to the width or a half of it
    most : the longest side allowed
    """
    sizes = np.ascontiguousarray(sizes, np.int64).reshape(-1, 2)
    area = int((sizes[:, 0] * sizes[:, 1]).sum())
    if not len(sizes):
        return Packed(step, step, sizes, np.zeros(0, np.int64), 0.0)
    if powers:
        shapes = [(1 << i, 1 << (i - half)) for i in range(2, most.bit_length()) for half in (1, 0)]
        for width, height in shapes:
            if width * height * pages >= area and (sizes <= (width, height)).all():
                packed = pack_rectangles(sizes, width, height, pages)
                if not packed.left_out:
                    return packed
        return None
    best: Packed | None = None
    side = max(int(np.sqrt(area / pages)), int(sizes.max()))
    # Widths around the square one, each with the lowest height that holds them all.
    shares = np.linspace(0.7, 1.3, 31 if len(sizes) < 1000 else 7)
    for share in sorted(shares, key=lambda share: abs(share - 1)):
        width = min(most, max(-(-int(side * share) // step) * step, -(-int(sizes[:, 0].max()) // step) * step))
        limit = most if best is None else (best.width * best.height - 1) // width
        found = _lowest(sizes, width, pages, step, area, limit)
        if found is not None and (best is None or found.width * found.height < best.width * best.height):
            best = found
        if best is not None and best.occupancy > _GOOD:
            break
    if best is not None and len(sizes) <= _FEW:
        for longest in _LONGEST:
            best = _tightened(sizes, best, pages, step, most, longest)
    return best


def _tightened(sizes: Ints, best: Packed, pages: int, step: int, most: int, longest: int) -> Packed:
    """Return a packing on smaller pages, if changing the order finds one: few rectangles leave gaps that orders decide."""
    areas = sizes[:, 0] * sizes[:, 1]
    least, widest, tallest = int(areas.sum()), int(sizes[:, 0].max()), int(sizes[:, 1].max())
    sides = range(step, most + 1, step)
    shapes = [
        (width * height, width, height)
        for width in sides
        if width >= widest and width * width <= longest * best.width * best.height
        for height in sides[: best.width * best.height // (width * step)]
        if height >= tallest
        and width <= longest * height
        and height <= longest * width
        and width * height * pages >= least
    ]
    tries, failed = max(40, _TRIES // len(sizes)), 0
    order = _orders(sizes)[1]
    for area, width, height in sorted(shapes, reverse=True):
        if area >= best.width * best.height:
            continue
        if failed == _FAILURES:
            break
        places, on = np.zeros_like(sizes), np.full(len(sizes), -1, np.int64)
        if _reorder(sizes, areas, order.copy(), pages, width, height, tries, places, on):
            best, failed = Packed(width, height, places, on, least / (area * pages)), 0
        else:
            failed += 1
    return best


@njit(nogil=True, cache=True)
def _reorder(sizes, areas, order, pages, width, height, tries, places, on):
    """Swap pairs of an order, keeping what leaves no more area out; say whether all found room at last.

    Parameters
    ----------
    sizes : (N, 2), width and height; areas : (N,); order : (N,), which first; all int64, `order` is changed
    pages : how many, of `width` and `height`; tries : how many orders at most
    places, on : filled with left and top (N, 2), and with the page (N,) of each
    """
    count = order.shape[0]
    state, least = np.uint64(88172645463325252), areas.sum() + 1
    for turn in range(tries):
        first = second = 0
        if turn:
            # G. Marsaglia, "Xorshift RNGs" (2003): the same numbers everywhere.
            state ^= state << np.uint64(13)
            state ^= state >> np.uint64(7)
            state ^= state << np.uint64(17)
            first = np.int64(state % np.uint64(count))
            second = np.int64((state >> np.uint64(32)) % np.uint64(count))
            order[first], order[second] = order[second], order[first]
        left = np.int64(0)
        on[:] = -1
        for page in range(pages):
            _fill_page(sizes, order, on, page, width, height, turn % 2 == 0, places)
        for i in range(count):
            if on[i] < 0:
                left += areas[i]
        if left == 0:
            return True
        if left <= least:
            least = left
        else:
            order[first], order[second] = order[second], order[first]
    return False


def _lowest(sizes: Ints, width: int, pages: int, step: int, area: int, limit: int) -> Packed | None:
    """Return the packing on the lowest pages of a width, at most `limit` high."""
    tallest = int(sizes[:, 1].max())
    low = -(-max(tallest, -(-area // (width * pages))) // step)
    high, grown = low, 1
    found: Packed | None = None
    while found is None:
        if high * step > limit:
            high = limit // step
            if high < low:
                return None
            found = pack_rectangles(sizes, width, high * step, pages)
            if found.left_out:
                return None
            break
        tried = pack_rectangles(sizes, width, high * step, pages)
        if not tried.left_out:
            found = tried
        else:
            low = high + 1
            high += grown
            grown *= 2
    while low < high:
        middle = (low + high) // 2
        tried = pack_rectangles(sizes, width, middle * step, pages)
        if tried.left_out:
            low = middle + 1
        else:
            high, found = middle, tried
    return found
