"""Matrices between texels of sheets and of sources, and how directions turn with them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.atlas.reading import MapRead

Floats = NDArray[np.float64]
_EXACT = 1e-6


def _square(matrix: Floats) -> Floats:
    """Return a matrix of 2 rows of 3 with the row that makes it one of 3."""
    return np.vstack([matrix, [0.0, 0.0, 1.0]])


def _inverse(matrix: Floats) -> Floats:
    """Return the inverse of an affine matrix; where it has none, one that leads to its own offset."""
    square = _square(matrix)
    if abs(float(np.linalg.det(square))) < 1e-30:
        return np.array([[0.0, 0.0, 0.0], [0.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    found: Floats = np.linalg.inv(square).astype(np.float64)
    return found


def between(reference: MapRead, row: MapRead) -> Floats:
    """Return the matrix (3, 3) from texels of one map to those of another that the same UVs read."""
    if reference.matrix == row.matrix:
        return np.eye(3)
    found: Floats = _square(row.array) @ _inverse(reference.array)
    return found


def sheet_to_slot(chart: Floats, to_slot: Floats, shift: int) -> Floats:
    """Return the matrix (2, 3) from texels of a map's sheet to texels of the picture."""
    larger = np.diag([2.0**shift, 2.0**shift, 1.0])
    found: Floats = (to_slot @ _inverse(chart) @ larger)[:2]
    return found


def is_exact(matrix: Floats) -> bool:
    """Say whether a matrix leads from middles of texels to middles of texels, one to one."""
    turn = matrix[:, :2]
    whole = np.abs(turn - np.round(turn)).max() < _EXACT and abs(abs(float(np.linalg.det(turn))) - 1) < _EXACT
    offset = matrix[:, 2] + turn.sum(axis=1) / 2 - 0.5
    return bool(whole and np.abs(offset - np.round(offset)).max() < 1e-3)


def rounded(matrix: Floats) -> Floats:
    """Return a matrix that is exact but for rounding, exact."""
    turn = np.round(matrix[:, :2])
    offset = np.round(matrix[:, 2] + turn.sum(axis=1) / 2 - 0.5) - turn.sum(axis=1) / 2 + 0.5
    return np.concatenate([turn, offset[:, None]], axis=1)


def uv_turn(reference: MapRead | None, chart: Floats) -> Floats:
    """Return how directions of UV are turned, or mirrored, by moving a chart: an orthogonal matrix (2, 2)."""
    whole = chart[:, :2] @ (reference.array[:, :2] if reference is not None else np.eye(2))
    u, size, v = np.linalg.svd(whole)
    if size.min() <= 1e-12 * max(1e-300, size.max()):
        return np.eye(2)
    found: Floats = u @ v
    return np.where(np.abs(found) < 1e-12, 0.0, found)


def vector_turn(reference: MapRead | None, chart: Floats) -> Floats:
    """Return how the first two parts of a tangent-space vector are turned: V runs down, and their second part up."""
    up = np.diag([1.0, -1.0])
    found: Floats = up @ uv_turn(reference, chart) @ up
    return found
