"""Triangles over textures that repeat, split at whole tiles, so that every piece reads one tile.

New vertices lie on edges and have what lies between the ends of these; pieces on both sides of an edge share them. Bones of a new
vertex are the strongest four of both ends.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.gltf import Document, PrimitiveRow, pack_glb, parse_gltf
from oaktrim.core.files.gltfchunk import ChunkWriter, with_one_buffer
from oaktrim.core.scene.gltf.meshes import triangle_rows

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
# Triangles of one draw, after splitting; more is a draw that tiles its texture far too often for that.
_MOST = 1 << 20
_SLACK = 1e-5


@dataclass(eq=False)
class _Draw:
    """A draw that is being split.

    Parameters
    ----------
    values : (N, K) float64 of each attribute, by name; those of morph targets by number and name
    tiles : (N, 2) UVs in tiles of the texture; triangles : (M, 3)
    """

    values: dict[tuple[int, str], Floats]
    tiles: Floats
    triangles: Ints


def split_document(document: Document, matrices: Mapping[tuple[int, int], tuple[int, Floats]]) -> Document:
    """Return a document with some draws split.

    Parameters
    ----------
    matrices : by mesh and primitive, the UV set that is read and the matrix (2, 3) from its UVs to tiles

    Raises
    ------
    Unsupported : a draw would come out in too many triangles
    """
    raw = copy.deepcopy(document.raw)
    buffer = ChunkWriter(raw)
    with_one_buffer(document, buffer)
    for (mesh, place), (uv_set, matrix) in matrices.items():
        row = document.root.meshes[mesh].primitives[place]
        made = _split(document, row, uv_set, matrix)
        _write(document, buffer, row, raw["meshes"][mesh]["primitives"][place], made, (uv_set, matrix))
    raw["buffers"] = [{"byteLength": len(buffer.data)}]
    return parse_gltf(pack_glb(msgspec.json.encode(raw), bytes(buffer.data)), document.place)


def _attributes(row: PrimitiveRow) -> dict[tuple[int, str], int]:
    """Return the accessors of a draw's attributes, those of morph targets by their number, others by -1."""
    found = {(-1, name): place for name, place in row.attributes.items()}
    for number, target in enumerate(row.targets):
        found |= {(number, name): place for name, place in target.items()}
    return found


def _split(document: Document, row: PrimitiveRow, uv_set: int, matrix: Floats) -> _Draw:
    """Return a draw whose triangles lie in one tile each."""
    values = {key: document.stored(place).astype(np.float64) for key, place in _attributes(row).items()}
    uv = document.accessor(row.attributes[f"TEXCOORD_{uv_set}"]).astype(np.float64)
    triangles = triangle_rows(document, row, len(uv))
    draw = _Draw(values, uv @ matrix[:, :2].T + matrix[:, 2], triangles)
    for axis in range(2):
        while _split_once(draw, axis):
            if len(draw.triangles) > _MOST:
                raise _too_many(document)
    return draw


def _too_many(document: Document) -> Unsupported:
    return Unsupported(
        f"{document.place.file}: a draw tiles its texture so often that it would be split into {_MOST:,} triangles"
    )


def _split_once(draw: _Draw, axis: int) -> bool:
    """Split every triangle that reaches over a whole tile along an axis at the first that it does; say whether any did."""
    at = draw.tiles[draw.triangles, axis]
    low, high = at.min(axis=1), at.max(axis=1)
    line = np.floor(low + _SLACK) + 1
    crossed = np.flatnonzero(np.isfinite(low + high) & (high > line + _SLACK))
    if not len(crossed):
        return False
    rows, at, line = draw.triangles[crossed], at[crossed], line[crossed]
    side = np.sign(np.where(np.abs(at - line[:, None]) <= _SLACK, 0.0, at - line[:, None])).astype(np.int64)
    # Turned so that the first corner is the one that lies alone: on its own side, or on the line.
    alone = np.where(
        (side == 0).any(axis=1), (side == 0).argmax(axis=1), (side * side.sum(axis=1)[:, None] < 0).argmax(axis=1)
    )
    turned = (alone[:, None] + np.arange(3)) % 3
    rows, side = np.take_along_axis(rows, turned, 1), np.take_along_axis(side, turned, 1)
    a, b, c = rows.T
    on_line = side[:, 0] == 0
    one, two = on_line, ~on_line
    middle = _between(draw, b[one], c[one], axis, line[one])
    first = _between(draw, a[two], b[two], axis, line[two])
    second = _between(draw, a[two], c[two], axis, line[two])
    made = [
        np.stack([a[one], b[one], middle], axis=1), np.stack([a[one], middle, c[one]], axis=1),
        np.stack([a[two], first, second], axis=1), np.stack([first, b[two], second], axis=1),
        np.stack([second, b[two], c[two]], axis=1),
    ]  # fmt: skip
    kept = np.ones(len(draw.triangles), np.bool_)
    kept[crossed] = False
    draw.triangles = np.concatenate([draw.triangles[kept], *made])
    return True


def _between(draw: _Draw, start: Ints, stop: Ints, axis: int, line: Floats) -> Ints:
    """Add the vertices where edges cross lines, each once, and return their places."""
    ends = np.stack([np.minimum(start, stop), np.maximum(start, stop), line.astype(np.int64)], axis=1)
    if not len(ends):
        return np.zeros(0, np.int64)
    keys, back = np.unique(ends, axis=0, return_inverse=True)
    a, b = keys[:, 0], keys[:, 1]
    low, high = draw.tiles[a, axis], draw.tiles[b, axis]
    part = ((keys[:, 2] - low) / (high - low))[:, None]
    first = len(draw.tiles)
    new = draw.tiles[a] + part * (draw.tiles[b] - draw.tiles[a])
    new[:, axis] = keys[:, 2]
    draw.tiles = np.concatenate([draw.tiles, new])
    for key, rows in list(draw.values.items()):
        if not key[1].startswith(("JOINTS_", "WEIGHTS_")):
            draw.values[key] = np.concatenate([rows, rows[a] + part * (rows[b] - rows[a])])
    _add_bones(draw, a, b, part)
    return first + back.reshape(-1).astype(np.int64)


def _add_bones(draw: _Draw, a: Ints, b: Ints, part: Floats) -> None:
    """Add the strongest bones of both ends, as many as a vertex has."""
    sets = sorted(name[7:] for number, name in draw.values if number < 0 and name.startswith("JOINTS_"))
    if not sets:
        return
    joints = np.concatenate([draw.values[-1, f"JOINTS_{row}"] for row in sets], axis=1)
    weights = np.concatenate([draw.values[-1, f"WEIGHTS_{row}"] for row in sets], axis=1)
    count = joints.shape[1]
    both = np.concatenate([joints[a], joints[b]], axis=1)
    heavy = np.concatenate([weights[a] * (1 - part), weights[b] * part], axis=1)
    for column in range(count, 2 * count):
        # A bone of both ends counts once.
        met = (both[:, :count] == both[:, column : column + 1]) & (heavy[:, :count] > 0)
        where = np.flatnonzero(met.any(axis=1))
        heavy[where, met[where].argmax(axis=1)] += heavy[where, column]
        heavy[where, column] = 0
    order = np.argsort(-heavy, axis=1, kind="stable")[:, :count]
    joint, weight = np.take_along_axis(both, order, 1), np.take_along_axis(heavy, order, 1)
    total = weights[a].sum(axis=1, keepdims=True) * (1 - part) + weights[b].sum(axis=1, keepdims=True) * part
    weight *= total / np.maximum(weight.sum(axis=1, keepdims=True), 1e-12)
    joint[weight == 0] = 0
    for number, row in enumerate(sets):
        columns = slice(4 * number, 4 * number + 4)
        for name, values in ((f"JOINTS_{row}", joint), (f"WEIGHTS_{row}", weight)):
            draw.values[-1, name] = np.concatenate([draw.values[-1, name], values[:, columns]])


def _write(
    document: Document,
    buffer: ChunkWriter,
    row: PrimitiveRow,
    raw: dict[str, Any],
    draw: _Draw,
    read: tuple[int, Floats],
) -> None:
    """Write a draw with the vertices of each tile apart, their UVs in the first tile."""
    uv_set, matrix = read
    middle = draw.tiles[draw.triangles].mean(axis=1)
    tile = np.where(np.isfinite(middle), np.floor(middle), 0.0).astype(np.int64)
    corners = np.concatenate(
        [draw.triangles.reshape(-1, 1), np.repeat(tile, 3, axis=0)], axis=1
    )  # fmt: skip
    vertices, order = np.unique(corners, axis=0, return_inverse=True)
    picked, home = vertices[:, 0], draw.tiles[vertices[:, 0]] - vertices[:, 1:]
    uv = (home - matrix[:, 2]) @ np.linalg.inv(matrix[:, :2]).T
    draw_uv = f"TEXCOORD_{uv_set}"
    made: dict[tuple[int, str], int] = {}
    for (number, name), place in _attributes(row).items():
        like = document.root.accessors[place]
        if (number, name) == (-1, draw_uv):
            made[number, name] = buffer.accessor(uv.astype(np.float32), {}, False)
            continue
        values = draw.values[number, name][picked]
        kind = document.stored(place).dtype
        stored = values.astype(kind) if kind.kind == "f" else np.rint(values).astype(kind)
        made[number, name] = buffer.accessor(stored, {"normalized": like.normalized}, name == "POSITION")
    raw["attributes"] = {name: made[-1, name] for name in row.attributes}
    raw["indices"] = buffer.accessor(order.reshape(-1, 1).astype(np.uint32), {}, False, indices=True)
    raw["mode"] = 4
    if row.targets:
        raw["targets"] = [{name: made[number, name] for name in target} for number, target in enumerate(row.targets)]
