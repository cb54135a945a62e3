"""Role rules: what each role may cost relative to its material's base colour; a cut by hand wins over them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from oaktrim.core.fields import MAX_SIDE
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.footprint import Flags, Ints, fit_side

_ROLES = list(Role)


class RoleRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What textures of a role ship at when nobody says otherwise.

    Parameters
    ----------
    share : of the longest side that the material's base colour ships at; of the own source's where there is none
    floor, ceiling : pixels that the longest side is not brought under, and never over; None for none
    targets : ids of the targets it is for; empty for all
    """

    role: Role
    share: float = 1.0
    floor: int | None = None
    ceiling: int | None = None
    targets: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if not 1 / 64 <= self.share <= 1:
            raise ValueError(f"a role's share is 1/64 to 1, not {self.share}")
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
        parts = [] if self.share == 1 else [f"{share_text(self.share)} of base colour"]
        parts += [] if self.floor is None else [f"at least {self.floor}"]
        parts += [] if self.ceiling is None else [f"at most {self.ceiling}"]
        return ", ".join(parts) or "in full"


def share_text(share: float) -> str:
    """Return a share as a word or a fraction."""
    return {1.0: "all", 0.5: "half", 0.25: "a quarter", 0.125: "an eighth"}.get(share, f"{share:.3g}")


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
    inventory: Inventory, target: str, rules: Sequence[RoleRule], width: Ints, height: Ints, by_hand: Flags
) -> Ruled:
    """Return sizes after the role rules.

    Parameters
    ----------
    width, height : as cuts by hand leave them; by_hand : such a cut is there
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
        base = inventory.base_of[rows]
        longest = np.maximum(width, height)
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
