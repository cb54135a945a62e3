"""Meshes of a glTF document: triangles over positions, with all else that their vertices hold where it is asked for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import Document, PrimitiveRow
from oaktrim.core.scene.gltf.reading import Reading, as_floats
from oaktrim.core.scene.model import Mesh, Points, Primitive

_TRIANGLES, _STRIP, _FAN = 4, 5, 6
_COMPRESSED = ("KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_meshopt_compression")


class MeshReader(Reading):
    """Reads meshes."""

    def primitive(self, row: PrimitiveRow, who: str) -> Primitive:
        stated = self._stated_triangles(row)
        packed = next((name for name in _COMPRESSED if name in row.extensions), None)
        none: Points = np.zeros((0, 3), np.float32)
        if packed is not None:
            self.note(f"{who} is compressed with {packed}, which is not read: its shape and UVs are unknown")
            return Primitive(none, (), np.zeros((0, 3), np.int64), self._material(row, who), stated)
        if "POSITION" not in row.attributes:
            raise self.document.fault("it has no positions")
        points = self.floats(row.attributes["POSITION"], 3, "POSITION")
        uvs = []
        for channel in range(8):
            name = f"TEXCOORD_{channel}"
            if name not in row.attributes:
                break
            uv = self.floats(row.attributes[name], 2, name)
            if len(uv) != len(points):
                raise self.document.fault(f"{name} has {len(uv)} elements for {len(points)} positions")
            uvs.append(uv)
        triangles = triangle_rows(self.document, row, len(points))
        made = Primitive(points, tuple(uvs), triangles, self._material(row, who), len(triangles))
        return self._with_attributes(made, row, who) if self.whole else made

    def _with_attributes(self, made: Primitive, row: PrimitiveRow, who: str) -> Primitive:
        """Return a primitive with all else that its vertices hold; what cannot be read is left out and said."""
        count = len(made.positions)

        def read(name: str, widths: tuple[int, ...]) -> NDArray[Any] | None:
            if name not in row.attributes:
                return None
            values = self.document.accessor(row.attributes[name])
            if values.shape[1] not in widths or len(values) != count:
                raise self.document.fault(
                    f"{name} is {values.shape[0]} rows of {values.shape[1]} for {count} positions"
                )
            if values.dtype.kind == "f" and not np.isfinite(values).all():
                raise self.document.fault(f"{name} holds values that are not finite")
            return values

        def attempt(name: str, *widths: int) -> NDArray[Any] | None:
            return self.attempt(who, lambda: read(name, widths), None)

        normals, tangents, colours = attempt("NORMAL", 3), attempt("TANGENT", 4), attempt("COLOR_0", 3, 4)
        joints, weights = attempt("JOINTS_0", 4), attempt("WEIGHTS_0", 4)
        if colours is not None:
            colours = as_floats(colours)
            if colours.shape[1] == 3:
                colours = np.concatenate([colours, np.ones((count, 1), np.float32)], axis=1)
        return replace(
            made,
            normals=None if normals is None else as_floats(normals),
            tangents=None if tangents is None else as_floats(tangents),
            colours=colours,
            joints=None if joints is None or weights is None else joints.astype(np.int64),
            weights=None if joints is None or weights is None else as_floats(weights),
        )

    def _material(self, row: PrimitiveRow, who: str) -> int | None:
        if row.material is None or 0 <= row.material < len(self.root.materials):
            return row.material
        self.note(f"{who} names material {row.material} and there are {len(self.root.materials)}")
        return None

    def _stated_triangles(self, row: PrimitiveRow) -> int:
        index = row.indices if row.indices is not None else row.attributes.get("POSITION", -1)
        if not 0 <= index < len(self.root.accessors) or row.mode not in (_TRIANGLES, _STRIP, _FAN):
            return 0
        count = max(0, self.root.accessors[index].count)
        return count // 3 if row.mode == _TRIANGLES else max(0, count - 2)

    def meshes(self) -> Iterator[Mesh]:
        for place, mesh in enumerate(self.root.meshes):
            primitives: list[Primitive] = []
            accessors = set[int]()
            for number, row in enumerate(mesh.primitives):
                who = f"mesh {place} ({mesh.name[:60]}), primitive {number}"
                made = self.attempt(who, lambda row=row, who=who: self.primitive(row, who), None)
                if made is not None:
                    primitives.append(made)
                accessors.update(row.attributes.values())
                accessors.update(value for target in row.targets for value in target.values())
                accessors.update(() if row.indices is None else (row.indices,))
            yield Mesh(mesh.name, tuple(primitives), self.stated_bytes(accessors))


def triangle_rows(document: Document, row: PrimitiveRow, count: int) -> NDArray[np.int64]:
    """Return the triangles (M, 3) of a draw over `count` vertices.

    Raises
    ------
    FileError : its indices are none, or point past the vertices
    """
    if row.indices is None:
        return _triangles(np.arange(count, dtype=np.int64), row.mode)
    raw = document.accessor(row.indices)
    if raw.dtype.kind != "u" or raw.shape[1] != 1:
        raise document.fault("its indices are not unsigned integers")
    order: NDArray[np.int64] = raw[:, 0].astype(np.int64)
    if order.size and int(order.max()) >= count:
        raise document.fault(f"an index points to position {int(order.max())} of {count}")
    return _triangles(order, row.mode)


def _triangles(order: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    """Return corners as rows of triangles (glTF 2.0, clause 3.7.2.1); points and lines are none."""
    if mode == _TRIANGLES:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if mode not in (_STRIP, _FAN) or len(order) < 3:
        return np.zeros((0, 3), np.int64)
    if mode == _FAN:
        return np.stack([order[1:-1], order[2:], np.full(len(order) - 2, order[0])], axis=1)
    strip = np.stack([order[:-2], order[1:-1], order[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip
