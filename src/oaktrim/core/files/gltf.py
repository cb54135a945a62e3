"""glTF 2.0 (Khronos specification 2.0.1): the container, the JSON, and accessors as arrays.

A document keeps its JSON as it was read, so that extras and extensions that mean nothing to us are written back
untouched. What the product looks at is checked against a typed schema first; the error names the field by its path.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from oaktrim.core.errors import FileError
from oaktrim.core.files.references import ReferenceFolder

_GLB_MAGIC, _JSON_CHUNK, _BINARY_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942
# Accessors without a buffer view are zeros (clause 3.6.2.3); one that states more than this is a fault, not a wish.
_MOST_ZEROS = 1 << 22
_COMPONENTS: dict[int, str] = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


class _Row(msgspec.Struct, frozen=True, rename="camel"):
    """Ground of the schema: names as in the file, fields that are not listed passed over; `Any` is checked where it is read."""


class TextureInfo(_Row, frozen=True):
    index: int
    tex_coord: int = 0
    scale: Any = 1.0
    strength: Any = 1.0
    extensions: dict[str, Any] = {}


class MetallicRoughness(_Row, frozen=True):
    base_color_texture: TextureInfo | None = None
    metallic_roughness_texture: TextureInfo | None = None
    base_color_factor: Any = (1, 1, 1, 1)
    metallic_factor: Any = 1.0
    roughness_factor: Any = 1.0


class MaterialRow(_Row, frozen=True):
    name: str = ""
    pbr_metallic_roughness: MetallicRoughness | None = None
    normal_texture: TextureInfo | None = None
    occlusion_texture: TextureInfo | None = None
    emissive_texture: TextureInfo | None = None
    alpha_mode: str = "OPAQUE"
    alpha_cutoff: Any = 0.5
    double_sided: Any = False
    emissive_factor: Any = (0, 0, 0)
    extensions: dict[str, Any] = {}


class PrimitiveRow(_Row, frozen=True):
    attributes: dict[str, int]
    indices: int | None = None
    material: int | None = None
    mode: int = 4
    extensions: dict[str, Any] = {}
    targets: list[dict[str, int]] = []


class MeshRow(_Row, frozen=True):
    primitives: list[PrimitiveRow]
    name: str = ""


class NodeRow(_Row, frozen=True):
    name: str = ""
    mesh: int | None = None
    skin: int | None = None
    camera: int | None = None
    children: list[int] = []
    matrix: list[float] | None = None
    translation: list[float] | None = None
    rotation: list[float] | None = None
    scale: list[float] | None = None
    extensions: dict[str, Any] = {}
    extras: Any = None


class PerspectiveRow(_Row, frozen=True):
    yfov: float
    znear: Any = 0.01
    zfar: Any = None
    aspect_ratio: Any = None


class OrthographicRow(_Row, frozen=True):
    xmag: Any = 1.0
    ymag: Any = 1.0
    znear: Any = 0.0
    zfar: Any = None


class CameraRow(_Row, frozen=True):
    perspective: PerspectiveRow | None = None
    orthographic: OrthographicRow | None = None


class SceneRow(_Row, frozen=True):
    name: str = ""
    nodes: list[int] = []


class TextureRow(_Row, frozen=True):
    source: int | None = None
    sampler: int | None = None
    extensions: dict[str, Any] = {}


class ImageRow(_Row, frozen=True):
    name: str = ""
    uri: str | None = None
    buffer_view: int | None = None


class BufferRow(_Row, frozen=True):
    byte_length: int
    uri: str | None = None


class ViewRow(_Row, frozen=True):
    buffer: int
    byte_length: int
    byte_offset: int = 0
    byte_stride: int | None = None


class SparsePart(_Row, frozen=True):
    buffer_view: int
    byte_offset: int = 0
    component_type: int = 5126


class SparseRow(_Row, frozen=True):
    count: int
    indices: SparsePart
    values: SparsePart


class AccessorRow(_Row, frozen=True):
    component_type: int
    count: int
    type: str
    buffer_view: int | None = None
    byte_offset: int = 0
    normalized: bool = False
    sparse: SparseRow | None = None


class TextureSamplerRow(_Row, frozen=True):
    wrap_s: Any = 10497
    wrap_t: Any = 10497


class SamplerRow(_Row, frozen=True):
    input: int
    output: int
    interpolation: Any = "LINEAR"


class ChannelRow(_Row, frozen=True):
    sampler: int
    target: Any = None


class AnimationRow(_Row, frozen=True):
    channels: list[ChannelRow] = []
    samplers: list[SamplerRow] = []
    name: str = ""


class SkinRow(_Row, frozen=True):
    joints: list[int] = []
    inverse_bind_matrices: int | None = None
    name: str = ""


class AssetRow(_Row, frozen=True):
    version: str


class RootRow(_Row, frozen=True):
    """The parts of the glTF schema that the product reads."""

    asset: AssetRow
    scene: int | None = None
    scenes: list[SceneRow] = []
    nodes: list[NodeRow] = []
    meshes: list[MeshRow] = []
    materials: list[MaterialRow] = []
    textures: list[TextureRow] = []
    images: list[ImageRow] = []
    buffers: list[BufferRow] = []
    buffer_views: list[ViewRow] = []
    accessors: list[AccessorRow] = []
    animations: list[AnimationRow] = []
    skins: list[SkinRow] = []
    cameras: list[CameraRow] = []
    samplers: list[TextureSamplerRow] = []
    extensions: Any = None
    extensions_used: list[str] = []
    extensions_required: list[str] = []


# Made as the module is loaded: what a library learns of a type when it first decodes one, two threads may not learn at once.
_ROOT = msgspec.json.Decoder(RootRow)


@dataclass
class Document:
    """A glTF file, its JSON as read, and its buffers as they are asked for.

    Parameters
    ----------
    raw : the JSON, to be edited in place and written again; root : the same, checked
    binary : the BIN chunk of a GLB, or None
    """

    place: ReferenceFolder
    raw: dict[str, Any]
    root: RootRow
    binary: bytes | None
    _buffers: dict[int, bytes] = field(default_factory=dict)

    def fault(self, text: str) -> FileError:
        """Return an error in the name of this file."""
        return FileError(self.place.file, text)

    def buffer(self, index: int) -> bytes:
        """Return a buffer's bytes, at least as many as it states."""
        if index not in self._buffers:
            row = _at(self, self.root.buffers, index, "buffer")
            if row.uri is not None:
                data = self.place.read(row.uri)
            elif index == 0 and self.binary is not None:
                data = self.binary
            else:
                raise self.fault(f"buffer {index} has neither a URI nor a binary chunk")
            if len(data) < row.byte_length:
                raise self.fault(f"buffer {index} states {row.byte_length} bytes and holds {len(data)}")
            self._buffers[index] = data
        return self._buffers[index]

    def hold(self, index: int, data: bytes) -> None:
        """Take bytes for those of a buffer, in the place of what it names."""
        self._buffers[index] = data

    def view(self, index: int) -> memoryview:
        """Return the bytes of a buffer view."""
        row = _at(self, self.root.buffer_views, index, "bufferView")
        data = self.buffer(row.buffer)
        if row.byte_offset < 0 or row.byte_length < 1 or row.byte_offset + row.byte_length > len(data):
            raise self.fault(f"bufferView {index} runs past the {len(data)} bytes of buffer {row.buffer}")
        return memoryview(data)[row.byte_offset : row.byte_offset + row.byte_length]

    def accessor_bytes(self, index: int) -> int:
        """Return the bytes that an accessor's elements state, without reading them."""
        row = _at(self, self.root.accessors, index, "accessor")
        size = np.dtype(_COMPONENTS.get(row.component_type, "<u1")).itemsize
        return int(max(0, row.count) * _WIDTHS.get(row.type, 1) * size)

    def accessor(self, index: int) -> NDArray[Any]:
        """Return an accessor's elements, (count, width); normalised integers as floats (clause 3.6.2.2)."""
        values = self.stored(index)
        if self.root.accessors[index].normalized and values.dtype.kind in "iu":
            top = np.iinfo(values.dtype).max
            values = np.maximum(values.astype(np.float32) / np.float32(top), np.float32(-1))
        return values

    def stored(self, index: int, sparse: bool = True) -> NDArray[Any]:
        """Return an accessor's elements, (count, width), as the file stores them; without its sparse part, its base alone."""
        row = _at(self, self.root.accessors, index, "accessor")
        kind, width = self._kind(row.component_type, index), _WIDTHS.get(row.type)
        if width is None:
            raise self.fault(f"accessor {index} is of the type {row.type[:40]!r}, which is not read here")
        if row.count < 1:
            raise self.fault(f"accessor {index} states {row.count} elements")
        if row.buffer_view is None:
            if row.count * width > _MOST_ZEROS:
                raise self.fault(f"accessor {index} states {row.count} elements and names no buffer view")
            values: NDArray[Any] = np.zeros((row.count, width), kind)
        else:
            values = self._elements(row.buffer_view, row.byte_offset, row.count, kind, width, f"accessor {index}")
        if row.sparse is not None and sparse:
            values = self._sparse(row.sparse, values, kind, width, index)
        return values

    def sparse_bytes(self, index: int) -> tuple[bytes, bytes]:
        """Return the bytes of the indices and of the values of an accessor's sparse part."""
        row = _at(self, self.root.accessors, index, "accessor")
        part, width = row.sparse, _WIDTHS.get(row.type, 1)
        places = self._elements(
            part.indices.buffer_view, part.indices.byte_offset, part.count, self._kind(part.indices.component_type, index),
            1, f"accessor {index}",
        )  # fmt: skip
        kind = self._kind(row.component_type, index)
        values = self._elements(
            part.values.buffer_view, part.values.byte_offset, part.count, kind, width, f"accessor {index}"
        )
        return np.ascontiguousarray(places).tobytes(), np.ascontiguousarray(values).tobytes()

    def _kind(self, component_type: int, index: int) -> np.dtype[Any]:
        if component_type not in _COMPONENTS:
            raise self.fault(f"accessor {index} has the component type {component_type}, which glTF does not know")
        return np.dtype(_COMPONENTS[component_type])

    def _elements(self, view: int, offset: int, count: int, kind: np.dtype[Any], width: int, who: str) -> NDArray[Any]:
        data, size = self.view(view), kind.itemsize * width
        stride = self.root.buffer_views[view].byte_stride or size
        if not size <= stride <= 252 and stride != size:
            raise self.fault(f"{who} has a stride of {stride} bytes for elements of {size}")
        if offset < 0 or offset + (count - 1) * stride + size > len(data):
            raise self.fault(
                f"{who} needs {offset + (count - 1) * stride + size} bytes; bufferView {view} has {len(data)}"
            )
        return np.ndarray((count, width), kind, data, offset, (stride, kind.itemsize))

    def _sparse(self, row: SparseRow, base: NDArray[Any], kind: np.dtype[Any], width: int, index: int) -> NDArray[Any]:
        who = f"the sparse part of accessor {index}"
        if not 1 <= row.count <= len(base):
            raise self.fault(f"{who} states {row.count} elements of {len(base)}")
        places_kind = self._kind(row.indices.component_type, index)
        if places_kind.kind != "u":
            raise self.fault(f"{who} has indices that are not unsigned")
        places = self._elements(row.indices.buffer_view, row.indices.byte_offset, row.count, places_kind, 1, who)[:, 0]
        values = self._elements(row.values.buffer_view, row.values.byte_offset, row.count, kind, width, who)
        if int(places.max()) >= len(base):
            raise self.fault(f"{who} points past the end")
        changed = np.array(base)
        changed[places] = values
        return changed

    def pack(self) -> bytes:
        """Return the file again, as GLB where it has a binary chunk, its JSON as it now is."""
        text = msgspec.json.encode(self.raw)
        return pack_glb(text, self.binary) if self.binary is not None else msgspec.json.format(text, indent=1) + b"\n"


def _at(document: Document, rows: list[Any], index: int, what: str) -> Any:
    if not 0 <= index < len(rows):
        raise document.fault(f"{what} {index} is named and there are {len(rows)}")
    return rows[index]


def pack_glb(text: bytes, binary: bytes) -> bytes:
    """Return JSON and a binary chunk as GLB (clause 4.4)."""
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    length = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<III", _GLB_MAGIC, 2, length) + struct.pack("<II", len(text), _JSON_CHUNK)
    return head + text + struct.pack("<II", len(binary), _BINARY_CHUNK) + binary


def _split_glb(data: bytes, place: ReferenceFolder) -> tuple[bytes, bytes | None]:
    """Return the JSON and the binary chunk of a GLB; further chunks are passed over (clause 4.4.3)."""
    if len(data) < 20:
        raise FileError(place.file, "ends inside the GLB header", len(data))
    _, version, length = struct.unpack_from("<III", data)
    if version != 2:
        raise FileError(place.file, f"is GLB version {version}; 2 is read", 4)
    if length > len(data):
        raise FileError(place.file, f"states {length} bytes and holds {len(data)}", 8)
    size, kind = struct.unpack_from("<II", data, 12)
    if kind != _JSON_CHUNK or 20 + size > length:
        raise FileError(place.file, "does not begin with a whole JSON chunk", 12)
    text, at = data[20 : 20 + size], 20 + size
    if at + 8 > length:
        return text, None
    size, kind = struct.unpack_from("<II", data, at)
    if at + 8 + size > length:
        raise FileError(place.file, "ends inside a chunk", at)
    return text, data[at + 8 : at + 8 + size] if kind == _BINARY_CHUNK else None


def parse_gltf(data: bytes, place: ReferenceFolder) -> Document:
    """Return a glTF or GLB file as a document.

    Raises
    ------
    FileError : not glTF 2.0; the fault names the field by its path
    """
    text, binary = data, None
    if len(data) >= 4 and struct.unpack_from("<I", data)[0] == _GLB_MAGIC:
        text, binary = _split_glb(data, place)
    if text.startswith(b"\xef\xbb\xbf"):
        text = text[3:]
    try:
        root = _ROOT.decode(text)
        raw = msgspec.json.decode(text)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise FileError(place.file, f"is not valid glTF: {error}") from error
    if not root.asset.version.startswith("2."):
        raise FileError(place.file, f"is glTF {root.asset.version[:20]}; 2.0 is read")
    return Document(place, raw, root, binary)
