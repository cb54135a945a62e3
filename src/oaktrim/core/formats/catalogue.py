"""Every texture format the product knows, as data, and the only place that counts texture bytes.

Names and block sizes follow the Khronos Data Format Specification 1.3 and the Vulkan format list; the numbers used in
files are those of `VkFormat` (for KTX 2.0) and of `DXGI_FORMAT` (for DDS with the DX10 header).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import TypeVar

import numpy as np
from numba import njit
from numpy.typing import NDArray

from oaktrim.core.errors import Unsupported

Count = TypeVar("Count", int, NDArray[np.int64])


class Hardware(Enum):
    """Families of formats that hardware decodes; every GPU samples PLAIN, none samples THREE_BYTE."""

    PLAIN = "plain"
    THREE_BYTE = "three-byte"
    BC = "bc"
    ETC2 = "etc2"
    ASTC = "astc"


class Alpha(Enum):
    """How much of an alpha channel a format keeps."""

    NONE = "none"
    ONE_BIT = "one-bit"
    FULL = "full"


@dataclass(frozen=True)
class TextureFormat:
    """One format.

    Parameters
    ----------
    name : as written on the command line
    khronos : the name in the Khronos lists, without the `VK_FORMAT_` before it, for linear values
    label : for people
    block : width and height of a block in pixels; (1, 1) where pixels stand alone
    block_bytes : bytes of a block
    channels : letters of the channels kept
    hardware : the family that decodes it
    vk, vk_srgb : VkFormat numbers for linear and sRGB values; None where there is none
    dxgi, dxgi_srgb : DXGI_FORMAT numbers, likewise
    floating : holds values beyond 0..1
    """

    name: str
    khronos: str
    label: str
    block: tuple[int, int]
    block_bytes: int
    channels: str
    alpha: Alpha
    hardware: Hardware
    vk: int
    vk_srgb: int | None = None
    dxgi: int | None = None
    dxgi_srgb: int | None = None
    floating: bool = False

    @property
    def compressed(self) -> bool:
        return self.block != (1, 1)

    @property
    def bits_a_pixel(self) -> float:
        return self.block_bytes * 8 / (self.block[0] * self.block[1])

    @property
    def expands_to(self) -> str:
        """Name of the plain format that a driver without this one makes of it at load."""
        return "rgba16f" if self.floating else "rgba8"

    def level_bytes(self, width: int, height: int) -> int:
        """Return the bytes of one level; a block cut by the border counts whole."""
        return chain_bytes(width, height, 1, self.block[0], self.block[1], self.block_bytes)

    def chain_bytes(self, width: int, height: int, levels: int, faces: int = 1, layers: int = 1) -> int:
        """Return the bytes of `levels` levels from this size down, over all cube faces and array layers."""
        one = chain_bytes(width, height, levels, self.block[0], self.block[1], self.block_bytes)
        return one * faces * layers


def chain_bytes(
    width: Count, height: Count, levels: Count, block_width: Count, block_height: Count, block_bytes: Count
) -> Count:
    """Return the bytes of a chain of levels, of integers or of int64 arrays of one shape (N,).

    Parameters
    ----------
    width, height : pixels of the largest level
    levels : how many levels are kept
    block_width, block_height, block_bytes : of the format
    """
    if isinstance(width, int):
        return _chain.py_func(width, height, levels, block_width, block_height, block_bytes)
    out = np.empty(width.shape, np.int64)
    columns = (width, height, levels, block_width, block_height, block_bytes)
    _chain_columns(tuple(np.ascontiguousarray(column, np.int64) for column in columns), out)
    return out


@njit(nogil=True, cache=True)
def _chain(width: int, height: int, levels: int, block_width: int, block_height: int, block_bytes: int) -> int:
    total = 0
    for level in range(levels):
        across = (max(1, width >> level) + block_width - 1) // block_width
        down = (max(1, height >> level) + block_height - 1) // block_height
        total += across * down * block_bytes
    return total


@njit(nogil=True, cache=True)
def _chain_columns(columns, out):  # type: ignore[no-untyped-def]
    width, height, levels, block_width, block_height, block_bytes = columns
    for i in range(out.shape[0]):
        out[i] = _chain(width[i], height[i], levels[i], block_width[i], block_height[i], block_bytes[i])


_P, _BC, _ETC, _ASTC = Hardware.PLAIN, Hardware.BC, Hardware.ETC2, Hardware.ASTC
_NONE, _ONE, _FULL = Alpha.NONE, Alpha.ONE_BIT, Alpha.FULL
_ONE_PIXEL, _FOUR = (1, 1), (4, 4)
_ASTC_BLOCKS = (
    (4, 4), (5, 4), (5, 5), (6, 5), (6, 6), (8, 5), (8, 6), (8, 8),
    (10, 5), (10, 6), (10, 8), (10, 10), (12, 10), (12, 12),
)  # fmt: skip

_ROWS = [
    TextureFormat("r8", "R8_UNORM", "R8", _ONE_PIXEL, 1, "R", _NONE, _P, 9, 15, 61),
    TextureFormat("rg8", "R8G8_UNORM", "RG8", _ONE_PIXEL, 2, "RG", _NONE, _P, 16, 22, 49),
    TextureFormat("rgb8", "R8G8B8_UNORM", "RGB8", _ONE_PIXEL, 3, "RGB", _NONE, Hardware.THREE_BYTE, 23, 29),
    TextureFormat("rgba8", "R8G8B8A8_UNORM", "RGBA8", _ONE_PIXEL, 4, "RGBA", _FULL, _P, 37, 43, 28, 29),
    TextureFormat("r16", "R16_UNORM", "R16", _ONE_PIXEL, 2, "R", _NONE, _P, 70, None, 56),
    TextureFormat(
        "rgba16f", "R16G16B16A16_SFLOAT", "RGBA16F", _ONE_PIXEL, 8, "RGBA", _FULL, _P, 97, None, 10, floating=True
    ),
    TextureFormat("rgb565", "R5G6B5_UNORM_PACK16", "RGB565", _ONE_PIXEL, 2, "RGB", _NONE, _P, 4, None, 85),
    TextureFormat("rgba5551", "R5G5B5A1_UNORM_PACK16", "RGBA5551", _ONE_PIXEL, 2, "RGBA", _ONE, _P, 6),
    TextureFormat("rgba4444", "R4G4B4A4_UNORM_PACK16", "RGBA4444", _ONE_PIXEL, 2, "RGBA", _FULL, _P, 2),
    TextureFormat(
        "r11g11b10f", "B10G11R11_UFLOAT_PACK32", "R11G11B10F", _ONE_PIXEL, 4, "RGB", _NONE, _P, 122, None, 26,
        floating=True,
    ),
    TextureFormat(
        "rgb9e5", "E5B9G9R9_UFLOAT_PACK32", "RGB9E5", _ONE_PIXEL, 4, "RGB", _NONE, _P, 123, None, 67, floating=True
    ),
    TextureFormat("bc1", "BC1_RGB_UNORM_BLOCK", "BC1", _FOUR, 8, "RGB", _NONE, _BC, 131, 132, 71, 72),
    TextureFormat("bc1-a1", "BC1_RGBA_UNORM_BLOCK", "BC1 1-bit alpha", _FOUR, 8, "RGBA", _ONE, _BC, 133, 134, 71, 72),
    TextureFormat("bc3", "BC3_UNORM_BLOCK", "BC3", _FOUR, 16, "RGBA", _FULL, _BC, 137, 138, 77, 78),
    TextureFormat("bc4", "BC4_UNORM_BLOCK", "BC4", _FOUR, 8, "R", _NONE, _BC, 139, None, 80),
    TextureFormat("bc5", "BC5_UNORM_BLOCK", "BC5", _FOUR, 16, "RG", _NONE, _BC, 141, None, 83),
    TextureFormat("bc6h", "BC6H_UFLOAT_BLOCK", "BC6H", _FOUR, 16, "RGB", _NONE, _BC, 143, None, 95, floating=True),
    TextureFormat(
        "bc6h-signed", "BC6H_SFLOAT_BLOCK", "BC6H signed", _FOUR, 16, "RGB", _NONE, _BC, 144, None, 96, floating=True
    ),
    TextureFormat("bc7", "BC7_UNORM_BLOCK", "BC7", _FOUR, 16, "RGBA", _FULL, _BC, 145, 146, 98, 99),
    TextureFormat("etc2-rgb", "ETC2_R8G8B8_UNORM_BLOCK", "ETC2 RGB", _FOUR, 8, "RGB", _NONE, _ETC, 147, 148),
    TextureFormat(
        "etc2-rgb-a1", "ETC2_R8G8B8A1_UNORM_BLOCK", "ETC2 1-bit alpha", _FOUR, 8, "RGBA", _ONE, _ETC, 149, 150
    ),
    TextureFormat("etc2-rgba", "ETC2_R8G8B8A8_UNORM_BLOCK", "ETC2 RGBA", _FOUR, 16, "RGBA", _FULL, _ETC, 151, 152),
    TextureFormat("eac-r11", "EAC_R11_UNORM_BLOCK", "EAC R11", _FOUR, 8, "R", _NONE, _ETC, 153),
    TextureFormat("eac-rg11", "EAC_R11G11_UNORM_BLOCK", "EAC RG11", _FOUR, 16, "RG", _NONE, _ETC, 155),
    TextureFormat(
        "eac-r11-signed", "EAC_R11_SNORM_BLOCK", "EAC R11 signed", _FOUR, 8, "R", _NONE, _ETC, 154, floating=True
    ),
    TextureFormat(
        "eac-rg11-signed", "EAC_R11G11_SNORM_BLOCK", "EAC RG11 signed", _FOUR, 16, "RG", _NONE, _ETC, 156, floating=True
    ),
    *(
        TextureFormat(
            f"astc-{w}x{h}", f"ASTC_{w}x{h}_UNORM_BLOCK", f"ASTC {w}×{h}", (w, h), 16, "RGBA", _FULL, _ASTC,
            157 + 2 * i, 158 + 2 * i,
        )
        for i, (w, h) in enumerate(_ASTC_BLOCKS)
    ),
]  # fmt: skip

FORMATS: dict[str, TextureFormat] = {row.name: row for row in _ROWS}
ORDER: tuple[str, ...] = tuple(FORMATS)


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
