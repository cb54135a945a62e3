"""Data format descriptors: how a KTX 2.0 file says what its bits mean.

Khronos Data Format Specification 1.3, chapter 5 (the basic descriptor block) and chapters 14 to 24 (colour models).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from oaktrim.core.codecs.plain import PACKED_BITS
from oaktrim.core.formats.catalogue import TextureFormat
from oaktrim.core.pixels.image import Transfer

_HEAD = struct.Struct("<III BBBB 4B 8B")
_SAMPLE = struct.Struct("<H B B 4B I I")

_VERSION_1_3 = 2
_PRIMARIES_BT709 = 1
_TRANSFER_CODE = {Transfer.LINEAR: 1, Transfer.SRGB: 2}
_RGBSDA = 1
_MODELS = {
    "bc1": 128,
    "bc3": 130,
    "bc4": 131,
    "bc5": 132,
    "bc6h": 133,
    "bc7": 134,
    "etc2": 161,
    "eac": 161,
    "astc": 162,
}
_RED, _GREEN, _BLUE, _ALPHA = 0, 1, 2, 15
_BC1_WITH_ALPHA, _ETC2_COLOUR = 1, 2
_LINEAR, _EXPONENT, _SIGNED, _FLOAT = 0x10, 0x20, 0x40, 0x80
_ALL_BITS = 0xFFFFFFFF
_ONE, _MINUS_ONE = 0x3F800000, 0xBF800000


@dataclass(frozen=True)
class _Sample:
    """One sample of the block: where its bits are, what they mean, and the codes of black and white."""

    offset: int
    length: int
    channel: int
    lower: int
    upper: int


def _samples(name: str, channels: str) -> list[_Sample]:
    whole = {
        "bc1": _RED,
        "bc1-a1": _BC1_WITH_ALPHA,
        "bc4": _RED,
        "bc7": _RED,
        "eac-r11": _RED,
        "etc2-rgb": _ETC2_COLOUR,
    }
    halves = {
        "bc3": (_ALPHA, _RED),
        "bc5": (_RED, _GREEN),
        "etc2-rgba": (_ALPHA, _ETC2_COLOUR),
        "eac-rg11": (_RED, _GREEN),
    }
    ids = {"R": _RED, "G": _GREEN, "B": _BLUE, "A": _ALPHA}
    if name == "bc6h":
        return [_Sample(0, 128, _RED | _FLOAT, 0, _ONE)]
    if name == "bc6h-signed":
        return [_Sample(0, 128, _RED | _FLOAT | _SIGNED, _MINUS_ONE, _ONE)]
    if name in ("eac-r11-signed", "eac-rg11-signed"):
        # Signed integers that stand for -1 to 1: the least of them is left out.
        return [_Sample(64 * i, 64, ids[c] | _SIGNED, 0x80000001, 0x7FFFFFFF) for i, c in enumerate(channels)]
    if name.startswith("astc"):
        return [_Sample(0, 128, _RED, 0, _ALL_BITS)]
    if name == "etc2-rgb-a1":
        return [_Sample(0, 64, _ETC2_COLOUR, 0, _ALL_BITS), _Sample(0, 64, _ALPHA, 0, _ALL_BITS)]
    if name in whole:
        return [_Sample(0, 128 if name == "bc7" else 64, whole[name], 0, _ALL_BITS)]
    if name in halves:
        return [_Sample(64 * i, 64, channel, 0, _ALL_BITS) for i, channel in enumerate(halves[name])]
    if name in PACKED_BITS:
        samples, at = [], 0
        for letter, bits in zip("ABGR", reversed(PACKED_BITS[name]), strict=True):
            if bits:
                samples.append(_Sample(at, bits, ids[letter], 0, (1 << bits) - 1))
            at += bits
        return samples
    if name == "r11g11b10f":
        places = ((0, 11, _RED), (11, 11, _GREEN), (22, 10, _BLUE))
        return [_Sample(at, length, channel | _FLOAT, 0, _ONE) for at, length, channel in places]
    if name == "rgb9e5":
        # Mantissa and shared exponent of each channel in turn; 8448 is the mantissa of 1.0 (KDF 1.3, table 88).
        return [
            sample
            for channel in (_RED, _GREEN, _BLUE)
            for sample in (
                _Sample(9 * channel, 9, channel, 0, 8448),
                _Sample(27, 5, channel | _EXPONENT, 15, 31),
            )
        ]
    if name == "rgba16f":
        return [_Sample(16 * i, 16, ids[c] | _FLOAT | _SIGNED, _MINUS_ONE, _ONE) for i, c in enumerate(channels)]
    bits = 16 if name == "r16" else 8
    return [_Sample(bits * i, bits, ids[c], 0, (1 << bits) - 1) for i, c in enumerate(channels)]


def pack_descriptor(texture_format: TextureFormat, transfer: Transfer) -> bytes:
    """Return the descriptor, its total size first, of a format whose colour has this transfer."""
    name = texture_format.name
    model = next((code for stem, code in _MODELS.items() if name.startswith(stem)), _RGBSDA)
    if texture_format.floating:
        transfer = Transfer.LINEAR
    samples = _samples(name, texture_format.channels)
    block_size = 24 + _SAMPLE.size * len(samples)
    width, height = texture_format.block
    out = _HEAD.pack(
        4 + block_size,
        0,
        _VERSION_1_3 | block_size << 16,
        model,
        _PRIMARIES_BT709,
        _TRANSFER_CODE[transfer],
        0,
        *(width - 1, height - 1, 0, 0),
        *(texture_format.block_bytes, 0, 0, 0, 0, 0, 0, 0),
    )
    for sample in samples:
        linear = _LINEAR if transfer is Transfer.SRGB and sample.channel == _ALPHA else 0
        out += _SAMPLE.pack(
            sample.offset, sample.length - 1, sample.channel | linear, 0, 0, 0, 0, sample.lower, sample.upper
        )
    return out


def descriptor_transfer(data: bytes) -> Transfer | None:
    """Return the transfer that a descriptor names; None where it names none that we know."""
    code = data[14] if len(data) >= 15 else 0
    return next((transfer for transfer, known in _TRANSFER_CODE.items() if known == code), None)
