"""What the demonstration's models are put together from: boxes, tubes, cards and sheets with their UVs.

A shape is positions (N, 3), UVs (N, 2), both float32, and triangles (M, 3) uint32, wound counter-clockwise from outside.
"""

from __future__ import annotations

import operator
from collections.abc import Iterable
from dataclasses import dataclass
from functools import reduce

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Shape:
    """A piece of geometry."""

    points: Floats
    uv: Floats
    triangles: NDArray[np.uint32]

    def moved(self, x: float = 0, y: float = 0, z: float = 0) -> Shape:
        """Return the shape somewhere else."""
        return Shape((self.points + np.array([x, y, z], np.float32)), self.uv, self.triangles)

    def upright(self) -> Shape:
        """Return the shape tilted by a quarter turn about Z, so that what lay flat stands across X."""
        x, y, z = self.points.T
        return Shape(np.stack([y, -x, z], axis=1), self.uv, self.triangles)

    def tiled(self, across: float, down: float) -> Shape:
        """Return the shape with its UVs repeated."""
        return Shape(self.points, (self.uv * np.array([across, down], np.float32)), self.triangles)

    def __add__(self, other: Shape) -> Shape:
        shifted = other.triangles + np.uint32(len(self.points))
        return Shape(
            np.concatenate([self.points, other.points]),
            np.concatenate([self.uv, other.uv]),
            np.concatenate([self.triangles, shifted]),
        )


def joined(shapes: Iterable[Shape]) -> Shape:
    """Return several shapes as one."""
    return reduce(operator.add, shapes)


def sheet(points: Floats) -> Shape:
    """Return a grid of points (rows, columns, 3) as a surface, its UVs once over the whole."""
    rows, columns = points.shape[:2]
    v, u = np.meshgrid(np.linspace(0, 1, rows), np.linspace(0, 1, columns), indexing="ij")
    corner = np.arange(rows * columns, dtype=np.uint32).reshape(rows, columns)
    a, b, c, d = corner[:-1, :-1], corner[:-1, 1:], corner[1:, 1:], corner[1:, :-1]
    triangles = np.stack([a, d, c, a, c, b], axis=-1).reshape(-1, 3)
    uv = np.stack([u, v], axis=-1).reshape(-1, 2).astype(np.float32)
    return Shape(points.reshape(-1, 3).astype(np.float32), uv, triangles)


def card(width: float, height: float, turn: float = 0.0) -> Shape:
    """Return an upright rectangle that stands on the ground, turned about the vertical by an angle in radians."""
    x, z = np.cos(turn) * width / 2, np.sin(turn) * width / 2
    return sheet(np.array([[[-x, height, -z], [x, height, z]], [[-x, 0, -z], [x, 0, z]]], np.float32))


def box(width: float, height: float, depth: float) -> Shape:
    """Return a box that stands on the ground; the four sides take a quarter of the UVs each, top and bottom share one."""
    w, d = width / 2, depth / 2
    ring = np.array([[-w, d], [w, d], [w, -d], [-w, -d], [-w, d]], np.float32)
    sides = np.stack([np.stack([ring[:, 0], np.full(5, y), ring[:, 1]], axis=1) for y in (height, 0)])
    top = np.array([[[-w, height, -d], [w, height, -d]], [[-w, height, d], [w, height, d]]], np.float32)
    return sheet(sides.astype(np.float32)) + sheet(top)


def tube(radius: float, height: float, around: int, along: int, sway: float = 0.0) -> Shape:
    """Return an upright tube without lids, bent sideways by up to `sway`."""
    angle = np.linspace(0, 2 * np.pi, around + 1)
    level = np.linspace(1, 0, along + 1)
    x = radius * np.cos(angle)[None, :] + sway * np.sin(level * 3)[:, None]
    z = np.broadcast_to(-radius * np.sin(angle)[None, :], x.shape)
    y = np.broadcast_to(height * level[:, None], x.shape)
    return sheet(np.stack([x, y, z], axis=-1).astype(np.float32))


def ring(radius: float, thickness: float, around: int, section: int, strands: int = 0) -> Shape:
    """Return a ring that lies flat, roped when it has strands."""
    a = np.linspace(0, 2 * np.pi, around + 1)[:, None]
    b = np.linspace(0, 2 * np.pi, section + 1)[None, :]
    r = thickness * (1 + (0.18 * np.abs(np.sin(strands * (a + b / 2))) if strands else 0))
    spread = radius + r * np.cos(b)
    return sheet(np.stack([spread * np.cos(a), r * np.sin(b) + 0 * a, spread * np.sin(a)], axis=-1).astype(np.float32))


def hull(length: float, width: float, height: float, along: int, across: int) -> Shape:
    """Return an open boat, pointed at both ends."""
    t = np.linspace(-1, 1, along)[:, None]
    s = np.linspace(-1, 1, across)[None, :]
    beam = width / 2 * (1 - t**2) ** 0.7
    rise = height * (np.abs(s) ** 2.4 * (0.8 + 0.35 * t**2))
    return sheet(np.stack([length / 2 * t + 0 * s, rise, beam * s], axis=-1).astype(np.float32))


def ground(size: float, steps: int) -> Shape:
    """Return a square of ground with low swells."""
    x, z = np.meshgrid(*[np.linspace(-size / 2, size / 2, steps)] * 2)
    return sheet(np.stack([x, 0.12 * np.sin(x) * np.cos(z * 0.7), z], axis=-1).astype(np.float32))
