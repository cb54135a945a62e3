"""Plain shapes to look at textures on."""

from __future__ import annotations

import numpy as np

from oaktrim.core.scene.model import Primitive


def sphere(around: int = 64, across: int = 32, repeats: float = 2.0) -> Primitive:
    """Return a sphere of radius 1 around the origin; U goes round it `repeats` times, V from its top down."""
    down, round_ = np.meshgrid(np.linspace(0, 1, across + 1), np.linspace(0, 1, around + 1), indexing="ij")
    polar, turn = down * np.pi, round_ * 2 * np.pi - np.pi
    normals = np.stack([np.sin(polar) * np.sin(turn), np.cos(polar), np.sin(polar) * np.cos(turn)], axis=-1)
    return _grid(normals, normals, np.stack([round_ * repeats, down], axis=-1))


def plane(repeats: float = 1.0) -> Primitive:
    """Return a plane from -1 to 1 that faces up; U goes to the right, V towards the viewer."""
    ahead, right = np.meshgrid(np.linspace(-1, 1, 2), np.linspace(-1, 1, 2), indexing="ij")
    points = np.stack([right, np.zeros_like(right), ahead], axis=-1)
    uv = np.stack([(right + 1) / 2 * repeats, (ahead + 1) / 2 * repeats], axis=-1)
    return _grid(points, np.broadcast_to([0.0, 1.0, 0.0], points.shape), uv)


def _grid(points: np.ndarray, normals: np.ndarray, uvs: np.ndarray) -> Primitive:
    """Return rows and columns of points (H, W, 3) as triangles, wound to be seen with rows going down."""
    height, width = points.shape[:2]
    at = np.arange(height * width).reshape(height, width)
    upper_left, upper_right, lower_left, lower_right = at[:-1, :-1], at[:-1, 1:], at[1:, :-1], at[1:, 1:]
    halves = [(upper_left, lower_left, lower_right), (upper_left, lower_right, upper_right)]
    triangles = np.concatenate([np.stack([c.reshape(-1) for c in half], axis=1) for half in halves])
    return Primitive(
        points.reshape(-1, 3).astype(np.float32), (uvs.reshape(-1, 2).astype(np.float32),), triangles, 0,
        len(triangles), normals.reshape(-1, 3).astype(np.float32),
    )  # fmt: skip


def post(around: int = 48, repeats: tuple[float, float] = (1.0, 1.0)) -> Primitive:
    """Return the side of an upright post around the origin, 2 high and 0.7 wide; U goes round it, V from its top down."""
    down, round_ = np.meshgrid(np.linspace(0, 1, 2), np.linspace(0, 1, around + 1), indexing="ij")
    turn = round_ * 2 * np.pi - np.pi
    normals = np.stack([np.sin(turn), np.zeros_like(turn), np.cos(turn)], axis=-1)
    points = normals * 0.35 + np.stack([np.zeros_like(turn), 1 - 2 * down, np.zeros_like(turn)], axis=-1)
    return _grid(points, normals, np.stack([round_ * repeats[0], down * repeats[1]], axis=-1))
