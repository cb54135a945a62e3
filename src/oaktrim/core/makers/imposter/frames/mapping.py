"""Which direction each frame is seen from, and which three frames surround a direction.

A sphere and its upper half are laid out on a square by octahedral maps (Z. Cigolle et al., "A survey of efficient representations
for independent unit vectors", 2014) with Y as their axis; a ring has a column for each turn and a row for each elevation.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, cos, pi, radians, sin

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.makers.imposter.settings import Family, Imposter

Floats = NDArray[np.float64]
_POLE = 1e-4


@dataclass(frozen=True)
class Grid:
    """Frames in columns and rows.

    Parameters
    ----------
    rise : elevations of a ring's lowest and of its highest row, radians
    turn : where a ring's first column stands, from +Z towards +X, and how far its columns go, radians; 2 pi for all round
    """

    family: Family
    columns: int
    rows: int
    rise: tuple[float, float] = (0.0, 0.0)
    turn: tuple[float, float] = (0.0, 2 * pi)

    @property
    def count(self) -> int:
        return self.columns * self.rows

    @property
    def closed(self) -> bool:
        """A row of it goes all round, so that its first frame follows its last."""
        return self.family is Family.RING and self.turn[1] >= 2 * pi - 1e-9

    @property
    def _stride(self) -> float:
        """How far a ring turns from a column to the next."""
        return self.turn[1] / (self.columns if self.closed else self.columns - 1)

    def direction(self, column: int, row: int) -> Floats:
        """Return the unit vector from the thing to where a frame is seen from, (3,)."""
        if self.family is Family.RING:
            turn = self.turn[0] + self._stride * (column % self.columns)
            part = row / (self.rows - 1) if self.rows > 1 else 0.0
            lift = self.rise[0] + (self.rise[1] - self.rise[0]) * part
            return np.array([sin(turn) * cos(lift), sin(lift), cos(turn) * cos(lift)])
        u, v = (2 * place / (count - 1) - 1 for place, count in ((column, self.columns), (row, self.rows)))
        if self.family is Family.DOME:
            u, v = (u + v) / 2, (u - v) / 2
        y = 1 - abs(u) - abs(v)
        if y < 0:
            u, v = ((1 - abs(b)) * (1.0 if a >= 0 else -1.0) for a, b in ((u, v), (v, u)))
        found = np.array([u, y, v])
        unit: Floats = found / np.linalg.norm(found)
        return unit

    def place(self, direction: Floats) -> tuple[float, float]:
        """Return where a direction lies among the frames, in columns and rows; below the horizon of a dome, at its rim."""
        x, y, z = (float(v) for v in direction / max(float(np.linalg.norm(direction)), 1e-30))
        if self.family is Family.RING:
            away = (atan2(x, z) - self.turn[0]) % (2 * pi)
            if not self.closed and away > self.turn[1]:
                # Out of the sector, the nearer of its ends.
                away = self.turn[1] if away - self.turn[1] < 2 * pi - away else 0.0
            column = away / self._stride
            lift = atan2(y, float(np.hypot(x, z)))
            span = self.rise[1] - self.rise[0]
            part = min(1.0, max(0.0, (lift - self.rise[0]) / span)) if span > 0 else 0.0
            return column, part * (self.rows - 1)
        if self.family is Family.DOME:
            y = max(y, 0.0)
        total = max(abs(x) + abs(y) + abs(z), 1e-30)
        u, v = x / total, z / total
        if self.family is Family.DOME:
            u, v = u + v, u - v
        elif y < 0:
            u, v = ((1 - abs(b)) * (1.0 if a >= 0 else -1.0) for a, b in ((u, v), (v, u)))
        column, row = ((side + 1) / 2 * (count - 1) for side, count in ((u, self.columns), (v, self.rows)))
        return column, row

    def around(self, direction: Floats) -> tuple[NDArray[np.int64], Floats]:
        """Return the three frames around a direction, (3, 2) columns and rows, and their weights (3,), which make 1."""
        column, row = self.place(direction)
        wraps = self.closed
        first = int(column) if wraps else min(int(column), self.columns - 2)
        top = min(int(row), max(0, self.rows - 2))
        fx, fy = column - first, row - top
        if fx + fy <= 1:
            corners, weights = ((0, 0), (1, 0), (0, 1)), (1 - fx - fy, fx, fy)
        else:
            corners, weights = ((1, 1), (0, 1), (1, 0)), (fx + fy - 1, 1 - fx, 1 - fy)
        cells = [((first + a) % self.columns if wraps else first + a, min(top + b, self.rows - 1)) for a, b in corners]
        return np.array(cells, np.int64), np.array(weights, np.float64)


def grid_of(settings: Imposter) -> Grid:
    """Return the frames of an imposter."""
    if settings.family is Family.RING:
        low, high = settings.rise if settings.rows > 1 else (sum(settings.rise) / 2,) * 2
        turn = radians(settings.sector[0]), radians(settings.sector[1])
        return Grid(settings.family, settings.frames, settings.rows, (radians(low), radians(high)), turn)
    return Grid(settings.family, settings.frames, settings.frames)


def axes(direction: Floats) -> tuple[Floats, Floats]:
    """Return the directions to the right and up on a frame that is seen from a direction."""
    right = np.array([direction[2], 0.0, -direction[0]])
    length = float(np.linalg.norm(right))
    right = right / length if length > _POLE else np.array([1.0, 0.0, 0.0])
    return right, np.cross(direction, right)
