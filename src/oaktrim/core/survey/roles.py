"""What a texture is used as, told from its name by patterns that a job can change."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

import msgspec

from oaktrim.core.pixels.image import Transfer


class Family(Enum):
    """Kinds of roles that share a colour in the budget rules."""

    COLOUR = "colour"
    NORMAL = "normal"
    SURFACE = "surface values"
    MASK = "mask"
    OTHER = "other"


class Role(Enum):
    """Uses of a texture."""

    BASE_COLOUR = "base-colour"
    EMISSIVE = "emissive"
    OVERLAY = "overlay"
    ENVIRONMENT = "environment"
    NORMAL = "normal"
    SURFACE = "surface"
    ROUGHNESS = "roughness"
    METALNESS = "metalness"
    OCCLUSION = "occlusion"
    HEIGHT = "height"
    MASK = "mask"
    GLYPHS = "glyphs"
    LOOKUP = "lookup"
    UNKNOWN = "unknown"

    @property
    def family(self) -> Family:
        return _FAMILIES[self]

    @property
    def label(self) -> str:
        """The role in words, as a user reads it."""
        return _LABELS.get(self, self.value.replace("-", " ").capitalize())

    @property
    def transfer(self) -> Transfer:
        """How integer code values of this role are read."""
        return Transfer.SRGB if self.family in (Family.COLOUR, Family.OTHER) else Transfer.LINEAR


_FAMILIES = {
    **dict.fromkeys((Role.BASE_COLOUR, Role.EMISSIVE, Role.OVERLAY, Role.ENVIRONMENT), Family.COLOUR),
    Role.NORMAL: Family.NORMAL,
    **dict.fromkeys((Role.SURFACE, Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT), Family.SURFACE),
    **dict.fromkeys((Role.MASK, Role.GLYPHS, Role.LOOKUP), Family.MASK),
    Role.UNKNOWN: Family.OTHER,
}
_LABELS = {Role.SURFACE: "Surface values", Role.GLYPHS: "Glyph sheet", Role.LOOKUP: "Lookup table"}


class RolePattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A pattern of file names, without ending and in lower case, with `*` and `?`, and the role it stands for."""

    pattern: str
    role: Role


def _patterns(role: Role, *patterns: str) -> list[RolePattern]:
    return [RolePattern(pattern, role) for pattern in patterns]


# First match wins, so the long endings stand before the short ones.
DEFAULT_PATTERNS: tuple[RolePattern, ...] = (
    *_patterns(Role.SURFACE, "*_orm", "*_arm", "*_rma", "*_mrao", "*_metallicroughness", "*_metalrough", "*_surface"),
    *_patterns(Role.NORMAL, "*_n", "*_nrm", "*_nor", "*_norm", "*_normal", "*_normals", "*_normalgl", "*_normaldx"),
    *_patterns(Role.ROUGHNESS, "*_r", "*_rough", "*_roughness", "*_gloss", "*_smoothness"),
    *_patterns(Role.METALNESS, "*_metal", "*_metallic", "*_metalness"),
    *_patterns(Role.OCCLUSION, "*_ao", "*_occlusion", "*_occ"),
    *_patterns(Role.HEIGHT, "*_h", "*_height", "*_disp", "*_displacement", "*_bump"),
    *_patterns(Role.EMISSIVE, "*_e", "*_emissive", "*_emission", "*_glow"),
    *_patterns(Role.GLYPHS, "*_glyphs", "*_font", "*_sdf"),
    *_patterns(Role.LOOKUP, "*_lut", "*_ramp", "*_lookup"),
    *_patterns(Role.MASK, "*_m", "*_mask", "*_masks", "*_opacity", "*_alpha", "*_id"),
    *_patterns(Role.OVERLAY, "*_overlay", "*_decal", "*_sign", "*_badge", "*_sticker"),
    *_patterns(Role.ENVIRONMENT, "*_env", "*_sky", "*_hdri", "*_panorama"),
    *_patterns(
        Role.BASE_COLOUR, "*_base", "*_basecolor", "*_basecolour", "*_albedo", "*_diffuse", "*_diff", "*_color",
        "*_colour", "*_col", "*_d", "*_c", "*_bc",
    ),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class RoleGuess:
    """A role and why it was taken."""

    role: Role
    reason: str


def guess_role(path: str, patterns: tuple[RolePattern, ...] = DEFAULT_PATTERNS) -> RoleGuess:
    """Return the role of a file by its name: the first pattern that fits the name without its ending."""
    return role_guesser(patterns)(path)


@lru_cache(maxsize=8)
def role_guesser(patterns: tuple[RolePattern, ...]) -> Callable[[str], RoleGuess]:
    """Return what guesses roles by some patterns: one expression for all of them, for trees of thousands."""
    parts = (f"(?P<p{place}>{fnmatch.translate(row.pattern)})" for place, row in enumerate(patterns))
    match = re.compile("|".join(parts) or "(?!)").match
    guesses = {f"p{place}": RoleGuess(row.role, f"the name fits {row.pattern}") for place, row in enumerate(patterns)}
    unknown = RoleGuess(Role.UNKNOWN, "no pattern fits the name")

    def guess(path: str) -> RoleGuess:
        name = path.rsplit("/", 1)[-1]
        found = match((name.rpartition(".")[0] or name).lower().replace("-", "_").replace(" ", "_"))
        return unknown if found is None else guesses[found.lastgroup or ""]

    return guess
