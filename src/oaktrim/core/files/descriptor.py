"""Data format descriptors: how a KTX 2.0 file says what its bits mean.

Khronos Data Format Specification 1.3, chapter 5 (the basic descriptor block).
"""

from __future__ import annotations

import struct

from oaktrim.core.formats.format import Hardware, TextureFormat
from oaktrim.core.formats.samples import ALPHA, UASTC_RGB, whole_block
from oaktrim.core.pixels.codes import Transfer

_HEAD = struct.Struct("<III BBBB 4B 8B")
_SAMPLE = struct.Struct("<H B B 4B I I")

_VERSION_1_3 = 2
_PRIMARIES_BT709 = 1
_TRANSFER_CODE = {Transfer.LINEAR: 1, Transfer.SRGB: 2}
_LINEAR = 0x10


def pack_descriptor(texture_format: TextureFormat, transfer: Transfer, opaque: bool = False) -> bytes:
    """Return the descriptor, its total size first, of a format whose colour has this transfer.

    Parameters
    ----------
    opaque : nothing in it is clear, which is said of blocks that loaders make others of: for them these may be smaller
    """
    if texture_format.floating:
        transfer = Transfer.LINEAR
    samples = texture_format.samples
    if opaque and texture_format.hardware is Hardware.UNIVERSAL:
        samples = whole_block(8 * texture_format.block_bytes, UASTC_RGB)
    block_size = 24 + _SAMPLE.size * len(samples)
    width, height = texture_format.block
    out = _HEAD.pack(
        4 + block_size,
        0,
        _VERSION_1_3 | block_size << 16,
        texture_format.family.model,
        _PRIMARIES_BT709,
        _TRANSFER_CODE[transfer],
        0,
        *(width - 1, height - 1, 0, 0),
        *(texture_format.block_bytes, 0, 0, 0, 0, 0, 0, 0),
    )
    for sample in samples:
        linear = _LINEAR if transfer is Transfer.SRGB and sample.channel == ALPHA else 0
        out += _SAMPLE.pack(
            sample.offset, sample.length - 1, sample.channel | linear, 0, 0, 0, 0, sample.lower, sample.upper
        )
    return out


def descriptor_model(data: bytes) -> int | None:
    """Return the colour model that a descriptor names; None where it ends before that."""
    return data[12] if len(data) >= 13 else None


def descriptor_transfer(data: bytes) -> Transfer | None:
    """Return the transfer that a descriptor names; None where it names none that we know."""
    code = data[14] if len(data) >= 15 else 0
    return next((transfer for transfer, known in _TRANSFER_CODE.items() if known == code), None)
