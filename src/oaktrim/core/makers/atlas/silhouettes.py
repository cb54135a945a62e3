"""The silhouettes of charts as cells: conservative rasters of their triangles with a margin, turned by quarters.

A chart's cells are what a packer moves about: every texel within the margin of a triangle lies in one of them.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.kernels import njit
from oaktrim.core.makers.atlas.settings import LATTICE

KERNEL: dict[str, Any] = {"nogil": True, "cache": True, "error_model": "numpy"}
# Of the boxes around all islands: more than 60 sheets of 8192 have.
_MOST_CELLS = 1 << 28
# Of a cell: what reaches no farther into it only touches it.
_TOUCH = 1e-6
Ints = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Silhouettes:
    """Cells of charts, at one scale.

    Parameters
    ----------
    cells : (T,) uint8, the grids of all charts after another, row by row; starts : (N + 1,) where each begins
    sizes : (N, 2) columns and rows; origins : (N, 2) texels of the left top corner of each, at its scale
    cell : texels a cell
    """

    cells: NDArray[np.uint8]
    starts: Ints
    sizes: Ints
    origins: Ints
    cell: int

    def grid(self, chart: int) -> NDArray[np.uint8]:
        """Return the cells of one chart, (rows, columns)."""
        columns, rows = self.sizes[chart]
        return self.cells[self.starts[chart] : self.starts[chart + 1]].reshape(rows, columns)

    @property
    def covered(self) -> Ints:
        """How many cells each chart has, (N,)."""
        return np.add.reduceat(self.cells.astype(np.int64), self.starts[:-1]) if len(self.sizes) else self.starts[:0]


def border_of(margin: float) -> int:
    """Return the texels that the grid of a chart reaches beyond the chart on every side, and may reach beyond a sheet."""
    return -(-ceil(margin) // LATTICE) * LATTICE


def silhouettes(
    corners: NDArray[np.float64],
    charts: Ints,
    scales: NDArray[np.float64],
    margin: float,
    cell: int,
    lattice: Ints,
) -> Silhouettes:
    """Rasterise charts.

    Parameters
    ----------
    corners : (M, 3, 2) of triangles, in the texels of their source; charts : (M,), ascending, of each triangle
    scales : (N,) by which each chart is scaled; margin : texels around, at that scale
    lattice : (N,) texels; the corners of each grid lie on multiples of it
    """
    count = len(scales)
    bounds = np.searchsorted(charts, np.arange(count + 1))
    scaled = corners * scales[charts][:, None, None]
    low, high = _boxes(scaled, bounds)
    border = border_of(margin)
    origins = np.floor(low / lattice[:, None]).astype(np.int64) * lattice[:, None] - border
    # Sides are multiples, too, so that a quarter turn keeps what lies on the lattice there.
    steps = np.maximum(1, lattice // cell)[:, None]
    sizes = -(-(np.ceil(high).astype(np.int64) + border - origins) // (cell * steps)) * steps
    starts = np.concatenate([[0], np.cumsum(sizes[:, 0] * sizes[:, 1])])
    if starts[-1] > _MOST_CELLS:
        raise Unsupported(
            f"the boxes around {count:,} islands have {starts[-1]:,} cells, which is more than is laid out"
        )
    cells = np.zeros(int(starts[-1]), np.uint8)
    _fill(scaled, charts, origins.astype(np.float64), sizes, starts, margin, float(cell), cells)
    return Silhouettes(cells, starts, sizes, origins, cell)


def _boxes(corners: NDArray[np.float64], bounds: Ints) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the least and greatest corners of runs of triangles, (N, 2) each."""
    low = np.minimum.reduceat(corners.min(axis=1), bounds[:-1], axis=0)
    high = np.maximum.reduceat(corners.max(axis=1), bounds[:-1], axis=0)
    return low, high


@njit(**KERNEL)
def _fill(corners, charts, origins, sizes, starts, margin, cell, cells):
    """Mark the cells that triangles, grown by a margin each way, touch.

    Parameters
    ----------
    corners : (M, 3, 2) float64; charts : (M,) int64; origins : (N, 2) float64; sizes, starts, cells : see `Silhouettes`
    """
    for t in range(corners.shape[0]):
        chart = charts[t]
        columns, rows = sizes[chart, 0], sizes[chart, 1]
        top = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - margin - origins[chart, 1]
        foot = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + margin - origins[chart, 1]
        for row in range(max(0, int(top / cell)), min(rows, int(np.ceil(foot / cell - _TOUCH)))):
            # Of the triangle, what lies within the margin of this row of cells.
            y0 = row * cell - margin + origins[chart, 1]
            y1 = (row + 1) * cell + margin + origins[chart, 1]
            left, right = np.inf, -np.inf
            for k in range(3):
                ax, ay = corners[t, k, 0], corners[t, k, 1]
                bx, by = corners[t, (k + 1) % 3, 0], corners[t, (k + 1) % 3, 1]
                if y0 <= ay <= y1:
                    left, right = min(left, ax), max(right, ax)
                for edge in (y0, y1):
                    if (ay < edge) != (by < edge):
                        x = ax + (bx - ax) * ((edge - ay) / (by - ay))
                        left, right = min(left, x), max(right, x)
            if left > right:
                continue
            first = max(0, int((left - margin - origins[chart, 0]) / cell))
            last = min(columns - 1, int(np.ceil((right + margin - origins[chart, 0]) / cell - _TOUCH)) - 1)
            at = starts[chart] + row * columns
            for column in range(first, last + 1):
                cells[at + column] = 1
