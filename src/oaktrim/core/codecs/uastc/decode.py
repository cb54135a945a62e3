"""Decoding UASTC, and the ASTC blocks of 4x4 pixels that show exactly the same. Blocks that are not legal are magenta."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktrim.core.codecs.astc.decode import MAGENTA
from oaktrim.core.codecs.blocks import BARE, blocks_in, decode_rows, put_pixels, words_of
from oaktrim.core.codecs.uastc.block import FIELDS, paint, unpack, write_astc
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Pixels


def unpacking_scratch() -> tuple[NDArray[Any], ...]:
    """Return words, fields, codes of one colour, ends, weights and pixels, as `unpack` and `paint` fill them."""
    return (
        np.empty(2, np.uint64), np.empty(FIELDS, np.int64), np.empty(4, np.int64), np.empty(24, np.int64), np.empty(36, np.int64),
        np.empty((16, 4), np.int64),
    )  # fmt: skip


@njit(**BARE)
def _astc_rows(blocks, start, stop, out, scratch, turned):
    """Make ASTC blocks of `out` of UASTC ones, both (rows, columns, 16) uint8; `turned` (2,) uint64 is scratch."""
    words, fields, solid, ends, weights, _ = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            if unpack(words, fields, solid, ends, weights):
                write_astc(fields, solid, ends, weights, words, turned, out[by, bx])
            else:
                # A mode that is reserved.
                for k in range(16):
                    out[by, bx, k] = 0


def to_astc(data: bytes, width: int, height: int) -> bytes:
    """Return the ASTC blocks of 4x4 pixels that show exactly what UASTC blocks do."""
    blocks = blocks_in(data, width, height, (4, 4), 16)
    out = np.empty_like(blocks)
    decode_rows(
        lambda start, stop: _astc_rows(blocks, start, stop, out, unpacking_scratch(), np.empty(2, np.uint64)), blocks
    )
    return out.tobytes()


@njit(**BARE)
def _decode_rows(blocks, start, stop, out, scratch, shown):
    """Decode block rows (rows, columns, 16) uint8 into `out` (H, W) uint32, one word a pixel, red lowest."""
    words, fields, solid, ends, weights, px = scratch
    for by in range(start, stop):
        for bx in range(blocks.shape[1]):
            words_of(blocks[by, bx], words)
            legal = unpack(words, fields, solid, ends, weights)
            if legal:
                paint(fields, solid, ends, weights, px)
            for i in range(16):
                shown[i] = px[i, 0] | px[i, 1] << 8 | px[i, 2] << 16 | px[i, 3] << 24 if legal else MAGENTA
            put_pixels(shown, bx, by, 4, 4, out)


def decode_uastc(data: bytes, width: int, height: int) -> Pixels:
    """Decode to (H, W, 4) uint8."""
    blocks, out = blocks_in(data, width, height, (4, 4), 16), np.empty((height, width), "<u4")
    decode_rows(
        lambda start, stop: _decode_rows(blocks, start, stop, out, unpacking_scratch(), np.empty(16, np.uint32)), blocks
    )
    return out.view(np.uint8).reshape(height, width, 4)


def is_opaque(data: bytes) -> bool:
    """Say whether UASTC blocks show nothing clear."""
    return bool(decode_uastc(data, len(data) // 4, 4)[..., 3].min(initial=255) == 255)
