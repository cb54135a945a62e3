"""Which formats fit a role on a target, and why the others do not."""

from __future__ import annotations

from dataclasses import dataclass

from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.formats.format import Alpha, TextureFormat
from oaktrim.core.survey.roles import Family, Role
from oaktrim.core.targets.target import Target

_NEEDED = {
    Role.NORMAL: "RG",
    **dict.fromkeys((Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.MASK), "R"),
}
_INEXACT = (Role.GLYPHS, Role.LOOKUP)


@dataclass(frozen=True)
class FormatOption:
    """A format as it stands for a use: `against` is empty where it fits, and otherwise says why it does not."""

    format: TextureFormat
    against: str


def format_options(
    target: Target, role: Role = Role.UNKNOWN, alpha: bool = False, floating: bool = False
) -> list[FormatOption]:
    """Return all formats for a use on a target, those that fit first, in the catalogue's order.

    Parameters
    ----------
    alpha : the alpha of the texture says something; floating : it holds values beyond 0..1
    """
    found = [FormatOption(row, _against(row, target, role, alpha, floating)) for row in FORMATS.values()]
    return sorted(found, key=lambda option: option.against != "")


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
    if role is Role.NORMAL and row.mixes_channels:
        return "bends normals"
    if role in _INEXACT and row.compressed:
        return "changes values that must be exact"
    if row.compressed and role.family is not Family.OTHER and len(row.channels) > 2 and wanted == "R":
        return "spends bits on channels that are not used"
    return ""
