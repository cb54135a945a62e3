"""Role rules: what each role may cost beside its material's base colour, or beside what is seen of it; a cut by hand wins."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import msgspec
import numpy as np

from oaktrim.core.fields import MAX_SIDE
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import Flags, Ints, fit_side

_ROLES = list(Role)
_MOST_OF_WANTED = 4.0


class ShareOf(StrEnum):
    """What a role's share is of."""

    BASE_COLOUR = "base-colour"
    WANTED = "wanted"


class RoleRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What textures of a role ship at when nobody says otherwise.

    Parameters
    ----------
    share : of the longest side that the material's base colour ships at, of the own source's where there is none; or of the
        power of two that sightlines want, where something is known of it and it is seen
    floor, ceiling : pixels that the longest side is not brought under, and never over; None for none
    targets : ids of the targets it is for; empty for all
    """

    role: Role
    share: float = 1.0
    floor: int | None = None
    ceiling: int | None = None
    targets: tuple[str, ...] = ()
    of: ShareOf = ShareOf.BASE_COLOUR

    def __post_init__(self) -> None:
        most = _MOST_OF_WANTED if self.of is ShareOf.WANTED else 1
        if not 1 / 64 <= self.share <= most:
            raise ValueError(f"a role's share is 1/64 to {most:g}, not {self.share}")
        for side in (self.floor, self.ceiling):
            if side is not None and not 1 <= side <= MAX_SIDE:
                raise ValueError(f"a role's floor and ceiling are 1 to {MAX_SIDE} pixels, not {side}")
        if self.floor is not None and self.ceiling is not None and self.floor > self.ceiling:
            raise ValueError(f"the floor of {self.floor} is over the ceiling of {self.ceiling}")

    def is_for(self, target: str) -> bool:
        """Say whether the rule counts on a target."""
        return not self.targets or target in self.targets

    @property
    def label(self) -> str:
        """The rule in words."""
        if self.of is ShareOf.WANTED:
            parts = ["as wanted" if self.share == 1 else f"{share_text(self.share)} of what is wanted"]
        else:
            parts = [] if self.share == 1 else [f"{share_text(self.share)} of base colour"]
        parts += [] if self.floor is None else [f"at least {self.floor}"]
        parts += [] if self.ceiling is None else [f"at most {self.ceiling}"]
        return ", ".join(parts) or "in full"


def share_text(share: float) -> str:
    """Return a share as a word or a fraction."""
    words = {2.0: "twice", 1.0: "all", 0.5: "half", 0.25: "a quarter", 0.125: "an eighth"}
    return words.get(share, f"{share:.3g}")


def needs_demand(rules: Sequence[RoleRule], target: str) -> bool:
    """Say whether rules go by what sightlines want on a target."""
    return any(rule.of is ShareOf.WANTED and rule.is_for(target) for rule in rules)


@dataclass(frozen=True)
class Ruled:
    """What role rules make of textures, a column each.

    Parameters
    ----------
    width, height : after the rules
    rule : place in the rules of what was applied, -1 where nothing was
    overruled : a rule is there, and a cut by hand stands in its place
    """

    width: Ints
    height: Ints
    rule: Ints
    overruled: Flags


def apply_rules(
    inventory: Inventory,
    target: str,
    rules: Sequence[RoleRule],
    width: Ints,
    height: Ints,
    by_hand: Flags,
    demand: Demand | None = None,
) -> Ruled:
    """Return sizes after the role rules.

    Parameters
    ----------
    width, height : as cuts by hand leave them; by_hand : such a cut is there
    demand : what sightlines ask for; without it, rules that go by what is wanted hold only to their floor and ceiling
    """
    applied = np.full(len(width), -1, np.int64)
    overruled = np.zeros(len(width), np.bool_)
    places = {rule.role: place for place, rule in enumerate(rules) if rule.is_for(target)}
    source_side = np.maximum(inventory.width, inventory.height)
    # Base colours first: the others are measured against what they ship at.
    for role in sorted(places, key=lambda role: role is not Role.BASE_COLOUR):
        rule = rules[places[role]]
        mine = inventory.role_codes == _ROLES.index(role)
        overruled |= mine & by_hand
        rows = np.flatnonzero(mine & ~by_hand)
        if not len(rows):
            continue
        longest = np.maximum(width, height)
        if rule.of is ShareOf.WANTED:
            side = _wanted(rule.share, rows, source_side, demand)
        else:
            base = inventory.base_of[rows]
            against = np.where(base >= 0, longest[base], source_side[rows])
            side = np.maximum(1, np.floor(against * rule.share + 0.5).astype(np.int64))
        if rule.floor is not None:
            side = np.maximum(side, rule.floor)
        if rule.ceiling is not None:
            side = np.minimum(side, rule.ceiling)
        changed = longest[rows] > side
        rows, side = rows[changed], side[changed]
        width, height = width.copy(), height.copy()
        width[rows], height[rows] = fit_side(width[rows], height[rows], side)
        applied[rows] = places[role]
    return Ruled(width, height, applied, overruled)


def _wanted(share: float, rows: Ints, source_side: Ints, demand: Demand | None) -> Ints:
    """Return a share of the sides that are wanted; the source's own where a texture is not seen, or nothing is known."""
    if demand is None:
        return source_side[rows]
    shown = demand.kept_sides(source_side)[rows]
    found: Ints = np.where(shown > 0, np.maximum(1, np.floor(shown * share + 0.5)), source_side[rows]).astype(np.int64)
    return found
