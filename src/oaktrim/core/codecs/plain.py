"""Formats whose pixels stand alone: 8 and 16 bit integers, packed words, half floats and shared exponents.

Little-endian words as in the Khronos Data Format Specification 1.3; R11G11B10F and RGB9E5 follow the OpenGL 4.6
core specification, sections 2.3.4.3, 2.3.4.4 and 8.5.2 (encoding of special internal formats).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from oaktrim.core.codecs.effort import Dither, EncodeOptions
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.kernels import njit
from oaktrim.core.pixels.image import Image, Pixels, held, to_rgba

# Bayer's ordered dither, "An optimum method for two-level rendition of continuous-tone pictures" (1973), of order 4.
_BAYER = np.array([[0, 8, 2, 10], [12, 4, 14, 6], [3, 11, 1, 9], [15, 7, 13, 5]])

_SHARED_BIAS, _SHARED_BITS, _SHARED_TOP = 15, 9, 31
_SHARED_LARGEST = (2**_SHARED_BITS - 1) / 2**_SHARED_BITS * 2.0 ** (_SHARED_TOP - _SHARED_BIAS)


def _bytes8(channels: int) -> tuple[Callable[[Image, EncodeOptions], bytes], Callable[[bytes, int, int], Pixels]]:
    def encode(image: Image, options: EncodeOptions) -> bytes:
        return np.ascontiguousarray(to_rgba(image)[..., :channels]).tobytes()

    def decode(data: bytes, width: int, height: int) -> Pixels:
        return np.frombuffer(data, np.uint8).reshape(height, width, channels)

    return encode, decode


def encode_r16(image: Image, options: EncodeOptions) -> bytes:
    """Encode the first channel in 16 bits."""
    return to_rgba(image, np.uint16)[..., 0].astype("<u2").tobytes()


def decode_r16(data: bytes, width: int, height: int) -> Pixels:
    return np.frombuffer(data, "<u2").reshape(height, width, 1).astype(np.uint16)


def encode_rgba16f(image: Image, options: EncodeOptions) -> bytes:
    """Encode half floats; values past the largest half are held at it and what is not a number becomes 0."""
    wide = np.nan_to_num(to_rgba(image, np.float32), nan=0.0, posinf=65504.0, neginf=-65504.0)
    halves: Pixels = np.clip(wide, -65504.0, 65504.0).astype("<f2")
    return halves.tobytes()


def decode_rgba16f(data: bytes, width: int, height: int) -> Pixels:
    return np.frombuffer(data, "<f2").reshape(height, width, 4).astype(np.float16)


@njit(nogil=True, cache=True)
def _diffuse(values, top, codes):
    """Fill codes (H, W) uint32 of 0..top from values (H, W) uint8; what rounding leaves goes on to the next pixels.

    Floyd and Steinberg, "An adaptive algorithm for spatial greyscale" (1976), rows walked there and back.
    """
    height, width = values.shape
    here, below = np.zeros(width + 2, np.float32), np.zeros(width + 2, np.float32)
    scale = np.float32(top / 255.0)
    for y in range(height):
        step = 1 if y % 2 == 0 else -1
        for k in range(width):
            x = k if step == 1 else width - 1 - k
            wanted = np.float32(values[y, x]) * scale + here[x + 1]
            code = min(max(np.int64(np.floor(wanted + np.float32(0.5))), 0), top)
            codes[y, x] = code
            left = wanted - np.float32(code)
            here[x + 1 + step] += left * np.float32(7 / 16)
            below[x + 1 - step] += left * np.float32(3 / 16)
            below[x + 1] += left * np.float32(5 / 16)
            below[x + 1 + step] += left * np.float32(1 / 16)
        for x in range(width + 2):
            here[x] = below[x]
            below[x] = np.float32(0)


def _diffused(values: Pixels, top: int) -> Pixels:
    codes = np.empty(values.shape, np.uint32)
    _diffuse(held(values), top, codes)
    return codes


def _packed(name: str) -> tuple[Callable[[Image, EncodeOptions], bytes], Callable[[bytes, int, int], Pixels]]:
    bits = FORMATS[name].packed_bits or (0, 0, 0, 0)

    def encode(image: Image, options: EncodeOptions) -> bytes:
        source = to_rgba(image)
        height, width = source.shape[:2]
        pattern = np.tile(_BAYER, (-(-height // 4), -(-width // 4)))[:height, :width]
        offset = (pattern + 0.5) / 16 if options.dither is Dither.ORDERED else np.full((height, width), 0.5)
        word = np.zeros((height, width), np.uint32)
        for channel, count in enumerate(bits):
            if count == 0:
                continue
            top = (1 << count) - 1
            values = source[..., channel]
            if count == 1:
                code = (values >= options.alpha_threshold).astype(np.uint32)
            elif channel == 3:
                code = (values.astype(np.uint32) * top + 127) // 255
            elif options.dither is Dither.DIFFUSED:
                code = _diffused(values, top)
            else:
                code = np.floor(values.astype(np.float32) * (top / 255) + offset).astype(np.uint32)
            word = (word << np.uint32(count)) | np.minimum(code, top)
        return word.astype("<u2").tobytes()

    def decode(data: bytes, width: int, height: int) -> Pixels:
        word = np.frombuffer(data, "<u2").reshape(height, width).astype(np.uint32)
        out = np.empty((height, width, 4 if bits[3] else 3), np.uint8)
        shift = 16
        for channel in range(out.shape[2]):
            shift -= bits[channel]
            top = (1 << bits[channel]) - 1
            out[..., channel] = ((word >> np.uint32(shift) & top) * 255 + top // 2) // top
        return out

    return encode, decode


def _small_float(values: Pixels, mantissa: int) -> Pixels:
    """Return unsigned floats with 5 bits of exponent and `mantissa` bits, as uint32 codes; negatives become 0."""
    largest = (2 - 2.0**-mantissa) * 2.0**15
    held = np.clip(np.nan_to_num(values.astype(np.float32), nan=0.0, posinf=largest), 0.0, largest)
    exponent = np.clip(np.floor(np.log2(np.maximum(held, 2.0**-30))), -14, 15)
    scaled = np.rint(held / 2.0 ** (exponent - mantissa)).astype(np.uint32)
    # A value below the least normal exponent keeps the same step; codes run on without a gap.
    return (exponent.astype(np.int64) + 14).astype(np.uint32) * np.uint32(1 << mantissa) + scaled


def _from_small_float(code: Pixels, mantissa: int) -> Pixels:
    exponent = (code >> np.uint32(mantissa)).astype(np.int32)
    part = (code & np.uint32((1 << mantissa) - 1)).astype(np.float32) / (1 << mantissa)
    normal = np.ldexp(1 + part, exponent - 15)
    small = np.ldexp(part, -14)
    value = np.where(exponent == 0, small, normal)
    return np.where(exponent == 31, np.where(part == 0, np.inf, np.nan), value).astype(np.float32)


def encode_r11g11b10f(image: Image, options: EncodeOptions) -> bytes:
    """Encode unsigned small floats, red in the low bits."""
    source = to_rgba(image, np.float32)
    red, green = (_small_float(source[..., i], 6) for i in (0, 1))
    blue = _small_float(source[..., 2], 5)
    word: Pixels = red | green << np.uint32(11) | blue << np.uint32(22)
    return word.astype("<u4").tobytes()


def decode_r11g11b10f(data: bytes, width: int, height: int) -> Pixels:
    word = np.frombuffer(data, "<u4").reshape(height, width).astype(np.uint32)
    parts = (
        _from_small_float(word & np.uint32(0x7FF), 6),
        _from_small_float(word >> np.uint32(11) & np.uint32(0x7FF), 6),
        _from_small_float(word >> np.uint32(22), 5),
    )
    return np.stack(parts, axis=-1)


def encode_rgb9e5(image: Image, options: EncodeOptions) -> bytes:
    """Encode three 9-bit mantissas under one exponent (OpenGL 4.6, section 8.5.2)."""
    source = np.nan_to_num(to_rgba(image, np.float32)[..., :3], nan=0.0, posinf=_SHARED_LARGEST)
    held = np.clip(source, 0.0, _SHARED_LARGEST)
    largest = held.max(axis=-1)
    exponent = np.maximum(-_SHARED_BIAS - 1, np.floor(np.log2(np.maximum(largest, 2.0**-40)))) + 1 + _SHARED_BIAS
    step = 2.0 ** (exponent - _SHARED_BIAS - _SHARED_BITS)
    exponent = np.where(np.floor(largest / step + 0.5) == 2**_SHARED_BITS, exponent + 1, exponent)
    step = 2.0 ** (exponent - _SHARED_BIAS - _SHARED_BITS)
    parts = np.floor(held / step[..., None] + 0.5).astype(np.uint32)
    word: Pixels = exponent.astype(np.uint32) << np.uint32(27)
    word = word | parts[..., 2] << np.uint32(18) | parts[..., 1] << np.uint32(9) | parts[..., 0]
    return word.astype("<u4").tobytes()


def decode_rgb9e5(data: bytes, width: int, height: int) -> Pixels:
    word = np.frombuffer(data, "<u4").reshape(height, width).astype(np.uint32)
    step = np.ldexp(np.float32(1), (word >> np.uint32(27)).astype(np.int32) - _SHARED_BIAS - _SHARED_BITS)
    parts = [(word >> np.uint32(shift) & np.uint32(0x1FF)).astype(np.float32) * step for shift in (0, 9, 18)]
    return np.stack(parts, axis=-1).astype(np.float32)


encode_r8, decode_r8 = _bytes8(1)
encode_rg8, decode_rg8 = _bytes8(2)
encode_rgb8, decode_rgb8 = _bytes8(3)
encode_rgba8, decode_rgba8 = _bytes8(4)
encode_rgb565, decode_rgb565 = _packed("rgb565")
encode_rgba5551, decode_rgba5551 = _packed("rgba5551")
encode_rgba4444, decode_rgba4444 = _packed("rgba4444")
