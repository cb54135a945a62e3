"""What loaders make of universal textures for the hardware that they meet."""

from __future__ import annotations

from dataclasses import replace

from oaktrim.core.codecs.texture import EncodedTexture
from oaktrim.core.codecs.uastc.decode import is_opaque, to_astc
from oaktrim.core.codecs.uastc.tobc7 import to_bc7
from oaktrim.core.codecs.uastc.toetc import to_etc
from oaktrim.core.errors import Unsupported
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Hardware
from oaktrim.core.pixels.levels import level_size

# What universal textures become, by the family of the hardware.
LOADED = {Hardware.ASTC: "astc-4x4", Hardware.BC: "bc7", Hardware.ETC2: "etc2-rgba"}
_MAKE = {
    "astc-4x4": to_astc,
    "bc7": to_bc7,
    "etc2-rgba": lambda data, width, height: to_etc(data, width, height, True),
    "etc2-rgb": lambda data, width, height: to_etc(data, width, height, False),
}


def loaded_as(texture: EncodedTexture, hardware: Hardware) -> EncodedTexture:
    """Return the texture that a loader makes of a universal one; of an opaque one for ETC2, without alpha.

    Parameters
    ----------
    hardware : ASTC, BC or ETC2

    Raises
    ------
    Unsupported : the texture is not universal, or loaders make nothing for that hardware
    """
    if texture.format.hardware is not Hardware.UNIVERSAL:
        raise Unsupported(f"loaders make no other blocks of {texture.format.label}: only of UASTC")
    if hardware not in LOADED:
        known = ", ".join(family.value for family in LOADED)
        raise Unsupported(f"loaders make blocks for {known}, not for {hardware.value}")
    name = LOADED[hardware]
    if name == "etc2-rgba" and all(map(is_opaque, texture.levels)):
        name = "etc2-rgb"
    levels = []
    for number, data in enumerate(texture.levels):
        width, height = level_size(texture.width, texture.height, number)
        size = texture.format.level_bytes(width, height)
        pictures = (data[at : at + size] for at in range(0, len(data), size))
        levels.append(b"".join(_MAKE[name](picture, width, height) for picture in pictures))
    return replace(texture, format=FORMATS[name], levels=tuple(levels))
