"""Islands of UVs, and the charts that they are moved in: islands that cover each other stay together as one.

An island is what is connected by vertices of one position and one UV. Islands of a material that share cells of its textures, as
mirrored halves and stamps do, would be written into each other's place; they make one chart, which moves as a whole.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from oaktrim.core.kernels import njit
from oaktrim.core.makers.atlas.silhouettes import KERNEL

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
# Cells along a texture's longer side that coverings are looked for in.
_GRID = 512
# Of the smaller of two islands, the share of cells from which they stay together.
_SHARED = 0.02
_SLACK = 1e-4


@dataclass(frozen=True, eq=False)
class Islands:
    """Vertices of the draws of one content as islands.

    Parameters
    ----------
    island : (N,) of each vertex; count : how many there are
    moved : (N, 2) UVs, whole tiles taken off where the texture repeats
    """

    island: Ints
    count: int
    moved: Floats


def islands_of(positions: NDArray[np.float32], uv: Floats, triangles: Ints, steps: tuple[int, int] = (1, 1)) -> Islands:
    """Return the islands of triangles over vertices.

    Parameters
    ----------
    positions : (N, 3) float32; uv : (N, 2) float64; triangles : (M, 3)
    steps : whole tiles that can be taken off across and down without a change: 1 where a texture repeats, 2 where it is mirrored,
        0 where it ends
    """
    count = len(uv)
    rows = np.concatenate([positions.astype(np.float64), uv], axis=1) + 0.0
    same = _same_rows(rows)
    ends = same[triangles]
    starts = np.concatenate([ends[:, 0], ends[:, 1]])
    stops = np.concatenate([ends[:, 1], ends[:, 2]])
    graph = coo_matrix((np.ones(len(starts), np.int8), (starts, stops)), shape=(count, count))
    _, labels = connected_components(graph, directed=False)
    used, island = np.unique(labels[same], return_inverse=True)
    island = island.reshape(-1).astype(np.int64)
    low = np.full((len(used), 2), np.inf)
    np.minimum.at(low, island, uv)
    tiles = np.zeros_like(low)
    for axis, step in enumerate(steps):
        if step:
            tiles[:, axis] = np.floor((low[:, axis] + _SLACK) / step) * step
    moved = uv - tiles[island]
    return Islands(island, len(used), moved)


def _same_rows(rows: Floats) -> Ints:
    """Return for each row (N, K) the place of the first that is equal to it."""
    flat = np.ascontiguousarray(rows).view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1]))).reshape(-1)
    _, first, back = np.unique(flat, return_index=True, return_inverse=True)
    found: Ints = first[back.reshape(-1)].astype(np.int64)
    return found


def together(corners: Floats, island: Ints, count: int, size: float) -> Ints:
    """Return which chart each island is in, (count,), numbered from 0 in the order of their first islands.

    Parameters
    ----------
    corners : (M, 3, 2) of triangles, texels; island : (M,) of each; size : texels that the cells are told from
    """
    if count <= 1 or not len(corners):
        return np.zeros(count, np.int64)
    cell = max(size / _GRID, 1e-9)
    scaled = corners / cell
    low = np.floor(scaled.min(axis=(0, 1)))
    spread = scaled.max(axis=(0, 1)) - low
    # UVs far out are looked at in coarser cells.
    coarser = max(1.0, float(spread.max()) / (8 * _GRID))
    scaled = (scaled - low) / coarser
    width = int(spread[0] / coarser) + 2
    height = int(spread[1] / coarser) + 2
    pairs = _cells(np.ascontiguousarray(scaled), island, width, height)
    pairs = np.sort(pairs)
    pairs = pairs[np.concatenate([[True], pairs[1:] != pairs[:-1]])] if len(pairs) else pairs
    cells, owners = pairs // count, pairs % count
    sizes = np.bincount(owners, minlength=count)
    near = np.flatnonzero(cells[1:] == cells[:-1])
    keys, shared = np.unique(owners[near] * count + owners[near + 1], return_counts=True)
    if not len(keys):
        return np.arange(count)
    both = np.stack([keys // count, keys % count], axis=1)
    joined = shared > _SHARED * np.minimum(sizes[both[:, 0]], sizes[both[:, 1]])
    both = both[joined]
    graph = coo_matrix((np.ones(len(both), np.int8), (both[:, 0], both[:, 1])), shape=(count, count))
    _, labels = connected_components(graph, directed=False)
    _, first, back = np.unique(labels, return_index=True, return_inverse=True)
    rank = np.argsort(np.argsort(first))
    found: Ints = rank[back.reshape(-1)].astype(np.int64)
    return found


def _cells(corners: Floats, island: Ints, width: int, height: int) -> Ints:
    """Return which cells the middles of islands' triangles lie in, as cell * islands + island."""
    count = int(island.max()) + 1
    room = np.empty(max(1024, 4 * len(corners)), np.int64)
    while True:
        used = _list_cells(corners, island, width, height, count, room)
        if used <= len(room):
            return room[:used]
        room = np.empty(used, np.int64)


@njit(**KERNEL)
def _list_cells(corners, island, width, height, count, out):
    """Fill in the cells whose middle a triangle holds, and that of its centroid; return how many there are.

    Parameters
    ----------
    corners : (M, 3, 2) float64, cells; island : (M,) int64; out : (K,) int64, cell * count + island
    """
    used = 0
    for t in range(corners.shape[0]):
        ax, ay = corners[t, 0, 0], corners[t, 0, 1]
        bx, by = corners[t, 1, 0], corners[t, 1, 1]
        cx, cy = corners[t, 2, 0], corners[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        mx, my = int((ax + bx + cx) / 3), int((ay + by + cy) / 3)
        if used < out.shape[0]:
            out[used] = (min(max(my, 0), height - 1) * width + min(max(mx, 0), width - 1)) * count + island[t]
        used += 1
        if area == 0:
            continue
        for y in range(max(0, int(min(ay, by, cy) - 0.5)), min(height, int(max(ay, by, cy) + 0.5) + 1)):
            py = y + 0.5
            for x in range(max(0, int(min(ax, bx, cx) - 0.5)), min(width, int(max(ax, bx, cx) + 0.5) + 1)):
                px = x + 0.5
                u = ((bx - ax) * (py - ay) - (by - ay) * (px - ax)) / area
                v = ((cx - bx) * (py - by) - (cy - by) * (px - bx)) / area
                w = ((ax - cx) * (py - cy) - (ay - cy) * (px - cx)) / area
                if u > 1e-6 and v > 1e-6 and w > 1e-6:
                    if used < out.shape[0]:
                        out[used] = (y * width + x) * count + island[t]
                    used += 1
    return used
