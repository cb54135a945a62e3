"""PNG files (ISO/IEC 15948) by their chunks: that they are whole, what they say beside pixels, and plain ones decoded fast."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import kornia_rs

from oaktrim.core.errors import FileError
from oaktrim.core.pixels.image import Image

MAGIC = b"\x89PNG\r\n\x1a\n"
# Kornia's reader takes a third of Pillow's time: without it, a first survey of a game's 2,761 pictures takes a tenth to a
# sixth longer, of the demonstration a quarter (2026-11-29, two processes).
# What it calls the types of colour (clause 11.2.2) that it decodes.
_KORNIA_MODES = {0: "mono", 2: "rgb", 6: "rgba"}
# It holds the interpreter's lock while it decodes: larger pictures would stop other threads for more than some 10 ms.
_KORNIA_MOST = 1 << 20
# A gamma of 1/2.2, as writers state it for sRGB (clause 11.3.2.5).
_SRGB_GAMMA = 45455
# Colour primaries, transfer characteristics, matrix coefficients and range of sRGB (PNG 3rd edition, clause 11.3.2.6).
_SRGB_POINTS = bytes((1, 13, 0, 1))


def read_chunks(data: bytes, path: Path) -> dict[bytes, bytes]:
    """Return the first of each kind of chunk but those of pixels, by name (clause 5.3).

    Raises
    ------
    FileError : a chunk is cut short or fails its checksum, or the end chunk is missing: the readers behind only print that
    """
    at, ended = len(MAGIC), False
    chunks: dict[bytes, bytes] = {}
    while at < len(data) and not ended:
        if at + 12 > len(data):
            raise FileError(path, "ends inside a PNG chunk", len(data))
        length, name = struct.unpack_from(">I4s", data, at)
        if at + 12 + length > len(data):
            raise FileError(path, f"ends inside the PNG chunk {name.decode('latin-1')}", len(data))
        stop = at + 8 + length
        if zlib.crc32(memoryview(data)[at + 4 : stop]) != int.from_bytes(data[stop : stop + 4], "big"):
            raise FileError(path, f"the PNG chunk {name.decode('latin-1')} fails its checksum", at)
        chunks.setdefault(name, b"" if name == b"IDAT" else data[at + 8 : stop])
        ended = name == b"IEND"
        at = stop + 4
    if not ended:
        raise FileError(path, "ends before the PNG end chunk", len(data))
    return chunks


def is_deep(data: bytes) -> bool:
    """Say whether a channel has 16 bits (clause 11.2.2)."""
    return len(data) > 24 and data[24] == 16


def ignored_parts(chunks: dict[bytes, bytes]) -> tuple[str, ...]:
    """Return what chunks say of colour that is not looked at: gAMA, where it is not that of sRGB, and cICP."""
    said = []
    gamma = chunks.get(b"gAMA", b"")
    if len(gamma) == 4 and not {b"sRGB", b"iCCP"} & chunks.keys():
        value = int.from_bytes(gamma, "big")
        if value != _SRGB_GAMMA:
            said.append(f"gAMA ({value / 100_000:g})")
    if b"cICP" in chunks and chunks[b"cICP"] != _SRGB_POINTS:
        said.append(f"cICP ({', '.join(map(str, chunks[b'cICP']))})")
    return tuple(said)


def decode_plain(data: bytes, chunks: dict[bytes, bytes], alone: bool = False) -> Image | None:
    """Return the picture in a file of 8 bits a channel, not turned and of one frame; None for all others.

    Parameters
    ----------
    alone : no other thread of this process is kept waiting by a large one
    """
    if data[12:16] != b"IHDR" or {b"tRNS", b"acTL", b"eXIf"} & chunks.keys():
        return None
    width, height, depth, colour, *_, interlaced = struct.unpack_from(">IIBBBBB", data, 16)
    if depth != 8 or colour not in _KORNIA_MODES or interlaced:
        return None
    if width * height > _KORNIA_MOST and not alone:
        return None
    try:
        return Image.of(kornia_rs.io.decode_image_png_u8(data, (height, width), _KORNIA_MODES[colour]))
    except Exception:  # whatever is wrong with it, Pillow has the words for it
        return None
