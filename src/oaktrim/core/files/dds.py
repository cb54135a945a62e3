"""DDS: a 2D texture, an array or a cube with its levels, written with the DX10 header, and read with it or with the older codes.

Microsoft, "Programming guide for DDS" (DDS_HEADER, DDS_HEADER_DXT10, DDS_PIXELFORMAT).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import TextureFormat
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.levels import level_count, level_size

MAGIC = b"DDS "
_HEADER = struct.Struct("<7I 44x 8I 5I")
_DX10 = struct.Struct("<5I")
_CAPS, _HEIGHT, _WIDTH, _PITCH, _PIXEL_FORMAT, _MIP_COUNT, _LINEAR_SIZE = 0x1, 0x2, 0x4, 0x8, 0x1000, 0x20000, 0x80000
_FOUR_CC, _RGB, _LUMINANCE = 0x4, 0x40, 0x20000
_COMPLEX, _TEXTURE, _HAS_MIPS = 0x8, 0x1000, 0x400000
_CUBE, _ALL_FACES, _VOLUME = 0x200, 0xFC00, 0x200000
_TEXTURE_2D, _IS_CUBE = 3, 4
_STRAIGHT_ALPHA, _OPAQUE = 1, 3
# Numbers without a type, as some writers leave them, and the plain ones they are read as; blue before red.
_TYPELESS = {27: 28, 48: 49, 60: 61, 70: 71, 76: 77, 79: 80, 82: 83, 94: 95, 97: 98}
_BLUE_FIRST = {87: 28, 90: 28, 91: 29}
_BY_CODE = {b"DXT1": "bc1-a1", b"DXT5": "bc3", b"ATI1": "bc4", b"BC4U": "bc4", b"ATI2": "bc5", b"BC5U": "bc5"}
# Bit masks of red, green, blue and alpha of the older uncompressed layouts, with the order of their bytes.
_BY_MASKS = {
    (0xFF, 0xFF00, 0xFF0000, 0xFF000000): (0, 1, 2, 3),
    (0xFF0000, 0xFF00, 0xFF, 0xFF000000): (2, 1, 0, 3),
}


def _by_dxgi(number: int, alpha_mode: int) -> tuple[TextureFormat, Transfer] | None:
    for row in FORMATS.values():
        if (row.name == "bc1-a1" and alpha_mode == _OPAQUE) or (row.name == "bc1" and alpha_mode != _OPAQUE):
            continue
        if number == row.dxgi:
            return row, Transfer.LINEAR
        if number == row.dxgi_srgb:
            return row, Transfer.SRGB
    return None


def pack(texture: EncodedTexture) -> bytes:
    """Return a texture as the bytes of a DDS file.

    Raises
    ------
    Unsupported : the container has no code for the format
    """
    row = texture.format
    number = row.dxgi_srgb if texture.transfer is Transfer.SRGB and row.dxgi_srgb else row.dxgi
    if number is None:
        raise Unsupported(f"a DDS file has no code for {row.label}; write KTX2 instead")
    count = len(texture.levels)
    pitch = len(texture.levels[0]) // texture.slices if row.compressed else texture.width * row.block_bytes
    flags = _CAPS | _HEIGHT | _WIDTH | _PIXEL_FORMAT | (_LINEAR_SIZE if row.compressed else _PITCH)
    caps = _TEXTURE
    if count > 1:
        flags |= _MIP_COUNT
        caps |= _COMPLEX | _HAS_MIPS
    pixel_format = (32, _FOUR_CC, int.from_bytes(b"DX10", "little"), 0, 0, 0, 0, 0)
    is_cube = texture.faces == 6
    caps |= _COMPLEX if texture.slices > 1 else 0
    more = _CUBE | _ALL_FACES if is_cube else 0
    sizes = (124, flags, texture.height, texture.width, pitch, 0, count)
    header = _HEADER.pack(*sizes, *pixel_format, caps, more, 0, 0, 0)
    alpha_mode = _OPAQUE if row.name == "bc1" else _STRAIGHT_ALPHA
    dx10 = _DX10.pack(number, _TEXTURE_2D, _IS_CUBE if is_cube else 0, texture.layers, alpha_mode)
    # Unlike KTX 2.0, all levels of one picture stand before those of the next.
    parts = [len(level) // texture.slices for level in texture.levels]
    chains = (
        level[at * size : (at + 1) * size]
        for at in range(texture.slices)
        for level, size in zip(texture.levels, parts, strict=True)
    )
    return MAGIC + header + dx10 + b"".join(chains)


def bytes_beside() -> int:
    """Return what a file takes beside the bytes of its levels, whatever they hold."""
    return len(MAGIC) + _HEADER.size + _DX10.size


@dataclass(frozen=True)
class Head:
    """What the headers say: where the levels start, and how the bytes of a pixel are ordered, if not as ours."""

    format: TextureFormat
    transfer: Transfer
    width: int
    height: int
    levels: int
    start: int
    order: tuple[int, ...] | None = None
    layers: int = 1
    faces: int = 1

    @property
    def slices(self) -> int:
        """Pictures in each level."""
        return self.layers * self.faces


@dataclass(frozen=True)
class _Layout:
    """How pixels lie in a file, and where they begin."""

    format: TextureFormat
    start: int
    transfer: Transfer = Transfer.SRGB
    order: tuple[int, ...] | None = None
    layers: int = 1
    faces: int = 1


def parse_head(data: bytes, path: Path, max_pixels: int) -> Head:
    """Return what the headers of a file's bytes say, refused where they cannot be read."""
    if data[:4] != MAGIC:
        raise FileError(path, "is not a DDS file: wrong magic bytes", 0)
    if len(data) < 4 + _HEADER.size:
        raise FileError(path, f"ends inside the DDS header, which takes {4 + _HEADER.size} bytes", len(data))
    values = _HEADER.unpack_from(data, 4)
    size, flags, height, width, _, _, count = values[:7]
    kind, code, bits, *masks = values[8:15]
    if size != 124:
        raise FileError(path, f"has a DDS header of {size} bytes where 124 are expected", 4)
    if values[16] & _VOLUME:
        raise FileError(path, "holds a volume; textures, arrays and cubes are read", 112)
    if values[16] & _CUBE and values[16] & _ALL_FACES != _ALL_FACES:
        raise FileError(path, "holds a cube without all of its six faces", 112)
    found = _layout(data, path, kind, code.to_bytes(4, "little"), bits, tuple(masks))
    faces = 6 if values[16] & _CUBE else found.faces
    _check_size(path, width, height, found.layers, faces, max_pixels)
    levels = max(1, count) if flags & _MIP_COUNT else 1
    if levels > level_count(width, height):
        raise FileError(path, f"claims {levels} levels for {width}x{height}", 28)
    return Head(found.format, found.transfer, width, height, levels, found.start, found.order, found.layers, faces)


def _layout(data: bytes, path: Path, kind: int, four_cc: bytes, bits: int, masks: tuple[int, ...]) -> _Layout:
    """Return how pixels lie in a file, from the pixel format of its header or from the DX10 header after it."""
    start = 4 + _HEADER.size
    if kind & _FOUR_CC and four_cc == b"DX10":
        return _layout_of_dx10(data, path, start)
    if kind & _FOUR_CC and four_cc in _BY_CODE:
        return _Layout(FORMATS[_BY_CODE[four_cc]], start)
    if kind & _RGB and bits == 32 and masks in _BY_MASKS:
        return _Layout(FORMATS["rgba8"], start, order=_BY_MASKS[masks])
    if kind & _LUMINANCE and bits == 8:
        return _Layout(FORMATS["r8"], start)
    raise FileError(path, f"has a pixel layout that is not read (code {four_cc!r}, {bits} bits)", 80)


def _layout_of_dx10(data: bytes, path: Path, start: int) -> _Layout:
    if len(data) < start + _DX10.size:
        raise FileError(path, "ends inside the DX10 header", len(data))
    number, dimension, misc, layers, misc2 = _DX10.unpack_from(data, start)
    order = (2, 1, 0, 3) if number in _BLUE_FIRST else None
    number = _BLUE_FIRST.get(number, _TYPELESS.get(number, number))
    found = _by_dxgi(number, misc2 & 7)
    if found is None:
        raise FileError(path, f"has DXGI format {number}, which is not read", 128)
    if dimension != _TEXTURE_2D:
        raise FileError(path, f"has dimension {dimension}; flat pictures are read", 132)
    # Some writers leave the count of a single texture at 0.
    return _Layout(found[0], start + _DX10.size, found[1], order, max(1, layers), 6 if misc & _IS_CUBE else 1)


def _check_size(path: Path, width: int, height: int, layers: int, faces: int, max_pixels: int) -> None:
    if width == 0 or height == 0:
        raise FileError(path, f"claims {width}x{height} pixels", 12)
    if width * height * layers * faces > max_pixels:
        times = f" in {layers * faces} pictures" if layers * faces > 1 else ""
        raise FileError(path, f"claims {width}x{height} pixels{times}, over the limit of {max_pixels}", 12)
    if faces == 6 and width != height:
        raise FileError(path, f"claims a cube with faces of {width}x{height}", 12)


def parse(data: bytes, path: Path, max_pixels: int) -> EncodedTexture:
    """Return the texture in a file's bytes.

    Raises
    ------
    FileError : not DDS, not read, or not whole
    """
    head = parse_head(data, path, max_pixels)
    at, levels = head.start, [b""] * head.levels
    for _ in range(head.slices):
        for level in range(head.levels):
            size = head.format.level_bytes(*level_size(head.width, head.height, level))
            if at + size > len(data):
                raise FileError(path, f"ends inside level {level}: {size} bytes expected from {at} on", len(data))
            stored = data[at : at + size]
            if head.order is not None:
                stored = np.frombuffer(stored, np.uint8).reshape(-1, 4)[:, head.order].tobytes()
            levels[level] += stored
            at += size
    return EncodedTexture(head.format, head.width, head.height, head.transfer, tuple(levels), head.layers, head.faces)
