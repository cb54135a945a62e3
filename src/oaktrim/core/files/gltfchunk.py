"""A glTF document that is written again: all its buffers as one binary chunk, which more can be added to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import Document
from oaktrim.core.files.gltfwriter import CODES, TYPES

_VERTICES, _INDICES = 34962, 34963


@dataclass(eq=False)
class ChunkWriter:
    """A binary chunk being put together."""

    raw: dict[str, Any]
    data: bytearray = field(default_factory=bytearray)

    def view(self, data: bytes, target: int | None, stride: int | None = None) -> int:
        self.data += b"\0" * (-len(self.data) % 8)
        row: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)}
        if target is not None:
            row["target"] = target
        if stride is not None:
            row["byteStride"] = stride
        self.data += data
        self.raw.setdefault("bufferViews", []).append(row)
        return len(self.raw["bufferViews"]) - 1

    def accessor(self, values: NDArray[Any], like: Mapping[str, Any], bounds: bool, indices: bool = False) -> int:
        """Add an array (N, K), of the kind of an accessor's row."""
        rows = np.ascontiguousarray(values)
        size = rows.dtype.itemsize * rows.shape[1]
        if size % 4 and not indices:
            # Vertices lie on multiples of four bytes (glTF 2.0, clause 3.6.2.4).
            padded = np.zeros((len(rows), size + -size % 4), np.uint8)
            padded[:, :size] = rows.view(np.uint8).reshape(len(rows), size)
            view = self.view(padded.tobytes(), _VERTICES, size + -size % 4)
        else:
            view = self.view(rows.tobytes(), _INDICES if indices else _VERTICES)
        row: dict[str, Any] = {
            "bufferView": view, "componentType": CODES[rows.dtype.name], "count": len(rows), "type": TYPES[rows.shape[1]],
        }  # fmt: skip
        if like.get("normalized"):
            row["normalized"] = True
        if bounds and len(rows):
            row["min"], row["max"] = rows.min(axis=0).tolist(), rows.max(axis=0).tolist()
        self.raw.setdefault("accessors", []).append(row)
        return len(self.raw["accessors"]) - 1


def with_one_buffer(document: Document, buffer: ChunkWriter) -> None:
    """Bring all buffers of a document into one binary chunk, and move the views of the JSON that is written.

    Raises
    ------
    FileError : a buffer cannot be read
    """
    starts = []
    for place in range(len(document.root.buffers)):
        buffer.data += b"\0" * (-len(buffer.data) % 8)
        starts.append(len(buffer.data))
        buffer.data += document.buffer(place)[: document.root.buffers[place].byte_length]
    for view in buffer.raw.get("bufferViews", []):
        if 0 <= view.get("buffer", -1) < len(starts):
            view["byteOffset"] = view.get("byteOffset", 0) + starts[view["buffer"]]
            view["buffer"] = 0


def hold_image(image: dict[str, Any], buffer: ChunkWriter, what: Mapping[str, Any]) -> None:
    """Change what an image row holds."""
    row = dict(what)
    data = row.pop("data", None)
    for name in ("uri", "bufferView", "mimeType"):
        image.pop(name, None)
    image |= row if data is None else row | {"bufferView": buffer.view(data, None)}
