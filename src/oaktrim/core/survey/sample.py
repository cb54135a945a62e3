"""A small, fair piece of a picture, and how well it packs: the ground of every package estimate."""

from __future__ import annotations

import zlib

import lz4.frame
import numpy as np
from backports import zstd

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import encode_level
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.targets.target import Packing

_TILE, _TILES = 16, 4

# What estimates are measured with, by method; targets may pack harder, which changes little.
PACKINGS = {"deflate": Packing("deflate", 6), "zstd": Packing("zstd", 6), "lz4": Packing("lz4", 3)}


def pack_bytes(data: bytes, packing: Packing) -> int:
    """Return the size of bytes after a lossless packing."""
    if packing.method == "deflate":
        return len(zlib.compress(data, packing.level))
    if packing.method == "lz4":
        return len(lz4.frame.compress(data, compression_level=packing.level))
    return len(zstd.compress(data, packing.level))


def sample_of(image: Image) -> Image:
    """Return up to 4x4 tiles of 16x16 pixels, evenly spread and side by side; a picture no larger stays whole."""
    rows, columns = (_starts(side) for side in (image.height, image.width))
    bands = [np.concatenate([image.pixels[y : y + _TILE, x : x + _TILE] for x in columns], axis=1) for y in rows]
    return image.with_pixels(np.concatenate(bands, axis=0))


def _starts(side: int) -> list[int]:
    """Return where the tiles start along one side, at multiples of 4 so that blocks stay whole."""
    count = min(_TILES, -(-side // _TILE))
    if count < _TILES:
        return [i * _TILE for i in range(count)]
    return [(side - _TILE) * i // (_TILES - 1) // 4 * 4 for i in range(_TILES)]


def packed_share(sample: Image, format_name: str, packing: Packing) -> float:
    """Return packed over plain bytes of a sample, really encoded in a format and really packed; at most 1."""
    data = encode_level(sample, format_named(format_name), EncodeOptions(Effort.DRAFT, threads=1))
    return min(1.0, pack_bytes(data, packing) / len(data))
