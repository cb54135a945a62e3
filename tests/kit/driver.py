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


_DRAW_VERTEX = """#version 330
in vec3 place; in vec2 coord; in uint number;
uniform mat4 matrix;
out vec2 uv; flat out uint triangle;
void main() { gl_Position = matrix * vec4(place, 1.0); uv = coord; triangle = number; }
"""
_DRAW_FRAGMENT = """#version 330
in vec2 uv; flat in uint triangle;
uniform sampler2D picture; uniform vec2 size;
layout(location = 0) out uvec4 id; layout(location = 1) out vec4 facts; layout(location = 2) out vec4 read;
void main() {
    id = uvec4(triangle + 1u, 0u, 0u, 0u);
    vec2 dx = dFdx(uv) * size, dy = dFdy(uv) * size;
    float level = 0.5 * log2(max(dot(dx, dx), dot(dy, dy)));
    facts = vec4(gl_FragCoord.z, uv, level);
    // Not by its own level, whose logarithm is an approximation.
    read = textureLod(picture, uv, level);
}
"""


class Drawer:
    """Draws triangles with the driver: ids, depth, UVs, the level of detail by differences, and a texture as it filters it."""

    def __init__(self, driver: Driver) -> None:
        self._context = driver.context
        self._program = self._context.program(_DRAW_VERTEX, _DRAW_FRAGMENT)

    def draw(self, points, uvs, triangles, matrix, size, levels=None, cull=True):
        """Return ids (H, W), -1 for none, facts (H, W, 4): depth, u, v, level, and what was read (H, W, 4); row 0 is the top.

        Parameters
        ----------
        points (N, 3), uvs (N, 2), triangles (M, 3) : drawn with flat ids, so that every triangle has vertices of its own
        levels : of the texture, (h, w, 4) uint8 each, the largest first
        """
        context, program = self._context, self._program
        corners = triangles.reshape(-1)
        rows = np.zeros(len(corners), [("place", "3f4"), ("coord", "2f4"), ("number", "u4")])
        rows["place"], rows["coord"] = points[corners], uvs[corners]
        rows["number"] = np.repeat(np.arange(len(triangles), dtype=np.uint32), 3)
        buffer = context.buffer(rows.tobytes())
        array = context.vertex_array(program, [(buffer, "3f4 2f4 u4", "place", "coord", "number")])
        targets = [context.texture(size, 4, dtype="u4"), *(context.texture(size, 4, dtype="f4") for _ in range(2))]
        frame = context.framebuffer(targets, context.depth_texture(size))
        frame.use()
        frame.clear(depth=1.0)
        context.enable(moderngl.DEPTH_TEST)
        context.depth_func = "<"
        (context.enable if cull else context.disable)(moderngl.CULL_FACE)
        levels = levels or [np.full((1, 1, 4), 255, np.uint8)]
        picture = context.texture((levels[0].shape[1], levels[0].shape[0]), 4, alignment=1)
        if len(levels) > 1:
            picture.build_mipmaps(0, len(levels) - 1)
            picture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        for number, level in enumerate(levels):
            picture.write(np.ascontiguousarray(level).tobytes(), level=number, alignment=1)
        picture.use(0)
        program["matrix"].write(np.ascontiguousarray(matrix.T, np.float32).tobytes())
        program["size"].value = (float(levels[0].shape[1]), float(levels[0].shape[0]))
        array.render()
        width, height = size
        ids = (
            np.frombuffer(targets[0].read(alignment=1), np.uint32)
            .reshape(height, width, 4)[::-1, :, 0]
            .astype(np.int64)
            - 1
        )
        facts, read = (
            np.frombuffer(target.read(alignment=1), np.float32).reshape(height, width, 4)[::-1]
            for target in targets[1:]
        )
        for thing in (array, buffer, frame, picture, *targets):
            thing.release()
        return ids, facts, read
