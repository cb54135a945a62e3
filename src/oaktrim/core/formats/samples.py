"""What the bits of a block or a pixel mean, as descriptors in KTX 2.0 files say it.

Khronos Data Format Specification 1.3, chapter 5 (the basic descriptor block) and chapters 14 to 24 (colour models).
"""

from __future__ import annotations

from dataclasses import dataclass

RED, GREEN, BLUE, ALPHA = 0, 1, 2, 15
BC1_WITH_ALPHA, ETC2_COLOUR = 1, 2
# What the channels of UASTC are.
UASTC_RGB, UASTC_RGBA = 0, 3
_EXPONENT, _SIGNED, _FLOAT = 0x20, 0x40, 0x80
_ALL_BITS = 0xFFFFFFFF
_ONE, _MINUS_ONE = 0x3F800000, 0xBF800000
_IDS = {"R": RED, "G": GREEN, "B": BLUE, "A": ALPHA}


@dataclass(frozen=True)
class Sample:
    """One sample of a block: where its bits are, what they mean, and the codes of black and white."""

    offset: int
    length: int
    channel: int
    lower: int = 0
    upper: int = _ALL_BITS


Samples = tuple[Sample, ...]


def integers(letters: str, bits: int) -> Samples:
    """Return the samples of unsigned integers, one after the other."""
    return tuple(Sample(bits * i, bits, _IDS[c], 0, (1 << bits) - 1) for i, c in enumerate(letters))


def half_floats(letters: str) -> Samples:
    """Return the samples of half floats, one after the other."""
    return tuple(Sample(16 * i, 16, _IDS[c] | _FLOAT | _SIGNED, _MINUS_ONE, _ONE) for i, c in enumerate(letters))


def packed_word(bits: tuple[int, int, int, int]) -> Samples:
    """Return the samples of a word that holds R, G, B and A from its top down."""
    samples, at = [], 0
    for letter, count in zip("ABGR", reversed(bits), strict=True):
        if count:
            samples.append(Sample(at, count, _IDS[letter], 0, (1 << count) - 1))
        at += count
    return tuple(samples)


def small_floats() -> Samples:
    """Return the samples of R11G11B10F."""
    places = ((0, 11, RED), (11, 11, GREEN), (22, 10, BLUE))
    return tuple(Sample(at, length, channel | _FLOAT, 0, _ONE) for at, length, channel in places)


def shared_exponent() -> Samples:
    """Return the samples of RGB9E5: mantissa and exponent of each channel in turn (KDF 1.3, table 88)."""
    # 8448 is the mantissa of 1.0.
    pairs = ((Sample(9 * c, 9, c, 0, 8448), Sample(27, 5, c | _EXPONENT, 15, 31)) for c in (RED, GREEN, BLUE))
    return tuple(sample for pair in pairs for sample in pair)


def block_of(bits: int, *channels: int) -> Samples:
    """Return the samples of a block whose parts, `bits` each, stand one after the other."""
    return tuple(Sample(bits * i, bits, channel) for i, channel in enumerate(channels))


def whole_block(bits: int, *channels: int) -> Samples:
    """Return the samples of a block whose channels share all of its bits."""
    return tuple(Sample(0, bits, channel) for channel in channels)


def float_block(signed: bool) -> Samples:
    """Return the sample of a block of half floats."""
    return (Sample(0, 128, RED | _FLOAT | (_SIGNED if signed else 0), _MINUS_ONE if signed else 0, _ONE),)


def signed_halves(*channels: int) -> Samples:
    """Return the samples of signed integers for -1 to 1, 64 bits each: the least of them is left out."""
    return tuple(Sample(64 * i, 64, c | _SIGNED, 0x80000001, 0x7FFFFFFF) for i, c in enumerate(channels))
