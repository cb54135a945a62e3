"""Vertices made ready to be shaded: normals and tangents where a file has none.

Flat normals as glTF 2.0, clause 3.7.2.1, has it: without normals, each triangle is flat. Tangents after E. Lengyel, "Computing
tangent space basis vectors for an arbitrary mesh" (2001), summed over the triangles of a vertex by their area.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.scene.model import Points, Primitive

_NOTHING = 1e-12


@dataclass(frozen=True)
class Ready:
    """A primitive with normals, and tangents where its UVs allow them.

    Parameters
    ----------
    flat : its normals were made of its triangles; derived : its tangents were made of its UVs
    """

    primitive: Primitive
    flat: bool
    derived: bool


def ready(primitive: Primitive, tangents: bool = True, uv_set: int = 0) -> Ready:
    """Return a primitive that can be shaded; vertices that several flat triangles share are parted.

    Parameters
    ----------
    tangents : derive them where the file has none; uv_set : of which UVs
    """
    made, flat = primitive, primitive.normals is None
    derived = made.tangents is None and tangents and uv_set < len(made.uvs)
    # Positions may be endless, or no numbers: what comes of them is of no length.
    with np.errstate(over="ignore", invalid="ignore"):
        if flat:
            made = _parted(primitive)
        if derived:
            made = replace(made, tangents=tangents_of(made, made.uvs[uv_set]))
    return Ready(made, flat, derived)


def _parted(primitive: Primitive) -> Primitive:
    """Return a primitive whose triangles share no vertex, with the normal of each."""
    corners = primitive.triangles.reshape(-1)
    points = primitive.positions[corners]
    a, b, c = points[0::3], points[1::3], points[2::3]
    normals = np.repeat(unit(np.cross(b - a, c - a)), 3, axis=0)

    def part(values: NDArray[np.float32] | None) -> NDArray[np.float32] | None:
        return None if values is None else values[corners]

    return replace(
        primitive,
        positions=points,
        uvs=tuple(uv[corners] for uv in primitive.uvs),
        triangles=np.arange(len(corners), dtype=np.int64).reshape(-1, 3),
        normals=normals,
        tangents=part(primitive.tangents),
        colours=part(primitive.colours),
        joints=None if primitive.joints is None else primitive.joints[corners],
        weights=part(primitive.weights),
    )


def smooth_normals(points: Points, triangles: NDArray[np.int64]) -> Points:
    """Return normals (N, 3) of vertices, those of their triangles summed by area."""
    a, b, c = (points[triangles[:, k]].astype(np.float64) for k in range(3))
    faces = np.cross(b - a, c - a)
    return unit(_summed(np.repeat(faces, 3, axis=0), triangles.reshape(-1), len(points)))


def tangents_of(primitive: Primitive, uv: Points) -> Points:
    """Return tangents (N, 4) float32: along rising U, square to the normal, and the sign of the bitangent.

    Where UVs have no area, any direction square to the normal stands.
    """
    assert primitive.normals is not None
    t = primitive.triangles
    points, uvs = primitive.positions.astype(np.float64), uv.astype(np.float64)
    e1, e2 = points[t[:, 1]] - points[t[:, 0]], points[t[:, 2]] - points[t[:, 0]]
    d1, d2 = uvs[t[:, 1]] - uvs[t[:, 0]], uvs[t[:, 2]] - uvs[t[:, 0]]
    turn = np.sign(d1[:, 0] * d2[:, 1] - d2[:, 0] * d1[:, 1])[:, None]
    along = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) * turn
    down = (e2 * d1[:, :1] - e1 * d2[:, :1]) * turn
    corners, count = t.reshape(-1), len(points)
    # Unit vectors, weighed by the area of their triangle.
    area = np.linalg.norm(np.cross(e1, e2), axis=1)[:, None]
    sum_u = _summed(np.repeat(unit(along) * area, 3, axis=0), corners, count)
    sum_v = _summed(np.repeat(unit(down) * area, 3, axis=0), corners, count)
    normal = primitive.normals.astype(np.float64)
    flat = sum_u - normal * (normal * sum_u).sum(axis=1, keepdims=True)
    lost = ~(np.linalg.norm(flat, axis=1) > _NOTHING * np.linalg.norm(sum_u, axis=1))
    if lost.any():
        axis = np.where(np.abs(normal[lost, :1]) < 0.9, (1.0, 0.0, 0.0), (0.0, 1.0, 0.0))
        flat[lost] = np.cross(normal[lost], axis)
    tangent = unit(flat)
    # V runs down the picture and the bitangent up it (clause 3.9.3): the sign is that of -dP/dv.
    handed = np.where((np.cross(normal, tangent) * -sum_v).sum(axis=1) < 0, -1.0, 1.0)
    return np.concatenate([tangent, handed[:, None]], axis=1).astype(np.float32)


def unit(vectors: NDArray[np.floating]) -> Points:
    """Return vectors (N, 3) at length 1; those without a length that is a number become 0."""
    wide = vectors.astype(np.float64)
    largest = np.abs(wide).max(axis=1, keepdims=True, initial=0.0)
    sound = np.isfinite(largest) & (largest > 0)
    # Brought to a common size first: the square of a short vector is nothing.
    near = np.where(sound, wide, 1.0) / np.where(sound, largest, 1.0)
    found: Points = np.where(sound, near / np.linalg.norm(near, axis=1, keepdims=True), 0).astype(np.float32)
    return found


def _summed(values: NDArray[np.floating], places: NDArray[np.int64], count: int) -> NDArray[np.float64]:
    columns = [np.bincount(places, values[:, k], count) for k in range(values.shape[1])]
    return np.stack(columns, axis=1)
