"""Writing glTF 2.0: arrays become accessors of one buffer, and rows are added to the JSON as they come."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.files.gltf import pack_glb

CODES = {"int8": 5120, "uint8": 5121, "int16": 5122, "uint16": 5123, "uint32": 5125, "float32": 5126}
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
# What buffer views are for (clause 5.11.5).
VERTICES, INDICES = 34962, 34963


class GltfWriter:
    """A glTF file being put together; `json` may be added to freely."""

    def __init__(self) -> None:
        self.json: dict[str, Any] = {"asset": {"version": "2.0", "generator": "Oak Trim"}}
        self._binary = bytearray()

    def add(self, kind: str, **row: Any) -> int:
        """Append a row (fields that are None left out) to one of the JSON's lists and return its place."""
        rows = self.json.setdefault(kind, [])
        rows.append({key: value for key, value in row.items() if value is not None})
        return len(rows) - 1

    def view(self, data: bytes, target: int | None = None) -> int:
        """Append bytes to the buffer, on a multiple of four, and return their buffer view."""
        self._binary += b"\0" * (-len(self._binary) % 4)
        offset = len(self._binary)
        self._binary += data
        return self.add("bufferViews", buffer=0, byteOffset=offset, byteLength=len(data), target=target)

    def accessor(self, values: NDArray[Any], bounds: bool = False, indices: bool | None = None) -> int:
        """Append an array, (N,) or (N, width), and return its accessor.

        Parameters
        ----------
        bounds : state least and greatest, as positions and key times need (clauses 3.7.2.1 and 3.11)
        indices : of triangles (True) or of vertices (False); None for animations and skins
        """
        rows = values.reshape(len(values), -1)
        target = None if indices is None else INDICES if indices else VERTICES
        view = self.view(np.ascontiguousarray(rows).tobytes(), target)
        return self.add(
            "accessors",
            bufferView=view,
            componentType=CODES[rows.dtype.name],
            count=len(rows),
            type=TYPES[rows.shape[1]],
            min=rows.min(axis=0).tolist() if bounds else None,
            max=rows.max(axis=0).tolist() if bounds else None,
        )

    def image(self, uri: str | None = None, data: bytes | None = None) -> int:
        """Append an image, beside the file or held in it, with a texture of its own; return the texture."""
        if data is None:
            image = self.add("images", uri=uri)
        else:
            kind = "image/png" if data.startswith(b"\x89PNG") else "image/jpeg"
            image = self.add("images", bufferView=self.view(data), mimeType=kind, name=uri)
        return self.add("textures", source=image)

    def glb(self) -> bytes:
        """Return the file as GLB."""
        self.json["buffers"] = [{"byteLength": len(self._binary) + -len(self._binary) % 4}]
        return pack_glb(msgspec.json.encode(self.json), bytes(self._binary))

    def gltf(self, buffer_uri: str) -> tuple[bytes, bytes]:
        """Return the JSON and the buffer that stands beside it."""
        self.json["buffers"] = [{"byteLength": len(self._binary), "uri": buffer_uri}]
        return msgspec.json.format(msgspec.json.encode(self.json), indent=1) + b"\n", bytes(self._binary)
