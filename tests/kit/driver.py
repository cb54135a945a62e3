"""A real OpenGL driver as the judge of what blocks mean: Mesa's software driver through a surfaceless EGL context."""

from __future__ import annotations

import ctypes

import moderngl
import numpy as np

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware

_TEXTURE_2D, _RGBA, _UNSIGNED_BYTE, _FLOAT = 0x0DE1, 0x1908, 0x1401, 0x1406
_UNPACK_ALIGNMENT, _PACK_ALIGNMENT = 0x0CF5, 0x0D05

# Names and numbers from the OpenGL registry.
COMPRESSED = {
    "bc1": 0x83F0,  # COMPRESSED_RGB_S3TC_DXT1_EXT
    "bc1-a1": 0x83F1,  # COMPRESSED_RGBA_S3TC_DXT1_EXT
    "bc3": 0x83F3,  # COMPRESSED_RGBA_S3TC_DXT5_EXT
    "bc4": 0x8DBB,  # COMPRESSED_RED_RGTC1
    "bc5": 0x8DBD,  # COMPRESSED_RG_RGTC2
    "bc7": 0x8E8C,  # COMPRESSED_RGBA_BPTC_UNORM
    "etc2-rgb": 0x9274,  # COMPRESSED_RGB8_ETC2
    "etc2-rgb-a1": 0x9276,  # COMPRESSED_RGB8_PUNCHTHROUGH_ALPHA1_ETC2
    "etc2-rgba": 0x9278,  # COMPRESSED_RGBA8_ETC2_EAC
    "eac-r11": 0x9270,  # COMPRESSED_R11_EAC
    "eac-rg11": 0x9272,  # COMPRESSED_RG11_EAC
    # COMPRESSED_RGBA_ASTC_4x4_KHR and the thirteen after it, in the catalogue's order.
    **{row.name: 0x93B0 + i for i, row in enumerate(r for r in FORMATS.values() if r.hardware is Hardware.ASTC)},
}
FLOATING = {
    "bc6h": 0x8E8F,  # COMPRESSED_RGB_BPTC_UNSIGNED_FLOAT
    "bc6h-signed": 0x8E8E,  # COMPRESSED_RGB_BPTC_SIGNED_FLOAT
    "eac-r11-signed": 0x9271,  # COMPRESSED_SIGNED_R11_EAC
    "eac-rg11-signed": 0x9273,  # COMPRESSED_SIGNED_RG11_EAC
}
# Internal format, format and type of the packed layouts.
PACKED = {
    "rgb565": (0x8D62, 0x1907, 0x8363),  # RGB565, RGB, UNSIGNED_SHORT_5_6_5
    "rgba5551": (0x8057, 0x1908, 0x8034),  # RGB5_A1, RGBA, UNSIGNED_SHORT_5_5_5_1
    "rgba4444": (0x8056, 0x1908, 0x8033),  # RGBA4, RGBA, UNSIGNED_SHORT_4_4_4_4
    "r11g11b10f": (0x8C3A, 0x1907, 0x8C3B),  # R11F_G11F_B10F, RGB, UNSIGNED_INT_10F_11F_11F_REV
    "rgb9e5": (0x8C3D, 0x1907, 0x8C3E),  # RGB9_E5, RGB, UNSIGNED_INT_5_9_9_9_REV
}


class Driver:
    """One context; textures go in as the bytes we write, and come back as the driver reads them."""

    def __init__(self) -> None:
        self.context = moderngl.create_context(standalone=True, backend="egl")
        self.name = self.context.info["GL_RENDERER"]
        self._gl = ctypes.CDLL("libGL.so.1")

    def _get(self, size: tuple[int, int], kind: int, dtype: type) -> np.ndarray:
        out = np.zeros((size[1], size[0], 4), dtype)
        self._gl.glPixelStorei(_PACK_ALIGNMENT, 1)
        self._gl.glGetTexImage(_TEXTURE_2D, 0, _RGBA, kind, out.ctypes.data_as(ctypes.c_void_p))
        return out

    def _bound(self) -> ctypes.c_uint:
        texture = ctypes.c_uint(0)
        self._gl.glGenTextures(1, ctypes.byref(texture))
        self._gl.glBindTexture(_TEXTURE_2D, texture)
        return texture

    def _check(self, what: str) -> None:
        error = self._gl.glGetError()
        assert error == 0, f"{what}: OpenGL error {error:#x} from {self.name}"

    def decode(self, name: str, data: bytes, width: int, height: int) -> np.ndarray:
        """Return compressed blocks as (height, width, 4) uint8."""
        return self._decode(COMPRESSED[name], data, (width, height), _UNSIGNED_BYTE, np.uint8)

    def decode_floats(self, name: str, data: bytes, width: int, height: int) -> np.ndarray:
        """Return blocks of floats as (height, width, 4) float32."""
        return self._decode(FLOATING[name], data, (width, height), _FLOAT, np.float32)

    def _decode(self, layout: int, data: bytes, size: tuple[int, int], kind: int, dtype: type) -> np.ndarray:
        texture = self._bound()
        self._gl.glCompressedTexImage2D(_TEXTURE_2D, 0, layout, *size, 0, len(data), data)
        self._check(f"uploading {layout:#x}")
        out = self._get(size, kind, dtype)
        self._gl.glDeleteTextures(1, ctypes.byref(texture))
        return out

    def unpack(self, name: str, data: bytes, width: int, height: int) -> np.ndarray:
        """Return packed words as (height, width, 4) float32."""
        inside, layout, kind = PACKED[name]
        texture = self._bound()
        self._gl.glPixelStorei(_UNPACK_ALIGNMENT, 1)
        self._gl.glTexImage2D(_TEXTURE_2D, 0, inside, width, height, 0, layout, kind, data)
        self._check(f"uploading {name}")
        out = self._get((width, height), _FLOAT, np.float32)
        self._gl.glDeleteTextures(1, ctypes.byref(texture))
        return out
