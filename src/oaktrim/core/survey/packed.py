"""How well bytes pack: all of them, or a picture of which a piece is really encoded and packed."""

from __future__ import annotations

import math
import zlib

import lz4.frame
from backports import zstd

from oaktrim.core.codecs.effort import Effort, EncodeOptions
from oaktrim.core.codecs.texture import encode_level
from oaktrim.core.formats.catalogue import format_named
from oaktrim.core.pixels.image import Image
from oaktrim.core.targets.target import Packing

# What estimates are measured with, by method; targets may pack harder, which changes little.
PACKINGS = {"deflate": Packing("deflate", 6), "zstd": Packing("zstd", 6), "lz4": Packing("lz4", 3)}
# How many doublings of a piece make it pack better: methods that look back 32 or 64 KiB gain little beyond a piece.
_GAINS = {"deflate": 1.0, "zstd": 3.0, "lz4": 1.0}


def pack_bytes(data: bytes, packing: Packing) -> int:
    """Return the size of bytes after a lossless packing."""
    if packing.method == "deflate":
        return len(zlib.compress(data, packing.level))
    if packing.method == "lz4":
        return len(lz4.frame.compress(data, compression_level=packing.level))
    return len(zstd.compress(data, packing.level))


def packed_share(piece: Image, format_name: str, packing: Packing, whole: int) -> float:
    """Return packed over plain bytes of a picture, told from a piece that is really encoded and really packed; at most 1.

    What packs better in one than in halves packs better still in the whole: the gain of one doubling is carried on.

    Parameters
    ----------
    whole : pixels of the picture that the piece is taken from
    """
    data = encode_level(piece, format_named(format_name), EncodeOptions(Effort.DRAFT, threads=1))
    size = pack_bytes(data, packing)
    doublings = min(_GAINS[packing.method], math.log2(max(1.0, whole / (piece.width * piece.height))))
    if doublings:
        # A multiple of every block's bytes.
        half = len(data) // 32 * 16
        size *= (size / sum(pack_bytes(part, packing) for part in (data[:half], data[half:]))) ** doublings
    return min(1.0, size / len(data))
