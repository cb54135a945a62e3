"""Where charts stand on the sheets of an atlas, and how large: the best in a sheet, or the smallest sheet that loses nothing.

Charts are placed largest first; orders that differ from that a little are tried at a scale a little larger, until none fits any
more. The numbers of tries are fixed by the count of charts, so that one atlas comes out the same everywhere.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.makers.atlas.packer import Placing, place, shapes_of
from oaktrim.core.makers.atlas.settings import LATTICE
from oaktrim.core.makers.atlas.silhouettes import Silhouettes, border_of, silhouettes
from oaktrim.core.progress import Progress, Task

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
CELL = 4
_GROW, _STEP = 1.006, 0.985
# Of the sheet, what is hoped for at first, and the most that any packing reached.
_HOPED, _MOST_FULL = 0.86, 0.99


@dataclass(frozen=True, eq=False)
class ChartSet:
    """Charts to be placed.

    Parameters
    ----------
    corners : (M, 3, 2) texels of their sources; chart : (M,), ascending; count : how many
    """

    corners: Floats
    chart: Ints
    count: int


@dataclass(frozen=True, eq=False)
class Layout:
    """Charts on sheets.

    Parameters
    ----------
    width, height : of every sheet, texels; sheets : how many
    scales : (N,) texels a texel of its source; angles : (N,) radians that each is turned by before its quarter turns
    origins : (N, 2) texels, the corner of each chart's box at its scale; boxes : (N, 2) its width and height
    places : (N, 2) where that corner's box stands; turns : (N,) quarter turns counter-clockwise; on : (N,) which sheet
    cells : the texels that each chart has, unturned, in cells
    margin : texels around each chart
    """

    width: int
    height: int
    sheets: int
    scales: Floats
    angles: Floats
    origins: Ints
    boxes: Ints
    places: Ints
    turns: Ints
    on: Ints
    cells: Silhouettes
    margin: float

    @property
    def occupancy(self) -> float:
        """The share of the sheets that charts cover with half a gutter, which may reach over their borders."""
        room = (self.width + 2 * self.margin) * (self.height + 2 * self.margin) * self.sheets
        return min(1.0, float(self.cells.covered.sum()) * CELL * CELL / room)

    def matrices(self) -> Floats:
        """Return the matrix of each chart from texels of its source to texels of its sheet, (N, 2, 3)."""
        count = len(self.scales)
        found = np.zeros((count, 2, 3))
        c, s = np.cos(self.angles), np.sin(self.angles)
        base = np.stack([np.stack([c, -s], axis=1), np.stack([s, c], axis=1)], axis=1) * self.scales[:, None, None]
        quarter = np.array([[[1, 0], [0, 1]], [[0, 1], [-1, 0]], [[-1, 0], [0, -1]], [[0, -1], [1, 0]]], np.float64)
        w, h = self.boxes[:, 0].astype(np.float64), self.boxes[:, 1].astype(np.float64)
        zero = np.zeros(count)
        back = np.stack([np.stack(pair, axis=1) for pair in ((zero, zero), (zero, w), (w, h), (h, zero))])
        turned = quarter[self.turns]
        found[:, :, :2] = turned @ base
        found[:, :, 2] = (
            self.places + back[self.turns, np.arange(count)] - np.einsum("nab,nb->na", turned, self.origins)
        )
        return found


class Scaling(Protocol):
    """What scale charts have."""

    def __call__(self, factor: float) -> Floats:
        """Return the scale of each chart (N,) for a common factor; rising with it, infinite for the largest."""
        ...

    def after(self, factor: float) -> float:
        """Return the least factor above one at which any scale is another; infinite where none is."""
        ...

    def above(self, scales: Floats, factor: float) -> tuple[Floats, Ints]:
        """Return the next scale of each chart, and the charts in the order in which these are due; none where scales are free."""
        ...


@dataclass(frozen=True)
class OneFactor:
    """The same scale for all charts, at most 1; see `Scaling`."""

    count: int

    def __call__(self, factor: float) -> Floats:
        return np.full(self.count, min(factor, 1.0))

    def after(self, factor: float) -> float:
        return factor if factor < 1 else np.inf

    def above(self, scales: Floats, factor: float) -> tuple[Floats, Ints]:
        return scales, np.zeros(0, np.int64)


@dataclass(frozen=True)
class Wanted:
    """What sheets are wanted.

    Parameters
    ----------
    size : longest side, at most; 0 for an open one; sheets : at most
    turns : 1, 2 or 4 quarter turns; free : also by any angle, where the scale changes anyway
    texels : of all sheets, at most, where the size is open; longest : side, at most, where it is
    share_kept : of the texels of the sources, that are enough; 0 where only all are
    pins : chart, sheet, texels from the left and the top of its corner, and quarter turns, of charts that have their places
    """

    size: int
    sheets: int = 1
    square: bool = False
    gutter: int = 8
    turns: int = 4
    free: bool = False
    texels: float = np.inf
    longest: int = 4096
    share_kept: float = 0.0
    pins: tuple[tuple[int, int, int, int, int], ...] = ()

    def fixed(self, charts: int, steps: Ints) -> Ints:
        """Return what the packer takes of charts that have their places, (N, 4), in cells, each on a multiple of its step."""
        found = np.full((charts, 4), -1, np.int64)
        for chart, sheet, x, y, turn in self.pins:
            if 0 <= chart < charts:
                step = int(steps[chart])
                column, row = (round(side / CELL / step) * step for side in (x, y))
                found[chart] = sheet, column, row, turn
        return found


def arranged(charts: ChartSet, scaling: Scaling, wanted: Wanted) -> Task[Layout]:
    """Return the best layout of charts.

    Raises
    ------
    Unsupported : what must lose nothing has no room
    """
    full = scaling(np.inf)
    for done, (width, height) in enumerate(_sheets(charts, full, wanted)):
        yield Progress(done, 0, f"laying out {charts.count:,} islands on {width}x{height}")
        found = yield from _tried(charts, full, wanted, (width, height))
        if found is not None:
            return found
    if wanted.share_kept:
        found = yield from _enough(charts, scaling, wanted)
        if found is not None:
            return found
    best = yield from _best_in(charts, scaling, wanted, _shapes(wanted)[-1])
    return (yield from _on_less(charts, wanted, best))


def _enough(charts: ChartSet, scaling: Scaling, wanted: Wanted) -> Task[Layout | None]:
    """Return the layout on the smallest sheet that keeps the share of texels that is enough, None where none does."""
    least = kept_share(charts, scaling(0.0))
    for width, height in _shapes(wanted):
        room = width * height * wanted.sheets
        most = kept_share(charts, scaling(_factor_for(charts, scaling, wanted, room * _MOST_FULL)))
        if max(least, most) < wanted.share_kept:
            continue
        try:
            found = yield from _best_in(charts, scaling, wanted, (width, height))
        except Unsupported:
            continue
        if kept_share(charts, found.scales) >= wanted.share_kept:
            return found
    return None


def kept_share(charts: ChartSet, scales: Floats) -> float:
    """Return the share of texels that charts keep at some scales."""
    d1, d2 = charts.corners[:, 1] - charts.corners[:, 0], charts.corners[:, 2] - charts.corners[:, 0]
    area = np.bincount(charts.chart, np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]), charts.count)
    return float((area * np.minimum(1, scales) ** 2).sum() / max(1e-30, area.sum()))


def _on_less(charts: ChartSet, wanted: Wanted, best: Layout) -> Task[Layout]:
    """Return the same scales on the smallest sheet that holds them."""
    while True:
        size = (best.width // 2, best.height // 2) if wanted.square else (best.width, best.height // 2)
        if best.height > best.width or (not wanted.square and best.height < best.width):
            size = (best.width // 2, best.height)
        if min(size) < 16:
            return best
        smaller = yield from _tried(charts, best.scales, wanted, size)
        if smaller is None:
            return best
        best = smaller


def _shapes(wanted: Wanted) -> list[tuple[int, int]]:
    """Return the shapes that sheets may have, the smallest first."""
    most = wanted.size - 1 if wanted.size else wanted.longest
    sides = {1 << power for power in range(4, most.bit_length()) if 1 << power <= most}
    sides |= {wanted.size} if wanted.size else set()
    shapes = [
        (side, side >> half) for side in sides for half in ((0,) if wanted.square else (1, 0)) if side >> half >= 16
    ]
    shapes.sort(key=lambda shape: shape[0] * shape[1])
    return [row for row in shapes if row[0] * row[1] * wanted.sheets <= wanted.texels] or shapes[:1]


def _sheets(charts: ChartSet, scales: Floats, wanted: Wanted) -> list[tuple[int, int]]:
    """Return sheets that might hold charts at some scales, the smallest first."""
    if _covers(charts, scales, wanted) > 4 * (wanted.size or wanted.longest) ** 2 * wanted.sheets:
        return []
    cells = _cells(charts, scales, np.zeros(charts.count), wanted)
    border = border_of(wanted.gutter / 2)
    least = float(cells.covered.sum()) * CELL * CELL / wanted.sheets / _MOST_FULL
    longest = int(cells.sizes.max(initial=1)) * CELL
    return [
        (w, h) for w, h in _shapes(wanted) if (w + 2 * border) * (h + 2 * border) >= least and w + 2 * border >= longest
    ]


def _angles(charts: ChartSet, scales: Floats, wanted: Wanted) -> Floats:
    """Return the angle at which the box around each chart is least, where it may be turned freely and is scaled."""
    angles = np.zeros(charts.count)
    if not wanted.free:
        return angles
    bounds = np.searchsorted(charts.chart, np.arange(charts.count + 1))
    for chart in np.flatnonzero(scales != 1):
        angles[chart] = _least_box(charts.corners[bounds[chart] : bounds[chart + 1]].reshape(-1, 2))
    return angles


def _least_box(points: Floats) -> float:
    """Return the angle that makes the box around points least (H. Freeman and R. Shapira, 1975), searched in steps of 3 degrees."""
    best, least = 0.0, np.inf
    for angle in np.radians(np.arange(0, 90, 3)):
        c, s = np.cos(angle), np.sin(angle)
        turned = points @ np.array([[c, s], [-s, c]])
        area = float(np.prod(np.ptp(turned, axis=0)))
        if area < least * (1 - 1e-9):
            best, least = float(angle), area
    return best


def _turned(charts: ChartSet, angles: Floats) -> Floats:
    if not angles.any():
        return charts.corners
    c, s = np.cos(angles[charts.chart]), np.sin(angles[charts.chart])
    x, y = charts.corners[..., 0], charts.corners[..., 1]
    return np.stack([c[:, None] * x - s[:, None] * y, s[:, None] * x + c[:, None] * y], axis=-1)


def _lattice(scales: Floats, angles: Floats) -> Ints:
    """Return what each chart's place is a multiple of: what keeps its texels keeps its smaller levels too."""
    halved = np.log2(scales) == np.round(np.log2(scales))
    found: Ints = np.where(halved & (angles == 0), max(LATTICE, CELL), CELL).astype(np.int64)
    return found


def _cells(charts: ChartSet, scales: Floats, angles: Floats, wanted: Wanted) -> Silhouettes:
    lattice = _lattice(scales, angles)
    return silhouettes(_turned(charts, angles), charts.chart, scales, wanted.gutter / 2, CELL, lattice)


def _placement_orders(cells: Silhouettes, count: int) -> list[Ints]:
    """Return orders to place charts in: by the area of their boxes, the largest first, and that shuffled a little."""
    keys = np.log(cells.sizes.prod(axis=1).astype(np.float64))
    rng = np.random.default_rng(20061)
    orders = [np.argsort(-keys, kind="stable")]
    for _ in range(count):
        orders.append(np.argsort(-(keys + rng.normal(0, 0.35, len(keys))), kind="stable"))
    return [order.astype(np.int64) for order in orders]


def _tries(count: int) -> int:
    return int(np.clip(8000 // max(1, count), 3, 60))


def _tried(
    charts: ChartSet, scales: Floats, wanted: Wanted, size: tuple[int, int], tries: int | None = None
) -> Task[Layout | None]:
    """Return charts at some scales on sheets of a size, or None where no order that is tried has room for all."""
    if _covers(charts, scales, wanted) > 4 * size[0] * size[1] * wanted.sheets:
        return None
    angles = _angles(charts, scales, wanted)
    cells = _cells(charts, scales, angles, wanted)
    # What is read beyond the border of a sheet is its border, so that gutters may reach over it.
    border = border_of(wanted.gutter / 2)
    columns, rows = ((side + 2 * border) // CELL for side in size)
    full = float(cells.covered.sum()) / (columns * rows * wanted.sheets)
    if full > _MOST_FULL or not len(cells.sizes):
        return None
    shapes = shapes_of(cells, wanted.turns)
    steps = _lattice(scales, angles) // CELL
    fixed = wanted.fixed(charts.count, steps)
    orders = _placement_orders(cells, _tries(charts.count) if tries is None else tries)
    if full < 0.7:
        # Where one order does not do with so much room, others seldom do.
        orders = orders[:4]
    for number, order in enumerate(orders):
        placed = yield from place(shapes, order, (columns, rows), wanted.sheets, steps, fixed)
        if placed.complete:
            return _layout(charts, scales, angles, cells, placed, size, wanted)
        if number % 4 == 3:
            yield Progress(0, 0, f"laying out {charts.count:,} islands on {size[0]}x{size[1]}")
    return None


def _layout(
    charts: ChartSet,
    scales: Floats,
    angles: Floats,
    cells: Silhouettes,
    placed: Placing,
    size: tuple[int, int],
    wanted: Wanted,
) -> Layout:
    return Layout(
        size[0], size[1], wanted.sheets, scales, angles, cells.origins, cells.sizes * CELL,
        placed.places * CELL - border_of(wanted.gutter / 2), placed.turns, placed.sheets, cells, wanted.gutter / 2,
    )  # fmt: skip


def own_layout(picture: tuple[int, int], side: int) -> Layout:
    """Return the layout of one picture that stays as it was, at a longest side."""
    scale = min(1.0, side / max(picture))
    width, height = (max(CELL, round(length * scale)) for length in picture)
    columns, rows = -(-width // CELL), -(-height // CELL)
    one = np.array([[columns, rows]], np.int64)
    cells = Silhouettes(np.ones(columns * rows, np.uint8), np.array([0, columns * rows]), one, one * 0, CELL)
    zero = np.zeros(1, np.int64)
    return Layout(
        width, height, 1, np.array([scale]), np.zeros(1), one * 0, one * CELL, one * 0, zero, zero, cells, 0.0
    )  # fmt: skip


def _best_in(charts: ChartSet, scaling: Scaling, wanted: Wanted, size: tuple[int, int]) -> Task[Layout]:
    """Return the layout of the largest factor that has room on sheets of a size."""
    room = size[0] * size[1] * wanted.sheets
    factor = _factor_for(charts, scaling, wanted, room * _HOPED)
    best: Layout | None = None
    failed, last = 0, np.zeros(0)
    while best is None:
        yield Progress(failed, 0, f"laying out {charts.count:,} islands at {factor:.3f}")
        scales = scaling(factor)
        if not np.array_equal(scales, last):
            best = yield from _tried(charts, scales, wanted, size, tries=0)
        last = scales
        if best is None:
            failed += 1
            factor *= _STEP if failed < 40 else 0.8
            if failed > 160:
                raise _no_room(charts, scaling(0.0), wanted, size)
    # Orders that differ a little, at a scale a little larger, as long as one fits.
    grown: Layout | None = best
    left = _tries(charts.count)
    while grown is not None and left > 0:
        best = grown
        reached = factor
        factor = max(factor * _GROW, scaling.after(factor))
        if np.isinf(factor):
            return best
        yield Progress(failed, 0, f"laying out {charts.count:,} islands at {factor:.3f}")
        grown = yield from _tried(charts, scaling(factor), wanted, size, tries=left)
        left -= 1
    return (yield from _filled_up(charts, scaling, wanted, best, reached))


def _no_room(charts: ChartSet, least: Floats, wanted: Wanted, size: tuple[int, int]) -> Unsupported:
    """Return why charts have no room however small they are."""
    where = f"no room on {wanted.sheets} of {size[0]}x{size[1]}"
    if (least >= 1).any() or wanted.pins:
        return Unsupported(f"what must keep its texels or its place has {where}")
    return Unsupported(f"{charts.count:,} islands {wanted.gutter} texels apart have {where}, however small they are")


def _filled_up(charts: ChartSet, scaling: Scaling, wanted: Wanted, best: Layout, factor: float) -> Task[Layout]:
    """Give single charts the next scale as long as there is room: the first of those that are due, as many as fit."""
    following, due = scaling.above(best.scales, factor)
    low, high, kept = 0, len(due) + 1, best
    while high - low > 1:
        count = (low + high) // 2
        yield Progress(0, 0, f"laying out {charts.count:,} islands, {count} of them larger")
        scales = best.scales.copy()
        scales[due[:count]] = following[due[:count]]
        found = yield from _tried(charts, scales, wanted, (best.width, best.height), tries=3)
        if found is None:
            high = count
        else:
            low, kept = count, found
    return kept


def _factor_for(charts: ChartSet, scaling: Scaling, wanted: Wanted, texels: float) -> float:
    """Return the factor at which charts cover about so many texels."""
    low, high = 1e-6, 1.0
    while _covers(charts, scaling(high), wanted) < texels and high < 1e6:
        high *= 2
    for _ in range(16):
        middle = float(np.sqrt(low * high))
        if _covers(charts, scaling(middle), wanted) < texels:
            low = middle
        else:
            high = middle
    return high


def _covers(charts: ChartSet, scales: Floats, wanted: Wanted) -> float:
    """Return about how many texels charts take with their margins."""
    bounds = np.searchsorted(charts.chart, np.arange(charts.count + 1))
    low = np.minimum.reduceat(charts.corners.min(axis=1), bounds[:-1], axis=0)
    high = np.maximum.reduceat(charts.corners.max(axis=1), bounds[:-1], axis=0)
    d1, d2 = charts.corners[:, 1] - charts.corners[:, 0], charts.corners[:, 2] - charts.corners[:, 0]
    inside = np.abs(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]) / 2
    area = np.minimum(np.bincount(charts.chart, inside, charts.count), np.prod(high - low, axis=1))
    girth = (high - low).sum(axis=1) * 2
    reach = wanted.gutter / 2 + CELL / 2
    return float((area * scales**2 + girth * scales * reach + 4 * reach * reach).sum())
