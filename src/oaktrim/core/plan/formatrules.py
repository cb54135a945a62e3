"""Format rules: what each role ships as, by what its pixels hold; a cut by hand wins."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np

from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.fields import MAX_SIDE
from oaktrim.core.formats.catalogue import FORMATS, ORDER
from oaktrim.core.plan.rolerules import RoleRule
from oaktrim.core.plan.soundrules import SoundRules
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import FORMAT_INDEX, Flags, Ints
from oaktrim.core.targets.target import Target

_ROLES, _KINDS = list(Role), list(PixelKind)
# Roles that are read from one channel alone.
_ONE_CHANNEL = (Role.ROUGHNESS, Role.METALNESS, Role.OCCLUSION, Role.HEIGHT, Role.MASK)


class FormatRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What textures of a role ship as when nobody says otherwise.

    Parameters
    ----------
    pixels : which of them it is for; grey ones without a rule of their own go by that for opaque ones, all by that for any
    format : its name in the catalogue; empty leaves them as they are
    effort, error_metric : how they are encoded; None for the usual
    least : the longest side, under which a texture is not worth a block and stays as it is
    targets : ids of the targets it is for; empty for all
    """

    role: Role
    format: str = ""
    pixels: PixelKind = PixelKind.ANY
    effort: Effort | None = None
    error_metric: ErrorMetric | None = None
    least: int = 0
    targets: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.format and self.format not in FORMATS:
            raise ValueError(f"there is no format {self.format!r}")
        if not 0 <= self.least <= MAX_SIDE:
            raise ValueError(f"the least side is 0 to {MAX_SIDE} pixels, not {self.least}")

    def is_for(self, target: str) -> bool:
        """Say whether the rule counts on a target."""
        return not self.targets or target in self.targets

    @property
    def floating(self) -> bool:
        """It is for values beyond 0..1."""
        return bool(self.format) and FORMATS[self.format].floating

    @property
    def key(self) -> tuple[Role, PixelKind, bool, tuple[str, ...]]:
        """What there is one rule for."""
        return self.role, self.pixels, self.floating, self.targets

    @property
    def label(self) -> str:
        """The rule in words."""
        parts = [FORMATS[self.format].label if self.format else "as it is"]
        parts += [] if self.effort is None else [f"{self.effort.value} effort"]
        parts += [] if self.error_metric is None else [f"error {self.error_metric.value}"]
        parts += [f"from {self.least} px on"] if self.least else []
        return ", ".join(parts)


@dataclass(frozen=True)
class Rules:
    """All rules of a job: of sizes, of formats, and of sounds."""

    sizes: tuple[RoleRule, ...] = ()
    formats: tuple[FormatRule, ...] = ()
    sounds: SoundRules = field(default_factory=SoundRules)


@dataclass(frozen=True)
class RuledFormats:
    """What format rules make of textures, a column each.

    Parameters
    ----------
    formats : places in the catalogue's order, -1 where no rule says
    rule : place in the rules of what was applied, -1 where nothing was
    overruled : a rule is there, and a cut by hand stands in its place
    """

    formats: Ints
    rule: Ints
    overruled: Flags


def apply_format_rules(
    inventory: Inventory, target: Target, rules: Sequence[FormatRule], by_hand: Flags
) -> RuledFormats:
    """Return what textures ship as by the rules.

    What a file holds in blocks that the target reads stays as it is; so does what the rule's format would lose channels of that
    the role is read from.

    Parameters
    ----------
    by_hand : a cut says the format
    """
    count = len(inventory.textures)
    formats, applied = np.full(count, -1, np.int64), np.full(count, -1, np.int64)
    mine = [(place, rule) for place, rule in enumerate(rules) if rule.is_for(target.id)]
    if not mine:
        return RuledFormats(formats, applied, np.zeros(count, np.bool_))
    kinds, floating = inventory.pixel_kinds, inventory.column("floating")
    longest = np.maximum(inventory.width, inventory.height)
    natural = np.array([FORMATS[name].compressed and target.decodes(FORMATS[name]) for name in ORDER], np.bool_)
    stored = natural[inventory.natural]
    # From the widest to the narrowest: what is said of one target stands over what is said of all, and a kind over any.
    for place, rule in sorted(mine, key=lambda row: (bool(row[1].targets), _narrowness(row[1].pixels))):
        rows = (inventory.role_codes == _ROLES.index(rule.role)) & _is_of(rule.pixels, kinds)
        if rule.format:
            rows &= (floating == rule.floating) & _keeps(rule, kinds)
        rows &= ~stored & (longest >= rule.least)
        formats[rows] = FORMAT_INDEX[rule.format] if rule.format else -1
        applied[rows] = place
    overruled = (applied >= 0) & by_hand
    return RuledFormats(np.where(by_hand, -1, formats), np.where(by_hand, -1, applied), overruled)


def _narrowness(pixels: PixelKind) -> int:
    return {PixelKind.ANY: 0, PixelKind.GREY: 2}.get(pixels, 1)


def _is_of(pixels: PixelKind, kinds: Ints) -> Flags:
    if pixels is PixelKind.ANY:
        return np.ones(len(kinds), np.bool_)
    found: Flags = kinds == _KINDS.index(pixels)
    if pixels is PixelKind.OPAQUE:
        found = found | (kinds == _KINDS.index(PixelKind.GREY))
    return found


def _keeps(rule: FormatRule, kinds: Ints) -> Flags:
    """Say which kinds of pixels a rule's format does not rob of what its role is read from, (N,)."""
    channels = FORMATS[rule.format].channels
    grey = kinds == _KINDS.index(PixelKind.GREY)
    if len(channels) >= 3 or (rule.role is Role.NORMAL and len(channels) == 2):
        return np.ones(len(kinds), np.bool_)
    found: Flags = grey if rule.role in _ONE_CHANNEL else np.zeros(len(kinds), np.bool_)
    return found
