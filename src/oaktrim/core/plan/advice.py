"""Which formats fit a role on a target, and why the others do not."""

from __future__ import annotations

from dataclasses import dataclass

from oaktrim.core.formats.catalogue import FORMATS, Alpha, TextureFormat
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.targets.target import Target

# What each format is good for, and what it breaks; block sizes of ASTC are one.
_ABOUT: dict[str, tuple[str, str]] = {
    "r8": ("one channel kept exactly", "keeps one channel only"),
    "rg8": ("two channels, or normals, kept exactly", "keeps two channels only"),
    "rgb8": ("colour in files", "no hardware samples three bytes a pixel: it becomes four"),
    "rgba8": ("anything that must be exact", "four to sixteen times the bytes of blocks"),
    "r16": ("heights and distances", "keeps one channel only"),
    "rgba16f": ("light beyond 0..1, exactly", "eight bytes a pixel"),
    "rgb565": ("colour where there are no blocks", "gradients band without dither"),
    "rgba5551": ("colour with hard edges", "gradients band, alpha is on or off"),
    "rgba4444": ("colour and soft alpha where there are no blocks", "gradients band in sixteen steps"),
    "r11g11b10f": ("light beyond 0..1 in four bytes", "small steps of blue, no alpha"),
    "rgb9e5": ("light beyond 0..1 in four bytes", "weak colour beside strong, no alpha"),
    "bc1": ("opaque colour at half a byte a pixel", "four colours a block: gradients and normals suffer"),
    "bc1-a1": ("cut-outs at half a byte a pixel", "alpha is on or off, three colours a block"),
    "bc3": ("colour with soft alpha", "the colour of BC1"),
    "bc4": ("one channel: masks, roughness, heights", "keeps one channel only"),
    "bc5": ("normals, or two masks", "keeps two channels: the third is rebuilt"),
    "bc6h": ("skies and light beyond 0..1", "no alpha, no values below 0"),
    "bc6h-signed": ("values on both sides of 0", "no alpha, half the steps of BC6H"),
    "bc7": ("colour and alpha, packed masks", "one byte a pixel"),
    "etc2-rgb": ("opaque colour at half a byte a pixel", "blocks of one hue: normals and packed masks suffer"),
    "etc2-rgb-a1": ("cut-outs at half a byte a pixel", "alpha is on or off"),
    "etc2-rgba": ("colour with soft alpha", "the colour of ETC2 RGB"),
    "eac-r11": ("one channel: masks, heights", "keeps one channel only"),
    "eac-rg11": ("normals, or two masks", "keeps two channels: the third is rebuilt"),
    "eac-r11-signed": ("one channel on both sides of 0", "keeps one channel, from -1 to 1"),
    "eac-rg11-signed": ("directions on both sides of 0", "keeps two channels, from -1 to 1"),
    "astc": ("colour, alpha and normals", "large blocks blur what is fine"),
}
_NEEDED = {
    Role.NORMAL: "RG",
    **dict.fromkeys((Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.MASK), "R"),
}
_BENDS_NORMALS = ("bc1", "bc3", "etc2", "rgb565", "rgba5551", "rgba4444")
_INEXACT = (Role.GLYPHS, Role.LOOKUP)


@dataclass(frozen=True)
class Offer:
    """A format as it stands for a use: `against` is empty where it fits, and otherwise says why it does not."""

    format: TextureFormat
    against: str


def about(texture_format: TextureFormat) -> tuple[str, str]:
    """Return in words what a format is good for, and what it breaks."""
    name = texture_format.name
    return _ABOUT["astc" if name.startswith("astc") else name]


def offers(target: Target, role: Role = Role.UNKNOWN, alpha: bool = False, floating: bool = False) -> list[Offer]:
    """Return all formats for a use on a target, those that fit first, in the catalogue's order.

    Parameters
    ----------
    alpha : the alpha of the texture says something; floating : it holds values beyond 0..1
    """
    found = [Offer(row, _against(row, target, role, alpha, floating)) for row in FORMATS.values()]
    return sorted(found, key=lambda offer: offer.against != "")


def _against(row: TextureFormat, target: Target, role: Role, alpha: bool, floating: bool) -> str:
    """Say why a format does not fit; empty where it does."""
    if not target.decodes(row):
        return f"{target.name} has no hardware for it and makes {FORMATS[row.expands_to].label} of it"
    if target.container == "dds" and row.dxgi is None:
        return "a DDS file, which this target takes, has no code for it"
    if floating != row.floating:
        return "made for values beyond 0..1" if row.floating else "cuts off what is beyond 0..1"
    wanted = _NEEDED.get(role, "RGB" if role is not Role.UNKNOWN else "R")
    missing = [letter for letter in wanted if letter not in row.channels]
    if missing:
        return f"keeps no {' and no '.join(missing)}"
    if alpha and row.alpha is Alpha.NONE:
        return "keeps no alpha"
    if role is Role.NORMAL and row.name.startswith(_BENDS_NORMALS):
        return "bends normals"
    if role in _INEXACT and row.compressed:
        return "changes values that must be exact"
    if row.compressed and role.family is not Family.OTHER and len(row.channels) > 2 and wanted == "R":
        return "spends bits on channels that are not used"
    return ""
