"""KTX 2.0, the Khronos texture container: a texture, an array or a cube with its levels, plain or supercompressed with Zstandard.

KTX File Format Specification, version 2.0.3: sections 3 (structure), 3.7 (level index), 3.9 (key/value data), 4.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from math import lcm
from pathlib import Path

import numpy as np
from backports import zstd
from numpy.typing import NDArray

from oaktrim import __version__
from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.codecs.uastc.decode import is_opaque
from oaktrim.core.errors import FileError
from oaktrim.core.files.descriptor import descriptor_model, descriptor_transfer, pack_descriptor
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware, TextureFormat
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.levels import level_count, level_size

MAGIC = b"\xabKTX 20\xbb\r\n\x1a\n"
_PLAIN, _ZSTANDARD = 0, 2
_LEVEL = struct.Struct("<QQQ")
Ints = NDArray[np.int64]
_KEY_VALUES = {"KTXorientation": "rd", "KTXwriter": f"Oak Trim {__version__}"}
_BY_VK = {
    number: (row, transfer)
    for row in FORMATS.values()
    for number, transfer in ((row.vk, Transfer.LINEAR), (row.vk_srgb, Transfer.SRGB))
    if number is not None
}


@dataclass(frozen=True)
class Header:
    """The fixed part of the file, after the magic bytes (section 3.1)."""

    vk_format: int
    type_size: int
    width: int
    height: int
    depth: int
    layers: int
    faces: int
    levels: int
    scheme: int
    dfd_offset: int
    dfd_length: int
    kvd_offset: int
    kvd_length: int
    sgd_offset: int
    sgd_length: int

    STRUCT = struct.Struct("<9I 4I 2Q")

    @property
    def slices(self) -> int:
        """Pictures in each level; no array is said as 0 layers."""
        return max(1, self.layers) * self.faces

    def pack(self) -> bytes:
        return self.STRUCT.pack(*vars(self).values())

    @classmethod
    def parse(cls, data: bytes, path: Path) -> Header:
        if data[:12] != MAGIC:
            raise FileError(path, "is not a KTX 2.0 file: wrong magic bytes", 0)
        if len(data) < 12 + cls.STRUCT.size:
            raise FileError(
                path, f"ends inside the KTX 2.0 header, which takes {12 + cls.STRUCT.size} bytes", len(data)
            )
        return cls(*cls.STRUCT.unpack_from(data, 12))


def _key_values() -> bytes:
    out = b""
    for key, value in sorted(_KEY_VALUES.items()):
        entry = key.encode() + b"\0" + value.encode() + b"\0"
        out += struct.pack("<I", len(entry)) + entry + b"\0" * (-len(entry) % 4)
    return out


def pack(texture: EncodedTexture, zstd_level: int | None = None) -> bytes:
    """Return a texture as the bytes of a KTX 2.0 file.

    Parameters
    ----------
    zstd_level : supercompress each level with Zstandard at this level; None leaves them plain
    """
    row = texture.format
    srgb = texture.transfer is Transfer.SRGB and row.vk_srgb is not None
    opaque = row.hardware is Hardware.UNIVERSAL and all(map(is_opaque, texture.levels))
    descriptor, key_values = pack_descriptor(row, texture.transfer, opaque), _key_values()
    count = len(texture.levels)
    dfd_offset = 12 + Header.STRUCT.size + count * _LEVEL.size
    kvd_offset = dfd_offset + len(descriptor)
    header = Header(
        vk_format=row.vk_srgb if srgb and row.vk_srgb is not None else row.vk,
        type_size=row.word_bytes,
        width=texture.width,
        height=texture.height,
        depth=0,
        layers=texture.layers if texture.layers > 1 else 0,
        faces=texture.faces,
        levels=count,
        scheme=_PLAIN if zstd_level is None else _ZSTANDARD,
        dfd_offset=dfd_offset,
        dfd_length=len(descriptor),
        kvd_offset=kvd_offset,
        kvd_length=len(key_values),
        sgd_offset=0,
        sgd_length=0,
    )
    # Section 3.7: levels stand smallest first; plain ones at multiples of their block and of 4 bytes.
    align = 1 if zstd_level is not None else lcm(row.block_bytes, 4)
    body, index = bytearray(), [(0, 0, 0)] * count
    start = kvd_offset + len(key_values)
    for level in reversed(range(count)):
        data = texture.levels[level]
        stored = data if zstd_level is None else zstd.compress(data, zstd_level)
        body += b"\0" * (-(start + len(body)) % align)
        index[level] = (start + len(body), len(stored), len(data))
        body += stored
    return MAGIC + header.pack() + b"".join(_LEVEL.pack(*row) for row in index) + descriptor + key_values + bytes(body)


def bytes_beside(row: TextureFormat, width: Ints, height: Ints, levels: Ints, slices: Ints) -> Ints:
    """Return what files of a format take beside the bytes of their levels, (N,) int64: heads, and what aligns levels.

    Parameters
    ----------
    width, height, levels, slices : of each texture, (N,) int64
    """
    start = 12 + Header.STRUCT.size + levels * _LEVEL.size
    start += len(pack_descriptor(row, Transfer.SRGB)) + len(_key_values())
    align = lcm(row.block_bytes, 4)
    more: Ints = start + -start % align
    if row.block_bytes % 4:
        # Such formats hold single pixels, so their levels end anywhere; the largest stands last, with nothing behind it.
        for level in range(1, int(levels.max(initial=1))):
            size = np.maximum(1, width >> level) * np.maximum(1, height >> level) * row.block_bytes * slices
            more += np.where(level < levels, -size % align, 0)
    return more


def _refuse(header: Header, path: Path, size: int, max_pixels: int) -> tuple[TextureFormat, Transfer]:
    """Return format and transfer of a header that can be read; raise for any other."""
    if header.vk_format not in _BY_VK:
        raise FileError(path, f"has VkFormat {header.vk_format}, which is not read", 12)
    if header.width == 0 or header.height == 0 or header.depth > 1:
        raise FileError(path, f"is {header.width}x{header.height}x{header.depth}; only flat pictures are read", 20)
    if header.faces not in (1, 6) or (header.faces == 6 and header.width != header.height):
        raise FileError(
            path, f"claims {header.faces} faces of {header.width}x{header.height}; a cube has 6 squares", 36
        )
    if header.scheme not in (_PLAIN, _ZSTANDARD):
        raise FileError(path, f"is supercompressed by scheme {header.scheme}; plain and Zstandard are read", 44)
    if header.levels > level_count(header.width, header.height):
        raise FileError(path, f"claims {header.levels} levels for {header.width}x{header.height}", 40)
    if header.width * header.height * header.slices > max_pixels:
        times = f" in {header.slices} pictures" if header.slices > 1 else ""
        raise FileError(
            path, f"claims {header.width}x{header.height} pixels{times}, over the limit of {max_pixels}", 20
        )
    if header.dfd_offset + header.dfd_length > size:
        raise FileError(path, f"the data format descriptor runs past the end of {size} bytes", 48)
    return _BY_VK[header.vk_format]


def parse_head(data: bytes, path: Path, max_pixels: int) -> tuple[Header, TextureFormat, Transfer]:
    """Return the header, format and transfer of a file's bytes, refused where they cannot be read."""
    header = Header.parse(data, path)
    texture_format, transfer = _refuse(header, path, len(data), max_pixels)
    descriptor = data[header.dfd_offset : header.dfd_offset + header.dfd_length]
    model = descriptor_model(descriptor)
    if texture_format.hardware is Hardware.UNIVERSAL and model != texture_format.family.model:
        raise FileError(path, f"has no VkFormat, and colour model {model}, which is not read", header.dfd_offset + 12)
    if texture_format.vk_srgb is None and not texture_format.floating:
        named = descriptor_transfer(descriptor)
        transfer = named or transfer
    return header, texture_format, transfer


def parse(data: bytes, path: Path, max_pixels: int) -> EncodedTexture:
    """Return the texture in a file's bytes.

    Raises
    ------
    FileError : not KTX 2.0, not read, or not whole
    """
    header, texture_format, transfer = parse_head(data, path, max_pixels)
    levels = []
    for level in range(max(1, header.levels)):
        at = 12 + Header.STRUCT.size + level * _LEVEL.size
        if len(data) < at + _LEVEL.size:
            raise FileError(path, "ends inside the level index", len(data))
        offset, length, plain_length = _LEVEL.unpack_from(data, at)
        expected = texture_format.level_bytes(*level_size(header.width, header.height, level)) * header.slices
        if offset + length > len(data):
            raise FileError(path, f"level {level} runs past the end of {len(data)} bytes", at)
        stored = data[offset : offset + length]
        if header.scheme == _ZSTANDARD:
            stored = _expand(stored, expected, path, at)
        if len(stored) != expected or plain_length not in (0, expected):
            raise FileError(path, f"level {level} holds {len(stored)} bytes where {expected} are expected", at)
        levels.append(stored)
    return EncodedTexture(
        texture_format, header.width, header.height, transfer, tuple(levels), max(1, header.layers), header.faces
    )


def _expand(stored: bytes, expected: int, path: Path, at: int) -> bytes:
    try:
        return zstd.ZstdDecompressor().decompress(stored, max_length=expected + 1)
    except zstd.ZstdError as error:
        raise FileError(path, f"a level is not valid Zstandard data: {error}", at) from error
