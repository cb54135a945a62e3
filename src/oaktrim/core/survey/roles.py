"""What a texture is used as: chosen by hand, or told by the material that uses it, by its name, or by its pixels."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

import msgspec

from oaktrim.core.fields import FilePath, Name
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.scene.slots import Slot


class Family(Enum):
    """Kinds of assets that share a colour in the budget rules: textures by their roles, and what else is shipped."""

    COLOUR = "colour"
    NORMAL = "normal"
    SURFACE = "surface values"
    MASK = "mask"
    OTHER = "other"
    MESH = "meshes"
    ANIMATION = "animation"
    AUDIO = "audio"


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
    """A pattern of file names, or with a slash of paths, without ending and in lower case, with `*` and `?`, and its role."""

    pattern: Name
    role: Role


def _patterns(role: Role, *patterns: str) -> list[RolePattern]:
    return [RolePattern(pattern, role) for pattern in patterns]


# First match wins, so the long endings stand before the short ones.
DEFAULT_PATTERNS: tuple[RolePattern, ...] = (
    *_patterns(
        Role.SURFACE, "*_orm", "*_arm", "*_rma", "*_mrao", "*_metallicroughness", "*_metalrough", "*_surface", "*_pbr", "*_spec",
        "*_specular",
    ),
    *_patterns(Role.NORMAL, "*_n", "*_nrm", "*_nor", "*_norm", "*_normal", "*_normals", "*_normalgl", "*_normaldx", "*_nm"),
    *_patterns(Role.ROUGHNESS, "*_r", "*_rough", "*_roughness", "*_gloss", "*_glossy", "*_glossiness", "*_smoothness"),
    *_patterns(Role.METALNESS, "*_metal", "*_metallic", "*_metalness"),
    *_patterns(Role.OCCLUSION, "*_ao", "*_occlusion", "*_occ"),
    *_patterns(Role.HEIGHT, "*_h", "*_height", "*_disp", "*_displacement", "*_bump"),
    *_patterns(Role.EMISSIVE, "*_e", "*_emissive", "*_emission", "*_glow"),
    *_patterns(Role.GLYPHS, "*_glyphs", "*_font", "*_sdf"),
    *_patterns(Role.LOOKUP, "*_lut", "*_ramp", "*_lookup"),
    *_patterns(Role.MASK, "*_m", "*_mask", "*_masks", "*_opacity", "*_alpha", "*_id", "*_colormask", "*_colourmask"),
    *_patterns(Role.OVERLAY, "*_overlay", "*_decal", "*_sign", "*_badge", "*_sticker"),
    *_patterns(
        Role.ENVIRONMENT, "*_env", "*_sky", "*_hdri", "*_panorama", "sky", "sky[0-9]*", "sky_*", "skybox*", "skydome*", "*_sky_*",
        "*_skybox*",
    ),
    *_patterns(
        Role.BASE_COLOUR, "*_base", "*_basecolor", "*_basecolour", "*_albedo", "*_diffuse", "*_diff", "*_dif", "*_color",
        "*_colour", "*_col", "*_d", "*_c", "*_bc",
    ),
)  # fmt: skip


class Certainty(Enum):
    """How a role is known."""

    CHOSEN = "chosen by hand"
    STATED = "stated by a material"
    NAMED = "likely, by the name"
    GUESSED = "guessed"
    UNKNOWN = "not known"


@dataclass(frozen=True, slots=True)
class RoleGuess:
    """A role, why it was taken, and how certain it is."""

    role: Role
    reason: str
    certainty: Certainty


class RoleChoice(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A role chosen by hand for some textures, by their paths."""

    role: Role
    assets: tuple[FilePath, ...]


# What the slots of glTF 2.0 (clause 3.9) and of MTL say that a texture is read as.
_BY_SLOT = {
    Slot.BASE_COLOUR: Role.BASE_COLOUR,
    Slot.METALLIC_ROUGHNESS: Role.SURFACE,
    Slot.NORMAL: Role.NORMAL,
    Slot.OCCLUSION: Role.OCCLUSION,
    Slot.EMISSIVE: Role.EMISSIVE,
    Slot.ROUGHNESS: Role.ROUGHNESS,
    Slot.METALNESS: Role.METALNESS,
    Slot.SPECULAR: Role.SURFACE,
    Slot.HEIGHT: Role.HEIGHT,
    Slot.OPACITY: Role.MASK,
}


def slot_words(slot: Slot) -> str:
    """Return what a slot is called, for people."""
    return _BY_SLOT[slot].label.lower() if slot in _BY_SLOT else slot.value


# A pattern that asks for the last word of a name, whatever stands before it.
_LAST_WORD = re.compile(r"\*_([^*?\[\]_]+)")
_UNKNOWN = RoleGuess(Role.UNKNOWN, "no pattern fits the name", Certainty.UNKNOWN)


def role_of_slots(slots: Iterable[tuple[Slot, str, str]]) -> RoleGuess | None:
    """Return the role that materials state, or None where they state none.

    Parameters
    ----------
    slots : what the slot means, its name in the file, and the material's name
    """
    found: dict[Role, str] = {}
    for slot, name, material in slots:
        role = _BY_SLOT.get(slot)
        if role is not None:
            found.setdefault(role, f"material {material} reads it as {name}")
    if Role.SURFACE in found and Role.OCCLUSION in found:
        # One texture in both slots holds occlusion in red beside roughness and metalness (glTF 2.0, clause 3.9.3).
        del found[Role.OCCLUSION]
    if not found:
        return None
    role, reason = next(iter(found.items()))
    others = [other.label.lower() for other in found if other is not role]
    return RoleGuess(role, reason + (f"; others as {', '.join(others)}" if others else ""), Certainty.STATED)


@lru_cache(maxsize=8)
def role_guesser(patterns: tuple[RolePattern, ...]) -> Callable[[str], RoleGuess]:
    """Return what guesses roles by the first pattern that fits, for trees of thousands.

    Patterns that ask for a last word are looked up by it; all others are one expression.
    """
    guesses = [RoleGuess(row.role, f"the name fits {row.pattern}", Certainty.NAMED) for row in patterns] + [_UNKNOWN]
    words: dict[str, int] = {}
    others: list[str] = []
    paths: list[tuple[int, re.Pattern[str]]] = []
    for place, row in enumerate(patterns):
        if word := _LAST_WORD.fullmatch(row.pattern):
            words.setdefault(word[1], place)
        elif "/" in row.pattern:
            paths.append((place, re.compile(fnmatch.translate(row.pattern))))
        else:
            others.append(f"(?P<p{place}>{fnmatch.translate(row.pattern)})")
    match = re.compile("|".join(others)).match if others else None

    def guess(path: str) -> RoleGuess:
        name = bare_name(path)
        before = name.rfind("_")
        place = words.get(name[before + 1 :], -1) if before >= 0 else -1
        if match is not None and (found := match(name)) and found.lastgroup:
            other = int(found.lastgroup[1:])
            place = other if place < 0 else min(place, other)
        if paths:
            whole = f"{path.rpartition('/')[0].lower()}/{name}"
            other = next((number for number, pattern in paths if pattern.match(whole)), -1)
            place = other if place < 0 or 0 <= other < place else place
        return guesses[place]

    return guess


def bare_name(path: str) -> str:
    """Return a file's name as patterns look at it: without ending, in lower case, words joined by underscores."""
    name = path[path.rfind("/") + 1 :]
    dot = name.rfind(".")
    return (name[:dot] if dot > 0 else name).lower().replace("-", "_").replace(" ", "_")
