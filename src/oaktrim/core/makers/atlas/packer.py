"""Placing silhouettes on a sheet: each as low and as far left as it goes, all positions of a row tested at once.

A row of the sheet is a row of bits. Where a run of a silhouette's cells cannot stand is the row smeared over the run's length
and moved back by its start; what no run forbids is free. Rows whose widest gap is too narrow are passed over. Bottom-left
placing after E. K. Burke, R. Hellier, G. Kendall and G. Whitwell, "A new bottom-left-fill heuristic algorithm for the
two-dimensional irregular packing problem", Operations Research 54 (2006).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.kernels import njit
from oaktrim.core.makers.atlas.silhouettes import KERNEL, Silhouettes
from oaktrim.core.progress import Progress, Task

Ints = NDArray[np.int64]
_ALL = np.uint64(0xFFFFFFFFFFFFFFFF)
_ONE = np.uint64(1)
# Cells of what is small, and charts from which rows are passed over where others of its size found no room.
_SMALL, _MANY = 16, 2000
# Charts that are placed between two looks at whether it is to be stopped.
_AT_ONCE = 500


@dataclass(frozen=True, eq=False)
class Shapes:
    """Silhouettes as runs of cells, in each of the turns that they may take.

    Parameters
    ----------
    runs : (R, 2) int64, start and length; rows : (Q + 1,) where the runs of each row of each shape begin
    firsts : (S + 1,) where the rows of each shape begin; widths : (S,) cells across; a chart's shapes are `turns` in a row
    turns : how many quarter turns each may take, from none
    """

    runs: Ints
    rows: Ints
    firsts: Ints
    widths: Ints
    turns: int

    @property
    def charts(self) -> int:
        return len(self.widths) // self.turns


def shapes_of(silhouettes: Silhouettes, turns: int) -> Shapes:
    """Return the runs of silhouettes in 1, 2 or 4 quarter turns (counter-clockwise, as `numpy.rot90`)."""
    most = int(silhouettes.starts[-1])
    runs = np.empty((most * turns // 2 + len(silhouettes.sizes) * turns * 2 + 4, 2), np.int64)
    lines = int(silhouettes.sizes.sum()) * turns
    rows, firsts = np.zeros(lines + 1, np.int64), np.zeros(len(silhouettes.sizes) * turns + 1, np.int64)
    widths = np.zeros(len(silhouettes.sizes) * turns, np.int64)
    while True:
        count, used = _runs(silhouettes.cells, silhouettes.starts, silhouettes.sizes, turns, runs, rows, firsts, widths)
        if count <= len(runs):
            return Shapes(runs[:count].copy(), rows[: used + 1].copy(), firsts, widths, turns)
        runs = np.empty((count, 2), np.int64)


@njit(**KERNEL)
def _runs(cells, starts, sizes, turns, runs, rows, firsts, widths):
    """Fill in the runs of every shape and return how many there are, and how many rows; with too little room, only the count."""
    count = used = 0
    for chart in range(sizes.shape[0]):
        columns, lines = sizes[chart, 0], sizes[chart, 1]
        for turn in range(turns):
            across = columns if turn % 2 == 0 else lines
            down = lines if turn % 2 == 0 else columns
            widths[chart * turns + turn] = across
            for y in range(down):
                start = -1
                for x in range(across + 1):
                    full = False
                    if x < across:
                        if turn == 0:
                            r, c = y, x
                        elif turn == 1:
                            r, c = x, columns - 1 - y
                        elif turn == 2:
                            r, c = lines - 1 - y, columns - 1 - x
                        else:
                            r, c = lines - 1 - x, y
                        full = cells[starts[chart] + r * columns + c] != 0
                    if full and start < 0:
                        start = x
                    elif not full and start >= 0:
                        if count < runs.shape[0]:
                            runs[count, 0], runs[count, 1] = start, x - start
                        count += 1
                        start = -1
                used += 1
                rows[used] = count
            firsts[chart * turns + turn + 1] = used
    return count, used


@dataclass(frozen=True, eq=False)
class Placing:
    """Where shapes stand.

    Parameters
    ----------
    places : (N, 2) cells from the left and the top; turns : (N,) quarter turns; sheets : (N,), -1 for what found no room
    """

    places: Ints
    turns: Ints
    sheets: Ints

    @property
    def complete(self) -> bool:
        """All found room."""
        return bool((self.sheets >= 0).all())


def place(
    shapes: Shapes,
    order: Ints,
    size: tuple[int, int],
    sheets: int,
    steps: Ints,
    fixed: Ints,
    stop_early: bool = True,
) -> Task[Placing]:
    """Place shapes in an order, each on the first sheet that has room for it.

    Parameters
    ----------
    size : columns and rows of a sheet in cells
    steps : (N,) cells; each chart stands on a multiple of its own
    fixed : (N, 4) sheet, column, row and turn of charts that stand where they are told; -1 for those that do not. Where two of
        these meet, or one lies outside, the later finds no room
    stop_early : end with the first chart that finds no room
    """
    columns, rows = size
    words = -(-columns // 64)
    most = max(1, int(shapes.runs[:, 1].max()) if len(shapes.runs) else 1)
    smears = max(1, most.bit_length())
    places, turns = np.zeros((shapes.charts, 2), np.int64), np.zeros(shapes.charts, np.int64)
    on = np.full(shapes.charts, -1, np.int64)
    sheet = np.zeros((sheets, smears, rows, words), np.uint64)
    gaps = np.full((sheets, rows), columns, np.int64)
    _clear(sheet, columns)
    tables = shapes.runs, shapes.rows, shapes.firsts, shapes.widths, shapes.turns
    if (fixed[:, 0] >= 0).any():
        _place_fixed(*tables, fixed, columns, sheet, gaps, places, turns, on)
        if stop_early and (on[fixed[:, 0] >= 0] < 0).any():
            return Placing(places, turns, on)
        order = order[fixed[order, 0] < 0]
    # Where the last small shape of a size stood: what is above it is full but for what another outline would find.
    hints = np.zeros((sheets, _SMALL + 1, _SMALL + 1), np.int64)
    many = len(order) > _MANY
    for first in range(0, len(order), _AT_ONCE):
        _place(
            *tables,
            order[first : first + _AT_ONCE],
            steps,
            columns,
            sheet,
            gaps,
            places,
            turns,
            on,
            stop_early,
            many,
            hints,
        )
        if stop_early and (on[order[first : first + _AT_ONCE]] < 0).any():
            break
        if len(order) > _AT_ONCE:
            yield Progress(first, len(order), f"placing {len(order):,} islands")
    return Placing(places, turns, on)


@njit(**KERNEL)
def _place_fixed(runs, rows, firsts, widths, turns, fixed, columns, sheet, gaps, places, turned, on):
    """Place the shapes that are told where, in the order of their charts."""
    for chart in range(fixed.shape[0]):
        p, left, top = fixed[chart, 0], fixed[chart, 1], fixed[chart, 2]
        if p < 0 or p >= sheet.shape[0]:
            continue
        turn = fixed[chart, 3] % turns
        shape = chart * turns + turn
        first, down = firsts[shape], firsts[shape + 1] - firsts[shape]
        free = left >= 0 and top >= 0 and left + widths[shape] <= columns and top + down <= sheet.shape[2]
        if free:
            for r in range(down):
                for at in range(rows[first + r], rows[first + r + 1]):
                    for x in range(left + runs[at, 0], left + runs[at, 0] + runs[at, 1]):
                        if sheet[p, 0, top + r, x >> 6] & (_ONE << np.uint64(x & 63)):
                            free = False
        if free:
            places[chart, 0], places[chart, 1] = left, top
            turned[chart], on[chart] = turn, p
            _take(runs, rows, first, down, left, top, columns, sheet[p], gaps[p])


@njit(**KERNEL)
def _take(runs, rows, first, down, left, top, columns, sheet, gaps):
    """Mark the cells of a shape at a place as taken."""
    for r in range(down):
        y = top + r
        for at in range(rows[first + r], rows[first + r + 1]):
            for x in range(left + runs[at, 0], left + runs[at, 0] + runs[at, 1]):
                sheet[0, y, x >> 6] |= _ONE << np.uint64(x & 63)
        _smear(sheet, y)
        gaps[y] = _widest_gap(sheet[0, y], columns)


@njit(**KERNEL)
def _clear(sheet, columns):
    """Make sheets (P, L, H, W) uint64 empty: only what lies beyond the last column counts as taken."""
    for p in range(sheet.shape[0]):
        for y in range(sheet.shape[2]):
            for i in range(sheet.shape[3]):
                word = np.uint64(0)
                for bit in range(64):
                    if i * 64 + bit >= columns:
                        word |= _ONE << np.uint64(bit)
                sheet[p, 0, y, i] = word
            _smear(sheet[p], y)


@njit(**KERNEL)
def _shifted(row, i, by):
    """Return word `i` of a row of bits moved down by some places; what lies beyond the end counts as taken."""
    at, bit = i + (by >> 6), by & 63
    low = row[at] if at < row.shape[0] else _ALL
    if bit == 0:
        return low
    high = row[at + 1] if at + 1 < row.shape[0] else _ALL
    return (low >> np.uint64(bit)) | (high << np.uint64(64 - bit))


@njit(**KERNEL)
def _smear(sheet, y):
    """Bring row `y` of the smeared copies up to date: in copy `k` a bit is set where any of the next 2**k is."""
    for k in range(1, sheet.shape[0]):
        for i in range(sheet.shape[2]):
            sheet[k, y, i] = sheet[k - 1, y, i] | _shifted(sheet[k - 1, y], i, 1 << (k - 1))


@njit(**KERNEL)
def _widest_gap(row, columns):
    """Return the length of the longest run of free cells in a row of bits."""
    best = length = 0
    for x in range(columns):
        if row[x >> 6] & (_ONE << np.uint64(x & 63)):
            length = 0
        else:
            length += 1
            best = max(best, length)
    return best


@njit(**KERNEL)
def _beyond(i, last):
    """Return word `i` of a row in which the bits after place `last` are set."""
    count = last + 1 - 64 * i
    if count <= 0:
        return _ALL
    return ~_ALL if count >= 64 else _ALL << np.uint64(count)


@njit(**KERNEL)
def _first_place(runs, rows, first, down, last, sheet, gaps, step, start, limit, allowed, taken):
    """Return the lowest and leftmost place of a shape, column and row, from row `start`; -1 where none is above row `limit`,
    or no column up to `last`."""
    height, words = sheet.shape[1], sheet.shape[2]
    y = -(-start // step) * step
    while y + down <= height and y < limit:
        fits = True
        for r in range(down):
            for at in range(rows[first + r], rows[first + r + 1]):
                if runs[at, 1] > gaps[y + r]:
                    fits = False
        if fits:
            for i in range(words):
                taken[i] = allowed[i] | _beyond(i, last)
            full = False
            for r in range(down):
                for at in range(rows[first + r], rows[first + r + 1]):
                    start, length = runs[at, 0], runs[at, 1]
                    k = 0
                    while (2 << k) <= length:
                        k += 1
                    rest = length - (1 << k)
                    left = False
                    for i in range(words):
                        taken[i] |= _shifted(sheet[k, y + r], i, start)
                        if rest:
                            taken[i] |= _shifted(sheet[k, y + r], i, start + rest)
                        left |= taken[i] != _ALL
                    if not left:
                        full = True
                        break
                if full:
                    break
            if not full:
                for i in range(words):
                    free = ~taken[i]
                    if free:
                        bit = 0
                        while not (free >> np.uint64(bit)) & _ONE:
                            bit += 1
                        return i * 64 + bit, y
        y += step
    return -1, -1


@njit(**KERNEL)
def _place(
    runs, rows, firsts, widths, turns, order, steps, columns, sheet, gaps, places, turned, on, stop_early, many, hints
):
    """Place shapes one after the other; see `place`.

    Parameters
    ----------
    sheet : (P, L, H, W) uint64, as from `_clear`; gaps : (P, H) int64, the widest gap of each row
    places, turned, on : filled
    many, hints : rows are passed over as (P, small, small) int64 tells, by width and height
    """
    words = sheet.shape[3]
    allowed, taken = np.zeros(words, np.uint64), np.zeros(words, np.uint64)
    for n in range(order.shape[0]):
        chart = order[n]
        step = steps[chart]
        for i in range(words):
            word = np.uint64(0)
            for bit in range(64):
                if (i * 64 + bit) % step:
                    word |= _ONE << np.uint64(bit)
            allowed[i] = word
        for p in range(sheet.shape[0]):
            best_x = best_y = best_turn = -1
            best_end = np.int64(1) << 40
            for turn in range(turns):
                shape = chart * turns + turn
                first, down = firsts[shape], firsts[shape + 1] - firsts[shape]
                if widths[shape] > columns:
                    continue
                small = many and widths[shape] <= _SMALL and down <= _SMALL
                start = hints[p, widths[shape], down] if small else 0
                x, y = _first_place(
                    runs,
                    rows,
                    first,
                    down,
                    columns - widths[shape],
                    sheet[p],
                    gaps[p],
                    step,
                    start,
                    best_end - down + 1,
                    allowed,
                    taken,
                )
                if small and x >= 0:
                    hints[p, widths[shape], down] = y
                elif small and best_turn < 0:
                    hints[p, widths[shape], down] = sheet.shape[2]
                if x >= 0 and (y + down < best_end or (y + down == best_end and x < best_x)):
                    best_x, best_y, best_turn, best_end = x, y, turn, y + down
            if best_turn < 0:
                continue
            places[chart, 0], places[chart, 1] = best_x, best_y
            turned[chart], on[chart] = best_turn, p
            first = firsts[chart * turns + best_turn]
            _take(runs, rows, first, best_end - best_y, best_x, best_y, columns, sheet[p], gaps[p])
            break
        if on[chart] < 0 and stop_early:
            return
