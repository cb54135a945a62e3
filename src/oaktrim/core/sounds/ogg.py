"""Ogg pages (RFC 3533): a stream's serial number set, so that the same sound is written as the same bytes.

libsndfile draws the number by chance. A page's checksum (clause 6, field 7: polynomial 04c11db7, no reflection, begun at 0) is that
of zlib with the bits of every byte, and of the result, turned round.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator

_HEAD = 27
_TURNED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


def with_serial(data: bytes, serial: int) -> bytes:
    """Return a stream of one sound with another serial number.

    Raises
    ------
    ValueError : not whole pages of Ogg
    """
    found = bytearray(data)
    for start, stop in _pages(data):
        struct.pack_into("<II", found, start + 14, serial, struct.unpack_from("<I", data, start + 18)[0])
        struct.pack_into("<I", found, start + 22, 0)
        struct.pack_into("<I", found, start + 22, checksum(bytes(found[start:stop])))
    return bytes(found)


def header_bytes(data: bytes) -> int:
    """Return the bytes of the pages before the first that ends a sample: what a stream takes however short it is."""
    return next((start for start, _ in _pages(data) if struct.unpack_from("<q", data, start + 6)[0] > 0), len(data))


def checksum(page: bytes) -> int:
    """Return the checksum of a page whose own field is 0."""
    turned = zlib.crc32(page.translate(_TURNED), 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{turned:032b}"[::-1], 2)


def _pages(data: bytes) -> Iterator[tuple[int, int]]:
    at = 0
    while at < len(data):
        if data[at : at + 4] != b"OggS" or at + _HEAD > len(data):
            raise ValueError(f"no Ogg page begins at byte {at}")
        segments = data[at + 26]
        stop = at + _HEAD + segments + sum(data[at + _HEAD : at + _HEAD + segments])
        if stop > len(data):
            raise ValueError(f"the Ogg page at byte {at} is not whole")
        yield at, stop
        at = stop
