"""Encoding and decoding by format name: the table of codecs, and a texture with its levels encoded."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from oaktrim.core.codecs import plain
from oaktrim.core.codecs.astc.decode import decode_astc
from oaktrim.core.codecs.astc.encode import encode_astc
from oaktrim.core.codecs.bc1 import codec as bc1
from oaktrim.core.codecs.bc4 import codec as bc4
from oaktrim.core.codecs.bc6h import codec as bc6h
from oaktrim.core.codecs.bc7 import codec as bc7
from oaktrim.core.codecs.effort import Dither, EncodeOptions
from oaktrim.core.codecs.etc import codec as etc2
from oaktrim.core.codecs.ratedistortion import optimize_rate
from oaktrim.core.codecs.uastc.decode import decode_uastc
from oaktrim.core.codecs.uastc.encode import encode_uastc
from oaktrim.core.errors import Unsupported
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware, TextureFormat
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.image import CHANNEL_NAMES, Image, Pixels
from oaktrim.core.pixels.levels import level_size
from oaktrim.core.progress import Progress, Task, finish

Encoder = Callable[[Image, EncodeOptions], bytes]
Decoder = Callable[[bytes, int, int], Pixels]

# A codec each, beside its row in the catalogue.
CODECS: dict[str, tuple[Encoder, Decoder]] = {
    "r8": (plain.encode_r8, plain.decode_r8),
    "rg8": (plain.encode_rg8, plain.decode_rg8),
    "rgb8": (plain.encode_rgb8, plain.decode_rgb8),
    "rgba8": (plain.encode_rgba8, plain.decode_rgba8),
    "r16": (plain.encode_r16, plain.decode_r16),
    "rgba16f": (plain.encode_rgba16f, plain.decode_rgba16f),
    "rgb565": (plain.encode_rgb565, plain.decode_rgb565),
    "rgba5551": (plain.encode_rgba5551, plain.decode_rgba5551),
    "rgba4444": (plain.encode_rgba4444, plain.decode_rgba4444),
    "r11g11b10f": (plain.encode_r11g11b10f, plain.decode_r11g11b10f),
    "rgb9e5": (plain.encode_rgb9e5, plain.decode_rgb9e5),
    "bc1": (bc1.encode_bc1, bc1.decode_bc1),
    "bc1-a1": (bc1.encode_bc1_a1, bc1.decode_bc1_a1),
    "bc3": (bc1.encode_bc3, bc1.decode_bc3),
    "bc4": (bc4.encode_bc4, bc4.decode_bc4),
    "bc5": (bc4.encode_bc5, bc4.decode_bc5),
    "bc6h": (bc6h.encode_bc6h, bc6h.decode_bc6h),
    "bc6h-signed": (bc6h.encode_bc6h_signed, bc6h.decode_bc6h_signed),
    "bc7": (bc7.encode_bc7, bc7.decode_bc7),
    "etc2-rgb": (etc2.encode_etc2_rgb, etc2.decode_etc2_rgb),
    "etc2-rgb-a1": (etc2.encode_etc2_rgb_a1, etc2.decode_etc2_rgb_a1),
    "etc2-rgba": (etc2.encode_etc2_rgba, etc2.decode_etc2_rgba),
    "eac-r11": (etc2.encode_eac_r11, etc2.decode_eac_r11),
    "eac-rg11": (etc2.encode_eac_rg11, etc2.decode_eac_rg11),
    "eac-r11-signed": (etc2.encode_eac_r11_signed, etc2.decode_eac_r11_signed),
    "eac-rg11-signed": (etc2.encode_eac_rg11_signed, etc2.decode_eac_rg11_signed),
    "uastc": (encode_uastc, decode_uastc),
}


def _astc(size: tuple[int, int]) -> tuple[Encoder, Decoder]:
    return (
        lambda image, options: encode_astc(image, options, size),
        lambda data, width, height: decode_astc(data, width, height, size),
    )


CODECS.update({name: _astc(row.block) for name, row in FORMATS.items() if row.hardware is Hardware.ASTC})


@dataclass(frozen=True)
class EncodedTexture:
    """A texture as a GPU takes it.

    Parameters
    ----------
    format : of all levels
    width, height : pixels of level 0
    transfer : of the colour channels
    levels : the bytes of each level, the largest first; in each, layer after layer, face after face, block rows from the top
    layers : pictures of an array; 1 for a single texture
    faces : 6 of a cube, in the order +X, -X, +Y, -Y, +Z, -Z; else 1
    """

    format: TextureFormat
    width: int
    height: int
    transfer: Transfer
    levels: tuple[bytes, ...]
    layers: int = 1
    faces: int = 1

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of level 0."""
        return self.width, self.height

    @property
    def slices(self) -> int:
        """Pictures in each level: the faces of all layers."""
        return self.layers * self.faces

    @property
    def bytes(self) -> int:
        return sum(len(level) for level in self.levels)


# Pixels that are encoded between two words of progress; in rows that all block heights and the ordered dither divide.
_BAND_PIXELS, _BAND_ROWS = 1 << 18, 120


def encode_level(image: Image, texture_format: TextureFormat, options: EncodeOptions = EncodeOptions()) -> bytes:
    """Return one image in a format, block rows from the top."""
    return finish(encode_texture([image], texture_format, options)).levels[0]


def band_rows(width: int) -> int:
    """Return how many rows of a picture are encoded at a time; each such band is to itself."""
    return max(1, _BAND_PIXELS // (width * _BAND_ROWS)) * _BAND_ROWS


def encode_rows(
    image: Image, texture_format: TextureFormat, options: EncodeOptions, start: int, stop: int
) -> Task[bytes]:
    """Encode the bands of an image from one row up to another, as `encode_texture` does with all of it.

    Parameters
    ----------
    start, stop : multiples of `band_rows`, or its height
    """
    return (yield from _encode_bands(image.with_pixels(image.pixels[start:stop]), texture_format, options))


def _encode_bands(image: Image, texture_format: TextureFormat, options: EncodeOptions) -> Task[bytes]:
    """Encode an image in bands, so that little stands in memory twice; `done` of the progress counts rows."""
    encoder = CODECS[texture_format.name][0]
    if options.dither is Dither.DIFFUSED and texture_format.packed_bits:
        return encoder(image, options)
    rows = band_rows(image.width)
    bands = []
    for start in range(0, image.height, rows):
        yield Progress(start, image.height, "")
        bands.append(encoder(image.with_pixels(image.pixels[start : start + rows]), options))
    return b"".join(bands)


def encode_texture(
    levels: list[Image], texture_format: TextureFormat, options: EncodeOptions = EncodeOptions()
) -> Task[EncodedTexture]:
    """Encode an image and its levels, the largest first; with a loss, have blocks repeat each other."""
    done, total = 0, sum(level.width * level.height for level in levels)
    encoded = []
    for level in levels:
        bands = _encode_bands(level, texture_format, options)
        while True:
            try:
                step = next(bands)
            except StopIteration as end:
                encoded.append(end.value)
                break
            words = f"encoding {level.width}x{level.height} as {texture_format.label}"
            yield Progress(done + step.done * level.width, total, words)
        done += level.width * level.height
    first = levels[0]
    made = EncodedTexture(texture_format, first.width, first.height, first.transfer, tuple(encoded))
    return (yield from optimize_texture_rate(made, levels, options))


def optimize_texture_rate(made: EncodedTexture, levels: list[Image], options: EncodeOptions) -> Task[EncodedTexture]:
    """Return a texture that was encoded from `levels` with blocks that repeat each other, within the loss of the options.

    Without a loss, and in formats without blocks or of high dynamic range, it stays what it is.
    """
    row = made.format
    if options.loss <= 0 or not row.compressed or row.floating:
        return made
    kept = ["RGBA".index(letter) for letter in row.channels]
    repeated = []
    for number, (level, data) in enumerate(zip(levels, made.levels, strict=True)):
        yield Progress(number, len(levels), f"repeating blocks of {level.width}x{level.height}")
        width, height = (-(-side // block) * block for side, block in zip(level.size, row.block, strict=True))
        decoded = decode_level(EncodedTexture(row, width, height, level.transfer, (data,)))
        repeated.append(optimize_rate(data, level, decoded, row.block, kept, options))
    return replace(made, levels=tuple(repeated))


def stack_textures(textures: list[EncodedTexture], faces: int = 1) -> EncodedTexture:
    """Return textures of one size, format and count of levels as an array; of six faces each, as cubes.

    Raises
    ------
    Unsupported : they differ, the faces are not square, or their number does not fit
    """
    first = textures[0]
    if any(_shape(t) != _shape(first) for t in textures):
        raise Unsupported("pictures of an array or a cube must have one size and the same levels")
    if len(textures) % faces:
        raise Unsupported(f"a cube has {faces} faces; {len(textures)} pictures do not make whole cubes")
    if faces == 6 and first.width != first.height:
        raise Unsupported(f"the faces of a cube are square, not {first.width}x{first.height}")
    levels = tuple(b"".join(parts) for parts in zip(*(t.levels for t in textures), strict=True))
    return replace(first, levels=levels, layers=len(textures) // faces, faces=faces)


def _shape(texture: EncodedTexture) -> tuple[object, ...]:
    return texture.format, texture.size, texture.transfer, len(texture.levels)


def decode_level(texture: EncodedTexture, level: int = 0, slice_: int = 0) -> Image:
    """Return one level as an image, with the channels that its format keeps; `slice_` counts the faces of all layers.

    Raises
    ------
    Unsupported : there is no such level or slice
    """
    if not 0 <= level < len(texture.levels):
        raise Unsupported(f"there is no level {level}; the texture has levels 0 to {len(texture.levels) - 1}")
    if not 0 <= slice_ < texture.slices:
        raise Unsupported(
            f"there is no slice {slice_}; the texture has {texture.layers} layers of {texture.faces} faces"
        )
    width, height = level_size(texture.width, texture.height, level)
    size = texture.format.level_bytes(width, height)
    pixels = CODECS[texture.format.name][1](texture.levels[level][slice_ * size : (slice_ + 1) * size], width, height)
    letters = texture.format.channels
    names = (
        ("L",)
        if letters == "R"
        else tuple(letters)
        if len(letters) == pixels.shape[2]
        else CHANNEL_NAMES[pixels.shape[2]]
    )
    return Image(pixels, names, texture.transfer)
