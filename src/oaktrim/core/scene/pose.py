"""Where a model stands at a time: its nodes moved by an animation, and its meshes bent by their joints.

glTF 2.0, clauses 3.7.3 (skins) and 3.11 (animations).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.scene.geometry import unit
from oaktrim.core.scene.gltf.nodes import placements
from oaktrim.core.scene.model import Animation, Model, Primitive, Skin, Track

Matrix = NDArray[np.float64]


def posed(model: Model, clip: Animation | None = None, seconds: float = 0.0) -> dict[int, Matrix]:
    """Return the matrix to the world of every node of the scene, (4, 4) each, at a time of a clip; at rest without one."""
    if clip is None:
        return model.world_matrices()
    moved: dict[int, dict[str, NDArray[np.float64]]] = {}
    for track in clip.tracks:
        moved.setdefault(track.node, {})[track.path] = _value(track, seconds)
    nodes = list(model.nodes)
    for place, values in moved.items():
        rest = _parts(nodes[place].matrix) | values
        matrix = placements(rest["translation"][None], rest["rotation"][None], rest["scale"][None])[0]
        nodes[place] = replace(nodes[place], matrix=matrix)
    return replace(model, nodes=tuple(nodes)).world_matrices()


def _value(track: Track, seconds: float) -> NDArray[np.float64]:
    """Return a track's value at a time; before the first key and after the last these stay."""
    times: NDArray[np.float64] = track.times.astype(np.float64)
    values: NDArray[np.float64] = track.values.astype(np.float64)
    found: NDArray[np.float64]
    curve = track.interpolation == "CUBICSPLINE"
    after = int(np.searchsorted(times, seconds, side="right"))
    if after == 0 or after == len(times):
        found = values[0 if after == 0 else -1]
        return _middle(found) if curve else found
    before = after - 1
    span = times[after] - times[before]
    part = (seconds - times[before]) / span if span > 0 else 0.0
    if track.interpolation == "STEP":
        found = values[before]
        return found
    if curve:
        p2, p3 = part * part, part * part * part
        start, end = values[before], values[after]
        found = (2 * p3 - 3 * p2 + 1) * start[1] + span * (p3 - 2 * p2 + part) * start[2]
        found = found + (-2 * p3 + 3 * p2) * end[1] + span * (p3 - p2) * end[0]
        return _scaled(found) if track.path == "rotation" else found
    if track.path == "rotation":
        return _slerp(values[before], values[after], part)
    found = values[before] * (1 - part) + values[after] * part
    return found


def _middle(key: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the value of a key that has tangents before and after it."""
    value: NDArray[np.float64] = key[1]
    return value


def _scaled(rotation: NDArray[np.float64]) -> NDArray[np.float64]:
    found: NDArray[np.float64] = rotation / max(1e-12, float(np.linalg.norm(rotation)))
    return found


def _slerp(start: NDArray[np.float64], end: NDArray[np.float64], part: float) -> NDArray[np.float64]:
    """Return a rotation between two, the short way (K. Shoemake, "Animating rotation with quaternion curves", 1985)."""
    along = float(start @ end)
    if along < 0:
        end, along = -end, -along
    if along > 0.9995:
        mixed = start * (1 - part) + end * part
    else:
        angle = np.arccos(min(1.0, along))
        mixed = (np.sin((1 - part) * angle) * start + np.sin(part * angle) * end) / np.sin(angle)
    return _scaled(mixed)


def _parts(matrix: Matrix) -> dict[str, NDArray[np.float64]]:
    """Return translation, rotation and scale of a matrix without shear."""
    scale = np.linalg.norm(matrix[:3, :3], axis=0)
    turn = matrix[:3, :3] / np.where(scale > 0, scale, 1)
    if np.linalg.det(turn) < 0:
        scale, turn = scale * (-1, 1, 1), turn * (-1, 1, 1)
    w = np.sqrt(max(0.0, 1 + turn[0, 0] + turn[1, 1] + turn[2, 2])) / 2
    x = np.copysign(np.sqrt(max(0.0, 1 + turn[0, 0] - turn[1, 1] - turn[2, 2])) / 2, turn[2, 1] - turn[1, 2])
    y = np.copysign(np.sqrt(max(0.0, 1 - turn[0, 0] + turn[1, 1] - turn[2, 2])) / 2, turn[0, 2] - turn[2, 0])
    z = np.copysign(np.sqrt(max(0.0, 1 - turn[0, 0] - turn[1, 1] + turn[2, 2])) / 2, turn[1, 0] - turn[0, 1])
    return {"translation": matrix[:3, 3].copy(), "rotation": np.array([x, y, z, w]), "scale": scale}


def bent(primitive: Primitive, skin: Skin, matrices: dict[int, Matrix]) -> Primitive:
    """Return a primitive in the world, bent by its joints; the node that it hangs on does not move it (clause 3.7.3.3).

    Parameters
    ----------
    matrices : to the world, of nodes; a joint that is not in the scene stays at rest
    """
    if primitive.joints is None or primitive.weights is None or skin.inverse_bind is None or not skin.nodes:
        return primitive
    joints = np.stack(
        [
            matrices[node] @ back if node in matrices else np.eye(4)
            for node, back in zip(skin.nodes, skin.inverse_bind, strict=True)
        ]
    )
    places = np.clip(primitive.joints, 0, len(joints) - 1)
    weights = primitive.weights / np.maximum(primitive.weights.sum(axis=1, keepdims=True), 1e-9)
    blended = np.einsum("nj,njab->nab", weights.astype(np.float64), joints[places])
    points = np.einsum("nab,nb->na", blended[:, :3, :3], primitive.positions) + blended[:, :3, 3]
    return replace(
        primitive,
        positions=points.astype(np.float32),
        normals=None if primitive.normals is None else unit(_turned(blended, primitive.normals)),
        tangents=None
        if primitive.tangents is None
        else _with_sign(_turned(blended, primitive.tangents[:, :3]), primitive),
    )


def _turned(matrices: NDArray[np.float64], vectors: NDArray[np.float32]) -> NDArray[np.float64]:
    turned: NDArray[np.float64] = np.einsum("nab,nb->na", matrices[:, :3, :3], vectors)
    return turned


def _with_sign(vectors: NDArray[np.float64], primitive: Primitive) -> NDArray[np.float32]:
    assert primitive.tangents is not None
    return np.concatenate([unit(vectors), primitive.tangents[:, 3:]], axis=1).astype(np.float32)
