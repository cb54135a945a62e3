"""Every texture format the product knows, as data: a row each, and one codec in `codecs/texture.py`."""

from __future__ import annotations

from oaktrim.core.errors import Unsupported
from oaktrim.core.formats.format import Alpha, FormatFamily, Hardware, Prominence, Suits, TextureFormat
from oaktrim.core.formats.samples import (
    ALPHA,
    BC1_WITH_ALPHA,
    ETC2_COLOUR,
    GREEN,
    RED,
    UASTC_RGBA,
    block_of,
    float_block,
    half_floats,
    integers,
    packed_word,
    shared_exponent,
    signed_halves,
    small_floats,
    whole_block,
)

_PLAIN = FormatFamily("plain", Hardware.PLAIN, 1)
_THREE_BYTE = FormatFamily("plain", Hardware.THREE_BYTE, 1)
_BC1 = FormatFamily("bc1", Hardware.BC, 128, 2, 0.65)
_BC3 = FormatFamily("bc3", Hardware.BC, 130, 3, 0.7)
_BC4 = FormatFamily("bc4", Hardware.BC, 131, 1, 0.8)
_BC5 = FormatFamily("bc5", Hardware.BC, 132, 2, 0.8)
_BC6H = FormatFamily("bc6h", Hardware.BC, 133, 12)
_BC7 = FormatFamily("bc7", Hardware.BC, 134, 12, 0.85)
_ETC2 = FormatFamily("etc2", Hardware.ETC2, 161, 16, 0.8)
_EAC = FormatFamily("eac", Hardware.ETC2, 161, 4, 0.85)
_ASTC = FormatFamily("astc", Hardware.ASTC, 162, 12, 0.7, (1.16, 1.1, 1.06))
_UASTC = FormatFamily("uastc", Hardware.UNIVERSAL, 166, 14, 0.75)

_NONE, _ONE_BIT, _FULL = Alpha.NONE, Alpha.ONE_BIT, Alpha.FULL
_PIXEL, _FOUR = (1, 1), (4, 4)
_565, _5551, _4444 = (5, 6, 5, 0), (5, 5, 5, 1), (4, 4, 4, 4)
_ASTC_BLOCKS = (
    (4, 4), (5, 4), (5, 5), (6, 5), (6, 6), (8, 5), (8, 6), (8, 8),
    (10, 5), (10, 6), (10, 8), (10, 10), (12, 10), (12, 12),
)  # fmt: skip
# Of ASTC only these blocks are offered side by side: those between them cost and lose what lies between.
_ASTC_OFFERED = {
    (4, 4): Prominence.SHORT_LIST, (5, 5): Prominence.CANDIDATE, (6, 6): Prominence.TYPICAL, (8, 8): Prominence.CANDIDATE,
    (10, 10): Prominence.CANDIDATE, (12, 12): Prominence.CANDIDATE,
}  # fmt: skip
_ASTC_SUITS = {(5, 5): (Suits.NORMALS, Suits.PACKED), (6, 6): (Suits.OPAQUE, Suits.SOFT_ALPHA)}

# Filled by `register`; `ORDER` is the order in which formats are listed, and counted in columns of plans.
FORMATS: dict[str, TextureFormat] = {}
ORDER: list[str] = []


def register(row: TextureFormat) -> None:
    """Add a format; before anything but its codec is imported, since columns of formats are laid out at import.

    Raises
    ------
    ValueError : there is one of that name
    """
    if row.name in FORMATS:
        raise ValueError(f"there is a texture format {row.name!r} already")
    FORMATS[row.name] = row
    ORDER.append(row.name)


def format_named(name: str) -> TextureFormat:
    """Return a format by its name.

    Raises
    ------
    Unsupported : there is no such format
    """
    try:
        return FORMATS[name]
    except KeyError:
        raise Unsupported(f"there is no texture format {name!r}; known are {', '.join(ORDER)}") from None


def formats_for(use: Suits) -> list[TextureFormat]:
    """Return the formats that are chosen for a use, the one to prefer first.

    Blocks stand before plain formats, those that keep channels apart before those that mix them where that matters, and small
    ones before large ones.
    """
    apart = use in (Suits.NORMALS, Suits.PACKED)
    rows = [row for row in FORMATS.values() if use in row.suits]
    return sorted(rows, key=lambda r: (not r.compressed, apart and r.mixes_channels, -(-r.bits_per_pixel // 4)))


for _row in (
    TextureFormat(
        "r8", "R8_UNORM", "R8", _PLAIN, _PIXEL, 1, "R", _NONE, 9, 15, 61, None, integers("R", 8), 1,
        "one channel kept exactly", "keeps one channel only",
    ),
    TextureFormat(
        "rg8", "R8G8_UNORM", "RG8", _PLAIN, _PIXEL, 2, "RG", _NONE, 16, 22, 49, None, integers("RG", 8), 1,
        "two channels, or normals, kept exactly", "keeps two channels only",
    ),
    TextureFormat(
        "rgb8", "R8G8B8_UNORM", "RGB8", _THREE_BYTE, _PIXEL, 3, "RGB", _NONE, 23, 29, None, None, integers("RGB", 8), 1,
        "colour in files", "no hardware samples three bytes a pixel: it becomes four",
    ),
    TextureFormat(
        "rgba8", "R8G8B8A8_UNORM", "RGBA8", _PLAIN, _PIXEL, 4, "RGBA", _FULL, 37, 43, 28, 29, integers("RGBA", 8), 1,
        "anything that must be exact", "four to sixteen times the bytes of blocks",
    ),
    TextureFormat(
        "r16", "R16_UNORM", "R16", _PLAIN, _PIXEL, 2, "R", _NONE, 70, None, 56, None, integers("R", 16), 2,
        "heights and distances", "keeps one channel only",
    ),
    TextureFormat(
        "rgba16f", "R16G16B16A16_SFLOAT", "RGBA16F", _PLAIN, _PIXEL, 8, "RGBA", _FULL, 97, None, 10, None,
        half_floats("RGBA"), 2, "light beyond 0..1, exactly", "eight bytes a pixel", floating=True,
    ),
    TextureFormat(
        "rgb565", "R5G6B5_UNORM_PACK16", "RGB565", _PLAIN, _PIXEL, 2, "RGB", _NONE, 4, None, 85, None, packed_word(_565), 2,
        "colour where there are no blocks", "gradients band without dither", packed_bits=_565, mixes_channels=True,
    ),
    TextureFormat(
        "rgba5551", "R5G5B5A1_UNORM_PACK16", "RGBA5551", _PLAIN, _PIXEL, 2, "RGBA", _ONE_BIT, 6, None, None, None,
        packed_word(_5551), 2, "colour with hard edges", "gradients band, alpha is on or off", packed_bits=_5551,
        mixes_channels=True,
    ),
    TextureFormat(
        "rgba4444", "R4G4B4A4_UNORM_PACK16", "RGBA4444", _PLAIN, _PIXEL, 2, "RGBA", _FULL, 2, None, None, None,
        packed_word(_4444), 2, "colour and soft alpha where there are no blocks", "gradients band in sixteen steps",
        packed_bits=_4444, mixes_channels=True, suits=(Suits.SOFT_ALPHA,),
    ),
    TextureFormat(
        "r11g11b10f", "B10G11R11_UFLOAT_PACK32", "R11G11B10F", _PLAIN, _PIXEL, 4, "RGB", _NONE, 122, None, 26, None,
        small_floats(), 4, "light beyond 0..1 in four bytes", "small steps of blue, no alpha", floating=True,
    ),
    TextureFormat(
        "rgb9e5", "E5B9G9R9_UFLOAT_PACK32", "RGB9E5", _PLAIN, _PIXEL, 4, "RGB", _NONE, 123, None, 67, None,
        shared_exponent(), 4, "light beyond 0..1 in four bytes", "weak colour beside strong, no alpha", floating=True,
    ),
    TextureFormat(
        "bc1", "BC1_RGB_UNORM_BLOCK", "BC1", _BC1, _FOUR, 8, "RGB", _NONE, 131, 132, 71, 72, whole_block(64, RED), 1,
        "opaque colour at half a byte a pixel", "four colours a block: gradients and normals suffer", mixes_channels=True,
        suits=(Suits.OPAQUE,), prominence=Prominence.TYPICAL,
    ),
    TextureFormat(
        "bc1-a1", "BC1_RGBA_UNORM_BLOCK", "BC1 1-bit alpha", _BC1, _FOUR, 8, "RGBA", _ONE_BIT, 133, 134, 71, 72,
        whole_block(64, BC1_WITH_ALPHA), 1, "cut-outs at half a byte a pixel", "alpha is on or off, three colours a block",
        mixes_channels=True, only_for_alpha=True,
    ),
    TextureFormat(
        "bc3", "BC3_UNORM_BLOCK", "BC3", _BC3, _FOUR, 16, "RGBA", _FULL, 137, 138, 77, 78, block_of(64, ALPHA, RED), 1,
        "colour with soft alpha", "the colour of BC1", mixes_channels=True, only_for_alpha=True, suits=(Suits.SOFT_ALPHA,),
    ),
    TextureFormat(
        "bc4", "BC4_UNORM_BLOCK", "BC4", _BC4, _FOUR, 8, "R", _NONE, 139, None, 80, None, whole_block(64, RED), 1,
        "one channel: masks, roughness, heights", "keeps one channel only",
    ),
    TextureFormat(
        "bc5", "BC5_UNORM_BLOCK", "BC5", _BC5, _FOUR, 16, "RG", _NONE, 141, None, 83, None, block_of(64, RED, GREEN), 1,
        "normals, or two masks", "keeps two channels: the third is rebuilt", suits=(Suits.NORMALS,),
    ),
    TextureFormat(
        "bc6h", "BC6H_UFLOAT_BLOCK", "BC6H", _BC6H, _FOUR, 16, "RGB", _NONE, 143, None, 95, None, float_block(False), 1,
        "skies and light beyond 0..1", "no alpha, no values below 0", floating=True,
    ),
    TextureFormat(
        "bc6h-signed", "BC6H_SFLOAT_BLOCK", "BC6H signed", _BC6H, _FOUR, 16, "RGB", _NONE, 144, None, 96, None,
        float_block(True), 1, "values on both sides of 0", "no alpha, half the steps of BC6H", floating=True,
    ),
    TextureFormat(
        "bc7", "BC7_UNORM_BLOCK", "BC7", _BC7, _FOUR, 16, "RGBA", _FULL, 145, 146, 98, 99, whole_block(128, RED), 1,
        "colour and alpha, packed masks", "one byte a pixel", suits=(Suits.SOFT_ALPHA, Suits.PACKED),
        prominence=Prominence.TYPICAL,
    ),
    TextureFormat(
        "etc2-rgb", "ETC2_R8G8B8_UNORM_BLOCK", "ETC2 RGB", _ETC2, _FOUR, 8, "RGB", _NONE, 147, 148, None, None,
        whole_block(64, ETC2_COLOUR), 1, "opaque colour at half a byte a pixel",
        "blocks of one hue: normals and packed masks suffer", mixes_channels=True, suits=(Suits.OPAQUE, Suits.PACKED),
    ),
    TextureFormat(
        "etc2-rgb-a1", "ETC2_R8G8B8A1_UNORM_BLOCK", "ETC2 1-bit alpha", _ETC2, _FOUR, 8, "RGBA", _ONE_BIT, 149, 150, None, None,
        whole_block(64, ETC2_COLOUR, ALPHA), 1, "cut-outs at half a byte a pixel", "alpha is on or off",
        mixes_channels=True, only_for_alpha=True,
    ),
    TextureFormat(
        "etc2-rgba", "ETC2_R8G8B8A8_UNORM_BLOCK", "ETC2 RGBA", _ETC2, _FOUR, 16, "RGBA", _FULL, 151, 152, None, None,
        block_of(64, ALPHA, ETC2_COLOUR), 1, "colour with soft alpha", "the colour of ETC2 RGB",
        mixes_channels=True, only_for_alpha=True, suits=(Suits.SOFT_ALPHA, Suits.PACKED), prominence=Prominence.TYPICAL,
    ),
    TextureFormat(
        "eac-r11", "EAC_R11_UNORM_BLOCK", "EAC R11", _EAC, _FOUR, 8, "R", _NONE, 153, None, None, None, whole_block(64, RED), 1,
        "one channel: masks, heights", "keeps one channel only",
    ),
    TextureFormat(
        "eac-rg11", "EAC_R11G11_UNORM_BLOCK", "EAC RG11", _EAC, _FOUR, 16, "RG", _NONE, 155, None, None, None,
        block_of(64, RED, GREEN), 1, "normals, or two masks", "keeps two channels: the third is rebuilt",
        suits=(Suits.NORMALS,),
    ),
    TextureFormat(
        "eac-r11-signed", "EAC_R11_SNORM_BLOCK", "EAC R11 signed", _EAC, _FOUR, 8, "R", _NONE, 154, None, None, None,
        signed_halves(RED), 1, "one channel on both sides of 0", "keeps one channel, from -1 to 1", floating=True,
    ),
    TextureFormat(
        "eac-rg11-signed", "EAC_R11G11_SNORM_BLOCK", "EAC RG11 signed", _EAC, _FOUR, 16, "RG", _NONE, 156, None, None, None,
        signed_halves(RED, GREEN), 1, "directions on both sides of 0", "keeps two channels, from -1 to 1", floating=True,
    ),
    *(
        TextureFormat(
            f"astc-{w}x{h}", f"ASTC_{w}x{h}_UNORM_BLOCK", f"ASTC {w}×{h}", _ASTC, (w, h), 16, "RGBA", _FULL,
            157 + 2 * i, 158 + 2 * i, None, None, whole_block(128, RED), 1,
            "colour, alpha and normals", "large blocks blur what is fine", suits=_ASTC_SUITS.get((w, h), ()),
            prominence=_ASTC_OFFERED.get((w, h), Prominence.BY_NAME),
        )
        for i, (w, h) in enumerate(_ASTC_BLOCKS)
    ),
    # It has no number: files name it by its colour model.
    TextureFormat(
        "uastc", "UNDEFINED", "UASTC", _UASTC, _FOUR, 16, "RGBA", _FULL, 0, None, None, None, whole_block(128, UASTC_RGBA), 1,
        "one file for hardware with BC, ETC2 or ASTC", "one byte a pixel, and loaders take time to make blocks of it",
        suits=(Suits.OPAQUE, Suits.SOFT_ALPHA, Suits.NORMALS, Suits.PACKED), prominence=Prominence.CANDIDATE,
    ),
):  # fmt: skip
    register(_row)
